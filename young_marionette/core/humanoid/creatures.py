"""Bodies that are no upright person's: on four legs, without legs, or none at all, told by how their limbs stand.

What stands on four legs is read as a body whose forelegs are its arms, so that it can be tied to others of its kind.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from .facing import Facing, nearest_axis
from .hypotheses import Hypothesis, Limbs, limbs_of
from .limbs import ARM, Pairs
from .limbs import misfit as _misfit
from .parts import FOUR_LEGS

if TYPE_CHECKING:
    from .limbs import Template
    from .tree import Tree
    from .words import NameEvidence

_LIKELY = -8.0  # of a pair of limbs by itself; what fits worse stands for nothing
_LEGS_ALONE = -4.5
_MOST = 16
_CLEAR_PERSON = -2.0  # which nothing on four legs comes near
_CLEARLY = 24.0  # what four legs score over a person: those that do not are cloth and fingers


def four_legs(
    tree: Tree, names: NameEvidence, legs: Pairs, arms: Pairs, persons: list[Hypothesis]
) -> tuple[Hypothesis, Facing] | None:
    """The hypothesis of what stands on four legs (its arms are the forelegs) and its axes, or None.

    ``persons``: the ways to see a person instead, best first. Two pairs of limbs hang down alike from both ends of a
    level trunk, and end on one floor.
    """
    best, found = 0.0, None
    if persons and persons[0].score > _CLEAR_PERSON:
        return None
    for pairs in (legs, arms):
        hinds, fronts = (np.flatnonzero(p.score[:_MOST] > _LIKELY) for p in (legs, pairs))
        low, high = legs.base[hinds][:, None], pairs.base[fronts][None]
        # Spine and hips may both hang on a root between them; but no limb hangs on another.
        over = low != high
        for start in legs.starts[hinds].T:
            over &= (tree.first[high] < tree.first[start][:, None]) | (tree.first[high] > tree.last[start][:, None])
        for start in pairs.starts[fronts].T:
            over &= (tree.first[low] < tree.first[start][None]) | (tree.first[low] > tree.last[start][None])
        over &= _side_by_side(tree, legs, hinds, pairs, fronts)
        for i, k in np.argwhere(over):
            score, axes = _standing(tree, legs, int(hinds[i]), pairs, int(fronts[k]))
            if score <= 0:
                continue
            hind, front = limbs_of(legs, int(hinds[i])), limbs_of(pairs, int(fronts[k]))
            taken = {*hind.starts, *front.starts}
            score += 1.5 * tree.below(front.base, hind.base)
            score += _ends_in_head(tree, names, front.base, taken, axes[0])
            score -= _ends_in_head(tree, names, hind.base, taken, axes[0])
            if score > best:
                best, found = score, (hind, front, *axes)
    if found is None or (persons and best - persons[0].score < _CLEARLY):
        return None
    hind, front, up, ahead = found
    head = _head_before(tree, names, front, {*hind.starts, *front.starts}, up, ahead)
    likely = float(1 / (1 + np.exp(-best / 3)))
    return Hypothesis(hind, front, head, 0.0), Facing(up, ahead, FOUR_LEGS, likely)


def _ends_in_head(tree: Tree, names: NameEvidence, base: int, taken: set[int], up: np.ndarray) -> float:
    """How much what goes on from one end of a trunk looks like neck and head, rather than like a tail or nothing."""
    best = -1.0
    for start in tree.children[base]:
        if start in taken or any(tree.below(t, start) for t in taken):
            continue
        chain = tree.chain(start)
        rise = tree.line(chain)[-1] - tree.points[base]
        score = float(rise @ up) / max(float(np.linalg.norm(rise)), 1e-12)
        score += 2.0 * any(len(tree.children[j]) > 1 for j in chain)
        score += 3.0 * max(names.weight(j, "head", "neck", "jaw", "ear") for j in chain)
        score -= 3.0 * max(names.weight(j, "tail") for j in chain)
        best = max(best, score)
    return best


def _head_before(
    tree: Tree, names: NameEvidence, front: Limbs, taken: set[int], up: np.ndarray, ahead: np.ndarray
) -> int | None:
    """The head of what stands on four legs: at the end of the neck, which leads on from the forelegs' base."""
    at, chain = front.base, list[int]()
    ways = [c for c in tree.children[at] if c not in taken]
    ways = [c for c in ways if (tree.line(tree.chain(c))[-1] - tree.points[at]) @ (ahead + 0.7 * up) > 0]
    if not ways:
        return None
    chain = list(tree.chain(max(ways, key=lambda c: tree.step(at, c))))
    said = [names.weight(j, "head") for j in chain]
    if max(said) > 0:
        return chain[int(np.argmax(said))]
    # Ears, eyes and a jaw hang on it; else it is the last bone.
    for joint in chain:
        if len(tree.children[joint]) > 1:
            return joint
    last = chain[-1]
    return last if tree.has_tip[last] or len(chain) < 2 else chain[-2]


