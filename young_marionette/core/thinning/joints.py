"""Which joints are held at each pose: keys that the promise can do without are taken from single joints."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from .. import rotations as rot
from ..keys.sampler import Interpolation
from .fitting import hermite
from .motion import Motion
from .rebuilding import Curve, Key, Rebuilt, rows_of
from .spans import over

_SWEEPS = 3


def fewer(
    motion: Motion, curves: dict[Key, Curve], tolerances: np.ndarray, step: Callable[[], None]
) -> dict[Key, Curve]:
    """Curves without the keys that their neighbours in time make good, joint by joint from the ends of the limbs inwards.

    What has positions of its own, as the hips have, keeps all: it is what a pose is known by.
    """
    curves = dict(curves)
    whole = Rebuilt(motion, curves)
    for joint in reversed(range(len(motion.skeleton))):
        key = ("rotation", joint)
        if key in curves and joint not in motion.moves and motion.skeleton.parents[joint] >= 0:
            _thin_joint(motion, curves, key, whole, tolerances)
            step()
    for key in [k for k in curves if k[0] == "weight"]:
        curves[key] = _thin_weight(motion, key, curves[key], tolerances)
    return curves


def _thin_joint(motion: Motion, curves: dict[Key, Curve], key: Key, whole: Rebuilt, tolerances: np.ndarray) -> None:
    joint = key[1]
    under = sorted(motion.skeleton.subtree(joint))
    parent = int(motion.skeleton.parents[joint])
    for turn in range(2 * _SWEEPS):
        curve = curves[key]
        tried = np.arange(1 + turn % 2, len(curve.frames) - 1, 2)
        if not len(tried):
            continue
        target = rot.product_rows(_back(whole.world[parent]), motion.world[joint])
        trial = _without(curve, tried, target)
        first, last = curve.frames[tried - 1], curve.frames[tried + 1]
        at, owner = _inside(first, last)
        part = whole.part(at, [parent])
        made = Rebuilt(motion, {**_of(curves, under), key: trial}, at, under, part)
        missed = over(made.misses(), tolerances)
        worst = np.zeros(len(tried))
        np.maximum.at(worst, owner, missed)
        good = worst <= 1
        if not good.any():
            if turn:
                return
            continue
        curves[key] = _without(curve, tried[good], target)
        kept = good[owner]
        whole.take(made, kept, at[kept])


def _of(curves: dict[Key, Curve], joints: list[int]) -> dict[Key, Curve]:
    wanted = set(joints)
    return {key: curve for key, curve in curves.items() if key[1] in wanted and key[0] != "weight"}


def _back(rows: np.ndarray) -> np.ndarray:
    return rows * np.array([-1.0, -1.0, -1.0, 1.0])[:, None]


def _inside(first: np.ndarray, last: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """``(frames inside of stretches, end to end; the number of the stretch of each)``."""
    lengths = last - first - 1
    owner = np.repeat(np.arange(len(first)), lengths)
    within = np.arange(lengths.sum()) - np.repeat(np.cumsum(lengths) - lengths, lengths)
    return first[owner] + 1 + within, owner


def _without(curve: Curve, gone: np.ndarray, target: np.ndarray) -> Curve:
    """A curve without some keys, none beside another; what takes their place is fitted to ``target (c, frames)``."""
    first, last = gone - 1, gone + 1
    a, b = curve.frames[first], curve.frames[last]
    out, inner = curve.out.copy(), curve.inner.copy()
    at, owner = _inside(a, b)
    share = (at - a[owner]) / (b - a)[owner]
    head, tail, *basis = hermite(share)
    residual = target[:, at].T - head[:, None] * curve.values[first][owner] - tail[:, None] * curve.values[last][owner]

    def total(weights: np.ndarray) -> np.ndarray:
        return np.bincount(owner, weights, len(gone))

    p, q, r = (total(basis[i] * basis[k]) for i, k in ((0, 0), (0, 1), (1, 1)))
    ridge = 1e-9 * (p + r) + 1e-12
    scale = 1 / ((p + ridge) * (r + ridge) - q * q)
    for c in range(residual.shape[1]):
        x, y = (total(way * residual[:, c]) for way in basis)
        out[first, c] = (r * x - q * y) * scale / (b - a)
        inner[last, c] = (p * y - q * x) * scale / (b - a)
    keep = np.ones(len(curve.frames), bool)
    keep[gone] = False
    before, after = curve.ways[first], curve.ways[gone]
    ways = curve.ways.copy()
    same = (before == after) & (before != Interpolation.CUBICSPLINE)
    ways[first] = np.where(same, before, Interpolation.CUBICSPLINE)
    return replace(curve, out=out, inner=inner).picked(keep, np.delete(ways, gone))


def _thin_weight(motion: Motion, key: Key, curve: Curve, tolerances: np.ndarray) -> Curve:
    rows = rows_of(motion, key)
    look = motion.look(len(motion.skeleton) + key[1])
    for turn in range(2 * _SWEEPS):
        tried = np.arange(1 + turn % 2, len(curve.frames) - 1, 2)
        if not len(tried):
            continue
        trial = _without(curve, tried, rows)
        at, owner = _inside(curve.frames[tried - 1], curve.frames[tried + 1])
        away = np.abs(trial.rows(at, False) - rows[:, at])[0] * (look[at] if isinstance(look, np.ndarray) else look)
        worst = np.zeros(len(tried))
        np.maximum.at(worst, owner, away)
        good = worst <= tolerances[3]
        if good.any():
            curve = _without(curve, tried[good], rows)
    return curve
