"""Hands and forearms kept out of the own body where the source's are out.

Points of the arm against simple volumes of thighs and trunk. Forearms are cleared by the elbow's swing about the way
from shoulder to wrist, hands by moving the wrist; both by curves that lie over all that is needed, and no more than that.
Looked at on frames of at most thirty a second, since arms are slower than that.
"""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..clip import as_rows, from_rows
from ..humanoid.volumes import THIGHS, TRUNK
from ..kinematics import forward_rows
from ..smoothing import gaussian, largest_within
from .limbs import put

if TYPE_CHECKING:
    from collections.abc import Sequence

    from ..clip import Clip
    from ..contacts.points import ContactPoint
    from .hands import Arm, Side
    from .limbs import Limb

RATE = 30.0
_ALONG = (0.55, 0.85)  # of the forearm: where it is looked at
_TIP = 1.8  # of the way from wrist to palm: the fingers' ends
_THICK = (0.017, 0.017, 0.012, 0.008)  # of the stature: forearm, wrist, palm, fingers
_WIDTH = 0.1  # seconds: the width of the curves by which arms give way
_ROUNDS = 6
_ENOUGH = 0.001  # metres of depth that nobody sees
_LEVER = 0.02  # of the stature: closer to the way from shoulder to wrist, a swing moves nothing
_MOST = np.radians(50)


