"""Hands and forearms kept out of the own body where the source's are out.

Points of the arm against simple volumes of thighs and trunk. Forearms are cleared by the elbow's swing about the way
from shoulder to wrist, hands by moving the wrist; both by curves that lie over all that is needed, and no more than that.
All of it on world rows as ``kinematics.forward_rows`` gives them, of as many frames a second as one likes: thirty are
enough, since arms are slower than that.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..humanoid.volumes import THIGHS, TRUNK
from ..smoothing import gaussian, largest_within

if TYPE_CHECKING:
    from ..contacts.points import ContactPoint
    from ..humanoid.volumes import Volume
    from .limbs import Limb

RATE = 30.0
_ALONG = (0.55, 0.85)  # of the forearm: where it is looked at
_TIP = 1.8  # of the way from wrist to palm: the fingers' ends
_THICK = (0.017, 0.017, 0.012, 0.008)  # of the stature: forearm, wrist, palm, fingers
_WIDTH = 0.1  # seconds: the width of the curves by which arms give way
_ROUNDS = 6  # what one round leaves, the next one finds
_ENOUGH = 0.001  # metres of depth that nobody sees
_LEVER = 0.02  # of the stature: closer to the way from shoulder to wrist, a swing moves nothing
_MOST = np.radians(50)

World = tuple[np.ndarray, np.ndarray]


class Trunk:
    """Thighs and trunk of a body in some frames, and how deep the points of arms are in them."""

    def __init__(self, volumes: dict[str, Volume], world: World, stature: float) -> None:
        self.stature, self._lines = stature, []
        for shape in (volumes[p] for p in (*THIGHS, *TRUNK) if p in volumes):
            place, turn = world[0][shape.joint], world[1][shape.joint]
            a = place + rot.rotate_rows(turn, shape.a[:, None])
            along = rot.rotate_rows(turn, (shape.b - shape.a)[:, None])
            self._lines.append((a, along, max(float(np.sum((shape.b - shape.a) ** 2)), 1e-12), shape.radius))

    def depths(self, points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """``(depths (volumes, points, frames), ways out (volumes, points, 3, frames))`` of ``points (4, 3, frames)``.

        Points: two of the forearm, palm and fingers. Depths are negative outside; metres.
        """
        thick = np.array(_THICK)[:, None] * self.stature
        found, ways = np.empty((len(self._lines), *points.shape[::2])), np.empty((len(self._lines), *points.shape))
        for i, (a, along, long, radius) in enumerate(self._lines):
            way = points - a
            share = np.clip(np.einsum("pxf,xf->pf", way, along) / long, 0, 1)
            way -= share[:, None] * along
            far = np.sqrt(np.einsum("pxf,pxf->pf", way, way))
            found[i] = radius + thick - far
            np.divide(way, np.maximum(far, 1e-9)[:, None], out=ways[i])
        return found, ways


class ArmPath:
    """An arm in some frames, as it would be with its wrist moved and its elbow swung; the hand stays turned."""

    def __init__(self, limb: Limb, palm: ContactPoint, world: World) -> None:
        self.limb, self.world = limb, world
        self.start, self.elbow, self.wrist = (world[0][j].T for j in (limb.first, limb.second, limb.end))
        self.hand = rot.rotate_rows(world[1][limb.end], palm.offset[:, None])

    def changes(self, shift: np.ndarray, swing: np.ndarray | None) -> tuple[np.ndarray, np.ndarray]:
        """Changes of rotation in the world ``(frames, 4)`` of upper arm and forearm.

        ``shift (frames, 3)``: of the wrist, as far as the arm reaches; ``swing (frames,)``: of the elbow, radians.
        """
        target = self.limb.within(self.world[0], shift)
        first, second = self.limb.reach(*self.world, self.start, target)
        if swing is not None:
            about = rot.from_vector(rot.normalise(target - self.start) * swing[:, None])
            first, second = rot.multiply(about, first), rot.multiply(about, second)
        return first, second

    def moved(self, shift: np.ndarray, swing: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Elbow and wrist ``(3, frames)`` each."""
        if not shift.any() and not swing.any():
            return self.elbow.T, self.wrist.T
        first, second = self.changes(shift, swing)
        elbow = self.start + rot.rotate(first, self.elbow - self.start)
        return elbow.T, (elbow + rot.rotate(second, self.wrist - self.elbow)).T

    def points(self, elbow: np.ndarray, wrist: np.ndarray) -> np.ndarray:
        """What is looked at ``(4, 3, frames)``."""
        forearm = (elbow + share * (wrist - elbow) for share in _ALONG)
        return np.stack([*forearm, wrist + self.hand, wrist + _TIP * self.hand])


