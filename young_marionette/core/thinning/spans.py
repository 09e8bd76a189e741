"""How much curves between any two frames of a motion would miss, worked out where somebody asks, and remembered."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from .fitting import OVER, Fits, every_frame, fit, samples
from .tolerances import Tolerances

if TYPE_CHECKING:
    from .motion import Motion

LONGEST = 600  # frames of an in-between
_SAMPLES, _MORE = 5, 9  # of an in-between in the search; of one in a short motion
SHORT = 1500  # frames of a motion that can be looked at more closely
_CHECKED = 0.03  # of a sample's weight: samples that are there to be looked at, not to be fitted to
SURE = 0.999  # of the tolerance, for what rounding may add
_ROUNDS, _LEAST = 3, 0.02  # of weighing anew, and the least that a sample counts then
# Powers of the misses by which samples weigh: so few rounds come nearer with more than the first.
_SHARPER = (1.5, 1.3, 1.0)
_FEW = 6000  # frames in all that are fitted together, however long their in-betweens are
_HOPEFUL, _LAST_HOPE = (
    1.7,
    1.2,
)  # times the tolerance: what misses more does not come within it by a closer fit, or by one more
_USUAL = Tolerances().all
_FILLED = 64  # frames of in-betweens that are worked out beforehand


class Spans:
    """Estimates for a search: of an in-between, the largest misses (see fitting.Fits) at a few of its frames."""

    def __init__(self, motion: Motion) -> None:
        self.motion = motion
        self._rough = _Rough(roughness(motion.promised))
        self._table = np.full((4, motion.frames, 33), np.nan, np.float32)
        self._bound: tuple[float, ...] = ()

    def misses(self, first: np.ndarray, last: np.ndarray, bound: np.ndarray | None = None) -> np.ndarray:
        """``(4, n)`` of the in-betweens from ``first (n,)`` to ``last (n,)``; ``OVER`` where over a ``bound (4,)``."""
        length = last - first
        self._make_room(int(length.max(initial=1)))
        asked = () if bound is None else tuple(bound.tolist())
        if asked != self._bound:  # what was over others may be within these
            self._table[self._table == np.float32(OVER)] = np.nan
            self._bound = asked
        known = self._table[:, first, length]
        todo = np.flatnonzero(np.isnan(known[0]))
        if len(todo):
            known[:, todo] = self._worked_out(first[todo], last[todo], bound)
            self._table[:, first[todo], length[todo]] = known[:, todo]
        return known

    def fill(self, step: Callable[[], None]) -> None:
        """Work out all in-betweens of a short motion, up to some length."""
        for length in range(2, min(_FILLED, self.motion.frames - 1) + 1):
            first = np.arange(self.motion.frames - length)
            self.misses(first, first + length)
            step()

    def _worked_out(self, first: np.ndarray, last: np.ndarray, bound: np.ndarray | None) -> np.ndarray:
        found = np.zeros((4, len(first)), np.float32)
        longer = np.flatnonzero(last - first > 1)  # both frames of two that follow each other are keys
        if len(longer):
            first, last = first[longer], last[longer]
            found[:, longer] = fit(self.motion, first, last, *self._samples(first, last), bound=bound).misses.max(
                axis=1
            )
        return found

    def _samples(self, first: np.ndarray, last: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Frames ``(samples, n)`` where smooth motion is missed most, and on both sides of where this one is roughest; and
        how much each one weighs. Of short in-betweens, every frame.
        """
        rough = self._rough.worst(first + 1, last - 1)
        usual = samples(first, last, _MORE if self.motion.frames <= SHORT else _SAMPLES)
        found = np.concatenate([usual, [rough, np.minimum(rough + 1, last - 1)]])
        every = np.minimum(first + 1 + np.arange(len(found))[:, None], last)
        short = last - first <= len(found) + 1
        weights = np.ones(found.shape)
        weights[len(usual) :, ~short] = _CHECKED
        return np.where(short, every, found), weights

    def _make_room(self, length: int) -> None:
        have = self._table.shape[-1]
        if length >= have:
            more = max(length + 1 - have, have // 2)
            empty = np.full((*self._table.shape[:2], more), np.nan, np.float32)
            self._table = np.concatenate([self._table, empty], axis=-1)


def roughness(motion: Motion) -> np.ndarray:
    """How far each frame ``(frames,)`` is from lying between its neighbours: the largest of any rotation and place."""
    result = np.zeros(motion.frames)
    for rows, scale in ((motion.world, 1.0), (motion.places, 10.0)):
        bend = rows[..., :-2] - 2 * rows[..., 1:-1] + rows[..., 2:]
        np.maximum(result[1:-1], scale * np.sqrt(np.einsum("jcf,jcf->jf", bend, bend).max(axis=0)), out=result[1:-1])
    return result


class _Rough:
    """The roughest frame of any stretch, at once (a sparse table, Bender and Farach-Colton 2000)."""

    def __init__(self, values: np.ndarray) -> None:
        self._values, self._levels = values, [np.arange(len(values))]
        while len(self._levels) < 10 and (half := 1 << (len(self._levels) - 1)) * 2 <= len(values):
            below = self._levels[-1]
            a, b = below[: len(below) - half], below[half:]
            self._levels.append(np.where(values[a] >= values[b], a, b))

    def worst(self, first: np.ndarray, last: np.ndarray) -> np.ndarray:
        """The frames of the largest values from ``first (n,)`` to ``last (n,)``, both included."""
        level = np.minimum(np.log2(np.maximum(last - first + 1, 1)).astype(int), len(self._levels) - 1)
        result = np.empty_like(first)
        for one in np.unique(level):
            at = np.flatnonzero(level == one)
            rows = self._levels[one]
            a, b = rows[first[at]], rows[np.maximum(last[at] - (1 << one) + 1, first[at])]
            result[at] = np.where(self._values[a] >= self._values[b], a, b)
        return result


def over(misses: np.ndarray, tolerances: np.ndarray) -> np.ndarray:
    """The largest of misses ``(4, ...)``, as shares of their tolerances ``(4,)``."""
    shape = (4, *(1,) * (misses.ndim - 1))
    return (misses / tolerances.astype(misses.dtype).reshape(shape)).max(axis=0)  # type: ignore[no-any-return]


def closer(
    motion: Motion, first: np.ndarray, last: np.ndarray, frames: np.ndarray, tolerances: np.ndarray
) -> Iterator[tuple[np.ndarray, Fits]]:
    """``(which of the in-betweens (m,), their fits)``: of all, then of those that are not close enough and not hopeless, each fit closer
    where the last one missed most.

    Samples weigh as much as they missed (C. L. Lawson 1961, for least squares that come near the least maximum).
    """
    weights, which = np.ones(frames.shape), np.arange(len(first))
    for hope, sharper in zip((_HOPEFUL, *[_LAST_HOPE] * (_ROUNDS - 1)), _SHARPER, strict=True):
        fits = fit(motion, first[which], last[which], frames[:, which], weights, True)
        yield which, fits
        missed = over(fits.misses, tolerances)
        most = missed.max(axis=0)
        weights = weights * ((missed / np.maximum(most, 1e-12)) ** sharper + _LEAST)
        weights /= weights.mean(axis=0)
        far = (most > SURE) & (most < hope)
        which, weights = which[far], weights[:, far]
        if not len(which):
            return


@dataclass(frozen=True, eq=False)
class Between:
    """An in-between as it is: ``misses (4,)``, and tangents ``{key: (out, in) (2, c)}`` over its whole length.

    ``worst``: the frame that it misses most; ``tried``: for which tolerances it was fitted closer.
    """

    misses: np.ndarray
    worst: int
    tangents: dict[tuple[str, int], np.ndarray]
    tried: tuple[float, ...] = ()


class Betweens:
    """In-betweens fitted to every frame, and remembered."""

    def __init__(self, motion: Motion) -> None:
        self.motion = motion
        self._known: dict[tuple[int, int], Between] = {}

    def of(self, first: np.ndarray, last: np.ndarray, tolerances: np.ndarray | None) -> list[Between]:
        """The in-betweens from ``first (n,)`` to ``last (n,)``, within the tolerances where they can be (None: as they are)."""
        pairs = list(zip(first.tolist(), last.tolist()))
        asked = () if tolerances is None else tuple(tolerances.tolist())

        def is_open(pair: tuple[int, int]) -> bool:
            """Whether it is not fitted yet, or could come closer."""
            known = self._known.get(pair)
            if known is None or tolerances is None:
                return known is None
            return bool(known.tried != asked and 1 < over(known.misses, tolerances) < _HOPEFUL)

        todo = np.array([is_open(pair) for pair in pairs], bool)
        self._fit(first[todo], last[todo], tolerances)
        return [self._known[pair] for pair in pairs]

    def _fit(self, first: np.ndarray, last: np.ndarray, tolerances: np.ndarray | None) -> None:
        """Those of like length together; ``tolerances``: as close as they ask."""
        length = last - first
        size = np.ceil(2 * np.log2(np.maximum(length, 8)))
        if len(size) and len(size) * length.max() < _FEW:
            size[:] = 0
        for one in np.unique(size):
            a, b = first[size == one], last[size == one]
            frames = every_frame(a, b)
            if tolerances is None:
                self._keep(a, b, frames, fit(self.motion, a, b, frames, None, True), None)
                continue
            for which, fits in closer(self.motion, a, b, frames, tolerances):
                self._keep(a[which], b[which], frames[:, which], fits, tolerances)

    def _keep(
        self, first: np.ndarray, last: np.ndarray, frames: np.ndarray, fits: Fits, tolerances: np.ndarray | None
    ) -> None:
        largest = fits.misses.max(axis=1)
        missed = over(fits.misses, _USUAL if tolerances is None else tolerances)
        worst = frames[missed.argmax(axis=0), np.arange(len(first))]
        tried = () if tolerances is None else tuple(tolerances.tolist())
        for i, pair in enumerate(zip(first.tolist(), last.tolist())):
            old = self._known.get(pair)
            if old is None or tolerances is None or over(largest[:, i], tolerances) < over(old.misses, tolerances):
                own = {key: values[..., i] for key, values in fits.tangents.items()}
                self._known[pair] = Between(largest[:, i], int(worst[i]), own, tried)
            else:
                self._known[pair] = replace(old, tried=tried)
