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

_EVEN = 0.03  # of a step's logarithm
_DEEP = 13  # joints below a limb's first that are looked at
_MOST_BEFORE, _MOST_BROTHERS, _MOST_NODES = 4, 24, 300
_KEPT, _RIVALS = 14, 12  # ways to see one chain, and two beside each other
_UNEVEN_BEND, _WRIST = np.radians(12), np.radians(20)
_FAR_BEHIND = 9.0  # the best pair of limbs, where no pair of two chains can be worth a look
_BENT = np.radians(1.0)  # root mean square; what turns its bone by less is still
_STRAIGHT = 0.02  # radians that roll bones are off the line at most
_ROLLS = np.log([0.65, 0.19, 0.12, 0.04])
_BEFORE = {LEG: np.log([0.9, 0.08, 0.015, 0.005]), ARM: np.log([0.32, 0.55, 0.11, 0.02])}
# Per number of joints of a chain: the places of a limb's first and middle joint in it; its end is the last.
_PLACES = {
    depth: np.array(
        [
            (first, middle)
            for first in range(min(depth - 2, _MOST_BEFORE))
            for middle in range(max(first + 1, depth - 6), min(first + 6, depth - 1))
        ],
        dtype=np.int64,
    ).reshape(-1, 2)
    for depth in range(3, _DEEP + 2)
}


@dataclass(frozen=True, eq=False)
class Cuts:
    """Ways to see chains as limbs: joints ``(n,)`` where a limb's chain hangs, begins (``start``), and its three joints."""

    base: np.ndarray
    start: np.ndarray
    joints: np.ndarray  # (n, 3)
    before: np.ndarray  # joints between where it hangs and its first
    skipped: np.ndarray  # (n, 2)
    below: np.ndarray  # the joint that follows the first one
    after: np.ndarray  # and the middle one
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


def misfit(value: np.ndarray, expected: tuple[float, float], most: float = 9.0) -> np.ndarray:
    """What a value costs that is not as expected (mean and spread): half its square in spreads, up to a bound."""
    return np.minimum(((value - expected[0]) / expected[1]) ** 2, most) / 2


def find_pairs(tree: Tree, names: NameEvidence, most: int, moves: Moving | None = None) -> tuple[Pairs, Pairs]:
    """The likeliest pairs of legs and of arms (Pairs each), best first; ``moves``: a motion that tells more."""
    brothers = _brothers(tree)
    starts = sorted({c for pair in brothers for c in pair})
    cuts = _cuts(tree, starts)
    made = []
    scores = _scores(tree, names, cuts) if len(cuts) else (np.zeros(0), np.zeros(0))
    still = _still(tree, moves, cuts) if moves is not None else 0.0
    firsts = np.searchsorted(cuts.start, starts)
    for template, score in zip((LEG, ARM), scores):
        score = score - still
        best = {}
        for start, first, end in zip(starts, firsts, [*firsts[1:], len(cuts)]):
            of = np.arange(first, end)
            of = of[np.argsort(-score[first:end], kind="stable")[:_KEPT]]
            best[start] = of[np.isfinite(score[of])]
        made.append(_paired(tree, names, cuts, score, best, brothers, template, most))
    return made[0], made[1]


def _brothers(tree: Tree) -> list[tuple[int, int]]:
    """Pairs of chains of like length that hang on one joint: their first joints."""
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
                found.append((a, b))
    return found


