"""The stage's widget: paints the picture, turns the camera, picks bones."""

from __future__ import annotations

import math
import time
from dataclasses import replace

from PySide6.QtCore import QPoint, QPointF, QRectF, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QFontMetricsF, QPainter, QPen, QPixmap
from PySide6.QtWidgets import QHBoxLayout, QWidget

from ...core.scene.camera import VIEWS, Camera, project
from ...core.scene.picking import NEAREST, direction, footing, pick, to_frame, turn_between
from .. import theme
from ..parts.widgets import tool
from .painter import PainterRenderer
from .tackle import TacklePainter

PICK_WITHIN = 12
RING, KNOB = 44, 8
_AROUND = RING + 6
_MANY = 40  # pictures that are kept
_LEAST = 0.6  # of a caption's width that has to be there beside another one
CONTROLS = "controls"
MOVING_PIXELS = 1_300_000  # of a picture that moves: larger ones are drawn coarser, and whole when they rest
HEAVY = 0.2  # seconds for a moving picture: bodies that take longer are shown at rest only
ARRANGEMENTS = ("beside", "over", "performer", "marionette")


def make_renderer(software=False):
    """The best renderer that works here, and a sentence if it is not the usual one."""
    if not software:
        try:
            from .renderer import StageRenderer

            return StageRenderer(), ""
        except Exception as error:  # whatever a driver comes up with, the stage must still show figures
            return PainterRenderer(), f"No OpenGL here ({type(error).__name__}); the stage is drawn without it."
    return PainterRenderer(), "The stage is drawn without OpenGL."


