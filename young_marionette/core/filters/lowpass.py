"""Low-pass filters without any shift in time, and the cut-off that a curve asks for."""

from __future__ import annotations

import numpy as np

_HIGHEST = 0.9  # of half the rate: cut-offs are not higher
_LOWEST, _TRIED = 0.7, 80  # hertz, and how many cut-offs up to the highest are looked at
_OF_MEDIAN = 0.8  # the median of a spectrum's lines, of three components together, against their mean
_NOISE = 0.5  # of half the rate: what is above is mostly noise


def butterworth(values: np.ndarray, rate: float, cutoff: float, order: int = 2) -> np.ndarray:
    """``values (..., frames)`` through a Butterworth filter of ``order``, forwards and backwards.

    ``cutoff``: hertz, of what comes out in the end: the single passes' is corrected for being run twice (Winter 2009).
    Ends go on mirrored about their last value, so that they are not bent. Unchanged where the cut-off is above what the
    rate can hold, or with too few frames.
    """
    from scipy.signal import butter, sosfiltfilt  # slow to load

    frames, half = values.shape[-1], rate / 2
    single = cutoff / (2**0.5 - 1) ** (0.5 / order)
    if single >= _HIGHEST * half or frames < 4:
        return values
    sections = butter(order, single / half, output="sos")
    return sosfiltfilt(sections, values, axis=-1, padtype="odd", padlen=min(int(3 * rate / cutoff), frames - 1))


def suggested(values: np.ndarray, rate: float, order: int = 2) -> float:
    """The cut-off (hertz) that ``values (n, frames)`` ask for; infinite where a filter would do no good.

    That at which signal lost and noise left are least in sum, as the spectrum of the curve tells them: noise is white, and
    as strong as what is above half of the band; what is over it is signal (as in Wiener's filter, for Butterworth's curve).
    A slow change from end to end is taken out before, and the ends are mirrored, so that they add nothing.
    """
    frames = values.shape[-1]
    if frames < 16:
        return np.inf
    level = values[:, :1] + (values[:, -1:] - values[:, :1]) * np.linspace(0, 1, frames)
    curve = values - level
    curve = np.concatenate([curve, -curve[:, -2:0:-1]], axis=1)
    power = np.sum(np.abs(np.fft.rfft(curve, axis=-1)) ** 2, axis=0)
    hertz = np.fft.rfftfreq(curve.shape[1], 1 / rate)
    high = (hertz > _NOISE * rate / 2) & (hertz < _HIGHEST * rate / 2)
    if high.sum() < 4:
        return np.inf
    noise = float(np.median(power[high])) / _OF_MEDIAN
    signal = power - noise  # also where it is less: in sums, chance evens out
    tried = np.geomspace(_LOWEST, _HIGHEST * rate / 2, _TRIED)
    passed = 1 / (1 + (hertz / tried[:, None]) ** (2 * order))
    cost = ((1 - passed) ** 2) @ signal + noise * np.sum(passed**2, axis=1)
    best = int(cost.argmin())
    # Taking nothing away costs all of the noise.
    return float(tried[best]) if best < _TRIED - 1 and cost[best] < noise * len(hertz) else np.inf
