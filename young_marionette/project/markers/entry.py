"""Entries of the library that are recordings of markers, and what becomes of them."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ...core.errors import InputError
from ...core.evaluator import EVALUATOR
from ...core.figure.declared import Declared
from ...core.findings import Fact, Finding
from ...core.markers.assigning import Laid, assign, by_hand
from ...core.markers.following import Progress
from ...core.markers.placing import Place, Placed, place
from ...core.markers.segments import Structure, structure_with
from ...core.markers.solving import Solution, solve
from ...core.names import free_name
from ...core.resample import resample
from ..entry import CLIP, Entry, new_id

if TYPE_CHECKING:
    from ...core.markers.figure import Figure
    from ...core.markers.recording import Recording
    from ...formats.source_file import SourceFile

MARKERS = "markers"
_LEAST = 8  # markers of a performer


@dataclass(frozen=True)
class LeftOut:
    """A marker that is not believed from frame ``first`` to ``last``, both included."""

    label: str
    first: int
    last: int


@dataclass(frozen=True, eq=False)
class MarkerEntry:
    """``recording``: in the file's unit and axes. ``placed``: what was set of where it lies. ``labelling``: label to segment, or None
    for none, as set by hand. ``left_out``: what is not believed. ``figure``: the performer's, where one is kept."""

    id: str
    name: str
    path: Path | None
    format: str
    recording: Recording
    declared: Declared = Declared()
    notes: tuple[Finding, ...] = ()
    subjects: tuple[str, ...] = ()
    placed: Placed = field(default_factory=Placed)
    labelling: tuple[tuple[str, str | None], ...] = ()
    left_out: tuple[LeftOut, ...] = ()
    figure: Figure | None = None
    tags: tuple[str, ...] = ()
    role: str = field(default=MARKERS, init=False)

    @property
    def take(self) -> None:
        """A recording holds no motion of a skeleton."""
        return

    @property
    def correction(self) -> Placed:
        """What was set by hand of where it lies."""
        return self.placed

    @property
    def length(self) -> tuple[int, float]:
        """``(frames, frames per second)``."""
        return self.recording.frames, self.recording.rate

    @property
    def place(self) -> Place:
        """Where the recording lies, and what is known of it."""
        return EVALUATOR.of("place of markers", (self.recording, self.declared, self.placed), self._place)

    def _place(self) -> Place:
        return place(self.recording, self.declared, self.placed)

    @property
    def span(self) -> tuple[int, int]:
        """The first and the last frame that are solved, both included."""
        last = self.recording.frames - 1
        first, end = self.placed.trim or (0, last)
        return min(first, last), min(max(end, first), last)

    @property
    def placed_recording(self) -> Recording:
        """The recording in our world: metres, Y up; all its frames."""
        key = self.recording, self.declared, self.placed
        return EVALUATOR.of("placed markers", key, lambda: self.place.placed(self.recording))

    @property
    def facts(self) -> tuple[Fact, ...]:
        """What is known of the recording, each with what it was taken from."""
        return self.place.facts

    @property
    def oddities(self) -> tuple[Finding, ...]:
        """What was odd in the file."""
        return self.notes

    @property
    def structure(self) -> Structure:
        """The segments that the figure has: with fingers where markers go with them."""
        return self.figure.structure if self.figure is not None else structure_with(s for _, s in self.labelling)

    @property
    def laid(self) -> Laid:
        """Which segment each marker goes with."""
        # What is said by hand comes over the rest, which is not worked out again for it.
        key = self.recording, self.declared, self.placed.unit, self.placed.up, self.placed.trim, self.structure
        laid = EVALUATOR.of("laid markers", key, self._laid)
        return by_hand(laid, self.recording.labels, dict(self.labelling), self.structure)

    def _laid(self) -> Laid:
        first, last = self.span
        return assign(self.placed_recording.cut(first, last), self.structure)

    @property
    def _solved_of(self) -> tuple[Any, ...]:
        return self.recording, self.declared, self.placed, self.labelling, self.left_out, self.figure

    @property
    def known_solution(self) -> Solution | None:
        """The Solution where it was worked out already, else None."""
        known: Solution | None = EVALUATOR.peek("solution of markers", self._solved_of)
        return known

    def solved(self, progress: Progress = lambda share: None) -> Solution:
        """The Solution of the trimmed recording. InputError where it can't be solved."""
        return EVALUATOR.of("solution of markers", self._solved_of, lambda: self._solved(progress))

    def _solved(self, progress: Progress) -> Solution:
        first, last = self.span
        recording = self.placed_recording.cut(first, last)
        index = recording.index
        left_out = [
            (index[o.label], max(o.first - first, 0), o.last - first)
            for o in self.left_out
            if o.label in index and o.last >= first and o.first <= last
        ]
        return solve(recording, self.laid, self.figure, self.structure, left_out, progress)

    def changed(self, **changes: Any) -> MarkerEntry:
        """The entry with other settings of where it lies (see Placed)."""
        return replace(self, placed=replace(self.placed, **changes))


def marker_entries(file: SourceFile, taken: tuple[Any, ...] = ()) -> list[MarkerEntry]:
    """The entries of a file's recordings."""
    names, made = {*taken}, []
    for part in file.markers:
        for subject, recording in by_subject(part.recording):
            name = free_name(f"{part.name}: {subject}" if subject else part.name, names)
            names.add(name)
            subjects = (subject,) if subject else part.subjects
            made.append(
                MarkerEntry(new_id(), name, file.path, file.format, recording, part.declared, part.notes, subjects)
            )
    return made


def by_subject(recording: Recording) -> list[tuple[str, Recording]]:
    """``(subject, its markers)`` of a recording of several performers, told by what stands before the colon of their labels; that
    with the most to see first, which also gets what has no label. One of a single performer is left whole, without a name."""
    subjects: dict[str, list[int]] = {}
    for marker, label in enumerate(recording.labels):
        subjects.setdefault(label.rpartition(":")[0] if not recording.unlabelled[marker] else "", []).append(marker)
    large = {subject: of for subject, of in subjects.items() if subject and len(of) >= _LEAST}
    bare = [{recording.labels[m].rpartition(":")[2] for m in of} for of in large.values()]
    if len(large) < 2 or len(set.intersection(*bare)) < _LEAST // 2:
        return [("", recording)]
    seen = recording.seen.mean(0)
    order = sorted(large, key=lambda subject: -float(seen[large[subject]].sum()))
    rest = [m for subject, of in subjects.items() if subject not in large for m in of]
    return [
        (subject, recording.picked(sorted([*large[subject], *(rest if n == 0 else ())])))
        for n, subject in enumerate(order)
    ]


def take_of(entry: MarkerEntry, solution: Solution, fps: float | None = None, name: str | None = None) -> Entry:
    """The take that a solved recording becomes: an ordinary clip, in metres with Y up, on a skeleton with VRM bone names."""
    clip = replace(solution.clip(name or entry.name), start=0.0)
    if fps is not None:
        if not 1 <= fps <= 1000:
            raise InputError(f"{fps:g} frames per second can't be made; give 1 to 1000.")
        clip = resample(clip, fps)
    declared = Declared(1.0, "+Y", tuple((n, n) for n in clip.skeleton.names))
    return Entry(new_id(), CLIP, clip.name, None, entry.format, clip.skeleton, clip, None, declared=declared)
