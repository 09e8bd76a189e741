"""Pairs of limbs: where arms and legs may begin, bend and end, with how well each way to see them fits.

A limb is two long bones and an end piece. All cuts of all chains that have a like chain beside them are looked at
at once, and scored (natural logarithms of how likely) by lengths against each other (Drillis and Contini 1966,
loosely), straightness of what is skipped, what follows at the end, and names. What depends on the rest of the body
is weighed in ``hypotheses``.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import combinations
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from . import parts

if TYPE_CHECKING:
    from .moving import Moving
    from .tree import Tree
    from .words import NameEvidence


@dataclass(frozen=True)
class Template:
    """Of a kind of limb: its parts in order, and means and spreads of the logarithms of ratios.

    ``halves``: upper to lower bone. ``end``: what is behind its last joint to both bones. ``apart``: half the distance
    between the limbs of a pair to both bones.
    """

    before: str
    parts: tuple[str, str, str]
    halves: tuple[float, float]
    end: tuple[float, float]
    apart: tuple[float, float]


ARM = Template("collarbone", parts.ARM, (np.log(1.13), 0.2), (np.log(0.33), 0.4), (np.log(0.36), 0.35))
LEG = Template("hip helper", parts.LEG, (0.0, 0.17), (np.log(0.24), 0.45), (np.log(0.12), 0.45))

_DEEP = 13  # joints below a limb's first that are looked at
_MOST_BEFORE, _MOST_BROTHERS, _MOST_NODES = 4, 24, 300
_KEPT = 14  # ways to see one chain
_BENT = np.radians(1.0)  # root mean square; what turns its bone by less is still
_STRAIGHT = 0.02  # radians that roll bones are off the line at most
_ROLLS = np.log([0.65, 0.19, 0.12, 0.04])
_BEFORE = {LEG: np.log([0.9, 0.08, 0.015, 0.005]), ARM: np.log([0.32, 0.55, 0.11, 0.02])}


@dataclass(frozen=True, eq=False)
class Cuts:
    """Ways to see chains as limbs: joints ``(n,)`` where a limb's chain hangs, begins (``start``), and its three joints."""

    base: np.ndarray
    start: np.ndarray
    joints: np.ndarray  # (n, 3)
    before: np.ndarray  # joints between where it hangs and its first
    skipped: np.ndarray  # (n, 2)
    after: np.ndarray  # the joint that follows the middle one
    even: np.ndarray  # (n, 2), whether roll bones cut a bone into equal lengths

    def __len__(self) -> int:
        return len(self.base)


@dataclass(frozen=True, eq=False)
class Pairs:
    """Pairs of limbs alike: ``joints (n, 2, 3)``, ``starts (n, 2)``, ``base (n,)``, and how well they fit ``score (n,)``."""

    base: np.ndarray
    starts: np.ndarray
    joints: np.ndarray
    before: np.ndarray
    score: np.ndarray

    def __len__(self) -> int:
        return len(self.base)

    def take(self, order: np.ndarray) -> Pairs:
        return Pairs(self.base[order], self.starts[order], self.joints[order], self.before[order], self.score[order])


def misfit(value: np.ndarray, expected: tuple[float, float], most: float = 9.0) -> np.ndarray:
    """What a value costs that is not as expected (mean and spread): half its square in spreads, up to a bound."""
    return np.minimum(((value - expected[0]) / expected[1]) ** 2, most) / 2


def find_pairs(tree: Tree, names: NameEvidence, most: int, moves: Moving | None = None) -> tuple[Pairs, Pairs]:
    """The likeliest pairs of legs and of arms (Pairs each), best first; ``moves``: a motion that tells more."""
    brothers = _brothers(tree)
    starts = sorted({c for _, pair in brothers for c in pair})
    cuts = _cuts(tree, starts)
    made = []
    for template in (LEG, ARM):
        score = _scores(tree, names, cuts, template) if len(cuts) else np.zeros(0)
        if moves is not None:
            score = score - _still(tree, moves, cuts)
        best = {}
        firsts = np.searchsorted(cuts.start, starts)
        for start, first, end in zip(starts, firsts, [*firsts[1:], len(cuts)]):
            of = np.arange(first, end)
            of = of[np.argsort(-score[first:end], kind="stable")[:_KEPT]]
            best[start] = of[np.isfinite(score[of])]
        made.append(_paired(tree, names, cuts, score, best, brothers, template, most))
    return made[0], made[1]


def _brothers(tree: Tree) -> list[tuple[int, tuple[int, int]]]:
    """Pairs of chains of like length that hang on one joint, as ``(that joint, their first joints)``."""
    found, least = [], 0.04 * float(tree.reach.max(initial=0.0))
    for base, children in enumerate(tree.children):
        ways = {c: way for c in children if tree.sizes[c] >= 3 and (way := tree.step(base, c)) > least}
        if len(ways) < 2:
            continue
        if len(ways) > _MOST_BROTHERS:
            ways = dict(sorted(ways.items(), key=lambda item: -item[1])[:_MOST_BROTHERS])
        for a, b in combinations(ways, 2):
            # A prop in one hand only makes one of two arms much longer.
            if min(ways[a], ways[b]) > 0.8 * max(ways[a], ways[b]) or 0.5 < tree.sizes[a] / tree.sizes[b] < 2:
                found.append((base, (a, b)))
    return found


