"""The pose under the playhead: the chosen bone turned by number, the pose mirrored, copied, pasted, held longer."""

from __future__ import annotations

import math

from ..parts.widgets import Card, Number, button, label, row

_HINT = "Click a bone on the stage: drag its ring to turn it, the dot in it to move it."


class PoseCard(Card):
    """Shows the chosen bone, and changes the pose through ``Posing``; ``keying`` edits the lane of the poses."""

    def __init__(self, posing, keying):
        super().__init__("Pose")
        self.posing, self.keying = posing, keying
        self.about = label(_HINT, "quiet", wrap=True)
        self.add(self.about)
        self.turns = self._three("°", 360, "Turn the bone about {}", self._turn)
        self.turning = row(label("Turn by"), None, *self.turns, spacing=6)
        self.add(self.turning)
        self.moves = self._three("cm", 1000, "Move along {}, in the world", self._move)
        self.moving = row(label("Move by"), None, *self.moves, spacing=6)
        self.add(self.moving)
        self.copying = row(
            button("Copy", self.posing.copy, tip="Copy the pose under the playhead"),
            button("Paste", self.posing.paste, tip="Put the copied pose here; also on another clip of the rig"),
            button(
                "Layer", self.posing.adopt, tip="Lay the difference of the copied pose to this one over the whole clip"
            ),
            button("Mirror", self.posing.mirror, tip="Change left and right over"),
            None,
            spacing=6,
        )
        self.add(self.copying)
        self.longer = button("Hold", self.keying.hold, tip="Hold this pose a quarter of a second longer")
        self.copying.layout().insertWidget(4, self.longer)

    @staticmethod
    def _three(unit, most, name, act):
        """A number for each axis, which ``act(axis, value, settled)`` is told of."""
        numbers = []
        for axis, letter in enumerate("XYZ"):
            number = Number(0, unit, 1, 1, -most, most, 0, name.format(letter))
            number.setFixedWidth(76)
            number.edited.connect(lambda value, settled, a=axis: act(a, value, settled))
            numbers.append(number)
        return numbers

    def show_state(self):
        """Take the moment's bone."""
        posing = self.posing
        bake, joint = posing.bake, posing.joint
        self.setVisible(bake is not None)
        if bake is None:
            return
        eased = "" if posing.keyed else " The clip has a key on every frame: changes are corrections, eased in and out."
        name = bake.dense.skeleton.names[joint] if joint is not None else ""
        hint = _HINT if bake.controls is None else _HINT.replace("a bone", "a control")
        self.about.setText((f"{name}: ring turns it, dot moves it." if name else hint) + eased)
        self.turning.setVisible(posing.turnable)
        self.longer.setVisible(posing.keyed)
        self.moving.setVisible(posing.movable)
        for number in (*self.turns, *self.moves):
            number.set_value(0)

    def _move(self, axis, value, settled):
        """A number was typed: move along an axis of the world, and begin at zero again."""
        posing = self.posing
        if settled and value and posing.movable:
            shift = [0.0, 0.0, 0.0]
            shift[axis] = value / 100
            posing.move(posing.joint, shift, settled=True)
            self.moves[axis].set_value(0)

    def _turn(self, axis, value, settled):
        """A number was typed: turn the bone about an axis of its own, and begin at zero again."""
        posing = self.posing
        joint = posing.joint
        if not settled or not value or joint is None:
            return
        vector = [0.0, 0.0, 0.0]
        vector[axis] = math.radians(value)
        posing.turn_in_own_axes(joint, vector)
        self.turns[axis].set_value(0)
