"""Edits of the library: what is in it, what is active, and what is known better than the files."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from ...core.errors import InputError
from ...core.names import free_name
from ...core.rebase import rename
from ..carrying import taken_up
from ..entry import CLIP, RIG, Entry
from .base import entry_of, paired

if TYPE_CHECKING:
    from ...core.transfer.limits import JointLimit
    from ..document import State


@dataclass(frozen=True, eq=False)
class AddEntries:
    """Put entries into the library; the first clip and the first rig become active where none is."""

    entries: tuple[Entry, ...]

    @property
    def label(self) -> str:
        return f"open {self.entries[0].name}" if len(self.entries) == 1 else f"open {len(self.entries)} files"

    def run(self, state: State) -> State:
        if not self.entries:
            return state
        taken, added = state.names, []
        for entry in self.entries:
            name = free_name(entry.name, taken)
            taken.add(name)
            added.append(replace(entry, name=name))
        bakes = [bake for bake in map(taken_up, added) if bake is not None]
        added = [replace(entry, carried=None) if entry.carried else entry for entry in added]
        state = replace(state, entries=(*state.entries, *added))
        for bake in bakes:
            bake = replace(bake, name=free_name(bake.name, state.names))
            state = replace(state, bakes=(*state.bakes, bake))
        if state.source is None:
            state = replace(state, source=next((e.id for e in added if e.role == CLIP), None))
        if state.rig is None:
            state = replace(state, rig=next((e.id for e in added if e.role == RIG and e.figure.body), None))
        return paired(state)


@dataclass(frozen=True)
class Remove:
    """Take an entry out of the library; the file on disk stays."""

    entry: str
    label: str = "remove from the library"

    def run(self, state: State) -> State:
        return replace(
            state,
            entries=tuple(e for e in state.entries if e.id != self.entry),
            bakes=tuple(b for b in state.bakes if b.id != self.entry),
            recordings=tuple(r for r in state.recordings if r.id != self.entry),
            source=None if state.source == self.entry else state.source,
            rig=None if state.rig == self.entry else state.rig,
        )


@dataclass(frozen=True)
class Choose:
    """Make an entry the active source, or the active rig; a new pair is tied and matched by itself."""

    entry: str
    as_rig: bool = False

    @property
    def label(self) -> str:
        return "choose the target rig" if self.as_rig else "choose the source clip"

    def run(self, state: State) -> State:
        if (state.rig if self.as_rig else state.source) == self.entry:
            return state
        return paired(replace(state, rig=self.entry) if self.as_rig else replace(state, source=self.entry))


@dataclass(frozen=True)
class SetRole:
    """Use an entry as a rig, or as a clip."""

    entry: str
    role: str
    label: str = "change between clip and rig"

    def run(self, state: State) -> State:
        return state.with_entry(replace(entry_of(state, self.entry), role=self.role))


@dataclass(frozen=True)
class Rename:
    """Give a library entry, or with ``entry`` None the project, another name."""

    entry: str | None
    name: str
    label: str = "rename"

    def run(self, state: State) -> State:
        name = self.name.strip()
        if not name:
            raise InputError("A name needs at least one letter.")
        if self.entry is None:
            return replace(state, name=name)
        old = state.entry(self.entry)
        if old is None:
            raise InputError("This is not in the library any more.")
        return state.with_entry(replace(old, name=free_name(name, state.names - {old.name})))


@dataclass(frozen=True)
class Tag:
    """Give a library entry tags to search for."""

    entry: str
    tags: tuple[str, ...]
    label: str = "tag"

    def run(self, state: State) -> State:
        old = state.entry(self.entry)
        if old is None:
            raise InputError("This is not in the library any more.")
        return state.with_entry(replace(old, tags=tuple(dict.fromkeys(t.strip() for t in self.tags if t.strip()))))


@dataclass(frozen=True)
class Correct:
    """Correct what was guessed of a file (see core.figure.correction); the file stays as it is."""

    entry: str
    changes: tuple[tuple[str, object], ...]
    label: str = "correct a fact"

    def run(self, state: State) -> State:
        old = entry_of(state, self.entry)
        # All clips of one skeleton in one folder came the same way, but a correction is for one file only.
        return paired(state.with_entry(old.corrected(**dict(self.changes))))


@dataclass(frozen=True)
class GroundFrame:
    """Put a clip's lowest sole on the floor in a frame, or let go of it where that was done; with None of all frames."""

    entry: str
    frame: int | None
    label: str = "put a frame on the floor"

    def run(self, state: State) -> State:
        old = entry_of(state, self.entry)
        if old.take is None:
            raise InputError("Only a clip can be put on the floor.")
        frames = set(old.correction.grounded or ())
        frames = set() if self.frame is None else frames ^ {self.frame}
        if not frames and not old.correction.grounded:
            return state
        return paired(state.with_entry(old.corrected(grounded=tuple(sorted(frames)) or None)))


@dataclass(frozen=True)
class SetJointLimit:
    """Say how far a joint of a rig may turn; a limit that limits nothing is let go."""

    entry: str
    limit: JointLimit
    label: str = "limit a joint"

    def run(self, state: State) -> State:
        old = entry_of(state, self.entry)
        if self.limit.joint not in old.skeleton.index:
            raise InputError(f"There is no bone {self.limit.joint}.")
        free = self.limit.swing is None and self.limit.twist is None
        others = tuple(one for one in old.limits if one.joint != self.limit.joint)
        return state.with_entry(replace(old, limits=others if free else (*others, self.limit)))


@dataclass(frozen=True)
class RenameBones:
    """Give the bones of an entry, and of all of its family, other names; strings go along, motion stays.

    ``table``: which of the new names are which VRM humanoid bones, to be written with the rig.
    """

    entry: str
    names: tuple[tuple[str, str], ...]
    table: tuple[tuple[str, str], ...] = ()
    label: str = "rename bones"

    def run(self, state: State) -> State:
        names = dict(self.names)
        old = entry_of(state, self.entry)
        if not names and not self.table:
            raise InputError("There is no bone to rename.")
        members = {
            e.id: e.with_bone_names(names, self.table)
            for e in state.entries
            if e.family == old.family and e.skeleton.names == old.skeleton.names
        }
        family = members[old.id].family
        renamed = replace(state, entries=tuple(members.get(e.id, e) for e in state.entries))
        pairings = {}
        for (source, rig), pairing in state.pairings.items():
            key = family if source == old.family else source, family if rig == old.family else rig
            if source == old.family:
                ends = tuple(replace(s, source=tuple(names.get(n, n) for n in s.source)) for s in pairing.strings)
                pairing = replace(pairing, strings=ends, source=rename(pairing.source, names))
            if rig == old.family:
                ends = tuple(replace(s, target=tuple(names.get(n, n) for n in s.target)) for s in pairing.strings)
                pairing = replace(pairing, strings=ends, target=rename(pairing.target, names))
            pairings[key] = pairing
        return replace(renamed, pairings={**state.pairings, **pairings})
