"""What passes make of the baked clip that is worked on, and how much they change it: off the interface thread."""

from __future__ import annotations

from PySide6.QtCore import QObject, QTimer, Signal

from .jobs import Job
from .live import CALM


class LivePasses(QObject):
    """``ready``: the whole result can be shown as it is, and what each pass changed is known."""

    ready = Signal()

    def __init__(self, session):
        super().__init__()
        self.session, self._job, self._of, self._failed, self._closed = session, None, None, None, False
        # Only once nothing is changed any more: work in a thread slows what the interface answers with.
        self._calm = QTimer(self, singleShot=True, interval=CALM)
        self._calm.timeout.connect(self._begin)
        session.listen(("bakes", "entries"), self.ask)
        for signal in (session.preview_changed, session.view_changed, session.step_changed, session.pass_chosen):
            signal.connect(self.ask)

    @property
    def passed(self):
        """The clip that is worked on, with its passes; None where none is, or none has any."""
        bake = self.session.refined
        if bake is None or not bake.passes or self.session.step not in ("refine", "deliver"):
            return None
        return bake.passed

    def changes(self, before, after=None):
        """What the passes between two places (see Passed.changes) changed, or None where that is not known yet."""
        passed = self.passed
        return passed.known_changes(before, after) if passed is not None else None

    @property
    def busy(self):
        """Whether anything is being worked out, or about to be."""
        return self._job is not None or self._calm.isActive()

    @property
    def lags(self):
        """Whether what is shown is not all of the result yet."""
        passed = self.passed
        return passed is not None and passed.result is None

    def _wanted(self):
        """The passes in question where anything of them is not known, else None."""
        passed = self.passed
        if passed is None or not passed.passes:
            return None
        steps = range(len(passed.passes))
        known = all(passed.known_changes(i, i + 1) is not None for i in steps) and passed.known_changes(0) is not None
        return None if known else passed

    def ask(self):
        """See to it that what is wanted now gets worked out soon; what is not wanted any more is given up."""
        passed = self._wanted()
        if self._job is not None and (passed is None or self._key(passed) != self._of):
            self._job.cancel()
        if passed is not None and self._key(passed) != self._failed:
            self._calm.start()

    @staticmethod
    def _key(passed):
        return passed.clip, passed.passes

    def _begin(self):
        passed = self._wanted()
        if self._closed or passed is None or self._job is not None or self._key(passed) == self._failed:
            return
        self._of = self._key(passed)

        def work(progress):
            count = len(passed.passes)
            for i in range(count):
                passed.stage(i + 1)
                progress((i + 1) / (count + 1))
            for i in range(count):
                passed.changes(i, i + 1)
            passed.changes(0)
            return passed

        self._job = Job("work out the passes", work, self.session.document.project)
        self._job.progressed.connect(lambda _share: self.ready.emit())
        self._job.failed.connect(self._refuse)
        self._job.finished.connect(lambda _done: self.ready.emit())
        self._job.ended.connect(self._ended)
        self._job.start()

    def _refuse(self, sentence):
        self._failed = self._of  # not again, until something is changed
        self.session.message.emit(sentence)

    def _ended(self):
        self._job = None
        self._begin()

    def close(self):
        """Give up what is being worked out, for good."""
        self._closed = True
        self._calm.stop()
        if self._job is not None:
            self._job.cancel()
