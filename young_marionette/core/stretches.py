"""Stretches of frames in masks."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np


def stretches(mask: np.ndarray) -> Iterator[tuple[int, int]]:
    """``(first, last)`` of each run of true values."""
    starts, ends = ends_of(mask)
    yield from zip(starts.tolist(), ends.tolist())


def whole(near: np.ndarray, sure: np.ndarray, shortest: float, closed: float, rate: float) -> np.ndarray:
    """From the first ``sure`` frame of each stretch of ``near`` to its end (a mask).

    Gaps of up to ``closed`` seconds are closed where some of them is near; what is shorter than ``shortest`` seconds, or
    of one frame, is dropped.
    """
    starts, ends = ends_of(near)
    begun = np.append(np.flatnonzero(sure), len(near))
    starts = begun[np.searchsorted(begun, starts)]
    starts, ends = starts[starts <= ends], ends[starts <= ends]
    if not len(starts):
        return np.zeros(len(near), bool)
    # Frames from one stretch to the next, and how many of them are near.
    between, before = starts[1:] - ends[:-1] - 1, np.concatenate([[0], np.cumsum(near)])
    close = (between <= max(round(closed * rate), 1)) & (before[starts[1:]] - before[ends[:-1] + 1] > 0.3 * between)
    starts, ends = starts[np.append(True, ~close)], ends[np.append(~close, True)]
    long = ends - starts + 1 >= max(shortest * rate, 2)
    steps = np.zeros(len(near) + 1, int)
    steps[starts[long]] += 1
    steps[ends[long] + 1] -= 1
    return np.cumsum(steps[:-1]) > 0


def ends_of(mask: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """First and last frames of each run of true values."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], mask, [False]]).astype(np.int8)))
    return edges[::2], edges[1::2] - 1
