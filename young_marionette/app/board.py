"""The string board: both rest poses drawn flat, facing the viewer, with strings from bone to bone."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPainterPath, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from ..core.humanoid.beside import KINDS
from ..core.humanoid.parts import FOUR_LEGS, REQUIRED
from ..core.scene.flat import chosen_joints, laid_out, nearest
from . import theme
from .board_cursor import BoardCursor
from .stage.view import mark

REGIONS = {
    "body": None,
    "head": ("head", "neck", "eye", "jaw"),
    "trunk": ("hips", "spine", "neck", "collarbone"),
    "left arm": ("left collarbone", "left upper arm", "left forearm", "left hand"),
    "right arm": ("right collarbone", "right upper arm", "right forearm", "right hand"),
    "left hand": ("left hand", "left thumb", "left index", "left middle", "left ring", "left little"),
    "right hand": ("right hand", "right thumb", "right index", "right middle", "right ring", "right little"),
    "legs": (
        "hips",
        "left thigh",
        "left shin",
        "left foot",
        "left toes",
        "right thigh",
        "right shin",
        "right foot",
        "right toes",
    ),
}
HANDS = ("left hand", "right hand")
_HIT = 11


class StringBoard(QWidget):
    """Drag from a bone to a bone of the other figure to tie them; click a bone or a string to choose its part.

    Shift and a click, or Enter at the keyboard, on a bone of each figure ties them too (``clicked``). Dragging
    within one figure, along a chain, or Shift with the arrow keys, marks a run of bones, which is then tied as one.
    """

    tied = Signal(object, object)
    part_chosen = Signal(object)
    clicked = Signal(str, str)
    pointed = Signal(str)

    def __init__(self):
        super().__init__()
        self.source = self.rig = self.pairing = self.part = None
        self.region, self._drag, self._hover = "body", None, None
        self.places, self.runs, self.hidden = {}, {}, set()
        self.setMinimumHeight(250)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.cursor_ = BoardCursor(self)
        self.setAccessibleName("String board")

    def show_pair(self, source, rig, pairing, part):
        """Show two entries and what is tied between them."""
        if (source and source.skeleton, rig and rig.skeleton) != (
            self.source and self.source.skeleton,
            self.rig and self.rig.skeleton,
        ):
            self.runs, self._hover = {}, None
        self.source, self.rig, self.pairing, self.part = source, rig, pairing, part
        self._lay_out()
        self.update()

    def set_region(self, region):
        """Zoom to a part of the body."""
        self.region = region
        self._lay_out()
        self.update()

    def set_hidden(self, kinds):
        """Leave out bones beside the body of some kinds, see ``humanoid.beside``."""
        self.hidden = set(kinds)
        self._lay_out()
        self.update()

    def resizeEvent(self, _event):
        self._lay_out()

    # --- places ---------------------------------------------------------------------------------
    def entry(self, side):
        """The entry on a side, ``"source"`` or ``"rig"``."""
        return self.source if side == "source" else self.rig

    def _lay_out(self):
        self.places = {}
        if not (self.source and self.rig):
            return
        half = self.width() / 2
        for side, entry, left in (("source", self.source, 0.0), ("rig", self.rig, half)):
            box = QRectF(left + 26, 36, half - 52, self.height() - 68)
            self.places[side] = self._fit(entry, box)

    def _fit(self, entry, box):
        """Places of all joints, which are shown, and which of those are the body's: ``(places (joints, 2), shown, own)``."""
        skeleton, body = entry.placed_skeleton, entry.figure.body
        shown, own, held = chosen_joints(skeleton, body, REGIONS[self.region], self.hidden)
        sides = box.left(), box.top(), box.width(), box.height()
        return (
            laid_out(skeleton, held, sides, self.region in HANDS, body is not None and body.kind == FOUR_LEGS),
            shown,
            own,
        )

    def place(self, side, name):
        """Where a bone of ``"source"`` or ``"rig"`` is on the board (QPointF)."""
        skeleton = self.entry(side).placed_skeleton
        return QPointF(*self.places[side][0][skeleton.index[name]])

    def shown(self, side, name):
        skeleton = self.entry(side).placed_skeleton
        return bool(self.places[side][1][skeleton.index[name]])

    def bone_at(self, point):
        """``(side, name)`` of the bone nearest to a place, or None."""
        best, bone = _HIT, None
        for side, (places, shown, own) in self.places.items():
            # Where both are near, the body's own bone is meant.
            for which, worse in ((own, 0.0), (shown & ~own, 0.5 * _HIT)):
                joint, away = nearest(places, which, (point.x(), point.y()))
                if away + worse < best:
                    best, bone = away + worse, (side, self.entry(side).placed_skeleton.names[joint])
        return bone

    # --- painting -------------------------------------------------------------------------------
    def paintEvent(self, _event):
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(theme.colour("deep"))
        p.drawRoundedRect(QRectF(self.rect()), 10, 10)
        if not self.places:
            p.setPen(theme.colour("quiet"))
            p.drawText(
                QRectF(self.rect()).adjusted(30, 0, -30, 0),
                Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap,
                "Choose a clip and a rig in the library; their bones are tied here.",
            )
            return
        for side, entry, kind, left in (
            ("source", self.source, "performer", 0),
            ("rig", self.rig, "marionette", self.width() / 2),
        ):
            self._paint_figure(p, side, entry, kind)
            mark(p, QPointF(left + 18, 17), kind)
            p.setPen(theme.colour("text"))
            p.setFont(theme.font(12))
            p.drawText(
                QRectF(left + 30, 6, self.width() / 2 - 40, 22),
                Qt.AlignmentFlag.AlignVCenter,
                p.fontMetrics().elidedText(entry.name, Qt.TextElideMode.ElideMiddle, int(self.width() / 2 - 44)),
            )
        if self.pairing:
            self._paint_strings(p)
            self._paint_rings(p)
        p.setPen(QPen(theme.colour("brass"), 2, Qt.PenStyle.DotLine))
        p.setBrush(Qt.BrushStyle.NoBrush)
        for side, run in self.runs.items():
            for name in run:
                p.drawEllipse(self.place(side, name), 8, 8)
        if self._drag and self._drag[2]:
            p.setPen(QPen(theme.colour("brass"), 2))
            p.drawLine(self.place(*self._drag[0]), self._drag[1])
        self.cursor_.check()
        if self.cursor_.at is not None and self.hasFocus():
            p.setPen(QPen(theme.colour("brass"), 2))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawEllipse(self.place(*self.cursor_.at), 10, 10)
        if self._hover:
            self._paint_name(p, *self._hover)

    def _paint_figure(self, p, side, entry, kind):
        places, shown, own = self.places[side]
        skeleton = entry.placed_skeleton
        tint, quiet = theme.colour(kind), theme.colour("text", 74)
        p.save()
        p.setClipRect(QRectF(0 if side == "source" else self.width() / 2, 30, self.width() / 2, self.height() - 34))
        beside = (shown & ~own).nonzero()[0]
        p.setPen(QPen(quiet, 1))
        for joint in beside:
            parent = skeleton.parents[joint]
            if parent >= 0 and shown[parent]:
                p.drawLine(QPointF(*places[parent]), QPointF(*places[joint]))
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(theme.colour("text", 130))
        for joint in beside:
            p.drawEllipse(QPointF(*places[joint]), 1.5, 1.5)
        p.restore()
        for joint in own.nonzero()[0]:
            # Over roll bones, to the next joint of the body.
            above = next((j for j in skeleton.ancestors(int(joint)) if own[j]), None)
            if above is not None:
                _spindle(p, QPointF(*places[above]), QPointF(*places[joint]), tint)
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(tint.lighter(135))
        for joint in own.nonzero()[0]:
            p.drawEllipse(QPointF(*places[joint]), 2.6, 2.6)

    def _visible_strings(self):
        for s in self.pairing.strings:
            if self.shown("source", s.source[0]) and self.shown("rig", s.target[0]):
                yield s

    def _curve(self, s):
        a, b = self.place("source", s.source[0]), self.place("rig", s.target[0])
        path = QPainterPath(a)
        sag = 14 + 0.05 * abs(b.x() - a.x())
        path.cubicTo(
            QPointF(a.x() + (b.x() - a.x()) * 0.35, a.y() + sag),
            QPointF(a.x() + (b.x() - a.x()) * 0.65, b.y() + sag),
            b,
        )
        return path

    def _paint_strings(self, p):
        p.setBrush(Qt.BrushStyle.NoBrush)
        for s in self._visible_strings():
            chosen = s.part == self.part
            pen = QPen(
                theme.colour("brass") if chosen else theme.colour("text", 120 if s.sure else 190),
                2.4 if chosen else 1.1,
            )
            if not s.sure:
                pen.setStyle(Qt.PenStyle.DashLine)
            p.setPen(pen)
            p.drawPath(self._curve(s))
            if chosen:
                for side, names in (("source", s.source), ("rig", s.target)):
                    for name in names:
                        p.drawEllipse(self.place(side, name), 6, 6)

    def _paint_rings(self, p):
        """An open ring at each required bone that has no string."""
        tied = {s.part for s in self.pairing.strings}
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(theme.colour("alarm"), 2))
        for side, entry in (("source", self.source), ("rig", self.rig)):
            for part, run in (entry.figure.body.parts if entry.figure.body else {}).items():
                if (
                    part in REQUIRED
                    and part not in tied
                    and part not in self.pairing.absent
                    and self.places[side][1][run[0]]
                ):
                    p.drawEllipse(QPointF(*self.places[side][0][run[0]]), 7.5, 7.5)

    def _paint_name(self, p, side, name):
        place = self.place(side, name)
        p.setFont(theme.font(11))
        width = p.fontMetrics().horizontalAdvance(name) + 16
        box = QRectF(min(max(place.x() - width / 2, 4), self.width() - width - 4), place.y() - 32, width, 21)
        p.setPen(QPen(theme.colour("line"), 1))
        p.setBrush(theme.colour("lifted"))
        p.drawRoundedRect(box, 6, 6)
        p.setPen(theme.colour("text"))
        p.drawText(box, Qt.AlignmentFlag.AlignCenter, name)

    # --- pointer --------------------------------------------------------------------------------
    def part_of(self, side, name):
        """The part that a bone is tied for, else the part that it was read as, else None."""
        if self.pairing:
            for s in self.pairing.strings:
                if name in (s.source if side == "source" else s.target):
                    return s.part
        entry = self.entry(side)
        joint = entry.placed_skeleton.index[name]
        return next(
            (part for part, run in (entry.figure.body.parts if entry.figure.body else {}).items() if joint in run), None
        )

    def kind_of(self, side, name):
        """What a bone is beside the body, or None."""
        entry = self.entry(side)
        joint = entry.placed_skeleton.index[name]
        body = entry.figure.body
        return next((kind for kind, joints in (body.beside if body else {}).items() if joint in joints), None)

    def kinds(self):
        """How many bones of each kind both figures have beside their bodies."""
        found = {}
        for entry in filter(None, (self.source, self.rig)):
            for kind, joints in (entry.figure.body.beside if entry.figure.body else {}).items():
                found[kind] = found.get(kind, 0) + len(joints)
        return {kind: found[kind] for kind in KINDS if kind in found}

    def mousePressEvent(self, event):
        bone = self.bone_at(event.position())
        if bone and event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self.clicked.emit(*bone)
            return
        self._drag = (bone, event.position(), False) if bone else None
        if bone:
            self.part_chosen.emit(self.part_of(*bone))
        else:
            self.part_chosen.emit(self._string_at(event.position()))

    def _string_at(self, point):
        if not self.pairing or not self.places:
            return None
        box = QRectF(point.x() - 4, point.y() - 4, 8, 8)
        return next(
            (
                s.part
                for s in self._visible_strings()
                if self._curve(s).intersects(box) and not self._curve(s).contains(box)
            ),
            None,
        )

    def mouseMoveEvent(self, event):
        if self._drag:
            self._drag = (self._drag[0], event.position(), True)
        self._hover = self.bone_at(event.position()) if self.places else None
        if self._hover:
            self.show_hover(*self._hover)
        self.update()

    def show_hover(self, side, name):
        """Name a bone, under the pointer or where the keyboard stands."""
        self._hover = side, name
        self.pointed.emit(f"{name}: {self.part_of(side, name) or self.kind_of(side, name) or 'no known part'}")
        self.update()

    def event(self, event):
        """The arrow keys are the board's while it has the focus, not the timeline's."""
        if event.type() == QEvent.Type.ShortcutOverride and self.cursor_.handles(event):
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event):
        if not self.cursor_.press(event):
            super().keyPressEvent(event)

    def focusOutEvent(self, event):
        self._hover = None
        self.update()
        super().focusOutEvent(event)

    def run_with(self, side, name):
        """The marked run that a bone belongs to, else the bone alone."""
        run = self.runs.get(side, ())
        return run if name in run else (name,)

    def mouseReleaseEvent(self, event):
        drag, self._drag = self._drag, None
        if drag and drag[2]:
            bone = self.bone_at(event.position())
            if bone and bone[0] != drag[0][0]:
                ends = {side: self.run_with(side, name) for side, name in (drag[0], bone)}
                self.runs = {}
                self.tied.emit(ends["source"], ends["rig"])
            elif bone and bone[1] != drag[0][1]:
                self.mark_run(bone[0], drag[0][1], bone[1])
        elif drag:
            self.runs.pop(drag[0][0], None)
        self.update()

    def mark_run(self, side, one, other):
        """Mark the bones from one to another below it as a run; nothing where neither is above the other."""
        skeleton = self.entry(side).placed_skeleton
        ends = sorted((skeleton.index[one], skeleton.index[other]))
        chain = [ends[1], *skeleton.ancestors(ends[1])]
        if ends[0] in chain:
            self.runs[side] = tuple(skeleton.names[j] for j in chain[: chain.index(ends[0]) + 1][::-1])
            self.pointed.emit(f"Chain of {len(self.runs[side])} bones: drag it to the other figure to tie it")

    def leaveEvent(self, _event):
        self._hover = None
        self.update()


def _spindle(p, a, b, tint):
    """A slim turned shape from joint to joint."""
    way = b - a
    length = (way.x() ** 2 + way.y() ** 2) ** 0.5
    if length < 1:
        return
    across = QPointF(-way.y(), way.x()) / length * min(4.5, 0.16 * length)
    path = QPainterPath(a)
    path.quadTo(a + way * 0.3 + across * 2, b)
    path.quadTo(a + way * 0.3 - across * 2, a)
    shade = tint.darker(170)
    p.setPen(QPen(tint, 1))
    p.setBrush(shade)
    p.drawPath(path)
