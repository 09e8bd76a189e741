"""Thinning of controls: what is promised is promised of the bones that they drive."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..clip import Clip, as_rows, from_rows
from ..contacts.points import ContactPoint
from ..controls.limbs import Bones, Told, limb_turns
from ..controls.motion import limb_bones, solve
from ..kinematics import forward_rows
from .fitting import grow
from .motion import Motion, Share, motion_of
from .rebuilding import Curve, Key, misses_of, rows_of

if TYPE_CHECKING:
    from ..contacts.contact import Contacts
    from ..controls.rig import ControlRig, ReachingLimb

_NEXT_TO_NOTHING = 1e-3  # how much what a control misses counts that is of no bone by itself


@dataclass(frozen=True, eq=False)
class Driven:
    """``bones``: the dense motion of what the controls of ``rig`` drive. ``limbs``: of each limb of the rig its bones on all frames."""

    rig: ControlRig
    bones: Motion
    limbs: tuple[Bones, ...]

    def misses(self, motion: Motion, curves: Mapping[Key, Curve], at: np.ndarray | None = None) -> np.ndarray:
        """The largest misses ``(4, n)`` of the bones (see fitting.Fits) that curves of the controls' ``motion`` give at frames."""
        at = np.arange(motion.frames) if at is None else at
        if not len(at):
            return np.zeros((4, 0))

        def rows(key: Key) -> np.ndarray:
            curve = curves.get(key)
            return rows_of(motion, key)[:, at] if curve is None else curve.rows(at, key[0] == "rotation")

        local = np.stack([rows(("rotation", j)) for j in range(len(motion.skeleton))])
        moves = {j: rows(("move", j)).T for j in motion.moves}
        clip = Clip("", motion.skeleton, motion.rate, from_rows(local)).with_moves(moves)
        places, world = forward_rows(solve(self.rig, clip))
        dense = self.bones.world[:, :, at]
        world = np.where(np.einsum("jcf,jcf->jf", world, dense)[:, None] < 0, -world, world)
        return misses_of(self.bones, world, places, at)

    def grow(
        self, at: np.ndarray, turns: Sequence[np.ndarray], places: Sequence[np.ndarray], worst: np.ndarray
    ) -> None:
        """Let squares of misses ``(4, s, n)`` grow to those of the limbs' bones, which follow from what is told of
        their controls at frames ``at (s, n)``.
        """
        for limb, bones in zip(self.rig.limbs, self.limbs):
            found = self._limb(limb, bones, at.ravel(), turns, places)
            for joint, turn in zip((limb.upper, limb.lower), found):
                dense = self.bones.world[joint][:, at.ravel()]
                turn = np.where(np.einsum("cf,cf->f", turn, dense) < 0, -turn, turn)
                grow(worst[1], (turn - dense).reshape(4, *at.shape), self._look(joint, at))
            start = places[self.rig.driver[limb.upper]].reshape(3, -1)
            away = (
                start
                + rot.rotate_rows(found[0], bones.upper[at.ravel()].T)
                - self.bones.places[limb.lower][:, at.ravel()]
            )
            grow(worst[0], away.reshape(3, *at.shape), self._look(limb.lower, at))

    def _look(self, joint: int, at: np.ndarray) -> Share:
        look = self.bones.look(joint)
        return look[at] if isinstance(look, np.ndarray) else look

    def _limb(
        self,
        limb: ReachingLimb,
        bones: Bones,
        at: np.ndarray,
        turns: Sequence[np.ndarray],
        places: Sequence[np.ndarray],
    ) -> tuple[np.ndarray, np.ndarray]:
        """How the bones of a limb are turned in the world ``(4, n)``."""
        driver, parents = self.rig.driver, self.rig.skeleton.parents

        def place(control: int) -> np.ndarray:
            return np.asarray(places[control], float).reshape(3, -1).T

        def own(control: int) -> np.ndarray:
            above, turn = (np.asarray(turns[c], float).reshape(4, -1).T for c in (parents[control], control))
            return rot.multiply(rot.conjugate(above), turn)

        whole = np.asarray(turns[0], float).reshape(4, -1).T
        lean = rot.rotate(rot.conjugate(whole), place(limb.lean) - place(0))[:, :2]
        told = Told(place(limb.points), lean, own(int(driver[limb.upper])), own(int(driver[limb.lower])))
        some = replace(bones, upper=bones.upper[at], lower=bones.lower[at])
        upper, lower = limb_turns(some, place(int(driver[limb.upper])), place(limb.place), told)
        return upper.T, lower.T


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
    local, moves = as_rows(bones.rotations), bones.moves
    limbs = tuple(limb_bones(limb, rig.bones, local, moves) for limb in rig.limbs)
    return replace(motion, driven=Driven(rig, beneath, limbs))


def _looks(rig: ControlRig, clip: Clip, looks: Sequence[Share]) -> list[Share]:
    """How much what each control misses counts: those of limbs count by what their bones miss."""
    found: list[Share] = list(looks) if len(looks) else [1.0] * (len(rig.skeleton) + len(clip.morphs))
    apart = {j for limb in rig.limbs for j in (limb.points, limb.lean, limb.length, rig.driver[limb.lower])}
    for joint in apart:
        found[int(joint)] = _NEXT_TO_NOTHING
    return found
