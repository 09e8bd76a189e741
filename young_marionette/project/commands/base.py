"""What all commands share: an active pair, made where there is none."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Protocol

from ...core.errors import InputError
from ..pairing import Origin, pair
from ..stringing import from_file

if TYPE_CHECKING:
    from ..document import State


class Command(Protocol):
    """An edit: makes a new state of an old one, or the same where there is nothing to do; InputError where it can't."""

    @property
    def label(self) -> str: ...

    def run(self, state: State) -> State: ...


def paired(state):
    """The state with a pairing for the active two: what the family has, else a stringing that fits, else a new one."""
    if state.key is None or state.key in state.pairings:
        return state
    source, rig = state.source_entry, state.rig_entry
    for file in state.stringings:
        if (file.source.fingerprint, file.target.fingerprint) == state.key:
            known = from_file(file, source, rig)
            return state.with_pairing(replace(known, origin=Origin("stringing", file.name)))
    try:
        return state.with_pairing(pair(source, rig))
    except InputError:
        return state  # said as a snag; nothing to tie by itself


def need(state):
    """What the active two share with their families (a Pairing); InputError where there is none."""
    source, rig = state.source_entry, state.rig_entry
    pairing = state.tied(source, rig) if source and rig else None
    if pairing is None:
        raise InputError("Choose a source clip and a target rig first; both need a readable body.")
    return pairing
