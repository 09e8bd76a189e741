"""How much noise there is in curves.

Noise is white, and stays: it is as strong at each frequency above those of motion, and at every moment. Quick motion may
be as flat up to the end of the band, but comes and goes; a spike that was left in looks like that, too.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

LOW, HIGH = 0.5, 0.9  # of half the rate: between these, a spectrum is mostly noise
_FALLING, _END = 0.7, 0.95  # of half the rate: what is weaker there than below it falls still, and is motion
_SURELY = 6.0  # times what is chance
_STRETCHES, _LONG, _SHORT = (
    8,
    384,
    96,
)  # of so many frames, which tell what a long curve is like: its spectrum, its jitter
_THIRD = 20  # the variance of third differences of noise, against its own
_SHARED = 4  # lines as which that counts what the other channels have
_COMES_AND_GOES = 1.55  # times what is steady: where most channels have more in all, that is motion
_NOTHING = 1e-20


@dataclass(frozen=True, eq=False)
class Spectrum:
    """``share (lines,)``: frequencies, of half the rate; ``power (channels, lines)``: of all values of a channel together, per
    frame: white noise has its variance everywhere. ``count``: of how many stretches it is the mean.
    """

    share: np.ndarray
    power: np.ndarray
    count: int

    @staticmethod
    def of(rows: np.ndarray) -> Spectrum:
        """That of ``rows (channels, n, frames)``; of some stretches where they are long.

        A slow change from end to end is taken out before, and the curve goes on upside down, so that ends add nothing.
        """
        parts = _stretches(rows, _LONG)
        frames = parts.shape[-1]
        ramp = np.linspace(0, 1, frames)
        power = np.empty((len(rows), max(frames, 2)))
        for channel, values in enumerate(parts):  # one fits the processor's cache
            curve = values - values[..., :1] - (values[..., -1:] - values[..., :1]) * ramp
            lines = np.fft.rfft(np.concatenate([curve, -curve[..., -2:0:-1]], axis=-1), axis=-1)
            power[channel, : lines.shape[-1]] = np.sum(lines.real**2 + lines.imag**2, axis=(0, 1))
        count = parts.shape[2]
        share = np.fft.rfftfreq(max(2 * frames - 2, 1)) * 2
        return Spectrum(share, power[:, : len(share)] / (2 * frames * count), count)

    @property
    def upper(self) -> np.ndarray:
        """Which lines are mostly noise."""
        return (self.share > LOW) & (self.share < HIGH)


def steady(rows: np.ndarray) -> np.ndarray:
    """The variance of the noise in ``rows (channels, n, frames)``, of all n together, as it is at most moments: ``(channels,)``.

    From third differences, in which motion all but vanishes, by their median, so that quick moments do not count.
    """
    channels, n, frames = rows.shape
    if frames < 8:
        return np.zeros(channels)
    squares = np.sum(np.diff(_stretches(rows, _SHORT), 3, axis=-1) ** 2, axis=1) / _THIRD
    return np.median(squares.reshape(channels, -1), axis=-1) / _of_median(n, 1)


def white(rows: np.ndarray, spectrum: Spectrum | None = None) -> np.ndarray:
    """The variance of the noise in ``rows (channels, n, frames)``, of all n together: ``(channels,)``. ``spectrum``: theirs.

    As strong as what is in the upper half of the band (its end, if it still falls there). Where in most channels that is more
    than what is ``steady``, most of it is motion, and noise is no more than that. In short clips it is known the better,
    the more channels say the same.
    """
    if not len(rows):
        return np.zeros(0)
    spectrum = Spectrum.of(rows) if spectrum is None else spectrum
    high, share = spectrum.upper, spectrum.share
    if high.sum() < 4:
        return np.zeros(len(rows))
    below, above = high & (share < _FALLING), (share > _FALLING) & (share < _END)
    all_of_it, lower, end = (np.median(spectrum.power[:, part], axis=1) for part in (high, below, above))
    falls = lower > end * (1 + _SURELY * np.sqrt((1 / below.sum() + 1 / above.sum()) / spectrum.count))
    noise = np.where(falls, end, all_of_it) / _of_median(rows.shape[1], spectrum.count)
    stays, lines = steady(rows), float(high.sum() * spectrum.count)
    out = shared(noise, lines)
    return np.minimum(out, shared(stays, lines)) if comes_and_goes(noise, stays) else out


def comes_and_goes(all_of_it: np.ndarray, stays: np.ndarray) -> bool:
    """Whether in most channels there is much more of what looks like noise in all than is ``steady``: variances ``(channels,)``."""
    some = (all_of_it > _NOTHING) & (stays > 0)
    return bool(some.any() and np.median(all_of_it[some] / stays[some]) > _COMES_AND_GOES)


def shared(noise: np.ndarray, lines: float) -> np.ndarray:
    """Variances ``(channels,)`` that are known from so many ``lines`` each, drawn towards what is usual."""
    some, out = noise > _NOTHING, noise.copy()
    if some.any():
        own = np.log(noise[some])
        out[some] = np.exp((lines * own + _SHARED * np.median(own)) / (lines + _SHARED))
    return out


def _stretches(rows: np.ndarray, long: int) -> np.ndarray:
    """Stretches of ``long`` frames, evenly spread ``(channels, n, stretches, frames)``; all of it where that is not more."""
    frames = rows.shape[-1]
    if frames <= _STRETCHES * long:
        return rows[:, :, None]
    starts = np.linspace(0, frames - long, _STRETCHES).astype(int)
    return rows.take(starts[:, None] + np.arange(long), axis=-1)


def _of_median(n: int, count: int) -> float:
    """The median of the mean of so many sums of n squares of chance against its mean (Wilson and Hilferty 1931). A rotation's four
    values are three.
    """
    return (1 - 2 / (9 * min(n, 3) * count)) ** 3
