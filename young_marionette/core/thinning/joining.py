"""In-betweens made as plain as they can be, and tangents that go on through keys, wherever the promise allows."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from ..keys.sampler import Interpolation
from .rebuilding import Curve, Key, Rebuilt, inside, weight_misses
from .spans import over

if TYPE_CHECKING:
    from .motion import Motion

_STILL, _STRAIGHT = 0.05, 0.35  # of the tolerance: what is held, and what goes straight, misses no more
_LITTLE = 0.3  # of the way to joined tangents: what does not go further stays as it was fitted


def labelled(motion: Motion, curves: dict[Key, Curve], path: np.ndarray, tolerances: np.ndarray) -> dict[Key, Curve]:
    """With in-betweens held where nothing moves, and straight where that is as good as smooth."""
    if len(path) < 2:
        return curves
    ways = np.full(len(path) - 1, Interpolation.CUBICSPLINE, np.int8)
    first, last = path[:-1], path[1:]
    for way, share in ((Interpolation.LINEAR, _STRAIGHT), (Interpolation.STEP, _STILL)):
        trial = {key: replace(curve, ways=np.full(len(curve.ways), way, np.int8)) for key, curve in curves.items()}
        # Most are told by their middle, and what is held by its end, too.
        some = np.flatnonzero(last - first > 1)
        for at in ((first + last) // 2, last - 1):
            some = some[missed_by(motion, trial, tolerances, at[some]) <= share] if len(some) else some
        if len(some):
            frames, owner = inside(first[some], last[some])
            worst = np.zeros(len(some))
            np.maximum.at(worst, owner, missed_by(motion, trial, tolerances, frames))
            ways[some[worst <= share]] = way
    ways[(np.diff(path) == 1)] = Interpolation.LINEAR
    return {key: replace(curve, ways=ways) for key, curve in curves.items()}


def joined(
    motion: Motion, curves: dict[Key, Curve], path: np.ndarray, tolerances: np.ndarray, promises: bool
) -> dict[Key, Curve]:
    """With tangents that are the same before and behind a key, or as nearly the same as the promise allows.

    ``promises``: whether it is to be kept at all; else all keys are joined.
    """
    whole = {key: _smoothed(curve) for key, curve in curves.items()}
    shares = np.ones(motion.frames)  # of the way from the tangents as they were fitted to joined ones
    while shares[path].any():
        mixed = {key: _mixed(curves[key], whole[key], shares) for key in curves}
        if not promises:
            return mixed
        bad = by_stretch(missed_by(motion, mixed, tolerances), path) > 1
        if not bad.any():
            return mixed
        around = _around(curves, path, bad, motion.frames)
        shares[around] = np.where(shares[around] > _LITTLE, shares[around] / 2, 0.0)
    return curves


def _around(curves: dict[Key, Curve], path: np.ndarray, bad: np.ndarray, frames: int) -> np.ndarray:
    """The frames of keys ``(frames,)`` that some bad stretch of the path depends on."""
    inside = np.zeros(frames, bool)
    for a, b in zip(path[:-1][bad].tolist(), path[1:][bad].tolist()):
        inside[a + 1 : b] = True
    counts = np.concatenate([[0], np.cumsum(inside)])
    result = np.zeros(frames, bool)
    for curve in curves.values():
        touched = counts[curve.frames[1:]] > counts[curve.frames[:-1] + 1]
        result[curve.frames[:-1][touched]] = result[curve.frames[1:][touched]] = True
    return result


def _smoothed(curve: Curve) -> Curve:
    """With one tangent for both sides of each key between two smooth in-betweens: the mean, by their lengths."""
    if len(curve.frames) < 3:
        return curve
    smooth = curve.ways == Interpolation.CUBICSPLINE
    both = np.flatnonzero(smooth[:-1] & smooth[1:]) + 1
    before, after = np.diff(curve.frames)[both - 1][:, None], np.diff(curve.frames)[both][:, None]
    mean = (curve.inner[both] * before + curve.out[both] * after) / (before + after)
    out, inner = curve.out.copy(), curve.inner.copy()
    out[both] = inner[both] = mean
    return curve.with_tangents(out, inner)


def _mixed(curve: Curve, whole: Curve, shares: np.ndarray) -> Curve:
    share = shares[curve.frames][:, None]
    out = np.where(share == 1, whole.out, curve.out + (whole.out - curve.out) * share)
    inner = np.where(share == 1, whole.inner, curve.inner + (whole.inner - curve.inner) * share)
    return curve.with_tangents(out, inner)


def by_stretch(values: np.ndarray, path: np.ndarray) -> np.ndarray:
    """The largest of values ``(frames,)`` between each two keys, both included ``(keys - 1,)``."""
    ends = np.maximum(values[path[:-1]], values[path[1:]])
    return np.maximum(np.maximum.reduceat(values, path[:-1]), ends)


def missed_by(
    motion: Motion, curves: dict[Key, Curve], tolerances: np.ndarray, at: np.ndarray | None = None
) -> np.ndarray:
    """What curves miss on each frame, or at frames ``at (n,)``, as a share of the tolerances."""
    if motion.driven is not None:
        missed = over(motion.driven.misses(motion, curves, at), tolerances)
    else:
        missed = over(Rebuilt(motion, curves, at).misses(), tolerances)
    if len(motion.weights):
        weights = weight_misses(motion, curves) / tolerances[3]
        missed = np.maximum(missed, weights if at is None else weights[at])
    return missed  # type: ignore[no-any-return]


def put_back_where(
    motion: Motion, full: dict[Key, Curve], less: dict[Key, Curve], tolerances: np.ndarray
) -> dict[Key, Curve]:
    """``less``, which has fewer keys than ``full``, with those of ``full`` again where it misses too much."""
    while True:
        missed = missed_by(motion, less, tolerances) > 1
        changed = False
        counts = np.concatenate([[0], np.cumsum(missed)])
        made = {}
        for key, curve in less.items():
            bad = counts[curve.frames[1:] + 1] > counts[curve.frames[:-1]]
            made[key] = _with_keys(curve, full[key], bad) if bad.any() else curve
            changed = changed or len(made[key].frames) > len(curve.frames)
        less = made
        if not changed:
            return less


def _with_keys(less: Curve, full: Curve, bad: np.ndarray) -> Curve:
    """A curve whose in-betweens ``bad (n,)`` are as in ``full``, which has all of its keys and more."""
    at = np.searchsorted(full.frames, less.frames)
    inside = np.zeros(len(full.frames) - 1, bool)
    for a, b in zip(at[:-1][bad], at[1:][bad]):
        inside[a:b] = True
    known = np.zeros(len(full.frames), bool)
    known[at] = True
    keep = known.copy()
    keep[:-1] |= inside
    keep[1:] |= inside
    out, inner = full.out.copy(), full.inner.copy()
    ways = full.ways.copy()
    good = ~bad
    out[at[:-1][good]], inner[at[1:][good]] = less.out[:-1][good], less.inner[1:][good]
    ways[at[:-1][good]] = less.ways[good]
    starts = np.flatnonzero(keep)[:-1]
    return replace(full, out=out, inner=inner).picked(keep, ways[starts])
