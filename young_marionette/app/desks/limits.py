"""A card for how far a rig's bone may turn: typed, or taken from how it is turned on the stage."""

from __future__ import annotations

import math

from ...core.transfer.limits import JointLimit
from ...project.commands import SetJointLimit, turn_degrees
from ..parts.widgets import Card, Number, button, label, row

_FREE = 180.0


class LimitCard(Card):
    """The limit of the bone that ``box`` shows. A swing of 180 degrees, and a twist of as much both ways, is none."""

    def __init__(self, session, box):
        super().__init__("Limits of the bone")
        self.session, self.box = session, box
        self.told = label("", "quiet", wrap=True)
        self.swing = Number(_FREE, "°", 1, 0, 0, _FREE, _FREE, "How far the bone may lean from its rest, to any side")
        self.least = Number(-_FREE, "°", 1, 0, -_FREE, 0, -_FREE, "How far the bone may twist backwards")
        self.most = Number(_FREE, "°", 1, 0, 0, _FREE, _FREE, "How far the bone may twist forwards")
        for number in (self.swing, self.least, self.most):
            number.edited.connect(lambda _value, settled: self._set(settled))
        self.least.setFixedWidth(74)
        self.most.setFixedWidth(74)
        self.take = button("Lean limit from this pose", self._from_pose, tip="As far as the bone is turned now")
        self.free = button("No limits", self._let_go)
        self.add(
            row(label("Leans up to"), None, self.swing),
            row(label("Twists from, to"), None, self.least, self.most),
            row(self.take, self.free, None),
            self.told,
        )

    @property
    def _limit(self):
        rig = self.session.state.rig_entry
        return next((one for one in rig.limits if one.joint == self.box.currentText()), None) if rig else None

    def show_state(self):
        rig, limit = self.session.state.rig_entry, self._limit
        self.setEnabled(rig is not None and bool(self.box.currentText()))
        if rig is None:
            return
        swing = _FREE if limit is None or limit.swing is None else math.degrees(limit.swing)
        twist = (-_FREE, _FREE) if limit is None or limit.twist is None else map(math.degrees, limit.twist)
        for number, value in zip((self.swing, self.least, self.most), (swing, *twist)):
            number.set_value(value)
        self.free.setEnabled(limit is not None)
        count = len(rig.limits)
        self.told.setText(
            f"{count} bone{'s' if count > 1 else ''} of {rig.name} may turn only so far; the transfer keeps to that."
            if count
            else "No bone of the rig is limited."
        )

    def _set(self, settled):
        swing, least, most = self.swing.value, self.least.value, self.most.value
        twist = None if least <= -_FREE and most >= _FREE else (math.radians(least), math.radians(most))
        limit = JointLimit(self.box.currentText(), None if swing >= _FREE else math.radians(swing), twist)
        self.session.drag(SetJointLimit(self.session.state.rig, limit), settled=settled)

    def _from_pose(self):
        """The bone may lean as far as it is turned on the stage now."""
        pairing, bone = self.session.state.pairing, self.box.currentText()
        if pairing is None or bone not in pairing.target.index:
            return
        lean = math.hypot(*(math.radians(float(v)) for v in turn_degrees(pairing, bone)))
        limit = self._limit
        self.session.do(SetJointLimit(self.session.state.rig, JointLimit(bone, lean, limit.twist if limit else None)))

    def _let_go(self):
        self.session.do(SetJointLimit(self.session.state.rig, JointLimit(self.box.currentText())))
