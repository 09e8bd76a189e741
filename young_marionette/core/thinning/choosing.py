"""Which frames become keys: the fewest between which curves keep the promise."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from .spans import LONGEST, SHORT, SURE, Betweens, Spans, over

_STRIDE = 4  # frames between the starts that are looked at first
_GUESS = 12  # frames of a first try
_BESIDE = 2  # frames around an in-between that was ruled out
# Paths that are looked at: in a short motion, in a long one, and for an answer at once.
_TRIES, _FEWER, _QUICK = 60, 6, 2
# Frames by which closer fits may reach further; several are fitted as quickly as one.
_EXTRAS = ((1,), (2, 3), (4, 5, 6, 7))
_PREFERRED = 0.3  # of a key: what all likes together may count, so that they never cost one
_BARRED = 20.0  # keys that one more costs where none is wanted


@dataclass(frozen=True, eq=False)
class Rules:
    """``windows``: pairs of frames, from and to, of which one each has to be a key. ``barred (frames,)``: where there are none
    unless the promise can't be kept without them. ``likes (frames,)``: how welcome a key is, 0 to 1.
    """

    windows: tuple[tuple[int, int], ...]
    barred: np.ndarray
    likes: np.ndarray

    @property
    def limits(self) -> np.ndarray:
        """For each frame the last one ``(frames,)`` that an in-between from it may reach."""
        count = len(self.barred)
        limits = np.full(count, count - 1)
        for low, high in sorted(self.windows, key=lambda w: -w[0]):
            part = slice(None, max(low, 0))
            limits[part] = np.minimum(limits[part], high)
        return np.minimum(limits, np.arange(count) + LONGEST)


def chosen(
    spans: Spans,
    betweens: Betweens,
    rules: Rules,
    tolerances: np.ndarray,
    step: Callable[[], None],
    quick: bool = False,
) -> np.ndarray:
    """The frames ``(keys,)`` of the keys: the shortest path through the graph of in-betweens that keep the promise.

    ``step``: told after each part of the work; what it raises ends it. ``quick``: with fewer tries. Near the optimum: in-betweens shorter than
    one that keeps the promise are taken to keep it too, until a path runs along them or beside them.
    """
    count = len(rules.barred)
    if count < 2:
        return np.arange(count)
    closely = count <= SHORT and not quick
    bound = None if count <= SHORT else tolerances  # others are asked for soon where a motion is short

    def missed(first: np.ndarray, last: np.ndarray) -> np.ndarray:
        return over(spans.misses(first, last, bound), tolerances)  # type: ignore[no-any-return]

    reach = _reach(missed, rules, step)
    if closely:
        _further(betweens, reach, rules.limits, tolerances, step)
    graph = _Graph(reach, rules)
    for _ in range(_TRIES if closely else _QUICK if quick else _FEWER):
        path = graph.path()
        step()
        first, last = path[:-1], path[1:]
        kept = closely or missed(first, last) <= 1
        if not np.all(kept):
            # Those around are likely to be tried next: they are looked at together.
            a, b = graph.beside(first[~kept], last[~kept])
            graph.rule_out(a, b, missed(a, b) > 1)
            continue
        kept = _kept(betweens, first, last, tolerances, not quick)
        if kept.all():
            return path
        a, b = first[~kept], last[~kept]
        graph.rule_out(a, b, np.ones(len(a), bool))
    return _split(path, betweens, tolerances, step, not quick)


def least(rules: Rules) -> np.ndarray:
    """The fewest frames ``(keys,)`` that all windows hold one of, and the ends, whatever lies between them."""
    count = len(rules.barred)
    return _Graph(rules.limits, rules).path() if count > 1 else np.arange(count)


def _split(
    path: np.ndarray, betweens: Betweens, tolerances: np.ndarray, step: Callable[[], None], closely: bool
) -> np.ndarray:
    """The path with more keys, where it misses most, until it keeps the promise."""
    while True:
        first, last = path[:-1], path[1:]
        bad = ~_kept(betweens, first, last, tolerances, closely)
        if not bad.any():
            return path
        path = np.union1d(path, [b.worst for b in betweens.of(first[bad], last[bad], None)])
        step()


def _kept(
    betweens: Betweens, first: np.ndarray, last: np.ndarray, tolerances: np.ndarray, closely: bool = True
) -> np.ndarray:
    """Whether in-betweens keep the promise on every frame. ``closely``: fitted as closely as that asks for."""
    made = betweens.of(first, last, tolerances if closely else None)
    return np.array([over(b.misses, tolerances) <= SURE for b in made], bool)


class _Graph:
    """In-betweens as ways from frame to frame."""

    def __init__(self, reach: np.ndarray, rules: Rules) -> None:
        count = len(reach)
        starts = np.arange(count - 1)
        self._lengths = np.maximum(reach[:-1] - starts, 1)
        self._offsets = np.cumsum(self._lengths) - self._lengths
        self._first = np.repeat(starts, self._lengths)
        self._last = self._first + 1 + np.arange(len(self._first)) - np.repeat(self._offsets, self._lengths)
        self._good = np.ones(len(self._first), bool)
        self._cost = 1 + _PREFERRED * (1 - rules.likes[self._last]) / count + _BARRED * rules.barred[self._last]

    def path(self) -> np.ndarray:
        """The path ``(keys,)`` from the first to the last frame by the fewest in-betweens, and among those the most liked.

        All ways go forward in time, so each frame's best way is known when it is come to (dynamic programming).
        """
        count = len(self._lengths) + 1
        cost = np.where(self._good, self._cost, np.inf)
        least, before = np.full(count, np.inf), np.zeros(count, int)
        least[0] = 0.0
        for frame, (offset, length) in enumerate(zip(self._offsets.tolist(), self._lengths.tolist())):
            ahead, sums = least[frame + 1 : frame + 1 + length], cost[offset : offset + length] + least[frame]
            better = sums < ahead
            np.copyto(ahead, sums, where=better)
            before[frame + 1 : frame + 1 + length][better] = frame
        path = [count - 1]
        while path[-1] > 0:
            path.append(int(before[path[-1]]))
        return np.array(path[::-1])

    def beside(self, first: np.ndarray, last: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """In-betweens, and those that start or end a few frames beside them, which are not ruled out yet."""
        near = np.arange(-_BESIDE, _BESIDE + 1)
        a = (first[:, None, None] + near[:, None] + 0 * near).ravel()
        b = (last[:, None, None] + near + 0 * near[:, None]).ravel()
        fits = (a >= 0) & (a < len(self._lengths)) & (b > a + 1)
        a, b = a[fits], b[fits]
        fits = b - a <= self._lengths[a]
        at = np.unique(self._at(a[fits], b[fits]))
        at = at[self._good[at]]
        return self._first[at], self._last[at]

    def rule_out(self, first: np.ndarray, last: np.ndarray, which: np.ndarray) -> None:
        """Take some in-betweens away."""
        self._good[self._at(first[which], last[which])] = False

    def _at(self, first: np.ndarray, last: np.ndarray) -> np.ndarray:
        return self._offsets[first] + last - first - 1  # type: ignore[no-any-return]


def _reach(
    missed: Callable[[np.ndarray, np.ndarray], np.ndarray], rules: Rules, step: Callable[[], None]
) -> np.ndarray:
    """For each frame the last one ``(frames,)`` that an in-between from it can go to and keep the promise.

    ``missed``: by which shares of their tolerances in-betweens miss.
    """
    limits = rules.limits
    count = len(limits)
    starts = np.unique(np.append(np.arange(0, count - 1, _STRIDE), count - 2)) if count > 1 else np.zeros(0, int)
    reach = np.minimum(np.arange(count) + 1, count - 1)

    def keeps(first: np.ndarray, last: np.ndarray) -> np.ndarray:
        return missed(first, last) <= SURE  # type: ignore[no-any-return]

    # Twice as far from try to try, where the last one kept it.
    low, high = reach[starts], limits[starts]
    tries = np.minimum(starts + _GUESS, high)
    open_ends = np.ones(len(starts), bool)
    while open_ends.any():
        which = np.flatnonzero(open_ends)
        good = keeps(starts[which], tries[which])
        low[which[good]] = tries[which[good]]
        high[which[~good]] = tries[which[~good]] - 1
        open_ends[which] = good & (tries[which] < limits[starts[which]])
        tries = np.minimum(starts + 2 * (tries - starts), limits[starts])
        step()
    reach[starts] = _between(keeps, starts, low, high, step)
    # All others reach about as far as those around them.
    others = np.setdiff1d(np.arange(max(count - 1, 0)), starts)
    after = np.searchsorted(starts, others)
    low = np.maximum(reach[starts[after - 1]], others + 1)
    high = np.minimum(np.maximum(reach[starts[np.minimum(after, len(starts) - 1)]], low), limits[others])
    low = np.minimum(low, limits[others])
    good = keeps(others, low)
    high = np.where(good, high, low - 1)
    low = np.where(good, low, others + 1)
    reach[others] = _between(keeps, others, low, np.maximum(high, low), step)
    return reach


def _between(
    keeps: Callable[[np.ndarray, np.ndarray], np.ndarray],
    starts: np.ndarray,
    low: np.ndarray,
    high: np.ndarray,
    step: Callable[[], None],
) -> np.ndarray:
    """The last frames up to which the promise is kept, between ``low``, where it is, and ``high``."""
    low, high = low.copy(), high.copy()
    while (todo := np.flatnonzero(low < high)).size:
        middle = (low[todo] + high[todo] + 1) // 2
        good = keeps(starts[todo], middle)
        low[todo[good]] = middle[good]
        high[todo[~good]] = middle[~good] - 1
        step()
    return low


def _further(
    betweens: Betweens, reach: np.ndarray, limits: np.ndarray, tolerances: np.ndarray, step: Callable[[], None]
) -> None:
    """Reach as far as the closest fits to every frame do."""
    base = reach.copy()
    open_starts = np.arange(len(base))  # what a closer fit did not reach once is not tried farther
    for extras in _EXTRAS:
        ends = base[open_starts, None] + np.array(extras)
        fits = (ends <= limits[open_starts, None]) & (ends > open_starts[:, None] + 1)
        at, which = np.nonzero(fits)
        if not len(at):
            return
        good = ~fits & (ends <= open_starts[:, None] + 1)  # what is shorter than an in-between is no bar
        good[at, which] = _kept(betweens, open_starts[at], ends[at, which], tolerances)
        reached = np.cumprod(good, axis=1).sum(axis=1)
        reach[open_starts] = np.maximum(reach[open_starts], base[open_starts] + reached + extras[0] - 1)
        open_starts = open_starts[reached == len(extras)]
        step()
