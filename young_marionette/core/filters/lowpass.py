"""Low-pass filters without any shift in time, and the cut-off that a curve asks for."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..evaluator import EVALUATOR
from .blocks import in_blocks
from .ends import extended, inner
from .noise import HIGH, Spectrum, white

_LOWEST, _TRIED = 0.7, 80  # hertz, and how many cut-offs up to the highest are looked at
_WORTH = 0.6  # of the noise: where more is left, a filter takes about as much as it gives
_SHORTEST = 16  # frames: fewer tell nothing of noise


def butterworth(rows: np.ndarray, rate: float, cutoff: float, order: int = 2, seamless: bool = False) -> np.ndarray:
    """``rows (channels, n, frames)`` through a Butterworth filter of ``order``, forwards and backwards.

    ``cutoff``: hertz, of what comes out in the end: the single passes' is corrected for being run twice (Winter 2009).
    ``seamless``: see ``extended``. Unchanged where the cut-off is above what the rate can hold, or with too few frames.
    """
    from scipy.signal import butter, sosfiltfilt  # slow to load

    half = rate / 2
    single = cutoff / (2**0.5 - 1) ** (0.5 / order)
    if single >= HIGH * half or rows.shape[-1] < 4:
        return rows
    sections = EVALUATOR.of("butterworth", (order, single / half), lambda: butter(order, single / half, output="sos"))
    out = np.empty(rows.shape)

    def work(part: slice) -> None:
        long, reach = extended(rows[part], int(3 * rate / cutoff), seamless)
        out[part] = inner(sosfiltfilt(sections, long, axis=-1, padtype=None), reach)

    in_blocks(len(rows), rows[0].size, work)
    return out


@dataclass(frozen=True, eq=False)
class Suggestions:
    """``cutoffs (channels,)``: hertz, infinite where a filter would do no good. ``tried (k,)``: what was looked at.

    ``left (channels, k)``: the noise that each leaves and the motion that it takes, together, as a share of all noise.
    """

    cutoffs: np.ndarray
    tried: np.ndarray
    left: np.ndarray


def suggestions(rows: np.ndarray, rate: float, order: int = 2, noise: np.ndarray | None = None) -> Suggestions:
    """The cut-offs that channels ``rows (channels, n, frames)`` ask for, and why. ``noise (channels,)``: its variance, where it
    is known; else see ``noise.white``.

    That at which signal lost and noise left are least in sum, as the spectrum of the curve tells them: what is over the
    noise is signal (as in Wiener's filter, for Butterworth's curve).
    """
    channels, _, frames = rows.shape
    nothing = Suggestions(np.full(channels, np.inf), np.zeros(0), np.zeros((channels, 0)))
    if frames < _SHORTEST:
        return nothing
    spectrum = Spectrum.of(rows)
    if spectrum.upper.sum() < 4:
        return nothing
    share, level = spectrum.share, (white(rows, spectrum) if noise is None else noise)[:, None]
    tried = np.geomspace(_LOWEST, HIGH * rate / 2, _TRIED)
    passed = 1 / (1 + (share * rate / 2 / tried[:, None]) ** (2 * order))
    # What is less than the noise counts as less than nothing: in sums, chance evens out.
    cost = (spectrum.power - level) @ ((1 - passed) ** 2).T + level * np.sum(passed**2, axis=1)
    best, everything = cost.argmin(axis=1), level * len(share)
    # Taking nothing away costs all of the noise, and may be better than to take little; and what stands still asks for nothing.
    worth = (
        (best < _TRIED - 1)
        & (cost.min(axis=1) < _WORTH * everything[:, 0])
        & (np.ptp(rows, axis=-1).max(axis=1) > 1e-9)
    )
    return Suggestions(np.where(worth, tried[best], np.inf), tried, cost / np.maximum(everything, 1e-300))
