"""A set of controls made from what a rig's bones were read as."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..contacts.points import contact_points
from ..humanoid import beside as kinds
from ..humanoid.groups import OTHER, groups
from ..humanoid.parts import ARM, LEG, SIDES
from ..humanoid.words import FINGERS
from ..names import free_name
from .sets import BODY, CURL, DIRECTION, END, PLACED, ROLL, TURNED, Control, ControlSet, CurlJoint, LimbControls, Sole

if TYPE_CHECKING:
    from ..character.meshes import Character
    from ..humanoid.reading import Body
    from ..skeleton import Skeleton

_HIDDEN = (kinds.ROLL, kinds.TWIST, kinds.END, kinds.SOCKET, kinds.GOAL, kinds.CORRECTIVE)
_LIMBS = (("leg", LEG, "knee", "foot", "tassel"), ("arm", ARM, "elbow", "hand", "toggle"))
Three = tuple[float, float, float]


def make_controls(skeleton: Skeleton, body: Body | None, character: Character | None = None) -> ControlSet:
    """The controls (a ControlSet) of a placed rig: whole body, hips and trunk, neck and head, a hand or foot with the direction of its
    elbow or knee per limb, rolls of feet, fingers together and singly, and all else as turned bones.

    Without a ``body`` there are turned bones alone, and what nothing carries is placed.
    """
    return _Maker(skeleton, body, character).made()


class _Maker:
    def __init__(self, skeleton: Skeleton, body: Body | None, character: Character | None) -> None:
        self.skeleton, self.body, self.character = skeleton, body, character
        self.parts = body.parts if body is not None else {}
        self.group = {name: group for group, names in groups(skeleton, body).items() for name in names}
        self.taken: set[str] = set()
        self.controls: list[Control] = []

    def made(self) -> ControlSet:
        """The whole set."""
        self._add("whole body", BODY, "", "hips", shape="crossbar")
        hips = self.parts["hips"][0] if self.parts else -1
        part_of = {joint: (part, i) for part, run in self.parts.items() for i, joint in enumerate(run)}
        beside = self.body.beside if self.body is not None else {}
        hidden = {j for kind in _HIDDEN for j in beside.get(kind, ())}
        hidden |= {j for part, run in self.parts.items() if part.endswith("twist") for j in run}
        limbs = list(self._limbs())
        reached = {limb.bones[i] for limb in limbs for i in range(3)}
        for joint, bone in enumerate(self.skeleton.names):
            part, number = part_of.get(joint, ("", 0))
            placed = joint == hips or self.skeleton.parents[joint] < 0
            name = self._name(part, number, bone)
            for limb in limbs:
                if bone == limb.bones[2]:
                    self._end(limb)
            if bone in reached:
                name = f"{name} turn" if any(bone == limb.bones[2] for limb in limbs) else name
            shown = joint not in hidden and bool(part or placed or self._is_seen(joint, beside))
            self._add(
                name,
                PLACED if placed else TURNED,
                bone,
                self.group.get(bone, OTHER),
                shape="ring" if placed or _of_trunk(part) else "peg",
                shown=shown,
            )
        curls = [curl for side in SIDES for curl in self._curls(side)]
        return ControlSet(tuple(self.controls), tuple(limbs), tuple(curls), tuple(self._soles(limbs)))

    def _is_seen(self, joint: int, beside: dict[str, tuple[int, ...]]) -> bool:
        """Whether a bone beside the body is worth a control that is shown."""
        return self.body is None or any(
            joint in beside.get(k, ()) for k in (kinds.PROP, kinds.TAIL, kinds.WING, kinds.EAR)
        )

    def _add(self, name: str, kind: str, bone: str, part: str, **look: object) -> Control:
        name = free_name(name, self.taken)
        self.taken.add(name)
        colour = next((side for side in SIDES if part.startswith(side)), "middle")
        one = Control(name, kind, bone, part, colour=colour, **look)  # type: ignore[arg-type]
        self.controls.append(one)
        return one

    def _name(self, part: str, number: int, bone: str) -> str:
        """What a control of a bone is called: by its part, where it is one."""
        if not part or part.endswith("twist"):
            return bone
        run = self.parts[part]
        if part == "spine" and len(run) > 1 and number == len(run) - 1:
            return "chest"
        if part.split()[-1] in FINGERS:
            return f"{part} {number + 1}"
        return part if number == 0 else f"{part} {number + 1}"

    def _limbs(self) -> list[LimbControls]:
        found: list[LimbControls] = []
        if self.body is None:
            return found
        names = self.skeleton.names
        for limb, parts, *_ in _LIMBS:
            for side in SIDES:
                runs = [self.parts.get(f"{side} {part}") for part in parts]
                if not all(runs):
                    continue
                upper, lower, end = (run[0] for run in runs if run)
                if upper not in self.skeleton.ancestors(lower) or lower not in self.skeleton.ancestors(end):
                    continue
                ahead = self.body.forward if limb == "leg" else -self.body.forward
                bones = names[upper], names[lower], names[end]
                # Arms that swing freely take fewer poses as turned bones; feet stand still where they are placed.
                found.append(LimbControls(f"{side} {limb}", bones, _three(ahead), limb == "leg"))
        return found

    def _end(self, limb: LimbControls) -> None:
        """The controls of a limb's end, of where it points, and of a foot's roll."""
        side = limb.name.split()[0]
        kind, _, bend, end, shape = next(row for row in _LIMBS if limb.name.endswith(row[0]))
        self._add(f"{side} {end}", END, limb.bones[2], limb.name, shape=shape)
        self._add(f"{side} {bend}", DIRECTION, limb.bones[2], limb.name, shape="bead")
        if kind == "leg":
            self._add(f"{side} foot roll", ROLL, limb.bones[2], limb.name, shape="rocker")
        elif len(self._fingers(side)) > 1:
            self._add(f"{side} fingers", CURL, limb.bones[2], f"{side} fingers", shape="rocker")

    def _soles(self, limbs: list[LimbControls]) -> list[Sole]:
        if self.body is None:
            return []
        points = {p.name: p for p in contact_points(self.skeleton, self.body, self.character)}
        places, turns = self.skeleton.rest_world
        found = []
        for limb in limbs:
            side = limb.name.split()[0]
            if not limb.name.endswith("leg") or f"{side} heel" not in points:
                continue
            foot = self.skeleton.index[limb.bones[2]]
            heel, ball = (rot.rotate(turns[foot], points[f"{side} {end}"].offset) for end in ("heel", "toe"))
            toes = self.parts.get(f"{side} toes", (-1,))[0]
            if toes >= 0 and int(self.skeleton.parents[toes]) == foot:
                found.append(
                    Sole(limb.bones[2], _three(heel), _three(places[toes] - places[foot]), self.skeleton.names[toes])
                )
            else:
                found.append(Sole(limb.bones[2], _three(heel), _three(ball)))
        return found

    def _fingers(self, side: str) -> list[tuple[int, ...]]:
        """The runs of a hand's fingers, from the index to the little one; no thumb, which curls another way."""
        runs = (self.parts.get(f"{side} {finger}") for finger in FINGERS[1:])
        return [run for run in runs if run]

    def _curls(self, side: str) -> list[CurlJoint]:
        runs, hand = self._fingers(side), self.parts.get(f"{side} hand")
        if len(runs) < 2 or not hand:
            return []
        places, turns = self.skeleton.rest_world
        across = rot.normalise(places[runs[0][0]] - places[runs[-1][0]])
        found = []
        for run in runs:
            along = places[run[-1]] - places[run[0]] if len(run) > 1 else places[run[0]] - places[hand[0]]
            # The palm's side follows from thumb side and fingers, whichever way the hand rests.
            palm = np.cross(along, across) * (1 if side == "left" else -1)
            axis = rot.normalise(np.cross(along, palm))
            if not axis.any():
                continue
            for joint in run:
                own = rot.rotate(rot.conjugate(turns[joint]), axis)
                found.append(CurlJoint(self.skeleton.names[hand[0]], self.skeleton.names[joint], _three(own)))
        return found


def _of_trunk(part: str) -> bool:
    return part.split(" ")[0] in ("hips", "spine", "neck", "head")


def _three(vector: np.ndarray) -> Three:
    x, y, z = map(float, vector)
    return x, y, z
