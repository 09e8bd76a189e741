"""The document: one immutable state at a time, commands that make the next one, undo and redo.

Views listen and draw; every edit goes through ``Document.do``. A state can be handed to another thread as it is,
since nothing ever changes it, and it holds nothing that was only worked out.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING

from psygnal import Signal

from ..core.errors import InputError
from ..core.evaluator import EVALUATOR
from ..core.transfer.deviation import Limits
from .bakes import Bake
from .changes import EVERYTHING, Change, between, only_in
from .entry import BAKED, CLIP, RIG, Entry
from .markers.entry import MarkerEntry
from .pairing import Pairing, Use
from .passes import Preset
from .stringing import StringingFile, adapt, from_file, to_file
from .stringing.sides import Bare

if TYPE_CHECKING:
    from .commands.base import Command

Stamp = tuple[int, int, int, int]  # what tells a file from any other that may come to lie in its place
HISTORY = 16 << 20  # bytes that undo and redo may hold beside the present state, each


@dataclass(frozen=True, eq=False)
class State:
    """``source`` and ``rig``: ids of the active entries. ``pairings``: by the families of both sides.

    ``uses``: what is set for one clip on one rig alone, by the ids of both.
    ``stance_tolerance``: degrees that a limb may stand apart in the stance before it is a snag.
    ``limits``: how far feet may be off before it is one. ``presets``: named lists of passes.
    """

    name: str = "Untitled"
    entries: tuple[Entry, ...] = ()
    source: str | None = None
    rig: str | None = None
    pairings: dict[tuple[str, str], Pairing] = field(default_factory=dict)
    stringings: tuple[StringingFile, ...] = ()
    stance_tolerance: float = 10.0
    limits: Limits = Limits()
    bakes: tuple[Bake, ...] = ()
    uses: dict[tuple[str, str], Use] = field(default_factory=dict)
    presets: tuple[Preset, ...] = ()
    recordings: tuple[MarkerEntry, ...] = ()

    @property
    def library(self) -> tuple[Entry | Bake, ...]:
        """All entries and bakes, in library order."""
        return (*self.entries, *self.bakes)

    def entry(self, identifier: str | None) -> Entry | Bake | MarkerEntry | None:
        """The entry, the baked clip or the recording with an id; None where there is none."""
        return next((e for e in (*self.library, *self.recordings) if e.id == identifier), None)

    def of_role(self, *roles: str) -> list[Entry]:
        """The entries with one of the given roles, in library order."""
        return [e for e in self.entries if e.role in roles]

    @property
    def names(self) -> set[str]:
        """The names of all that stands in the library."""
        return {e.name for e in (*self.library, *self.recordings)}

    @property
    def source_entry(self) -> Entry | None:
        return next((e for e in self.entries if e.id == self.source), None)

    @property
    def rig_entry(self) -> Entry | None:
        return next((e for e in self.entries if e.id == self.rig), None)

    @property
    def key(self) -> tuple[str, str] | None:
        """The key of the active pairing, or None while a side is missing."""
        source, rig = self.source_entry, self.rig_entry
        return (source.family, rig.family) if source and rig else None

    @property
    def pairing(self) -> Pairing | None:
        """The active Pairing, for just the skeletons that are active; None where there is none."""
        return EVALUATOR.of("active pairing", (self,), self._active_pairing)

    def _active_pairing(self) -> Pairing | None:
        source, rig = self.source_entry, self.rig_entry
        return self.pairing_of(source, rig) if source and rig else None

    def pairing_of(self, source: Entry, rig: Entry) -> Pairing | None:
        """The Pairing of two entries, for just their skeletons and with the clip's own settings; None without any."""
        tied, use = self.tied(source, rig), self.uses.get((source.id, rig.id))
        if tied is None or use is None:
            return tied
        settings = use.over(tied.settings)
        return EVALUATOR.of("pairing of a clip", (tied, settings), lambda: replace(tied, settings=settings), weak=True)

    def tied(self, source: Entry, rig: Entry) -> Pairing | None:
        """The Pairing that two entries share with their families, for just their skeletons; None where there is none."""
        pairing = self.pairings.get((source.family, rig.family))
        if pairing is None or pairing.fits(source.placed_skeleton, rig.placed_skeleton):
            return pairing
        # A family's pairing on a member whose file has other axes, unit or prefix.
        key = pairing, source.placed_skeleton, rig.placed_skeleton, source.family, rig.family
        return EVALUATOR.of("pairing of a member", key, lambda: _adapted(pairing, source, rig))

    def with_pairing(self, pairing: Pairing) -> State:
        """The state with another pairing in place of the active one."""
        assert self.key is not None  # a clip and a rig are active
        return replace(self, pairings={**self.pairings, self.key: pairing})

    def with_use(self, use: Use) -> State:
        """The state with other settings of the active clip on the active rig."""
        assert self.source and self.rig  # a clip and a rig are active
        return replace(self, uses={**self.uses, (self.source, self.rig): use})

    def with_entry(self, entry: Bake | Entry | MarkerEntry) -> State:
        """The state with one entry, baked clip or recording replaced by its namesake in id."""
        if isinstance(entry, MarkerEntry):
            return replace(self, recordings=tuple(entry if e.id == entry.id else e for e in self.recordings))
        if isinstance(entry, Bake):
            return replace(self, bakes=tuple(entry if e.id == entry.id else e for e in self.bakes))
        return replace(self, entries=tuple(entry if e.id == entry.id else e for e in self.entries))


