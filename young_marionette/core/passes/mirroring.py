"""A whole clip seen in a mirror: left and right changed over, also on rigs whose sides are built unlike."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, ClassVar

import numpy as np

from .. import rotations as rot
from ..clip import as_rows, from_rows
from ..errors import InputError
from ..kinematics import forward_rows
from ..matching.tying import mirror_part

if TYPE_CHECKING:
    from ..clip import Clip
    from ..contacts.contact import Contacts
    from ..humanoid.reading import Body
    from .keeping import Limbs

_ALIKE = 0.25  # of a bone's length: how far two bones may be from each other's place in the mirror


@dataclass(frozen=True)
class Mirror:
    """The mirror is the upright plane that the hips face along on the first frame, through where they are then."""

    code: ClassVar[str] = "mirror"
    halo: ClassVar[float] = np.inf

    def check(self, _clip: Clip, limbs: Limbs) -> None:
        """InputError where no body was read."""
        if limbs.body is None:
            raise InputError("Nothing was read of a body here: left and right can't be told.")

    def run(self, clip: Clip, contacts: Contacts, limbs: Limbs) -> tuple[Clip, Contacts]:
        """The clip and its contacts in the mirror."""
        assert limbs.body is not None
        found = tuple(replace(c, point=_other(c.point)) for c in contacts.found)
        order = {c.point: n for n, c in enumerate(contacts.found)}
        swapped = tuple(sorted(found, key=lambda c: (order.get(c.point, len(order)), c.first)))
        return mirrored(clip, limbs.body), replace(contacts, found=swapped, touches=())


def mirrored(clip: Clip, body: Body) -> Clip:
    """All frames of a clip in the mirror; see Mirror. Bones rest as they rest: each does what the other one did from its own rest
    pose, and keeps its own length. What has no counterpart goes along with the bone that it hangs on.
    """
    skeleton = clip.skeleton
    places, turns = forward_rows(clip)
    rest = skeleton.rest_world[1]
    partner = partners(clip, body)
    hips = body.parts["hips"][0]
    side, twice = _plane(turns[hips][:, 0], rest[hips], body)
    start = places[hips][:, 0]
    world = turns.copy()
    for joint, other in enumerate(partner):
        if other >= 0:
            change = rot.multiply(turns[other].T, rot.conjugate(rest[other]))
            vector = change[:, :3]
            seen = np.concatenate([2 * (vector @ side)[:, None] * side - vector, change[:, 3:]], 1)
            world[joint] = rot.multiply(rot.multiply(seen, twice), rest[joint]).T
    local = as_rows(clip.rotations).copy()
    moves = clip.moves
    made, spots = dict(moves), np.empty_like(places)
    for joint, parent in enumerate(skeleton.parents.tolist()):
        if partner[joint] >= 0:
            own = world[joint].T if parent < 0 else rot.multiply(rot.conjugate(world[parent].T), world[joint].T)
            local[joint] = own.T
        elif parent >= 0:
            world[joint] = rot.product_rows(world[parent], local[joint])
        else:
            world[joint] = local[joint]
        other = int(partner[joint])
        if other in moves and (joint == hips or parent < 0):
            # Where the whole body goes is seen in the mirror itself.
            goal = places[other].T - start
            goal = start + goal - 2 * (goal @ side)[:, None] * side
            made[joint] = _inside(goal, parent, world, spots)
        elif other in moves:
            above = int(skeleton.parents[other])
            shift = rot.rotate(turns[above].T, moves[other] - skeleton.offsets[other])
            shift = shift - 2 * (shift @ side)[:, None] * side
            made[joint] = skeleton.offsets[joint] + rot.rotate(rot.conjugate(world[parent].T), shift)
        offset = made.get(joint, np.broadcast_to(skeleton.offsets[joint], (clip.frames, 3)))
        spots[joint] = (offset if parent < 0 else rot.rotate(world[parent].T, offset) + spots[parent].T).T
    made = {joint: rows for joint, rows in made.items() if partner[joint] in moves or partner[joint] < 0}
    return replace(clip.with_moves(made), rotations=rot.continuous(from_rows(local)))


def _inside(goal: np.ndarray, parent: int, world: np.ndarray, spots: np.ndarray) -> np.ndarray:
    """A place in the world in the axes of the joint above."""
    return goal if parent < 0 else rot.rotate(rot.conjugate(world[parent].T), goal - spots[parent].T)


def _plane(hips: np.ndarray, rest: np.ndarray, body: Body) -> tuple[np.ndarray, np.ndarray]:
    """``(side (3,), twice (4,))``: across the mirror, and twice the turn about the vertical that leads there from the rest pose."""
    up, ahead = body.up, body.forward
    facing = rot.rotate(rot.multiply(hips, rot.conjugate(rest)), ahead)
    facing = facing - (facing @ up) * up
    side = rot.normalise(np.cross(up, facing if np.linalg.norm(facing) > 1e-6 else ahead))
    at_rest = rot.normalise(np.cross(up, ahead))
    yaw = 2 * np.arctan2(np.cross(at_rest, side) @ up, at_rest @ side)
    return side, rot.from_axis_angle(up, np.array(yaw))


def partners(clip: Clip, body: Body) -> np.ndarray:
    """For each joint the one that it takes over from ``(joints,)``, itself in the middle; -1 for what has no counterpart."""
    skeleton = clip.skeleton
    partner = np.full(len(skeleton), -1)
    for part, run in body.parts.items():
        across = body.parts.get(mirror_part(part) or part, ())
        if len(across) == len(run):
            partner[list(run)] = across
    spots = skeleton.rest_world[0]
    side = rot.normalise(np.cross(body.up, body.forward))
    for joint, parent in enumerate(skeleton.parents.tolist()):
        if partner[joint] >= 0 or parent < 0 or partner[parent] < 0:
            continue
        # Helpers, props and the like: beside the other side's bone, where this one is in the mirror.
        own = spots[joint] - spots[parent]
        seen = own - 2 * (own @ side) * side
        beside = [c for c in skeleton.children[int(partner[parent])] if partner[c] < 0]
        away = {c: float(np.linalg.norm(spots[c] - spots[int(partner[parent])] - seen)) for c in beside}
        best = min(away, key=lambda c: away[c], default=-1)
        if best >= 0 and away[best] <= _ALIKE * max(float(np.linalg.norm(own)), 0.01):
            partner[joint], partner[best] = best, joint
    return partner


def _other(point: str) -> str:
    """The same point of contact on the other side."""
    return mirror_part(point) or point