def depths(
    clip: Clip, limb: Limb, palm: ContactPoint, side: Side, stature: float
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """``(depths (volumes, points, frames), ways out (volumes, points, 3, frames), points (points, 3, frames))`` of an arm.

    Depths are negative outside. Points: two of the forearm, palm and fingers.
    """
    shapes = [side.volumes[p] for p in (*THIGHS, *TRUNK) if p in side.volumes]
    joints = sorted({limb.first, limb.second, limb.end, *(v.joint for v in shapes)})
    places, turns = forward_rows(clip, joints)
    elbow, wrist = places[limb.second], places[limb.end]
    reach = rot.rotate_rows(turns[limb.end], palm.offset[:, None])
    points = np.stack([*(elbow + s * (wrist - elbow) for s in _ALONG), wrist + reach, wrist + _TIP * reach])
    thick = np.array(_THICK)[:, None] * stature
    found, ways = [], []
    for shape in shapes:
        at, turn = places[shape.joint], turns[shape.joint]
        a, b = (at + rot.rotate_rows(turn, end[:, None]) for end in (shape.a, shape.b))
        along = b - a
        long = np.maximum(np.sum(along * along, 0), 1e-12)
        share = np.clip(np.sum((points - a) * along, 1) / long, 0, 1)
        away = points - (a + share[:, None] * along)
        far = np.linalg.norm(away, axis=1)
        found.append(shape.radius + thick - far)
        ways.append(away / np.maximum(far, 1e-9)[:, None])
    return np.stack(found), np.stack(ways), points


class Clearing:
    """What a source's arms keep out of, for the arms of a rig; all on thinned frames (see ``thinned``)."""

    def __init__(
        self,
        source: Clip,
        limbs: dict[str, Limb],
        palms: dict[str, ContactPoint],
        sides: tuple[Side, Side],
        statures: tuple[float, float],
    ) -> None:
        """``limbs``, ``palms``: of the source's arms by side of the body. ``sides``, ``statures``: source and rig."""
        self.rigs, self.stature = sides[1], statures[1]
        share = statures[1] / statures[0]
        self.allowed = {
            side: np.maximum(depths(source, limb, palms[side], sides[0], statures[0])[0], 0.0) * share
            for side, limb in limbs.items()
        }

    def depth(self, clip: Clip, arms: Sequence[Arm]) -> dict[str, np.ndarray]:
        """How deep each arm is in the body, deeper than the source's is ``(frames,)``, metres."""
        return {a.side: np.maximum(self._excess(clip, a)[0].max((0, 1)), 0.0) for a in arms if a.side in self.allowed}

    def _excess(self, clip: Clip, arm: Arm) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        found, ways, points = depths(clip, arm.limb, arm.palm, self.rigs, self.stature)
        return found - self.allowed[arm.side], ways, points

    def cleared(
        self, clip: Clip, arms: Sequence[Arm], fixed: dict[str, np.ndarray]
    ) -> tuple[dict[str, np.ndarray], dict[str, np.ndarray]]:
        """``(ways of the wrist {side: (frames, 3)}, swings of the elbow {side: (frames,)})`` that clear the arms.

        ``fixed``: frames in which a hand holds something, and stays.
        """
        shifts, swings = {}, {}
        for arm in arms:
            if arm.side not in self.allowed:
                continue
            shift, swing, now = np.zeros((clip.frames, 3)), np.zeros(clip.frames), clip
            for _ in range(_ROUNDS):
                excess, ways, points = self._excess(now, arm)
                if excess.max() < _ENOUGH:
                    break
                push, turn = self._needed(now, arm, excess, ways, points, fixed.get(arm.side))
                shift, swing = shift + push, swing + turn
                now = with_arm(clip, arm.limb, shift, swing)
            if shift.any():
                shifts[arm.side] = shift
            if swing.any():
                swings[arm.side] = swing
        return shifts, swings

    def _needed(
        self,
        clip: Clip,
        arm: Arm,
        excess: np.ndarray,
        ways: np.ndarray,
        points: np.ndarray,
        fixed: np.ndarray | None,
    ) -> tuple[np.ndarray, np.ndarray]:
        limb, frames = arm.limb, np.arange(clip.frames)
        places, _ = forward_rows(clip, [limb.first, limb.end])
        start, way = places[limb.first], places[limb.end] - places[limb.first]
        axis = way / np.maximum(np.linalg.norm(way, axis=0), 1e-9)
        lever = np.cross(axis.T, (points - start).transpose(0, 2, 1)).transpose(0, 2, 1)  # how a swing moves each point
        forearm = excess[:, : len(_ALONG)]
        worst = forearm.reshape(-1, clip.frames).argmax(0)
        volume, point = np.divmod(worst, len(_ALONG))
        deep, out = excess[volume, point, frames], ways[volume, point, :, frames].T
        moves = np.sum(out * lever[point, :, frames].T, 0)  # metres outwards for a radian
        swings = (deep > _ENOUGH) & (np.abs(moves) > _LEVER * self.stature)
        turn = np.where(swings, np.clip(deep / np.where(swings, moves, 1.0), -_MOST, _MOST), 0.0)
        hand = excess.copy()
        hand[:, : len(_ALONG)] = np.where(swings, -1.0, forearm)
        worst = hand.reshape(-1, clip.frames).argmax(0)
        volume, point = np.divmod(worst, len(points))
        deep = np.maximum(hand[volume, point, frames], 0.0)
        if fixed is not None:
            deep = np.where(fixed, 0.0, deep)
        push = deep * ways[volume, point, :, frames].T
        return _over(push, clip.rate).T, _over(turn[None], clip.rate)[0]


def _over(vectors: np.ndarray, rate: float) -> np.ndarray:
    """A smooth curve of vectors ``(n, frames)`` that is nowhere shorter than they are."""
    size = np.linalg.norm(vectors, axis=0)
    if size.max(initial=0.0) < _ENOUGH / 4:
        return np.zeros_like(vectors)
    width = max(_WIDTH * rate, 0.7)
    long = gaussian(largest_within(size, int(4 * width + 0.5)), width)
    way = gaussian(vectors, width)
    if way.shape[0] == 1:
        # A swing one way and soon the other: what is needed most counts.
        return long * np.tanh(way / (0.2 * np.abs(way).max()))
    return long * way / np.maximum(np.linalg.norm(way, axis=0), 1e-9)


def full(values: np.ndarray, step: int, frames: int) -> np.ndarray:
    """Values ``(thinned frames, ...)`` on all frames, as smooth as they were."""
    if step == 1:
        return values
    at, known = np.arange(frames), np.arange(len(values)) * step
    rows = np.stack([np.interp(at, known, row) for row in values.reshape(len(values), -1).T])
    return gaussian(rows, 0.6 * step).T.reshape(frames, *values.shape[1:])


def with_arm(clip: Clip, limb: Limb, shift: np.ndarray, swing: np.ndarray) -> Clip:
    """A motion with a wrist moved by ``shift (frames, 3)`` and the elbow swung by ``swing (frames,)``; the hand stays turned."""
    places, turns = forward_rows(clip, [limb.first, limb.second, limb.end])
    local = as_rows(clip.rotations).copy()
    move_arm(local, clip, limb, places, turns, shift, swing)
    return replace(clip, rotations=from_rows(local))


def move_arm(
    local: np.ndarray,
    clip: Clip,
    limb: Limb,
    places: np.ndarray,
    turns: np.ndarray,
    shift: np.ndarray,
    swing: np.ndarray | None,
) -> None:
    """Put into ``local`` an arm whose wrist is moved by ``shift (frames, 3)``, its elbow swung; the hand stays turned."""
    start, target = places[limb.first].T, limb.within(places, shift)
    first, second = limb.reach(places, turns, start, target)
    if swing is not None:
        about = rot.from_vector(rot.normalise(target - start) * swing[:, None])
        first, second = rot.multiply(about, first), rot.multiply(about, second)
    put(local, clip.skeleton, limb.first, rot.multiply(first, turns[limb.first].T), turns, None)
    put(local, clip.skeleton, limb.second, rot.multiply(second, turns[limb.second].T), turns, first)
    put(local, clip.skeleton, limb.end, turns[limb.end].T, turns, second)
