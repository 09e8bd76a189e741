"""Widgets whose frames lie over those of the timeline, and that show whether keys go to them."""

from __future__ import annotations

from PySide6.QtWidgets import QWidget


class OverFrames(QWidget):
    """``left`` and ``wide``: where the timeline's frames lie in what holds this widget, in pixels."""

    def __init__(self):
        super().__init__()
        self.left, self.wide = 0, 100

    def place(self, left, wide):
        """Take where the timeline's frames lie."""
        if (left, wide) != (self.left, self.wide):
            self.left, self.wide = left, wide
            self.update()

    def focusInEvent(self, event):
        super().focusInEvent(event)
        self.update()

    def focusOutEvent(self, event):
        super().focusOutEvent(event)
        self.update()
