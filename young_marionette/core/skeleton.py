"""Skeletons: trees of joints and the pose of zero motion. They are never changed."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from . import rotations as rot
from .evaluator import EVALUATOR

Filled = Any  # an array, also where None was given: that is filled in


@dataclass(frozen=True, eq=False)
class Skeleton:
    """A tree of joints and the pose of zero motion.

    ``names``: one per joint, all different. ``parents (joints,)``: index of the parent, -1 for a
    root, always smaller than the joint's own. ``offsets (joints, 3)``: metres, in the parent's
    axes. ``rest (joints, 4)``: local rest rotation. ``tips (joints, 3)``: where the bone of a
    joint without children ends, in its own axes, NaN where the file says nothing. ``scales (joints, 3)``: how
    much a joint's own axes are scaled against the world; offsets are given with it taken out, so that
    only skins need it.
    """

    names: tuple[str, ...]
    parents: np.ndarray
    offsets: np.ndarray
    rest: Filled = None
    tips: Filled = None
    scales: Filled = None

    def __post_init__(self) -> None:
        count = len(self.names)
        put = object.__setattr__
        put(self, "names", tuple(self.names))
        put(self, "parents", np.asarray(self.parents, int))
        put(self, "offsets", np.asarray(self.offsets, float).reshape(count, 3))
        rest = np.tile(rot.IDENTITY, (count, 1)) if self.rest is None else self.rest
        put(self, "rest", np.asarray(rest, float).reshape(count, 4))
        tips = np.full((count, 3), np.nan) if self.tips is None else self.tips
        put(self, "tips", np.asarray(tips, float).reshape(count, 3))
        scales = np.ones((count, 3)) if self.scales is None else self.scales
        put(self, "scales", np.asarray(scales, float).reshape(count, 3))
        if self.parents.shape != (count,) or (count and (self.parents >= np.arange(count)).any()):
            raise ValueError("parents must come before their children")
        if len(set(self.names)) != count:
            raise ValueError("joint names must differ")

    def __len__(self) -> int:
        return len(self.names)

    def __repr__(self) -> str:
        return f"Skeleton({self.names[0]!r}, {len(self)} joints)" if self.names else "Skeleton()"

    @cached_property
    def digest(self) -> str:
        """A text that is equal only for skeletons that are alike to the last bit."""
        digest = hashlib.sha256("\n".join(self.names).encode("utf-8", "surrogatepass"))
        for array in (self.parents, self.offsets, self.rest, self.tips, self.scales):
            digest.update(np.ascontiguousarray(array).tobytes())
        return digest.hexdigest()

    @cached_property
    def index(self) -> dict[str, int]:
        """From name to joint number."""
        return {name: i for i, name in enumerate(self.names)}

    @cached_property
    def children(self) -> tuple[tuple[int, ...], ...]:
        """For each joint the numbers of its children, in file order."""
        lists = [[] for _ in self.names]
        for joint, parent in enumerate(self.parents):
            if parent >= 0:
                lists[parent].append(joint)
        return tuple(tuple(c) for c in lists)

    @cached_property
    def depth_first(self) -> tuple[int, ...]:
        """All joint numbers in the order of a walk that finishes what lies below a joint before it continues."""
        order, stack = [], [j for j in reversed(range(len(self))) if self.parents[j] < 0]
        while stack:
            order.append(stack.pop())
            stack.extend(reversed(self.children[order[-1]]))
        return tuple(order)

    @cached_property
    def rest_world(self) -> tuple[np.ndarray, np.ndarray]:
        """``(positions (joints, 3), rotations (joints, 4))`` of the rest pose, in the world."""
        return pose_world(self, self.rest)

    @cached_property
    def ends(self) -> np.ndarray:
        """World positions of the bones' tips at rest ``(joints, 3)``, NaN where there is none."""
        positions, turns = self.rest_world
        return positions + rot.rotate(turns, self.tips)

    def ancestors(self, joint: int) -> list[int]:
        """The joints above ``joint``, nearest first."""
        joints = []
        while (joint := int(self.parents[joint])) >= 0:
            joints.append(joint)
        return joints

    def subtree(self, joint: int) -> list[int]:
        """``joint`` and all below it."""
        joints = [joint]
        for j in joints:
            joints.extend(self.children[j])
        return joints


def pose_world(
    skeleton: Skeleton, local: np.ndarray, root_positions: dict[int, np.ndarray] | None = None
) -> tuple[np.ndarray, np.ndarray]:
    """World ``(positions, rotations)`` of one pose of local rotations ``(joints, 4)``.

    ``root_positions`` maps a joint number to a local translation that replaces its offset.
    """
    if root_positions is None and isinstance(local, np.ndarray) and not local.flags.writeable:
        # A pose that can't change any more, such as a stance's, is worked out once.
        return EVALUATOR.of("pose in the world", (skeleton, local), lambda: _pose_world(skeleton, local, {}))
    return _pose_world(skeleton, local, root_positions or {})


def _pose_world(
    skeleton: Skeleton, local: np.ndarray, root_positions: dict[int, np.ndarray]
) -> tuple[np.ndarray, np.ndarray]:
    offsets, local = skeleton.offsets.tolist(), np.asarray(local, float).tolist()
    for joint, place in root_positions.items():
        offsets[joint] = [float(v) for v in place]
    positions, turns = [], []
    # A single pose is quicker in plain floats than in many tiny arrays.
    for joint, parent in enumerate(skeleton.parents.tolist()):
        if parent < 0:
            positions.append(offsets[joint])
            turns.append(local[joint])
        else:
            px, py, pz = positions[parent]
            ox, oy, oz = rot.rotate_one(turns[parent], offsets[joint])
            positions.append((px + ox, py + oy, pz + oz))
            turns.append(rot.product_one(turns[parent], local[joint]))
    return np.array(positions, float).reshape(-1, 3), np.array(turns, float).reshape(-1, 4)
