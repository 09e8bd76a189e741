"""Cards about contacts: whether feet are planted and how far they are off, and when a point touches."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QGridLayout, QWidget

from ...core.contacts.choices import Thresholds
from ...core.contacts.points import POINTS
from ...core.transfer.deviation import FLOAT, LOWERED, SINK, SLIDE, TOUCHING, Limits
from ...core.transfer.settings import AUTO, DIRECTIONS, FREE, OFF, ON, PLACES, PLANTED, TOUCH
from ...project.commands import LetGoContacts, SetLimit, SetThreshold, SetTouch, SetTransfer
from ...project.entry import Entry
from ...project.planting import clears, hands_of, plants
from ..parts.widgets import Card, Number, button, label, row

_MODES = (
    (AUTO, "Planted if proportions differ"),
    (PLANTED, "Planted where the source's stand"),
    (FREE, "Free"),
)
_HANDS = (
    (AUTO, "Keep touch if proportions differ"),
    (TOUCH, "Keep what they touch"),
    (PLACES, "Keep places, scaled to the rig"),
    (DIRECTIONS, "Keep directions of the arms"),
)
_WEIGHTS = (
    ("hold_places", "Weight", "How far hands go to the source's places"),
    ("hold_room", "Things in the room", "How far hands go to what they hold in the room, as rungs and poles"),
    ("hold_body", "The own body", "How far hands go to where they touch the own body, as a hip or a cap"),
    ("hold_hands", "Each other", "How far hands go to each other, or to one thing that both hold"),
)
_CLEAR = (
    (AUTO, "Out of the body if proportions differ"),
    (ON, "Arms stay out of the body"),
    (OFF, "Arms may go through the body"),
)
_NUMBERS = ((SLIDE, "Slide"), (SINK, "Sink"), (FLOAT, "Float"), (LOWERED, "Hips give way"))
_THRESHOLDS = (
    ("speed", "Speed below", "cm/s", 100, 1.0, 1),
    ("height", "Height below", "cm", 100, 0.5, 1),
    ("held_speed", "Speed below, held", "cm/s", 100, 1.0, 1),
    ("shortest", "Shortest contact", "s", 1, 0.02, 2),
)
_TIPS = {
    "speed": "A point touches while it is slower than this and low",
    "height": "How low over the floor a point must be, for a figure of 1.7 m",
    "held_speed": "How slow a point must be that touches at a height of its own, as on a rung",
    "shortest": "Shorter contacts are none",
}


class FeetCard(Card):
    """Whether the rig's feet are planted, and the worst that is left."""

    def __init__(self, session):
        super().__init__("Feet")
        self.session = session
        self.mode = _list("Feet", _MODES, lambda value: session.do(SetTransfer((("feet", value),))))
        holder = QWidget()
        grid = QGridLayout(holder)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(10)
        grid.setVerticalSpacing(3)
        grid.setColumnStretch(0, 1)
        for column, text in ((1, "free"), (2, "planted"), (3, "limit")):
            grid.addWidget(label(text, "quiet"), 0, column, Qt.AlignmentFlag.AlignRight)
        self.numbers, self.limits = {}, {}
        for line, (kind, name) in enumerate(_NUMBERS, 1):
            grid.addWidget(label(name), line, 0)
            both = label(""), label("")
            for column, cell in enumerate(both, 1):
                grid.addWidget(cell, line, column, Qt.AlignmentFlag.AlignRight)
            self.numbers[kind] = both
            if kind != LOWERED:
                usual = getattr(Limits(), kind) * 100
                limit = Number(usual, "cm", 0.1, 1, 0, 1000, usual, f"{name}: what is more is a snag")
                limit.setFixedWidth(66)
                limit.edited.connect(lambda v, s, k=kind: session.drag(SetLimit(k, v / 100), settled=s))
                grid.addWidget(limit, line, 3)
                self.limits[kind] = limit
        self.told = label("", "quiet", wrap=True)
        self.add(self.mode, holder, self.told)
        session.live.measured.connect(self.show_state)

    def show_state(self):
        pairing, session = self.session.state.pairing, self.session
        if pairing is None:
            return
        self.mode.setCurrentIndex([value for value, _ in _MODES].index(pairing.settings.feet))
        deviation = session.live.shown_deviation
        on = plants(pairing)
        for kind, cells in self.numbers.items():
            values = deviation.worst(kind) if deviation else (None, None)
            texts = ["" if value is None else f"{value * 100:.1f} cm" for value in values]
            cells[0].setText(texts[0] if kind != LOWERED else "–")
            cells[1].setText(texts[1] if on else "–")
        for kind, limit in self.limits.items():
            limit.set_value(getattr(session.state.limits, kind) * 100)
        if not on and pairing.settings.feet == AUTO:
            self.told.setText("Both have the same proportions, so the feet stay as they are.")
        else:
            self.told.setText("The worst of the whole clip; the lanes over the timeline tell where.")


