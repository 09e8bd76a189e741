"""Edits of contacts from the lanes: what mouse, menu and keys do."""

from __future__ import annotations

from PySide6.QtCore import Qt

from ...project.bakes import Bake
from ...project.commands import DeleteContact, DrawContact, LetGoContacts, MoveContactEnd, SplitContact
from ...project.entry import Entry

_NEW = 0.15  # seconds that a contact from the keyboard reaches to each side of the playhead


class Editing:
    """Edits the contacts of the clip that the timeline shows; nothing can be edited of a baked one."""

    def __init__(self, session):
        self.session = session

    @property
    def can(self):
        return isinstance(self.session.clip, Entry)

    @property
    def _entry(self):
        return self.session.clip.id

    def chosen(self):
        """``(point, contact)`` that keys edit: the chosen one, else the one under the playhead in the chosen lane."""
        point, frame = self.session.contact
        if point is None or not self.can:
            return None, None
        wanted = (self.session.frame, frame)
        for at in wanted:
            for contact in self.session.clip.contacts.of(point):
                if at is not None and contact.first <= at <= contact.last:
                    return point, contact
        return point, None

    # --- edits ----------------------------------------------------------------------------------
    def move_end(self, point, contact, end, to, settled):
        """Drag one end of a contact; the contact is known by its other end, which stays."""
        if self.can:
            stays = contact.last if end == "first" else contact.first
            command = MoveContactEnd(self._entry, point, stays, end, to)
            self.session.drag(command, settled=settled, afresh=True)
            self.session.choose_contact(point, stays)

    def draw(self, point, start, to, settled):
        """Drag out a new contact."""
        if self.can:
            self.session.drag(DrawContact(self._entry, point, start, to), settled=settled, afresh=True)
            self.session.choose_contact(point, start)

    def set_end(self, end):
        """Put an end of the chosen contact to the playhead."""
        point, frame = self.session.contact
        at = self.session.frame
        contacts = self.session.clip.contacts.of(point) if point and self.can else ()
        inside = [c for c in contacts if c.first <= at <= c.last]
        named = [c for c in contacts if frame is not None and c.first <= frame <= c.last]
        contact = next(iter(inside or named), None)
        if contact is None:
            self.session.message.emit("Choose a contact in a lane first.")
            return
        stays = contact.last if end == "first" else contact.first
        if self.session.do(MoveContactEnd(self._entry, point, stays, end, at)):
            self.session.choose_contact(point, stays)

    def new(self):
        """A contact around the playhead, in the chosen lane."""
        point, _ = self.session.contact
        if point is None or not self.can:
            self.session.message.emit("Choose a lane first.")
            return
        reach = max(round(_NEW * self.session.rate), 1)
        if self.session.do(DrawContact(self._entry, point, self.session.frame - reach, self.session.frame + reach)):
            self.session.choose_contact(point, self.session.frame)

    def delete(self, frame=None):
        point, contact = self.chosen()
        if contact is not None and self.session.do(
            DeleteContact(self._entry, point, contact.first if frame is None else frame)
        ):
            self.session.choose_contact(point)

    def split(self, frame=None):
        point, contact = self.chosen()
        if contact is not None:
            self.session.do(SplitContact(self._entry, point, self.session.frame if frame is None else frame))

    def let_go(self, point, contact=None):
        """Take back what was drawn by hand: around a contact, or in all of a lane."""
        frames = None if contact is None else (contact.first - 1, contact.last + 1)
        self.session.do(LetGoContacts(self._entry, point, frames))

    def actions(self, point, contact, frame):
        """What a lane's menu offers at a frame: ``(text, action, whether it can be used)``."""
        drawn = [d for d in self.session.clip.contact_choices.drawn if d.point == point]
        here = contact is not None
        inside = here and contact.first < frame < contact.last
        near = here and any(d.first <= contact.last + 1 and d.last >= contact.first - 1 for d in drawn)
        return (
            (f"Start the contact at frame {frame}", lambda: self._to(point, contact, "first", frame), here),
            (f"End the contact at frame {frame}", lambda: self._to(point, contact, "last", frame), here),
            ("Split it here (X)", lambda: self.split(frame), inside),
            ("Delete it (Delete)", lambda: self.delete(frame), here),
            ("Undo what was drawn here", lambda: self.let_go(point, contact), near),
            ("Undo all that was drawn in this lane", lambda: self.let_go(point), bool(drawn)),
        )

    def _to(self, point, contact, end, frame):
        stays = contact.last if end == "first" else contact.first
        self.session.do(MoveContactEnd(self._entry, point, stays, end, frame))

    # --- keys -----------------------------------------------------------------------------------
    def key(self, key, points):
        """Do what a key is for; False where it is for nothing here. ``points``: the lanes in view."""
        actions = {
            Qt.Key.Key_Up: lambda: self._next_lane(points, -1),
            Qt.Key.Key_Down: lambda: self._next_lane(points, 1),
            Qt.Key.Key_BracketLeft: lambda: self.set_end("first"),
            Qt.Key.Key_BracketRight: lambda: self.set_end("last"),
            Qt.Key.Key_Insert: self.new,
            Qt.Key.Key_Return: self.new,
            Qt.Key.Key_X: self.split,
            Qt.Key.Key_Delete: self.delete,
            Qt.Key.Key_Backspace: self.delete,
        }
        if key not in actions or not self.can:
            return False
        actions[key]()
        return True

    def _next_lane(self, points, step):
        if points:
            now = self.session.contact[0]
            at = (points.index(now) + step) % len(points) if now in points else 0
            self.session.choose_contact(points[at])

    def step(self, way):
        """Go to the next (1) or previous (-1) frame in which a contact begins, or the one after its end."""
        session = self.session
        clip = session.clip
        contacts = None
        if clip is not None and clip.take is not None:
            contacts = clip.shown_contacts if isinstance(clip, Bake) else clip.contacts
        if contacts is None:
            return
        point, _ = session.contact
        found = contacts.of(point) if point else contacts.found
        changes = sorted({f for c in found for f in (c.first, c.last + 1)})
        ahead = [f for f in changes if (f - session.frame) * way > 0 and f < session.frames]
        if ahead:
            session.seek(ahead[0] if way > 0 else ahead[-1])
