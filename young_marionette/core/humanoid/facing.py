"""Which way a body faces: feet point ahead, knees bend ahead, elbows back, thumbs are in front; and what side words say."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from .words import LEFT, RIGHT

if TYPE_CHECKING:
    from collections.abc import Sequence

    from .hypotheses import Limbs
    from .moving import Moving
    from .tree import Tree
    from .words import NameEvidence

# What each kind of evidence is worth: logarithm of odds per share of the leg's length, and at most.
_FEET, _KNEES, _ELBOWS = (80.0, 8.0), (150.0, 2.2), (100.0, 1.6)
_MOVING_KNEES, _GOING = (120.0, 5.0), (1.5, 1.0)
_WORDS, _GUESS = 2.5, 0.2
_CERTAIN = 0.9


@dataclass(frozen=True, eq=False)
class Facing:
    """``up (3,)`` and ``forward (3,)``, what the facing was mostly taken from, and how likely it is right."""

    up: np.ndarray
    forward: np.ndarray
    source: str
    likely: float

    @property
    def certain(self) -> bool:
        return self.likely > _CERTAIN


def find_facing(
    tree: Tree, names: NameEvidence, legs: Limbs, arms: Limbs | None, top: int, moves: Moving | None = None
) -> Facing:
    """The Facing of a body whose trunk ends at ``top``; ``moves``: a motion, in which knees bend and the figure goes."""
    points = tree.points
    hips, feet = points[legs.joints[:, 0]].mean(0), points[legs.joints[:, 2]].mean(0)
    trunk = points[top] - hips
    up = nearest_axis(trunk if np.linalg.norm(trunk) > 1e-9 else hips - feet)
    a, b = legs.joints
    across = points[a[0]] - points[b[0]]
    if np.linalg.norm(across) < 1e-6 * tree.reach.max():
        across = points[a[1]] - points[b[1]]
    forward = rot.normalise(np.cross(across - (across @ up) * up, up))
    leg = float(np.linalg.norm(np.diff(points[legs.joints], axis=1), axis=2).sum()) / 2

    def bend(limbs: np.ndarray) -> float:
        a, b = (float(_bend(points, limb) @ forward) / leg for limb in limbs)
        # Limbs that bend alike are meant to; what differs from side to side is only uneven.
        return (a + b) / 2 * max(1 - abs(a - b) / max(abs(a + b), 1e-12), 0)

    ahead = float(np.mean([_ahead(tree, j, forward, 0.6 * leg) for j in legs.joints[:, 2]])) / leg
    odds = {"feet": _worth(ahead, _FEET), "bends": _worth(bend(legs.joints), _KNEES)}
    if arms is not None:
        odds["bends"] -= _worth(bend(arms.joints), _ELBOWS)
    if moves is not None:
        across = np.sign(np.cross(up, forward) @ (points[a[0]] - points[b[0]]))
        odds["motion"] = _in_motion(moves.places, legs.joints, arms, across, leg)
    left = np.cross(up, forward)
    said = [
        {LEFT: 1, RIGHT: -1}.get(names.sides[limb[0]] or "", 0) * np.sign((points[limb[0]] - hips) @ left)
        for limb in legs.joints
    ]
    odds["side words"] = _WORDS * float(np.sign(sum(said)))
    best, total = max(odds, key=lambda k: abs(odds[k])), sum(odds.values())
    if abs(total) < _GUESS:
        usual = forward @ np.array([0, -0.5 if abs(up[1]) < 0.5 else 0, 1])
        best, total = "nothing", _GUESS * float(np.sign(usual) or 1)
    return Facing(up, forward * np.sign(total), best, float(1 / (1 + np.exp(-abs(total)))))


def _in_motion(places: np.ndarray, legs: np.ndarray, arms: Limbs | None, across: float, leg: float) -> float:
    """Odds that the side where ``across`` puts ahead is ahead, from bent knees and from where the figure goes.

    ``places (joints, 3, frames)``; ``across``: 1 where the first leg is the left one if so, else -1.
    """
    hips, knees, ankles = (np.moveaxis(places[legs[:, k]], 1, 2) for k in range(3))  # (2, frames, 3)
    middle = hips.mean(0)
    over = places[arms.joints[:, 0]].mean(0).T - middle if arms is not None else middle - ankles.mean(0)
    ahead = across * rot.normalise(np.cross(hips[0] - hips[1], over))
    lines = ankles - hips
    long = np.maximum(np.sum(lines * lines, -1, keepdims=True), 1e-12)
    out = knees - hips
    out = out - np.sum(out * lines, -1, keepdims=True) / long * lines
    bent = float(np.mean(np.sum(out * ahead, -1))) / leg
    steps = np.diff(middle, axis=0)
    way = float(np.linalg.norm(steps, axis=1).sum())
    going = float(np.sum(steps * ahead[1:])) / way if way > leg else 0.0
    return _worth(bent, _MOVING_KNEES) + _worth(going, _GOING)


def _worth(share: float, of: tuple[float, float]) -> float:
    return float(np.clip(share * of[0], -of[1], of[1]))


def _ahead(tree: Tree, foot: int, forward: np.ndarray, most: float) -> float:
    """How much farther what belongs to a foot reaches ahead of it than behind it."""
    below = tree.skeleton.subtree(foot)
    places = np.concatenate([tree.points[below], tree.ends[below]]) - tree.points[foot]
    places = places[np.linalg.norm(places, axis=1) < most]
    ways = places @ forward
    return float(max(ways.max(initial=0.0), 0) + min(ways.min(initial=0.0), 0))


def _bend(points: np.ndarray, joints: Sequence[int]) -> np.ndarray:
    start, middle, end = (points[j] for j in joints)
    line = rot.normalise(end - start)
    out = middle - start
    return out - (out @ line) * line


def nearest_axis(v: np.ndarray) -> np.ndarray:
    """The axis, with its sign, that a vector ``(3,)`` is nearest to."""
    axis = int(np.argmax(np.abs(v)))
    up = np.zeros(3)
    up[axis] = np.sign(v[axis])
    return up
