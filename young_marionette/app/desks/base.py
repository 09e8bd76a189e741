"""What all desks share: a heading, a scrolling column, and showing the state when it changes."""

from __future__ import annotations

from PySide6.QtWidgets import QSizePolicy, QVBoxLayout, QWidget

from ...project.changes import PAIR
from .. import theme
from ..parts.widgets import label, scrolling


class Desk(QWidget):
    """A step's tools. Subclasses build in ``build`` and show in ``show_state``.

    ``wide``: the width they want. ``shows``: the parts of the document that they show (see ``Change.touches``).
    """

    title, lead, wide, scrolls = "", "", 348, True
    shows = PAIR

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
            self._area = scrolling(self.column)
            outer.addWidget(self._area, 1)
        else:
            outer.addLayout(self.column, 1)
        self._foot = QVBoxLayout()
        self._foot.setContentsMargins(0, 0, 6, 4)
        self._foot.setSpacing(theme.SPACE)
        outer.addLayout(self._foot)
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

    def add_below(self, *widgets):
        """Add what stays in sight below all that scrolls, and close to it."""
        self._area.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Maximum)
        self.layout().setStretchFactor(self._area, 0)
        self.layout().addStretch(1)
        for widget in widgets:
            self._foot.addWidget(widget)
