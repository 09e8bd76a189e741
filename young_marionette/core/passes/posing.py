"""Poses changed by hand: a bone turned, a hand or a foot dragged, the hips moved over planted feet, the head's direction.
Each gives the pose, a Clip of one frame, as it is afterwards; those that say so change
all frames of a Clip.
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
    from .keeping import Limbs


def turned(pose: Clip, joint: int, vector: Sequence[float] | np.ndarray) -> Clip:
    """A joint turned by a rotation vector ``(3,)`` or ``(frames, 3)`` in the world (radians), on all frames, with all that hangs on it."""
    _, turns = forward_rows(pose)
    local = as_rows(pose.rotations).copy()
    new = rot.multiply(rot.from_vector(np.atleast_2d(np.asarray(vector, float))), turns[joint].T)
    put(local, pose.skeleton, joint, new, turns, None)
    return replace(pose, rotations=from_rows(local))


def turned_in_own_axes(pose: Clip, joint: int, vector: Sequence[float] | np.ndarray) -> Clip:
    """As ``turned``, by a rotation vector in the joint's own axes."""
    local = np.array(pose.rotations)
    local[:, joint] = rot.multiply(local[:, joint], rot.from_vector(np.atleast_2d(np.asarray(vector, float))))
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
    places, turns = forward_rows(pose, [limb.first, limb.second, limb.end])
    return _reaching(pose, limb, places, turns, places[limb.first].T, places[limb.end].T + np.asarray(shift, float))


def _reaching(
    pose: Clip,
    limb: Limb,
    places: np.ndarray,
    turns: np.ndarray,
    start: np.ndarray,
    target: np.ndarray,
    end: np.ndarray | None = None,
) -> Clip:
    """``end (frames, 4)``: how the limb's last joint is turned in the world (None: as it is)."""
    local = as_rows(pose.rotations).copy()
    upper, lower = limb.reach(places, turns, start, target)
    end = turns[limb.end].T.copy() if end is None else end
    put(local, pose.skeleton, limb.first, rot.multiply(upper, turns[limb.first].T), turns, None)
    put(local, pose.skeleton, limb.second, rot.multiply(lower, turns[limb.second].T), turns, upper)
    put(local, pose.skeleton, limb.end, end, turns, lower)
    return replace(pose, rotations=from_rows(local))


def hips_moved(pose: Clip, limbs: Limbs, shift: Sequence[float] | np.ndarray) -> Clip:
    """The hips moved by ``shift (3,)`` or ``(frames, 3)`` (metres, world) on all frames; the feet stay where they are, as far as the
    legs reach."""
    return feet_kept(pose, shifted(pose, limbs.hips, np.asarray(shift, float)), limbs)


def feet_kept(before: Clip, after: Clip, limbs: Limbs) -> Clip:
    """``after`` with its ankles where they are in ``before``, and its feet turned as they are there, as far as the legs reach."""
    wanted = sorted({j for leg in limbs.legs for j in (leg.limb.first, leg.limb.second, leg.limb.end)})
    if not wanted:
        return after
    places, turns_then = forward_rows(before, wanted)
    now, turns = forward_rows(after, wanted)  # legs do not hang on each other: one that was put moves no other
    for leg in limbs.legs:
        end = turns_then[leg.limb.end].T
        after = _reaching(after, leg.limb, now, turns, now[leg.limb.first].T, places[leg.limb.end].T, end)
    return after


def shifted(pose: Clip, joint: int, shift: np.ndarray) -> Clip:
    """A joint moved by ``shift (3,)`` or ``(frames, 3)`` (metres, world) on all frames, with all that hangs on it."""
    parent = int(pose.skeleton.parents[joint])
    if parent >= 0:
        shift = rot.rotate(rot.conjugate(forward_rows(pose, [parent])[1][parent].T), shift)
    return pose.with_moves(pose.moves | {joint: pose.move_of(joint) + shift})


def differences(before: Clip, after: Clip) -> dict[Channel, np.ndarray]:
    """The values ``(n,)`` that a pose has after a change, of the channels that did change."""
    found: dict[Channel, np.ndarray] = {}
    a, b = before.rotations[0], after.rotations[0]
    changed = np.minimum(np.abs(a - b).max(axis=1), np.abs(a + b).max(axis=1)) > 1e-12
    for joint in np.flatnonzero(changed).tolist():
        found[Channel(Joint(joint), Kind.ROTATION)] = b[joint]
    for joint, rows in after.moves.items():
        if np.abs(rows[0] - before.move_of(joint)[0]).max() > 1e-12:
            found[Channel(Joint(joint), Kind.TRANSLATION)] = rows[0]
    return found
