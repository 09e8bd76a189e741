"""What an edit touched, found by identity between two states of the document."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

from ..core.evaluator import nbytes

if TYPE_CHECKING:
    from .bakes import Bake
    from .document import State
    from .entry import Entry
    from .markers.entry import MarkerEntry
    from .pairing import Pairing
    from .stringing.schema import StringingFile


# Fields of a state that hold single values.
_PLAIN = ("name", "source", "rig", "stringings", "stance_tolerance", "limits", "presets")
# What listeners listen for: what the active pair comes out of, and all that can be seen on the stage.
PAIR = ("entries", "source", "rig", "pairings", "uses")
FIGURES = (*PAIR, "bakes", "recordings")


@dataclass(frozen=True)
class Change:
    """``entries``, ``bakes`` and ``recordings``: ids of those that came, went or are others now. ``pairings`` and ``uses``: their keys.

    ``fields``: names of the other fields of the state that changed. ``everything``: another project was opened.
    """

    entries: frozenset[str] = frozenset()
    bakes: frozenset[str] = frozenset()
    pairings: frozenset[tuple[str, str]] = frozenset()
    uses: frozenset[tuple[str, str]] = frozenset()
    fields: frozenset[str] = frozenset()
    everything: bool = False
    recordings: frozenset[str] = frozenset()

    def touches(self, *parts: str) -> bool:
        """Whether any of some parts changed: entries, bakes, pairings, uses, or a field of the state."""
        return self.everything or any(getattr(self, p) if hasattr(self, p) else p in self.fields for p in parts)

    def __or__(self, other: Change) -> Change:
        return Change(
            self.entries | other.entries, self.bakes | other.bakes, self.pairings | other.pairings, self.uses | other.uses,
            self.fields | other.fields, self.everything or other.everything, self.recordings | other.recordings,
        )  # fmt: skip


EVERYTHING = Change(everything=True)


def between(old: State, new: State) -> Change:
    """The Change from one state to another."""
    return Change(
        _others({e.id: e for e in old.entries}, {e.id: e for e in new.entries}),
        _others({b.id: b for b in old.bakes}, {b.id: b for b in new.bakes}),
        _others(old.pairings, new.pairings),
        _others(old.uses, new.uses),
        frozenset(f for f in _PLAIN if getattr(old, f) != getattr(new, f)),
        recordings=_others({r.id: r for r in old.recordings}, {r.id: r for r in new.recordings}),
    )


def _others(old: dict, new: dict) -> frozenset:
    return frozenset(key for key in old.keys() | new.keys() if old.get(key) is not new.get(key))


def only_in(state: State, other: State) -> int:
    """Bytes of what a state holds and another one does not: what keeping the first costs while the other is there."""
    theirs = {id(part) for part in _parts(other)}
    gone = [part for part in _parts(state) if id(part) not in theirs]
    if not gone:
        return 0
    # What has another version there shares nearly all with it: only what hangs on its own fields counts.
    shared = {id(value) for part in _parts(other) for value in vars(part).values()}
    return sum(nbytes(part, shared) for part in gone)


def _parts(state: State) -> Iterator[Bake | Entry | MarkerEntry | Pairing | StringingFile]:
    yield from state.entries
    yield from state.bakes
    yield from state.recordings
    yield from state.pairings.values()
    yield from state.stringings
