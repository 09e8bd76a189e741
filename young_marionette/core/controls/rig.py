"""A set of controls on a rig, made ready: the controls as joints of a skeleton of their own, so that whatever works on the channels of
joints works on controls.

A control that is placed lies along the world's axes at rest; one that is turned has its bone's.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..evaluator import EVALUATOR
from ..names import free_name
from ..skeleton import Skeleton
from .limbs import DISTANCE
from .sets import BODY, CURL, DIRECTION, END, HIPS, PLACED, ROLL, TURNED, Control, ControlSet, LimbControls, Sole

if TYPE_CHECKING:
    from collections.abc import Sequence


@dataclass(frozen=True, eq=False)
class ReachingLimb:
    """A limb whose end is placed. ``upper``, ``lower``, ``end``: joints of the bones; the rest: joints of the controls.

    ``lean`` and ``length``: of no control that anybody sees: what of the limb's pose no other one tells (see limbs), and where its
    last bone begins.
    """

    name: str
    upper: int
    lower: int
    end: int
    place: int
    points: int
    lean: int
    length: int
    roll: int | None
    upper_hinge: np.ndarray
    lower_hinge: np.ndarray
    sole: Sole | None


@dataclass(frozen=True, eq=False)
class Curl:
    """Fingers that curl together by ``control``: ``bones``, and their ``axes (bones, 3)``."""

    control: int
    bones: tuple[int, ...]
    axes: np.ndarray


@dataclass(frozen=True, eq=False)
class ControlRig:
    """``controls``: without their looks. ``bones``: the placed rig. ``skeleton``: of the controls. ``driver (bones,)``: by bone the joint of its control, -1 without one.
    ``placed (bones,)``: whether that places it. ``frames (bones, 4)``: what a placed bone is turned by against its control;
    ``bases (bones, 4)``: what a turned control is against its bone, from the left (see ``motion``).
    """

    controls: ControlSet
    bones: Skeleton
    skeleton: Skeleton
    driver: np.ndarray
    placed: np.ndarray
    frames: np.ndarray
    bases: np.ndarray
    limbs: tuple[ReachingLimb, ...]
    curls: tuple[Curl, ...]
    joints: dict[str, int] = field(default_factory=dict)

    @cached_property
    def shown(self) -> tuple[tuple[Control, int], ...]:
        """The controls that drive something as the limbs are switched now, each with its joint."""
        return self.shown_of(self.controls)

    def shown_of(self, controls: ControlSet) -> tuple[tuple[Control, int], ...]:
        """As ``shown``, of the set that this was made from, with looks and limits."""
        return tuple((one, self.joints[one.name]) for one in controls.controls if one.name in self.joints)

    @cached_property
    def uncontrolled(self) -> tuple[int, ...]:
        """The bones that no control moves."""
        return tuple(np.flatnonzero(self.driver < 0).tolist())


def control_rig(controls: ControlSet, bones: Skeleton) -> ControlRig:
    """A set of controls on a placed rig, kept as long as the rig is, however its controls look; InputError where it does not fit."""
    plain = controls.plain
    return EVALUATOR.of("control rig", (plain, bones), lambda: _Builder(plain.checked(bones), bones).built())


def grip_of(rig: ControlRig, bone: int) -> str | None:
    """The name of the control by which animators take hold of a bone: of a limb that follows its end, where it points."""
    limb = next((one for one in rig.limbs if bone in (one.upper, one.lower)), None)
    if limb is not None:
        return rig.skeleton.names[limb.points]
    joint = next((int(rig.driver[j]) for j in (bone, *rig.bones.ancestors(bone)) if rig.driver[j] >= 0), 0)
    return rig.skeleton.names[joint]


class _Builder:
    def __init__(self, controls: ControlSet, bones: Skeleton) -> None:
        self.controls, self.bones = controls, bones
        self.rest = bones.rest_world
        self.names: list[str] = []
        self.parents: list[int] = []
        self.places: list[np.ndarray] = []
        self.turns: list[np.ndarray] = []
        self.tips: list[np.ndarray] = []
        self.driver = np.full(len(bones), -1)
        self.placed = np.zeros(len(bones), bool)
        self.bases = np.tile(rot.IDENTITY, (len(bones), 1))
        self.joints: dict[str, int] = {}
        self.of = {one.bone: one for one in controls.controls if one.kind in (PLACED, TURNED)}
        self.reaching = {limb.bones[2]: limb for limb in controls.limbs if limb.reaches}

    def built(self) -> ControlRig:
        """All controls that drive something."""
        whole = next(one for one in self.controls.controls if one.kind == BODY)
        self.joints[whole.name] = self._joint(whole.name, -1, np.zeros(3), rot.IDENTITY)
        limbs = []
        for bone in range(len(self.bones)):
            name = self.bones.names[bone]
            one, limb = self.of.get(name), self.reaching.get(name)
            if limb is not None:
                limbs.append(self._limb(limb))
            elif one is not None and one.kind == PLACED:
                self.driver[bone], self.placed[bone] = self._placed(one, bone), True
            elif one is not None:
                self.driver[bone] = self._turned(one, bone)
        curls = tuple(self._curls())
        frames = np.where(self.placed[:, None], self.rest[1], rot.IDENTITY)
        return ControlRig(
            self.controls, self.bones, self._skeleton(), self.driver, self.placed, frames, self.bases, tuple(limbs), curls,
            self.joints,
        )  # fmt: skip

    def _skeleton(self) -> Skeleton:
        parents = np.array(self.parents)
        places, turns = np.array(self.places), np.array(self.turns)
        back = np.where((parents < 0)[:, None], rot.IDENTITY, rot.conjugate(turns[parents]))
        starts = np.where((parents < 0)[:, None], 0.0, places[parents])
        offsets = rot.rotate(back, places - starts)
        return Skeleton(tuple(self.names), parents, offsets, rot.multiply(back, turns), np.array(self.tips))

    def _joint(self, name: str, parent: int, place: np.ndarray, turn: np.ndarray, tip: np.ndarray | None = None) -> int:
        self.names.append(free_name(name, set(self.names)))
        self.parents.append(parent)
        self.places.append(np.asarray(place, float))
        self.turns.append(np.asarray(turn, float))
        self.tips.append(np.full(3, np.nan) if tip is None else tip)
        return len(self.names) - 1

    def _above(self, bone: int) -> int:
        """The control of the nearest bone above one that has any, else that of the whole body."""
        return next((int(self.driver[j]) for j in self.bones.ancestors(bone) if self.driver[j] >= 0), 0)

    def _placed(self, one: Control, bone: int) -> int:
        parent = self.joints.get(one.space, 0)
        joint = self._joint(one.name, parent, self.rest[0][bone], rot.IDENTITY)
        self.joints[one.name] = joint
        return joint

    def _turned(self, one: Control, bone: int) -> int:
        above, hangs_on = self._above(bone), int(self.bones.parents[bone])
        tip = self.bones.tips[bone]
        joint = self._joint(one.name, above, self.rest[0][bone], self.rest[1][bone], tip)
        if hangs_on >= 0:
            self.bases[bone] = rot.multiply(rot.conjugate(self.turns[above]), self.rest[1][hangs_on])
        self.joints[one.name] = joint
        return joint

    def _hips(self, upper: int) -> int:
        """The control that a limb stands in the space of where it goes along with the hips: the nearest above that is placed."""
        above = (j for j in self.bones.ancestors(upper) if self.placed[j])
        return next((int(self.driver[j]) for j in above), 0)

    def _limb(self, limb: LimbControls) -> ReachingLimb:
        upper, lower, end = (self.bones.index[bone] for bone in limb.bones)
        places, turns = self.rest
        told = {
            one.kind: one
            for one in self.controls.controls
            if one.bone == limb.bones[2] and one.kind in (END, DIRECTION, ROLL)
        }
        place = self._joint(told[END].name, self._hips(upper) if limb.space == HIPS else 0, places[end], rot.IDENTITY)
        self.joints[told[END].name] = place
        self.driver[end], self.placed[end] = place, True
        line = rot.normalise(places[end] - places[upper])
        ahead = np.asarray(limb.points) - np.dot(limb.points, line) * line
        if np.linalg.norm(ahead) < 1e-3:
            ahead = np.cross(line, [1.0, 0.0, 0.0]) if abs(line[0]) < 0.9 else np.cross(line, [0.0, 1.0, 0.0])
        ahead = rot.normalise(ahead)
        hinge = np.cross(line, ahead)
        long = np.linalg.norm(places[lower] - places[upper]) + np.linalg.norm(places[end] - places[lower])
        above = next((int(self.driver[j]) for j in self.bones.ancestors(upper) if self.driver[j] >= 0), 0)
        points = self._joint(told[DIRECTION].name, above, places[lower] + DISTANCE * long * ahead, rot.IDENTITY)
        self.joints[told[DIRECTION].name] = points
        lean = self._joint(f"{limb.name} lean", 0, np.zeros(3), rot.IDENTITY)
        length = self._joint(f"{limb.name} length", 0, self.bones.offsets[end], rot.IDENTITY)
        roll = None
        sole = next((s for s in self.controls.soles if s.foot == limb.bones[2]), None)
        if ROLL in told and sole is not None:
            roll = self._joint(told[ROLL].name, place, places[end], rot.IDENTITY)
            self.joints[told[ROLL].name] = roll
        one, two = (rot.rotate(rot.conjugate(turns[bone]), hinge) for bone in (upper, lower))
        return ReachingLimb(limb.name, upper, lower, end, place, points, lean, length, roll, one, two, sole)

    def _curls(self) -> Sequence[Curl]:
        found = []
        for one in self.controls.controls:
            if one.kind != CURL:
                continue
            hand = self.bones.index[one.bone]
            joints = [
                c for c in self.controls.curls if c.hand == one.bone and self.driver[self.bones.index[c.bone]] >= 0
            ]
            if not joints or self.driver[hand] < 0:
                continue
            control = self._joint(one.name, int(self.driver[hand]), self.rest[0][hand], rot.IDENTITY)
            self.joints[one.name] = control
            found.append(
                Curl(control, tuple(self.bones.index[c.bone] for c in joints), np.array([c.axis for c in joints]))
            )
        return found
