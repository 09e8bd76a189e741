"""Controls on the stage: painted over the picture, so that they hide nothing of the body, and picked there."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPen, QPolygonF

from ...core.scene.camera import project
from ...core.scene.picking import NEAREST
from ...core.scene.tackle import picked_at
from .. import theme

_WITHIN = 9  # pixels
_DOT_SIZE, _CHOSEN_SIZE = 4.2, 5.4
_THREAD, _LINE, _DOT = range(3)
_TINTS = {"left": "left", "right": "right", "middle": "text", "quiet": "quiet"}


class TacklePainter:
    """Paints and picks the controls that a stage shows."""

    def __init__(self, stage):
        self.stage, self.shown, self.chosen, self.under = stage, [], (), None
        self._parts, self._points = [], np.zeros((0, 3))

    def show(self, tackle, chosen=()):
        """Show controls (a Tackle each); ``chosen``: names of those in brass."""
        self.shown, self.chosen = list(tackle), tuple(chosen)
        # All points in one array: they are put onto the widget together.
        self._parts, points, count = [], [], 0
        for number, one in enumerate(self.shown):
            dots = [dot[None] for dot in one.dots]
            for kind, some in ((_THREAD, one.threads), (_LINE, one.lines), (_DOT, dots)):
                for line in some:
                    self._parts.append((number, kind, count, count + len(line)))
                    points.append(line)
                    count += len(line)
        self._points = np.concatenate(points) if points else np.zeros((0, 3))

    def _flat(self):
        """``(number of the control, kind, places on the widget (n, 2))`` of each line and dot before the eye."""
        if not self._parts:
            return
        stage = self.stage
        places, depth = project(stage._matrix(), self._points, stage.width(), stage.height())
        for number, kind, first, last in self._parts:
            if depth[first:last].min() > NEAREST:
                yield number, kind, places[first:last]

    def paint(self, painter):
        """All of them, the chosen ones last."""
        lines = [[], []]
        for part in self._flat():
            one = self.shown[part[0]]
            lines[one.name in self.chosen or one.name == self.under].append(part)
        for part in (*lines[0], *lines[1]):
            self._paint(painter, *part)

    def _paint(self, painter, number, kind, places):
        one = self.shown[number]
        chosen = one.name in self.chosen
        lit = chosen or one.name == self.under
        tint = theme.colour("brass" if lit else _TINTS.get(one.colour, "text"), 255 if lit else 205)
        if kind == _DOT:
            painter.setPen(QPen(theme.colour("deep", 200), 1.6))
            painter.setBrush(tint)
            size = _CHOSEN_SIZE if chosen else _DOT_SIZE
            painter.drawEllipse(QPointF(*places[0]), size, size)
            return
        line = QPolygonF([QPointF(x, y) for x, y in places.tolist()])
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if kind == _LINE:
            wide = 2.6 if chosen else 1.9
            painter.setPen(QPen(theme.colour("deep", 170), wide + 2.4))
            painter.drawPolyline(line)
            painter.setPen(QPen(tint, wide))
        else:
            painter.setPen(QPen(theme.colour("brass", 200) if chosen else theme.colour("text", 110), 1.0))
        painter.drawPolyline(line)

    def pick(self, point):
        """The control (a Tackle) under a place on the widget, or None."""
        grips = ((number, places) for number, kind, places in self._flat() if kind != _THREAD)
        found = picked_at(grips, (point.x(), point.y()), _WITHIN)
        return None if found is None else self.shown[found]

    def place_of(self, joint):
        """Where a control is taken hold of, in the world ``(3,)``, or None where it is not shown."""
        return next((one.place for one in self.shown if one.joint == joint), None)
