"""How the chosen control is called and drawn, and how far hands may take it."""

from __future__ import annotations

import math

from PySide6.QtWidgets import QCheckBox, QComboBox, QLineEdit, QVBoxLayout, QWidget

from ...core.controls.sets import COLOURS, CURL, DIRECTION, ROLL, TURNED
from ...core.errors import InputError
from ...project.commands import SetControls
from ..parts.widgets import Number, label, row

_FREE = 180.0
_COLOUR_NAMES = {"middle": "Middle", "left": "Left", "right": "Right", "quiet": "Quiet"}
_FAR = 10.0  # metres: as far as anybody likes


class ControlLook(QWidget):
    """Edits one control in the set of the rig; clips on a set that is built alike follow."""

    def __init__(self, session):
        super().__init__()
        self.session = session
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the control")
        self.name.setToolTip("Name of the control")
        self.name.editingFinished.connect(self._rename)
        self.colour = QComboBox()
        self.colour.setAccessibleName("Colour of the control")
        self.colour.setToolTip("Colour of the control")
        for key in COLOURS:
            self.colour.addItem(_COLOUR_NAMES[key], key)
        self.colour.activated.connect(lambda _i: self._change(colour=self.colour.currentData()))
        self.size = Number(100, "%", 5, 0, 5, 2000, 100, "Size of the control")
        self.size.setFixedWidth(70)
        self.size.edited.connect(lambda value, settled: self._change(settled, size=value / 100))
        column.addWidget(row(self.name, self.colour, self.size, spacing=6))
        self.lean = Number(_FREE, "°", 1, 0, 0, _FREE, _FREE, "How far it may lean from rest when it is turned by hand")
        self.twist = Number(
            _FREE, "°", 1, 0, 0, _FREE, _FREE, "How far it may twist either way when it is turned by hand"
        )
        self.reach = Number(
            _FAR * 100, "cm", 1, 0, 0, _FAR * 100, _FAR * 100, "How far from rest it may be moved by hand"
        )
        for number in (self.lean, self.twist, self.reach):
            number.setFixedWidth(76)
            number.edited.connect(lambda _value, settled: self._limit(settled))
        self.turning = row(label("Leans, twists up to"), None, self.lean, self.twist, spacing=6)
        self.moving = row(label("Moves up to"), None, self.reach, spacing=6)
        self.both = QCheckBox("Both sides")
        self.both.setToolTip("Size and limits are those of the other side's control, too")
        self.both.setChecked(True)
        column.addWidget(self.turning)
        column.addWidget(self.moving)
        column.addWidget(self.both)

    @property
    def control(self):
        """The one chosen control, as the rig's set has it, or None."""
        rig, bake, names = self.session.refined_rig, self.session.refined, self.session.bones
        if rig is None or bake is None or bake.controls is None or len(names) != 1:
            return None
        if rig.control_set.built != bake.controls.built:
            return None
        return next((one for one in rig.control_set.controls if one.name == names[0]), None)

    def show_state(self):
        """Take the control of the moment."""
        one = self.control
        self.setVisible(one is not None)
        if one is None:
            return
        if not self.name.hasFocus():
            self.name.setText(one.name)
        self.colour.setCurrentIndex(self.colour.findData(one.colour))
        self.size.set_value(one.size * 100)
        self.lean.set_value(_FREE if one.swing is None else math.degrees(one.swing))
        self.twist.set_value(_FREE if one.twist is None else math.degrees(max(map(abs, one.twist))))
        self.reach.set_value(100 * (_FAR if one.reach is None else one.reach))
        self.both.setVisible(self.session.refined_rig.control_set.other_side(one.name) is not None)
        self.turning.setVisible(one.kind != DIRECTION)
        self.moving.setVisible(one.kind not in (TURNED, ROLL, CURL))

    def _rename(self):
        one, text = self.control, self.name.text().strip()
        if one is not None and text and text != one.name and self._change(name=text):
            self.session.show_curves_of((text,))
        self.show_state()

    def _limit(self, settled):
        lean, twist, reach = self.lean.value, self.twist.value, self.reach.value
        self._change(
            settled,
            swing=None if lean >= _FREE else math.radians(lean),
            twist=None if twist >= _FREE else (-math.radians(twist), math.radians(twist)),
            reach=None if reach >= 100 * _FAR else reach / 100,
        )

    def _change(self, settled=True, **values):
        one, rig = self.control, self.session.refined_rig
        if one is None:
            return False
        try:
            controls = rig.control_set.changed(one.name, **values)
            other = rig.control_set.other_side(one.name)
            if other is not None and self.both.isChecked() and not {"name", "colour"} & set(values):
                controls = controls.changed(other, **values)
            command = SetControls(rig.id, controls, "change a control")
        except InputError as error:
            self.session.message.emit(str(error))
            return False
        self.session.drag(command, settled=settled)
        return True
