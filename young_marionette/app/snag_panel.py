"""The list of snags: each says what, where, and what would mend it; it can be gone to, and many can be mended."""

from __future__ import annotations

import operator

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFrame, QHBoxLayout, QVBoxLayout

from ..wording.snags import snag_words
from . import icons, theme
from .parts.widgets import button, label, scrolling, tool

_MOST = 60


class SnagPanel(QFrame):
    """Lies over the window's right side; never modal."""

    def __init__(self, parent, session):
        super().__init__(parent)
        self.setObjectName("snagPanel")
        self.session, self._shown = session, []
        self.hide()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(14, 10, 8, 12)
        head = QHBoxLayout()
        self.heading = label("Snags", "title")
        head.addWidget(self.heading)
        head.addStretch(1)
        head.addWidget(tool("close", "Close (Esc)", self.hide))
        layout.addLayout(head)
        self.rows = QVBoxLayout()
        self.rows.setSpacing(6)
        layout.addWidget(scrolling(self.rows), 1)
        session.document_changed.connect(lambda _change: self._refill(anyway=False))
        session.snags_changed.connect(lambda: self._refill(anyway=False))

    def toggle(self):
        """Show or hide."""
        self.setVisible(not self.isVisible())
        if self.isVisible():
            self.place()
            self._refill()
            self.raise_()

    def place(self):
        """Stand under the header's right end."""
        parent = self.parentWidget()
        self.setGeometry(parent.width() - 452, 66, 440, min(520, parent.height() - 130))

    def _refill(self, anyway=True):
        same = len(self._shown) == len(self.session.snags) and all(map(operator.is_, self._shown, self.session.snags))
        if not self.isVisible() or (same and not anyway):
            return
        self._shown = self.session.snags
        while self.rows.count():
            widget = self.rows.takeAt(0).widget()
            if widget:
                widget.deleteLater()
        snags = self.session.snags
        self.heading.setText("No snags" if not snags else f"{len(snags)} snag{'s' if len(snags) > 1 else ''}")
        if not snags:
            self.rows.addWidget(label("No problems were found.", "quiet"))
        for snag in snags[:_MOST]:
            self.rows.addWidget(self._row(snag))
        if len(snags) > _MOST:
            self.rows.addWidget(label(f"and {len(snags) - _MOST} more", "quiet"))
        self.rows.addStretch(1)

    def _row(self, snag):
        holder = QFrame()
        holder.setObjectName("card")
        holder.setStyleSheet(f"QFrame#card {{ background: {theme.NIGHT['base']}; }}")
        layout = QHBoxLayout(holder)
        layout.setContentsMargins(10, 8, 8, 8)
        sign = label()
        sign.setPixmap(icons.pixmap("snag", "alarm" if snag.grave else "brass", 18))
        sign.setToolTip("This must be fixed before baking" if snag.grave else "Check this")
        layout.addWidget(sign, 0, Qt.AlignmentFlag.AlignTop)
        snag_text = snag_words(snag.found)
        words = QVBoxLayout()
        words.setSpacing(1)
        words.addWidget(label(snag_text.text, wrap=True))
        remedy = label(f"{snag.step.capitalize()}: {snag_text.remedy}", "quiet", wrap=True)
        remedy.setFont(theme.font(11))
        words.addWidget(remedy)
        layout.addLayout(words, 1)
        if snag.mend is not None:
            layout.addWidget(button(snag_text.mend, lambda: self.session.do(snag.mend)), 0, Qt.AlignmentFlag.AlignTop)
        layout.addWidget(button("Go", lambda: self._go(snag), tip="Go there"), 0, Qt.AlignmentFlag.AlignTop)
        return holder

    def _go(self, snag):
        self.session.show_snag(snag)
        self.hide()

    def keyPressEvent(self, event):
        if event.key() == Qt.Key.Key_Escape:
            self.hide()
        else:
            super().keyPressEvent(event)
