"""Joints that may only turn so far: a cone for the bone's direction and a range for its twist, kept by the least turn."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..clip import as_rows, from_rows
from ..kinematics import world_rotation_rows

if TYPE_CHECKING:
    from collections.abc import Collection, Sequence

    from ..clip import Clip
    from ..skeleton import Skeleton


@dataclass(frozen=True)
class JointLimit:
    """How far a joint may turn from its rest; None: as far as it likes.

    ``swing``: radians that its bone may lean away to any side. ``twist``: least and most radians about the bone.
    """

    joint: str
    swing: float | None = None
    twist: tuple[float, float] | None = None


def bone_axis(skeleton: Skeleton, joint: int) -> np.ndarray:
    """The direction ``(3,)`` of a joint's bone at rest, in the joint's own axes."""
    children = skeleton.children[joint]
    way = skeleton.offsets[list(children)].mean(0) if len(children) else skeleton.tips[joint]
    if not np.isfinite(way).all() or np.linalg.norm(way) < 1e-9:
        return np.array([0.0, 1.0, 0.0])
    return rot.normalise(way)


def limited(turns: np.ndarray, axis: np.ndarray, limit: JointLimit) -> np.ndarray:
    """Turns from rest ``(frames, 4)`` of a bone along ``axis (3,)``, no farther than a limit lets them.

    Twist and swing are told apart by swing-twist decomposition (Dobrowolski 2015) and cut one by one.
    """
    twist = rot.twist_about(turns, axis)
    swing = rot.multiply(turns, rot.conjugate(twist))
    if limit.swing is not None:
        vector = rot.to_vector(swing)
        size = np.linalg.norm(vector, axis=-1, keepdims=True)
        swing = rot.from_vector(vector * (np.minimum(size, limit.swing) / np.maximum(size, 1e-12)))
    if limit.twist is not None:
        angle = rot.to_vector(twist) @ axis
        twist = rot.from_vector(np.clip(angle, *limit.twist)[:, None] * axis)
    return rot.multiply(swing, twist)


def within_limits(clip: Clip, limits: Sequence[JointLimit], steady: Collection[int] = ()) -> Clip:
    """``clip`` with all limited joints within their limits.

    ``steady``: joints that stay turned as they are in the world, as far as their own limits let them, where a bone above
    them is held back; others go along. The same clip where nothing is over a limit.
    """
    skeleton = clip.skeleton
    known = {skeleton.index[limit.joint]: limit for limit in limits if limit.joint in skeleton.index}
    if not known:
        return clip
    local, changed, before, after = as_rows(clip.rotations).copy(), set(), None, {}
    for joint in range(len(skeleton)):
        parent = int(skeleton.parents[joint])
        if joint not in known and not (parent in changed and joint in steady):
            if parent in changed and skeleton.children[joint]:
                changed.add(joint)  # it goes along, and what hangs on it may have to stay
                after[joint] = rot.multiply(after[parent], local[joint].T)
            continue
        turn = local[joint].T
        if parent in changed and joint in steady:
            before = world_rotation_rows(skeleton, as_rows(clip.rotations)) if before is None else before
            turn = rot.multiply(rot.conjugate(after[parent]), before[joint].T)
        if joint in known:
            rest = skeleton.rest[joint]
            own = limited(rot.multiply(rot.conjugate(rest), turn), bone_axis(skeleton, joint), known[joint])
            kept = rot.multiply(rest, own)
            if np.abs(np.abs(np.sum(kept * turn, -1)) - 1).max(initial=0.0) > 1e-12:
                turn = kept
        if np.abs(np.abs(np.sum(turn * local[joint].T, -1)) - 1).max(initial=0.0) > 1e-12:
            before = world_rotation_rows(skeleton, as_rows(clip.rotations)) if before is None else before
            over = after[parent] if parent in after else before[parent].T if parent >= 0 else None
            local[joint] = turn.T
            after[joint] = turn if over is None else rot.multiply(over, turn)
            changed.add(joint)
    return replace(clip, rotations=from_rows(local)) if changed else clip
