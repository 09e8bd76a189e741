"""Spikes: single frames that stand apart from what is around them, and runs of two where little else moves."""

from __future__ import annotations

import numpy as np

from ..stretches import stretches

WINDOW = 0.1  # seconds that a frame is compared with
THRESHOLD = 3.0  # of what is usual around a frame, as standard deviations
SCALE = 1.4826  # from the median distance to a standard deviation, for what is spread normally
_BESIDE = 0.5  # of the distance of the worst frame beside it
_LONGEST = 4  # frames of a run that is a spike, and not motion
_REACH = 3  # frames looked at on each side, however many lie between them


def hampel(
    values: np.ndarray, rate: float, least: float, threshold: float = THRESHOLD, window: float = WINDOW
) -> np.ndarray:
    """Which frames (a mask) of ``values (n, frames)`` are spikes: a test of Hampel's kind on the distance of all n together.

    Seven frames over ``window`` seconds tell by their median where a frame should be, and by the median of their own
    distances how far frames usually are from there. A spike is farther than ``threshold`` times that, and than ``least``,
    which keeps quiet stretches from being taken apart. Source: Hampel 1974; Pearson 2002.
    """
    frames = values.shape[-1]
    if frames < 2 * _REACH + 1:
        return np.zeros(frames, bool)
    step = max(int(window * rate / (2 * _REACH + 1)), 1)
    away = _away(values, step)
    usual = SCALE * _median_of_seven(_neighbours(away[None], step))[0]
    suspects = away > np.maximum(threshold * usual, least)
    for first, last in stretches(suspects):
        # What lies beside a spike is off its median, too, but less.
        part = slice(first, last + 1)
        suspects[part] = away[part] > _BESIDE * away[part].max()
    return suspects


def _away(values: np.ndarray, step: int) -> np.ndarray:
    """How far values are from the median of what is around them ``(frames,)``."""
    return np.sqrt(np.sum((values - _median_of_seven(_neighbours(values, step))) ** 2, axis=0))


def _neighbours(values: np.ndarray, step: int) -> list[np.ndarray]:
    """``values (n, frames)`` of the frames at -3 to 3 steps; at the ends they are mirrored."""
    reach = _REACH * step
    padded = np.pad(values, ((0, 0), (reach, reach)), mode="reflect" if values.shape[-1] > reach else "edge")
    return [padded[:, i * step : i * step + values.shape[-1]] for i in range(2 * _REACH + 1)]


# Pairs of places that are put in order, one after the other, until the middle one of seven is the median (Devillard 1998).
_NETWORK = ((0, 5), (0, 3), (1, 6), (2, 4), (0, 1), (3, 5), (2, 6), (2, 3), (3, 6), (4, 5), (1, 4), (1, 3), (3, 4))


def _median_of_seven(parts: list[np.ndarray]) -> np.ndarray:
    """The median of seven arrays, element by element, by a network of comparisons: far quicker than sorting."""
    parts = list(parts)
    for a, b in _NETWORK:
        parts[a], parts[b] = np.minimum(parts[a], parts[b]), np.maximum(parts[a], parts[b])
    return parts[3]


def confirmed(values: np.ndarray, suspects: np.ndarray, least: float) -> tuple[np.ndarray, np.ndarray]:
    """``(which suspects are spikes (a mask), values (n, frames) with a smooth way over them)``.

    A short run of suspects is a spike where it also lies off the curve (a cubic) through the frames on both sides: turning
    points of quick motion, which are far from a median, lie on it.
    """
    out, spikes, good = values, np.zeros(len(suspects), bool), np.flatnonzero(~suspects)
    for first, last in stretches(suspects):
        after = int(np.searchsorted(good, first))
        sides = good[max(after - 2, 0) : after + 2]
        if last - first >= _LONGEST or len(sides) < 2:
            continue
        run = np.arange(first, last + 1)
        way = _through(sides.astype(float), values[:, sides], run)
        if np.sqrt(np.sum((values[:, run] - way) ** 2, axis=0)).max() > least:
            if out is values:
                out = values.copy()
            out[:, run], spikes[run] = way, True
    return spikes, out


def _through(at: np.ndarray, known: np.ndarray, wanted: np.ndarray) -> np.ndarray:
    """Values ``(n, wanted)`` of the curves of least degree through ``known (n, points)`` at ``at`` (Lagrange)."""
    shares = np.ones((len(at), len(wanted)))
    for i, own in enumerate(at):
        for j, other in enumerate(at):
            if i != j:
                shares[i] *= (wanted - other) / (own - other)
    return known @ shares
