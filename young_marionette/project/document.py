"""The document: one immutable state at a time, commands that make the next one, undo and redo.

Views listen and draw; every edit goes through ``Document.do``. A state can be handed to another
thread as it is, since nothing ever changes it.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace

from ..core.errors import InputError
from .entry import BAKED, CLIP, RIG
from .pairing import Pairing
from .stringing import StringingFile, adapt, from_file, to_file


@dataclass(frozen=True, eq=False)
class State:
    """``source`` and ``rig``: ids of the active entries. ``pairings``: by the families of both sides.

    ``stance_tolerance``: degrees that a limb may stand apart in the stance before it is a snag.
    """

    name: str = "Untitled"
    entries: tuple = ()
    source: str | None = None
    rig: str | None = None
    pairings: dict = field(default_factory=dict)
    stringings: tuple[StringingFile, ...] = ()
    stance_tolerance: float = 10.0

    def entry(self, identifier):
        """The entry with an id, or None."""
        return next((e for e in self.entries if e.id == identifier), None)

    def of_role(self, *roles):
        """The entries with one of the given roles, in library order."""
        return [e for e in self.entries if e.role in roles]

    @property
    def source_entry(self):
        return self.entry(self.source)

    @property
    def rig_entry(self):
        return self.entry(self.rig)

    @property
    def key(self):
        """The key of the active pairing, or None while a side is missing."""
        source, rig = self.source_entry, self.rig_entry
        return (source.family, rig.family) if source and rig else None

    @property
    def pairing(self):
        """The active Pairing, for just the skeletons that are active; None where there is none."""
        found = self.pairings.get(self.key)
        if found is None:
            return None
        source, rig = self.source_entry, self.rig_entry
        if found.source is source.placed_skeleton and found.target is rig.placed_skeleton:
            return found
        return _adapted(found, source, rig)

    def with_pairing(self, pairing):
        """The state with another pairing in place of the active one."""
        return replace(self, pairings={**self.pairings, self.key: pairing})

    def with_entry(self, entry):
        """The state with one entry replaced by its namesake in id."""
        return replace(self, entries=tuple(entry if e.id == entry.id else e for e in self.entries))


_last_adapted = {}


def _adapted(pairing: Pairing, source, rig):
    """A family's pairing on a member whose file has other axes, unit or prefix; the last few are kept."""
    key = (id(pairing), source.id, source.correction, rig.id, rig.correction)
    hit = _last_adapted.get(key)
    if hit is None or hit[0] is not pairing:
        while len(_last_adapted) > 64:
            _last_adapted.pop(next(iter(_last_adapted)))
        # from_file takes entries by what they are placed as, so the stringing is the common language.
        sides = _Side(pairing.source, source.family), _Side(pairing.target, rig.family)
        hit = _last_adapted[key] = (pairing, _fitted(to_file(pairing, *sides), source, rig))
    return hit[1]


def _fitted(file, source, rig):
    """A family's stringing on a member; one that was only said to be of the family may lack bones."""
    try:
        return from_file(file, source, rig)
    except InputError:
        pass
    try:
        return adapt(file, source, rig)[0]
    except InputError:
        return None  # nothing of it fits; the snags say that nothing is tied


@dataclass(frozen=True)
class _Side:
    placed_skeleton: object
    family: str


class Document:
    """The open project. ``listeners`` are called with the document after every change.

    ``merging``: the last change went into the undo step before it, as in the middle of a drag.
    """

    def __init__(self, state=State(), path=None):
        self.state, self.path = state, path
        self._undo, self._redo = [], []
        self._saved = state
        self.listeners, self.merging = [], False

    @property
    def changed(self):
        """Whether there is anything that was not saved."""
        return self.state is not self._saved

    @property
    def undo_label(self):
        return self._undo[-1][0] if self._undo else None

    @property
    def redo_label(self):
        return self._redo[-1][0] if self._redo else None

    def do(self, command):
        """Run a command. One with the same ``merge`` key as the last goes into the same undo step."""
        new = command.run(self.state)
        if new is self.state:
            return
        merge = getattr(command, "merge", None)
        merging = bool(merge and self._undo and self._undo[-1][2] == merge)
        if not merging:
            self._undo.append((command.label, self.state, merge))
        self._redo.clear()
        self._set(new, merging)

    def undo(self):
        """Take back the last step; nothing happens where there is none."""
        if self._undo:
            label, state, merge = self._undo.pop()
            self._redo.append((label, self.state, merge))
            self._set(state)

    def redo(self):
        """Do again what was taken back last."""
        if self._redo:
            label, state, merge = self._redo.pop()
            self._undo.append((label, self.state, merge))
            self._set(state)

    def settle(self):
        """End merging: the next command begins an undo step of its own."""
        if self._undo:
            self._undo[-1] = (*self._undo[-1][:2], None)

    def mark_saved(self, path, state=None):
        """Note that ``state`` (the present one if None) lies at ``path``."""
        self.path, self._saved = path, state or self.state
        self._tell()

    def open(self, state, path, saved=True):
        """Replace the whole document, without a way back. ``saved`` false: it holds unsaved work."""
        self.state, self.path = state, path
        self._saved = state if saved else None
        self._undo.clear()
        self._redo.clear()
        self._tell()

    def _set(self, state, merging=False):
        self.state = state
        self._tell(merging)

    def _tell(self, merging=False):
        self.merging = merging
        for listener in tuple(self.listeners):
            listener(self)


__all__ = ["BAKED", "CLIP", "RIG", "Document", "State"]
