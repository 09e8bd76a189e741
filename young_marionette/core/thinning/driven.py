"""Thinning of controls: what is promised is promised of the bones that they drive."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..clip import Clip, from_rows
from ..contacts.points import ContactPoint
from ..controls.motion import limb_bones, solve, solved_rows
from ..kinematics import forward_rows
from .fitting import grow
from .motion import Motion, Share, motion_of
from .rebuilding import Curve, Key, RowsAt, misses_of

if TYPE_CHECKING:
    from ..contacts.contact import Contacts
    from ..controls.rig import ControlRig

_NEXT_TO_NOTHING = 1e-3  # how much what a control misses counts that is of no bone by itself


@dataclass(frozen=True, eq=False)
class Driven:
    """``bones``: the dense motion of what the controls of ``rig`` drive. ``limbs``: of each limb of the rig what it is there."""

    rig: ControlRig
    bones: Motion
    limbs: tuple[_Limb, ...]

    def misses(self, motion: Motion, curves: Mapping[Key, Curve], at: np.ndarray | None = None) -> np.ndarray:
        """The largest misses ``(4, n)`` of the bones (see fitting.Fits) that curves of the controls' ``motion`` give at frames."""
        at = np.arange(motion.frames) if at is None else at
        if not len(at):
            return np.zeros((4, 0))
        rows = RowsAt(motion, curves, at)
        local = np.stack([rows.of(("rotation", j)) for j in range(len(motion.skeleton))])
        moves = {j: rows.of(("move", j)).T for j in motion.moves}
        clip = Clip("", motion.skeleton, motion.rate, from_rows(local)).with_moves(moves)
        places, world = solved_rows(self.rig, clip)
        dense = self.bones.world[:, :, at]
        world = np.where(np.einsum("jcf,jcf->jf", world, dense)[:, None] < 0, -world, world)
        return misses_of(self.bones, world, places, at)

    def grow(self, at: np.ndarray, places: Mapping[int, np.ndarray] | Sequence[np.ndarray], worst: np.ndarray) -> None:
        """Let squares of misses ``(4, s, n)`` grow to those of the limbs that follow their ends, by what ``places`` of the controls
        ``(3, s, n)`` at frames ``at (s, n)`` give: of where the middle joint is, and where bones and their plane point.

        An estimate for the search, which takes lean and twists as they are in the dense motion.
        """
        for limb, dense in zip(self.rig.limbs, self.limbs):
            start = places[self.rig.driver[limb.upper]]
            upper, lower, lean = dense.upper[at], dense.lower[at], dense.lean[:, at]
            way = places[limb.place] - start
            long = np.sqrt(np.einsum("csn,csn->sn", way, way))
            line = way / np.maximum(long, 1e-6)
            long = np.clip(long, np.maximum(np.abs(upper - lower), 1e-6), upper + lower)
            ahead = places[limb.points] - start
            ahead -= np.einsum("csn,csn->sn", ahead, line) * line
            ahead /= np.maximum(np.sqrt(np.einsum("csn,csn->sn", ahead, ahead)), 1e-6)
            along = (upper * upper + long * long - lower * lower) / (2 * long)
            off = np.sqrt(np.maximum((upper - along) * (upper + along), 0))
            x, y, z = line
            u, v, w = ahead
            aside = np.stack([y * w - z * v, z * u - x * w, x * v - y * u])
            middle = along * line + off * (lean[0] * ahead + lean[1] * aside)
            away = middle - dense.middle[:, at]
            # Half the angle, as between quaternions.
            grow(worst[1], 0.5 * away / np.minimum(upper, lower), self._look(limb.upper, at))
            grow(worst[1], 0.5 * (ahead - dense.ahead[:, at]), self._look(limb.upper, at))
            away += start - dense.start[:, at]
            grow(worst[0], away, self._look(limb.lower, at))

    def _look(self, joint: int, at: np.ndarray) -> Share:
        look = self.bones.look(joint)
        return look[at] if isinstance(look, np.ndarray) else look


@dataclass(frozen=True, eq=False)
class _Limb:
    """A limb in the dense motion: the lengths of its bones ``upper`` and ``lower (frames,)``, the unit vector of its ``lean (2, frames)``,
    where it begins ``start (3, frames)``, from there to its ``middle``, and where it points ``ahead``.
    """

    upper: np.ndarray
    lower: np.ndarray
    lean: np.ndarray
    start: np.ndarray
    middle: np.ndarray
    ahead: np.ndarray


def _limb_of(
    rig: ControlRig, number: int, clip: Clip, controls: np.ndarray, bones: Motion, moved: Mapping[int, np.ndarray]
) -> _Limb:
    """``controls (controls, 3, frames)``: where they are in the world."""
    limb = rig.limbs[number]
    own = limb_bones(limb, rig.bones, bones.local, moved)
    lean = clip.move_of(limb.lean)[:, :2].T
    size = np.sqrt(np.einsum("cf,cf->f", lean, lean))
    lean = np.where(size > 1e-9, lean / np.maximum(size, 1e-9), np.array([[1.0], [0.0]]))
    start, end = bones.places[limb.upper], bones.places[limb.end]
    line = rot.normalise((end - start).T).T
    ahead = controls[limb.points] - start
    ahead = rot.normalise((ahead - np.einsum("cf,cf->f", ahead, line) * line).T).T
    parts = (*own.lengths, lean, start, bones.places[limb.lower] - start, ahead)
    return _Limb(*(part.astype(np.float32) for part in parts))


def controls_motion(
    rig: ControlRig,
    clip: Clip,
    points: Mapping[str, ContactPoint],
    contacts: Contacts | None,
    names: Collection[str] | None,
    looks: Sequence[Share],
) -> Motion:
    """A clip of controls as thinning looks at it. ``looks``: of the controls, then of each morph (see Motion), or none."""
    bones = solve(rig, clip)
    own = {
        name: ContactPoint(name, int(rig.driver[p.joint]), rot.rotate(rig.frames[p.joint], p.offset))
        for name, p in points.items()
        if rig.driver[p.joint] >= 0
    }
    motion = motion_of(clip, own, contacts, names, _looks(rig, clip, looks))
    of_bones: list[Share] = []
    if len(looks):
        of_bones = [looks[c] if c >= 0 else 1.0 for c in rig.driver.tolist()] + list(looks[len(rig.skeleton) :])
    beneath = motion_of(bones, points, contacts, None, of_bones)
    places, moves = forward_rows(clip)[0], bones.moves
    limbs = tuple(_limb_of(rig, n, clip, places, beneath, moves) for n in range(len(rig.limbs)))
    return replace(motion, driven=Driven(rig, beneath, limbs))


def _looks(rig: ControlRig, clip: Clip, looks: Sequence[Share]) -> list[Share]:
    """How much what each control misses counts: those of limbs count by what their bones miss."""
    found: list[Share] = list(looks) if len(looks) else [1.0] * (len(rig.skeleton) + len(clip.morphs))
    apart = {j for limb in rig.limbs for j in (limb.points, limb.lean, limb.length, rig.driver[limb.lower])}
    for joint in apart:
        found[int(joint)] = _NEXT_TO_NOTHING
    return found