class HandsCard(Card):
    """What the rig's hands keep, and whether its arms stay out of its body."""

    def __init__(self, session):
        super().__init__("Hands")
        self.session = session
        self.mode = _list("Hands", _HANDS, lambda value: session.do(SetTransfer((("hands", value),))))
        self.weights, rows = {}, []
        for field, name, does in _WEIGHTS:
            weight = Number(100, "%", 5, 0, 0, 100, 100, does)
            weight.edited.connect(lambda v, s, f=field: session.drag(SetTransfer(((f, v / 100),)), settled=s))
            self.weights[field] = weight, row(label(name), None, weight)
            rows.append(self.weights[field][1])
        self.clear = _list("Arms and the body", _CLEAR, lambda value: session.do(SetTransfer((("clear", value),))))
        self.wider = Number(0, "°", 1, 1, -90, 90, 0, "Arms wider: away from the body, on the whole clip")
        self.wider.edited.connect(lambda v, s: session.drag(SetTouch("arms out", v), settled=s))
        self.limit = Number(2.0, "cm", 0.1, 1, 0, 1000, 2.0, "What is deeper is a snag")
        self.limit.edited.connect(lambda v, s: session.drag(SetLimit(TOUCHING, v / 100), settled=s))
        self.told = label("", "quiet", wrap=True)
        self.add(
            self.mode,
            *rows,
            self.clear,
            row(label("Arms wider"), None, self.wider),
            row(label("Limit inside the body"), None, self.limit),
            self.told,
        )
        session.live.measured.connect(self.show_state)

    def show_state(self):
        pairing = self.session.state.pairing
        if pairing is None:
            return
        settings = pairing.settings
        self.mode.setCurrentIndex([value for value, _ in _HANDS].index(settings.hands))
        self.clear.setCurrentIndex([value for value, _ in _CLEAR].index(settings.clear))
        self.wider.set_value(dict(settings.touches).get("arms out", 0.0))
        self.limit.set_value(self.session.state.limits.touching * 100)
        mode = hands_of(pairing)
        for field, (weight, line) in self.weights.items():
            weight.set_value(getattr(settings, field) * 100)
            line.setVisible(mode == (PLACES if field == "hold_places" else TOUCH))
        deviation = self.session.live.shown_deviation
        if deviation is None:
            self.told.setText("")
            return
        before, after = deviation.worst(TOUCHING)
        inside = f"{before * 100:.1f} cm inside the body at worst"
        if clears(pairing):
            self.told.setText(f"Arms were {inside}, now {after * 100:.1f} cm.")
        else:
            self.told.setText(f"Arms are {inside}.")


def _list(name, options, act):
    """A list of ``(value, text)`` to choose from."""
    box = QComboBox()
    box.setAccessibleName(name)
    for value, text in options:
        box.addItem(text, value)
    box.activated.connect(lambda i: act(box.itemData(i)))
    return box


class ContactsCard(Card):
    """When a point touches: for all points, for one, or for one in the range of frames."""

    def __init__(self, session):
        super().__init__("Contacts of the clip")
        self.session = session
        self.point = QComboBox()
        self.point.setAccessibleName("Which contacts the thresholds are for")
        self.point.addItem("All points", None)
        for point in POINTS:
            self.point.addItem(point.capitalize(), point)
        self.point.activated.connect(lambda i: session.choose_contact(self.point.itemData(i)))
        self.where = QComboBox()
        self.where.setAccessibleName("In which frames the thresholds hold")
        self.where.addItem("Whole clip", False)
        self.where.addItem("", True)
        self.where.activated.connect(lambda _i: self.show_state())
        self.add(row(self.point, self.where, stretch_last=True))
        self.numbers = {}
        for name, text, unit, factor, step, decimals in _THRESHOLDS:
            usual = getattr(Thresholds(), name) * factor
            number = Number(usual, unit, step, decimals, 0, 1000, usual, _TIPS[name])
            number.edited.connect(lambda v, s, n=name, f=factor: self._set(n, v / f, s))
            self.numbers[name] = number, factor
            self.add(row(label(text), None, number))
        self.usual = button("Usual thresholds", self._reset, tip="Let go of all thresholds that were set for these")
        self.let_go = button("Undo drawn", self._let_go, tip="Let go of contacts that were drawn by hand")
        self.add(row(self.usual, self.let_go, None))
        session.contact_chosen.connect(self._follow)
        session.frame_changed.connect(self._show_range)

    @property
    def _entry(self):
        return self.session.state.source_entry

    @property
    def scope(self):
        """``(point or None, frames or None)`` that the numbers are for."""
        return self.point.currentData(), self.session.range if self.where.currentData() else None

    def _follow(self):
        """The lane that is chosen is the one that the thresholds are for."""
        at = self.point.findData(self.session.contact[0])
        if at != self.point.currentIndex():
            self.point.setCurrentIndex(max(at, 0))
            self.show_state()

    def _show_range(self):
        self.where.setItemText(1, "Frames {} to {}".format(*self.session.range))

    def show_state(self):
        entry = self._entry
        self.setEnabled(isinstance(entry, Entry) and entry.take is not None)
        if not self.isEnabled():
            return
        self._show_range()
        point, frames = self.scope
        choices = entry.contact_choices
        limits = choices.thresholds(point, frames[0] if frames else None)
        for name, (number, factor) in self.numbers.items():
            number.set_value(getattr(limits, name) * factor)
        own = any((o.point, o.frames) == (point, frames) for o in choices.adjusted)
        self.usual.setEnabled(own)
        self.let_go.setEnabled(any(point in (None, d.point) for d in choices.drawn))

    def _set(self, name, value, settled):
        self.session.drag(SetThreshold(self._entry.id, name, value, *self.scope), settled=settled)

    def _reset(self):
        entry = self._entry.id
        self.session.do(*(SetThreshold(entry, name, None, *self.scope) for name in self.numbers))

    def _let_go(self):
        self.session.do(LetGoContacts(self._entry.id, *self.scope))
