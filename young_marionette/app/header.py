"""The header: mark, project, the route as beads on a string, undo and redo, and the count of snags."""

from __future__ import annotations

import itertools

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPainterPath, QPen
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ..project.snags import STEPS
from . import icons, theme
from .parts.widgets import label, tip, tool

TELLS = {
    "gather": "open files and check what they hold",
    "string": "tie bones to bones",
    "stance": "match the reference poses",
    "transfer": "adjust travel and height, and bake",
    "refine": "check baked clips",
    "deliver": "write files",
}


class Mark(QWidget):
    """The product's mark: a control bar with three strings."""

    def __init__(self):
        super().__init__()
        self.setFixedSize(34, 40)

    def paintEvent(self, _event):
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setPen(theme.round_pen(theme.colour("brass"), 3))
        p.drawLine(QPointF(5, 12), QPointF(29, 7))
        p.drawLine(QPointF(12, 5), QPointF(21, 15))
        p.setPen(QPen(theme.colour("text"), 1.1))
        for top, bottom in (
            (QPointF(6, 12), QPointF(9, 29)),
            (QPointF(17, 10), QPointF(17, 33)),
            (QPointF(28, 8), QPointF(25, 29)),
        ):
            p.drawLine(top, bottom)
        p.setPen(Qt.PenStyle.NoPen)
        for centre, name in (
            (QPointF(9, 30), "performer"),
            (QPointF(17, 34), "brass"),
            (QPointF(25, 30), "marionette"),
        ):
            p.setBrush(theme.colour(name))
            p.drawEllipse(centre, 3, 3)


class Route(QWidget):
    """Six beads on a sagging string, one per step; hollow while untouched, ticked when fine, a diamond with snags."""

    chosen = Signal(str)

    def __init__(self):
        super().__init__()
        self.current, self.states, self.counts = STEPS[0], {}, {}
        self._hover = None
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setMinimumSize(430, 58)
        self.setAccessibleName("Route")

    def sizeHint(self):
        return QSize(560, 58)

    def show_route(self, current, states, counts):
        """Show where the work stands."""
        self.current, self.states, self.counts = current, states, counts
        self.setAccessibleDescription(", ".join(f"{s}: {states.get(s)}" for s in STEPS))
        self.update()

    def _centres(self):
        margin, last = 40, len(STEPS) - 1
        shares = [i / last for i in range(len(STEPS))]
        # A parabola, 7 pixels deep in the middle.
        return [QPointF(margin + s * (self.width() - 2 * margin), 13 + 28 * s * (1 - s)) for s in shares]

    def paintEvent(self, _event):
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        centres = self._centres()
        string = QPainterPath(QPointF(4, 6))
        string.quadTo(QPointF((4 + centres[0].x()) / 2, centres[0].y() - 1), centres[0])
        for a, b in itertools.pairwise(centres):
            string.quadTo(QPointF((a.x() + b.x()) / 2, (a.y() + b.y()) / 2 + 2), b)
        string.quadTo(
            QPointF((self.width() - 4 + centres[-1].x()) / 2, centres[-1].y() - 1), QPointF(self.width() - 4, 6)
        )
        p.setPen(QPen(theme.colour("quiet", 130), 1.2))
        p.drawPath(string)
        for step, centre in zip(STEPS, centres):
            self._paint_bead(p, step, centre)

    def _paint_bead(self, p, step, centre):
        state, current = self.states.get(step, "untouched"), step == self.current
        size = 9.5 if current else 7.5
        tint = theme.colour("brass") if current else theme.colour("text" if step == self._hover else "quiet")
        p.setPen(QPen(tint, 2))
        p.setBrush(theme.colour("base"))
        if state == "snags":
            p.save()
            p.translate(centre)
            p.rotate(45)
            p.setBrush(theme.colour("brass") if current else theme.colour("base"))
            p.drawRect(QRectF(-size * 0.8, -size * 0.8, size * 1.6, size * 1.6))
            p.restore()
            p.setFont(theme.font(10, True))
            p.setPen(theme.colour("base") if current else theme.colour("text"))
            p.drawText(
                QRectF(centre.x() - 12, centre.y() - 8, 24, 16),
                Qt.AlignmentFlag.AlignCenter,
                str(min(self.counts.get(step, 0), 99)),
            )
        else:
            if current or state == "fine":
                p.setBrush(tint if current else theme.colour("lifted"))
            p.drawEllipse(centre, size, size)
            if state == "fine":
                p.setPen(theme.round_pen(theme.colour("base" if current else "text"), 1.8))
                p.drawPolyline([centre + QPointF(-3.2, 0.2), centre + QPointF(-0.8, 2.8), centre + QPointF(3.6, -2.8)])
        p.setFont(theme.font(12, current))
        p.setPen(theme.colour("brass") if current else theme.colour("text" if step == self._hover else "quiet"))
        if current and self.hasFocus():
            p.drawLine(QPointF(centre.x() - 22, 56), QPointF(centre.x() + 22, 56))
        p.drawText(QRectF(centre.x() - 46, 33, 92, 20), Qt.AlignmentFlag.AlignCenter, step.capitalize())

    def place_of(self, step):
        """Where a step's bead is on the widget."""
        return self._centres()[STEPS.index(step)].toPoint()

    def _at(self, point):
        nearest = min(zip(STEPS, self._centres()), key=lambda sc: abs(sc[1].x() - point.x()))
        return nearest[0] if abs(nearest[1].x() - point.x()) < 44 else None

    def mouseMoveEvent(self, event):
        self._hover = self._at(event.position())
        self.setCursor(Qt.CursorShape.PointingHandCursor if self._hover else Qt.CursorShape.ArrowCursor)
        if self._hover:
            number = STEPS.index(self._hover) + 1
            self.setToolTip(f"{self._hover.capitalize()}: {TELLS[self._hover]} (Alt+{number})")
        self.update()

    def leaveEvent(self, _event):
        self._hover = None
        self.update()

    def mousePressEvent(self, event):
        step = self._at(event.position())
        if step:
            self.chosen.emit(step)

    def keyPressEvent(self, event):
        move = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(event.key())
        if move is None:
            super().keyPressEvent(event)
        else:
            self.chosen.emit(STEPS[(STEPS.index(self.current) + move) % len(STEPS)])


