"""Samplers, as glTF 2.0 means them (section 3.11 and appendix C): values at times, and how it goes on between them."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import IntEnum
from typing import TYPE_CHECKING, Any

import numpy as np

from .. import rotations as rot
from ..skeleton import Filled

if TYPE_CHECKING:
    from numpy.typing import ArrayLike


class Interpolation(IntEnum):
    """How an in-between goes: hold, straight, or smooth by tangents."""

    STEP = 0
    LINEAR = 1
    CUBICSPLINE = 2


@dataclass(frozen=True, eq=False)
class Sampler:
    """Keys of one channel.

    ``times (keys,)``: seconds, rising. ``values (keys, n)``. ``interpolation (keys - 1,)``: an Interpolation for each
    in-between, or one for all. ``tangents_in``, ``tangents_out (keys, n)``: change per second before and behind each
    key; None where no in-between is smooth. ValueError where they do not fit.
    """

    times: np.ndarray
    values: np.ndarray
    interpolation: Filled
    tangents_in: np.ndarray | None = None
    tangents_out: np.ndarray | None = None

    def __post_init__(self) -> None:
        put = object.__setattr__
        put(self, "times", np.asarray(self.times, float))
        put(self, "values", np.asarray(self.values, float))
        between = max(len(self.times) - 1, 0)
        ways = np.asarray(self.interpolation, np.int8)
        put(self, "interpolation", np.broadcast_to(ways, (between,)) if ways.ndim == 0 else ways)
        if self.times.ndim != 1 or self.values.ndim != 2 or not 0 < len(self.times) == len(self.values):
            raise ValueError("a sampler needs a value for each of its times")
        if (np.diff(self.times) < 0).any():
            raise ValueError("times must rise")
        if self.interpolation.shape != (between,):
            raise ValueError("an interpolation belongs to each in-between")
        smooth = bool((self.interpolation == Interpolation.CUBICSPLINE).any())
        for name in ("tangents_in", "tangents_out"):
            tangents = getattr(self, name)
            if tangents is not None:
                put(self, name, np.asarray(tangents, float))
                if getattr(self, name).shape != self.values.shape:
                    raise ValueError("tangents must be as many as values")
            elif smooth:
                raise ValueError("smooth in-betweens need tangents")

    def __len__(self) -> int:
        return len(self.times)

    @property
    def uniform(self) -> Interpolation | None:
        """The interpolation that all in-betweens have, LINEAR where there are none; None where they differ."""
        if not len(self.interpolation):
            return Interpolation.LINEAR
        first = self.interpolation[0]
        return Interpolation(int(first)) if (self.interpolation == first).all() else None

    @property
    def is_still(self) -> bool:
        """Whether the value never changes."""
        tangents = [t for t in (self.tangents_in, self.tangents_out) if t is not None]
        smooth = (self.interpolation == Interpolation.CUBICSPLINE).any()
        return bool((self.values == self.values[0]).all() and not (smooth and any(t.any() for t in tangents)))

    def at(self, times: ArrayLike, turns: bool = False) -> np.ndarray:
        """Values ``(m, n)`` at ``times (m,)``; before the first and after the last key they stand still.

        ``turns``: values are quaternions, which go the shorter way round and are of unit length afterwards.

        >>> Sampler([0.0, 2.0], [[0.0], [4.0]], Interpolation.LINEAR).at([-1.0, 0.5, 3.0])[:, 0].tolist()
        [0.0, 1.0, 4.0]
        """
        own, count = self.times, len(self.times)
        if np.size(times) == 1 and count > 2:
            return self._one(float(np.ravel(times)[0]), turns)[None]
        points = rot.normalise(self.values) if turns else self.values
        if np.array_equal(own, times):
            return points
        at = np.clip(np.asarray(times, float), own[0], own[-1])
        if count == 1:
            return np.repeat(points, len(at), 0)
        low = np.clip(np.searchsorted(own, at, side="right") - 1, 0, count - 2)
        step = own[low + 1] - own[low]
        share = np.divide(at - own[low], step, out=np.zeros(len(at)), where=step > 0)
        share[(step <= 0) & (at >= own[low + 1])] = 1.0
        result = points[low + (share >= 1)]
        between = (share > 0) & (share < 1)
        ways = self.interpolation[low]
        straight = np.flatnonzero(between & (ways == Interpolation.LINEAR))
        if len(straight):
            a, b, s = points[low[straight]], points[low[straight] + 1], share[straight]
            result[straight] = rot.slerp(a, b, s) if turns else a + (b - a) * s[:, None]
        smooth = np.flatnonzero(between & (ways == Interpolation.CUBICSPLINE))
        if len(smooth):
            curved = self._smooth(low[smooth], share[smooth, None], step[smooth, None])
            result[smooth] = rot.normalise(curved) if turns else curved
        return result

    def _one(self, time: float, turns: bool) -> np.ndarray:
        """The value ``(n,)`` at one time, as the stage asks for: of all keys only two matter, and few numbers are quickest plain."""
        own = self.times
        low = min(max(int(np.searchsorted(own, time, side="right")) - 1, 0), len(own) - 2)
        start, step = float(own[low]), float(own[low + 1] - own[low])
        share = min(max((time - start) / step, 0.0), 1.0) if step > 0 else float(time > start)
        way = int(self.interpolation[low])
        if share in (0.0, 1.0) or way == Interpolation.STEP:
            value = self.values[low + (share == 1.0)]
        elif way == Interpolation.LINEAR:
            first, second = self.values[low : low + 2]
            if turns:
                return rot.slerp(rot.normalise(first)[None], rot.normalise(second)[None], np.array([share]))[0]
            value = first + (second - first) * share
        else:
            assert self.tangents_in is not None and self.tangents_out is not None  # see __post_init__
            head, tail, out, inner = hermite(share)
            value = (
                head * self.values[low]
                + tail * self.values[low + 1]
                + out * step * self.tangents_out[low]
                + inner * step * self.tangents_in[low + 1]
            )
        return rot.normalise(value) if turns else value

    def _smooth(self, low: np.ndarray, s: np.ndarray, step: np.ndarray) -> np.ndarray:
        assert self.tangents_in is not None and self.tangents_out is not None  # see __post_init__
        head, tail, out, inner = hermite(s)
        return (
            head * self.values[low]
            + tail * self.values[low + 1]
            + out * step * self.tangents_out[low]
            + inner * step * self.tangents_in[low + 1]
        )

    def stretched(self, factor: float) -> Sampler:
        """All times multiplied by a factor above zero; slopes become as much flatter."""
        inner, outer = (None if t is None else t / factor for t in (self.tangents_in, self.tangents_out))
        return replace(self, times=self.times * factor, tangents_in=inner, tangents_out=outer)

    def moved(self, matrix: np.ndarray, shift: ArrayLike = 0.0) -> Sampler:
        """Values ``v (n,)`` become ``matrix (n, n) @ v + shift``, and all that lies between them with them.

        Exact for any interpolation where the map is affine; for quaternions where ``matrix`` is orthogonal.
        """
        if not np.any(shift) and np.array_equal(matrix, np.eye(len(matrix))):
            return self
        inner, outer = (None if t is None else t @ matrix.T for t in (self.tangents_in, self.tangents_out))
        return replace(self, values=self.values @ matrix.T + shift, tangents_in=inner, tangents_out=outer)


def still(value: ArrayLike, time: float = 0.0) -> Sampler:
    """A sampler of one key."""
    return Sampler(np.array([time]), np.asarray(value, float)[None], np.zeros(0, np.int8))


def hermite(share: Any) -> tuple[Any, Any, Any, Any]:
    """The weights of the first value, the last value, the tangent out and the tangent in, at a share of an in-between, or an
    array of them.
    """
    square = share * share
    cube = square * share
    end = 3 * square - 2 * cube
    return 1 - end, end, cube - 2 * square + share, cube - square
