"""Curves between two poses, fitted to the dense motion between them.

An in-between is a cubic Hermite spline in each component (glTF 2.0, appendix C), whose values at both ends are those of the
dense motion and whose two tangents are fitted by least squares. Joints are fitted from the hips outwards, each to where it
would have to turn for its own direction, and its children's places, to come out right after what its parents miss already.
Times are shares of the in-between, so tangents are changes over its whole length.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..keys.sampler import hermite

if TYPE_CHECKING:
    from .motion import Motion, Share

OVER = 1e30  # a miss that is over some bound; finite, since some tolerances are not
_LOOKED = 10  # joints after which in-betweens that miss are let go
_WORTH_IT = 0.8  # of the in-betweens: where no more are left than that, those are put together
_CHUNK = 6000  # frames that are worked on together: as many as the processor's cache holds


@dataclass(frozen=True, eq=False)
class Fits:
    """``misses (4, samples, in-betweens)``: the largest in the world of any place (metres), turn (radians), planted point
    (metres) and weight. ``tangents {("rotation" | "move" | "weight", number): (out, in) (2, n, in-betweens)}``, where asked for.
    """

    misses: np.ndarray
    tangents: dict[tuple[str, int], np.ndarray]


def samples(first: np.ndarray, last: np.ndarray, most: int) -> np.ndarray:
    """Frames ``(most, in-betweens)`` within each in-between at which its fit shows where it misses most."""
    # Residuals of such fits to smooth motion are largest near 0.12, 0.5 and 0.88 and zero near 0.31 and 0.69.
    share = 0.5 - 0.5 * np.cos(np.pi * (np.arange(most) + 1.15) / (most + 1.3))
    return np.clip(first + np.rint(share[:, None] * (last - first)).astype(int), first + 1, last - 1)


def every_frame(first: np.ndarray, last: np.ndarray) -> np.ndarray:
    """All frames within in-betweens ``(longest, in-betweens)``; the last one again where one is shorter than others."""
    longest = max(int((last - first).max(initial=1)) - 1, 1)
    return np.minimum(first + 1 + np.arange(longest)[:, None], last)


def fit(
    motion: Motion,
    first: np.ndarray,
    last: np.ndarray,
    frames: np.ndarray,
    weights: np.ndarray | None = None,
    tangents: bool = False,
    bound: np.ndarray | None = None,
) -> Fits:
    """Fit in-betweens from frames ``first (n,)`` to ``last (n,)`` to what is at ``frames (samples, n)``.

    ``weights (samples, n)``: how much each sample counts. ``bound (4,)``: of in-betweens that miss more, no more may be worked
    out than that; their misses are ``OVER`` then.
    """
    most, count = frames.shape
    step = max(_CHUNK // max(most, 1), 1)
    misses = np.empty((4, most, count), motion.local.dtype)
    found: list[dict[tuple[str, int], np.ndarray]] = []
    bare = motion.bare
    for start in range(0, count, step):
        part = slice(start, start + step)
        one = _Fit(
            motion,
            first[part],
            last[part],
            frames[:, part],
            None if weights is None else weights[:, part],
            tangents,
            bare,
        )
        misses[:, :, part] = one.run(bound)
        found.append(one.tangents)
    keys = found[0] if found else {}
    return Fits(misses, {key: np.concatenate([f[key] for f in found], -1) for key in keys})


class _Fit:
    """One chunk of in-betweens."""

    def __init__(
        self,
        motion: Motion,
        first: np.ndarray,
        last: np.ndarray,
        frames: np.ndarray,
        weights: np.ndarray | None,
        tangents: bool,
        bare: np.ndarray,
    ) -> None:
        self.motion, self.first, self.last, self.bare = motion, first, last, bare
        self.at, self._count = frames, frames.shape[1]
        kind = motion.local.dtype
        share = ((frames - first) / (last - first)).astype(kind)
        self.head, self.tail, out, inner = hermite(share)
        self.basis = out, inner
        self.solving = _solving(out, inner, weights)
        self.wants, self.tangents = tangents, {}

    def run(self, bound: np.ndarray | None = None) -> np.ndarray:
        """The misses ``(4, samples, in-betweens)``. ``bound (4,)``: what is found to miss more on the way is let go, as ``OVER``."""
        motion, alive = self.motion, np.arange(self.at.shape[1])
        squares = None if bound is None else _squares(bound).astype(motion.local.dtype)[:, None, None]
        worst = np.zeros((4, *self.at.shape), motion.local.dtype)
        turns: dict[int, np.ndarray] = {}
        places: dict[int, np.ndarray] = {}
        for joint in range(len(motion.skeleton)):
            self._joint(joint, turns, places, worst)
            if squares is None or (joint + 1) % _LOOKED:
                continue
            good: np.ndarray = np.all(worst <= squares, axis=(0, 1))
            if good.sum() < _WORTH_IT * len(good):
                alive, worst = alive[good], worst[..., good]
                self._keep(good)
                for rows in (turns, places):
                    for known in rows:
                        rows[known] = rows[known][..., good]
        if motion.driven is not None:
            motion.driven.grow(self.at, places, worst)
        self._weights(worst)
        if worst.shape[-1] == self._count:
            return _told(worst)
        result = np.full((4, len(worst[0]), self._count), OVER, worst.dtype)
        result[..., alive] = _told(worst)
        return result

    def _joint(
        self, joint: int, turns: dict[int, np.ndarray], places: dict[int, np.ndarray], worst: np.ndarray
    ) -> None:
        motion, parent = self.motion, int(self.motion.skeleton.parents[joint])
        above = turns[parent] if parent >= 0 else None
        place = places[joint] = self._place(joint, parent, above, places)
        away = place - self._taken(motion.places[joint])
        grow(worst[0], away, self._look(joint))
        if self.bare[joint]:
            if self.wants:
                self.tangents["rotation", joint] = self._none()
            return
        dense = self._taken(motion.world[joint])
        turn = self._turn(joint, above, dense, away)
        if above is None or not motion.still[joint] or motion.looks:  # else it is off as what it hangs on
            grow(worst[1], turn - dense, self._look(joint))
        self._ends(joint, away, turn, dense, worst)
        turns[joint] = turn

    def _weights(self, worst: np.ndarray) -> None:
        motion = self.motion
        for number in range(len(motion.weights)):
            if motion.thinned_morphs[number]:
                rows = motion.weights[number][None]
                away = self._curve(rows, self._taken(rows), ("weight", number)) - self._taken(rows)
                grow(worst[3], away, self._look(len(motion.skeleton) + number))

    def _keep(self, which: np.ndarray) -> None:
        """Go on with some of the in-betweens only."""
        self.first, self.last, self.at = self.first[which], self.last[which], self.at[:, which]
        self.head, self.tail = self.head[:, which], self.tail[:, which]
        self.basis = self.basis[0][:, which], self.basis[1][:, which]
        self.solving = self.solving[0][:, which], self.solving[1][:, which]

    def _taken(self, rows: np.ndarray) -> np.ndarray:
        return np.take(rows, self.at, axis=-1, mode="clip")  # which is twice as quick as looking whether they fit

    def _look(self, number: int) -> Share:
        look = self.motion.look(number)
        return look[self.at] if isinstance(look, np.ndarray) else look

    def _place(self, joint: int, parent: int, above: np.ndarray | None, places: dict[int, np.ndarray]) -> np.ndarray:
        motion = self.motion
        if joint in motion.moves:
            rows = motion.moves[joint]
            offset = self._taken(rows)
            if motion.thinned[joint]:
                offset = self._curve(rows, offset, ("move", joint))
        else:
            offset = motion.skeleton.offsets[joint].astype(motion.local.dtype)[:, None, None]
        if above is None:
            return np.broadcast_to(offset, (3, *self.at.shape))
        place = rot.rotate_rows(above, offset)
        place += places[parent]
        return place

    def _wanted(self, joint: int, dense: np.ndarray, away: np.ndarray) -> np.ndarray:
        """Where a joint would have to turn: as in the dense motion, and towards where its children are there."""
        motion = self.motion
        share = float(motion.shares[joint])
        if share < 1e-3 or joint == 0:
            return dense
        pull = motion.pulls[joint]
        ux, uy, uz = self._taken(motion.pulled[joint])
        x, y, z = away
        half = motion.local.dtype.type(-0.5 * share / float(pull @ pull))
        turn = np.empty_like(dense)
        turn[0], turn[1], turn[2], turn[3] = (
            (uy * z - uz * y) * half,
            (uz * x - ux * z) * half,
            (ux * y - uy * x) * half,
            1,
        )
        return rot.product_rows(turn, dense, np.empty_like(dense))

    def _turn(self, joint: int, above: np.ndarray | None, dense: np.ndarray, away: np.ndarray) -> np.ndarray:
        motion = self.motion
        if motion.still[joint]:
            local = motion.local[joint][:, :1, None]
            if self.wants:
                self.tangents["rotation", joint] = self._none()
            local = np.broadcast_to(local, dense.shape)
        elif not motion.thinned[joint]:
            local = self._taken(motion.local[joint])
        else:
            wanted = self._wanted(joint, dense, away)
            if above is None:
                target = wanted
            else:
                back = np.negative(above)
                back[3] = above[3]
                target = rot.product_rows(back, wanted, np.empty_like(wanted))
            local = self._curve(motion.local[joint], target, ("rotation", joint))
            local /= np.sqrt(np.einsum("csn,csn->sn", local, local))
        return local if above is None else rot.product_rows(above, local, np.empty_like(local))

    def _none(self) -> np.ndarray:
        """The tangents of what does not turn."""
        return np.zeros((2, 4, len(self.first)), self.motion.local.dtype)

    def _ends(self, joint: int, away: np.ndarray, turn: np.ndarray, dense: np.ndarray, worst: np.ndarray) -> None:
        """The misses of a bone's tip, and of points that stand."""
        motion = self.motion
        kind = motion.local.dtype
        tip = motion.skeleton.tips[joint]
        if np.isfinite(tip).all() and np.any(tip):
            grow(worst[0], carried(tip.astype(kind), away, turn, dense), self._look(joint))
        for offset, stands in motion.planted.get(joint, ()):
            mask = stands[self.at]
            if mask.any():
                grow(worst[2], carried(offset, away, turn, dense), mask)

    def _curve(self, rows: np.ndarray, target: np.ndarray, key: tuple[str, int]) -> np.ndarray:
        """The spline that starts and ends on ``rows (c, frames)`` and is fitted to ``target (c, samples, in-betweens)``."""
        start, end = rows[:, None, self.first], rows[:, None, self.last]
        result = self.head * start
        result += self.tail * end
        residual = target - result
        out, inner = (np.einsum("csn,sn->cn", residual, way) for way in self.solving)
        if self.wants:
            self.tangents[key] = np.stack([out, inner])
        result += self.basis[0] * out[:, None]
        result += self.basis[1] * inner[:, None]
        return result


