"""Filters that look at a window around each frame: Gaussian, Savitzky-Golay, median."""

from __future__ import annotations

import numpy as np

from .ends import extended, inner


def gaussian(rows: np.ndarray, rate: float, seconds: float, seamless: bool = False) -> np.ndarray:
    """``rows (channels, n, frames)`` through a Gaussian whose middle two thirds are ``seconds`` wide."""
    width = seconds * rate / 2
    if width < 0.1:
        return rows
    reach = int(4 * width + 0.5)
    kernel = np.exp(-0.5 * (np.arange(-reach, reach + 1) / width) ** 2)
    return _through(rows, kernel / kernel.sum(), seamless)


def savitzky_golay(
    rows: np.ndarray, rate: float, seconds: float, degree: int = 3, seamless: bool = False
) -> np.ndarray:
    """``rows (channels, n, frames)``: each frame on the polynomial through those ``seconds`` around it, by least squares.

    Unchanged where so few frames are in the window that it goes through all of them. Source: Savitzky and Golay 1964.
    """
    from scipy.signal import savgol_coeffs

    reach = min(int(seconds * rate / 2), (rows.shape[-1] - 1) // 2)
    if 2 * reach + 1 <= degree + 1:
        return rows
    return _through(rows, savgol_coeffs(2 * reach + 1, degree), seamless)


def median(rows: np.ndarray, rate: float, seconds: float, seamless: bool = False) -> np.ndarray:
    """``rows (channels, n, frames)``: the middle value of those ``seconds`` around each frame, of each component."""
    from scipy.ndimage import median_filter

    reach = min(int(seconds * rate / 2), rows.shape[-1] - 1)
    if reach < 1:
        return rows
    long, added = extended(rows, reach, seamless)
    return inner(median_filter(long, size=(1, 1, 2 * reach + 1), mode="nearest"), added)


def _through(rows: np.ndarray, kernel: np.ndarray, seamless: bool) -> np.ndarray:
    """Rows convolved with a symmetric kernel; in short clips its ends are left out."""
    from scipy.signal import oaconvolve

    long, reach = extended(rows, len(kernel) // 2, seamless)
    spare = len(kernel) // 2 - reach
    if spare:
        kernel = kernel[spare:-spare]
        kernel = kernel / kernel.sum()
    return oaconvolve(long, kernel[None, None], mode="valid", axes=-1) if reach else rows
