"""Runs of frames in channels, and smooth ways over them."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np

_NONE = 15  # frames: what is farther from a run tells nothing of it


@dataclass(frozen=True, eq=False)
class Runs:
    """Runs of frames in some channels: ``channel``, ``first`` and ``long (runs,)``; ``sides (runs, 4)``: the good frames
    around each, two before and two behind, -1 where there is none.
    """

    channel: np.ndarray
    first: np.ndarray
    long: np.ndarray
    sides: np.ndarray

    @staticmethod
    def of(bad: np.ndarray) -> Runs:
        """The runs of true values of a mask ``(channels, frames)``."""
        channels, frames = bad.shape
        wide = frames + 2  # so that what is looked for beyond an end lies between two channels
        flat = np.zeros(channels * wide + 2, bool)
        flat[: channels * wide].reshape(channels, wide)[:, :frames] = bad
        at = np.flatnonzero(flat)
        new = np.diff(at, prepend=-2) > 1
        starts, ends = at[new], at[np.append(new[1:], True)[: len(at)]]
        # The second good frame: beyond the next run, where that is only one frame away.
        second = np.where(flat[starts - 2], np.roll(starts, 1) - 1, starts - 2)
        fourth = np.where(flat[ends + 2], np.roll(ends, -1) + 1, ends + 2)
        sides = np.stack([second, starts - 1, ends + 1, fourth], axis=1)
        channel = starts // wide
        sides -= (channel * wide)[:, None]
        there = (sides >= 0) & (sides < frames)
        return Runs(channel, starts - channel * wide, ends - starts + 1, np.where(there, sides, -1))

    def picked(self, keep: np.ndarray) -> Runs:
        """Some of the runs (a mask, or numbers)."""
        return Runs(self.channel[keep], self.first[keep], self.long[keep], self.sides[keep])

    @property
    def cells(self) -> tuple[np.ndarray, np.ndarray]:
        """Channels and frames of all that is in them, one run after the other."""
        before = np.cumsum(self.long) - self.long
        return np.repeat(self.channel, self.long), np.repeat(self.first - before, self.long) + np.arange(
            int(self.long.sum())
        )

    def mask(self, shape: tuple[int, ...]) -> np.ndarray:
        """Their frames as a mask ``(channels, frames)``."""
        out = np.zeros(shape, bool)
        out[self.cells] = True
        return out

    def bridge(self, rows: np.ndarray) -> None:
        """Write curves of least degree through their sides over the runs, into ``rows (channels, n, frames)``."""
        away = self.sides - self.first[:, None]
        there = (self.sides >= 0) & (np.abs(away) < _NONE)
        known = values_at(rows, self.channel, np.where(there, self.sides, 0))
        for frame in range(int(self.long.max(initial=0))):
            which = np.flatnonzero((self.long > frame) & there.any(axis=1))
            way = np.einsum("rnp,rp->rn", known[which], _shares(away[which], there[which], frame))
            put_at(rows, self.channel[which], self.first[which, None] + frame, way[..., None])


def values_at(rows: np.ndarray, channel: np.ndarray, frames: np.ndarray) -> np.ndarray:
    """Values ``(runs, n, k)`` of ``rows (channels, n, frames)`` at k ``frames (runs, k)`` of a ``channel (runs,)``."""
    return rows.reshape(-1).take(_numbers(rows.shape, channel, frames))  # far quicker than by three indices


def put_at(rows: np.ndarray, channel: np.ndarray, frames: np.ndarray, values: np.ndarray) -> None:
    """Write ``values (runs, n, k)`` into ``rows``, which lie in one piece; see ``values_at``."""
    rows.reshape(-1)[_numbers(rows.shape, channel, frames)] = values


def _numbers(shape: tuple[int, ...], channel: np.ndarray, frames: np.ndarray) -> np.ndarray:
    """The numbers of values in rows that lie in one piece ``(runs, n, k)``."""
    _, n, count = shape
    return (channel * (n * count))[:, None, None] + (np.arange(n) * count)[:, None] + frames[:, None]


def _shares(at: np.ndarray, there: np.ndarray, wanted: int) -> np.ndarray:
    """Shares ``(runs, points)`` of values ``at (runs, points)``, of those that are ``there``, in the value at ``wanted`` of the
    curve of least degree through them (Lagrange).
    """
    shares = there.astype(float)
    for i, j in itertools.permutations(range(at.shape[1]), 2):
        apart = np.where(there[:, j] & there[:, i], at[:, i] - at[:, j], 1)
        shares[:, i] *= np.where(there[:, j], (wanted - at[:, j]) / apart, 1.0)
    return shares
