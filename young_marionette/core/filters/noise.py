"""How much noise there is in curves.

Noise is white, and stays: it is as strong at each frequency above those of motion, and at every moment. Quick motion may
be as flat up to the end of the band, but comes and goes; a spike that was left in looks like that, too.
"""

from __future__ import annotations

import numpy as np

LOW, HIGH = 0.5, 0.9  # of half the rate: between these, a spectrum is mostly noise
_FALLING, _END = 0.7, 0.95  # of half the rate: what is weaker there than below it falls still, and is motion
_SURELY = 6.0  # times what is chance
_MEDIANS = (0.455, 0.693, 0.789)  # of a sum of one, two, three squares, against its mean; rotations have three
_STRETCHES, _STRETCH = 12, 96  # of so many frames, which tell what a long curve is like
_THIRD = 20  # the variance of third differences of noise, against its own
_SHARED = 4  # lines as which that counts what the other channels have
_COMES_AND_GOES = 1.55  # times what is steady: where most channels have more in all, that is motion
_NOTHING = 1e-20


def power(values: np.ndarray) -> np.ndarray:
    """The power of ``values (n, frames)`` at each frequency, of all n together, per frame ``(frames,)``.

    Without a slow change from end to end, and with mirrored ends, which add nothing. White noise has its variance everywhere.
    """
    frames = values.shape[-1]
    curve = values - values[:, :1] - (values[:, -1:] - values[:, :1]) * np.linspace(0, 1, frames)
    lines = np.fft.rfft(np.concatenate([curve, -curve[:, -2:0:-1]], axis=1), axis=-1)
    return np.sum(lines.real**2 + lines.imag**2, axis=0) / (2 * frames)


def shares(frames: int) -> np.ndarray:
    """Where the lines of ``power`` lie, of half the rate."""
    return np.fft.rfftfreq(max(2 * frames - 2, 1)) * 2


def upper(share: np.ndarray) -> np.ndarray:
    """Which lines are mostly noise."""
    return (share > LOW) & (share < HIGH)


def steady(rows: np.ndarray) -> np.ndarray:
    """The variance of the noise in ``rows (channels, n, frames)``, of all n together, as it is at most moments: ``(channels,)``.

    From third differences, in which motion all but vanishes, by their median, so that quick moments do not count.
    """
    channels, _, frames = rows.shape
    if frames < 8:
        return np.zeros(channels)
    if frames > _STRETCHES * _STRETCH:
        starts = np.linspace(0, frames - _STRETCH, _STRETCHES).astype(int)
        rows = rows.take(starts[:, None] + np.arange(_STRETCH), axis=-1)
    squares = np.sum(np.diff(rows, 3, axis=-1) ** 2, axis=1) / _THIRD
    return np.median(squares.reshape(channels, -1), axis=-1) / _of_median(rows)


def white(rows: np.ndarray, powers: np.ndarray | None = None) -> np.ndarray:
    """The variance of the noise in ``rows (channels, n, frames)``, of all n together: ``(channels,)``. ``powers``: see ``power``.

    As strong as what is in the upper half of the band (its end, if it still falls there). Where in most channels that is more
    than what is ``steady``, most of it is motion, and noise is no more than that. In short clips it is known the better,
    the more channels say the same.
    """
    share = shares(rows.shape[-1])
    high = upper(share)
    if high.sum() < 4 or not len(rows):
        return np.zeros(len(rows))
    powers = np.stack([power(values) for values in rows]) if powers is None else powers
    below, above = high & (share < _FALLING), (share > _FALLING) & (share < _END)
    all_of_it, lower, end = (np.median(powers[:, part], axis=1) for part in (high, below, above))
    falls = lower > end * (1 + _SURELY * np.sqrt(1 / below.sum() + 1 / above.sum()))
    noise, stays = np.where(falls, end, all_of_it) / _of_median(rows), steady(rows)
    out = shared(noise, float(high.sum()))
    return np.minimum(out, shared(stays, float(high.sum()))) if comes_and_goes(noise, stays) else out


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


def _of_median(rows: np.ndarray) -> float:
    return _MEDIANS[min(rows.shape[1], 3) - 1]
