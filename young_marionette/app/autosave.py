"""Keeping unsaved work: a moment after each edit, off the interface thread, and said at once where it fails."""

from __future__ import annotations

import time

from PySide6.QtCore import QObject, QTimer, Signal

from .jobs import Job

KEEP_AFTER, KEEP_WITHIN = 1.5, 5.0  # seconds: after the last edit, and after the first one that is not kept yet


class Autosave(QObject):
    """``works_again``: it had failed, and does not any more."""

    works_again = Signal()

    def __init__(self, session, recovery):
        super().__init__(session)
        self.session, self.recovery = session, recovery
        self._job = self._kept_state = self._unkept_since = None
        self._failed = False
        self._timer = QTimer(self, singleShot=True)
        self._timer.timeout.connect(self.keep)

    @property
    def _wanted(self):
        state = self.session.state
        return self.session.document.unsaved and bool(state.entries or state.recordings)

    def soon(self):
        """Have unsaved work kept when the user pauses, and in any case before long."""
        if not self._wanted:
            self._unkept_since = None
            return
        now = time.monotonic()
        self._unkept_since = self._unkept_since or now
        left = self._unkept_since + KEEP_WITHIN - now
        self._timer.start(max(0, int(1000 * min(KEEP_AFTER, left))))

    def keep(self):
        """Write unsaved work beside the settings, off the interface thread."""
        document = self.session.document
        if self._job is not None or not self._wanted:
            return  # what runs now is followed by the next: see _ended
        state, path, self._unkept_since = self.session.state, document.path, None
        self._job = Job("autosave", lambda _p: self.recovery.keep(state, path), document.project)
        self._job.finished.connect(lambda _r: self._kept(state))
        self._job.failed.connect(self.fails)
        self._job.ended.connect(self._ended)
        self._job.start()

    def _kept(self, state):
        self._kept_state = state
        if self._failed:
            self._failed = False
            self.works_again.emit()
            self.session.told.emit("Autosave works again")

    def fails(self, why):
        """Said at once, and tried again; the work itself is as it was."""
        if not self._failed:
            self._failed = True
            self.session.message.emit(f"Autosave failed: {why} Save the project to be safe.")
        self._unkept_since = self._unkept_since or time.monotonic()

    def _ended(self):
        self._job = None
        if not self.session.document.unsaved:
            self.recovery.clear()
        elif self._failed:
            self._timer.start(int(1000 * KEEP_WITHIN))
        elif self._kept_state is not self.session.state:
            self.soon()

    def close(self):
        """Keep, or forget, for the last time; InputError where it can't be kept."""
        self._timer.stop()
        if self._job is not None:
            self._job.wait(30)
        if self._wanted:
            self.recovery.keep(self.session.state, self.session.document.path)
        else:
            self.recovery.clear()
