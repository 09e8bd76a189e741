"""Poses changed by hand: a bone turned, a hand or a foot dragged, the hips moved over planted feet, the head's direction,
and one side mirrored to the other. Each gives the pose, a Clip of one frame, as it is afterwards.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..clip import Clip, as_rows, from_rows
from ..keys.channel import Channel, Joint, Kind
from ..kinematics import forward_rows
from ..transfer.limbs import Limb, put

if TYPE_CHECKING:
    from ..humanoid.reading import Body
    from .keeping import Limbs


def turned(pose: Clip, joint: int, vector: Sequence[float]) -> Clip:
    """A joint turned by a rotation vector ``(3,)`` in the world (radians), with all that hangs on it."""
    _, turns = forward_rows(pose)
    local = as_rows(pose.rotations).copy()
    new = rot.multiply(rot.from_vector(np.asarray(vector, float))[None], turns[joint].T)
    put(local, pose.skeleton, joint, new, turns, None)
    return replace(pose, rotations=from_rows(local))


def turned_in_own_axes(pose: Clip, joint: int, vector: Sequence[float]) -> Clip:
    """As ``turned``, by a rotation vector in the joint's own axes."""
    local = np.array(pose.rotations)
    local[0, joint] = rot.multiply(local[0, joint], rot.from_vector(np.asarray(vector, float)))
    return replace(pose, rotations=local)


def pulled(pose: Clip, joint: int, shift: Sequence[float]) -> Clip:
    """The bone that a joint hangs on turned so that the joint follows ``shift (3,)`` (metres, world), as far as it can; of a
    joint without one before it, itself: its own end follows.
    """
    places, _ = forward_rows(pose)
    skeleton = pose.skeleton
    above = int(skeleton.parents[joint])
    children = skeleton.children[joint]
    turning, end = (joint, places[children[0]]) if above < 0 and children else (above, places[joint])
    if turning < 0:
        return pose
    arm = end[:, 0] - places[turning][:, 0]
    if np.linalg.norm(arm) < 1e-6:
        return pose
    return turned(pose, turning, rot.to_vector(rot.between(arm, arm + np.asarray(shift, float))).tolist())


def limb_of(limbs: Limbs, joint: int) -> Limb | None:
    """The limb that ends in a joint, as a hand or a foot does."""
    found = [leg.limb for leg in limbs.legs] + [arm.limb for arm in limbs.arms.values()]
    return next((limb for limb in found if limb.end == joint), None)


def reached(pose: Clip, limb: Limb, shift: Sequence[float]) -> Clip:
    """A hand or a foot moved by ``shift (3,)`` (metres, world), as far as it reaches: both bones turn in closed form, in the
    plane that they bend in, and the end keeps its direction.
    """
    places, turns = forward_rows(pose)
    return _reaching(pose, limb, places, turns, places[limb.first].T, places[limb.end].T + np.asarray(shift, float))


def _reaching(
    pose: Clip, limb: Limb, places: np.ndarray, turns: np.ndarray, start: np.ndarray, target: np.ndarray
) -> Clip:
    local = as_rows(pose.rotations).copy()
    upper, lower = limb.reach(places, turns, start, target)
    end = turns[limb.end].T.copy()
    put(local, pose.skeleton, limb.first, rot.multiply(upper, turns[limb.first].T), turns, None)
    put(local, pose.skeleton, limb.second, rot.multiply(lower, turns[limb.second].T), turns, upper)
    put(local, pose.skeleton, limb.end, end, turns, lower)
    return replace(pose, rotations=from_rows(local))


def hips_moved(pose: Clip, limbs: Limbs, shift: Sequence[float]) -> Clip:
    """The hips moved by ``shift (3,)`` (metres, world); the feet stay where they are, as far as the legs reach."""
    places, _ = forward_rows(pose)
    joint = limbs.hips
    made = _shifted(pose, joint, np.asarray(shift, float))
    for leg in limbs.legs:
        now, turns = forward_rows(made)
        made = _reaching(made, leg.limb, now, turns, now[leg.limb.first].T, places[leg.limb.end].T)
    return made


