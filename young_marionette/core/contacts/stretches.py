"""Stretches of frames in masks."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np


def stretches(mask: np.ndarray) -> Iterator[tuple[int, int]]:
    """``(first, last)`` of each run of true values."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], mask, [False]]).astype(np.int8)))
    yield from zip(edges[::2].tolist(), (edges[1::2] - 1).tolist())


def whole(near: np.ndarray, sure: np.ndarray, shortest: float, closed: float, rate: float) -> np.ndarray:
    """From the first ``sure`` frame of each stretch of ``near`` to its end (a mask).

    Gaps of up to ``closed`` seconds are closed where some of them is near; what is shorter than ``shortest`` seconds, or
    of one frame, is dropped.
    """
    mask, begun = np.zeros(len(near), bool), np.flatnonzero(sure)
    for first, last in stretches(near) if len(begun) else ():
        at = np.searchsorted(begun, first)
        if at < len(begun) and begun[at] <= last:
            mask[begun[at] : last + 1] = True
    gap = max(round(closed * rate), 1)
    for first, last in stretches(~mask):
        if first > 0 and last < len(mask) - 1 and last - first + 1 <= gap and near[first : last + 1].mean() > 0.3:
            mask[first : last + 1] = True
    for first, last in stretches(mask):
        if last - first + 1 < max(shortest * rate, 2):
            mask[first : last + 1] = False
    return mask