class StageView(QWidget):
    """Shows figures. ``picked(kind, joint)``: a bone was clicked; ``pointed(text)``: what is under the pointer.

    ``handle``: a joint of the figure of the kind ``handled`` that has a ring to turn it by; ``turned(joint, vector, settled)``
    tells the turn in the world (radians), the last time with ``settled``. Where it is ``movable``, its middle can be
    dragged, too: ``moved(joint, shift, settled)`` tells the way in the world (metres).
    """

    picked = Signal(str, int)
    control_picked = Signal(str, bool)
    tie_picked = Signal(str, int)
    pointed = Signal(str)
    turned = Signal(int, object, bool)
    moved = Signal(int, object, bool)
    arrangement_asked = Signal(str)
    frame_asked = Signal()
    dress_asked = Signal()
    drawn = Signal()
    too_heavy = Signal()

    def __init__(self, renderer):
        super().__init__()
        self.renderer, self.camera = renderer, Camera()
        self.figures, self.lines, self.captions, self.empty_text = [], (), True, ""
        self.names = ()  # (text, place) of what is written beside points
        self._image, self._stale, self._fine = None, True, False
        self._begun = None  # what gives the picture that is being drawn
        self._heavy, self._slow = (), 0
        self._press, self._dragged, self.busy = None, False, False
        self.handle, self._turning = None, None
        self._painted = {}  # pictures of captions and handles, by all that decides how they look
        self.handled, self.movable, self._moving = "marionette", False, None
        self.turnable = True  # what has the handle: else it has no ring
        self.tackle = TacklePainter(self)
        # The picture covers all: nothing has to be painted beneath it.
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setMouseTracking(True)
        self.setMinimumSize(320, 240)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Stage")
        self._settle = QTimer(self, singleShot=True, interval=160)
        self._settle.timeout.connect(self._draw_fine)
        self._glide = QTimer(self, interval=16)
        self._glide.timeout.connect(self._glided)
        self._build_tools()

    def _build_tools(self):
        bar = QHBoxLayout(self)
        bar.setContentsMargins(12, 10, 12, 10)
        bar.setSpacing(2)
        bar.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.arrange = {}
        for name, icon, tip in (
            ("beside", "beside", "Side by side (V cycles)"),
            ("over", "over", "Overlaid (V cycles)"),
        ):
            self.arrange[name] = tool(icon, tip, lambda n=name: self.arrangement_asked.emit(n), True)
            bar.addWidget(self.arrange[name])
        for name, side in (("performer", "source"), ("marionette", "target")):
            button = tool("front", f"Only the {side} (V cycles)", lambda n=name: self.arrangement_asked.emit(n), True)
            from .. import icons

            button.setIcon(icons.icon("front", name))
            self.arrange[name] = button
            bar.addWidget(button)
        bar.addStretch(1)
        self.follow = tool("follow", "Follow the hips (H)", None, True)
        self.trails = tool("trail", "Trails of hands and feet (T)", None, True)
        bar.addWidget(tool("body", "Bodies, see-through, bones only (B cycles)", self.dress_asked.emit))
        bar.addWidget(self.trails)
        bar.addWidget(self.follow)
        for name, tip in (
            ("front", "From the front (C cycles)"),
            ("side", "From the side (C cycles)"),
            ("top", "From above (C cycles)"),
        ):
            bar.addWidget(tool(name, tip, lambda n=name: self.look_from(n)))
        bar.addWidget(tool("frame", "Frame the figures (Home)", self.frame_asked.emit))

    # --- content --------------------------------------------------------------------------------
    def show_figures(self, figures, lines=()):
        """Show other figures, or the same in another pose."""
        self.figures, self.lines = list(figures), lines
        self.refresh()

    def refresh(self):
        """Draw anew at the next paint."""
        self._stale, self._fine, self._begun = True, False, None
        self._settle.start()
        self.update()

    def look_from(self, view):
        """Glide to a named view."""
        yaw, pitch = VIEWS[view]
        self.camera.glide(yaw=yaw, pitch=pitch)
        self._glide.start()

    def frame(self, glide=True):
        """Bring all figures into view."""
        if self.figures:
            self.camera.look_at(to_frame(self.figures), self.width() / max(self.height(), 1), glide)
            self._glide.start()
            self.refresh()

    def _glided(self):
        self.refresh()
        if not self.camera.moving:
            self._glide.stop()

    def _draw_fine(self):
        # The smooth picture is for eyes at rest; while long work runs, the quick one is enough.
        if self.busy:
            self._settle.start()
            return
        self._fine, self._stale, self._begun = True, True, None
        self.update()

    # --- painting -------------------------------------------------------------------------------
    def begin(self):
        """Let the picture be drawn while something else is done; the next paint shows it."""
        size, began = self._pixels(), time.perf_counter()
        figures = [self._bearable(f) for f in self.figures]
        self._begun = (
            self.renderer.begin(size, self.camera.pose, figures, self.lines, self._fine),
            size,
            figures,
            time.perf_counter() - began,
        )

    def _take(self):
        """Take the picture that is being drawn."""
        give, _, figures, spent = self._begun
        began = time.perf_counter()
        self._image, self._begun = give(), None
        self._weigh(figures, spent + time.perf_counter() - began)
        self._stale = False
        self.drawn.emit()

    def paintEvent(self, _event):
        size = self._pixels()
        stale = self._stale or self._image is None or (self._image.width(), self._image.height()) != size
        if stale and (self._begun is None or self._begun[1] != size):
            self.begin()
        lines = self.tackle.lines(self._fine)
        if stale:
            self._take()
        painter = QPainter(self)
        coarse = self._coarse()
        # Each pixel becomes a square of whole pixels: quick, and even.
        painter.save()
        painter.scale(coarse / self.devicePixelRatioF(), coarse / self.devicePixelRatioF())
        painter.drawImage(0, 0, self._image)
        painter.restore()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self.tackle.paint(painter, lines, self._fine)
        # No control may cross out a text.
        if self.captions:
            self._paint_captions(painter)
        if self.names:
            self._paint_names(painter)
        if self.handle is not None:
            self._paint_handle(painter)
        if not self.figures and self.empty_text:
            self._paint_empty(painter)
        painter.end()

    def _coarse(self):
        """How many pixels of the screen, on each side, one of the picture covers: one at rest."""
        if self._fine or isinstance(self.renderer, PainterRenderer):
            return 1
        pixels = self.width() * self.height() * self.devicePixelRatioF() ** 2
        return max(math.ceil((pixels / MOVING_PIXELS) ** 0.5), 1)

    def _pixels(self):
        """``(width, height)`` of the picture to be drawn."""
        ratio = self.devicePixelRatioF() / self._coarse()
        return max(math.ceil(self.width() * ratio), 2), max(math.ceil(self.height() * ratio), 2)

    def _bearable(self, figure):
        """The figure, or its bones where its body was found to take too long for a picture that moves."""
        if self._fine or not any(figure.character is heavy for heavy in self._heavy):
            return figure
        return replace(figure, dress="bones", _segments=None)

    def _weigh(self, figures, seconds):
        bodies = tuple(f.character for f in figures if f.shows_body)
        if self._fine or not bodies:
            return
        # The first picture of a body also brings it onto the card: only one that is far too slow tells all by itself.
        self._slow = self._slow + 1 if seconds > HEAVY else 0
        if self._slow > 2 or seconds > 10 * HEAVY:
            self._heavy, self._slow = bodies, 0
            self.too_heavy.emit()

    def _size(self):
        return self.width(), self.height()

    def _matrix(self):
        return self.camera.pose.matrix(self.width() / max(self.height(), 1))

    def _paint_captions(self, painter):
        painter.setFont(theme.font(12))
        metrics = QFontMetricsF(painter.font())
        taken, feet = [], []
        for figure in (f for f in self.figures if f.name and not f.ghost):
            place = footing(figure, self._matrix(), self._size())
            if place is not None:
                feet.append((figure, *place))
        for figure, middle, _low in feet:
            # Under all figures that stand in this one's way, so that no caption lies on another's feet.
            below = max(low for _, x, low in feet if abs(x - middle) < 90)
            width = metrics.horizontalAdvance(figure.name) + 30
            x = min(max(middle - width / 2, 8), max(self.width() - width - 8, 8))
            box = QRectF(x, min(below + 14, self.height() - 32), width, 22)
            for other in (one for one in taken if one.left() <= box.left() and one.intersects(box)):
                # Rather to the right, and with less of its name, than elsewhere: a name that jumps is in the way.
                room = self.width() - 8 - (other.right() + 6)
                if room > _LEAST * width:
                    box.setWidth(min(width, room))
                    box.moveLeft(other.right() + 6)
            while any(box.intersects(other) for other in taken):
                box.translate(0, 26)
            if box.bottom() > self.height() - 6:
                box.moveBottom(min([other.top() for other in taken], default=self.height()) - 4)
            taken.append(box)
            size = QSize(math.ceil(box.width()), math.ceil(box.height()))
            painter.drawPixmap(
                box.topLeft().toPoint(), self._once(("caption", figure.name, figure.kind), size, self._paint_caption)
            )

    @staticmethod
    def _paint_caption(painter, size, name, kind):
        box = QRectF(QPointF(), size)
        painter.setFont(theme.font(12))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("base", 200))
        painter.drawRoundedRect(box, 11, 11)
        mark(painter, QPointF(12, box.center().y()), kind)
        painter.setPen(theme.colour("text"))
        text = QFontMetricsF(painter.font()).elidedText(name, Qt.TextElideMode.ElideMiddle, box.width() - 28)
        painter.drawText(box.adjusted(22, 0, -6, 0), Qt.AlignmentFlag.AlignVCenter, text)

    def _once(self, look, size, paint):
        """A picture that ``paint(painter, size, *look[1:])`` paints once for each look: soft edges and texts take long."""
        ratio = self.devicePixelRatioF()
        known = look, size.toTuple(), ratio, theme.colour("brass").rgba(), theme.colour("base").rgba()
        if known not in self._painted:
            if len(self._painted) > _MANY:
                self._painted.clear()
            picture = QPixmap(size * ratio)
            picture.setDevicePixelRatio(ratio)
            picture.fill(Qt.GlobalColor.transparent)
            painter = QPainter(picture)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            paint(painter, size, *look[1:])
            painter.end()
            self._painted[known] = picture
        return self._painted[known]

    def _paint_names(self, painter):
        """Names beside points; one that would lie on another is left out."""
        painter.setFont(theme.font(11))
        metrics, taken = QFontMetricsF(painter.font()), []
        for text, place in self.names:
            (at,), (depth,) = project(self._matrix(), place[None], *self._size())
            box = QRectF(at[0] + 7, at[1] - 16, metrics.horizontalAdvance(text) + 4, 15)
            if depth > NEAREST and not any(box.intersects(other) for other in taken):
                taken.append(box)
                painter.setPen(theme.colour("deep"))
                painter.drawText(box.translated(1, 1), Qt.AlignmentFlag.AlignVCenter, text)
                painter.setPen(theme.colour("text"))
                painter.drawText(box, Qt.AlignmentFlag.AlignVCenter, text)

    def _paint_empty(self, painter):
        painter.setPen(theme.colour("quiet"))
        painter.setFont(theme.font(14))
        painter.drawText(
            QRectF(self.rect()).adjusted(40, 40, -40, -40),
            Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap,
            self.empty_text,
        )

    # --- pointer --------------------------------------------------------------------------------
    def pick(self, point):
        """``(figure, joint)`` of the bone nearest to a place on the widget, or None."""
        return pick(self.figures, self._matrix(), self._size(), (point.x(), point.y()), PICK_WITHIN)

    def _paint_handle(self, painter):
        centre = self.place_of(self.handled, self.handle)
        if centre is None:
            return
        look = "handle", self.turnable, self.movable
        picture = self._once(look, QSize(2 * _AROUND, 2 * _AROUND), self._paint_ring)
        painter.drawPixmap(QPointF(centre).toPoint() - QPoint(_AROUND, _AROUND), picture)

    @staticmethod
    def _paint_ring(painter, size, turnable, movable):
        """Ring and knob of the handle, about the middle."""
        centre = QPointF(size.width() / 2, size.height() / 2)
        if turnable:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(theme.colour("deep", 160), 5))
            painter.drawEllipse(centre, RING, RING)
            painter.setPen(QPen(theme.colour("brass"), 2.4))
            painter.drawEllipse(centre, RING, RING)
        painter.setBrush(theme.colour("brass"))
        for x, y in ((RING, 0), (-RING, 0), (0, RING), (0, -RING)) if turnable else ():
            painter.drawEllipse(centre + QPointF(x, y), 4, 4)
        if movable:
            painter.setPen(QPen(theme.colour("deep", 160), 4))
            painter.drawEllipse(centre, KNOB, KNOB)

    def _angle(self, point):
        """Direction of a place from the handle's middle, and how far it is from the ring."""
        centre = self.place_of(self.handled, self.handle)
        if centre is None:
            return 0.0, math.inf
        way = point - QPointF(centre)
        angle, length = direction((way.x(), way.y()))
        return angle, abs(length - RING)

    def _turn(self, point):
        angle, _ = self._angle(point)
        step, self._turning = turn_between(self._turning, angle), angle
        self.turned.emit(self.handle, self.camera.pose.axes[2] * step, False)

    def _angle_length(self, point):
        """How far a place is from the handle's middle."""
        centre = self.place_of(self.handled, self.handle)
        return math.inf if centre is None else math.hypot(point.x() - centre.x(), point.y() - centre.y())

    def _move(self, point):
        """Tell the way of the pointer, in the plane of the picture at the handle's depth."""
        place = self._world_of(self.handled, self.handle)
        if place is None:
            return
        way, self._moving = point - self._moving, point
        size = self.camera.pose.size_at(place, self.height())
        right, up, _ = self.camera.pose.axes
        self.moved.emit(self.handle, (right * way.x() - up * way.y()) * size, False)

    def mousePressEvent(self, event):
        if self.handle is not None and event.button() == Qt.MouseButton.LeftButton:
            angle, away = self._angle(event.position())
            if away < 9 and self.turnable:
                self._turning = angle
                return
            if self.movable and away > RING - KNOB - 3 and self._angle_length(event.position()) < KNOB + 3:
                self._moving = event.position()
                return
        self._press, self._dragged = (event.position(), event.button(), event.modifiers()), False

    def mouseMoveEvent(self, event):
        if self._turning is not None:
            self._turn(event.position())
            return
        if self._moving is not None:
            self._move(event.position())
            return
        if self._press is None:
            control = self.tackle.pick(event.position())
            if (control and control.name) != self.tackle.under:
                self.tackle.under = control and control.name
                self.update()
            if control is not None:
                self.setCursor(Qt.CursorShape.PointingHandCursor)
                self.pointed.emit(control.name)
                return
            picked = self.pick(event.position())
            self.setCursor(Qt.CursorShape.PointingHandCursor if picked else Qt.CursorShape.ArrowCursor)
            told = filter(None, (picked[0].name, self.bone_name(*picked))) if picked else ()
            self.pointed.emit(": ".join(told))
            return
        start, button, modifiers = self._press
        way = event.position() - start
        if not self._dragged and way.manhattanLength() < 4:
            return
        self._dragged = True
        if button == Qt.MouseButton.LeftButton and not modifiers & Qt.KeyboardModifier.ShiftModifier:
            self.camera.orbit(way.x(), way.y())
        else:
            self.camera.pan(way.x(), way.y(), self.height())
        self._press = (event.position(), button, modifiers)
        self.refresh()

    def mouseReleaseEvent(self, event):
        if self._turning is not None:
            self._turning = None
            self.turned.emit(self.handle, (0.0, 0.0, 0.0), True)
            return
        if self._moving is not None:
            self._moving = None
            self.moved.emit(self.handle, (0.0, 0.0, 0.0), True)
            return
        if self._press is not None and not self._dragged and event.button() == Qt.MouseButton.LeftButton:
            control = self.tackle.pick(event.position())
            if control is not None:
                self.control_picked.emit(control.name, bool(self._press[2] & Qt.KeyboardModifier.ControlModifier))
                self._press = None
                return
            picked = self.pick(event.position())
            signal = self.tie_picked if self._press[2] & Qt.KeyboardModifier.ShiftModifier else self.picked
            signal.emit(picked[0].kind if picked else "", picked[1] if picked else -1)
        self._press = None

    def wheelEvent(self, event):
        self.camera.zoom(0.999 ** event.angleDelta().y())
        self.refresh()

    bone_names = None

    def bone_name(self, figure, joint):
        """The name of a picked joint; the window tells where names come from."""
        return self.bone_names(figure, joint) if self.bone_names else str(joint)

    def set_arrangement(self, name):
        """Show which arrangement is on."""
        for key, button in self.arrange.items():
            button.setChecked(key == name)

    def _world_of(self, kind, joint):
        """Where a joint of the figure of a kind is on the stage ``(3,)``, or None; ``kind`` CONTROLS: a control."""
        if kind == CONTROLS:
            return self.tackle.place_of(joint)
        return next((f.placed[joint] for f in self.figures if f.kind == kind and not f.ghost), None)

    def place_of(self, kind, joint):
        """As on the stage, on the widget (QPoint), or None."""
        place = self._world_of(kind, joint)
        if place is None:
            return None
        flat, _ = project(self._matrix(), place[None], self.width(), self.height())
        return QPoint(*map(int, flat[0]))


def mark(painter, centre, kind, size=5.0):
    """The mark of a kind: a disc for the performer, a diamond for the marionette, a ring for a baked clip."""
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.colour(kind if kind in theme.NIGHT else "quiet"))
    if kind == "marionette":
        painter.save()
        painter.translate(centre)
        painter.rotate(45)
        painter.drawRect(QRectF(-size * 0.8, -size * 0.8, size * 1.6, size * 1.6))
        painter.restore()
    elif kind == "baked":
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(theme.colour("baked"), 2.2))
        painter.drawEllipse(centre, size * 0.85, size * 0.85)
    else:
        painter.drawEllipse(centre, size, size)
