"""How much noise there is in curves.

Noise is white, and stays: it is as strong at each frequency above those of motion, and at every moment. Quick motion may
be as flat up to the end of the band, but comes and goes; a spike that was left in looks like that, too.
"""

from __future__ import annotations

import numpy as np

LOW, HIGH = 0.5, 0.9  # of half the rate: between these, a spectrum is mostly noise
_FALLING, _END = 0.7, 0.95  # of half the rate: what is weaker there than below it falls still, and is motion
_SURELY = 6.0  # times what is chance
_OF_MEDIAN = 0.8  # the median of a spectrum's lines, of three components together, against their mean
_MEDIAN_OF_THREE = 0.789  # the median of a sum of three squares, against its mean
_THIRD = 20  # the variance of third differences of noise, against its own
_SHARED = 4  # lines as which that counts what the other channels have
_COMES_AND_GOES = 1.55  # times what stays: where most channels have more in all, that is motion
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
    if rows.shape[-1] < 8:
        return np.zeros(len(rows))
    squares = np.sum(np.diff(rows, 3, axis=-1) ** 2, axis=1) / _THIRD
    return np.median(squares, axis=-1) / _MEDIAN_OF_THREE


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
    noise, stays = np.where(falls, end, all_of_it) / _OF_MEDIAN, steady(rows)
    some = (noise > _NOTHING) & (stays > 0)
    moves = some.any() and np.median(noise[some] / stays[some]) > _COMES_AND_GOES
    noise = _shared(noise, high.sum())
    return np.minimum(noise, _shared(stays, high.sum())) if moves else noise


def _shared(noise: np.ndarray, lines: int) -> np.ndarray:
    """Each channel's noise, drawn towards what is usual."""
    some, out = noise > _NOTHING, noise.copy()
    if some.any():
        own = np.log(noise[some])
        out[some] = np.exp((lines * own + _SHARED * np.median(own)) / (lines + _SHARED))
    return out