def _squares(misses: np.ndarray) -> np.ndarray:
    """The other way round than ``_told``."""
    squares = np.square(np.asarray(misses, float))
    squares[1] = (2 * np.sin(min(misses[1] / 4, np.pi / 2))) ** 2
    return squares


def _told(squares: np.ndarray) -> np.ndarray:
    """Misses of their squares, those of turns of the squared chords between quaternions."""
    np.sqrt(squares, out=squares)
    squares[1] = 4 * np.arcsin(np.minimum(squares[1] / 2, 1))
    return squares


def grow(worst: np.ndarray, away: np.ndarray, look: Share) -> None:
    """Let squares of misses ``(s, n)`` grow to those of ``away (c, s, n)``."""
    square = np.einsum("csn,csn->sn", away, away)
    if not (isinstance(look, float) and look == 1.0):
        square = square * (np.square(look) if np.asarray(look).dtype != bool else look)
    np.maximum(worst, square, out=worst)


def carried(offset: np.ndarray, away: np.ndarray, turn: np.ndarray, dense: np.ndarray) -> np.ndarray:
    """By how much a point of a joint's own axes is missed."""
    column = offset[:, None, None]
    result = rot.rotate_rows(turn, column)
    result -= rot.rotate_rows(dense, column)
    result += away
    return result


def _solving(out: np.ndarray, inner: np.ndarray, weights: np.ndarray | None) -> tuple[np.ndarray, np.ndarray]:
    """What residuals ``(s, n)`` are to be multiplied by, and added up, for the tangents out and in: the normal equations.

    Where samples can't tell both tangents apart, the smallest that fit.
    """
    wide = out.astype(float), inner.astype(float)
    heavy = wide if weights is None else (wide[0] * weights, wide[1] * weights)
    a, b, c = (np.einsum("sn,sn->n", heavy[i], wide[k]) for i, k in ((0, 0), (0, 1), (1, 1)))
    # A little of nothing keeps what the samples do not tell small (ridge regression).
    ridge = 1e-7 * (a + c) + 1e-12
    a, c = a + ridge, c + ridge
    scale = 1 / (a * c - b * b)
    first = c * scale * heavy[0] - b * scale * heavy[1]
    second = a * scale * heavy[1] - b * scale * heavy[0]
    return first.astype(out.dtype), second.astype(out.dtype)
