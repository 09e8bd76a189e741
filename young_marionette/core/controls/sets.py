"""The controls of a rig, as data: which there are, what each one drives, in which space it stands, how it looks."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING

from ..errors import InputError

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping

    from ..skeleton import Skeleton

BODY, PLACED, TURNED, END, DIRECTION, ROLL, CURL = KINDS = (
    "body",
    "placed",
    "turned",
    "end",
    "direction",
    "roll",
    "curl",
)
SHAPES = ("crossbar", "ring", "toggle", "tassel", "bead", "rocker", "peg")
COLOURS = ("middle", "left", "right", "quiet")
WORLD, HIPS = SPACES = ("world", "hips")
Three = tuple[float, float, float]
MOST = 100_000  # controls of a set


@dataclass(frozen=True)
class Control:
    """``kind``: the whole body; a bone that is placed and turned in the world, or in the ``space`` of another control; a bone that
    is turned against the one it hangs on; the end of a limb, where its elbow or knee points, the foot's roll; fingers curled
    together. ``bone``: the one that it drives, or the limb's last, or the hand. ``part``: the group of the body that it belongs to.

    ``shape``, ``size`` (1: as usual), ``colour``: how it is drawn; ``shown``: whether it is. ``swing`` and ``twist``: how far it
    may be turned from rest by hand, radians; ``reach``: how far from rest it may be moved, metres (None: as far as anybody likes).
    """

    name: str
    kind: str
    bone: str = ""
    part: str = ""
    space: str = ""
    shape: str = "ring"
    size: float = 1.0
    colour: str = "middle"
    shown: bool = True
    swing: float | None = None
    twist: tuple[float, float] | None = None
    reach: float | None = None


@dataclass(frozen=True)
class LimbControls:
    """``name``: such as ``left arm``. ``bones``: upper, lower and end. ``points (3,)``: where its elbow or knee points at rest, in the
    placed rig's world. ``reaches``: whether its end is placed and the bones follow, else each bone is turned. ``space``: where
    the end stands.
    """

    name: str
    bones: tuple[str, str, str]
    points: Three
    reaches: bool = True
    space: str = WORLD


@dataclass(frozen=True)
class CurlJoint:
    """A bone of a finger, and the ``axis (3,)``, in its own axes, about which it curls."""

    hand: str
    bone: str
    axis: Three


@dataclass(frozen=True)
class Sole:
    """About what a foot rolls: ``heel`` and ``ball (3,)``, from its joint, in the placed rig's world at rest (metres). ``toes``: the
    bone that stays on the floor while the heel rises; empty where there is none.
    """

    foot: str
    heel: Three
    ball: Three
    toes: str = ""


@dataclass(frozen=True)
class ControlSet:
    """The controls of a rig. Bones without one stay as they rest.

    >>> ControlSet((Control("whole body", BODY), Control("lamp", TURNED, "lamp"))).names
    ('whole body', 'lamp')
    """

    controls: tuple[Control, ...]
    limbs: tuple[LimbControls, ...] = ()
    curls: tuple[CurlJoint, ...] = ()
    soles: tuple[Sole, ...] = ()

    @property
    def names(self) -> tuple[str, ...]:
        return tuple(one.name for one in self.controls)

    @cached_property
    def _hash(self) -> int:
        return hash((self.controls, self.limbs, self.curls, self.soles))

    def __hash__(self) -> int:
        return self._hash  # sets are long, and looked up by what they hold all the time

    @cached_property
    def plain(self) -> ControlSet:
        """The same without what only tells how controls look, and how far a hand may take them."""
        return replace(self, controls=tuple(Control(c.name, c.kind, c.bone, c.part, c.space) for c in self.controls))

    @property
    def built(self) -> tuple[object, ...]:
        """What drives what, whatever it is called and however limbs are switched: sets that are built alike move alike."""
        limbs = tuple((limb.bones, limb.points) for limb in self.limbs)
        spaces = tuple(self.of(c.space).bone if c.space else "" for c in self.controls)
        return tuple((c.kind, c.bone) for c in self.controls), spaces, limbs, self.curls, self.soles

    def of(self, name: str) -> Control:
        """The control of a name; InputError where there is none."""
        for one in self.controls:
            if one.name == name:
                return one
        raise InputError(f"There is no control {name}.")

    def limb_of(self, bone: str) -> LimbControls | None:
        """The limb that a bone is the upper, lower or end bone of."""
        return next((limb for limb in self.limbs if bone in limb.bones), None)

    def changed(self, name: str, /, **values: object) -> ControlSet:
        """With other values of one control; InputError where its name is taken or missing."""
        old = self.of(name)
        new = replace(old, **values)  # type: ignore[arg-type]
        if not new.name.strip():
            raise InputError("A control needs a name.")
        if new.name != name and new.name in self.names:
            raise InputError(f"There is a control {new.name} already.")
        controls = tuple(new if one is old else one for one in self.controls)
        if new.name != name:
            controls = tuple(replace(one, space=new.name) if one.space == name else one for one in controls)
        return replace(self, controls=controls)

    def other_side(self, name: str) -> str | None:
        """The control that does on the other side what this one does here; None for what has no other side."""
        own = self.of(name)
        sides = {"left": "right", "right": "left"}
        side = next((s for s in sides if own.part.startswith(s)), None)
        if side is None:
            return None
        mirrored = [
            [
                one.name
                for one in self.controls
                if one.part == f"{s}{own.part.removeprefix(side)}" and one.kind == own.kind
            ]
            for s in (side, sides[side])
        ]
        # Both sides are made alike, one after the other.
        at = mirrored[0].index(name)
        return mirrored[1][at] if len(mirrored[0]) == len(mirrored[1]) else None

    def with_limb(self, name: str, /, **values: object) -> ControlSet:
        """With another switch, or another space, of a limb."""
        limbs = tuple(replace(one, **values) if one.name == name else one for one in self.limbs)  # type: ignore[arg-type]
        if limbs == self.limbs and name not in {one.name for one in self.limbs}:
            raise InputError(f"There is no limb {name}.")
        return replace(self, limbs=limbs)

    def added(self, bone: str, placed: bool = False, name: str = "") -> ControlSet:
        """With a control for a bone that has none; ``placed``: it stands in the world by itself."""
        if any(one.bone == bone and one.kind in (PLACED, TURNED) for one in self.controls):
            raise InputError(f"{bone} has a control already.")
        name = name.strip() or bone
        if name in self.names:
            raise InputError(f"There is a control {name} already.")
        one = Control(name, PLACED if placed else TURNED, bone, "other bones", shape="ring" if placed else "peg")
        return replace(self, controls=(*self.controls, one))

    def without(self, name: str) -> ControlSet:
        """Without a control, and without what hangs on it; InputError for one that others need."""
        gone = self.of(name)
        limb = self.limb_of(gone.bone) if gone.kind != CURL else None
        if gone.kind == BODY:
            raise InputError("The control of the whole body stays: all others stand in its space.")
        if any(one.space == name for one in self.controls):
            raise InputError(f"Other controls stand in the space of {name}.")
        if limb is not None and gone.kind in (TURNED, DIRECTION, END):
            raise InputError(
                f"{name} belongs to the {limb.name}; hide it, or switch the {limb.name} between its end and turned bones."
            )
        return replace(self, controls=tuple(one for one in self.controls if one is not gone))

    def renamed(self, bones: Mapping[str, str]) -> ControlSet:
        """For a rig whose bones have other names: ``{old: new}``."""

        def new(bone: str) -> str:
            return bones.get(bone, bone)

        return ControlSet(
            tuple(replace(one, bone=new(one.bone)) for one in self.controls),
            tuple(replace(one, bones=(new(one.bones[0]), new(one.bones[1]), new(one.bones[2]))) for one in self.limbs),
            tuple(replace(one, hand=new(one.hand), bone=new(one.bone)) for one in self.curls),
            tuple(replace(one, foot=new(one.foot), toes=new(one.toes)) for one in self.soles),
        )

    def checked(self, skeleton: Skeleton) -> ControlSet:
        """The same; InputError where it does not fit the skeleton, or contradicts itself."""
        for sentence in self._wrongs(skeleton):
            raise InputError(sentence)
        return self

    def _wrongs(self, skeleton: Skeleton) -> Iterator[str]:
        names = self.names
        if len(set(names)) != len(names):
            twice = next(n for n in names if names.count(n) > 1)
            yield f"There are two controls called {twice}."
        if sum(one.kind == BODY for one in self.controls) != 1:
            yield "A set of controls needs one for the whole body."
        bones = [one.bone for one in self.controls if one.kind != BODY]
        bones += [bone for limb in self.limbs for bone in limb.bones] + [c.bone for c in self.curls]
        bones += [c.hand for c in self.curls] + [b for s in self.soles for b in (s.foot, s.toes) if b]
        for bone in bones:
            if bone not in skeleton.index:
                yield f"These controls are for a rig with a bone {bone}, which this one has not."
        driven = [one.bone for one in self.controls if one.kind in (PLACED, TURNED)]
        if len(set(driven)) != len(driven):
            yield f"Two controls drive {next(b for b in driven if driven.count(b) > 1)}."
        for limb in self.limbs:
            yield from self._wrong_limb(skeleton, limb, set(driven))
        for one in self.controls:
            if one.space and (one.kind != PLACED or one.space == one.name or one.space not in names):
                yield f"{one.name} can't stand in the space of {one.space}."
            elif one.space and not self._comes_before(skeleton, one):
                yield f"{one.name} can't stand in the space of {one.space}, whose bone comes after its own."
            if one.kind in (END, DIRECTION, ROLL) and self.limb_of(one.bone) is None:
                yield f"{one.name} is of a limb that these controls do not have."

    def _comes_before(self, skeleton: Skeleton, one: Control) -> bool:
        above = self.of(one.space)
        if above.kind == BODY:
            return True
        return above.kind in (PLACED, TURNED) and skeleton.index[above.bone] < skeleton.index[one.bone]

    def _wrong_limb(self, skeleton: Skeleton, limb: LimbControls, driven: set[str]) -> Iterator[str]:
        upper, lower, end = (skeleton.index[bone] for bone in limb.bones)
        if upper not in skeleton.ancestors(lower) or lower not in skeleton.ancestors(end):
            yield f"The bones of the {limb.name} do not hang on each other."
        for kind in (END, DIRECTION):
            if sum(one.kind == kind and one.bone == limb.bones[2] for one in self.controls) != 1:
                yield f"The {limb.name} needs one control for its end, and one for where it points."
        if not set(limb.bones) <= driven:
            yield f"The {limb.name} needs controls for its bones."
