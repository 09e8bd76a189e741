"""A motion rebuilt from few keys, and by how much it misses the dense one, on every frame."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..keys.sampler import Interpolation, Sampler, hermite
from .fitting import carried, grow

if TYPE_CHECKING:
    from .motion import Motion

Rows = Sequence[np.ndarray] | np.ndarray
Key = tuple[str, int]  # "rotation", "move" or "weight", and the number of a joint or a morph


@dataclass(frozen=True, eq=False)
class Among:
    """Frames among keys: ``low (n,)``: the number of the key before each; ``steps (k - 1,)``: frames between keys; the shares
    ``head``, ``tail``, ``out`` and ``inner (n,)`` of values and tangents on both sides.

    ``counts (k - 1,)``: how many come after each key, where they are in order.
    """

    low: np.ndarray
    steps: np.ndarray
    head: np.ndarray
    tail: np.ndarray
    out: np.ndarray
    inner: np.ndarray
    counts: np.ndarray | None

    @staticmethod
    def of(frames: np.ndarray, at: np.ndarray) -> Among:
        """Frames ``at (n,)`` among those of two keys and more."""
        low = np.clip(np.searchsorted(frames, at, side="right") - 1, 0, len(frames) - 2)
        steps = np.diff(frames)
        ordered = bool(np.all(low[1:] >= low[:-1]))
        counts = np.bincount(low, minlength=len(steps)) if ordered else None
        return Among(low, steps, *hermite((at - frames[low]) / steps[low]), counts)

    def taken(self, rows: np.ndarray) -> np.ndarray:
        """Of ``rows (c, k - 1)``, one of each in-between, those of all frames ``(c, n)``."""
        # Runs are copied in half the time that picking takes.
        return np.take(rows, self.low, axis=1) if self.counts is None else np.repeat(rows, self.counts, axis=1)


@dataclass(frozen=True, eq=False)
class Curve:
    """Keys of one thing: ``frames (k,)``, ``values (k, c)``, ``out`` and ``inner (k, c)``: tangents per frame, behind and
    before each key; ``ways (k - 1,)``: an Interpolation each.
    """

    frames: np.ndarray
    values: np.ndarray
    out: np.ndarray
    inner: np.ndarray
    ways: np.ndarray

    @property
    def sampler(self) -> Sampler:
        """With times in frames."""
        return Sampler(self.frames, self.values, self.ways, self.inner, self.out)

    def rows(self, at: np.ndarray, turns: bool, among: Among | None = None) -> np.ndarray:
        """Values ``(c, n)`` at frames ``at (n,)`` from the first to the last key. ``among``: where they lie, if that is known."""
        if len(self.frames) < 2:
            return self.sampler.at(at, turns).T
        among = among or Among.of(self.frames, at)
        # As a sampler does it, in fewer steps: there are many curves.
        values, step = self.values.T, among.steps
        rows = among.head * among.taken(values[:, :-1])
        rows += among.tail * among.taken(values[:, 1:])
        rows += among.out * among.taken(self.out[:-1].T * step)
        rows += among.inner * among.taken(self.inner[1:].T * step)
        plain = np.flatnonzero(self.ways[among.low] != Interpolation.CUBICSPLINE)
        if len(plain):
            rows[:, plain] = self.sampler.at(at[plain], turns).T
        if turns:
            rows /= np.sqrt(np.einsum("cn,cn->n", rows, rows))
        return rows

    def picked(self, which: np.ndarray, ways: np.ndarray) -> Curve:
        """Some of the keys."""
        return Curve(self.frames[which], self.values[which], self.out[which], self.inner[which], ways)

    def with_tangents(self, out: np.ndarray, inner: np.ndarray) -> Curve:
        return replace(self, out=out, inner=inner)


def rows_of(motion: Motion, key: Key) -> np.ndarray:
    """The dense rows ``(c, frames)`` that a curve is of."""
    kind, number = key
    if kind == "weight":
        return motion.weights[number][None]
    return motion.local[number] if kind == "rotation" else motion.moves[number]


class RowsAt:
    """Rows of what curves are of, at frames ``at (n,)`` of a motion."""

    def __init__(self, motion: Motion, curves: Mapping[Key, Curve], at: np.ndarray) -> None:
        self._motion, self._curves, self._at = motion, curves, at
        self._among: dict[bytes, Among] = {}

    def of(self, key: Key) -> np.ndarray:
        """``(c, n)``; those of the dense motion where there is no curve."""
        curve = self._curves.get(key)
        if curve is None:
            return rows_of(self._motion, key)[:, self._at]
        return curve.rows(self._at, key[0] == "rotation", self._where(curve.frames))

    def _where(self, frames: np.ndarray) -> Among | None:
        if len(frames) < 2:
            return None
        known = frames.tobytes()  # many curves have their keys on the same frames
        if known not in self._among:
            self._among[known] = Among.of(frames, self._at)
        return self._among[known]


class Rebuilt:
    """What curves make of a motion, on frames ``at`` (None: all): ``world`` and ``places`` of each joint, as there."""

    def __init__(
        self,
        motion: Motion,
        curves: Mapping[Key, Curve],
        at: np.ndarray | None = None,
    ) -> None:
        self.motion, self.at = motion, np.arange(motion.frames) if at is None else at
        rows = RowsAt(motion, curves, self.at)
        self.local: list[np.ndarray] = []
        self.world: list[np.ndarray] = []
        self.places: list[np.ndarray] = []
        skeleton = motion.skeleton
        for joint, parent in enumerate(skeleton.parents.tolist()):
            local = rows.of(("rotation", joint))
            offset = rows.of(("move", joint)) if joint in motion.moves else skeleton.offsets[joint][:, None]
            offset = np.broadcast_to(offset, (3, len(self.at)))
            self.local.append(local)
            if parent < 0:
                self.world.append(local)
                self.places.append(offset)
            else:
                self.world.append(rot.product_rows(self.world[parent], local))
                self.places.append(rot.rotate_rows(self.world[parent], offset) + self.places[parent])

    def misses(self) -> np.ndarray:
        """The largest misses ``(4, frames)`` of all joints (see fitting.Fits)."""
        return misses_of(self.motion, self.world, self.places, self.at)


def misses_of(motion: Motion, world: Rows, places: Rows, at: np.ndarray) -> np.ndarray:
    """The largest misses ``(4, n)`` of rotations and positions in the world of each joint, at the frames ``at (n,)`` of a motion."""
    worst = np.zeros((4, 1, len(at)))
    every: slice | np.ndarray = slice(None) if np.array_equal(at, np.arange(motion.frames)) else at
    for joint in range(len(motion.skeleton)):
        look = motion.look(joint)
        look = look[at][None] if isinstance(look, np.ndarray) else look
        turn, dense = world[joint][:, None], motion.world[joint][:, None, every]
        away = (places[joint] - motion.places[joint][:, every])[:, None]
        grow(worst[0], away, look)
        grow(worst[1], turn - dense, look)
        tip = motion.skeleton.tips[joint]
        if np.isfinite(tip).all() and np.any(tip):
            grow(worst[0], carried(tip, away, turn, dense), look)
        for offset, stands in motion.planted.get(joint, ()):
            grow(worst[2], carried(offset, away, turn, dense), stands[at][None])
    result = np.sqrt(worst[:, 0])
    result[1] = 4 * np.arcsin(np.minimum(result[1] / 2, 1))
    return result


def weight_misses(motion: Motion, curves: Mapping[Key, Curve]) -> np.ndarray:
    """By how much the weights of all morphs are missed at most ``(frames,)``."""
    worst = np.zeros(motion.frames)
    for (kind, number), curve in curves.items():
        if kind == "weight":
            away = np.abs(curve.rows(np.arange(motion.frames), False)[0] - motion.weights[number])
            np.maximum(worst, away * motion.look(len(motion.skeleton) + number), out=worst)
    return worst


def inside(first: np.ndarray, last: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """``(frames inside of stretches, end to end; the number of the stretch of each)``."""
    lengths = last - first - 1
    owner = np.repeat(np.arange(len(first)), lengths)
    within = np.arange(lengths.sum()) - np.repeat(np.cumsum(lengths) - lengths, lengths)
    return first[owner] + 1 + within, owner
