"""Finding the joints of a limb along a chain: where it begins, bends and ends.

A limb is two long bones and an end piece. Which joints those are is chosen by how well the lengths
fit human proportions (Drillis and Contini 1966, loosely), how straight the skipped joints lie, where
the ankle bends, where a hand branches, and what the names say.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from math import log
from typing import TYPE_CHECKING, Any

import numpy as np

from .. import rotations as rot
from . import parts

if TYPE_CHECKING:
    from ..skeleton import Skeleton
    from .words import NameEvidence


@dataclass(frozen=True)
class Template:
    """Expected proportions: log-ratios with their spread, and the parts' names in order."""

    before: str
    parts: tuple[str, str, str]
    halves: tuple[float, float]
    end: tuple[float, float]
    start: tuple[float, float]
    bends_at_end: bool


ARM = Template(
    "collarbone",
    parts.ARM,
    (np.log(1.1), 0.25),
    (np.log(0.33), 0.5),
    (np.log(0.28), 0.45),
    False,
)
LEG = Template("hip helper", parts.LEG, (0.0, 0.25), (np.log(0.22), 0.5), (np.log(0.08), 0.8), True)


@dataclass(frozen=True)
class Limb:
    """A chain cut into parts: ``joints`` are limb start, bend and end; lower scores fit worse."""

    chain: tuple[int, ...]
    cuts: tuple[int, int, int]
    score: float
    margin: float

    @property
    def joints(self) -> tuple[int, ...]:
        return tuple(self.chain[c] for c in self.cuts)


class Tree:
    """Lengths and paths over a skeleton's rest pose, in the file's own unit."""

    def __init__(self, skeleton: Skeleton) -> None:
        self.skeleton = skeleton
        self.points, _ = skeleton.rest_world
        self.ends = skeleton.ends
        count = len(skeleton)
        self.reach = np.zeros(count)  # longest way down from the joint
        self.leaves = np.zeros(count, int)
        self.next = np.full(count, -1)  # the child on that longest way
        for j in reversed(range(count)):
            if np.isfinite(self.ends[j, 0]):
                self.reach[j] = np.linalg.norm(self.ends[j] - self.points[j])
            for c in skeleton.children[j]:
                way = self.reach[c] + np.linalg.norm(self.points[c] - self.points[j])
                # Equal ways (zero-length copies) go on with the larger subtree.
                if (self.next[j] < 0 and way >= self.reach[j]) or way > self.reach[j] + 1e-9:
                    self.reach[j], self.next[j] = way, c
            self.leaves[j] = sum(self.leaves[c] for c in skeleton.children[j]) or 1

        self._once = {}

    def once(
        self, key: tuple[str, int], make: Callable[..., Any]
    ) -> tuple[tuple[int, ...], np.ndarray, np.ndarray, np.ndarray]:
        """What ``make`` gives, worked out once while this tree is read."""
        if key not in self._once:
            self._once[key] = make()
        return self._once[key]

    def chain(self, joint: int) -> tuple[int, ...]:
        """``joint`` and the joints on the longest way down."""
        joints = [int(joint)]
        while self.next[joints[-1]] >= 0:
            joints.append(int(self.next[joints[-1]]))
        return tuple(joints)

    def step(self, parent: int, child: int) -> float:
        """The length from ``parent`` through ``child`` to the end of its longest way."""
        return float(np.linalg.norm(self.points[child] - self.points[parent]) + self.reach[child])

    def line(self, chain: tuple[int, ...]) -> np.ndarray:
        """The points of a chain, with the last bone's tip where there is one ``(n, 3)``."""
        end = self.ends[chain[-1]]
        points = [self.points[j] for j in chain]
        return np.array(points + ([end] if np.isfinite(end[0]) else []))


_MOST_CUTS = 32


def _z(value: float, expected: tuple[float, float]) -> float:
    return min(((value - expected[0]) / expected[1]) ** 2, 9.0) / 2


def find_limb(tree: Tree, names: NameEvidence, joint: int, template: Template) -> Limb | None:
    """The best cut of the chain that begins at ``joint`` (a Limb), or None if it is too short."""
    chain = tree.chain(joint)
    line = tree.line(chain)
    steps = np.diff(line, axis=0)
    way = np.concatenate([[0], np.cumsum(np.linalg.norm(steps, axis=1))]).tolist()
    if len(chain) < 3 or way[-1] <= 0:
        return None
    # All that a cut is scored by is worked out once per chain: there are many cuts.
    bends = np.degrees(rot.angle_between(steps[:-1], steps[1:])).tolist()
    bends = [0.0, *bends][: len(chain)]
    skips = [0.0 if names.weight(j, "twist") > 0 else 0.35 for j in chain]
    costs = [skip + min((bend / 15) ** 2, 4.0) for skip, bend in zip(skips, bends)]
    evidence = _Evidence(
        way,
        bends,
        np.concatenate([[0.0], np.cumsum(costs)]).tolist(),
        [[names.weight(j, part) for j in chain] for part in template.parts],
        [len(tree.skeleton.children[j]) >= 3 for j in chain],
    )
    limbs = []
    # Of a chain of many joints, such as a rope, some places along its way are tried, and not all.
    places: Sequence[int] = range(len(chain))
    if len(chain) > _MOST_CUTS:
        spread = np.searchsorted(way, np.linspace(0, way[-1], _MOST_CUTS)).clip(0, len(chain) - 1)
        places = sorted({*range(5), *spread.tolist()})
    for a in range(min(len(chain) - 2, 4)):
        for b in (p for p in places if a < p < len(chain) - 1):
            for c in (p for p in places if p > b):
                score = _score(evidence, (a, b, c), template)
                if score is not None:
                    limbs.append((score, (a, b, c)))
    if not limbs:
        return None
    limbs.sort(reverse=True)
    margin = limbs[0][0] - limbs[1][0] if len(limbs) > 1 else 3.0
    return Limb(chain, limbs[0][1], limbs[0][0], margin)


@dataclass(frozen=True)
class _Evidence:
    """Of a chain's joints: way from its start, bend (degrees), what skipping all before costs, words, branching."""

    way: list
    bends: list
    skipped: list
    said: list
    branches: list


def _score(evidence: _Evidence, cuts: tuple[int, ...], template: Template) -> float | None:
    a, b, c = cuts
    way = evidence.way
    upper, lower, before, after = way[b] - way[a], way[c] - way[b], way[a], way[-1] - way[c]
    if min(upper, lower) < 0.08 * way[-1]:
        return None
    limb = upper + lower
    score = -_z(log(upper / lower), template.halves)
    score -= _z(log(after / limb), template.end) if after > 1e-3 * limb else 0.6
    if before > 1e-3 * limb:
        score -= _z(log(before / limb), template.start)
    skipped = evidence.skipped
    score -= skipped[b] - skipped[a + 1] + skipped[c] - skipped[b + 1]
    if template.bends_at_end and after > 1e-3 * limb:
        score += 0.8 if evidence.bends[c] > 35 else -0.3
    if not template.bends_at_end and evidence.branches[c]:
        score += 1.5
    return score + 0.5 * sum(said[i] for said, i in zip(evidence.said, cuts))
