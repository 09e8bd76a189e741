"""Rotations as the angles that people read: unwrapped degrees about three axes."""

from __future__ import annotations

import numpy as np

from .. import rotations as rot
from ..clip import Clip


def angle_curves(clip: Clip, joint: int, order: str = "ZXY") -> tuple[np.ndarray, dict[str, np.ndarray]]:
    """``(frames (n,), {axis: degrees (n,)})`` of a joint's local rotation, first axis named first, without jumps."""
    angles = np.unwrap(rot.to_euler(order, clip.rotations[:, joint]), axis=0)
    return np.arange(clip.frames), {axis: np.degrees(angles[:, i]) for i, axis in enumerate(order)}