def _cuts(tree: Tree, starts: list[int]) -> Cuts:
    """All ways to see the chains from some joints on as limbs, in the order of ``starts``."""
    # Of joints at one place the first stands for all.
    apart = (tree.lengths > 1e-7 * tree.reach.max(initial=0.0)).tolist()
    paths: list[tuple[int, ...]] = []
    for start in starts:
        ways: list[tuple[tuple[int, ...], int]] = [((start,), start)]
        for path, here in ways:
            if len(ways) > _MOST_NODES:
                break
            if len(path) <= _DEEP:
                ways.extend(((*path, c) if apart[c] else path, c) for c in tree.children[here])
        paths.extend(path for path, here in ways if len(path) > 2 and path[-1] == here)
    depths = [len(path) for path in paths]
    row = np.repeat(np.arange(len(paths)), [len(_PLACES[d]) for d in depths])
    first, middle = np.concatenate([np.zeros((0, 2), np.int64), *(_PLACES[d] for d in depths)]).T
    joints = np.array([path + (-1,) * (_DEEP + 1 - len(path)) for path in paths], np.int64).reshape(-1, _DEEP + 1)
    last = np.array(depths, np.int64)[row] - 1
    # The longest and the shortest step of what is skipped, from one joint to another.
    steps, at = np.log(np.maximum(tree.lengths[joints], 1e-12))[row], np.arange(_DEEP + 1)
    even = np.zeros((len(row), 2), bool)
    for k, (begin, end) in enumerate(((first + 1, middle), (middle + 1, last))):
        inside = (at >= begin[:, None]) & (at <= end[:, None])
        spread = np.where(inside, steps, -np.inf).max(1) - np.where(inside, steps, np.inf).min(1)
        even[:, k] = (spread < _EVEN) & (end > begin)
    joints = joints[row]
    take = lambda places: np.take_along_axis(joints, places[:, None], 1)[:, 0]  # noqa: E731
    return Cuts(
        tree.skeleton.parents[joints[:, 0]], joints[:, 0], np.stack([take(first), take(middle), take(last)], axis=1),
        first, np.stack([middle - first - 1, last - middle - 1], axis=1), take(first + 1), take(middle + 1), even,
    )  # fmt: skip


def _scores(tree: Tree, names: NameEvidence, cuts: Cuts) -> tuple[np.ndarray, np.ndarray]:
    """How well each cut fits a leg and an arm by itself ``(n,)`` each; minus infinity where it can't be one."""
    s, m, e = cuts.joints.T
    points, ways = tree.points, tree.ways
    first, second = points[m] - points[s], points[e] - points[m]
    upper, lower = np.linalg.norm(first, axis=1), np.linalg.norm(second, axis=1)
    limb = upper + lower
    score = np.zeros(len(cuts))
    with np.errstate(divide="ignore", invalid="ignore"):
        halves = np.log(upper / lower)
        # What is skipped lies on the straight line, or is no roll bone: by how much its way is longer.
        for long, a, b in ((upper, s, m), (lower, m, e)):
            slack = np.maximum((ways[b] - ways[a]) / long - 1, 0)
            score -= np.minimum((np.sqrt(2 * slack) / _STRAIGHT) ** 2, 12) / 2
        behind = [np.log(w[e] / limb) for w in (tree.reach, tree.second)]
    score += 0.8 * cuts.even.sum(1)
    rolls = np.minimum(cuts.skipped, len(_ROLLS) - 1)
    most, least = np.maximum(*rolls.T), np.minimum(*rolls.T)
    score += _ROLLS[most] - 1.2 * (most - least)
    bend = rot.angle_between(first, second)
    score += np.minimum(bend / np.radians(4), 1) * 0.7 - np.where(bend > np.radians(110), 3.0, 0.0)
    # Where a limb is not quite straight, it is bent at a joint that bends, and not at a roll bone.
    here = rot.angle_between(points[m] - points[tree.skeleton.parents[m]], points[cuts.after] - points[m])
    score -= 2.5 * ((bend > np.radians(1.5)) & (here < np.radians(0.4)))
    score -= 1.6 * (tree.aside[e] - tree.aside[cuts.start])
    score -= _unlikely_ends(tree)[e] + _goes_on(tree, cuts)
    score -= 2.0 * ((tree.lengths[e] < 1e-3 * limb) & (tree.reach[e] < 1e-3 * limb))  # a socket, no end of a limb
    branches = _branches(tree)[e]
    score -= 1.0 * ((branches == 1) & (tree.levels[e] > 2))
    goes_on = tree.next[e] >= 0
    turn = rot.angle_between(second, np.where(goes_on[:, None], points[tree.next[e]], tree.ends[e]) - points[e])
    good = (np.minimum(upper, lower) > 0.16 * limb) & (limb > 0) & np.isfinite(score)
    made = []
    for template in (LEG, ARM):
        own = score - misfit(halves, template.halves, 16) + _BEFORE[template][np.minimum(cuts.before, _MOST_BEFORE - 1)]
        # What is held in a hand may be longer than the hand: the next longest chain counts as well.
        fits = np.minimum(*(misfit(b, template.end) for b in behind))
        is_behind = tree.reach[e] > 0.06 * limb
        own -= np.where(is_behind, np.minimum(fits, 1.6 if template is ARM else 4.5), 0.8)
        if template is ARM:
            # Elbows are bent in a rest pose rather than wrists.
            own -= np.where(goes_on, np.minimum((turn / _WRIST) ** 2, 2) / 2, 0.0)
            own += np.where((branches >= 3) & (fits < 1.6), 1.5, np.where(branches == 1, -0.4, 0.0))
        else:
            own += np.where(is_behind, np.where(turn > np.radians(35), 0.9, -0.5), 0.0)
            own -= 1.0 * ((branches >= 4) & (fits < 1.6))
        for column, part in zip(cuts.joints.T, template.parts):
            own += 0.8 * names.weights(part)[column]
        made.append(np.where(good & np.isfinite(own), own, -np.inf))
    return made[0], made[1]


