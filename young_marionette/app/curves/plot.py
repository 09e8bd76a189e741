"""Curves drawn over the timeline's frames: old ones pale beneath the new ones; zoomed, moved and selected with the mouse."""

from __future__ import annotations

from math import ceil

from pyqtgraph.functions import arrayToQPolygonF
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import QSizePolicy, QToolTip

from ...core.scene.plotting import outline
from ...core.scene.scales import nice_steps
from .. import theme
from ..parts.ground import Ground
from ..parts.placed import OverFrames

DASHES = {"X": None, "Y": (5, 2.5), "Z": (1.5, 2.2)}
AXES = {"X": "x", "Y": "y", "Z": "z", "twist": "x", "swing 1": "y", "swing 2": "z", "": "y"}
_OF = {"twist": "X", "swing 1": "Y", "swing 2": "Z", "": "X"}
_TOP, _FOOT = 18, 6
_ARM, _NEAR = 38, 8  # pixels: how long a tangent is drawn, and how near it is grabbed
_MANY = 40  # curves: more are drawn without smooth edges


def pen_of(axis, width, alpha=255):
    """The pen of an axis: a colour and a dash of its own."""
    pen = QPen(theme.colour(AXES[axis], alpha), width)
    dash = DASHES[_OF.get(axis, axis)]
    if dash:
        pen.setDashPattern([d / max(width / 1.6, 1) for d in dash])
    pen.setCapStyle(Qt.PenCapStyle.FlatCap)
    return pen


