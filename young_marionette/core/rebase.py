"""Give a skeleton another rest pose, other local axes, or other names, with its motion untouched in the world."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from . import rotations as rot
from .clip import as_rows, from_rows
from .skeleton import Skeleton, pose_world

if TYPE_CHECKING:
    from .clip import Clip


def rebase(
    skeleton: Skeleton, pose: np.ndarray | None = None, axes: np.ndarray | None = None
) -> tuple[Skeleton, np.ndarray]:
    """``(new skeleton, turns)``: rests in ``pose`` with world axes ``axes`` in that pose.

    ``pose (joints, 4)``: local rotations of the new rest pose, the old rest if None. ``axes
    (joints, 4)``: world rotations that the joints shall have there, identity if None. ``turns
    (joints, 4)`` goes to ``rebase_clip``: it takes old joint axes to new ones.
    """
    pose = skeleton.rest if pose is None else pose
    axes = np.tile(rot.IDENTITY, (len(skeleton), 1)) if axes is None else axes
    points, world = pose_world(skeleton, pose)
    turns = rot.multiply(rot.conjugate(world), axes)
    offsets, rest = points.copy(), np.array(axes, float)
    for joint, parent in enumerate(skeleton.parents):
        if parent >= 0:
            back = rot.conjugate(axes[parent])
            offsets[joint] = rot.rotate(back, points[joint] - points[parent])
            rest[joint] = rot.multiply(back, axes[joint])
    tips = rot.rotate(rot.conjugate(turns), skeleton.tips)
    return Skeleton(skeleton.names, skeleton.parents, offsets, rest, tips), turns


def rebase_clip(clip: Clip, skeleton: Skeleton, turns: np.ndarray) -> Clip:
    """``clip`` on the ``skeleton`` that ``rebase`` gave, with its ``turns (joints, 4)``: every joint is where it was in the world."""
    rows, out = as_rows(clip.rotations), np.empty((len(skeleton), 4, clip.frames))
    back = rot.conjugate(turns)
    for joint, parent in enumerate(skeleton.parents):
        before = back[parent] if parent >= 0 else rot.IDENTITY
        rot.product_rows(rot.product_rows(before[:, None], rows[joint]), turns[joint][:, None], out=out[joint])
    moves = clip.translations.copy()
    for i, joint in enumerate(clip.moving):
        if skeleton.parents[joint] >= 0:
            moves[:, i] = rot.rotate(back[skeleton.parents[joint]], moves[:, i])
    return replace(clip, skeleton=skeleton, rotations=from_rows(out), translations=moves)


def rename(skeleton: Skeleton, names: dict[Any, str]) -> Skeleton:
    """The skeleton with other joint names: a mapping from old to new; what it leaves out stays."""
    return replace(skeleton, names=tuple(names.get(n, n) for n in skeleton.names))
