"""What comes of the active two: transfer settings, baked clips, kept stringings."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

from ...core.errors import InputError
from ..entry import BAKED, Entry, free_name, new_id
from ..pairing import bake, refuse_gaps
from ..stringing import StringingFile, adapt, from_file, to_file
from .base import need


@dataclass(frozen=True)
class SetTransfer:
    """Change transfer settings (see core.transfer.TransferSettings)."""

    changes: tuple[tuple[str, object], ...]
    merge: str | None = None
    label: str = "change the transfer"

    def run(self, state):
        pairing = need(state)
        return state.with_pairing(replace(pairing, settings=replace(pairing.settings, **dict(self.changes))))


@dataclass(frozen=True)
class Bake:
    """Bake the active clip onto the active rig, as a new clip; nothing is replaced."""

    fps: float | None = None
    frames: tuple[int, int] | None = None
    identifier: str = field(default_factory=new_id)
    label: str = "bake"

    def run(self, state):
        pairing, source, rig = need(state), state.source_entry, state.rig_entry
        refuse_gaps(pairing, source, rig)
        name = free_name(f"{source.name} on {rig.name}", {e.name for e in state.entries})
        clip = replace(rig.to_file_world(bake(pairing, source, self.fps, self.frames)), name=name)
        entry = Entry(
            self.identifier,
            BAKED,
            name,
            None,
            rig.format,
            rig.skeleton,
            clip,
            rig.layout,
            replace(rig.correction, rate=None, lift=None, centred=None),
            made_from=(source.id, rig.id),
            declared=rig.declared,
        )
        return replace(state, entries=(*state.entries, entry))


@dataclass(frozen=True, eq=False)
class UseStringing:
    """Put a stringing into the library and use it for the active pair; InputError where it does not fit."""

    file: StringingFile
    label: str = "use a stringing"

    def run(self, state):
        kept = (*(f for f in state.stringings if f != self.file), self.file)
        state = replace(state, stringings=kept)
        if state.key is None:
            return state
        return state.with_pairing(from_file(self.file, state.source_entry, state.rig_entry))


@dataclass(frozen=True, eq=False)
class AdaptStringing:
    """Use a stringing that nearly fits the active pair: keep what fits, tie the rest by itself."""

    file: StringingFile
    label: str = "adapt a stringing"

    def run(self, state):
        need(state)
        pairing, told = adapt(self.file, state.source_entry, state.rig_entry)
        return state.with_pairing(replace(pairing, origin=f"Adapted from the stringing {self.file.name}; {told}."))


@dataclass(frozen=True)
class KeepStringing:
    """Keep the active pairing as a named stringing in the library."""

    name: str
    label: str = "keep the stringing"

    def run(self, state):
        if not self.name.strip():
            raise InputError("A stringing needs a name.")
        file = to_file(need(state), state.source_entry, state.rig_entry, self.name.strip())
        return replace(state, stringings=(*(f for f in state.stringings if f.name != file.name), file))
