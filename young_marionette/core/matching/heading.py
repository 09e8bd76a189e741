"""How two figures stand against each other in their reference poses: turned about the vertical, or one of them lying."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..skeleton import pose_world

if TYPE_CHECKING:
    from ..skeleton import Skeleton
    from .tying import String

_LYING = np.cos(np.radians(45))
_ALIKE = np.radians(20)  # by which hips and shoulders may be turned otherwise; else the hips alone count
_NONE = np.radians(0.05)


def stood_alike(strings: tuple[String, ...], source: Skeleton, target: Skeleton, source_pose: np.ndarray) -> np.ndarray:
    """``source_pose (joints, 4)`` with its hips turned, so that the source faces as the target does at rest, and stands where it lies.

    Reference poses only tell which rotation of one side means the same as which of the other: turning the source's there
    changes nothing about where its motion goes. Parts that are not tied on both sides say nothing.
    """
    ties = {s.part: s for s in strings}
    if "hips" not in ties:
        return source_pose
    points, turns = pose_world(source, source_pose)
    turn = _between(_frame(ties, source, points, "source"), _frame(ties, target, target.rest_world[0], "target"))
    if turn is None or rot.angle(turn) < _NONE:
        return source_pose
    hips = source.index[ties["hips"].source[0]]
    parent = int(source.parents[hips])
    above = turns[parent] if parent >= 0 else rot.IDENTITY
    pose = np.array(source_pose)
    pose[hips] = rot.normalise(rot.multiply(rot.conjugate(above), rot.multiply(turn, turns[hips])))
    return pose


_Frame = tuple[np.ndarray | None, np.ndarray | None, np.ndarray | None]


def turn_ahead(
    up: np.ndarray | None, hips: np.ndarray | None, shoulders: np.ndarray | None = None
) -> np.ndarray | None:
    """The turn ``(4,)`` that lets a figure face +Z with +Y up, as far as it is off; None where too little is known.

    ``up (3,)``: from its hips to its head; ``hips``, ``shoulders``: from the right to the left one.
    """
    x, y = rot.AXES["X"], rot.AXES["Y"]
    return _between((up, hips, shoulders), (y, x, x))


def _frame(ties: dict[str, String], skeleton: Skeleton, points: np.ndarray, side: str) -> _Frame:
    """``(up, from the right hip to the left one, from the right shoulder to the left one)``; None for what is not tied."""

    def place(part: str) -> np.ndarray | None:
        tie = ties.get(part)
        return None if tie is None else points[skeleton.index[getattr(tie, side)[0]]]

    def across(part: str) -> np.ndarray | None:
        left, right = place(f"left {part}"), place(f"right {part}")
        return None if left is None or right is None or np.linalg.norm(left - right) < 1e-6 else left - right

    thighs = [p for p in (place("left thigh"), place("right thigh")) if p is not None]
    top = next((p for p in map(place, ("head", "neck", "left upper arm")) if p is not None), None)
    up = top - np.mean(thighs, axis=0) if thighs and top is not None else None
    return up, across("thigh"), across("upper arm")


def _between(source: _Frame, target: _Frame) -> np.ndarray | None:
    """The turn ``(4,)`` that brings the source's frame onto the target's; None where too little is known."""
    (up, hips, shoulders), (own_up, own_hips, own_shoulders) = source, target
    if up is None or own_up is None:
        return None
    if float(rot.normalise(up) @ rot.normalise(own_up)) < _LYING:
        sides = [(a, b) for a, b in ((hips, own_hips), (shoulders, own_shoulders)) if a is not None and b is not None]
        if not sides:
            return None
        a, b = (_axes(u, side) for u, side in zip((up, own_up), sides[0]))
        return rot.multiply(rot.from_matrix(b), rot.conjugate(rot.from_matrix(a)))
    by_hips, by_shoulders = _yaw(hips, own_hips), _yaw(shoulders, own_shoulders)
    yaw = by_hips if by_hips is not None else by_shoulders
    if yaw is None:
        return None
    if by_hips is not None and by_shoulders is not None:
        apart = (by_shoulders - by_hips + np.pi) % (2 * np.pi) - np.pi
        if abs(apart) < _ALIKE:
            # Hips or shoulders that are only built unevenly turn nobody: what both say is believed.
            both = by_hips, by_hips + apart
            yaw = 0.0 if min(both) < 0 < max(both) else min(both, key=abs)
    return rot.from_axis_angle(rot.AXES["Y"], np.array(yaw))


def _axes(up: np.ndarray, side: np.ndarray) -> np.ndarray:
    """A frame ``(3, 3)`` with its columns across, up and ahead."""
    up = rot.normalise(up)
    ahead = rot.normalise(np.cross(side, up))
    return np.stack([np.cross(up, ahead), up, ahead], axis=1)


def _yaw(of: np.ndarray | None, onto: np.ndarray | None) -> float | None:
    """The angle (radians) about the vertical from one direction to another; None where one is missing or upright."""
    if of is None or onto is None or min(np.hypot(of[0], of[2]), np.hypot(onto[0], onto[2])) < 1e-6:
        return None
    # A turn about Y by an angle a leads +Z towards +X.
    angle = np.arctan2(onto[0], onto[2]) - np.arctan2(of[0], of[2])
    return float((angle + np.pi) % (2 * np.pi) - np.pi)
