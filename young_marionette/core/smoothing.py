"""Smooth curves of values on even frames. SciPy has the same in scipy.ndimage, which takes a third of a second to load."""

from __future__ import annotations

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view


def gaussian(values: np.ndarray, width: float) -> np.ndarray:
    """``values (..., frames)`` through a Gaussian of a standard deviation of ``width`` frames; ends go on as they are.

    The kernel reaches four widths to each side.

    >>> gaussian(np.array([0.0, 0, 1, 0, 0]), 0.5).round(3)
    array([0.   , 0.106, 0.787, 0.106, 0.   ])
    """
    reach = max(int(4 * width + 0.5), 1)
    kernel = np.exp(-0.5 * (np.arange(-reach, reach + 1) / width) ** 2)
    kernel /= kernel.sum()
    rows = _held(values, reach).reshape(-1, values.shape[-1] + 2 * reach)
    return np.stack([np.convolve(row, kernel, "valid") for row in rows]).reshape(values.shape)


def largest_within(values: np.ndarray, reach: int) -> np.ndarray:
    """For each of ``values (frames,)`` the largest that is at most ``reach`` frames away."""
    return sliding_window_view(_held(values, reach), 2 * reach + 1).max(-1)


def eased(share: np.ndarray) -> np.ndarray:
    """Shares from 0 to 1 with speed and acceleration at rest at both ends (minimum jerk; Flash and Hogan 1985)."""
    result: np.ndarray = share**3 * (10 - 15 * share + 6 * share**2)
    return result


def _held(values: np.ndarray, reach: int) -> np.ndarray:
    """The values with the first and last one repeated at the ends."""
    ends = [(0, 0)] * (values.ndim - 1)
    return np.pad(values, [*ends, (reach, reach)], mode="edge")
