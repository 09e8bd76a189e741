"""How lanes are drawn."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainterPath, QPen, QPolygonF

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


def _box(key, area):
    if key.endswith("toe"):
        return QRectF(area.left(), area.top() + area.height() * 0.42, area.width(), area.height() * 0.5)
    return QRectF(area.left(), area.top() + 3, area.width(), area.height() - 6)


def columns(values, scale, width):
    """The largest of ``values (frames,)`` for each pixel in view, and where the pixels are; for any number of frames."""
    first, last = scale.span
    a, b = max(int(first), 0), min(int(np.ceil(last)) + 1, len(values))
    part = values[a:b]
    if not len(part):
        return np.zeros(0), np.zeros(0)
    at = scale.x_of(np.arange(a, b), width)
    if len(part) <= 2 * width:
        return at, part
    pixel = np.floor(at).astype(int)
    starts = np.flatnonzero(np.diff(pixel, prepend=pixel[0] - 1))
    return at[starts], np.maximum.reduceat(part, starts)


def draw_values(p, row, area, scale, width):
    """A deviation in ``area``: before pale, after strong, both from the lane's foot upwards."""
    for values, colour, line in ((row.before, theme.colour("quiet", 70), False), (row.after, tint(row.key), True)):
        if values is None:
            continue
        x, y = columns(values, scale, width)
        if not len(x):
            continue
        foot = area.bottom() - 2
        heights = foot - np.clip(y / row.scale, 0, 1) * (area.height() - 4)
        points = [QPointF(a, b) for a, b in zip(x.tolist(), heights.tolist())]
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
