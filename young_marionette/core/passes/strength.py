"""How strong a pass is over time: values at frames, gone between with ease."""

from __future__ import annotations

import numpy as np

from ..smoothing import eased

Strengths = tuple[tuple[int, float], ...]


def strength_over(frames: np.ndarray, strengths: Strengths) -> np.ndarray:
    """The strength ``(n,)`` at ``frames (n,)``: 1 where nothing is told, else as told at the frames, before the first and behind
    the last of them as there, between them without a jump in speed.

    >>> strength_over(np.array([0, 10, 15, 20, 30]), ((10, 1.0), (20, 0.0))).tolist()
    [1.0, 1.0, 0.5, 0.0, 0.0]
    """
    if not strengths:
        return np.ones(len(frames))
    at, values = (np.array(row, float) for row in zip(*sorted(dict(strengths).items())))
    if len(at) < 2:
        return np.full(len(frames), values[0])
    after = np.clip(np.searchsorted(at, frames, side="left"), 1, len(at) - 1)
    share = eased(np.clip((frames - at[after - 1]) / (at[after] - at[after - 1]), 0, 1))
    return np.asarray(values[after - 1] + share * (values[after] - values[after - 1]))
