"""Low-pass filters without any shift in time, and the cut-off that a curve asks for."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..evaluator import EVALUATOR
from .blocks import in_blocks
from .ends import extended, inner

_HIGHEST = 0.9  # of half the rate: cut-offs are not higher
_LOWEST, _TRIED = 0.7, 80  # hertz, and how many cut-offs up to the highest are looked at
_OF_MEDIAN = 0.8  # the median of a spectrum's lines, of three components together, against their mean
_NOISE = 0.5  # of half the rate: what is above is mostly noise
_FALLING, _END = 0.7, 0.95  # of half the rate: what is weaker there than below it falls still, and is motion
_SURELY = 6.0  # times what is chance
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
    if single >= _HIGHEST * half or rows.shape[-1] < 4:
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


def suggestions(rows: np.ndarray, rate: float, order: int = 2) -> Suggestions:
    """The cut-offs that channels ``rows (channels, n, frames)`` ask for, and why.

    That at which signal lost and noise left are least in sum, as the spectrum of the curve tells them: noise is white, and
    as strong as what is above half of the band (its end, if it still falls there: noise does not); what is over it is signal
    (as in Wiener's filter, for Butterworth's curve).
    A slow change from end to end is taken out before, and the ends are mirrored, so that they add nothing.
    """
    channels, _, frames = rows.shape
    hertz = np.fft.rfftfreq(max(2 * frames - 2, 1), 1 / rate)
    high = (hertz > _NOISE * rate / 2) & (hertz < _HIGHEST * rate / 2)
    if frames < _SHORTEST or high.sum() < 4:
        return Suggestions(np.full(channels, np.inf), np.zeros(0), np.zeros((channels, 0)))
    power = np.stack([_power(values) for values in rows])
    noise = _noise(power, hertz / (rate / 2))
    tried = np.geomspace(_LOWEST, _HIGHEST * rate / 2, _TRIED)
    passed = 1 / (1 + (hertz / tried[:, None]) ** (2 * order))
    # What is less than the noise counts as less than nothing: in sums, chance evens out.
    cost = (power - noise) @ ((1 - passed) ** 2).T + noise * np.sum(passed**2, axis=1)
    best, everything = cost.argmin(axis=1), noise * len(hertz)
    # Taking nothing away costs all of the noise, and may be better than to take little; and what stands still asks for nothing.
    worth = (
        (best < _TRIED - 1)
        & (cost.min(axis=1) < _WORTH * everything[:, 0])
        & (np.ptp(rows, axis=-1).max(axis=1) > 1e-9)
    )
    return Suggestions(np.where(worth, tried[best], np.inf), tried, cost / np.maximum(everything, 1e-300))


def _noise(power: np.ndarray, share: np.ndarray) -> np.ndarray:
    """The power of the noise ``(channels, 1)``. ``share (lines,)``: where they lie, of half the rate."""
    high = (share > _NOISE) & (share < _HIGHEST)
    below, above = high & (share < _FALLING), (share > _FALLING) & (share < _END)
    all_of_it, lower, upper = (np.median(power[:, part], axis=1) for part in (high, below, above))
    falls = lower > upper * (1 + _SURELY * np.sqrt(1 / below.sum() + 1 / above.sum()))
    return np.where(falls, upper, all_of_it)[:, None] / _OF_MEDIAN


def _power(values: np.ndarray) -> np.ndarray:
    """The power of ``values (n, frames)`` at each frequency, of all n together."""
    curve = values - values[:, :1] - (values[:, -1:] - values[:, :1]) * np.linspace(0, 1, values.shape[-1])
    lines = np.fft.rfft(np.concatenate([curve, -curve[:, -2:0:-1]], axis=1), axis=-1)
    return np.sum(lines.real**2 + lines.imag**2, axis=0)
