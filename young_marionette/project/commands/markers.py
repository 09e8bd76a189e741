"""Edits of recordings of markers: where they lie, which segment each marker goes with, what is mended, whose figure it is."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

from ...core.errors import InputError
from ...core.markers.mends import Mend
from ...core.markers.segments import mirrored
from ...core.markers.sizing import SIZES, mirror_of, resized
from ...core.names import free_name
from ..markers.entry import MarkerEntry

if TYPE_CHECKING:
    from ...core.markers.figure import Figure
    from ...core.markers.reference import Reference, Touches
    from ..document import State


def recording_of(state: State, identifier: str) -> MarkerEntry:
    """The recording with an id; InputError where it is not in the library any more."""
    entry = next((r for r in state.recordings if r.id == identifier), None)
    if entry is None:
        raise InputError("This is not in the library any more.")
    return entry


@dataclass(frozen=True, eq=False)
class AddRecordings:
    """Put recordings into the library; each takes the figure, and what was said of labels, of another one of the same performer."""

    recordings: tuple[MarkerEntry, ...]

    @property
    def label(self) -> str:
        return f"open {self.recordings[0].name}" if len(self.recordings) == 1 else "open recordings"

    def run(self, state: State) -> State:
        taken, added = state.names, []
        for entry in self.recordings:
            name = free_name(entry.name, taken)
            taken.add(name)
            labelling = entry.labelling or known_labelling(state, entry)
            figure = entry.figure or known_figure(state, replace(entry, labelling=labelling))
            added.append(replace(entry, name=name, labelling=labelling, figure=figure))
        return replace(state, recordings=_with_references((*state.recordings, *added))) if added else state


def _with_references(recordings: tuple[MarkerEntry, ...]) -> tuple[MarkerEntry, ...]:
    """The recordings, each without a T-pose of its own with that of another one of the same performer and markers."""
    made = []
    for entry in recordings:
        if entry.reference is None and entry.figure is None and entry.own_reference is None:
            labels = entry.labelled
            kin = [o.own_reference for o in recordings if o.subjects == entry.subjects and labels <= o.labelled]
            entry = replace(entry, reference=next((r for r in kin if r is not None), None))
        made.append(entry)
    return tuple(made)


def known_figure(state: State, entry: MarkerEntry) -> Figure | None:
    """A figure of the same performer (by what the file calls them) and the same markers: one that is kept with a recording, else one
    that was fitted, where the files tell whose it is."""
    labels, kin = entry.labelled, [r for r in reversed(state.recordings) if r.subjects == entry.subjects]
    for other in kin:
        if other.figure is not None and labels <= {*other.figure.labels}:
            return other.figure
    for other in kin if entry.subjects else ():
        solution = other.known_solution
        if solution is not None and labels <= {*solution.figure.labels}:
            return solution.figure
    return None


def known_labelling(state: State, entry: MarkerEntry) -> tuple[tuple[str, str | None], ...]:
    """What was said by hand of the same labels in another recording of the same performer, the latest first."""
    for other in reversed(state.recordings):
        known = {label: segment for label, segment in other.labelling if label in entry.recording.index}
        if known and other.subjects == entry.subjects:
            return tuple(known.items())
    return ()


@dataclass(frozen=True)
class PlaceRecording:
    """Set where a recording lies (see core.markers.placing.Placed)."""

    entry: str
    changes: tuple[tuple[str, Any], ...]
    label: str = "place a recording"

    def run(self, state: State) -> State:
        return state.with_entry(recording_of(state, self.entry).changed(**dict(self.changes)))


@dataclass(frozen=True)
class AssignMarker:
    """Say which segment a marker goes with: None for none; ``mirror``: its namesake on the other side goes with that side's."""

    entry: str
    marker: str
    segment: str | None
    mirror: bool = False
    label: str = "assign a marker"

    def run(self, state: State) -> State:
        entry = recording_of(state, self.entry)
        if self.marker not in entry.recording.index:
            raise InputError(f"There is no marker {self.marker}.")
        chosen = dict(entry.labelling)
        chosen[self.marker] = self.segment
        if self.mirror and self.segment is not None:
            other = namesake(self.marker, entry.recording.labels)
            if other is not None:
                chosen[other] = mirrored(self.segment)
        return state.with_entry(replace(entry, labelling=tuple(chosen.items()), figure=None))


@dataclass(frozen=True)
class UseLabelling:
    """Take a labelling: label to segment, or None; for the markers that the recording has."""

    entry: str
    labelling: tuple[tuple[str, str | None], ...]
    label: str = "use a labelling"

    def run(self, state: State) -> State:
        entry = recording_of(state, self.entry)
        known = {marker: segment for marker, segment in self.labelling if marker in entry.recording.index}
        if not known:
            raise InputError(f"None of the markers of {entry.name} is in this labelling.")
        labelling = tuple((dict(entry.labelling) | known).items())
        return state.with_entry(replace(entry, labelling=labelling, figure=None))


