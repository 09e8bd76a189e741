"""The live result of the active pair: planted, and measured, over the whole clip, off the interface thread."""

from __future__ import annotations

from PySide6.QtCore import Signal

from ..project.deviation import deviation, known_deviation
from ..project.entry import Entry
from ..project.planting import known_result, result
from .calmly import Calmly
from .jobs import Job


class LiveResult(Calmly):
    """``ready``: contacts, or the whole result, can be shown as they are. ``measured``: how far it is off is known too."""

    measured = Signal()

    def __init__(self, session):
        super().__init__(session, self._begin)
        self._tried = self._measured = self._made = self._told = None
        session.document_changed.connect(lambda _change: self.ask())
        session.preview_changed.connect(self.ask)
        session.frame_changed.connect(self._look)

    @property
    def wanted(self):
        """The active ``(pairing, source, rig)``, or None where nothing is transferred."""
        state = self.session.state
        source, rig, pairing = state.source_entry, state.rig_entry, state.pairing
        if pairing is None or source.take is None or not any(s.part == "hips" for s in pairing.strings):
            return None
        return pairing, source, rig

    @property
    def deviation(self):
        """How far the active pair's result is off, or None while that is not known."""
        wanted = self.wanted
        return known_deviation(*wanted) if wanted else None

    @property
    def shown_deviation(self):
        """As ``deviation``; while it is not known, that of the same pair as it was a moment ago."""
        known = self.deviation
        if known is not None:
            self._measured = self._pair, known
        return self._measured[1] if self._measured and self._measured[0] == self._pair else known

    @property
    def _pair(self):
        return self.session.state.source, self.session.state.rig

    def _task(self):
        """``(what it is of, work)`` that is to be done next, or None."""
        shown, wanted = self.session.clip, self.wanted
        if isinstance(shown, Entry) and shown.take is not None and not shown.knows_contacts:
            return (shown,), lambda _progress: shown.contacts
        if wanted is None or (known_deviation(*wanted) is not None and known_result(*wanted) is not None):
            return None

        def work(progress):
            result(*wanted)
            progress(0.5)
            return deviation(*wanted)

        return wanted, work

    def ask(self):
        """See to it that what is wanted now gets worked out soon; what is not wanted any more is given up."""
        self._made = self.wanted
        task = self._task()
        if self.job is not None and (task is None or task[0] != self._tried):
            self.job.cancel()
        if task is not None or self.wanted != self._told:
            self.calm.start()

    def _look(self):
        """A result that had to make room for others meanwhile is worked out again when it is looked at."""
        if not self.busy and self._made is not None and known_result(*self._made) is None:
            self.ask()

    def _begin(self):
        if self.closed:
            return
        task = self._task()
        if task is None:
            self._tell()
        if task is None or self.job is not None or task[0] == self._tried:
            return
        self._tried, work = task
        self.job = Job("work out the result", work, self.session.document.project)
        self.job.progressed.connect(lambda _share: self.ready.emit())
        self.job.failed.connect(self.session.message.emit)
        self.job.finished.connect(self._finished)
        self.job.ended.connect(self._ended)
        self.job.start()

    def _finished(self, _made):
        self.ready.emit()
        self._told = self._tried = None  # should it be let go, it is wanted again
        self._tell()

    def _tell(self):
        """Tell once of a result that is known, whoever worked it out: what is shown may be older than it is."""
        if self.wanted != self._told and (self.wanted is None or self.deviation is not None):
            self._told = self.wanted
            self.ready.emit()
            if self.deviation is not None:
                self.measured.emit()

    def _ended(self):
        if self.job.task.cancelled:
            self._tried = None  # it may be wanted again
        self.job = None
        self._begin()
