"""Gather: what was found in the files, and the ways to correct it."""

from __future__ import annotations

from ..parts.widgets import button
from .base import Desk
from .fact_card import FactCard


class GatherDesk(Desk):
    title, lead = "Gather", "What was found in the files. Correct what is wrong; the files stay as they are."

    shows = ("entries", "bakes", "source", "rig")

    def build(self):
        self.back = button("Back to source and target", lambda: self.session.look_at(None))
        self.source, self.rig = (
            FactCard("Source clip", self.session, "No clip yet. Open a motion, or drop it on the window."),
            FactCard("Rig", self.session, "No rig yet. Open the rig that the motion goes onto."),
        )
        self.demo = button(
            "Open the demo project",
            self.session.demo_asked.emit,
            tip="The lamplighters of a small harbour town, and three puppets",
        )
        self.add(self.back, self.source, self.rig, self.demo)

    def show_state(self):
        state = self.session.state
        looked = state.entry(self.session.preview)
        self.back.setVisible(looked is not None)
        self.source.body.itemAt(0).widget().setText("Preview" if looked else "Source clip")
        self.source.show_entry(looked or state.source_entry)
        self.rig.setVisible(looked is None)
        self.rig.show_entry(state.rig_entry)
        self.demo.setVisible(not state.entries)
