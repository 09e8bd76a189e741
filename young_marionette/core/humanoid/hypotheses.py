"""A body as a whole: which legs, arms and head belong to one figure, and how sure that is.

All likely pairs of legs and arms are put together and scored as one body (logarithms of how likely), by lengths and
places against each other, and by what hangs on what; so that no single word or length decides. How sure a part is comes
from the share that all hypotheses have which see it in the same joints.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from .limbs import Pairs, misfit

if TYPE_CHECKING:
    from .tree import Tree
    from .words import NameEvidence

_MOST, _CLOSE = 14, 9.0  # pairs of pairs whose heads are looked for, and how far from the likeliest
_FAR = 14.0  # from the likeliest; what is less likely does not count
_HEADS = 1.5  # what tells heads apart is trusted more than what tells limbs apart
_WARMTH = 1.5  # how far scores are trusted: they are worked out as if each piece of evidence stood for itself
# Means and spreads; lengths are shares of thigh and shin together.
_ARM = (np.log(0.68), 0.24)
_TRUNK = (np.log(0.64), 0.26)
_SHOULDER = (np.log(0.24), 0.33)
_HIP = (np.log(0.11), 0.4)
_CHEST, _PELVIS = (-0.07, 0.11), (0.04, 0.09)
_HEAD, _HEAD_AHEAD, _HEAD_ASIDE = (0.17, 0.075), (0.0, 0.09), (0.0, 0.025)
_CROWN = (0.27, 0.1)
_FACE = (0.09, 0.04)  # from the head to the middle of its face
_NECKS = np.log([0.16, 0.48, 0.24, 0.1, 0.02])
_MOST_HEADS, _CROWD = 300, 4
_HIGHER, _NEARLY = 3.5, 6.0
_NO_ARMS, _NO_HEAD = -11.0, -7.5
_ELSE = -13.0  # where even the likeliest hypothesis is hardly likelier, the body is something that was not thought of
_ELSE_WITH_LIMBS, _LIMBS = -9.0, -9.0  # the same where a pair of limbs is left over, and what one scores by itself


@dataclass(frozen=True, eq=False)
class Limbs:
    """A pair of limbs of a hypothesis. ``joints (2, 3)``; ``before``: joints between ``base`` and the first."""

    base: int
    starts: tuple[int, int]
    joints: np.ndarray
    before: int
    score: float


@dataclass(frozen=True, eq=False)
class Hypothesis:
    """Legs, arms (None: it has none), the head joint (None: none is seen) and what speaks for them together.

    ``against``: the score of something else that was not thought of.
    """

    legs: Limbs
    arms: Limbs | None
    head: int | None
    score: float
    against: float = _ELSE


def hypotheses(tree: Tree, names: NameEvidence, legs: Pairs, arms: Pairs) -> list[Hypothesis]:
    """The likeliest ways to see a body with two legs in a tree of joints, best first; empty where there is none."""
    made = [
        Hypothesis(limbs_of(legs, i), None, None, float(legs.score[i]) + _NO_ARMS + _NO_HEAD)
        for i in range(min(len(legs), 4))
    ]
    if len(legs) and len(arms):
        total = _together(tree, legs, arms)
        order = np.argsort(-total, axis=None, kind="stable")[:_MOST]
        heads: dict[tuple[bytes, ...], list[tuple[int | None, float]]] = {}
        for i, k in zip(*np.unravel_index(order, total.shape)):
            if total[i, k] > total.flat[order[0]] - _CLOSE:
                a, b = limbs_of(legs, i), limbs_of(arms, k)
                # Where arms bend and end says nothing of the head.
                key = a.joints.tobytes(), arms.starts[k].tobytes(), b.joints[:, 0].tobytes()
                if key not in heads:
                    heads[key] = _heads(tree, names, a, b)
                made.extend(Hypothesis(a, b, head, float(total[i, k]) + more) for head, more in heads[key])
    made.sort(key=lambda h: -h.score)
    found = [h for h in made if h.score > made[0].score - _FAR]
    if found and _leaves_limbs(tree, arms, found[0]):
        found[0] = replace(found[0], against=_ELSE_WITH_LIMBS)
    return found


def _leaves_limbs(tree: Tree, arms: Pairs, best: Hypothesis) -> bool:
    """Whether a pair of chains below a body's arms, on its trunk, looks like limbs and is none of its limbs."""
    if best.arms is None:
        return False
    taken = {*best.arms.starts, *best.legs.starts}
    trunk = set(tree.skeleton.ancestors(best.arms.base))
    likely = np.flatnonzero(arms.score > _LIMBS)
    return any(int(arms.base[i]) in trunk and not taken & set(arms.starts[i].tolist()) for i in likely)


Weighed = list[tuple[float, Hypothesis]]


def shares(found: list[Hypothesis]) -> Weighed:
    """How likely each hypothesis is, of those that were found and beside something else, with it; without those that hardly are."""
    score = np.array([h.score for h in found]) / _WARMTH
    weight = np.exp(score - score.max())
    # However many ways there are to see a body, the likeliest has to be likelier than something else.
    all_of = 1 / (1 + np.exp(found[0].against / _WARMTH - score.max()))
    return [(w, h) for w, h in zip((all_of * weight / weight.sum()).tolist(), found) if w > 1e-3]