@dataclass(frozen=True)
class LetGoMarkers:
    """Let go of what was set by hand of a recording's markers; ``markers`` empty: of all."""

    entry: str
    markers: tuple[str, ...] = ()
    label: str = "reset markers"

    def run(self, state: State) -> State:
        entry = recording_of(state, self.entry)
        kept = tuple((m, s) for m, s in entry.labelling if self.markers and m not in self.markers)
        mends = tuple(m for m in entry.mends if self.markers and not {*m.markers} & {*self.markers})
        if (kept, mends) == (entry.labelling, entry.mends):
            return state
        return state.with_entry(replace(entry, labelling=kept, mends=mends, figure=None))


@dataclass(frozen=True)
class MendMarkers:
    """Decide about markers on some frames, both included; comes over what was decided of the same markers on these frames."""

    entry: str
    mends: tuple[Mend, ...]
    label: str = "mend markers"

    def run(self, state: State) -> State:
        entry = recording_of(state, self.entry)
        kept = entry.mends
        for mend in self.mends:
            for label in mend.markers:
                if label not in entry.recording.index:
                    raise InputError(f"There is no marker {label}.")
            if mend.other == mend.label:
                raise InputError(f"{mend.label} can't change places with itself.")
            one = replace(mend, first=min(mend.first, mend.last), last=max(mend.first, mend.last))
            kept = (*(m for m in kept if not _covers(one, m)), one)
        return state.with_entry(replace(entry, mends=kept))


def _covers(mend: Mend, other: Mend) -> bool:
    """Whether a decision is about all that another one is about."""
    return {*other.markers} <= {*mend.markers} and mend.first <= other.first and mend.last >= other.last


@dataclass(frozen=True)
class LetGoMend:
    """Take a decision about markers back."""

    entry: str
    mend: Mend
    label: str = "let go of a mend"

    def run(self, state: State) -> State:
        entry = recording_of(state, self.entry)
        return state.with_entry(replace(entry, mends=tuple(m for m in entry.mends if m != self.mend)))


@dataclass(frozen=True)
class SizeFigure:
    """Set sizes of the body figure (see core.markers.sizing), metres; None lets go of one. ``mirror``: on both sides.

    A figure that is kept becomes so; one that is fitted is fitted with them.
    """

    entry: str
    sizes: tuple[tuple[str, float | None], ...]
    mirror: bool = False
    label: str = "size the figure"

    def run(self, state: State) -> State:
        entry = recording_of(state, self.entry)
        kept = dict(entry.sizes)
        for size, metres in self.sizes:
            if size not in SIZES:
                raise InputError(f"{size} is no size of a figure.")
            if metres is not None and not 0.005 <= metres <= 4:
                raise InputError("A size of a figure is between 0.5 cm and 4 m.")
            other = mirror_of(size) if self.mirror else None
            for one in (size, *([other] if other else [])):
                kept.pop(one, None)
                if metres is not None:
                    kept[one] = metres
        sizes = tuple(kept.items())
        figure = entry.figure and resized(entry.figure, kept)
        return state.with_entry(replace(entry, sizes=sizes, figure=figure))


@dataclass(frozen=True, eq=False)
class TakeTPose:
    """Fit the figure by the performer's T-pose of another recording (None: of none), stood in with ``touches``: degrees by which
    shoulders stand up, and elbows back."""

    entry: str
    reference: Reference | None
    touches: Touches = (0.0, 0.0)
    label: str = "take the T-pose"

    def run(self, state: State) -> State:
        entry = recording_of(state, self.entry)
        figure = entry.figure if self.reference is entry.reference else None
        return state.with_entry(replace(entry, reference=self.reference, touches=self.touches, figure=figure))


@dataclass(frozen=True, eq=False)
class KeepFigure:
    """Keep a figure with a recording, for it and for the performer's other ones; None lets go of it."""

    entry: str
    figure: Figure | None
    label: str = "keep the figure"

    def run(self, state: State) -> State:
        return state.with_entry(replace(recording_of(state, self.entry), figure=self.figure))


def namesake(label: str, labels: tuple[str, ...]) -> str | None:
    """The label of the same place on the other side of the body, such as ``RKNE`` for ``LKNE``; None where there is none."""
    for at, letter in enumerate(label):
        swap = {"L": "R", "R": "L", "l": "r", "r": "l"}.get(letter)
        if swap is not None and (other := label[:at] + swap + label[at + 1 :]) in labels:
            return other
    for a, b in (("left", "right"), ("Left", "Right"), ("LEFT", "RIGHT")):
        for one, two in ((a, b), (b, a)):
            if one in label and (other := label.replace(one, two)) in labels:
                return other
    return None