def _unlikely_ends(tree: Tree) -> np.ndarray:
    """What it costs that a limb ends in a joint ``(joints,)``, by the twist helpers that stand along bones.

    A joint with helpers along its bone is no end of a limb, and nor is a helper, or a roll bone that stands where one does.
    """
    parents, cost = tree.skeleton.parents, np.zeros(len(tree.sizes))
    leaves = np.flatnonzero((tree.sizes == 1) & (parents >= 0))
    tops = parents[leaves]
    after = tree.next[tops]
    bones, out = tree.points[after] - tree.points[tops], tree.points[leaves] - tree.points[tops]
    long = np.maximum(tree.lengths[after], 1e-12)
    share = np.einsum("ni,ni->n", out, bones) / long**2
    aside = np.linalg.norm(out - share[:, None] * bones, axis=1)
    beside = (leaves != after) & (aside < 0.01 * long) & (share > 0.05)
    helpers = beside & (share < 0.95)
    cost[leaves[helpers]] = 4.0
    cost[tops[helpers]] += 2.0
    behind = tree.next[after]
    straight = rot.angle_between(bones, tree.points[behind] - tree.points[after]) < np.radians(1)
    alone = np.array([len(tree.children[j]) == 1 for j in after.tolist()], bool)
    cost[after[beside & ~helpers & (share < 1.01) & straight & alone]] += 3.0
    return cost


def _goes_on(tree: Tree, cuts: Cuts) -> np.ndarray:
    """What it costs ``(n,)`` that the even steps of roll bones go on before a limb or behind it."""
    s, m, e = cuts.joints.T
    parents, after = tree.skeleton.parents, np.maximum(tree.next[e], 0)
    cost = np.zeros(len(cuts))
    for rolls, outer, inner, joints in (
        (cuts.skipped[:, 0], s, cuts.below, (parents[s], s, m)),
        (cuts.skipped[:, 1], after, e, (m, e, after)),
    ):
        a, b, c = (tree.points[j] for j in joints)
        straight = rot.angle_between(b - a, c - b) < np.radians(1)
        with np.errstate(divide="ignore", invalid="ignore"):
            even = np.abs(tree.lengths[outer] / tree.lengths[inner] - 1) < 0.03
        cost += 2.5 * ((rolls > 0) & even & straight & (tree.next[e] >= 0 if outer is after else outer >= 0))
    return cost


def _still(tree: Tree, moves: Moving, cuts: Cuts) -> np.ndarray:
    """What it costs in a motion that joints of limbs do not bend, and that roll bones do."""
    s, m, e = cuts.joints.T
    parents = tree.skeleton.parents
    skipped = moves.ways[parents[m]] - moves.ways[s] + moves.ways[parents[e]] - moves.ways[m]
    cost = 2.0 * (moves.bends[m] < _BENT) + 1.0 * (moves.bends[s] < _BENT)
    return cost + np.minimum(skipped / (3 * _BENT), 2.5)


def _branches(tree: Tree) -> np.ndarray:
    """How many chains with a length of their own begin at each joint ``(joints,)``, or in the palm that follows it."""
    parents, count = tree.skeleton.parents, np.zeros(len(tree.sizes), int)
    own = (tree.lengths + tree.reach > 1e-9) & (parents >= 0)
    np.add.at(count, parents[own], 1)
    inside = np.zeros(len(count), int)
    np.maximum.at(inside, parents[parents >= 0], count[parents >= 0])
    return np.maximum(count, inside)


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
    firsts, back = np.unique(starts, return_inverse=True)
    parents = tree.skeleton.parents
    beside = parents[None] == parents[firsts][:, None]
    ways = tree.lengths + tree.reach
    alike = beside & (tree.levels[None] == tree.levels[firsts][:, None])
    alike &= np.abs(ways[None] - ways[firsts][:, None]) < 0.1 * ways[firsts][:, None]
    return np.clip(alike.sum(1) - 2, 0, 3)[back]