def limbs_of(pairs: Pairs, i: int) -> Limbs:
    """One of some pairs of limbs (Limbs)."""
    return Limbs(
        int(pairs.base[i]),
        tuple(pairs.starts[i].tolist()),
        pairs.joints[i],
        int(pairs.before[i]),
        float(pairs.score[i]),
    )


def _together(tree: Tree, legs: Pairs, arms: Pairs) -> np.ndarray:
    """The score of each pair of legs ``(n)`` with each pair of arms ``(m)`` as one body ``(n, m)``."""
    points = tree.points
    (leg, hip, hip_ways), (arm, shoulder, _) = _sizes(tree, legs), _sizes(tree, arms)
    trunk = shoulder[None] - hip[:, None]
    tall = np.linalg.norm(trunk, axis=2)
    up = trunk / np.maximum(tall, 1e-12)[..., None]
    across = [points[p.joints[:, 0, 0]] - points[p.joints[:, 1, 0]] for p in (legs, arms)]
    wide = [np.linalg.norm(a, axis=1) / 2 for a in across]
    with np.errstate(divide="ignore", invalid="ignore"):
        score = legs.score[:, None] + arms.score[None]
        score -= misfit(np.log(arm[None] / leg[:, None]), _ARM) + misfit(np.log(tall / leg[:, None]), _TRUNK)
        score -= misfit(np.log(wide[1][None] / leg[:, None]), _SHOULDER) + misfit(np.log(wide[0] / leg), _HIP)[:, None]
        aims = [a / np.maximum(2 * w, 1e-12)[:, None] for a, w in zip(across, wide)]
        score -= 4 * (1 - np.abs(aims[0] @ aims[1].T))
        score -= 3 * sum(np.einsum("nmc,nmc->nm", up, a) ** 2 for a in (aims[0][:, None], aims[1][None]))
        chest = np.einsum("nmc,nmc->nm", points[arms.base][None] - shoulder[None], up) / leg[:, None]
        pelvis = np.einsum("nmc,nmc->nm", (points[legs.base] - hip)[:, None], up) / leg[:, None]
        score -= misfit(chest, _CHEST) + misfit(pelvis, _PELVIS)
    # Standing or seated, the legs do not go up along the trunk.
    score -= 1.2 * np.maximum(np.einsum("nc,nmc->nm", rot.normalise(hip_ways), up) + 0.3, 0) * 2
    first, last = tree.first, tree.last
    inside = (first[legs.base][:, None] <= first[arms.base][None]) & (
        first[arms.base][None] <= last[legs.base][:, None]
    )
    over = (first[arms.base][None] <= first[legs.base][:, None]) & (first[legs.base][:, None] <= last[arms.base][None])
    same = legs.base[:, None] == arms.base[None]
    score += np.where(same, -2.5, np.where(inside, 1.0, np.where(over, -2.0, 0.0)))
    apart = np.ones_like(same)
    for start in legs.starts.T:
        apart &= ~_within(tree, arms.base[None], start[:, None]) & (start[:, None, None] != arms.starts[None]).all(2)
    for start in arms.starts.T:
        apart &= ~_within(tree, legs.base[:, None], start[None])
    score = np.where(apart & np.isfinite(score), score, -np.inf)
    return score - _HIGHER * _above_arms(tree, legs, arms, score) - _shorter(tree, legs)[:, None]


def _shorter(tree: Tree, legs: Pairs) -> np.ndarray:
    """What it costs legs ``(n,)`` that others, as likely by themselves, are longer: cloth is beside legs, and ends above feet."""
    ways = np.log(np.maximum((tree.lengths + tree.reach)[legs.starts].mean(1), 1e-12))
    other = (legs.base[:, None] == legs.base[None]) & (legs.starts[:, None, :, None] != legs.starts[None, :, None]).all(
        (2, 3)
    )
    rival = other & (legs.score[None] > legs.score[:, None] - _NEARLY)
    longer = np.where(rival, ways[None] - ways[:, None], 0.0).max(1, initial=0.0)
    return np.clip(longer / 0.1 - 0.5, 0, 3)  # type: ignore[no-any-return]


def _above_arms(tree: Tree, legs: Pairs, arms: Pairs, score: np.ndarray) -> np.ndarray:
    """Whether arms ``(n, m)`` begin above others that fit a body nearly as well: those at the head would be hair."""
    under = _within(tree, arms.base[:, None], arms.base[None]) & (
        arms.base[:, None] != arms.base[None]
    )  # (upper, lower)
    trunk = _within(tree, arms.base[None], legs.base[:, None]) & (
        arms.base[None] != legs.base[:, None]
    )  # (legs, lower)
    found = np.zeros(score.shape, bool)
    for lower in np.flatnonzero(under.any(0)):
        rival = np.where(trunk[:, lower], score[:, lower], -np.inf)[:, None]
        found |= under[:, lower][None] & (rival > score - _NEARLY)
    return found


