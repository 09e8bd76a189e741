"""What comes of the active two: transfer settings, baked clips, kept stringings."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

from ...core.errors import InputError
from ...core.names import free_name
from ..bakes import Bake as Made
from ..bakes import bake
from ..entry import new_id
from ..pairing import Use
from ..stringing import StringingFile, adapt, from_file, to_file
from .base import active, need
from .controls import onto

if TYPE_CHECKING:
    from ..document import State


@dataclass(frozen=True)
class SetTransfer:
    """Change transfer settings (see core.transfer.settings): of the active clip alone where they are a Use's."""

    changes: tuple[tuple[str, object], ...]
    label: str = "change the transfer"

    def run(self, state: State) -> State:
        pairing, changes = need(state), dict[str, Any](self.changes)
        own = {name: changes.pop(name) for name in tuple(changes) if name in vars(Use())}
        if changes:
            state = state.with_pairing(replace(pairing, settings=replace(pairing.settings, **changes)))
        if own:
            _, source, rig = active(state)
            use = replace(state.uses.get((source.id, rig.id), Use()), **own)
            state = state.with_use(use)
        return state


@dataclass(frozen=True)
class SetTouch:
    """Lay a touch of some degrees over the stance (see core.matching.touches); none with 0."""

    name: str
    degrees: float
    label: str = "adjust the stance"

    def run(self, state: State) -> State:
        touches = {**dict(need(state).settings.touches), self.name: self.degrees}
        return SetTransfer((("touches", tuple((n, d) for n, d in touches.items() if d)),)).run(state)


@dataclass(frozen=True)
class Bake:
    """Bake the active clip onto the active rig, as a new clip; nothing is replaced."""

    fps: float | None = None
    frames: tuple[int, int] | None = None
    identifier: str = field(default_factory=new_id)
    label: str = "bake"

    def run(self, state: State) -> State:
        pairing, source, rig = active(state)
        name = free_name(f"{source.name} on {rig.name}", state.names)
        made = bake(self.identifier, name, pairing, source, rig, self.fps, self.frames)
        return replace(state, bakes=(*state.bakes, made))


@dataclass(frozen=True, eq=False)
class AddBake:
    """Put a baked clip, which was worked out elsewhere, into the library."""

    made: Made
    label: str = "bake"

    def run(self, state: State) -> State:
        name = free_name(self.made.name, state.names)
        return replace(state, bakes=(*state.bakes, replace(self.made, name=name)))


@dataclass(frozen=True)
class BakeAnew:
    """Bake a baked clip anew from what it was made from, as that is now."""

    bake: str
    label: str = "rebake"

    def run(self, state: State) -> State:
        old = next((b for b in state.bakes if b.id == self.bake), None)
        if old is None:
            raise InputError("This baked clip is not in the library any more.")
        source, rig = (next((e for e in state.entries if e.id == key), None) for key in (old.source, old.rig.id))
        pairing = state.pairing_of(source, rig) if source and rig else None
        if source is None or rig is None or pairing is None:
            raise InputError(f"{old.name} can't be rebaked: its clip or its rig is not in the library any more.")
        fps, frames = old.fps, old.frames
        if frames is not None:
            last = source.placed_clip.frames - 1
            frames = min(frames[0], last), min(frames[1], last)
        made = bake(old.id, old.name, pairing, source, rig, fps, frames)
        if old.controls is not None:
            made = onto(made, old.controls)
        return state.with_entry(replace(made, tags=old.tags, passes=old.passes))


@dataclass(frozen=True, eq=False)
class UseStringing:
    """Put a stringing into the library and use it for the active pair; InputError where it does not fit."""

    file: StringingFile
    label: str = "use a stringing"

    def run(self, state: State) -> State:
        kept = (*(f for f in state.stringings if f != self.file), self.file)
        state = replace(state, stringings=kept)
        source, rig = state.source_entry, state.rig_entry
        if source is None or rig is None:
            return state
        # Its settings count, not what was set for the clip before.
        state = replace(state, uses={k: u for k, u in state.uses.items() if k != (source.id, rig.id)})
        return state.with_pairing(from_file(self.file, source, rig))


@dataclass(frozen=True, eq=False)
class AdaptStringing:
    """Use a stringing that nearly fits the active pair: keep what fits, tie the rest by itself."""

    file: StringingFile
    label: str = "adapt a stringing"

    def run(self, state: State) -> State:
        _, source, rig = active(state)
        return state.with_pairing(adapt(self.file, source, rig))


@dataclass(frozen=True)
class KeepStringing:
    """Keep the active pairing as a named stringing in the library."""

    name: str
    label: str = "add the stringing to the library"

    def run(self, state: State) -> State:
        if not self.name.strip():
            raise InputError("A stringing needs a name.")
        file = to_file(*active(state), self.name.strip())
        return replace(state, stringings=(*(f for f in state.stringings if f.name != file.name), file))
