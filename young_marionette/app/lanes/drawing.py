"""How lanes are drawn."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainterPath, QPen, QPolygonF

from ...core.scene.plotting import highest_of
from ...core.thinning.thinning import ACCENT, CONTACT, END, HAND, PROMISE
from .. import theme

HEIGHT = 19
NAMES = 186  # pixels of the column of names, at least


def tint(key):
    """The colour of a lane: one for each side of the body."""
    side = key.partition(" ")[0]
    return theme.colour(side if side in ("left", "right") else "quiet")


def draw_contact(p, key, area, contact, chosen):
    """A contact in ``area``: heels fill the lane, balls its lower half; what is at a height of its own is hollow."""
    colour = tint(key)
    box = _box(key, area)
    path = QPainterPath()
    if key.endswith("heel"):
        path.addRoundedRect(box, 5, 5)
    elif key.endswith("toe"):
        path.addRoundedRect(box, 2, 2)
    elif key.endswith("hand"):
        lean = min(5.0, box.width() / 2)
        path.addPolygon(
            QPolygonF(
                [
                    QPointF(box.left(), box.center().y()),
                    QPointF(box.left() + lean, box.top()),
                    QPointF(box.right() - lean, box.top()),
                    QPointF(box.right(), box.center().y()),
                    QPointF(box.right() - lean, box.bottom()),
                    QPointF(box.left() + lean, box.bottom()),
                ]
            )
        )
        path.closeSubpath()
    else:
        path.addRect(box)
    fill = theme.colour("raised") if contact.held else colour
    p.setBrush(fill)
    p.setPen(QPen(theme.colour("brass") if chosen else colour, 2 if chosen else 1.4))
    p.drawPath(path)
    if contact.by_hand and box.width() > 7:
        # A notch of paper: somebody's hand was here.
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(theme.colour("text"))
        p.drawEllipse(QPointF(box.left() + 5, box.center().y()), 2, 2)


def draw_key(p, at, mark, chosen):
    """A pose key: what made it shows by its shape, so that no colour is needed to tell."""
    x, y = at.x(), at.y()
    colour = theme.colour("brass" if chosen else "baked")
    p.setPen(QPen(theme.colour("deep"), 1))
    p.setBrush(colour)
    if mark == CONTACT:
        p.drawRect(QRectF(x - 4, y - 4, 8, 8))
    elif mark == ACCENT:
        p.drawPolygon(QPolygonF([QPointF(x, y - 6), QPointF(x + 5, y), QPointF(x, y + 6), QPointF(x - 5, y)]))
    elif mark == END:
        p.drawRect(QRectF(x - 2.5, y - 7, 5, 14))
    elif mark == HAND:
        p.drawPolygon(QPolygonF([QPointF(x - 5.5, y - 5), QPointF(x + 5.5, y - 5), QPointF(x, y + 6)]))
    elif mark == PROMISE:
        p.drawEllipse(at, 4.2, 4.2)
    else:  # a key on every frame
        p.setPen(QPen(colour, 1))
        p.drawLine(QPointF(x, y - 3), QPointF(x, y + 3))


def draw_touch(p, key, area):
    """What a hand touches that moves along: a thread with a knot at each end."""
    colour, middle = tint(key), area.center().y()
    p.setPen(QPen(colour, 2, Qt.PenStyle.DashLine))
    p.drawLine(QPointF(area.left() + 3, middle), QPointF(area.right() - 3, middle))
    p.setPen(Qt.PenStyle.NoPen)
    p.setBrush(colour)
    for x in (area.left() + 3, area.right() - 3):
        p.drawEllipse(QPointF(x, middle), 3.5, 3.5)


def _box(key, area):
    if key.endswith("toe"):
        return QRectF(area.left(), area.top() + area.height() * 0.42, area.width(), area.height() * 0.5)
    return QRectF(area.left(), area.top() + 3, area.width(), area.height() - 6)


def draw_values(p, row, area, scale, width):
    """A deviation in ``area``: before pale, after strong, both from the lane's foot upwards."""
    start, step = scale.line(width)
    for values, colour, line in ((row.before, theme.colour("quiet", 70), False), (row.after, tint(row.key), True)):
        if values is None:
            continue
        foot = area.bottom() - 2
        tall = (area.height() - 4) / row.scale
        first, last = scale.span
        seen = highest_of(values, first, last, width)
        points = [QPointF(start + f * step, max(foot - v * tall, area.top() + 2)) for f, v in seen]
        if not points:
            continue
        shape = QPolygonF([QPointF(points[0].x(), foot), *points, QPointF(points[-1].x(), foot)])
        p.setPen(Qt.PenStyle.NoPen)
        if line:
            soft = theme.colour("text", 0)
            soft.setRgb(colour.red(), colour.green(), colour.blue(), 90)
            p.setBrush(soft)
            p.drawPolygon(shape)
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.setPen(QPen(colour, 1.6))
            p.drawPolyline(QPolygonF(points))
        else:
            p.setBrush(colour)
            p.drawPolygon(shape)
