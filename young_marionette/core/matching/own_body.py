"""One body in two dresses: whether the bones that carry it are as long on both sides, whatever else hangs beside them.

Helpers, ends, sockets, roots, roll bones and spine joints that were put in between say nothing about a body.
"""

from __future__ import annotations

from itertools import combinations, pairwise
from typing import TYPE_CHECKING

import numpy as np

from ..humanoid.parts import ARM, LEG, SIDES
from ..humanoid.words import FINGERS

if TYPE_CHECKING:
    from ..skeleton import Skeleton
    from .tying import String

_ALIKE = 1e-3  # of the figure's extent
_FEWEST = 7
_PARTS = {
    "hips", "spine", "neck", "head",
    *(f"{side} {part}" for side in SIDES for part in ("collarbone", *ARM, *LEG, "toes", *FINGERS)),
}  # fmt: skip


def runs(s: String, source: Skeleton, target: Skeleton) -> tuple[list[int], list[int]]:
    """The joints of a string, of the source and of the target."""
    return [source.index[n] for n in s.source], [target.index[n] for n in s.target]


def tied_children(target: Skeleton, pairs: dict[int, int]) -> dict[int, list[int]]:
    """For each tied target joint the tied joints nearest below it."""
    below: dict[int, list[int]] = {j: [] for j in pairs}
    for joint in pairs:
        over = next((a for a in target.ancestors(joint) if a in pairs), None)
        if over is not None:
            below[over].append(joint)
    return below


def covering(s: String, source: Skeleton, target: Skeleton, scale: float) -> list[tuple[int, int, bool]]:
    """``(target joint, source joint, same place)`` along a string's runs of one body, whose joints differ in number.

    The source joint is the last one that does not lie farther along the run: the bone in which the target's joint lies.
    """
    own, other = runs(s, source, target)
    ways = _ways(source, own) * scale, _ways(target, other)
    within = _ALIKE * float(np.ptp(target.rest_world[0], axis=0).max())
    found = []
    for joint, way in zip(other, ways[1]):
        at = int(np.searchsorted(ways[0], way + within)) - 1
        if at >= 0:
            found.append((joint, own[at], bool(abs(ways[0][at] - way) < within)))
        else:
            over = int(source.parents[own[0]])
            found.append((joint, over if over >= 0 else own[0], False))
    return found


def _ways(skeleton: Skeleton, run: list[int]) -> np.ndarray:
    """How far along the bones the joints of a run are from the joint over it ``(n,)``."""
    points = skeleton.rest_world[0]
    over = int(skeleton.parents[run[0]])
    line = [points[over if over >= 0 else run[0]], *(points[j] for j in run)]
    return np.cumsum([float(np.linalg.norm(b - a)) for a, b in pairwise(line)])


def body_pairs(strings: tuple[String, ...], source: Skeleton, target: Skeleton, scale: float) -> dict[int, int]:
    """``{target joint: source joint}`` of the joints that are at the same place of one body."""
    pairs = {}
    for s in strings:
        if s.part not in _PARTS:
            continue
        own, other = runs(s, source, target)
        if len(own) == len(other):
            pairs.update(zip(other, own))
        elif s.part == "hips":
            pairs[other[-1]] = own[-1]
        elif not s.bends:
            pairs[other[0]] = own[0]
        else:
            pairs.update({joint: over for joint, over, same in covering(s, source, target, scale) if same})
    return pairs


def is_same_body(strings: tuple[String, ...], source: Skeleton, target: Skeleton, scale: float) -> bool:
    """Whether both skeletons have one body; ``scale``: lengths of the target over those of the source."""
    pairs = body_pairs(strings, source, target, scale)
    if len(pairs) < _FEWEST:
        return False
    hips = next((runs(s, source, target)[1][-1] for s in strings if s.part == "hips"), None)
    own, other = target.rest_world[0], source.rest_world[0]
    misfits = [0.0]
    for over, below in tied_children(target, pairs).items():
        # Where the hips' joint itself lies says nothing; how far apart is what hangs on it does.
        bones = combinations(below, 2) if over == hips else ((over, c) for c in below)
        misfits += [
            abs(
                float(np.linalg.norm(own[b] - own[a]))
                - scale * float(np.linalg.norm(other[pairs[b]] - other[pairs[a]]))
            )
            for a, b in bones
        ]
    return max(misfits) < _ALIKE * float(np.ptp(own, axis=0).max())