class Header(QWidget):
    """The top of the window."""

    def __init__(self, session, menu):
        super().__init__()
        self.session = session
        self.setFixedHeight(68)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(14, 4, 14, 4)
        layout.setSpacing(theme.SPACE)
        layout.addWidget(Mark())
        names = QVBoxLayout()
        names.setSpacing(0)
        self.project = label("", "title")
        self.saved = label("", "quiet")
        self.saved.setFont(theme.font(11))
        names.addStretch(1)
        names.addWidget(self.project)
        names.addWidget(self.saved)
        names.addStretch(1)
        layout.addLayout(names)
        self.menu = tool("menu", "Project: new, open, save (Alt+M)")
        self.menu.setMenu(menu)
        self.menu.setPopupMode(self.menu.ToolButtonPopupMode.InstantPopup)
        layout.addWidget(self.menu)
        layout.addStretch(1)
        self.route = Route()
        self.route.chosen.connect(session.go)
        layout.addWidget(self.route, 6)
        layout.addStretch(1)
        self.undo = tool("undo", "Undo", session.undo)
        self.redo = tool("redo", "Redo", session.redo)
        layout.addWidget(self.undo)
        layout.addWidget(self.redo)
        self.snags = QPushButton()
        self.snags.setIcon(icons.icon("snag", "brass"))
        self.snags.setMinimumWidth(104)
        layout.addWidget(self.snags)
        session.document_changed.connect(lambda _change: self.show_state())  # any change can be undone
        session.snags_changed.connect(self.show_state)
        session.step_changed.connect(self.show_state)
        self.show_state()

    def show_state(self):
        """Show the document's name, what can be undone, the route and the number of snags."""
        document, session = self.session.document, self.session
        name = session.state.name
        self.project.setText(self.project.fontMetrics().elidedText(name, Qt.TextElideMode.ElideRight, 190))
        self.project.setToolTip(tip(document.path or name))
        self.saved.setText("not saved yet" if document.path is None else "changed" if document.unsaved else "saved")
        for widget, what, text in ((self.undo, "Undo", document.undo_label), (self.redo, "Redo", document.redo_label)):
            widget.setEnabled(text is not None)
            keys = "Ctrl+Z" if what == "Undo" else "Ctrl+Shift+Z"
            widget.setToolTip(tip(f"{what}: {text} ({keys})" if text else f"{what} ({keys})"))
        counts = {step: sum(s.step == step for s in session.snags) for step in STEPS}
        self.route.show_route(session.step, session.route, counts)
        total = len(session.snags)
        self.snags.setIcon(icons.icon("snag" if total else "check", "brass"))
        self.snags.setText("No snags" if not total else f"{total} snag{'s' if total > 1 else ''}")
        self.snags.setToolTip("Problems found in the project (Alt+S)")