def _likeness(tree: Tree, cuts: Cuts, used: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """By what both limbs of a pair are alike, for some cuts ``(n,)``: logarithms of lengths ``(n, 2)``, bends, what
    follows at their ends, and how many joints are skipped ``(n, 3)``."""
    joints = cuts.joints[used]
    bones = np.diff(tree.points[joints], axis=1)
    lengths = np.log(np.maximum(np.linalg.norm(bones, axis=2), 1e-12))
    bends = rot.angle_between(bones[:, 0], bones[:, 1]) / _UNEVEN_BEND
    limbs = np.maximum(np.exp(lengths).sum(1), 1e-12)
    behind = np.log(tree.reach[joints[:, 2]] / limbs + 0.02) / 0.4
    return lengths, bends, behind, np.concatenate([cuts.before[used, None], cuts.skipped[used]], axis=1)


def _paired(
    tree: Tree,
    names: NameEvidence,
    cuts: Cuts,
    score: np.ndarray,
    best: dict[int, np.ndarray],
    brothers: list[tuple[int, int]],
    template: Template,
    most: int,
) -> Pairs:
    """The pairs of cuts that are most alike and fit best (Pairs), best first."""
    points = tree.points
    # All pairs of chains at once: (pairs, ways to see the one, ways to see the other).
    both = [(best[a], best[b]) for a, b in brothers if len(best[a]) and len(best[b])]
    ways = np.full((len(both), 2, _KEPT), -1)
    for row, two in zip(ways, both):
        for side, of in zip(row, two):
            side[: len(of)] = of
    most_of = 0.65 * score[ways[:, :, 0]].sum(1)
    ways = ways[most_of >= most_of.max(initial=-np.inf) - _FAR_BEHIND]
    here, there = ways[:, 0, :, None], ways[:, 1, None, :]
    possible, scores = (here >= 0) & (there >= 0), (score[here] + score[there]) * 0.65
    used, ways_used = np.unique(ways, return_inverse=True)
    lengths, bends, behind, counts = _likeness(tree, cuts, used)
    ways_used = ways_used.reshape(ways.shape)
    here, there = ways_used[:, 0, :, None], ways_used[:, 1, None, :]
    unlike = np.abs(lengths[here] - lengths[there]).sum(3) / 0.12
    unlike = np.minimum(unlike**2, 20) / 2
    unlike += np.minimum((bends[here] - bends[there]) ** 2, 4) / 2
    unlike += np.minimum((behind[here] - behind[there]) ** 2, 4) / 2
    unlike += 1.5 * (counts[here] != counts[there]).sum(3)
    total = np.where(possible, scores - unlike, -np.inf).reshape(len(ways), _KEPT * _KEPT)
    close = np.argsort(-total, axis=1, kind="stable")[:, :_RIVALS]
    first = np.take_along_axis(ways[:, 0], close // _KEPT, 1).ravel()
    second = np.take_along_axis(ways[:, 1], close % _KEPT, 1).ravel()
    fits = np.take_along_axis(total, close, 1).ravel()
    first, second, fits = (column[np.isfinite(fits)] for column in (first, second, fits))
    order = np.lexsort((second, first, -fits))
    fits, first, second = fits[order], first[order], second[order]
    joints = np.stack([cuts.joints[first], cuts.joints[second]], axis=1)
    if len(fits):
        apart = np.linalg.norm(points[joints[:, 0, 0]] - points[joints[:, 1, 0]], axis=1) / 2
        limb = np.linalg.norm(np.diff(points[joints], axis=2), axis=3).sum((1, 2)) / 2
        with np.errstate(divide="ignore"):
            fits = fits - misfit(np.log(apart / limb), template.apart)
        fits += 0.7 * names.opposite(*joints[:, :, 0].T)
        fits -= 0.6 * _like_it(tree, cuts.start[first])
        if template is ARM:
            fits -= _straight_on(tree, joints) * (cuts.before[first] > 0)
    order = np.argsort(-fits, kind="stable")[:most]
    return Pairs(
        cuts.base[first][order], np.stack([cuts.start[first], cuts.start[second]], axis=1)[order], joints[order],
        cuts.before[first][order], fits[order],
    )  # fmt: skip