def _within(tree: Tree, joints: np.ndarray, tops: np.ndarray) -> np.ndarray:
    return (tree.first[tops] <= tree.first[joints]) & (tree.first[joints] <= tree.last[tops])


def _sizes(tree: Tree, pairs: Pairs) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """``(length of both bones (n,), middle between the pair's first joints (n, 3), mean way to its ends (n, 3))``."""
    at = tree.points[pairs.joints]
    long = np.linalg.norm(np.diff(at, axis=2), axis=3).sum((1, 2)) / 2
    return long, at[:, :, 0].mean(1), (at[:, :, 2] - at[:, :, 0]).mean(1)


def _heads(tree: Tree, names: NameEvidence, legs: Limbs, arms: Limbs) -> list[tuple[int | None, float]]:
    """The likeliest joints for the head, with what each adds to the score; the last says that there is none."""
    points, base = tree.points, arms.base
    hips, shoulders = points[legs.joints[:, 0]], points[arms.joints[:, 0]]
    leg = float(np.linalg.norm(np.diff(points[legs.joints], axis=1), axis=2).sum() / 2)
    up = rot.normalise(shoulders.mean(0) - hips.mean(0))
    side = shoulders[0] - shoulders[1]
    side = rot.normalise(side - (side @ up) * up)
    ways = _ways_up(tree, base, {*arms.starts, *legs.starts}, 1e-6 * leg)
    if not ways:
        return [(None, _NO_HEAD)]
    joints, above, necks, left, more, deep = np.array(ways).T
    offsets = (points[joints] - shoulders.mean(0)) / leg
    rise, aside = offsets @ up, offsets @ side
    ahead = np.linalg.norm(offsets - rise[:, None] * up - aside[:, None] * side, axis=1)
    tips = (tree.ends[joints] - points[joints]) @ up / leg
    tall, levels = np.zeros(len(ways)), np.zeros(len(ways), int)  # how far, and by how many joints, it goes on upwards
    for i in reversed(range(len(ways))):
        if tips[i] > 0.03:
            tall[i], levels[i] = max(tall[i], tips[i]), max(levels[i], 1)
        over = above[i]
        if over >= 0 and np.linalg.norm(offsets[i] - offsets[over]) < 1e-6:
            tall[over], levels[over] = max(tall[over], tall[i]), max(levels[over], levels[i])
        elif over >= 0 and abs(aside[i] - aside[over]) < 0.03 and rise[i] > rise[over] + 0.01:
            tall[over] = max(tall[over], rise[i] - rise[over] + tall[i])
            levels[over] = max(levels[over], 1 if more[i] >= _CROWD else levels[i] + 1)
    score = 1.5 - misfit(rise, _HEAD) - misfit(aside, _HEAD_ASIDE, 16) - misfit(ahead, _HEAD_AHEAD)
    score += _NECKS[np.minimum(necks, 4)] - np.minimum(0.9 * left, 3.6) - 2.5 * ((levels > 1) & (more == 1))
    score += np.where(tall > 0.03, 0.35 - misfit(tall, _CROWN), 0.0)
    score += 0.8 * names.weights("head")[joints] + np.clip(0.5 * (more - 1), 0, 1.5)
    # Many joints without any below them are a face, which may hang on a joint of its own in the head.
    face = (more >= _CROWD) & (deep == 0)
    middle = np.where(
        face, [points[list(tree.children[j])].mean(0) @ up if f else 0 for j, f in zip(joints, face)], np.nan
    )
    for i in np.flatnonzero(face).tolist():
        if above[i] >= 0 and more[above[i]] == 1:
            middle[above[i]] = middle[i]
    chin = (middle - points[joints] @ up) / leg
    score -= 0.2 * face + np.where(np.isfinite(chin), misfit(chin, _FACE), 0.0)
    good = (rise > -0.12) & (rise < 0.9) & (np.abs(aside) < 0.12)
    found = [(int(j), _HEADS * float(v)) for j, v in zip(joints[good], score[good])]
    found.sort(key=lambda f: -f[1])
    return [*found[:3], (None, _NO_HEAD)]


def _ways_up(tree: Tree, base: int, taken: set[int], least: float) -> list[tuple[int, ...]]:
    """The joints from ``base`` on: ``(joint, row above, how many lie between, how many leave the way to it, how many follow, and how many of those have joints below them)``."""
    rows = [(c, -1, 0, 0) for c in tree.children[base] if c not in taken]
    more = []
    for i, (at, _, necks, left) in enumerate(rows):
        # What lies on its parent is no bone of its own, but may carry some.
        below = [c for c in tree.children[at] if c not in taken and (tree.lengths[c] > least or tree.sizes[c] > 1)]
        more.append((len(below), sum(bool(tree.children[c]) for c in below)))
        if necks < 5 and len(rows) < _MOST_HEADS:
            rows.extend((c, i, necks + int(tree.lengths[c] > least), left + min(len(below) - 1, 4)) for c in below)
    return [(*row, *counts) for row, counts in zip(rows, more)]
