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
from ...core.markers.mends import EXCHANGE, Mend, mended, within
from ...core.markers.placing import Place, Placed, place
from ...core.markers.reference import Reference, Touches, reference_of
from ...core.markers.segments import Structure, structure_with
from ...core.markers.sites import fingers_in
from ...core.markers.solving import Hints, Solution, solve
from ...core.names import free_name
from ...core.resample import resample
from ..entry import CLIP, Entry, new_id

if TYPE_CHECKING:
    from ...core.markers.figure import Figure
    from ...core.markers.recording import Recording
    from ...formats.source_file import SourceFile

MARKERS = "markers"
_LEAST = 8  # markers of a performer


@dataclass(frozen=True, eq=False)
class MarkerEntry:
    """``recording``: in the file's unit and axes. ``placed``: what was set of where it lies. ``labelling``: label to segment, or None
    for none, as set by hand. ``mends``: what is decided of markers. ``figure``: the performer's, where one is kept. ``sizes``: of it that are set, see
    core.markers.sizing. ``reference``: the performer's T-pose from another recording; ``touches``: how it is stood in."""

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
    mends: tuple[Mend, ...] = ()
    figure: Figure | None = None
    sizes: tuple[tuple[str, float], ...] = ()
    reference: Reference | None = None
    touches: Touches = (0.0, 0.0)
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
    def labelled(self) -> frozenset[str]:
        """The labels that name a marker of the performer, but for those that go with no segment."""
        nowhere = {label for label, segment in self.labelling if segment is None}
        free = self.recording.unlabelled
        return frozenset(label for n, label in enumerate(self.recording.labels) if not free[n]) - nowhere

    @property
    def structure(self) -> Structure:
        """The segments that the figure has: with fingers where markers go with them."""
        if self.figure is not None:
            return self.figure.structure
        return structure_with((*fingers_in(self.recording.labels), *(segment for _, segment in self.labelling)))

    @property
    def laid(self) -> Laid:
        """Which segment each marker goes with."""
        # What is said by hand comes over the rest, which is not worked out again for it.
        put_back = tuple(mend for mend in self.mends if mend.kind == EXCHANGE)
        key = (
            self.recording,
            self.declared,
            self.placed.unit,
            self.placed.up,
            self.placed.trim,
            self.structure,
            put_back,
        )
        laid = EVALUATOR.of("laid markers", key, self._laid)
        return by_hand(laid, self.recording.labels, dict(self.labelling), self.structure)

    def _laid(self) -> Laid:
        first, last = self.span
        put_back = within([mend for mend in self.mends if mend.kind == EXCHANGE], first, last)
        return assign(mended(self.placed_recording.cut(first, last), put_back), self.structure)

    @property
    def _solved_of(self) -> tuple[Any, ...]:
        fitted = self.figure if self.figure is not None else (self.sizes, self.reference, self.touches)
        return self.recording, self.declared, self.placed, self.labelling, self.mends, fitted

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
        hints = Hints(dict(self.sizes), self.reference or self.own_reference, self.touches)
        mends = within(self.mends, first, last)
        return solve(recording, self.laid, self.figure, self.structure, mends, hints, progress)

    @property
    def own_reference(self) -> Reference | None:
        """The T-pose that the recording holds itself, in its part in use or outside of it."""
        key = self.recording, self.declared, self.placed
        return EVALUATOR.of("T-pose of markers", key, lambda: reference_of(self.placed_recording))

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
