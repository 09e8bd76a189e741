"""Spikes: single frames and short runs that stand apart from what is around them, where little else moves."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

import numpy as np

from ..stretches import ends_of

WINDOW = 0.1  # seconds that a frame is compared with
THRESHOLD = 3.0  # of what is usual around a frame, as standard deviations
LONGEST = 2  # frames of a run that is a spike, and not motion
SCALE = 1.4826  # from the median distance to a standard deviation, for what is spread normally
_BESIDE = 0.5  # of the distance of the worst frame beside it
_REACH = 3  # frames looked at on each side, however many lie between them
_QUICK = 2.6  # of the usual step from frame to frame around it: how far a spike lies off the curve, at least
_TORN = 0.75  # of how far a spike lies off: what is farther apart around it is no curve that it could be off
_APART = 3.0  # windows on each side of a huge spike in which there is no other jump like it
_USUAL = 6  # frames on each side whose steps tell what is usual: of those the lower third, so that spikes do not count
_NONE = 15  # frames: what is farther from a run tells nothing of it


def spikes(
    rows: np.ndarray,
    rate: float,
    least: float,
    threshold: float = THRESHOLD,
    window: float = WINDOW,
    longest: int = LONGEST,
    huge: float = np.inf,
) -> np.ndarray:
    """Which frames of ``rows (channels, n, frames)`` are spikes: a mask ``(channels, frames)``.

    A test of Hampel's kind on the distance of all n values together: seven frames over ``window`` seconds tell by their
    median where a frame should be, and by the median of their own distances how far frames usually are from there. What is
    farther than ``threshold`` times that, and than ``least`` (which keeps quiet stretches from being taken apart), in a run
    of at most ``longest`` frames, is a spike where it also lies off the curve through the frames on both sides: turning
    points of quick motion are far from a median, too, but lie on it. What is off by more than ``huge`` is one only where it
    stands alone: a joint that goes back and forth as much all the time was captured badly, and no single frame is to blame.
    Source: Hampel 1974; Pearson 2002.
    """
    channels, _, frames = rows.shape
    if frames < 2 * _REACH + 1:
        return np.zeros((channels, frames), bool)
    step = max(int(window * rate / (2 * _REACH + 1)), 1)
    away = np.empty((channels, frames), np.float32)
    suspects = np.empty((channels, frames), bool)

    for channel in range(channels):  # one fits the processor's cache
        far = away[channel] = _away(rows[channel].astype(np.float32), step)
        usual = np.float32(SCALE * threshold) * _median_of_seven(_neighbours(far, step))
        suspects[channel] = far > np.maximum(usual, np.float32(least))
    suspects = _alone(away, suspects)
    runs = _Runs.of(suspects)
    runs = runs.picked(runs.long <= longest)
    far = runs.worst(rows, _bridges(rows, runs))
    steps = _steps(rows, runs, _USUAL)
    usual_step = np.partition(steps, steps.shape[1] // 3, axis=1)[:, steps.shape[1] // 3]
    real = (far > np.maximum(least, _QUICK * usual_step)) & (_TORN * far > _largest_step(rows, runs))
    if (far > huge).any():
        large = np.flatnonzero(far > huge)
        wide = runs.picked(far > huge)
        jumps = (_steps(rows, wide, int(_APART * window * rate)) > _TORN * huge).sum(axis=1)
        # Those at its own ends do not count.
        real[large] &= jumps <= 2
    return runs.picked(real).mask(suspects.shape)


def over(rows: np.ndarray, bad: np.ndarray) -> np.ndarray:
    """Rows with a smooth way over the ``bad`` frames (a mask ``(channels, frames)``): cubics through two good ones on each side."""
    runs = _Runs.of(bad)
    out = rows.copy()
    for which, frames, way in _bridges(rows, runs):
        out[runs.channel[which, None], :, frames] = way
    return out


@dataclass(frozen=True, eq=False)
class _Runs:
    """Runs of frames in some channels: ``channel``, ``first`` and ``long (runs,)``; ``sides (runs, 4)``: the good frames
    around each, two before and two behind, -1 where there is none.
    """

    channel: np.ndarray
    first: np.ndarray
    long: np.ndarray
    sides: np.ndarray

    @staticmethod
    def of(bad: np.ndarray) -> _Runs:
        """The runs of true values of a mask ``(channels, frames)``."""
        channels, frames = bad.shape
        wide = frames + 2  # so that what is looked for beyond an end lies between two channels
        flat = np.zeros((channels, wide), bool)
        flat[:, :frames] = bad
        starts, ends = ends_of(flat.ravel())
        good = np.concatenate([[-1, -1], np.flatnonzero(~flat.ravel())])
        after = starts - np.concatenate([[0], np.cumsum(ends - starts + 1)[:-1]]) + 2
        sides = good[after[:, None] + np.arange(-2, 2)]
        channel = starts // wide
        there = (sides // wide == channel[:, None]) & (sides % wide < frames)
        return _Runs(channel, starts % wide, ends - starts + 1, np.where(there, sides % wide, -1))

    def picked(self, keep: np.ndarray) -> _Runs:
        """Some of the runs (a mask)."""
        return _Runs(self.channel[keep], self.first[keep], self.long[keep], self.sides[keep])

    def mask(self, shape: tuple[int, ...]) -> np.ndarray:
        """Their frames as a mask ``(channels, frames)``."""
        out = np.zeros(shape, bool)
        out[np.repeat(self.channel, self.long), self._frames()] = True
        return out

    def _frames(self) -> np.ndarray:
        """All frames of all runs, one run after the other."""
        before = np.cumsum(self.long) - self.long
        return np.repeat(self.first - before, self.long) + np.arange(int(self.long.sum()))

    def worst(self, rows: np.ndarray, bridges: Iterable[tuple[np.ndarray, np.ndarray, np.ndarray]]) -> np.ndarray:
        """How far rows are from ways over the runs, at most ``(runs,)``; nothing where there is no way."""
        far = np.zeros(len(self.first))
        for which, frames, way in bridges:
            off = rows[self.channel[which, None], :, frames] - way
            far[which] = np.sqrt(np.sum(off**2, axis=2)).max(axis=1)
        return far


def _alone(away: np.ndarray, suspects: np.ndarray) -> np.ndarray:
    """Suspects without what lies beside a spike, which is off its median, too, but less."""
    at = np.flatnonzero(suspects)
    if not len(at):
        return suspects
    far, frames = away.ravel()[at], suspects.shape[1]
    begins = np.flatnonzero((np.diff(at, prepend=-2) > 1) | (at % frames == 0))
    worst = np.maximum.reduceat(far, begins)
    out = np.zeros(suspects.size, bool)
    out[at] = far > _BESIDE * np.repeat(worst, np.diff(begins, append=len(at)))
    return out.reshape(suspects.shape)


def _away(values: np.ndarray, step: int) -> np.ndarray:
    """How far values ``(n, frames)`` are from the median of what is around them ``(frames,)``."""
    away = values - _median_of_seven(_neighbours(values, step))
    return np.sqrt(np.einsum("nf,nf->f", away, away))


def _neighbours(values: np.ndarray, step: int) -> list[np.ndarray]:
    """``values (..., frames)`` of the frames at -3 to 3 steps; at the ends they are mirrored."""
    reach, frames = _REACH * step, values.shape[-1]
    ends = [(0, 0)] * (values.ndim - 1)
    padded = np.pad(values, [*ends, (reach, reach)], mode="reflect" if frames > reach else "edge")
    return [padded[..., i * step : i * step + frames] for i in range(2 * _REACH + 1)]


# Pairs of places that are put in order, one after the other, until the middle one of seven is the median (Devillard 1998).
_NETWORK = ((0, 5), (0, 3), (1, 6), (2, 4), (0, 1), (3, 5), (2, 6), (2, 3), (3, 6), (4, 5), (1, 4), (1, 3), (3, 4))
_LAST_USE = {place: i for i, pair in enumerate(_NETWORK) for place in pair}


def _median_of_seven(parts: list[np.ndarray]) -> np.ndarray:
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


def _bridges(rows: np.ndarray, runs: _Runs) -> Iterator[tuple[np.ndarray, np.ndarray, np.ndarray]]:
    """``(numbers of runs, their frames (r, long), values there (r, long, n))``: curves of least degree through their sides.

    Runs of one length with the same frames beside them are worked out together.
    """
    offsets = np.where(runs.sides < 0, _NONE, np.clip(runs.sides - runs.first[:, None], -_NONE, _NONE))
    keys = runs.long + 0
    for column in offsets.T:
        keys = keys * (2 * _NONE + 1) + column + _NONE
    order = np.argsort(keys, kind="stable")
    for which in np.split(order, np.flatnonzero(np.diff(keys[order])) + 1):
        if not len(which):
            continue
        at = offsets[which[0]]
        at, long = at[np.abs(at) < _NONE], int(runs.long[which[0]])
        if len(at):
            frames = runs.first[which, None]
            known = rows[runs.channel[which, None], :, frames + at]
            yield (
                which,
                frames + np.arange(long),
                np.einsum("rpn,pl->rln", known, _shares(at.astype(float), np.arange(long))),
            )


def _steps(rows: np.ndarray, runs: _Runs, reach: int) -> np.ndarray:
    """How far values go from frame to frame around each run ``(runs, 2 * reach)``."""
    at = (runs.first + runs.long // 2)[:, None] + np.arange(-reach, reach + 1)
    near = rows[runs.channel[:, None], :, np.clip(at, 0, rows.shape[-1] - 1)]
    return np.sqrt(np.sum(np.diff(near, axis=1) ** 2, axis=2))


def _largest_step(rows: np.ndarray, runs: _Runs) -> np.ndarray:
    """How far values go at most from one frame of each run's sides to the next ``(runs,)``."""
    at = np.where(
        runs.sides < 0, runs.sides.max(axis=1, keepdims=True, initial=0), runs.sides
    )  # what is not there makes no step
    near = rows[runs.channel[:, None], :, np.sort(at, axis=1)]
    return np.sqrt(np.sum(np.diff(near, axis=1) ** 2, axis=2)).max(axis=1, initial=0.0)


def _shares(at: np.ndarray, wanted: np.ndarray) -> np.ndarray:
    """Shares ``(points, wanted)`` of values at ``at`` in those of the curve of least degree through them (Lagrange)."""
    shares = np.ones((len(at), len(wanted)))
    for i, own in enumerate(at):
        for j, other in enumerate(at):
            if i != j:
                shares[i] *= (wanted - other) / (own - other)
    return shares