def _shifted(pose: Clip, joint: int, shift: np.ndarray) -> Clip:
    skeleton = pose.skeleton
    parent = int(skeleton.parents[joint])
    if parent >= 0:
        shift = rot.rotate(rot.conjugate(forward_rows(pose)[1][parent][:, 0]), shift)
    places = {int(j): pose.translations[:, i] for i, j in enumerate(pose.moving)}
    places[joint] = places.get(joint, skeleton.offsets[joint][None]) + shift
    moving = sorted(places)
    return replace(pose, moving=np.array(moving), translations=np.stack([places[j] for j in moving], 1))


def mirrored(pose: Clip, body: Body) -> Clip:
    """Left and right changed over, about the upright plane that the hips face along; the hips stay over their spot.

    Bones rest as they rest: on uneven rigs each side does what the other one did from its own rest pose.
    """
    skeleton = pose.skeleton
    _, turns = forward_rows(pose)
    rest = skeleton.rest_world[1]
    partner = _partners(body, len(skeleton))
    hips = body.parts["hips"][0]
    up, ahead = body.up, body.forward
    facing = rot.rotate(rot.multiply(turns[hips][:, 0], rot.conjugate(rest[hips])), ahead)
    facing = facing - (facing @ up) * up
    side = rot.normalise(np.cross(up, facing if np.linalg.norm(facing) > 1e-6 else ahead))
    at_rest = rot.normalise(np.cross(up, ahead))
    # From the plane at rest to the plane of now and back is a turn about the vertical, twice as far as the hips face away.
    yaw = 2 * np.arctan2(np.cross(at_rest, side) @ up, at_rest @ side)
    twice = rot.from_axis_angle(up, np.array(yaw))
    world = turns.copy()
    for joint, other in enumerate(partner):
        if other < 0:
            continue
        change = rot.multiply(turns[other][:, 0], rot.conjugate(rest[other]))
        vector = change[:3]
        seen = np.append(2 * (vector @ side) * side - vector, change[3])
        world[joint] = rot.multiply(rot.multiply(seen, twice), rest[joint])[:, None]
    local = as_rows(pose.rotations).copy()
    for joint, parent in enumerate(skeleton.parents.tolist()):
        if partner[joint] >= 0:
            above = None if parent < 0 else world[parent].T
            own = world[joint].T if above is None else rot.multiply(rot.conjugate(above), world[joint].T)
            local[joint] = own.T
        elif parent >= 0:
            world[joint] = rot.product_rows(world[parent], local[joint])
    return replace(pose, rotations=from_rows(local))


def _partners(body: Body, joints: int) -> np.ndarray:
    """For each joint the one that it takes over from ``(joints,)``; -1 for what is no part of the body."""
    partner = np.full(joints, -1)
    for part, run in body.parts.items():
        side, _, rest = part.partition(" ")
        other = {"left": f"right {rest}", "right": f"left {rest}"}.get(side, part)
        across = body.parts.get(other, ())
        if part != "root" and len(across) == len(run):
            partner[list(run)] = across
    return partner


def differences(before: Clip, after: Clip) -> dict[Channel, np.ndarray]:
    """The values ``(n,)`` that a pose has after a change, of the channels that did change."""
    found: dict[Channel, np.ndarray] = {}
    for joint in range(len(before.skeleton)):
        a, b = before.rotations[0, joint], after.rotations[0, joint]
        if min(np.abs(a - b).max(), np.abs(a + b).max()) > 1e-12:
            found[Channel(Joint(joint), Kind.ROTATION)] = b
    places = {int(j): before.translations[0, i] for i, j in enumerate(before.moving)}
    for i, joint in enumerate(after.moving):
        old = places.get(int(joint), before.skeleton.offsets[joint])
        if np.abs(after.translations[0, i] - old).max() > 1e-12:
            found[Channel(Joint(int(joint)), Kind.TRANSLATION)] = after.translations[0, i]
    return found
