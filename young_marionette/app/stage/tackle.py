"""Controls on the stage: painted over the picture, so that they hide nothing of the body, and picked there."""

from __future__ import annotations

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from ...core.scene.tackle import DOT, LINE, THREAD, Outline, picked_at
from .. import theme

_WITHIN = 9  # pixels
_MANY = 20  # corners
_DOT_SIZE, _CHOSEN_SIZE = 4.2, 5.4
_TINTS = {"left": "left", "right": "right", "middle": "text", "quiet": "quiet"}


class TacklePainter:
    """Paints and picks the controls that a stage shows."""

    def __init__(self, stage):
        self.stage, self.shown, self.chosen, self.under = stage, [], (), None
        self._outline = Outline.of(())

    def show(self, tackle, chosen=()):
        """Show controls (a Tackle each); ``chosen``: names of those in brass."""
        self.shown, self.chosen = list(tackle), tuple(chosen)
        self._outline = Outline.of(self.shown)

    def flat(self):
        """``(number of the control, kind, places on the widget (n, 2))`` of each line and dot before the eye."""
        return self._outline.on(self.stage._matrix(), self.stage.width(), self.stage.height())

    def lines(self, fine=True):
        """``(lines by their looks, dots)`` as ``paint`` wants them; in fewer corners unless ``fine``."""
        looks, dots = {}, []
        for number, kind, places in self.flat():
            one = self.shown[number]
            lit = one.name in self.chosen or one.name == self.under
            if kind == DOT:
                dots.append((lit, one, places[0]))
            else:
                look = lit, kind, one.name in self.chosen, one.colour
                if not fine and len(places) > _MANY:
                    places = places[::2]  # lines of many corners are round, and end where they begin
                looks.setdefault(look, []).append(QPolygonF([QPointF(x, y) for x, y in places.tolist()]))
        return looks, dots

    def paint(self, painter, lines, fine=True):
        """Paint ``lines``, those of the chosen controls last; all of one look at once, and without soft edges unless ``fine``."""
        looks, dots = lines
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, fine)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for look in sorted(looks):
            for pen in self._pens(*look):
                painter.setPen(pen)
                for line in looks[look]:
                    painter.drawPolyline(line)
        painter.setPen(QPen(theme.colour("deep", 200), 1.6))
        for lit, one, place in sorted(dots, key=lambda dot: dot[0]):
            painter.setBrush(self._tint(one.colour, lit))
            size = _CHOSEN_SIZE if one.name in self.chosen else _DOT_SIZE
            painter.drawEllipse(QPointF(*place), size, size)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)

    @staticmethod
    def _tint(colour, lit):
        return theme.colour("brass" if lit else _TINTS.get(colour, "text"), 255 if lit else 205)

    def _pens(self, lit, kind, chosen, colour):
        """The pens that a line is drawn with, one over the other."""
        if kind != LINE:
            return (QPen(theme.colour("brass", 200) if chosen else theme.colour("text", 110), 1.0),)
        wide = 2.6 if chosen else 1.9
        return QPen(theme.colour("deep", 170), wide + 2.4), QPen(self._tint(colour, lit), wide)

    def pick(self, point):
        """The control (a Tackle) under a place on the widget, or None."""
        grips = ((number, places) for number, kind, places in self.flat() if kind != THREAD)
        found = picked_at(grips, (point.x(), point.y()), _WITHIN)
        return None if found is None else self.shown[found]

    def place_of(self, joint):
        """Where a control is taken hold of, in the world ``(3,)``, or None where it is not shown."""
        return next((one.place for one in self.shown if one.joint == joint), None)
