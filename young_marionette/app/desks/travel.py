"""The card about travel: where the figure goes, and what of it the root bone carries."""

from __future__ import annotations

from PySide6.QtWidgets import QCheckBox, QComboBox

from ...core.travel.settings import AS_IT_IS, GROUND, LINE, ORIGIN, PARTS, TURN, X, Y, Z
from ...project.commands import SetTransfer
from ..parts.widgets import Card, Number, label, row

_STARTS = (
    (AS_IT_IS, "Starts where the clip does"),
    (ORIGIN, "Starts over the origin"),
    (LINE, "Starts on the grid line ahead"),
)
_NAMES = {X: "Sideways", Z: "Ahead", Y: "Height", TURN: "Turn"}


class TravelCard(Card):
    """In place, stride, height, start, and the root bone."""

    def __init__(self, session):
        super().__init__("Travel")
        self.session = session
        self.in_place = {part: self._box(part, "in_place", _NAMES[part], "Hips stay over one spot") for part in GROUND}
        self.root = {part: self._box(part, "root", _NAMES[part], "The root bone carries it") for part in PARTS}
        self.stride = Number(100, "%", 1, 0, 1, 1000, 100, "Stride: ground travel relative to the leg lengths")
        self.stride.edited.connect(lambda v, s: self._drag("stride", v / 100, s))
        self.height = Number(0, "cm", 0.5, 1, -500, 500, 0, "Hip height offset")
        self.height.edited.connect(lambda v, s: self._drag("height_offset", v / 100, s))
        self.start = QComboBox()
        self.start.setAccessibleName("Where the motion starts")
        for value, text in _STARTS:
            self.start.addItem(text, value)
        self.start.activated.connect(lambda i: self._set("start", self.start.itemData(i)))
        self.ahead = QCheckBox("Faces ahead at the start")
        self.ahead.toggled.connect(lambda on: self._set("ahead", on))
        self.smooth = Number(0, "s", 0.05, 2, 0, 60, 0, "Smooth the root bone's path over so many seconds")
        self.smooth.edited.connect(lambda v, s: self._drag("root_smooth", v, s))
        self.scale, self.bone = label("", "quiet", wrap=True), label("", "quiet", wrap=True)
        self.add(
            row(label("In place"), None, *self.in_place.values()),
            row(label("Stride"), None, self.stride),
            row(label("Hip height offset"), None, self.height),
            self.start,
            self.ahead,
            self.scale,
            row(label("Root bone carries"), None, self.root[X], self.root[Z]),
            row(None, self.root[Y], self.root[TURN]),
            row(label("Smooth path"), None, self.smooth),
            self.bone,
        )

    def _box(self, part, field, text, tip):
        box = QCheckBox(text)
        box.setToolTip(tip)
        box.toggled.connect(lambda on: self._tick(field, part, on))
        return box

    def _tick(self, field, part, on):
        settings = self.session.state.pairing.settings
        old = getattr(settings, field)
        old = GROUND if old is None else old
        parts = tuple(p for p in PARTS if (on if p == part else p in old))
        self._set(field, None if field == "root" and parts == GROUND else parts)

    def _set(self, field, value):
        self.session.do(SetTransfer(((field, value),)))

    def _drag(self, field, value, settled):
        self.session.drag(SetTransfer(((field, value),)), settled=settled)

    def show_state(self):
        pairing = self.session.state.pairing
        settings = pairing.settings
        hips = any(s.part == "hips" for s in pairing.strings)
        carried = GROUND if settings.root is None else settings.root
        for boxes, parts in ((self.in_place, settings.in_place), (self.root, carried)):
            for part, box in boxes.items():
                _show(box, part in parts)
        _show(self.ahead, settings.ahead)
        self.start.setCurrentIndex([value for value, _ in _STARTS].index(settings.start))
        self.stride.set_value(settings.stride * 100)
        self.stride.setEnabled(set(settings.in_place) != set(GROUND))
        self.height.set_value(settings.height_offset * 100)
        self.smooth.set_value(settings.root_smooth)
        self.scale.setText(
            f"The rig's legs are {pairing.transfer.scale:.2f} times as long as the source's."
            if hips
            else "The hips have no string."
        )
        root = pairing.transfer.root if hips else None
        if root is not None:
            self.bone.setText(f"The root bone is {pairing.target.names[root]}; all other bones stay where they are.")
        else:
            self.bone.setText("The rig has no root bone on the floor. Deliver can add one, which then carries this.")


def _show(box, on):
    box.blockSignals(True)
    box.setChecked(on)
    box.blockSignals(False)