def _side_by_side(tree: Tree, legs: Pairs, hinds: np.ndarray, pairs: Pairs, fronts: np.ndarray) -> np.ndarray:
    """Whether limbs ``(hinds, fronts)`` hang down alike from a trunk that lies across them."""
    points = tree.points
    a, b = (
        rot.normalise((points[j[:, :, 2]] - points[j[:, :, 0]]).mean(1))
        for j in (legs.joints[hinds], pairs.joints[fronts])
    )
    trunk = rot.normalise(points[pairs.base[fronts]][None] - points[legs.base[hinds]][:, None])
    return (a @ b.T >= 0.8) & (np.abs(np.einsum("nc,nmc->nm", a, trunk)) <= 0.45)  # type: ignore[no-any-return]


def _standing(
    tree: Tree, legs: Pairs, hind: int, pairs: Pairs, front: int
) -> tuple[float, tuple[np.ndarray, np.ndarray]]:
    """How much two pairs of limbs look like four legs, over nought where they do, and the body's axes."""
    nothing = 0.0, (np.zeros(3), np.zeros(3))
    a, b = legs.joints[hind], pairs.joints[front]
    points, low, high = tree.points, legs.base[hind], pairs.base[front]
    ways = [(points[limb[:, 2]] - points[limb[:, 0]]).mean(0) for limb in (a, b)]
    reach = [float(np.linalg.norm(w)) for w in ways]
    trunk = points[high] - points[low]
    if float(rot.normalise(ways[0]) @ rot.normalise(ways[1])) < 0.8:
        return nothing
    up = nearest_axis(-ways[0] - ways[1])
    ends = [np.mean([tree.line(tree.chain(j))[-1] for j in limb[:, 2]], axis=0) for limb in (a, b)]
    level = abs(float((ends[0] - ends[1]) @ up)) / reach[0]
    along = abs(float(up @ rot.normalise(trunk)))
    if along > 0.45 or level > 0.3 or np.linalg.norm(trunk) < 0.4 * reach[0]:
        return nothing
    score = 20 + float(legs.score[hind] + pairs.score[front]) - float(_misfit(np.log(reach[1] / reach[0]), (0.0, 0.3)))
    return score, (up, rot.normalise(trunk - (trunk @ up) * up))


def no_legs(found: list[Hypothesis], legs: Pairs, arms: Pairs) -> bool:
    """Whether what was taken for legs, without any arms, looks more like arms."""
    best = found[0].score if found and found[0].arms is not None else None
    return (
        best is None
        and len(arms) > 0
        and arms.score[0] > _LIKELY
        and (not len(legs) or arms.score[0] > legs.score[0] + 1)
    )


def nobody(found: list[Hypothesis]) -> bool:
    """Whether nothing that was found is worth being called a body: two chains alone are no legs unless they look it."""
    return not found or (found[0].arms is None and found[0].legs.score < _LEGS_ALONE)


def more_arms(tree: Tree, names: NameEvidence, arms: Pairs, best: Hypothesis) -> set[int]:
    """Where further arms begin on a body: pairs of limbs on its trunk, as long as its arms, that end in hands."""
    if best.arms is None:
        return set()
    points, taken, found = tree.points, [*best.arms.starts, *best.legs.starts], set[int]()
    trunk = {
        best.legs.base,
        *(j for top in (best.arms.base, best.head) if top is not None for j in (top, *tree.skeleton.ancestors(top))),
    }
    own = float(np.linalg.norm(np.diff(points[best.arms.joints], axis=1), axis=2).sum() / 2)
    for i in np.flatnonzero(arms.score > _LIKELY):
        starts, joints = arms.starts[i].tolist(), arms.joints[i]
        long = float(np.linalg.norm(np.diff(points[joints], axis=1), axis=2).sum() / 2)
        if int(arms.base[i]) not in trunk or not 0.6 < long / own < 1.7:
            continue
        if any(tree.below(s, t) or tree.below(t, s) for s in starts for t in (*taken, *found)):
            continue
        hands = all(sum(tree.step(j, c) > 0.1 * long for c in tree.children[j]) >= 3 for j in joints[:, 2].tolist())
        if hands or speak(names, joints, ARM) > 0.3:
            found.update(starts)
    return found


def speak(names: NameEvidence, limbs: np.ndarray, template: Template) -> float:
    """How far the names of a pair of limbs ``(2, 3)`` speak for a template's parts, from -1 to 1."""
    return float(np.mean([names.weight(j, part) for limb in limbs for j, part in zip(limb, template.parts)]))
