"""Transfer: travel and height, and baking."""

from __future__ import annotations

from PySide6.QtWidgets import QCheckBox

from ...project.changes import PAIR
from ...project.commands import AddBake, SetTransfer
from ..parts.widgets import Card, Number, button, label, row
from .base import Desk
from .contacts import ContactsCard, FeetCard, HandsCard


class TransferDesk(Desk):
    title, lead = (
        "Transfer",
        "The rig follows live. Baking makes the result a new clip with a key on every frame.",
    )

    shows = (*PAIR, "limits")

    def build(self):
        travel = Card("Travel")
        self.in_place = QCheckBox("In place")
        self.in_place.setToolTip("The hips stay over one spot")
        self.in_place.toggled.connect(lambda on: self._set("in_place", on, True))
        self.stride = Number(100, "%", 1, 0, 1, 1000, 100, "Stride: ground travel relative to the leg lengths")
        self.stride.edited.connect(lambda v, s: self._set("stride", v / 100, s))
        self.height = Number(0, "cm", 0.5, 1, -500, 500, 0, "Hip height offset")
        self.height.edited.connect(lambda v, s: self._set("height_offset", v / 100, s))
        self.scale = label("", "quiet", wrap=True)
        self.root = label("", "quiet", wrap=True)
        travel.add(
            self.in_place,
            row(label("Stride"), None, self.stride),
            row(label("Hip height offset"), None, self.height),
            self.scale,
            self.root,
        )
        self.add(travel)
        self.feet = FeetCard(self.session)
        self.contacts = ContactsCard(self.session)
        self.hands = HandsCard(self.session)
        self.add(self.feet, self.hands, self.contacts)
        bake = Card()
        self.range = label("", wrap=True)
        self.fps = Number(30, "fps", 1, 3, 1, 1000, 30, "Frames per second of the baked clip")
        self.bake = button("Bake", self.bake_now, True, "Bake the range onto the rig, as a new clip (Ctrl+B)")
        self.fps.edited.connect(lambda rate, _settled: self.session.bake_at(rate))
        self.bake.setMinimumWidth(130)
        bake.add(self.range, row(label("at"), self.fps, None, self.bake))
        self.add_below(bake)

    def show_state(self):
        session = self.session
        pairing, state = session.state.pairing, session.state
        self.setEnabled(pairing is not None)
        if pairing is None:
            self.range.setText("Choose a source clip and a target rig first.")
            return
        self.feet.show_state()
        self.hands.show_state()
        self.contacts.show_state()
        settings = pairing.settings
        self.in_place.blockSignals(True)
        self.in_place.setChecked(settings.in_place)
        self.in_place.blockSignals(False)
        self.stride.set_value(settings.stride * 100)
        self.stride.setEnabled(not settings.in_place)
        self.height.set_value(settings.height_offset * 100)
        hips = any(s.part == "hips" for s in pairing.strings)
        self.bake.setEnabled(hips and not any(s.grave for s in session.snags if s.step == "string"))
        self.scale.setText(
            f"The rig's legs are {pairing.transfer.scale:.2f} times as long as the source's."
            if hips
            else "The hips have no string."
        )
        above = pairing.target.names[0] if hips and pairing.transfer.root is not None else None
        self.root.setText(
            f"The root bone {above} stays on the floor under the hips."
            if above
            else "The rig has no root bone on the floor; the hips travel."
        )
        rate = state.source_entry.placed_clip.rate
        self.fps.set_value(session.bake_rate)
        self.fps.set_default(rate)
        first, last = session.range
        self.range.setText(f"Frames {first} to {last} of {state.source_entry.name}, {(last - first) / rate:.2f} s")

    def _set(self, field, value, settled):
        self.session.drag(SetTransfer(((field, value),)), settled=settled)

    def bake_now(self):
        """Bake the range at the chosen rate."""
        session = self.session
        command, state = session.bake_command(), session.state

        def done(made):
            if session.do(AddBake(made)):
                clip = made.placed_clip
                session.told.emit(f"Baked {made.name}: {clip.frames} frames at {clip.rate:g} fps; it is in the library")

        session.job_asked.emit("bake", lambda _p: command.run(state).bakes[-1], done)