def _adapted(pairing: Pairing, source: Entry, rig: Entry) -> Pairing | None:
    # from_file takes entries by what they are placed as, so the stringing is the common language.
    file = to_file(pairing, Bare(pairing.source, source.family), Bare(pairing.target, rig.family))
    try:
        return replace(from_file(file, source, rig), origin=pairing.origin)
    except InputError:
        pass
    try:
        return adapt(file, source, rig)  # one that was only said to be of the family may lack bones
    except InputError:
        return None  # nothing of it fits; the snags say that nothing is tied


@dataclass
class _Step:
    """A step back or forth: what it is called, the state that it leads to, its gesture, what keeping that state costs."""

    label: str
    state: State
    gesture: object = None
    cost: int = 0


class Document:
    """The open project.

    ``changed`` tells a Change and whether it went into the step before it, as in the middle of a drag. ``project`` is
    another object for each project that is opened: work that was begun for one is not for the next. ``stamp``: of the
    file at ``path`` as it was read or written last (see storage), where that is known.
    """

    changed = Signal(Change, bool)

    def __init__(self, state: State = State(), path: Path | None = None) -> None:
        self.state, self.path, self.project = state, path, object()
        self.stamp: Stamp | None = None
        self._undo: list[_Step] = []
        self._redo: list[_Step] = []
        self._saved: State | None = state

    @property
    def unsaved(self) -> bool:
        """Whether there is anything that was not saved."""
        return self.state is not self._saved

    @property
    def undo_label(self) -> str | None:
        return self._undo[-1].label if self._undo else None

    @property
    def redo_label(self) -> str | None:
        return self._redo[-1].label if self._redo else None

    def do(self, *commands: Command, gesture: object = None, afresh: bool = False) -> None:
        """Run commands as one step, all of them or none.

        All that is done with one ``gesture`` (any object: a drag has one from the press to the release) is one step.
        ``afresh``: what the gesture did before counts no more, as where only the last place of a drag matters.
        """
        within = gesture is not None and bool(self._undo) and self._undo[-1].gesture is gesture
        new = old = self.state
        if within and afresh:
            new = self._undo[-1].state
        for command in commands:
            new = command.run(new)
        if new is old:
            return
        if not within:
            self._undo.append(_Step(commands[0].label, old, gesture))
        self._redo.clear()
        self._set(new, within)
        # Those who listen show it first.
        if not within:
            _bound(self._undo, old, new)

    def undo(self) -> None:
        """Take back the last step; nothing happens where there is none."""
        self._step(self._undo, self._redo)

    def redo(self) -> None:
        """Do again what was taken back last."""
        self._step(self._redo, self._undo)

    def _step(self, steps: list[_Step], others: list[_Step]) -> None:
        if steps:
            step = steps.pop()
            old = self.state
            others.append(_Step(step.label, old))
            self._set(step.state)
            _bound(others, old, step.state)

    def mark_saved(self, path: Path, state: State | None = None, stamp: Stamp | None = None) -> None:
        """Note that ``state`` (the present one if None) lies at ``path``."""
        self.path, self._saved, self.stamp = path, state or self.state, stamp
        self.changed.emit(Change(), False)

    def open(self, state: State, path: Path | None, saved: bool = True, stamp: Stamp | None = None) -> None:
        """Replace the whole document, without a way back. ``saved`` false: it holds unsaved work."""
        self.state, self.path, self.project, self.stamp = state, path, object(), stamp
        self._saved = state if saved else None
        self._undo.clear()
        self._redo.clear()
        self.changed.emit(EVERYTHING, False)

    def _set(self, state: State, within: bool = False) -> None:
        old, self.state = self.state, state
        self.changed.emit(between(old, state), within)


def _bound(steps: list[_Step], old: State, new: State) -> None:
    """Weigh the newest step, from ``new`` to ``old``; forget the oldest while all hold too much. The newest always stays."""
    if not steps or steps[-1].state is not old:
        return  # a listener did something else meanwhile
    steps[-1].cost = only_in(old, new)
    total = sum(step.cost for step in steps)
    while len(steps) > 1 and total > HISTORY:
        total -= steps.pop(0).cost


__all__ = ["BAKED", "CLIP", "RIG", "Document", "State"]
