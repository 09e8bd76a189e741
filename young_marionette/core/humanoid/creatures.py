"""Bodies that are no upright person's: on four legs, without legs, or none at all, told by how their limbs stand."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from .limbs import ARM, Pairs
from .limbs import misfit as _misfit

if TYPE_CHECKING:
    from .hypotheses import Hypothesis
    from .limbs import Template
    from .tree import Tree
    from .words import NameEvidence

_LIKELY = -8.0  # of a pair of limbs by itself; what fits worse stands for nothing
_MOST = 16


def four_legs(tree: Tree, names: NameEvidence, legs: Pairs, arms: Pairs) -> tuple[np.ndarray, np.ndarray] | None:
    """``(up, ahead)``, axes of what stands on four legs, or None.

    Two pairs of limbs hang down alike from both ends of a level trunk, and end on one floor.
    """
    best, found = 0.0, None
    for pairs in (legs, arms):
        hinds, fronts = (np.flatnonzero(p.score[:_MOST] > _LIKELY) for p in (legs, pairs))
        low, high = legs.base[hinds][:, None], pairs.base[fronts][None]
        over = (low != high) & (tree.first[low] <= tree.first[high]) & (tree.first[high] <= tree.last[low])
        for start in legs.starts[hinds].T:
            over &= (tree.first[high] < tree.first[start][:, None]) | (tree.first[high] > tree.last[start][:, None])
        for i, k in np.argwhere(over):
            score, axes = _standing(tree, names, legs, int(hinds[i]), pairs, int(fronts[k]))
            if score > best:
                best, found = score, axes
    return found


def _standing(
    tree: Tree, names: NameEvidence, legs: Pairs, hind: int, pairs: Pairs, front: int
) -> tuple[float, tuple[np.ndarray, np.ndarray]]:
    """How much two pairs of limbs look like four legs, over nought where they do, and the body's axes."""
    nothing = 0.0, (np.zeros(3), np.zeros(3))
    a, b = legs.joints[hind], pairs.joints[front]
    points, low, high = tree.points, legs.base[hind], pairs.base[front]
    ways = [(points[limb[:, 2]] - points[limb[:, 0]]).mean(0) for limb in (a, b)]
    reach = [float(np.linalg.norm(w)) for w in ways]
    trunk = points[high] - points[low]
    down = rot.normalise(ways[0])
    if float(down @ rot.normalise(ways[1])) < 0.8:
        return nothing
    ends = [np.mean([tree.line(tree.chain(j))[-1] for j in limb[:, 2]], axis=0) for limb in (a, b)]
    level = abs(float((ends[0] - ends[1]) @ down)) / reach[0]
    along = abs(float(down @ rot.normalise(trunk)))
    if along > 0.45 or level > 0.3 or np.linalg.norm(trunk) < 0.4 * reach[0]:
        return nothing
    # A person on hands and knees has arms by name.
    if speak(names, b, ARM) >= 0.5:
        return nothing
    score = 20 + float(legs.score[hind] + pairs.score[front]) - float(_misfit(np.log(reach[1] / reach[0]), (0.0, 0.3)))
    up = nearest_axis(-down)
    return score, (up, rot.normalise(trunk - (trunk @ up) * up))


def no_legs(found: list[Hypothesis], legs: Pairs, arms: Pairs) -> bool:
    """Whether what was taken for legs, without any arms, looks more like arms."""
    best = found[0].score if found and found[0].arms is not None else None
    return best is None and len(arms) > 0 and (not len(legs) or arms.score[0] > legs.score[0] + 1)


def speak(names: NameEvidence, limbs: np.ndarray, template: Template) -> float:
    """How far the names of a pair of limbs ``(2, 3)`` speak for a template's parts, from -1 to 1."""
    return float(np.mean([names.weight(j, part) for limb in limbs for j, part in zip(limb, template.parts)]))


def nearest_axis(v: np.ndarray) -> np.ndarray:
    """The axis, with its sign, that a vector ``(3,)`` is nearest to."""
    axis = int(np.argmax(np.abs(v)))
    up = np.zeros(3)
    up[axis] = np.sign(v[axis])
    return up