def excess(arm: ArmPath, trunk: Trunk, allowed: np.ndarray) -> np.ndarray:
    """How deep an arm is in the body, deeper than ``allowed`` (see ``depths``): ``(frames,)``, metres, never negative."""
    found, _ = trunk.depths(arm.points(arm.elbow.T, arm.wrist.T))
    return np.maximum((found - allowed).max((0, 1)), 0.0)


def depths(arm: ArmPath, trunk: Trunk) -> np.ndarray:
    """How deep an arm's points are in each volume ``(volumes, points, frames)``, metres, 0 where they are out."""
    return np.maximum(trunk.depths(arm.points(arm.elbow.T, arm.wrist.T))[0], 0.0)


def cleared(
    arm: ArmPath,
    trunk: Trunk,
    allowed: np.ndarray,
    rate: float,
    shift: np.ndarray | None = None,
    fixed: np.ndarray | None = None,
) -> tuple[np.ndarray, np.ndarray]:
    """``(way of the wrist (frames, 3), swing of the elbow (frames,))`` that bring an arm out of the body.

    ``shift``: what the wrist is moved by anyway, which is part of the way. ``fixed``: frames in which the hand holds
    something, and stays.
    """
    frames = arm.start.shape[0]
    shift, swing = np.zeros((frames, 3)) if shift is None else shift, np.zeros(frames)
    for _ in range(_ROUNDS):
        elbow, wrist = arm.moved(shift, swing)
        points = arm.points(elbow, wrist)
        found, ways = trunk.depths(points)
        found -= allowed
        if found.max(initial=0.0) < _ENOUGH:
            break
        push, turn = _needed(arm.start.T, wrist, points, found, ways, trunk.stature, fixed)
        shift, swing = shift + _over(push, rate).T, swing + _over(turn[None], rate)[0]
    return shift, swing


def _needed(
    start: np.ndarray,
    wrist: np.ndarray,
    points: np.ndarray,
    found: np.ndarray,
    ways: np.ndarray,
    stature: float,
    fixed: np.ndarray | None,
) -> tuple[np.ndarray, np.ndarray]:
    """What clears the deepest points of each frame by themselves: ``(push of the wrist (3, frames), swing (frames,))``."""
    frames, inside = np.arange(found.shape[-1]), len(_ALONG)
    way = wrist - start
    axis = way / np.maximum(np.linalg.norm(way, axis=0), 1e-9)
    lever = np.cross(axis[None], points - start, axis=1)
    forearm = found[:, :inside]
    volume, point = np.divmod(forearm.reshape(-1, len(frames)).argmax(0), inside)
    deep, out = found[volume, point, frames], ways[volume, point, :, frames].T
    moves = np.sum(out * lever[point, :, frames].T, 0)  # metres outwards for a radian
    swings = (deep > _ENOUGH) & (np.abs(moves) > _LEVER * stature)
    turn = np.where(swings, np.clip(deep / np.where(swings, moves, 1.0), -_MOST, _MOST), 0.0)
    hand = found.copy()
    hand[:, :inside] = np.where(swings, -1.0, forearm)
    volume, point = np.divmod(hand.reshape(-1, len(frames)).argmax(0), len(points))
    deep = np.maximum(hand[volume, point, frames], 0.0)
    if fixed is not None:
        deep = np.where(fixed, 0.0, deep)
    return deep * ways[volume, point, :, frames].T, turn


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
