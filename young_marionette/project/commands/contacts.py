"""Edits of the contacts of a clip: thresholds, and what is drawn by hand over what was found."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Literal, Protocol

from ...core.errors import InputError
from ..entry import Entry
from .base import entry_of

if TYPE_CHECKING:
    from ...core.contacts.choices import ContactChoices
    from ...core.contacts.contact import Contact
    from ..document import State


class _Choosing(Protocol):
    """An edit of what is chosen about an entry's contacts: ``chosen`` says what that is then."""

    entry: str

    def chosen(self, entry: Entry) -> ContactChoices: ...

    def run(self, state: State) -> State:
        entry = entry_of(state, self.entry)
        choices = self.chosen(entry)
        if choices == entry.contact_choices:
            return state
        return state.with_entry(replace(entry, contact_choices=choices))


def _contact_at(entry: Entry, point: str, frame: int) -> Contact:
    for contact in entry.contacts.of(point):
        if contact.first <= frame <= contact.last:
            return contact
    raise InputError(f"The {point} touches nothing in frame {frame}.")


@dataclass(frozen=True)
class SetThreshold(_Choosing):
    """Another threshold of contacts (see core.contacts.choices), None as usual; for one point, in some frames, or all."""

    entry: str
    name: str
    value: float | None
    point: str | None = None
    frames: tuple[int, int] | None = None
    label: str = "change a threshold of contacts"

    def chosen(self, entry: Entry) -> ContactChoices:
        return entry.contact_choices.adjust(self.name, self.value, self.point, self.frames)


@dataclass(frozen=True)
class SetLimit:
    """How far (metres) feet may ``slide``, ``sink`` or ``hover``, and arms be in the body (``touching``), before it is a snag."""

    kind: Literal["slide", "sink", "hover", "touching"]
    metres: float
    label: str = "set a limit of feet"

    def run(self, state: State) -> State:
        return replace(state, limits=replace(state.limits, **{self.kind: min(max(self.metres, 0.0), 10.0)}))


@dataclass(frozen=True)
class DrawContact(_Choosing):
    """Say by hand that a point touches in some frames, both included."""

    entry: str
    point: str
    first: int
    last: int
    label: str = "draw a contact"

    def chosen(self, entry: Entry) -> ContactChoices:
        first, last = (min(max(f, 0), entry.placed_clip.frames - 1) for f in sorted((self.first, self.last)))
        return entry.contact_choices.draw(self.point, first, last, True)


@dataclass(frozen=True)
class DeleteContact(_Choosing):
    """Say by hand that there is no contact where one is at a frame."""

    entry: str
    point: str
    frame: int
    label: str = "delete a contact"

    def chosen(self, entry: Entry) -> ContactChoices:
        contact = _contact_at(entry, self.point, self.frame)
        return entry.contact_choices.draw(self.point, contact.first, contact.last, False)


@dataclass(frozen=True)
class MoveContactEnd(_Choosing):
    """Put the first or the last frame of the contact at ``frame`` elsewhere; the other end stays."""

    entry: str
    point: str
    frame: int
    end: Literal["first", "last"]
    to: int
    label: str = "move the end of a contact"

    def chosen(self, entry: Entry) -> ContactChoices:
        contact, choices = _contact_at(entry, self.point, self.frame), entry.contact_choices
        to = min(max(self.to, 0), entry.placed_clip.frames - 1)
        if self.end == "first":
            first, last = min(to, contact.last), contact.last
            gone = contact.first, first - 1
        else:
            first, last = contact.first, max(to, contact.first)
            gone = last + 1, contact.last
        if (first, last) == (contact.first, contact.last):
            return choices
        if gone[0] <= gone[1]:
            choices = choices.draw(self.point, *gone, False)
        return choices.draw(self.point, first, last, True)


@dataclass(frozen=True)
class SplitContact(_Choosing):
    """Make two contacts of one: the point touches nothing in the frame."""

    entry: str
    point: str
    frame: int
    label: str = "split a contact"

    def chosen(self, entry: Entry) -> ContactChoices:
        contact = _contact_at(entry, self.point, self.frame)
        if self.frame in (contact.first, contact.last):
            raise InputError("A contact is split between its ends: put the playhead there first.")
        choices = entry.contact_choices.draw(self.point, contact.first, contact.last, True)
        return choices.draw(self.point, self.frame, self.frame, False)


@dataclass(frozen=True)
class LetGoContacts(_Choosing):
    """Take back what was drawn by hand for a point (None: all) around some frames (None: all): what is found counts again."""

    entry: str
    point: str | None = None
    frames: tuple[int, int] | None = None
    label: str = "undo drawn contacts"

    def chosen(self, entry: Entry) -> ContactChoices:
        return entry.contact_choices.let_go(self.point, self.frames)