class CurvePlot(OverFrames):
    """Shows what ``show_curves`` is given. ``selected``: frames and values ``(first, last, low, high)``, or None.

    ``value_dragged(handle, value, settled)``: a key was dragged up or down; ``slope_dragged(handle, side, slope, both,
    settled)``: one of its tangents, before (-1) or behind it (1); both alike where they are joined and Alt is not held.
    """

    selected = Signal(object)
    value_dragged = Signal(object, float, bool)
    slope_dragged = Signal(object, int, float, bool, bool)

    def __init__(self, session, scale):
        super().__init__()
        self.session, self.scale = session, scale
        self.new, self.old, self.unit = [], [], ""
        self.seconds = False  # whether times are told in seconds
        self.marks = ()  # places along the bottom, such as cut-offs in a spectrum
        self.band = None  # the end of the bottom scale in hertz, where this is a spectrum
        self.selection, self.low, self.high = None, -1.0, 1.0
        self.handles = []  # keys of the curves that are shown
        self._held = None  # (the handle that is dragged, its side or 0)
        self._key = self._press = None
        self._ground = Ground(self, self._paint_ground)
        self.setMinimumHeight(90)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAccessibleName("Curves")
        for signal in (session.frame_changed, session.keys_chosen, scale.changed):
            signal.connect(self.update)

    # --- what is shown --------------------------------------------------------------------------
    def show_curves(self, new, old, unit, band=None, marks=(), fit=False):
        """``new`` and ``old``: Curves, of one unit. ``band``: of spectra; see the attributes."""
        kind = [(c.name, c.axis) for c in new], unit, band is None
        fit = fit or kind != self._key
        self.new, self.old, self.unit, self.band, self.marks, self._key = new, old, unit, band, marks, kind
        self._ground_of = object()
        if fit:
            self._fit_values()
        self.update()

    @property
    def _left(self):
        return self.left - self.x()

    def fit(self):
        """Show the selection as large as it can be, else all values of the frames in view."""
        if self.selection is not None:
            first, last, self.low, self.high = self.selection
            self.scale.show(first, last)
        else:
            self._fit_values()
        self.update()

    def _fit_values(self):
        """Show all values of the frames in view."""
        if self.new or self.old:
            first, last = (0, None) if self.band else self.scale.span
            seen = [c.values[int(first) : None if last is None else ceil(last) + 1] for c in (*self.new, *self.old)]
            seen = [v for v in seen if len(v)]
            low = min((float(v.min()) for v in seen), default=-1.0)
            high = max((float(v.max()) for v in seen), default=1.0)
            spare = max(high - low, 1e-6 if self.band else 0.4 if self.unit else 0.05) * 0.08
            self.low, self.high = (0.0 if self.band else low - spare), high + spare
        self.update()

    def select(self, selection):
        """Choose frames and values by a box; None chooses none."""
        self.selection = selection
        self.update()
        self.selected.emit(selection)

    def touches(self, curve):
        """Whether a curve goes through the box of the selection."""
        first, last, low, high = self.selection
        inside = curve.values[first : last + 1]
        return len(inside) > 0 and inside.min() <= high and inside.max() >= low

    # --- places ---------------------------------------------------------------------------------
    def x_of(self, frame):
        if self.band:
            return self._left + 14 + frame / self.band * (self.wide - 28)
        return self._left + self.scale.x_of(frame, self.wide)

    def frame_at(self, x):
        return self.scale.place_at(x - self._left, self.wide)

    def y_of(self, value):
        tall = max(self.height() - _TOP - _FOOT, 1)
        return _TOP + (self.high - value) / max(self.high - self.low, 1e-12) * tall

    def value_at(self, y):
        tall = max(self.height() - _TOP - _FOOT, 1)
        return self.high - (y - _TOP) / tall * (self.high - self.low)

    # --- painting -------------------------------------------------------------------------------
    def paintEvent(self, _event):
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        of = (
            self.scale.span,
            self._ground_of if self.new else None,
            self.low,
            self.high,
            self.session.range,
            self._left,
            self.wide,
        )
        p.drawPixmap(0, 0, self._ground.picture(*of, self.seconds))
        if self.selection is not None and not self.band:
            first, last, low, high = self.selection
            box = QRectF(QPointF(self.x_of(first), self.y_of(high)), QPointF(self.x_of(last), self.y_of(low)))
            p.setPen(QPen(theme.colour("brass"), 1.2, Qt.PenStyle.DashLine))
            p.setBrush(theme.colour("brass", 26))
            p.drawRect(box)
        if self.new and not self.band:
            x = self.x_of(self.session.frame)
            p.setPen(QPen(theme.colour("brass"), 1.5))
            p.drawLine(QPointF(x, _TOP - 4), QPointF(x, self.height()))
        if self.handles:
            self._paint_keys(p)
        if self.new:
            self._paint_legend(p)
        if self.hasFocus():
            p.setPen(QPen(theme.colour("brass", 120), 1))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5), 4, 4)

    # --- keys -----------------------------------------------------------------------------------
    def _arm(self, handle, side):
        """Where the end of a tangent is drawn, or None where there is none."""
        slope = handle.slopes[0 if side < 0 else 1]
        if slope is None or handle.frame not in self.session.keys:
            return None
        x, y = self.x_of(handle.frame), self.y_of(handle.value)
        per_frame = self.x_of(1) - self.x_of(0)
        run = per_frame * self.session.rate  # pixels a second
        rise = self.y_of(handle.value + slope) - y
        length = max((run * run + rise * rise) ** 0.5, 1e-9)
        return QPointF(x + side * run / length * _ARM, y + side * rise / length * _ARM)

    def _paint_keys(self, p):
        p.setClipRect(QRectF(self._left + 4, _TOP, self.wide - 8, self.height() - _TOP - _FOOT + 4))
        first, last = self.scale.span
        for handle in self.handles:
            if not first - 1 <= handle.frame <= last + 1:
                continue
            at, chosen = QPointF(self.x_of(handle.frame), self.y_of(handle.value)), handle.frame in self.session.keys
            for side in (-1, 1):
                end = self._arm(handle, side)
                if end is not None:
                    p.setPen(QPen(theme.colour("brass"), 1.3))
                    p.drawLine(at, end)
                    p.setBrush(theme.colour("deep") if not handle.joined else theme.colour("brass"))
                    p.drawEllipse(end, 3.6, 3.6)
            p.setPen(QPen(theme.colour("deep"), 1))
            p.setBrush(theme.colour("brass" if chosen else "baked"))
            p.drawRect(QRectF(at.x() - 3, at.y() - 3, 6, 6))
        p.setClipping(False)

    def _grabbed(self, place):
        """``(handle, side)`` under a place: side 0 is the key itself; None where there is none."""
        found = []
        for handle in self.handles:
            spots = [(0, QPointF(self.x_of(handle.frame), self.y_of(handle.value)))]
            spots += [(side, end) for side in (-1, 1) if (end := self._arm(handle, side)) is not None]
            for side, spot in spots:
                way = place - spot
                found.append(((way.x() ** 2 + way.y() ** 2) ** 0.5, abs(side), handle, side))
        away, _, handle, side = min(found, key=lambda f: f[:2], default=(_NEAR + 1, 0, None, 0))
        return (handle, side) if away <= _NEAR else None

    def _drag_key(self, event, settled):
        handle, side = self._held
        place = event.position()
        if side == 0:
            self.value_dragged.emit(handle, self.value_at(place.y()), settled)
            return
        frames = self.frame_at(place.x()) - handle.frame
        frames = max(abs(frames), 0.25) * side
        slope = (self.value_at(place.y()) - handle.value) / (frames / self.session.rate)
        alone = bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
        self.slope_dragged.emit(handle, side, slope, handle.joined and not alone, settled)

    def _paint_ground(self, p):
        area = QRectF(self._left + 4, _TOP, self.wide - 8, self.height() - _TOP - _FOOT + 4)
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(theme.colour("deep"))
        p.drawRoundedRect(area, 4, 4)
        if not self.new:
            p.setPen(theme.colour("quiet"))
            p.drawText(area, Qt.AlignmentFlag.AlignCenter, "Choose a bone on the left, or click one on the stage.")
            return
        self._paint_grid(p, area)
        p.save()
        p.setClipRect(area)
        many = len(self.new) + len(self.old) > _MANY
        p.setRenderHint(QPainter.RenderHint.Antialiasing, not many)
        for curve in self.old:
            self._paint_curve(p, curve, pen_of(curve.axis, 1.0, 120))
        for curve in self.new:
            pen = pen_of(curve.axis, 1.0 if many else 1.9)
            if many:
                pen.setStyle(Qt.PenStyle.SolidLine)
            self._paint_curve(p, curve, pen)
        if not self.band:
            shade = theme.colour("base", 150)
            first, last = (self.x_of(f) for f in self.session.range)
            p.fillRect(QRectF(area.left(), area.top(), first - area.left(), area.height()), shade)
            p.fillRect(QRectF(last, area.top(), area.right() - last, area.height()), shade)
        p.setFont(theme.font(10, tabular=True))
        for hertz in self.marks:
            x = self.x_of(hertz)
            p.setPen(QPen(theme.colour("brass"), 1.2, Qt.PenStyle.DashLine))
            p.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
            p.drawText(QPointF(x + 4, area.top() + 12), f"{hertz:.1f} Hz")
        p.restore()

    def _paint_curve(self, p, curve, pen):
        first, last = (0, len(curve.values)) if self.band else self.scale.span
        start, step = self.x_of(0.0), self.x_of(1.0) - self.x_of(0.0)
        if self.band:
            step *= self.band / max(len(curve.values) - 1, 1)
        foot = self.y_of(0.0)
        # Of very many curves fewer points each can be told apart, and have to be drawn.
        columns = max(self.wide * min(_MANY / max(len(self.new) + len(self.old), 1), 1.0), self.wide / 4, 2)
        xs, ys = outline(curve.values, first, last, int(columns), (start, step), (foot, self.y_of(1.0) - foot))
        p.setPen(pen)
        p.drawPolyline(arrayToQPolygonF(xs, ys))

    def _paint_grid(self, p, area):
        p.setFont(theme.font(10, tabular=True))
        for value in nice_steps(self.low, self.high, max(int(area.height() / 34), 2)):
            y = self.y_of(value)
            p.setPen(QPen(theme.colour("line", 200 if abs(value) < 1e-9 else 90), 1))
            p.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
            p.setPen(theme.colour("quiet"))
            right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
            p.drawText(
                QRectF(area.left() - 62, y - 8, 58, 16), right, f"{value:g}{'' if self.unit == '°' else ' '}{self.unit}"
            )
        rate = self.session.rate
        if self.band:
            steps = [(f, f"{f:g} Hz") for f in nice_steps(0, self.band, max(int(area.width() / 90), 2))]
        else:
            first, last = self.scale.span
            share = rate if self.seconds else 1
            count = max(int(area.width() / 80), 2)
            steps = [
                (f * share, f"{f:g} s" if self.seconds else f"{f:g}")
                for f in nice_steps(first / share, last / share, count)
            ]
        for frame, text in steps:
            x = self.x_of(frame)
            p.setPen(QPen(theme.colour("line", 60), 1))
            p.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
            p.setPen(theme.colour("quiet"))
            p.drawText(QRectF(x - 36, 1, 72, 15), Qt.AlignmentFlag.AlignCenter, text)

    def _paint_legend(self, p):
        """The curves by name, and their values at the playhead."""
        p.setFont(theme.font(10, tabular=True))
        frame, left, y, told = self.session.frame, self._left + self.wide + 4, _TOP + 2, None
        for i, curve in enumerate(self.new):
            if y > self.height() - 16:
                p.setPen(theme.colour("quiet"))
                p.drawText(QPointF(left, self.height() - 3), f"and {len(self.new) - i} more")
                return
            if curve.name != told:
                told = curve.name
                p.setPen(theme.colour("text"))
                words = p.fontMetrics().elidedText(told, Qt.TextElideMode.ElideMiddle, self.width() - left - 8)
                p.drawText(QPointF(left, y + 10), words)
                y += 14
            p.setPen(pen_of(curve.axis, 2.0))
            p.drawLine(QPointF(left + 2, y + 6), QPointF(left + 20, y + 6))
            p.setPen(theme.colour("quiet"))
            value = (
                ""
                if self.band or frame >= len(curve.values)
                else f"{curve.values[frame]:.1f}{self.unit if self.unit == '°' else ''}"
            )
            p.drawText(QPointF(left + 25, y + 10), f"{curve.axis}  {value}".strip())
            y += 14

    # --- mouse and keys -------------------------------------------------------------------------
    def mousePressEvent(self, event):
        place = event.position()
        self.setFocus()
        if event.button() == Qt.MouseButton.MiddleButton:
            self._press = "move", place, (self.low, self.high), self.scale.span
            self.setCursor(Qt.CursorShape.ClosedHandCursor)
        elif event.button() == Qt.MouseButton.LeftButton and self.handles and (grabbed := self._grabbed(place)):
            self._held, self._press = grabbed, ("key", place, None, None)
            self.session.choose_keys((grabbed[0].frame,))
            self.session.seek(grabbed[0].frame)
        elif event.button() == Qt.MouseButton.LeftButton and not self.band:
            self._press = "box", place, None, None

    def mouseMoveEvent(self, event):
        place = event.position()
        if self._press is None:
            self._tell(event)
            return
        kind, start, values, span = self._press
        way = place - start
        if kind == "key":
            if values or way.manhattanLength() > 3:
                self._press = kind, start, True, span
                self._drag_key(event, False)
        elif kind == "move":
            per_pixel = (values[1] - values[0]) / max(self.height() - _TOP - _FOOT, 1)
            self.low, self.high = (v + way.y() * per_pixel for v in values)
            if not self.band:
                frames = (span[1] - span[0]) / max(self.wide - 28, 1)
                self.scale.show(span[0] - way.x() * frames, span[1] - way.x() * frames)
            self.update()
        elif abs(way.x()) > 4 or abs(way.y()) > 4:
            frames = sorted(min(max(round(self.frame_at(p.x())), 0), self.session.frames - 1) for p in (start, place))
            low, high = sorted(self.value_at(p.y()) for p in (start, place))
            self.select((*frames, low, high))

    def mouseReleaseEvent(self, event):
        if self._press is not None and self._press[0] == "key" and self._press[2]:
            self._drag_key(event, True)
        if self._press is not None and self._press[0] == "box":
            way = event.position() - self._press[1]
            if abs(way.x()) <= 4 and abs(way.y()) <= 4:
                self.select(None)
                self.session.seek(round(self.frame_at(event.position().x())))
        self._press = self._held = None
        self.unsetCursor()

    def mouseDoubleClickEvent(self, _event):
        self.select(None)
        self.scale.show_whole()
        self.fit()

    def wheelEvent(self, event):
        delta = event.angleDelta().y() or event.angleDelta().x()
        if event.modifiers() & (Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.AltModifier) or self.band:
            at, factor = self.value_at(event.position().y()), 0.999**delta
            self.low, self.high = (at + (v - at) * factor for v in (self.low, self.high))
            self.update()
        elif event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self.scale.move(-delta / 1200)
        else:
            self.scale.zoom(event.position().x() - self._left, self.wide, delta)
        event.accept()

    def keyPressEvent(self, event):
        if event.key() == Qt.Key.Key_F:
            self.fit()
        else:
            super().keyPressEvent(event)

    def _tell(self, event):
        """The value of the curve under the pointer."""
        place = event.position()
        frame = round(self.frame_at(place.x()))
        near = [c for c in self.new if 0 <= frame < len(c.values) and abs(self.y_of(c.values[frame]) - place.y()) < 6]
        if self.band or not near:
            QToolTip.hideText()
            return
        curve = near[0]
        old = next(
            (c for c in self.old if (c.name, c.axis) == (curve.name, curve.axis) and frame < len(c.values)), None
        )
        before = f", before {old.values[frame]:.2f}" if old is not None else ""
        text = f"{curve.name} {curve.axis}, frame {frame}: {curve.values[frame]:.2f} {self.unit}{before}"
        QToolTip.showText(event.globalPosition().toPoint(), text, self)
