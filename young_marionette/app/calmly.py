"""Work off the interface thread that begins once nothing is changed any more."""

from __future__ import annotations

from PySide6.QtCore import QObject, QTimer, Signal

CALM = 120  # milliseconds without a change: work in a thread slows what the interface answers with


class Calmly(QObject):
    """``ready``: more of what is wanted can be shown as it is. Subclasses fill ``begin``, which starts ``job`` if need be."""

    ready = Signal()

    def __init__(self, session, begin):
        super().__init__(session)
        self.session, self.job, self.closed = session, None, False
        self.calm = QTimer(self, singleShot=True, interval=CALM)
        self.calm.timeout.connect(begin)

    @property
    def busy(self):
        """Whether anything is being worked out, or about to be."""
        return self.job is not None or self.calm.isActive()

    def close(self):
        """Give up what is being worked out, for good."""
        self.closed = True
        self.calm.stop()
        if self.job is not None:
            self.job.give_up()
