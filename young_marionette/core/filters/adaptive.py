"""A smoother that keeps accents: strong where a curve rests, weak where it moves quickly.

Each curve goes through low-pass filters of several cut-offs. For each of them, and around every frame, the error that it
leaves can be estimated without knowing the truth: from how far it goes from the curve, and how much noise it passes (Stein
1981). The results are mixed by that, frame by frame; the curve as it is is one of them, for moments that no filter follows.
On captured motion with added noise this leaves less than the best single cut-off of each joint does (see benchmarks), which
smoothers of one strength all over can't.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ..smoothing import gaussian
from .ends import extended, inner
from .lowpass import butterworth

_CUTOFFS, _LOWEST, _HIGHEST = 9, 0.5, 0.35  # how many, the lowest (hertz) and the highest (of the rate)
_AROUND = 0.2  # seconds: the width over which errors are judged
_SHARP = 0.3  # how decidedly the best is taken, against how far such an estimate is off by chance
HALO = 3.0  # seconds


def smoothed(
    rows: np.ndarray, rate: float, noise: np.ndarray, strength: float = 1.0, seamless: bool = False
) -> np.ndarray:
    """``rows (channels, n, frames)`` smoothed. ``noise (channels,)``: see ``noise.steady``; times the square of ``strength``."""
    if rows.shape[-1] < 8:
        return rows
    noise = noise * strength**2
    width = _AROUND * rate
    chance = np.maximum(noise * np.sqrt(2 / max(10 * width, 1.0)), 1e-18)[:, None]
    # Mixed as they come, by shares that are only known up to a factor: the least risk so far is what they are against.
    least, total, out = np.full((len(rows), rows.shape[-1]), np.inf), np.zeros(1), np.zeros(1)
    for made, passed in _tried(rows, rate, seamless):
        off = np.sum((rows - made) ** 2, axis=1) + noise[:, None] * (2 * passed - 1)
        risk = gaussian(off, width) if not seamless else _round(off, width)
        below = np.minimum(least, risk)
        fade = np.exp(-(least - below) / (_SHARP * chance))
        share = np.exp(-(risk - below) / (_SHARP * chance))
        out, total, least = out * fade[:, None] + made * share[:, None], total * fade + share, below
    return out / total[:, None]


def _tried(rows: np.ndarray, rate: float, seamless: bool) -> Iterator[tuple[np.ndarray, float]]:
    """``(rows, share of a frame's own value in them)`` after filters of several cut-offs, and as they are."""
    for cutoff in np.geomspace(_LOWEST, _HIGHEST * rate, _CUTOFFS).tolist():
        yield butterworth(rows, rate, cutoff, 2, seamless), _passed(rate, cutoff)
    yield rows, 1.0


def _round(values: np.ndarray, width: float) -> np.ndarray:
    """``values (channels, frames)`` through a Gaussian, where the last frame is the first one of the next round."""
    long, reach = extended(values[:, None], int(4 * width + 0.5), True)
    return inner(gaussian(long, width), reach)[:, 0]


def _passed(rate: float, cutoff: float) -> float:
    """The share of a frame's own value in what a filter makes of it."""
    pulse = np.zeros((1, 1, 2 * int(4 * rate / cutoff) + 9))
    pulse[..., pulse.shape[-1] // 2] = 1.0
    return float(butterworth(pulse, rate, cutoff)[0, 0, pulse.shape[-1] // 2])
