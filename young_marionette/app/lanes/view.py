"""The lanes' widget: draws them, folds groups, and edits contacts by mouse and by keyboard."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPainterPath, QPen
from PySide6.QtWidgets import QMenu, QSizePolicy, QToolTip

from ...project.bakes import Bake
from ...project.lanes import rows
from ...project.markers.showing import residual_rows
from ...wording.findings import counted
from ...wording.passes import key_words
from .. import settings, theme
from ..parts.ground import Ground
from ..parts.placed import OverFrames
from .drawing import HEIGHT, draw_contact, draw_key, draw_touch, draw_values
from .editing import Editing
from .keying import Keying

_EDGE = 5  # pixels around the end of a contact by which it is grabbed
_ON = {"hands": "on each other, or on one thing"}
_NEAR = 6  # pixels around a click in which the highest value is meant


class Lanes(OverFrames):
    """All lanes of the clip that the timeline shows, one under the other; their frames lie over the timeline's."""

    def __init__(self, session, scale):
        super().__init__()
        self.session, self.scale = session, scale
        self.editing, self.keying = Editing(session), Keying(session)
        self.folded = {g for g in str(settings.get("lanes/folded", "") or "").split(",") if g}
        self._press, self._rows, self._shown = None, [], None
        self._pulled = None  # (the key that is dragged, where the drag began, whether it stretches, whether it moved)
        self._ground = Ground(self, self._paint_ground)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setMouseTracking(True)
        self.setAccessibleName("Lanes of contacts and deviation")
        for signal in (session.contact_chosen, session.keys_chosen, session.frame_changed, scale.changed):
            signal.connect(self.update)
        for signal in (session.preview_changed, session.snags_changed, session.live.ready):
            signal.connect(self.show_state)
        for signal in (session.passing.ready, session.step_changed):
            signal.connect(self.show_state)
        session.listen(("entries", "bakes", "recordings", "source", "rig", "pairings", "uses"), self.show_state)
        session.solving.ready.connect(self.show_state)
        session.marker_chosen.connect(self.show_state)
        self.show_state()

    # --- what is shown --------------------------------------------------------------------------
    def _of_markers(self):
        """The lanes of the recording that is looked at; none where none is, or it is not solved."""
        entry = self.session.solving.entry
        solution = None if entry is None else self.session.solving.solution(entry)
        if solution is None or len(solution.off) != entry.span[1] - entry.span[0] + 1:
            return []
        return residual_rows(entry, solution, self.session.marker, self.folded)

    def show_state(self):
        """Take the lanes of the moment."""
        session = self.session
        clip, contacts = session.clip, None
        if isinstance(clip, Bake) or (clip is not None and clip.take is not None and clip.knows_contacts):
            contacts = clip.shown_contacts if isinstance(clip, Bake) else clip.contacts
        # While the next result is worked out, the last one's numbers stay.
        deviation = None if session.preview else session.live.shown_deviation
        if deviation is not None and len(deviation.after[0].values) != session.frames:
            deviation = None
        self.contacts, self._shown = contacts, object()
        changes = None if session.preview else session.passing.changes(0)
        if changes is not None and len(changes.lane) != session.frames:
            changes = None
        self.poses = None if session.preview else session.passing.poses
        if self.poses is not None and self.poses.before[0] != session.frames:
            self.poses = None
        self._rows = self._of_markers() or rows(contacts, deviation, self.folded, changes, self.poses)
        self.setFixedHeight(max(len(self._rows), 1) * HEIGHT + 4)
        self.update()

    @property
    def rows(self):
        return self._rows

    def row_of(self, key):
        """The lane of a contact point, or None."""
        return next((r for r in self._rows if r.kind == "contact" and r.key == key), None)

    def area_of(self, row):
        """Where a lane's frames are drawn."""
        return QRectF(self.left, 2 + self._rows.index(row) * HEIGHT, self.wide, HEIGHT)

    def box_of(self, row, contact):
        """Where a contact is drawn: from the middle of the frame before it to that of the one after."""
        area = self.area_of(row)
        a, b = (self.left + self.scale.x_of(f, self.wide) for f in (contact.first - 0.5, contact.last + 0.5))
        return QRectF(a, area.top(), max(b - a, 2.5), HEIGHT)

    # --- painting -------------------------------------------------------------------------------
    def paintEvent(self, _event):
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        of = (
            self.scale.span,
            self._shown,
            self.session.contact,
            self.session.keys,
            self.left,
            self.wide,
            self.hasFocus(),
        )
        p.drawPixmap(0, 0, self._ground.picture(*of))
        if self.session.clip and self._rows:
            x = self.left + self.scale.x_of(self.session.frame, self.wide)
            p.setPen(QPen(theme.colour("brass"), 1.5))
            p.drawLine(QPointF(x, 0), QPointF(x, self.height()))

    def _paint_ground(self, p):
        for row in self._rows:
            self._paint(p, row)
        if not self._rows:
            p.setPen(theme.colour("quiet"))
            p.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "No contacts or deviation to show yet.")

    def _paint(self, p, row):
        area = self.area_of(row)
        names = QRectF(14, area.top(), self.left - 22, HEIGHT)
        values = QRectF(self.left + self.wide, area.top(), self.width() - self.left - self.wide - 14, HEIGHT)
        right = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
        if row.kind == "group":
            p.setPen(theme.colour("brass"))
            p.setFont(theme.font(11, bold=True))
            p.drawText(names, right, row.name)
            wide = p.fontMetrics().horizontalAdvance(row.name)
            p.setBrush(theme.colour("brass"))
            p.setPen(Qt.PenStyle.NoPen)
            p.drawPath(_fold(names.right() - wide - 12, area.center().y(), row.key in self.folded))
            return
        chosen = row.kind == "contact" and self.session.contact[0] == row.key
        if chosen:
            p.setPen(Qt.PenStyle.NoPen)
            p.setBrush(theme.colour("lifted"))
            wide = p.fontMetrics().horizontalAdvance(row.name) + 24
            p.drawRoundedRect(QRectF(names.right() + 6 - wide, area.top() + 1, wide, HEIGHT - 2), 5, 5)
        p.setFont(theme.font(11, tabular=True))
        p.setPen(theme.colour("text" if chosen else "quiet"))
        p.drawText(names, right, row.name)
        p.setPen(theme.colour("quiet"))
        p.drawText(values, right, self._told(row))
        ground = QRectF(area.left() + 4, area.top() + 1, area.width() - 8, HEIGHT - 2)
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(theme.colour("raised"))
        p.drawRoundedRect(ground, 3, 3)
        p.save()
        p.setClipRect(ground)
        if row.kind == "contact":
            first, last = self.scale.span
            for contact in self.contacts.of(row.key):
                if contact.last >= first - 1 and contact.first <= last + 1:
                    draw_contact(p, row.key, self.box_of(row, contact), contact, self.is_chosen(row.key, contact))
        elif row.kind == "keys":
            self._paint_keys(p, area)
        elif row.kind == "touch":
            for touch in self._touches(row):
                draw_touch(p, row.key, self.box_of(row, touch))
        else:
            p.translate(area.left(), 0)
            draw_values(p, row, QRectF(0, area.top(), area.width(), HEIGHT), self.scale, self.wide)
        p.restore()

    def _paint_keys(self, p, area):
        (first, last), (start, step) = self.scale.span, self.scale.line(self.wide)
        for frame in self.poses.frames:
            if first - 1 <= frame <= last + 1:
                x = self.left + start + frame * step
                draw_key(p, QPointF(x, area.center().y()), self.poses.marks.get(frame), frame in self.session.keys)

    def _touches(self, row):
        return [touch for touch in self.contacts.touches if touch.side == row.key]

    def _told(self, row):
        if row.kind == "touch":
            return counted(len(self._touches(row)), "time")
        if row.kind == "keys":
            return f"{len(self.poses.frames)} of {self.poses.before[0]}"
        if row.kind == "contact":
            count = len(self.contacts.of(row.key))
            return counted(count, "contact") if count else "none"
        after = float(row.after.max(initial=0.0))
        before = 0.0 if row.before is None else float(row.before.max(initial=0.0))
        if row.before is None or row.key in ("moved", "thinned"):
            return f"up to {after:.1f} {row.unit}"
        return f"{before:.1f} → {after:.1f} {row.unit}".replace(" °", "°")

    def is_chosen(self, point, contact):
        """Whether a contact is the chosen one."""
        chosen, frame = self.session.contact
        return chosen == point and frame is not None and contact.first <= frame <= contact.last

    # --- what is where --------------------------------------------------------------------------
    def _row_at(self, y):
        number = int((y - 2) // HEIGHT)
        return self._rows[number] if 0 <= number < len(self._rows) else None

    def _frame_at(self, x):
        frame = self.scale.frame_at(x - self.left, self.wide)
        return min(max(frame, 0), self.session.frames - 1)

    def contact_at(self, row, x):
        """``(contact, the end that is grabbed there or None)`` at a place of a lane; ``(None, None)`` where none is."""
        for contact in self.contacts.of(row.key):
            box = self.box_of(row, contact)
            if box.left() - _EDGE <= x <= box.right() + _EDGE:
                inside = min(_EDGE, box.width() / 3)
                end = "first" if x < box.left() + inside else "last" if x > box.right() - inside else None
                return contact, end
        return None, None

    def key_at(self, x):
        """The pose key that is drawn at a place, or None."""
        start, step = self.scale.line(self.wide)
        near = [(abs(self.left + start + f * step - x), f) for f in self.poses.frames]
        away, frame = min(near, default=(_NEAR + 1, None))
        return frame if away <= _NEAR else None

    def _press_key(self, x, modifiers):
        """Choose the key under the pointer: with Ctrl one more, with Shift all up to it, else that one alone."""
        frame = self.key_at(x) if x >= self.left else None
        session = self.session
        if frame is None:
            session.choose_keys(())
            if x >= self.left:
                session.seek(self._frame_at(x))
            return
        chosen = set(session.keys)
        if modifiers & Qt.KeyboardModifier.ControlModifier:
            chosen ^= {frame}
        elif modifiers & Qt.KeyboardModifier.ShiftModifier and chosen:
            low, high = min(*chosen, frame), max(*chosen, frame)
            chosen |= {f for f in self.poses.frames if low <= f <= high}
        elif frame not in chosen:
            chosen = {frame}
        session.choose_keys(sorted(chosen))
        session.choose_contact(None)
        session.seek(frame)
        if frame in session.keys and self.keying.begin():
            self._pulled = frame, x, bool(modifiers & Qt.KeyboardModifier.AltModifier), False

    # --- mouse ----------------------------------------------------------------------------------
    def mousePressEvent(self, event):
        x, y = event.position().x(), event.position().y()
        row = self._row_at(y)
        if row is None or event.button() != Qt.MouseButton.LeftButton:
            return
        if row.kind == "group":
            self.fold(row.key)
        elif row.kind == "deviation":
            self._look_at(row, x)
        elif row.kind == "keys":
            self._press_key(x, event.modifiers())
        elif row.kind == "touch":
            self.session.seek(self._frame_at(x) if x >= self.left else self.session.frame)
            self.session.choose(part=row.part)
        elif x < self.left:
            self.session.choose_contact(row.key)
        else:
            contact, end = self.contact_at(row, x)
            frame = self._frame_at(x)
            self._press = row, contact, end, frame, x, False
            if contact is not None:
                frame = {"first": contact.first, "last": contact.last}.get(end, frame)
            self.session.choose_contact(row.key, frame if contact is not None else None)
            self.session.seek(frame)

    def mouseMoveEvent(self, event):
        x, row = event.position().x(), self._row_at(event.position().y())
        if self._pulled is not None:
            self._pull(x, False)
            return
        if self._press is None:
            grabs = (
                row is not None and row.kind == "contact" and x >= self.left and self.editing.can
                and self.contact_at(row, x)[1] is not None
            )  # fmt: skip
            self.setCursor(Qt.CursorShape.SizeHorCursor if grabs else Qt.CursorShape.ArrowCursor)
            return
        row, contact, end, start, began, dragged = self._press
        if dragged or abs(x - began) > 3:
            self._press = row, contact, end, start, began, True
            self._drag(self._frame_at(x), False)

    def _pull(self, x, settled):
        """Drag the chosen keys along the lane, or stretch them from the one that was grabbed."""
        grabbed, began, stretches, moved = self._pulled
        if not moved and abs(x - began) <= 3:
            return
        if not moved:
            self._pulled = grabbed, began, stretches, True
            self.keying.grabbed = self.session.keys
        chosen = self.keying.grabbed
        to = self._frame_at(x)
        if stretches and len(chosen) > 1:
            first, last = (to, chosen[-1]) if grabbed <= (chosen[0] + chosen[-1]) / 2 else (chosen[0], to)
            self.keying.stretch(chosen, first, last, settled)
        else:
            self.keying.move(chosen, to - grabbed, settled)
        self.session.seek(to)

    def mouseReleaseEvent(self, event):
        if self._pulled is not None:
            if self._pulled[-1]:
                self._pull(event.position().x(), True)
            self._pulled = None
            self.keying.end()
        if self._press is not None and self._press[-1]:
            self._drag(self._frame_at(event.position().x()), True)
        self._press = None

    def _drag(self, frame, settled):
        row, contact, end, start, _, _ = self._press
        if contact is not None and end is not None:
            self.editing.move_end(row.key, contact, end, frame, settled)
        elif contact is None:
            self.editing.draw(row.key, start, frame, settled)
        self.session.seek(frame)

    def _look_at(self, row, x):
        """Go to the highest value close to a click; on the lane's name, to the highest of all."""
        if x < self.left:
            frame = int(row.after.argmax())
        else:
            a, b = (self._frame_at(x + d) for d in (-_NEAR, _NEAR))
            values = row.after[a : b + 1]
            frame = a + int(values.argmax()) if values.max(initial=0.0) > 0 else self._frame_at(x)
        self.session.seek(frame)
        self.session.choose(part=row.part)

    def mouseDoubleClickEvent(self, event):
        self.mousePressEvent(event)

    def wheelEvent(self, event):
        if event.position().x() < self.left or event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            event.ignore()  # the lanes scroll
            return
        self.scale.zoom(event.position().x() - self.left, self.wide, event.angleDelta().y())
        event.accept()

    def fold(self, group):
        """Fold a group of lanes, or unfold it."""
        self.folded ^= {group}
        settings.put("lanes/folded", ",".join(sorted(self.folded)))
        self.show_state()

    def contextMenuEvent(self, event):
        row = self._row_at(event.pos().y())
        if row is None or event.pos().x() < self.left:
            return
        frame = self._frame_at(event.pos().x())
        if row.kind == "keys":
            self._key_menu(event, frame)
            return
        if row.kind != "contact" or not self.editing.can:
            return
        contact, _ = self.contact_at(row, event.pos().x())
        self.session.choose_contact(row.key, frame if contact is not None else None)
        menu = QMenu(self)
        for text, action, usable in self.editing.actions(row.key, contact, frame):
            menu.addAction(text, action).setEnabled(usable)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(event.globalPos())

    def _key_menu(self, event, frame):
        under = self.key_at(event.pos().x())
        if under is not None and under not in self.session.keys:
            self.session.choose_keys((under,))
        frame = frame if under is None else under
        self.session.seek(frame)
        menu = QMenu(self)
        for text, action, usable in self.keying.actions(frame):
            if isinstance(action, list):
                sub = menu.addMenu(text)
                sub.setEnabled(usable)
                for name, one in action:
                    sub.addAction(name, one)
            else:
                menu.addAction(text, action).setEnabled(usable)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(event.globalPos())

    def event(self, event):
        if event.type() == QEvent.Type.ShortcutOverride and self.session.contact[0] is None and self.keying.owns(event):
            event.accept()
            return True
        if event.type() == QEvent.Type.ToolTip:
            text = self._tip(event.pos().x(), event.pos().y())
            if text:
                QToolTip.showText(event.globalPos(), text, self)
            else:
                QToolTip.hideText()
            return True
        return super().event(event)

    def _tip(self, x, y):
        row = self._row_at(y)
        if row is None or row.kind == "group":
            return ""
        if row.kind == "keys":
            frame = self.key_at(x) if x >= self.left else None
            return "" if frame is None else f"Pose at frame {frame}: {key_words(self.poses.marks.get(frame))}"
        if row.kind == "deviation":
            if x < self.left:
                return f"Click: go to the worst frame, {int(row.after.argmax())}"
            frame = self._frame_at(x)
            before = "" if row.before is None else f", before {row.before[frame]:.2f} {row.unit}"
            return f"Frame {frame}: {row.after[frame]:.2f} {row.unit}{before}"
        if row.kind == "touch":
            frame = self._frame_at(x)
            touch = next((t for t in self._touches(row) if t.first <= frame <= t.last), None)
            return (
                ""
                if touch is None
                else f"{row.name}, frames {touch.first} to {touch.last}: {_ON.get(touch.to, touch.to)}"
            )
        contact, _ = self.contact_at(row, x) if x >= self.left else (None, None)
        if contact is None:
            return "Drag to draw a contact" if x >= self.left and self.editing.can else ""
        place = f"{contact.height * 100:.0f} cm over the floor" if contact.held else "on the floor"
        by_hand = ", drawn by hand" if contact.by_hand else ""
        slides = f"slides {contact.slide * 1000:.0f} mm in the source"
        return f"{row.name}, frames {contact.first} to {contact.last}: {place}, {slides}{by_hand}"

    # --- keyboard -------------------------------------------------------------------------------
    def keyPressEvent(self, event):
        if self.session.contact[0] is None and self.keying.key(event):
            return
        if not self.editing.key(event.key(), [r.key for r in self._rows if r.kind == "contact"]):
            super().keyPressEvent(event)


def _fold(x, y, folded):
    """The triangle of a group: points down where it is open."""
    path = QPainterPath()
    corners = ((-3, -4), (4, 0), (-3, 4)) if folded else ((-4, -3), (4, -3), (0, 4))
    for i, (dx, dy) in enumerate(corners):
        (path.moveTo if i == 0 else path.lineTo)(x + dx, y + dy)
    path.closeSubpath()
    return path
