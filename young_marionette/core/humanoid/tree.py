"""A skeleton's rest pose as a tree: lengths, ways and who lies below whom, worked out once for all who read it."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from collections.abc import Sequence

    from ..skeleton import Skeleton


class Tree:
    """Lengths and paths over a skeleton's rest pose, in the file's own unit.

    Per joint: ``points (joints, 3)``; ``ends (joints, 3)``, the tips; ``lengths``, from the parent; ``ways``, along the
    bones from the root; ``reach``, the longest way down, and ``second``, the longest through another child; ``next``, the
    child on the longest; ``aside``, how often the way to the joint leaves a clearly longer one; ``leaves``; ``levels``,
    how many joints lie below it one under the other; ``first`` and
    ``last``, its place in a walk over the tree and that of the last joint below it.
    """

    def __init__(self, skeleton: Skeleton) -> None:
        self.skeleton = skeleton
        self.points, _ = skeleton.rest_world
        self.ends = skeleton.ends
        count, parents = len(skeleton), skeleton.parents
        self.children = skeleton.children
        apart = self.points - self.points[np.maximum(parents, 0)]
        self.lengths = np.where(parents >= 0, np.linalg.norm(apart, axis=1), 0.0)
        tips = np.linalg.norm(self.ends - self.points, axis=1)
        lengths, reach = self.lengths.tolist(), np.nan_to_num(tips).tolist()
        ways, after, leaves, sizes = [0.0] * count, [-1] * count, [0] * count, [1] * count
        second, aside, levels = [0.0] * count, [0] * count, [0] * count
        for j, parent in enumerate(parents.tolist()):
            if parent >= 0:
                ways[j] = ways[parent] + lengths[j]
        for j in reversed(range(count)):
            for c in self.children[j]:
                way = reach[c] + lengths[c]
                # Equal ways (zero-length copies) go on with the larger subtree.
                if (after[j] < 0 and way >= reach[j]) or way > reach[j] + 1e-9:
                    second[j] = reach[j]
                    reach[j], after[j] = way, c
                else:
                    second[j] = max(second[j], way)
                sizes[j] += sizes[c]
                levels[j] = max(levels[j], levels[c] + 1)
            leaves[j] = sum(leaves[c] for c in self.children[j]) or 1
        for j, parent in enumerate(parents.tolist()):
            if parent >= 0:
                aside[j] = aside[parent] + (reach[j] + lengths[j] < 0.85 * reach[parent])
        self.ways, self.reach, self.second, self.aside = (np.array(a) for a in (ways, reach, second, aside))
        self.next, self.leaves, self.sizes, self.levels = (np.array(a, int) for a in (after, leaves, sizes, levels))
        self.has_tip = np.isfinite(tips)
        self.first = self._walk()
        self.last = self.first + self.sizes - 1

    def _walk(self) -> np.ndarray:
        """The place of each joint in a walk that finishes what is below a joint before it goes on."""
        first, free = np.zeros(len(self.sizes), int), 0
        for j, parent in enumerate(self.skeleton.parents.tolist()):
            if parent < 0:
                first[j], free = free, free + self.sizes[j]
            at = first[j] + 1
            for c in self.children[j]:
                first[c] = at
                at += self.sizes[c]
        return first

    def below(self, joint: int, top: int) -> bool:
        """Whether ``joint`` is ``top`` or anything below it."""
        return bool(self.first[top] <= self.first[joint] <= self.last[top])

    def chain(self, joint: int) -> tuple[int, ...]:
        """``joint`` and the joints on the longest way down."""
        joints = [int(joint)]
        while self.next[joints[-1]] >= 0:
            joints.append(int(self.next[joints[-1]]))
        return tuple(joints)

    def path(self, top: int, joint: int) -> tuple[int, ...]:
        """The joints from ``top`` down to ``joint``, which lies below it."""
        joints = [int(joint)]
        while joints[-1] != top:
            joints.append(int(self.skeleton.parents[joints[-1]]))
        return tuple(joints[::-1])

    def step(self, parent: int, child: int) -> float:
        """The length from ``parent`` through ``child`` to the end of its longest way."""
        return float(np.linalg.norm(self.points[child] - self.points[parent]) + self.reach[child])

    def line(self, chain: Sequence[int]) -> np.ndarray:
        """The points of a chain, with the last bone's tip where there is one ``(n, 3)``."""
        end = self.ends[chain[-1]]
        points = [self.points[j] for j in chain]
        return np.array(points + ([end] if np.isfinite(end[0]) else []))
