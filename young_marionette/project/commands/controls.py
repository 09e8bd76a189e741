"""Controls of rigs, and baked clips carried onto controls, from one set to another, and back onto bones."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING

from ...core.controls.motion import invert
from ...core.controls.rig import control_rig
from ...core.errors import InputError
from ...core.names import free_name
from ...core.passes.correction import Correction, Posed
from ...core.passes.difference import Difference
from ...core.passes.stack import Pass
from ...core.thinning.settings import Thin
from ..bakes import Bake
from ..entry import new_id
from .base import entry_of
from .passes import bake_of

if TYPE_CHECKING:
    from ...core.controls.rig import ControlRig
    from ...core.controls.sets import ControlSet
    from ...core.skeleton import Skeleton
    from ..document import State


@dataclass(frozen=True)
class SetControls:
    """Give a rig a set of controls; None: the one that is made from what its bones were read as. Clips that were baked onto a set that
    is built alike take its names and looks; those on another one keep that.
    """

    rig: str
    controls: ControlSet | None
    label: str = "change the controls"

    def run(self, state: State) -> State:
        entry = entry_of(state, self.rig)
        if self.controls is not None:
            control_rig(self.controls, entry.placed_skeleton)
        if self.controls == entry.controls:
            return state
        state = state.with_entry(replace(entry, controls=self.controls))
        return replace(
            state, bakes=tuple(_as_in(one, self.controls) if one.rig.id == entry.id else one for one in state.bakes)
        )


@dataclass(frozen=True)
class BakeOntoControls:
    """Bake what a baked clip gives, after all its passes, onto the controls that its rig has now, as a new clip.

    ``instead``: in place of the clip. ``few``: into few poses at once, as thinning does it.
    """

    bake: str
    instead: bool = False
    few: Thin | None = None
    identifier: str = field(default_factory=new_id)
    label: str = "bake onto controls"

    def run(self, state: State) -> State:
        old = bake_of(state, self.bake)
        rig = next((e for e in state.entries if e.id == old.rig.id), old.rig)
        controls = rig.control_set
        made = onto(old, controls)
        passes = (Pass(new_id(), self.few),) if self.few is not None else ()
        if rig.controls is None and rig is not old.rig:
            # From now on this is the rig's set: it is not made anew by itself.
            state = state.with_entry(replace(rig, controls=controls))
        return _put(state, old, replace(made, passes=passes), self.instead, self.identifier, "on controls")


@dataclass(frozen=True)
class BakeOntoBones:
    """Bake what a clip of controls gives, after all its passes, onto the bones, as a new clip; ``instead``: in its place."""

    bake: str
    instead: bool = False
    identifier: str = field(default_factory=new_id)
    label: str = "bake onto bones"

    def run(self, state: State) -> State:
        old = bake_of(state, self.bake)
        if old.controls is None:
            raise InputError(f"{old.name} is on bones already.")
        stage = old.passed.stage()
        made = replace(
            old, dense=old.passed.bones(stage.clip), contacts=stage.contacts, passes=(), controls=None, bones=None
        )
        return _put(state, old, made, self.instead, self.identifier, "on bones")


@dataclass(frozen=True)
class SwitchLimb:
    """Let the end of a limb be placed and its bones follow, or turn each of its bones, in a clip of controls; or have its end
    stand in another space. The motion stays.
    """

    bake: str
    limb: str
    reaches: bool
    space: str
    label: str = "switch a limb"

    def run(self, state: State) -> State:
        old = bake_of(state, self.bake)
        if old.controls is None or old.control_rig is None:
            raise InputError(f"{old.name} is on bones; bake it onto controls first.")
        controls = old.controls.with_limb(self.limb, reaches=self.reaches, space=self.space)
        if controls == old.controls:
            return state
        new = control_rig(controls, old.placed_skeleton)
        if any(not _goes_on(one, new) for one in old.passes if one.on):
            raise InputError(
                f"Passes of {old.name} hold keys, or move controls, that the {self.limb} would lose; merge them first."
            )
        before = old.passed.bones(old.dense)
        return state.with_entry(replace(old, dense=invert(new, before), controls=controls))


def onto(old: Bake, controls: ControlSet) -> Bake:
    """What a baked clip gives after all its passes, on controls; InputError where the set does not fit its rig."""
    stage = old.passed.stage()
    bones = old.passed.bones(stage.clip)
    rig = control_rig(controls, old.placed_skeleton)
    return replace(
        old, dense=invert(rig, bones), contacts=stage.contacts, passes=(), controls=controls, bones=old.placed_skeleton
    )


def _as_in(bake: Bake, controls: ControlSet | None) -> Bake:
    """A baked clip whose controls are called, and look, as in a set that is built alike; the same on any other one."""
    if bake.controls is None or controls is None or bake.control_rig is None or bake.controls.built != controls.built:
        return bake
    made = replace(controls, limbs=bake.controls.limbs)
    old, new = bake.control_rig, control_rig(made, bake.placed_skeleton)
    if old is new:
        return replace(bake, controls=made)
    names = dict(zip(old.skeleton.names, new.skeleton.names))
    passes = tuple(_renamed(one, names, new.skeleton) for one in bake.passes)
    return replace(bake, controls=made, dense=replace(bake.dense, skeleton=new.skeleton), passes=passes)


def _renamed(one: Pass, names: dict[str, str], skeleton: Skeleton) -> Pass:
    """A pass over controls that have other names: ``{old: new}``."""
    method = one.method
    if one.keys is not None:
        method = replace(one.keys, keyed=replace(one.keys.keyed, skeleton=skeleton))
    elif isinstance(method, Difference):
        method = replace(method, clip=replace(method.clip, skeleton=skeleton))
    elif isinstance(method, Correction):
        keys = [
            Posed(key.frame, *(tuple((names.get(n, n), v) for n, v in part) for part in (key.turns, key.moves)))
            for key in method.keys
        ]
        method = method.with_keys(keys)
    elif isinstance(method, Thin):
        named = (replace(e, names=tuple(names.get(n, n) for n in e.names)) for e in method.emphases)
        method = replace(method, emphases=tuple(named))
    return replace(one, method=method, names=tuple(names.get(n, n) for n in one.names))


def _goes_on(one: Pass, rig: ControlRig) -> bool:
    """Whether a pass means the same on other controls."""
    if one.keys is not None or isinstance(one.method, Difference):
        return False
    names = set(one.names)
    if isinstance(one.method, Correction):
        names |= {name for key in one.method.keys for part in (key.turns, key.moves) for name, _ in part}
    return names <= set(rig.skeleton.names)


def _put(state: State, old: Bake, made: Bake, instead: bool, identifier: str, where: str) -> State:
    if instead:
        return state.with_entry(made)
    plain = old.name.removesuffix(" on controls").removesuffix(" on bones")
    made = replace(made, id=identifier, name=free_name(f"{plain} {where}", state.names))
    return replace(state, bakes=(*state.bakes, made))
