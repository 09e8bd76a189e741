"""The live result of the active pair: planted, and measured, over the whole clip, off the interface thread."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal

from ..project.deviation import deviation, known_deviation
from ..project.planting import known_result, result
from .jobs import Job


class LiveResult(QObject):
    """``ready``: the stage can show the whole result as it is. ``measured``: how far it is off is known too."""

    ready = Signal()
    measured = Signal()

    def __init__(self, session):
        super().__init__()
        self.session, self._job, self._tried = session, None, None
        session.document_changed.connect(lambda _change: self.ask())

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
    def catching_up(self):
        """Whether the whole result is still being worked out."""
        wanted = self.wanted
        return wanted is not None and wanted != self._tried and known_result(*wanted) is None

    def ask(self):
        """See to it that what is wanted now gets worked out; what is not wanted any more is given up."""
        wanted = self.wanted
        if self._job is not None:
            if wanted != self._tried:
                self._job.cancel()
            return
        if wanted is None or wanted == self._tried or known_deviation(*wanted) is not None:
            return
        self._tried = wanted

        def work(progress):
            result(*wanted)
            progress(0.5)
            return deviation(*wanted)

        self._job = Job("work out the result", work, self.session.document.project)
        self._job.progressed.connect(lambda _share: self.ready.emit())
        self._job.failed.connect(self.session.message.emit)
        self._job.finished.connect(lambda _measured: self.measured.emit())
        self._job.ended.connect(self._ended)
        self._job.start()

    def _ended(self):
        self._job = None
        self.ask()

    def close(self):
        """Give up what is being worked out."""
        if self._job is not None:
            self._job.cancel()
