"""A motion rebuilt from few keys, and by how much it misses the dense one, on every frame."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..keys.sampler import Interpolation, Sampler
from .fitting import carried, grow, hermite

if TYPE_CHECKING:
    from .motion import Motion

Key = tuple[str, int]  # "rotation", "move" or "weight", and the number of a joint or a morph


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

    def rows(self, at: np.ndarray, turns: bool) -> np.ndarray:
        """Values ``(c, n)`` at frames ``at (n,)`` from the first to the last key."""
        if len(self.frames) < 2:
            return self.sampler.at(at, turns).T
        low = np.clip(np.searchsorted(self.frames, at, side="right") - 1, 0, len(self.frames) - 2)
        step = np.diff(self.frames)[low]
        head, tail, out, inner = (w[:, None] for w in hermite((at - self.frames[low]) / step))
        # As a sampler does it, in fewer steps: there are many curves.
        values = head * self.values[low] + tail * self.values[low + 1]
        values += out * (self.out[low] * step[:, None])
        values += inner * (self.inner[low + 1] * step[:, None])
        plain = np.flatnonzero(self.ways[low] != Interpolation.CUBICSPLINE)
        if len(plain):
            values[plain] = self.sampler.at(at[plain], turns)
        if turns:
            values /= np.sqrt(np.einsum("nc,nc->n", values, values))[:, None]
        return np.ascontiguousarray(values.T)

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


class Rebuilt:
    """What curves make of a motion: ``world``, ``places`` as there, for some ``joints`` (None: all) on frames ``at``.

    ``known``: another one of the same frames, of which all other joints are taken.
    """

    def __init__(
        self,
        motion: Motion,
        curves: Mapping[Key, Curve],
        at: np.ndarray | None = None,
        joints: Sequence[int] | None = None,
        known: Rebuilt | None = None,
    ) -> None:
        self.motion, self.at = motion, np.arange(motion.frames) if at is None else at
        self.joints = list(range(len(motion.skeleton))) if joints is None else list(joints)
        self.world: dict[int, np.ndarray] = {} if known is None else dict(known.world)
        self.places: dict[int, np.ndarray] = {} if known is None else dict(known.places)
        skeleton = motion.skeleton
        for joint in self.joints:
            parent = int(skeleton.parents[joint])
            local = self._rows(curves, ("rotation", joint))
            offset = self._rows(curves, ("move", joint)) if joint in motion.moves else skeleton.offsets[joint][:, None]
            if parent < 0:
                self.world[joint], self.places[joint] = local, np.broadcast_to(offset, (3, len(self.at)))
            else:
                self.world[joint] = rot.product_rows(self.world[parent], local)
                self.places[joint] = rot.rotate_rows(self.world[parent], np.broadcast_to(offset, (3, len(self.at))))
                self.places[joint] = self.places[joint] + self.places[parent]

    def part(self, which: np.ndarray, joints: Sequence[int]) -> Rebuilt:
        """Some joints on some of its frames, by a mask or their numbers."""
        made = Rebuilt.__new__(Rebuilt)
        made.motion, made.at, made.joints = self.motion, self.at[which], list(joints)
        made.world = {joint: self.world[joint][:, which] for joint in joints}
        made.places = {joint: self.places[joint][:, which] for joint in joints}
        return made

    def take(self, other: Rebuilt, which: np.ndarray, where: np.ndarray) -> None:
        """Take over what another one made: of its frames those of a mask, as frames ``where`` of this one."""
        for joint in other.joints:
            for mine, rows in ((self.world, other.world), (self.places, other.places)):
                if not mine[joint].flags.writeable:
                    mine[joint] = mine[joint].copy()
                mine[joint][:, where] = rows[joint][:, which]

    def _rows(self, curves: Mapping[Key, Curve], key: Key) -> np.ndarray:
        curve = curves.get(key)
        if curve is None:
            return rows_of(self.motion, key)[:, self.at]
        return curve.rows(self.at, key[0] == "rotation")

    def misses(self) -> np.ndarray:
        """The largest misses ``(4, frames)`` of its joints (see fitting.Fits)."""
        motion, at = self.motion, self.at
        worst = np.zeros((4, 1, len(at)))
        for joint in self.joints:
            look = motion.look(joint)
            look = look[at][None] if isinstance(look, np.ndarray) else look
            turn, dense = self.world[joint][:, None], motion.world[joint][:, None, at]
            away = (self.places[joint] - motion.places[joint][:, at])[:, None]
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
