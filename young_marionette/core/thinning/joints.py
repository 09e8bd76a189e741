"""Which joints are held at each pose: keys that the promise can do without are taken from single joints.

Whether it can is told by a bound, without working out all that hangs below: a joint that turns by a little angle more moves
no point below it by more than that angle times how far away it is. What each point may still be off is its *slack*.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..keys.sampler import Interpolation, hermite
from .rebuilding import Curve, Key, Rebuilt, inside, rows_of
from .spans import SHORT

if TYPE_CHECKING:
    from .motion import Motion

_SWEEPS, _FEWER = 3, 2  # of a short motion, and of a long one: each looks at all odd keys, then at all even ones
_NEAR = 1e-3  # metres: a point that is no further from a joint does not move when it turns


def fewer(
    motion: Motion, curves: dict[Key, Curve], tolerances: np.ndarray, step: Callable[[], None]
) -> dict[Key, Curve]:
    """Curves without the keys that their neighbours in time make good, joint by joint from the ends of the limbs inwards.

    What has positions of its own, as the hips have, keeps all: it is what a pose is known by.
    """
    curves = dict(curves)
    parents = motion.skeleton.parents
    joints = [j for j in reversed(range(len(parents))) if parents[j] >= 0 and j not in motion.moves]
    joints = [j for j in joints if ("rotation", j) in curves]
    for joint in [j for j in joints if motion.still[j]]:
        curve = curves["rotation", joint]
        ends = np.unique([0, len(curve.frames) - 1])
        curves["rotation", joint] = curve.picked(ends, np.full(len(ends) - 1, Interpolation.LINEAR, np.int8))
    joints = [j for j in joints if not motion.still[j]]
    for _ in range(_SWEEPS if motion.frames <= SHORT else _FEWER):
        slack = _Slack(motion, curves, tolerances)
        gone = 0
        for joint in joints:
            for parity in (0, 1):
                gone += _thin_joint(motion, curves, joint, parity, slack)
        step()
        if not gone:
            break
    for key in [k for k in curves if k[0] == "weight"]:
        curves[key] = _thin_weight(motion, key, curves[key], tolerances)
    return curves


@dataclass(frozen=True, eq=False)
class _Target:
    """A point of a joint: where it is ``(3, frames)``, and what it may still be off ``(frames,)``, metres."""

    joint: int
    place: np.ndarray
    slack: np.ndarray


class _Slack:
    """What all points and turns of a rebuilt motion may still be off; a bound, worked out anew in each sweep."""

    def __init__(self, motion: Motion, curves: dict[Key, Curve], tolerances: np.ndarray) -> None:
        self.motion, self.rebuilt = motion, Rebuilt(motion, curves)
        self.turns: dict[int, np.ndarray] = {}
        self.targets: list[_Target] = []
        self.local = self.rebuilt.local
        self._below: dict[int, list[tuple[_Target, np.ndarray]]] = {}
        skeleton = motion.skeleton
        for joint in range(len(skeleton)):
            look = motion.look(joint)
            turn, dense = self.rebuilt.world[joint], motion.world[joint]
            away = self.rebuilt.places[joint] - motion.places[joint]
            chord = np.sqrt(np.einsum("cf,cf->f", turn - dense, turn - dense))
            self.turns[joint] = tolerances[1] / look - 4 * np.arcsin(np.minimum(chord / 2, 1))
            offsets = [(np.zeros(3), tolerances[0] / look)]
            tip = skeleton.tips[joint]
            if np.isfinite(tip).all() and np.any(tip):
                offsets.append((tip, tolerances[0] / look))
            offsets += [(o, np.where(stands, tolerances[2], np.inf)) for o, stands in motion.planted.get(joint, ())]
            for offset, allowed in offsets:
                arm = rot.rotate_rows(dense, offset[:, None])
                off = away + rot.rotate_rows(turn, offset[:, None]) - arm
                slack = allowed - np.sqrt(np.einsum("xf,xf->f", off, off))
                self.targets.append(_Target(joint, motion.places[joint] + arm, np.maximum(slack, 0.0)))

    def below(self, joint: int) -> list[tuple[_Target, np.ndarray]]:
        """The points that a joint moves, and how far from it they are ``(frames,)``."""
        if joint in self._below:
            return self._below[joint]
        under = set(self.motion.skeleton.subtree(joint))
        start = self.motion.places[joint]
        found = []
        for target in self.targets:
            if target.joint in under:
                away = target.place - start
                distance = np.sqrt(np.einsum("xf,xf->f", away, away))
                if distance.max(initial=0.0) > _NEAR:
                    found.append((target, distance))
        self._below[joint] = found
        return found

    def allowed(self, joint: int, below: list[tuple[_Target, np.ndarray]]) -> np.ndarray:
        """By which angle ``(frames,)`` a joint may be turned from where it is."""
        result = np.min([self.turns[j] for j in self.motion.skeleton.subtree(joint)], axis=0)
        for target, distance in below:
            np.minimum(result, target.slack / np.maximum(distance, _NEAR), out=result)
        return np.maximum(result, 0.0)  # type: ignore[no-any-return]

    def use(self, joint: int, below: list[tuple[_Target, np.ndarray]], at: np.ndarray, angle: np.ndarray) -> None:
        """A joint was turned by ``angle`` at frames ``at``."""
        for target, distance in below:
            target.slack[at] = np.maximum(target.slack[at] - angle * distance[at], 0.0)
        for other in self.motion.skeleton.subtree(joint):
            self.turns[other][at] -= angle


def _thin_joint(motion: Motion, curves: dict[Key, Curve], joint: int, parity: int, slack: _Slack) -> int:
    """Take keys from a joint, none beside another; returns how many."""
    key = ("rotation", joint)
    curve = curves[key]
    tried = np.arange(1 + parity, len(curve.frames) - 1, 2)
    if not len(tried):
        return 0
    parent = int(motion.skeleton.parents[joint])
    target = rot.product_rows(_back(slack.rebuilt.world[parent]), motion.world[joint])
    gaps = _Gaps(curve, tried, target)
    at, owner, below, rows = gaps.at, gaps.owner, slack.below(joint), gaps.rows(True)
    away = rows - slack.local[joint][:, at]
    angle = 4 * np.arcsin(np.minimum(np.sqrt(np.einsum("cf,cf->f", away, away)) / 2, 1))
    good = np.ones(len(tried), bool)
    good[owner[angle > slack.allowed(joint, below)[at]]] = False
    if good.any():
        curves[key] = gaps.closed(good)
        kept = good[owner]
        slack.local[joint][:, at[kept]] = rows[:, kept]
        slack.use(joint, below, at[kept], angle[kept])
    return int(good.sum())


def _back(rows: np.ndarray) -> np.ndarray:
    return rows * np.array([-1.0, -1.0, -1.0, 1.0])[:, None]


class _Gaps:
    """Keys of a curve that are tried to be gone, none beside another; what takes their place is fitted to ``target (c, frames)``.

    ``at``: the frames between the keys around, ``owner``: which of those that are gone each belongs to.
    """

    def __init__(self, curve: Curve, gone: np.ndarray, target: np.ndarray) -> None:
        self.curve, self.gone = curve, gone
        first, last = gone - 1, gone + 1
        a, b = curve.frames[first], curve.frames[last]
        self.at, self.owner = at, owner = inside(a, b)
        counts, self.lengths = b - a - 1, (b - a)[:, None]
        head, tail, *basis = hermite((at - a[owner]) / (b - a)[owner])
        start, end = (np.repeat(curve.values[which].T, counts, axis=1) for which in (first, last))
        plain = head * start + tail * end
        residual = target[:, at] - plain

        starts = np.cumsum(counts) - counts

        def total(rows: np.ndarray) -> np.ndarray:
            return np.add.reduceat(rows, starts, axis=-1)

        p, q, r = (total(basis[i] * basis[k]) for i, k in ((0, 0), (0, 1), (1, 1)))
        ridge = 1e-9 * (p + r) + 1e-12
        scale = 1 / ((p + ridge) * (r + ridge) - q * q)
        x, y = (total(way * residual) for way in basis)
        self.out, self.inner = (r * x - q * y) * scale, (p * y - q * x) * scale
        before, after = curve.ways[first], curve.ways[gone]
        self.same = (before == after) & (before != Interpolation.CUBICSPLINE)  # goes on as it did, straight or held
        self._smooth = (
            plain + basis[0] * np.repeat(self.out, counts, axis=1) + basis[1] * np.repeat(self.inner, counts, axis=1)
        )

    def rows(self, turns: bool) -> np.ndarray:
        """Values ``(c, n)`` at the frames ``at``."""
        rows = self._smooth
        if turns:
            rows = rows / np.sqrt(np.einsum("cn,cn->n", rows, rows))
        plain = self.same[self.owner]
        if plain.any():
            rows = rows.copy()
            rows[:, plain] = self.closed(self.same).sampler.at(self.at[plain], turns).T
        return rows

    def closed(self, which: np.ndarray) -> Curve:
        """The curve without some of the keys (a mask)."""
        curve, gone = self.curve, self.gone[which]
        out, inner, ways = curve.out.copy(), curve.inner.copy(), curve.ways.copy()
        out[gone - 1] = (self.out.T / self.lengths)[which]
        inner[gone + 1] = (self.inner.T / self.lengths)[which]
        ways[gone - 1] = np.where(self.same[which], ways[gone - 1], Interpolation.CUBICSPLINE)
        keep = np.ones(len(curve.frames), bool)
        keep[gone] = False
        return replace(curve, out=out, inner=inner).picked(keep, np.delete(ways, gone))


def _thin_weight(motion: Motion, key: Key, curve: Curve, tolerances: np.ndarray) -> Curve:
    rows = rows_of(motion, key)
    look = motion.look(len(motion.skeleton) + key[1])
    for turn in range(2 * _SWEEPS):
        tried = np.arange(1 + turn % 2, len(curve.frames) - 1, 2)
        if not len(tried):
            continue
        gaps = _Gaps(curve, tried, rows)
        at = gaps.at
        away = np.abs(gaps.rows(False) - rows[:, at])[0] * (look[at] if isinstance(look, np.ndarray) else look)
        worst = np.zeros(len(tried))
        np.maximum.at(worst, gaps.owner, away)
        good = worst <= tolerances[3]
        if good.any():
            curve = gaps.closed(good)
    return curve
