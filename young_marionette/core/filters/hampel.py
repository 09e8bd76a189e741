"""Frames that are far from the median of what is around them: a test of Hampel's kind, on several values together."""

from __future__ import annotations

import numpy as np

_SCALE = 1.4826  # from the median distance to a standard deviation, for what is spread normally
_BESIDE = 0.5  # of the distance of the worst frame beside it
_REACH = 3  # frames looked at on each side, however many lie between them
_LARGEST, _FINE = 16_000, 20.0  # whole numbers that values become, and how many of them the least distance has
_VALUES = 4  # of which distances are no larger than whole numbers hold
SHORTEST = 2 * _REACH + 1  # frames


def suspects(
    rows: np.ndarray, rate: float, least: np.ndarray, threshold: float, window: float, within: float | None = None
) -> np.ndarray:
    """Which frames of ``rows (channels, n, frames)`` are far from where the frames around them are: ``(channels, frames)``.

    Seven frames over ``window`` seconds tell by the median of each value where a frame should be, and by the median of
    their own distances how far frames usually are from there. What is farther than ``threshold`` times that, and than
    ``least (channels,)`` (which keeps quiet stretches from being taken apart), is given, without what is beside it and less far.
    ``within``: what no value is larger than, where that is known.
    Sources: Hampel 1974; Pearson 2002.
    """
    channels, _, frames = rows.shape
    step = max(int(window * rate / SHORTEST), 1)
    away, found = np.empty((channels, frames), np.float32), np.empty((channels, frames), bool)
    for channel in range(channels):  # one fits the processor's cache
        values, unit = _whole(rows[channel], float(least[channel]), within)
        off = (values - median_of_seven(_neighbours(values, step))).astype(np.float32)
        far = away[channel] = np.sqrt(np.einsum("nf,nf->f", off, off))
        if unit != 1.0:
            far = far.astype(np.uint16)  # of at most four values: no larger than that holds
        around = np.float32(_SCALE * threshold) * median_of_seven(_neighbours(far, step))
        found[channel] = far > np.maximum(around, np.float32(least[channel] / unit))
        away[channel] *= np.float32(unit)
    return _alone(away, found)


def _whole(values: np.ndarray, least: float, within: float | None) -> tuple[np.ndarray, float]:
    """Values as whole numbers, which are compared three times as quickly, and their unit; as they are where they are too wide."""
    low, high = (float(values.min()), float(values.max())) if within is None else (-within, within)
    unit = (high - low) / 2 / _LARGEST
    if not 0.0 < unit < least / _FINE or len(values) > _VALUES:
        return values.astype(np.float32), 1.0
    out = np.empty(values.shape, np.int16)
    np.multiply(values if low == -high else values - (low + high) / 2, 1 / unit, out=out, casting="unsafe")
    return out, unit


def _alone(away: np.ndarray, found: np.ndarray) -> np.ndarray:
    """What was found without what lies beside a spike, which is off its median, too, but less."""
    at = np.flatnonzero(found)
    if not len(at):
        return found
    far, frames = away.ravel()[at], found.shape[1]
    begins = np.flatnonzero((np.diff(at, prepend=-2) > 1) | (at % frames == 0))
    worst = np.maximum.reduceat(far, begins)
    out = np.zeros(found.size, bool)
    out[at] = far > _BESIDE * np.repeat(worst, np.diff(begins, append=len(at)))
    return out.reshape(found.shape)


def _neighbours(values: np.ndarray, step: int) -> list[np.ndarray]:
    """``values (..., frames)`` of the frames at -3 to 3 steps; at the ends they are mirrored."""
    reach, frames = _REACH * step, values.shape[-1]
    padded = np.empty((*values.shape[:-1], frames + 2 * reach), values.dtype)
    padded[..., reach : reach + frames] = values
    if frames > reach:
        padded[..., :reach], padded[..., -reach:] = values[..., reach:0:-1], values[..., -2 : -reach - 2 : -1]
    else:
        padded[..., :reach], padded[..., -reach:] = values[..., :1], values[..., -1:]
    return [padded[..., i * step : i * step + frames] for i in range(SHORTEST)]


# Pairs of places that are put in order, one after the other, until the middle one of seven is the median (Devillard 1998).
_NETWORK = ((0, 5), (0, 3), (1, 6), (2, 4), (0, 1), (3, 5), (2, 6), (2, 3), (3, 6), (4, 5), (1, 4), (1, 3), (3, 4))
_LAST_USE = {place: i for i, pair in enumerate(_NETWORK) for place in pair}


def median_of_seven(parts: list[np.ndarray]) -> np.ndarray:
    """The median of seven arrays, element by element, by a network of comparisons: far quicker than sorting."""
    parts = list(parts)
    for i, (a, b) in enumerate(_NETWORK):
        low, high = parts[a], parts[b]
        # What is not looked at any more need not be worked out.
        if _LAST_USE[a] > i or a == 3:
            parts[a] = np.minimum(low, high)
        if _LAST_USE[b] > i or b == 3:
            parts[b] = np.maximum(low, high)
    return parts[3]
