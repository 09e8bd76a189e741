"""Breaks: places where a clip jumps from one pose to another as a whole, which no filter may smear."""

from __future__ import annotations

import itertools

import numpy as np

_LEAST = np.radians(5.0)
_TIMES, _ALONE = 3.0, 2.0  # the usual step of a joint around it, and the larger one of those beside it
_STANDS_OUT = 1.3  # of both steps beside it, all joints together
_SHARE = 0.4  # of all joints that move
_JOINTS = 6  # of fewer joints that move nothing is told
_AROUND, _LOST = 12, 3  # frames: looked at on each side, and in which a body may be lost for a moment
_STILL = np.radians(0.5)  # joints that turn less do not move


def breaks(turns: np.ndarray, cosines: np.ndarray) -> list[int]:
    """The frames at which something else begins, of ``turns (joints, 4, frames)`` with signs that don't jump;
    ``cosines (joints, frames - 1)``: of half the angles from frame to frame.

    Two frames in a row are apart there by far more than is usual around them, in many joints at once: a reference pose
    before the motion begins, or two takes in one. Spikes strike single joints. Where the pose before comes back within a
    few frames it is no break: the joints were only lost for a moment.
    """
    frames = turns.shape[-1]
    if frames < 4:
        return []
    moving = cosines.min(axis=1) < np.cos(_STILL / 2)
    if moving.sum() < _JOINTS:
        return []
    cosines = cosines if moving.all() else cosines[moving]
    at = []
    # Single steps that stand out, all joints together; then joint by joint.
    steps = 1 - cosines
    np.sqrt(np.maximum(steps, 0.0, out=steps), out=steps)
    steps = np.pad(steps.sum(axis=0), 1)
    far = np.flatnonzero(steps[1:-1] > _STANDS_OUT * np.maximum(steps[:-2], steps[2:]))
    for frame in far[(cosines[:, far] < np.cos(_LEAST / 2)).mean(axis=0) > _SHARE].tolist():
        around = np.r_[max(frame - _AROUND, 0) : frame, frame + 1 : min(frame + 1 + _AROUND, frames - 1)]
        step, usual = (_angles(cosines[:, part]) for part in (frame, around))
        beside = _angles(cosines[:, [k for k in (frame - 1, frame + 1) if 0 <= k < frames - 1]]).max(axis=1)
        least = np.maximum(np.maximum(_LEAST, _ALONE * beside), _TIMES * np.median(usual, axis=1))
        if (step > least).mean() > _SHARE:
            at.append(frame + 1)
    return [frame for frame in at if not _comes_back(turns, at, frame)]


def _angles(cosines: np.ndarray) -> np.ndarray:
    """Whole angles of the cosines of halves of them."""
    return 2 * np.arccos(np.minimum(cosines, 1.0))


def _comes_back(turns: np.ndarray, at: list[int], frame: int) -> bool:
    """Whether a break and the one before or after it enclose a few frames after which all goes on as before."""
    for first, last in itertools.pairwise(at):
        if frame in (first, last) and last - first <= _LOST:
            away, back = (np.arccos(_cosines(turns[..., k], turns[..., first - 1])).mean() for k in (first, last))
            if back < 0.25 * away:
                return True
    return False


def _cosines(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """Cosines of half the angles between rotations ``(joints, 4, ...)``."""
    return np.minimum(np.abs(np.einsum("jc...,jc...->j...", a, b)), 1.0)