def _cuts(tree: Tree, starts: list[int]) -> Cuts:
    rows, lengths = [], tree.lengths.tolist()

    def even(joints: tuple[int, ...]) -> bool:
        if len(joints) < 2:
            return False
        steps = [lengths[j] for j in joints]
        return min(steps) > 0.97 * max(steps)

    for start in starts:
        base = int(tree.skeleton.parents[start])
        ways: list[tuple[int, tuple[int, ...]]] = [(start, (start,))]
        for at, path in ways:
            if len(ways) > _MOST_NODES:
                break
            if len(path) < _DEEP:
                ways.extend((c, (*path, c)) for c in tree.children[at])
            for s in range(min(len(path) - 2, _MOST_BEFORE)):
                for m in range(max(s + 1, len(path) - 6), min(s + 6, len(path) - 1)):
                    rolls = m - s - 1, len(path) - m - 2
                    evenly = even(path[s + 1 : m + 1]), even(path[m + 1 :])
                    rows.append((base, start, path[s], path[m], at, s, *rolls, path[m + 1], *evenly))
    table = np.array(rows, dtype=np.int64).reshape(-1, 11)
    return Cuts(table[:, 0], table[:, 1], table[:, 2:5], table[:, 5], table[:, 6:8], table[:, 8], table[:, 9:])


def _scores(tree: Tree, names: NameEvidence, cuts: Cuts, template: Template) -> np.ndarray:
    """How well each cut fits a template by itself ``(n,)``; minus infinity where it can't be one."""
    s, m, e = cuts.joints.T
    points, ways = tree.points, tree.ways
    upper, lower = np.linalg.norm(points[m] - points[s], axis=1), np.linalg.norm(points[e] - points[m], axis=1)
    limb = upper + lower
    with np.errstate(divide="ignore", invalid="ignore"):
        score = -misfit(np.log(upper / lower), template.halves, 16)
        # What is skipped lies on the straight line, or is no roll bone: by how much its way is longer.
        for long, a, b in ((upper, s, m), (lower, m, e)):
            slack = np.maximum((ways[b] - ways[a]) / long - 1, 0)
            score -= np.minimum((np.sqrt(2 * slack) / _STRAIGHT) ** 2, 12) / 2
        score += 0.8 * cuts.even.sum(1)
        rolls = np.minimum(cuts.skipped, len(_ROLLS) - 1)
        score += _ROLLS[rolls.max(1)] - 1.2 * (rolls.max(1) - rolls.min(1))
        bend = rot.angle_between(points[m] - points[s], points[e] - points[m])
        score += np.minimum(bend / np.radians(4), 1) * 0.7 - np.where(bend > np.radians(110), 3.0, 0.0)
        # Where a limb is not quite straight, it is bent at a joint that bends, and not at a roll bone.
        here = rot.angle_between(points[m] - points[tree.skeleton.parents[m]], points[cuts.after] - points[m])
        score -= 2.5 * ((bend > np.radians(1.5)) & (here < np.radians(0.4)))
        score += _BEFORE[template][np.minimum(cuts.before, _MOST_BEFORE - 1)]
        # What is held in a hand may be longer than the hand: the next longest chain counts as well.
        behind = tree.reach[e] > 0.06 * limb
        fits = np.min([misfit(np.log(w[e] / limb), template.end) for w in (tree.reach, tree.second)], 0)
        score -= np.where(behind, np.minimum(fits, 1.6 if template is ARM else 4.5), 0.8)
        score -= 1.6 * (tree.aside[e] - tree.aside[cuts.start])
    score -= 2.0 * ((tree.lengths[e] < 1e-3 * limb) & (tree.reach[e] < 1e-3 * limb))  # a socket, no end of a limb
    branches = _branches(tree, e)
    score -= 1.0 * ((branches == 1) & (tree.levels[e] > 2))
    if template is ARM:
        score += np.where((branches >= 3) & (fits < 1.6), 1.5, np.where(branches == 1, -0.4, 0.0))
    else:
        score += np.where(behind, np.where(_turned(tree, m, e), 0.9, -0.5), 0.0) - np.where(
            (branches >= 4) & (fits < 1.6), 1.0, 0.0
        )
    for column, part in zip(cuts.joints.T, template.parts):
        score += 0.8 * names.weights(part)[column]
    good = (np.minimum(upper, lower) > 0.16 * limb) & (limb > 0)
    return np.where(good & np.isfinite(score), score, -np.inf)


