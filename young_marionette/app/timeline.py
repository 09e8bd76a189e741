"""The timeline: play and step, the frames with range handles and playhead, frame and time."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPainterPath, QPen, QPolygonF
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QScrollArea, QSizePolicy, QSplitter, QVBoxLayout, QWidget

from ..project.entry import Entry
from . import icons, theme
from .curves.panel import CurvePanel
from .lanes.drawing import HEIGHT
from .lanes.view import Lanes
from .parts.ground import Ground
from .parts.widgets import label, tool
from .session import SPEEDS
from .timescale import TimeScale

BAR = 74  # pixels: the bar's height
_STEPS = (1, 2, 5, 10, 20, 30, 50, 60, 100, 120, 200, 300, 500, 600, 1000, 2000, 5000)


class Track(QWidget):
    """Frames from left to right. Drag to move the playhead, drag a handle to set the range; the wheel zooms."""

    def __init__(self, session, scale):
        super().__init__()
        self.session, self.scale = session, scale
        self.setMinimumHeight(54)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Timeline")
        self._grab = None
        self._ground = Ground(self, self._paint_ground)
        self.setMouseTracking(True)
        for signal in (session.frame_changed, session.preview_changed, scale.changed):
            signal.connect(self.update)
        session.listen(("entries", "bakes", "source"), self.update)

    def x_of(self, frame):
        """Where a frame stands."""
        return self.scale.x_of(frame, self.width())

    def frame_at(self, x):
        """The frame at a place."""
        return self.scale.frame_at(x, self.width())

    def paintEvent(self, _event):
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        # All but the playhead, which alone moves while a clip plays.
        session = self.session
        of = self.scale.span, session.range, session.frames, session.clip is None, self._grounded()
        p.drawPixmap(0, 0, self._ground.picture(*of))
        if self.session.clip:
            x = self.x_of(self.session.frame)
            p.setPen(QPen(theme.colour("brass"), 2))
            p.drawLine(QPointF(x, 15), QPointF(x, 46))
            p.setBrush(theme.colour("brass"))
            p.drawEllipse(QPointF(x, 13), 4.5, 4.5)

    def _paint_ground(self, p):
        bar = QRectF(14, 24, self.width() - 28, 16)
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(theme.colour("raised"))
        p.drawRoundedRect(bar, 5, 5)
        if not self.session.clip:
            p.setPen(theme.colour("quiet"))
            p.drawText(bar, Qt.AlignmentFlag.AlignCenter, "no clip yet")
            return
        a, b = (min(max(self.x_of(f), 4), self.width() - 4) for f in self.session.range)
        p.setBrush(theme.colour("lifted"))
        p.drawRoundedRect(QRectF(a, 24, max(b - a, 2), 16), 4, 4)
        self._paint_ruler(p)
        self._paint_grounded(p)
        for x, lean in ((a, 1), (b, -1)):
            handle = QPainterPath(QPointF(x, 21))
            for dx, dy in ((6 * lean, 0), (0, 22), (-6 * lean, 0)):
                handle.lineTo(handle.currentPosition() + QPointF(dx, dy))
            p.setBrush(theme.colour("quiet"))
            p.setPen(Qt.PenStyle.NoPen)
            p.drawPath(handle)

    def _grounded(self):
        """The frames that the clip was put on the floor in."""
        clip = self.session.clip
        return (clip.correction.grounded if isinstance(clip, Entry) else None) or ()

    def _paint_grounded(self, p):
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(theme.colour("text"))
        for frame in self._grounded():
            x = self.x_of(frame)
            p.drawRect(QRectF(x - 4, 36, 8, 2))
            p.drawPolygon(QPolygonF([QPointF(x - 3, 30), QPointF(x + 3, 30), QPointF(x, 35)]))

    def _paint_ruler(self, p):
        first, last = self.scale.span
        per_frame = (self.width() - 28) / max(last - first, 1e-9)
        step = next((s for s in _STEPS if s * per_frame >= 52), _STEPS[-1])
        p.setFont(theme.font(10, tabular=True))
        frame = -(-int(first) // step) * step
        while frame <= last:
            x = self.x_of(frame)
            p.setPen(QPen(theme.colour("line").lighter(130), 1))
            p.drawLine(QPointF(x, 34), QPointF(x, 40))
            p.setPen(theme.colour("quiet"))
            p.drawText(QRectF(x - 24, 41, 48, 14), Qt.AlignmentFlag.AlignCenter, str(frame))
            frame += step

    def _near_handle(self, x):
        ends = [abs(self.x_of(f) - x) for f in self.session.range]
        return None if min(ends) > 8 else int(ends[1] < ends[0])

    def mousePressEvent(self, event):
        x, y = event.position().x(), event.position().y()
        handle = self._near_handle(x)
        # Over the bar's upper edge the playhead wins, on the bar the handle under the pointer.
        self._grab = "playhead" if handle is None or y < 18 else handle
        self._move(x)

    def mouseMoveEvent(self, event):
        if self._grab is not None:
            self._move(event.position().x())
        else:
            near = self._near_handle(event.position().x()) is not None and event.position().y() >= 18
            self.setCursor(Qt.CursorShape.SizeHorCursor if near else Qt.CursorShape.ArrowCursor)

    def _move(self, x):
        frame, (first, last) = self.frame_at(x), self.session.range
        if self._grab == "playhead":
            self.session.seek(frame)
        elif self._grab == 0:
            self.session.set_range(min(frame, last), last)
        else:
            self.session.set_range(first, max(frame, first))

    def mouseReleaseEvent(self, _event):
        self._grab = None

    def mouseDoubleClickEvent(self, _event):
        self.scale.show_whole()
        self.session.set_range(0, self.session.frames - 1)

    def wheelEvent(self, event):
        self.scale.zoom(event.position().x(), self.width(), event.angleDelta().y())


class Timeline(QWidget):
    """The strip below the stage: the bar, and over it lanes that can be shown and hidden.

    ``asked``: somebody wants lanes shown or hidden.
    """

    asked = Signal()
    curves_asked = Signal()

    def __init__(self, session):
        super().__init__()
        self.session = session
        self.scale = TimeScale(session)
        self.lanes = Lanes(session, self.scale)
        self.curves = CurvePanel(session, self.scale)
        self.curves.hide()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        self.area = QScrollArea()
        self.area.setWidgetResizable(True)
        self.area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.area.setWidget(self.lanes)
        self.area.viewport().setAutoFillBackground(False)
        self.lanes.setAutoFillBackground(False)
        self.area.hide()
        self.halves = QSplitter(Qt.Orientation.Vertical)
        self.halves.setHandleWidth(4)
        self.halves.setChildrenCollapsible(False)
        self.halves.addWidget(self.curves)
        self.halves.addWidget(self.area)
        self.halves.setStretchFactor(0, 1)
        column.addWidget(self.halves, 1)
        self.bar = QWidget()
        self.bar.setFixedHeight(BAR)
        column.addWidget(self.bar)
        layout = QHBoxLayout(self.bar)
        layout.setContentsMargins(12, 6, 14, 6)
        layout.setSpacing(4)
        self.start = tool("start", "Go to the start of the range (Shift+Left)", lambda: session.seek(session.range[0]))
        self.back = tool("back", "One frame back (Left)", lambda: session.seek(session.frame - 1))
        self.play = tool("play", "Play (Space)", session.play)
        self.forward = tool("forward", "One frame on (Right)", lambda: session.seek(session.frame + 1))
        self.end = tool("end", "Go to the end of the range (Shift+Right)", lambda: session.seek(session.range[1]))
        self.loop = tool("loop", "Play in a loop (L)", None, True)
        self.loop.setChecked(session.loop)
        self.loop.toggled.connect(lambda on: setattr(session, "loop", on))
        for widget in (self.start, self.back, self.play, self.forward, self.end, self.loop):
            layout.addWidget(widget)
        self.speed = QComboBox()
        self.speed.setAccessibleName("Speed")
        self.speed.setToolTip("Speed of play")
        self.speed.setFixedWidth(72)
        for speed in SPEEDS:
            self.speed.addItem(f"{speed:g} ×", speed)
        self.speed.setCurrentIndex(SPEEDS.index(1.0))
        self.speed.activated.connect(lambda i: session.set_speed(SPEEDS[i]))
        layout.addWidget(self.speed)
        self.unfold = tool("lanes", "Contacts and deviation over the timeline (N)", self.asked.emit, True)
        layout.addWidget(self.unfold)
        self.unfold_curves = tool("curve", "Curves over the timeline (Shift+N)", self.curves_asked.emit, True)
        layout.addWidget(self.unfold_curves)
        self.track = Track(session, self.scale)
        layout.addWidget(self.track, 1)
        self.clock = label("")
        self.clock.setFont(theme.font(12, tabular=True))
        self.clock.setFixedWidth(128)
        self.clock.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        layout.addWidget(self.clock)
        for signal in (session.frame_changed, session.preview_changed):
            signal.connect(self._show_time)
        session.listen(("entries", "bakes", "source"), self._show_time)
        session.playing_changed.connect(self._show_playing)
        self.track.installEventFilter(self)
        self.show_lanes(False)
        self._show_time()

    @property
    def open(self):
        """Whether lanes are shown."""
        return self.area.isVisibleTo(self)

    @property
    def curves_open(self):
        """Whether curves are shown."""
        return self.curves.isVisibleTo(self)

    def show_lanes(self, lanes, curves=False):
        """Show or hide lanes and curves."""
        self.area.setVisible(lanes)
        self.curves.setVisible(curves)
        self.halves.setVisible(lanes or curves)
        self.unfold.setChecked(lanes)
        self.unfold_curves.setChecked(curves)
        least = (3 * HEIGHT if lanes else 0) + (150 if curves else 0)
        self.setMaximumHeight(16_777_215 if least else BAR)
        self.setMinimumHeight(BAR + least)

    def eventFilter(self, watched, event):
        """Lanes lie over the bar's frames, wherever those are."""
        if event.type() in (QEvent.Type.Resize, QEvent.Type.Move):
            self.lanes.place(self.track.x(), self.track.width())
            self.curves.place(self.track.x(), self.track.width())
        return super().eventFilter(watched, event)

    def _show_time(self):
        s = self.session
        if s.clip:
            self.clock.setText(f"frame {s.frame} of {s.frames - 1}\n{s.frame / s.rate:.2f} s   {s.rate:g} fps")
        else:
            self.clock.setText("")

    def _show_playing(self):
        self.play.setIcon(
            icons.icon("pause" if self.session.playing else "play", "brass" if self.session.playing else "text")
        )
        self.play.setToolTip("Stop (Space)" if self.session.playing else "Play (Space)")
