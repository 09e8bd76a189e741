"""Spikes: single frames and short runs that stand apart from the curve through what is around them."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from .hampel import SHORTEST, suspects
from .noise import comes_and_goes, shared, steady
from .runs import Runs, put_at, values_at

WINDOW = 0.1  # seconds that a frame is compared with
THRESHOLD = 2.6  # of what is usual around a frame, as standard deviations
LONGEST = 2  # frames of a run that is a spike, and not motion
_SIDE, _DEGREE = 4, 4  # frames on each side that a curve goes through, and its degree
_BESIDE, _AT_ENDS = 6, 2  # the same at a clip's ends, where less can be told
_SEEN = 2.5  # of what is usual: what is closer to the median is not looked at
_TRUST = 8  # so much counts what is usual all over, against those
_SURER = 0.8  # of what is usual counts where that is noise, which has no sudden turns
_WINDOWS = 100  # of them are enough to tell what is usual
_OFF = 1.45  # of the threshold: how far off the curve through its sides a spike is
_SINGLE = 3.0  # of the least: so far off must be what only such a curve shows, and what lies at an end
_TORN = 0.75  # of how far a spike is off: what is farther apart around it is no curve that it could be off
_TORN_SINGLE = 1.3  # the same, for what only a curve shows
_APART = 3.0  # windows on each side of a huge spike in which there is no other jump like it
_JUMP = 0.75  # of what is huge
_ONE_WAY = 0.7  # the cosine between the ways that a run's ends are off: with more, it may be the beginning of a motion
_ROUNDS = 2  # a spike shows when those beside it are mended


def despiked(
    rows: np.ndarray,
    rate: float,
    least: float,
    threshold: float = THRESHOLD,
    window: float = WINDOW,
    longest: int = LONGEST,
    huge: float = np.inf,
    usual: np.ndarray | None = None,
    kept: np.ndarray | None = None,
    within: float | None = None,
) -> tuple[np.ndarray, np.ndarray]:
    """``rows (channels, n, frames)`` with smooth ways over spikes (the same where there are none), and which frames are spikes:
    ``(channels, frames)``.

    Two tests find what may be one. The first is Hampel's (see ``suspects`` for ``least``, ``threshold`` and ``window`` in
    seconds), for runs of at most ``longest`` frames. Turning points of quick motion are far from a median, too, and hide
    spikes: the second looks for single frames far off a curve through four frames on each side.

    Whatever is found is one only if it lies off such a curve through its neighbours by far more than these do (a deleted
    residual, studentised by what its own neighbours and the whole channel tell). What is off by more than ``huge`` is one
    only where it stands alone: a joint that goes back and forth as much all the time was captured badly, and no single
    frame is to blame. ``usual (channels,)``: see ``usual_of``, of a longer clip where these are a part of one.
    ``kept``: a mask of frames that are none. ``within``: what no value is larger than, where that is known. Source: Cook and Weisberg 1982 (deleted residuals).
    """
    channels, _, frames = rows.shape
    bad = np.zeros((channels, frames), bool)
    if frames < SHORTEST:
        return rows, bad
    given, rows = rows, np.ascontiguousarray(rows)
    usual = usual_of(rows) if usual is None else usual
    seen = np.maximum(least, _SEEN * np.sqrt(usual))
    runs = Runs.of(suspects(rows, rate, seen, threshold, window, within))
    first = runs.picked(runs.long <= longest).mask(bad.shape)
    bad, mended = first if kept is None else first & ~kept, rows.copy()
    # Where something else may show now, and where anything may have changed (None: everywhere).
    shown: np.ndarray | None = None
    near: np.ndarray | None = None
    for turn in range(_ROUNDS):
        if near is not None and not near.any():
            break
        tried = bad | _singles(_mend(mended, _some(bad, near)), _SINGLE * least, huge, shown)
        if kept is not None:
            tried &= ~kept
        runs = _some(tried, near)
        off, far, one_way = _off(rows, _mend(mended, runs), runs, usual)
        step = _largest_step(rows, runs)
        inside = (runs.first >= _SIDE) & (runs.first + runs.long <= frames - _SIDE)
        stands = first[runs.channel, runs.first] & (_TORN * far > step) & (far > np.where(inside, 1.0, _SINGLE) * least)
        stands |= (runs.long == 1) & (far > _SINGLE * least) & (_TORN_SINGLE * far > step)
        # What goes off one way for several frames at an end, where nothing shows whether it comes back, is motion.
        stands &= ~one_way | ((runs.first > 0) & (runs.first + runs.long < frames))
        real = stands & (off > _OFF * threshold)
        large = np.flatnonzero(real & (far > huge))
        if len(large):
            jumps = _steps(rows, runs.picked(large), int(_APART * window * rate)) > _JUMP * huge
            real[large] = jumps.sum(axis=1) <= 2  # those at its own ends do not count
        wrong = runs.picked(~real)
        channel, frame = wrong.cells
        put_at(mended, channel, frame[:, None], values_at(rows, channel, frame[:, None]))
        wrong_ones = wrong.mask(bad.shape)
        tried &= ~wrong_ones
        shown = _widened(tried & ~bad) if turn + 1 < _ROUNDS else None
        near, bad = _widened((tried != bad) | wrong_ones), tried
    return (_mend(mended, _some(bad, near)) if bad.any() else given), bad


def usual_of(rows: np.ndarray) -> np.ndarray:
    """How far frames of ``rows (channels, n, frames)`` usually are from curves through nine of them: the variance of all n
    values together, the median of some hundred places ``(channels,)``.

    Where that is noise, and no motion that comes and goes, the channels of a short clip tell it together, and spikes, which
    are in many of its places, do not count.
    """
    last = rows.shape[-1] - 2 * _SIDE
    if last < 1:
        return np.zeros(len(rows))
    at, offsets = np.arange(0, last, max(last // _WINDOWS, 1)), np.arange(2 * _SIDE + 1)
    left, _ = _fit(offsets, offsets, _DEGREE)
    near = rows.take(at[:, None] + offsets, axis=-1)
    squares = np.einsum("cnfk,kj,cnfj->cf", near, left, near, optimize=True)
    usual = np.maximum(np.median(squares, axis=1), 0.0) / (2 * _SIDE - _DEGREE)
    stays = steady(rows)
    if comes_and_goes(usual, stays):
        return usual
    return _SURER * shared(np.minimum(usual, stays), rows.shape[-1] / (2 * _SIDE + 1))


def _fit(at: np.ndarray, wanted: np.ndarray, degree: int) -> tuple[np.ndarray, np.ndarray]:
    """Of a curve through values at ``at``: what takes it away from them ``(k, k)``, and their shares in it ``(wanted, k)``."""
    powers = np.vander(at.astype(float), degree + 1)
    solved = np.linalg.pinv(powers)
    return np.eye(len(at)) - powers @ solved, np.vander(wanted.astype(float), degree + 1) @ solved


def _off(
    rows: np.ndarray, mended: np.ndarray, runs: Runs, usual: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """How far runs are off curves through the ``mended`` frames beside them, at most: in how far these usually are, with
    what the curve itself may be off; and as it is; and whether several frames are off one way. Three ``(runs,)``.
    """
    off, far = np.zeros((2, len(runs.first)))
    one_way = np.zeros(len(runs.first), bool)
    for which, beside, own in _sides(runs, rows.shape[-1]):
        degree = _DEGREE if len(beside) == 2 * _SIDE else min(_AT_ENDS, len(beside) - 1)
        left, shares = _fit(beside, own, degree)
        channel, first = runs.channel[which], runs.first[which, None]
        near = values_at(mended, channel, first + beside)
        way, beyond = (_each(near, matrix) for matrix in (shares.T, left))
        ways = values_at(rows, channel, first + own) - way
        away = np.sqrt(np.sum(ways**2, axis=1))
        if len(own) > 1:
            one_way[which] = np.sum(ways[..., 0] * ways[..., -1], axis=1) > _ONE_WAY * away[:, 0] * away[:, -1]
        squares = np.sum(beyond**2, axis=(1, 2)) + _TRUST * usual[channel]
        variance = squares / (len(beside) - degree - 1 + _TRUST)
        chance = np.sqrt(variance[:, None] * (1 + np.sum(shares**2, axis=1)))
        far[which] = away.max(axis=1)
        off[which] = (away / np.maximum(chance, 1e-9)).max(axis=1)
    return off, far, one_way


def _each(values: np.ndarray, matrix: np.ndarray) -> np.ndarray:
    """``values (runs, n, k)`` times a matrix ``(k, m)``: as one product, which is far quicker than many small ones."""
    return (values.reshape(-1, len(matrix)) @ matrix).reshape(*values.shape[:2], -1)


def _sides(runs: Runs, frames: int) -> Iterator[tuple[np.ndarray, np.ndarray, np.ndarray]]:
    """``(numbers of runs, frames beside them, their own frames)``, from where each begins: of runs that have these alike.

    As many on both sides, but at the ends of a clip.
    """
    rest = frames - runs.first - runs.long
    before = np.minimum(runs.first, np.maximum(_SIDE, _BESIDE - rest))
    after = np.minimum(rest, np.maximum(_SIDE, _BESIDE - before))
    kinds = (runs.long * 16 + before) * 16 + after
    for kind in np.unique(kinds).tolist():
        long, left, right = kind // 256, kind // 16 % 16, kind % 16
        yield np.flatnonzero(kinds == kind), np.r_[-left:0, long : long + right], np.arange(long)


def _mend(rows: np.ndarray, runs: Runs) -> np.ndarray:
    """The same rows, with smooth ways over the runs."""
    runs.bridge(rows)
    return rows


def _some(bad: np.ndarray, near: np.ndarray | None) -> Runs:
    """The runs of a mask that begin where another one is true (None: all)."""
    runs = Runs.of(bad)
    return runs if near is None else runs.picked(near[runs.channel, runs.first])


def _widened(mask: np.ndarray) -> np.ndarray:
    """What is true, and what a curve beside it, or one beside such a run, goes through."""
    out = mask.copy()
    for k in range(1, 2 * _SIDE + 1):
        out[:, k:] |= mask[:, :-k]
        out[:, :-k] |= mask[:, k:]
    return out


def _singles(rows: np.ndarray, least: float, huge: float, near: np.ndarray | None) -> np.ndarray:
    """Single frames that lie off a curve through those beside them by more than ``least``, and by more than the next ones,
    where ``near`` is true (None: everywhere).
    """
    found = np.zeros((len(rows), rows.shape[-1]), bool)
    if rows.shape[-1] <= 2 * _SIDE + 1:
        return found
    left, _ = _fit(np.arange(-_SIDE, _SIDE + 1), np.zeros(1), _DEGREE)
    shares = (left[_SIDE] / left[_SIDE, _SIDE]).astype(np.float32)
    end = rows.shape[-1] - 2 * _SIDE
    far, pair = np.zeros(end + 2, np.float32), np.empty((rows.shape[1], end), np.float32)
    for channel in range(len(rows)):  # one fits the processor's cache
        if near is None:
            values = rows[channel].astype(np.float32)
            off = values[:, _SIDE : _SIDE + end].copy()
            for k in range(_SIDE):
                np.add(values[:, k : k + end], values[:, 2 * _SIDE - k : 2 * _SIDE - k + end], out=pair)
                pair *= shares[k]
                off += pair
            far[1:-1] = np.einsum("nf,nf->f", off, off)
        else:
            at = np.flatnonzero(near[channel, _SIDE : _SIDE + end])
            far[:] = 0.0
            off = rows[channel][:, at[:, None] + np.arange(2 * _SIDE + 1)] @ shares
            far[1 + at] = np.einsum("nf,nf->f", off, off)
        peak = (far[1:-1] > least**2) & (far[1:-1] < huge**2)
        if peak.any():
            found[channel, _SIDE : _SIDE + end] = peak & (far[1:-1] >= far[:-2]) & (far[1:-1] >= far[2:])
    return found


def _steps(rows: np.ndarray, runs: Runs, reach: int) -> np.ndarray:
    """How far values go from frame to frame around each run ``(runs, 2 * reach)``."""
    at = (runs.first + runs.long // 2)[:, None] + np.arange(-reach, reach + 1)
    near = values_at(rows, runs.channel, np.clip(at, 0, rows.shape[-1] - 1))
    return np.sqrt(np.sum(np.diff(near, axis=2) ** 2, axis=1))


def _largest_step(rows: np.ndarray, runs: Runs) -> np.ndarray:
    """How far values go at most from one frame of each run's sides to the next ``(runs,)``."""
    # What is not there makes no step.
    missing = runs.sides < 0
    near = values_at(rows, runs.channel, np.where(missing, 0, runs.sides))
    squares = np.sum((near[..., 1:] - near[..., :-1]) ** 2, axis=1)
    squares[missing[:, 1:] | missing[:, :-1]] = 0.0
    return np.sqrt(squares.max(axis=1, initial=0.0))