def _still(tree: Tree, moves: Moving, cuts: Cuts) -> np.ndarray:
    """What it costs in a motion that joints of limbs do not bend, and that roll bones do."""
    s, m, e = cuts.joints.T
    parents = tree.skeleton.parents
    skipped = moves.ways[parents[m]] - moves.ways[s] + moves.ways[parents[e]] - moves.ways[m]
    cost = 2.0 * (moves.bends[m] < _BENT) + 1.0 * (moves.bends[s] < _BENT)
    return cost + np.minimum(skipped / (3 * _BENT), 2.5)


def _branches(tree: Tree, joints: np.ndarray) -> np.ndarray:
    """How many chains with a length of their own begin at each of ``joints``, or in the palm that follows it."""
    count = np.array([sum(tree.lengths[c] + tree.reach[c] > 1e-9 for c in children) for children in tree.children])
    inside = np.array([max((count[c] for c in children), default=0) for children in tree.children])
    return np.maximum(count, inside)[joints]


def _turned(tree: Tree, middle: np.ndarray, end: np.ndarray) -> np.ndarray:
    """Whether what follows the end of a limb turns off from its lower bone by more than 35 degrees."""
    points = tree.points
    after = np.where((tree.next[end] >= 0)[:, None], points[tree.next[end]], np.nan_to_num(tree.ends[end], nan=0.0))
    return rot.angle_between(points[end] - points[middle], after - points[end]) > np.radians(35)


def _straight_on(tree: Tree, joints: np.ndarray) -> np.ndarray:
    """What it costs that an upper arm ``(n, 2, 3)`` goes straight on from what would be a collarbone: then it is a roll bone."""
    points, s = tree.points, joints[:, :, 0]
    way = points[joints[:, :, 1]] - points[s]
    bend = rot.angle_between(points[s] - points[tree.skeleton.parents[s]], way)
    across = points[s[:, 0]] - points[s[:, 1]]
    # With arms stretched out to the sides both may lie in one line.
    level = rot.angle_between(way[:, 0], across) < np.radians(12)
    return np.where((bend < np.radians(1)).all(1), np.where(level, 0.5, 2.5), 0.0)


def _like_it(tree: Tree, starts: np.ndarray) -> np.ndarray:
    """How many more chains than one hang beside some that are as long and have as many joints: a skirt, or fingers (at most 3)."""
    count = {}
    for start in set(starts.tolist()):
        base = int(tree.skeleton.parents[start])
        way = tree.step(base, start)
        alike = sum(
            tree.levels[c] == tree.levels[start] and abs(tree.step(base, c) - way) < 0.1 * way
            for c in tree.children[base]
        )
        count[start] = min(max(alike - 2, 0), 3)
    return np.array([count[s] for s in starts.tolist()])


def _paired(
    tree: Tree,
    names: NameEvidence,
    cuts: Cuts,
    score: np.ndarray,
    best: dict[int, np.ndarray],
    brothers: list[tuple[int, tuple[int, int]]],
    template: Template,
    most: int,
) -> Pairs:
    """The pairs of cuts that are most alike and fit best, one partner for each (Pairs), best first."""
    points, found = tree.points, []
    lengths = np.log(np.maximum(np.linalg.norm(np.diff(points[cuts.joints], axis=1), axis=2), 1e-12))
    for _, (a, b) in brothers:
        here, there = best[a], best[b]
        if not len(here) or not len(there):
            continue
        unlike = np.abs(lengths[here][:, None] - lengths[there][None]).sum(2) / 0.1
        unlike = np.minimum(unlike**2, 30) / 2
        for of in (cuts.before, cuts.skipped[:, 0], cuts.skipped[:, 1]):
            unlike += 1.5 * (of[here][:, None] != of[there][None])
        total = (score[here][:, None] + score[there][None]) * 0.65 - unlike
        partner = np.argmax(total, axis=1)
        found.extend(
            (float(total[i, k]), int(here[i]), int(there[k]))
            for i, k in enumerate(partner)
            if total[i, k] == total[:, k].max()
        )
    found.sort(key=lambda f: (-f[0], f[1], f[2]))
    first, second = (np.array([f[k] for f in found], dtype=np.int64) for k in (1, 2))
    joints = np.stack([cuts.joints[first], cuts.joints[second]], axis=1) if found else np.zeros((0, 2, 3), int)
    total = np.array([f[0] for f in found])
    if found:
        apart = np.linalg.norm(points[joints[:, 0, 0]] - points[joints[:, 1, 0]], axis=1) / 2
        limb = np.linalg.norm(np.diff(points[joints], axis=2), axis=3).sum((1, 2)) / 2
        with np.errstate(divide="ignore"):
            total = total - misfit(np.log(apart / limb), template.apart)
        total += 0.7 * np.array([names.opposite(a, b) for a, b in joints[:, :, 0]])
        total -= 0.6 * _like_it(tree, cuts.start[first])
        if template is ARM:
            total -= _straight_on(tree, joints) * (cuts.before[first] > 0)
    order = np.argsort(-total, kind="stable")[:most]
    return Pairs(
        cuts.base[first][order], np.stack([cuts.start[first], cuts.start[second]], axis=1)[order], joints[order],
        cuts.before[first][order], total[order],
    )  # fmt: skip
