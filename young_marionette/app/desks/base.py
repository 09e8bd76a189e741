"""What all desks share: a heading, a scrolling column, and showing the state when it changes."""

from __future__ import annotations

from PySide6.QtWidgets import QVBoxLayout, QWidget

from .. import theme
from ..parts.widgets import label, scrolling


class Desk(QWidget):
    """A step's tools. Subclasses build in ``build`` and show in ``show_state``; ``wide``: the width they want."""

    title, lead, wide, scrolls = "", "", 348, True

    def __init__(self, session):
        super().__init__()
        self.session = session
        outer = QVBoxLayout(self)
        outer.setContentsMargins(14, 12, 10, 8)
        outer.setSpacing(theme.SPACE)
        outer.addWidget(label(self.title, "title"))
        if self.lead:
            outer.addWidget(label(self.lead, "quiet", wrap=True))
        self.column = QVBoxLayout()
        self.column.setContentsMargins(0, 4, 6, 4)
        self.column.setSpacing(12)
        if self.scrolls:
            outer.addWidget(scrolling(self.column), 1)
        else:
            outer.addLayout(self.column, 1)
        self.build()
        if self.scrolls:
            self.column.addStretch(1)

    def build(self):
        """Make the widgets, once."""

    def show_state(self):
        """Show the document as it is; called for the desk in front only."""

    def add(self, *widgets):
        for widget in widgets:
            self.column.addWidget(widget)
