"""The body picture: the figure from the front, with a pin for every marker. Click a pin, drag it to another segment."""

from __future__ import annotations

import math

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPainterPath, QPen
from PySide6.QtWidgets import QWidget

from .. import theme
from ..parts.widgets import tip

_PIN, _NEAR = 3.4, 9.0
_BLOCKS = ("hips", "spine", "chest", "head")


class BodyPicture(QWidget):
    """``pin_chosen(label)``; ``pin_dragged(label, segment)``; ``segment_clicked(segment)``: with a pin chosen, it goes there."""

    pin_chosen = Signal(str)
    pin_dragged = Signal(str, str)
    segment_clicked = Signal(str)

    def __init__(self):
        super().__init__()
        self.setMinimumHeight(250)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Body picture with the markers")
        self.bones, self.pins, self.chosen, self.odd = [], [], None, frozenset()
        self._drag = self._over = None

    def sizeHint(self):
        return QSize(300, 270)

    def show_body(self, bones, pins, chosen, odd):
        """Show other bones and pins; ``odd``: labels of markers that need a look."""
        self.bones, self.pins, self.chosen, self.odd = bones, pins, chosen, odd
        self.update()

    # --- places ---------------------------------------------------------------------------------
    def _scale(self):
        return min((self.height() - 22) / 1.04, (self.width() - 24) / 1.12)

    def _at(self, x, y):
        scale = self._scale()
        return QPointF(self.width() / 2 + x * scale, self.height() - 12 - y * scale)

    def pin_at(self, point):
        """The pin under a place, the nearest one; None where there is none."""
        away = [(math.hypot(*(self._at(p.x, p.y) - point).toTuple()), p) for p in self.pins]
        near = min(away, key=lambda of: of[0], default=(math.inf, None))
        return near[1] if near[0] <= _NEAR else None

    def segment_at(self, point):
        """The segment under a place; None where there is none."""
        best, found = 1.0, None
        for name, (ax, ay, bx, by, half) in self.bones:
            a, b = self._at(ax, ay), self._at(bx, by)
            way, off = b - a, point - a
            long = QPointF.dotProduct(way, way)
            share = min(max(QPointF.dotProduct(off, way) / long, 0), 1) if long else 0.0
            away = math.hypot(*(off - way * share).toTuple()) / max(half * self._scale(), 5.0)
            if away < best:
                best, found = away, name
        return found

    # --- painting -------------------------------------------------------------------------------
    def paintEvent(self, _event):
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        own = next((pin.segment for pin in self.pins if pin.label == self.chosen), None)
        aimed = self._over if self._drag else None
        for name, bone in self.bones:
            self._paint_bone(p, name, bone, name == own, name == aimed)
        p.setFont(theme.font(11))
        p.setPen(theme.colour("quiet"))
        for text, side in (("right", Qt.AlignmentFlag.AlignLeft), ("left", Qt.AlignmentFlag.AlignRight)):
            p.drawText(self.rect().adjusted(6, 4, -6, -4), side | Qt.AlignmentFlag.AlignBottom, text)
        for pin in sorted(self.pins, key=lambda pin: (not pin.behind, pin.label == self.chosen)):
            self._paint_pin(p, pin)
        if self._drag:
            p.setPen(QPen(theme.colour("brass"), 1.4, Qt.PenStyle.DashLine))
            p.drawLine(self._at(self._drag[0].x, self._drag[0].y), self._drag[1])
        p.end()

    def _paint_bone(self, p, name, bone, own, aimed):
        ax, ay, bx, by, half = bone
        a, b, wide = self._at(ax, ay), self._at(bx, by), half * self._scale()
        p.setBrush(theme.colour("performer", 150 if own or aimed else 62))
        p.setPen(QPen(theme.colour("brass" if aimed else "performer"), 1.6 if own or aimed else 1.0))
        if name in _BLOCKS:
            # Trunk and head are turned blocks that touch each other.
            box = QRectF(a.x() - wide, b.y(), 2 * wide, a.y() - b.y()).normalized()
            round_ = 0.5 * box.width() if name == "head" else 0.32 * box.height()
            p.drawRoundedRect(box, round_, 0.5 * box.height() if name == "head" else round_)
            return
        way = b - a
        long = max(math.hypot(*way.toTuple()), 1e-6)
        across = QPointF(-way.y(), way.x()) / long
        path = QPainterPath(a)
        for share, thick in ((0.2, 0.9), (0.62, 0.78), (0.9, 0.5)):
            path.lineTo(a + way * share + across * wide * thick)
        path.lineTo(b)
        for share, thick in ((0.9, 0.5), (0.62, 0.78), (0.2, 0.9)):
            path.lineTo(a + way * share - across * wide * thick)
        path.closeSubpath()
        p.drawPath(path)

    def _paint_pin(self, p, pin):
        at, odd = self._at(pin.x, pin.y), pin.label in self.odd
        chosen = pin.label == self.chosen
        size = _PIN * (1.5 if chosen else 1.0)
        tint = theme.colour("brass" if chosen else "alarm" if odd else "text")
        p.setPen(QPen(tint, 1.6))
        # What is on the back is a ring, what needs a look a square.
        p.setBrush(theme.colour("deep") if pin.behind else tint)
        if odd:
            p.drawRect(int(at.x() - size), int(at.y() - size), int(2 * size), int(2 * size))
        else:
            p.drawEllipse(at, size, size)
        if chosen:
            p.setFont(theme.font(11, True))
            p.drawText(at + QPointF(9, -7), pin.label.rpartition(":")[2])

    # --- pointer --------------------------------------------------------------------------------
    def mousePressEvent(self, event):
        pin = self.pin_at(event.position())
        if pin is not None:
            self._drag = (pin, event.position())
            self.pin_chosen.emit(pin.label)
        elif self.chosen and (segment := self.segment_at(event.position())):
            self.segment_clicked.emit(segment)

    def mouseMoveEvent(self, event):
        if self._drag:
            self._drag, self._over = (self._drag[0], event.position()), self.segment_at(event.position())
            self.update()
            return
        pin = self.pin_at(event.position())
        self.setToolTip(tip(f"{pin.label}: drag it to the segment it belongs to") if pin else "")
        self.setCursor(Qt.CursorShape.OpenHandCursor if pin else Qt.CursorShape.ArrowCursor)

    def mouseReleaseEvent(self, event):
        drag, self._drag = self._drag, None
        self.update()
        if drag is None:
            return
        start = self._at(drag[0].x, drag[0].y)
        segment = self.segment_at(event.position())
        if math.hypot(*(event.position() - start).toTuple()) > _NEAR and segment not in (None, drag[0].segment):
            self.pin_dragged.emit(drag[0].label, segment)
