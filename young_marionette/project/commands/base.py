"""What all commands share: an active pair, made where there is none."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Protocol

from ...core.errors import InputError
from ..entry import Entry
from ..pairing import Origin, Pairing, pair, untied_pair
from ..stringing import from_file

if TYPE_CHECKING:
    from ..document import State
    from ..pairing import Pairing


if TYPE_CHECKING:
    from ..document import State


_NO_PAIR = "Choose a source clip and a target rig first; both need a readable body."


class Command(Protocol):
    """An edit: makes a new state of an old one, or the same where there is nothing to do; InputError where it can't."""

    @property
    def label(self) -> str: ...

    def run(self, state: State) -> State: ...


def paired(state: State) -> State:
    """The state with a pairing for the active two: what the family has, else a stringing that fits, else a new one."""
    source, rig = state.source_entry, state.rig_entry
    if source is None or rig is None or state.key in state.pairings:
        return state
    for file in state.stringings:
        if (file.source.fingerprint, file.target.fingerprint) == state.key:
            known = from_file(file, source, rig)
            return state.with_pairing(replace(known, origin=Origin("stringing", file.name)))
    try:
        return state.with_pairing(pair(source, rig))
    except InputError:
        return state.with_pairing(untied_pair(source, rig))  # said as a snag; can be tied part by part


def active(state: State) -> tuple[Pairing, Entry, Entry]:
    """The active pairing with the clip's own settings, the source and the rig; InputError where there is none."""
    source, rig, pairing = state.source_entry, state.rig_entry, state.pairing
    if source is None or rig is None or pairing is None:
        raise InputError(_NO_PAIR)
    return pairing, source, rig


def entry_of(state: State, identifier: str) -> Entry:
    """The entry with an id; InputError where it is not in the library any more."""
    entry = next((e for e in state.entries if e.id == identifier), None)
    if entry is None:
        raise InputError("This is not in the library any more.")
    return entry


def need(state: State) -> Pairing:
    """What the active two share with their families (a Pairing); InputError where there is none."""
    source, rig = state.source_entry, state.rig_entry
    pairing = state.tied(source, rig) if source and rig else None
    if pairing is None:
        raise InputError(_NO_PAIR)
    return pairing
