"""The solution of the recording that is looked at: worked out off the interface thread, shown as far as it is known."""

from __future__ import annotations

from PySide6.QtCore import Signal

from ...project.markers.entry import MarkerEntry
from ...project.markers.showing import at_once, take_entry
from ..calmly import Calmly
from ..jobs import Job


class LiveSolution(Calmly):
    """``ready``: the solution can be shown as it is. ``changed``: work began or ended. ``progressed``: the share of it that is done."""

    progressed = Signal(float)
    changed = Signal()

    def __init__(self, session):
        super().__init__(session, self._begin)
        self._kept, self._of, self._quick = {}, None, (None, None)
        self._given_up = None  # the entry that could not be solved, or whose solving was cancelled
        session.preview_changed.connect(self.ask)
        session.listen(("recordings",), self.ask)

    @property
    def entry(self):
        """The recording that is looked at, or None."""
        entry = self.session.state.entry(self.session.preview)
        return entry if isinstance(entry, MarkerEntry) else None

    def solution(self, entry):
        """What is known of a recording as it is; while that is worked out, of what it was before; None where nothing is."""
        of, known = self._kept.get(entry.id, (None, None))
        if of is entry:
            return known
        fresh = entry.known_solution
        if fresh is not None:
            self._kept[entry.id] = entry, fresh
            return fresh
        return known

    def lags(self, entry):
        """Whether what is shown of a recording is not worked out from it as it is now."""
        return self._kept.get(entry.id, (None,))[0] is not entry and entry.known_solution is None

    def take(self, entry):
        """The take that a recording becomes, as far as it is known; None where nothing is."""
        solution = self.solution(entry)
        return None if solution is None else take_entry(entry, solution)

    def pose(self, entry, frame):
        """Where the figure is in a frame, with what was changed since it was solved; None where the solution tells it."""
        solution = self.solution(entry)
        if solution is None or not self.lags(entry):
            return None
        of, pose = self._quick
        if of != (entry, frame):
            pose = at_once(entry, solution, frame)
            self._quick = (entry, frame), pose
        return pose

    def ask(self):
        """See to it that the recording that is looked at gets solved soon; what is not wanted any more is given up."""
        entry = self.entry
        if self.job is not None and entry is not self._of:
            self.job.cancel()
        if entry is not None and self.lags(entry) and entry is not self._given_up:
            self.calm.start()

    def _begin(self):
        entry = self.entry
        if self.closed or self.job is not None or entry is None or not self.lags(entry) or entry is self._given_up:
            return
        self._of = entry
        self.job = Job("solve the markers", entry.solved, self.session.document.project)
        self.job.progressed.connect(self.progressed)
        self.job.failed.connect(self._failed)
        self.job.finished.connect(self._finished)
        self.job.ended.connect(self._ended)
        self.job.start()
        self.progressed.emit(0.0)
        self.changed.emit()

    def waits(self, entry):
        """Whether a recording is not solved, and will not be before it is asked for."""
        return entry is self._given_up and self.lags(entry)

    def give_up(self):
        """Cancel the solving; it begins again when it is asked for, or something is changed."""
        if self.job is not None:
            self._given_up = self._of
            self.job.cancel()

    def again(self):
        """Begin what was given up."""
        self._given_up = None
        self.ask()

    def _failed(self, sentence):
        self._given_up = self._of
        self.session.message.emit(sentence)

    def _finished(self, solution):
        self._kept[self._of.id] = self._of, solution
        known = {r.id for r in self.session.state.recordings}
        self._kept = {key: kept for key, kept in self._kept.items() if key in known}
        self.ready.emit()

    def _ended(self):
        self.job = None
        self.changed.emit()
        self._begin()
