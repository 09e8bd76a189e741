"""Skeletons with a bone more or fewer, and their motion and bodies: a root bone added or taken out, last bones left out.

What stays has the same motion in the world.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..character.meshes import Character, Mesh
from ..clip import Clip, as_rows, from_rows
from ..keys.channel import Channel, Joint, Kind
from ..keys.sampler import still
from ..kinematics import forward_rows
from ..names import free_name
from ..skeleton import Skeleton

if TYPE_CHECKING:
    from collections.abc import Sequence

    from ..keys.keyed import KeyedClip

_TINY = 1e-4  # as a share of the skeleton's size: bones that are shorter have no length


@dataclass(frozen=True, eq=False)
class Change:
    """A skeleton made of another one. ``came_from (joints,)``: which joint of the old one each is, -1 for a new one."""

    old: Skeleton
    new: Skeleton
    came_from: np.ndarray

    def clip(self, clip: Clip, new: Skeleton | None = None) -> Clip:
        """A clip of the old skeleton on the new one; ``new``: the new skeleton where it is placed as the clip is.

        A joint that hangs where it hung keeps its numbers to the last bit.
        """
        new = new or self.new
        places, world = forward_rows(clip)
        old_rows, old_moves = as_rows(clip.rotations), as_rows(clip.translations)
        moved = {int(j): old_moves[i] for i, j in enumerate(clip.moving)}
        rows, moves = np.empty((len(new), 4, clip.frames)), {}
        still_place, still_turn = new.rest_world
        for joint, before in enumerate(self.came_from.tolist()):
            parent = int(new.parents[joint])
            if before < 0:
                rows[joint] = new.rest[joint][:, None]
                continue
            over = int(self.came_from[parent]) if parent >= 0 else -1
            if over == int(self.old.parents[before]) and (parent < 0 or over >= 0):
                rows[joint] = old_rows[before]
                if before in moved:
                    moves[joint] = moved[before]
                continue
            if parent < 0:
                rows[joint], moves[joint] = world[before], places[before]
                continue
            if over < 0:  # under a new bone, which rests
                turn, place = still_turn[parent][:, None], still_place[parent][:, None]
            else:
                turn, place = world[over], places[over]
            back = turn * np.array([-1.0, -1, -1, 1])[:, None]
            rows[joint] = rot.product_rows(back, world[before])
            moves[joint] = rot.rotate_rows(back, places[before] - place)
        joints = sorted(moves)
        number = {int(b): j for j, b in enumerate(self.came_from.tolist()) if b >= 0}
        kept = [i for i, j in enumerate(clip.scaled.tolist()) if j in number]
        return replace(
            clip,
            skeleton=new,
            rotations=from_rows(rows),
            moving=np.array(joints, int),
            translations=from_rows(np.stack([moves[j] for j in joints])) if joints else None,
            scaled=np.array([number[int(clip.scaled[i])] for i in kept], int),
            scales=clip.scales[:, kept] if kept else None,
        )

    def character(self, character: Character) -> Character:
        """A body over the old skeleton on the new one: what a bone that is gone carried, its nearest bone above carries."""
        number = {int(b): j for j, b in enumerate(self.came_from.tolist()) if b >= 0}
        heir = np.zeros(len(self.old), int)
        for joint, parent in enumerate(self.old.parents.tolist()):
            heir[joint] = number.get(joint, heir[parent] if parent >= 0 else 0)
        return replace(character, meshes=tuple(self._mesh(mesh, heir) for mesh in character.meshes))

    def _mesh(self, mesh: Mesh, heir: np.ndarray) -> Mesh:
        # A bone that is new carries nothing: where it is bound does not matter.
        binds = np.tile(np.eye(4), (len(self.new), 1, 1))
        kept = self.came_from >= 0
        binds[kept] = mesh.binds[self.came_from[kept]]
        return replace(mesh, joints=heir[mesh.joints], binds=binds)


def root_bone(skeleton: Skeleton, hips: int, feet: Sequence[int]) -> int | None:
    """The bone on the floor that all hangs on; None where there is none, or what all hangs on is up at the hips.

    ``feet``: joints of the feet, which tell where the floor is at rest (metres).
    """
    above = skeleton.ancestors(hips)
    if not above:
        return None
    points = skeleton.rest_world[0]
    floor = points[list(feet), 1].min() if len(feet) else 0.0
    return above[-1] if points[above[-1], 1] - floor <= 0.3 * (points[hips, 1] - floor) else None


def with_root_bone(skeleton: Skeleton, name: str = "root") -> Change:
    """A bone on the floor at the origin, along the axes of the world, over all that a skeleton has."""
    count = len(skeleton)
    parents = np.concatenate([[-1], skeleton.parents + 1])
    new = Skeleton(
        (free_name(name, set(skeleton.names)), *skeleton.names),
        parents,
        np.concatenate([np.zeros((1, 3)), skeleton.offsets]),
        np.concatenate([rot.IDENTITY[None], skeleton.rest]),
        np.concatenate([np.full((1, 3), np.nan), skeleton.tips]),
        np.concatenate([np.ones((1, 3)), skeleton.scales]),
    )
    return Change(skeleton, new, np.arange(-1, count))


def keyed_with_root_bone(
    keyed: KeyedClip, change: Change, hips: int, carried: np.ndarray, shift: np.ndarray
) -> KeyedClip | None:
    """Keys on a skeleton that was given a root bone, which goes where ``carried (3, 3) @ place of the hips + shift (3,)`` is.

    The same motion to the last bit of rounding, since all of it is linear. None where the hips hang on something, or other joints
    hang on nothing: then it takes frames.
    """
    if list(np.flatnonzero(keyed.skeleton.parents < 0)) != [hips]:
        return None
    samplers = {
        Channel(Joint(c.node.number + 1), c.kind) if isinstance(c.node, Joint) else c: s
        for c, s in keyed.samplers.items()
    }
    own = Channel(Joint(hips + 1), Kind.TRANSLATION)
    place = samplers.get(own) or still(keyed.skeleton.offsets[hips], keyed.start)
    samplers[own] = place.moved(np.eye(3) - carried, -shift)
    samplers[Channel(Joint(0), Kind.TRANSLATION)] = place.moved(carried, shift)
    return replace(keyed, skeleton=change.new, samplers=samplers)


def without_root_bone(skeleton: Skeleton, root: int, hips: int) -> Change:
    """A skeleton without its bone ``root``, which hangs on nothing: what led from it to the hips is the new root.

    What else hung on it hangs on that from then on.
    """
    heir = next(j for j in [hips, *skeleton.ancestors(hips)] if int(skeleton.parents[j]) == root)
    joints = [heir, *(j for j in range(len(skeleton)) if j not in (heir, root))]
    return _subset(skeleton, joints, {j: heir for j in skeleton.children[root] if j != heir} | {heir: -1})


def without_ends(skeleton: Skeleton, keep: Sequence[int] = ()) -> Change:
    """A skeleton without the last bones of its chains that have no length of their own to show, or only end the bone above.

    Such a joint has no children and is the only child of its parent, or lies where its parent is. Where they were is told as the
    tip of the bone above. ``keep``: joints that stay, such as what was read as a part of the body.
    """
    size = max(float(np.ptp(skeleton.rest_world[0], axis=0).max(initial=0)), 1e-9)
    gone = set()
    for joint, parent in enumerate(skeleton.parents.tolist()):
        if parent < 0 or skeleton.children[joint] or joint in keep:
            continue
        short = float(np.linalg.norm(skeleton.offsets[joint])) < _TINY * size
        if short or (len(skeleton.children[parent]) == 1 and not np.isfinite(skeleton.tips[joint]).all()):
            gone.add(joint)
    change = _subset(skeleton, [j for j in range(len(skeleton)) if j not in gone], {})
    tips = change.new.tips.copy()
    number = {int(b): j for j, b in enumerate(change.came_from.tolist())}
    for joint in gone:
        over = int(skeleton.parents[joint])
        if (
            over in number
            and len(skeleton.children[over]) == 1
            and np.linalg.norm(skeleton.offsets[joint]) >= _TINY * size
        ):
            tips[number[over]] = skeleton.offsets[joint]
    return replace(change, new=replace(change.new, tips=tips))


def _subset(skeleton: Skeleton, joints: list[int], parents: dict[int, int]) -> Change:
    """Some joints of a skeleton, in that order; ``parents``: what some of them hang on instead, as numbers of the old one."""
    number = {j: i for i, j in enumerate(joints)}
    points, turns = skeleton.rest_world
    offsets, rest, over = skeleton.offsets[joints].copy(), skeleton.rest[joints].copy(), []
    for i, joint in enumerate(joints):
        parent = int(parents.get(joint, skeleton.parents[joint]))
        over.append(number[parent] if parent >= 0 else -1)
        if joint in parents:
            back = rot.conjugate(turns[parent]) if parent >= 0 else rot.IDENTITY
            offsets[i] = rot.rotate(back, points[joint] - (points[parent] if parent >= 0 else 0))
            rest[i] = rot.multiply(back, turns[joint])
    new = Skeleton(
        tuple(skeleton.names[j] for j in joints),
        np.array(over),
        offsets,
        rest,
        skeleton.tips[joints],
        skeleton.scales[joints],
    )
    return Change(skeleton, new, np.array(joints))
