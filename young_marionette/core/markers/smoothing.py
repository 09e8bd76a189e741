"""Poses between poses: in between chosen frames, and smooth where markers tell too little."""

from __future__ import annotations

import numpy as np

from .. import rotations as rot
from .posing import Aims, Poses
from .rows import normalised

_CUT = 4.0  # hertz: faster motion is not made up where no marker tells of it
_ENOUGH = 250.0  # one over radians squared: a joint of which markers tell this much needs no help
_NOTHING = 5.0  # of joints that have no markers at all
_PULL = 1 / np.radians(2.0) ** 2
_ROOT_ENOUGH, _ROOT_PULL = 1 / 0.01**2, 1 / 0.02**2


def between(poses: Poses, at: np.ndarray, frames: int) -> Poses:
    """Poses on all ``frames``, from those at frame numbers ``at``; held before the first and after the last."""
    all_frames = np.arange(frames)
    later = np.clip(np.searchsorted(at, all_frames), 0, len(at) - 1)
    earlier = np.clip(later - 1, 0, None)
    share = np.clip((all_frames - at[earlier]) / np.maximum(at[later] - at[earlier], 1), 0, 1)
    share = np.where(later == earlier, 0.0, share)
    q = continuous(poses.q)
    mixed = q[..., earlier] * (1 - share) + q[..., later] * share
    return Poses(normalised(mixed), poses.root[:, earlier] * (1 - share) + poses.root[:, later] * share)


def continuous(q: np.ndarray) -> np.ndarray:
    """Quaternions ``(joints, 4, frames)`` with signs so that neighbours lie on the same half of the sphere."""
    return np.ascontiguousarray(np.moveaxis(rot.continuous(np.moveaxis(q, -1, 0)), 0, -1))


def whittaker(values: np.ndarray, weights: np.ndarray, rate: float, cut: float = _CUT) -> np.ndarray:
    """``values (frames, n)`` smoothed by their ``weights (frames,)``, bridged where these are near 0 (Whittaker 1923, Eilers 2003).

    ``cut``: where weights are 1, what is faster (hertz) is lessened to less than half.
    """
    frames = len(values)
    if frames < 5:
        return values.copy()
    stiff = (rate / (2 * np.pi * cut)) ** 4
    band = np.zeros((3, frames))
    band[0] = 6.0
    band[0, [0, -1]], band[0, [1, -2]] = 1.0, 5.0
    band[1, :-1] = -4.0
    band[1, [0, frames - 2]] = -2.0
    band[2, :-2] = 1.0
    band *= stiff
    band[0] += np.maximum(weights, 1e-7)
    from scipy.linalg import solveh_banded  # slow to load

    smooth: np.ndarray = solveh_banded(band, values * np.maximum(weights, 1e-7)[:, None], lower=True)
    return smooth


def aims(poses: Poses, told: np.ndarray, told_root: np.ndarray, rate: float) -> Aims:
    """What poses are drawn to where markers tell too little of a joint: a smooth way between the frames where they do.

    ``told (joints, frames)``: how much markers tell of each joint's turn (one over radians squared), ``told_root (frames,)`` of the
    hips' place (one over metres squared).
    """
    q = continuous(poses.q)
    # Little is what is little for this recording: a joint that has few markers throughout has no need of help for that.
    usual = np.minimum(_ENOUGH, 0.3 * np.median(told, axis=1, keepdims=True))
    share = np.where(usual > _NOTHING, np.clip(told / np.maximum(usual, _NOTHING), 0, 1), 1.0)
    root_share = np.clip(told_root / _ROOT_ENOUGH, 0, 1)
    for joint in range(len(q)):
        if share[joint].min() < 0.999:
            q[joint] = whittaker(q[joint].T, share[joint] ** 2, rate).T
    root = poses.root if root_share.min() > 0.999 else whittaker(poses.root.T, root_share**2, rate).T
    return Aims(Poses(normalised(q), root.copy()), _PULL * (1 - share), _ROOT_PULL * (1 - root_share))
