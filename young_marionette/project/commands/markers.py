"""Edits of recordings of markers: where they lie, which segment each marker goes with, what is not believed, whose figure it is."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

from ...core.errors import InputError
from ...core.markers.segments import mirrored
from ...core.names import free_name
from ..markers.entry import LeftOut, MarkerEntry

if TYPE_CHECKING:
    from ...core.markers.figure import Figure
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
        return replace(state, recordings=(*state.recordings, *added)) if added else state


def known_figure(state: State, entry: MarkerEntry) -> Figure | None:
    """A figure that is kept with a recording of the same performer (by what the file calls them) and the same markers."""
    nowhere = {label for label, segment in entry.labelling if segment is None}
    labels = {label for label, free in zip(entry.recording.labels, entry.recording.unlabelled) if not free} - nowhere
    for other in reversed(state.recordings):
        if other.figure is not None and other.subjects == entry.subjects and labels <= {*other.figure.labels}:
            return other.figure
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
class LetGoMarkers:
    """Let go of what was set by hand of a recording's markers; ``markers`` empty: of all."""

    entry: str
    markers: tuple[str, ...] = ()
    label: str = "reset markers"

    def run(self, state: State) -> State:
        entry = recording_of(state, self.entry)
        kept = tuple((m, s) for m, s in entry.labelling if self.markers and m not in self.markers)
        left = tuple(o for o in entry.left_out if self.markers and o.label not in self.markers)
        if (kept, left) == (entry.labelling, entry.left_out):
            return state
        return state.with_entry(replace(entry, labelling=kept, left_out=left, figure=None))


@dataclass(frozen=True)
class LeaveOutMarker:
    """Do not believe a marker on some frames, both included; where that was said already, believe it again."""

    entry: str
    marker: str
    first: int
    last: int
    label: str = "leave a marker out"

    def run(self, state: State) -> State:
        entry = recording_of(state, self.entry)
        if self.marker not in entry.recording.index:
            raise InputError(f"There is no marker {self.marker}.")
        one = LeftOut(self.marker, min(self.first, self.last), max(self.first, self.last))
        others = tuple(o for o in entry.left_out if o != one)
        left = others if len(others) < len(entry.left_out) else (*others, one)
        return state.with_entry(replace(entry, left_out=left))


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
