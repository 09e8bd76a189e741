"""Gather: what was found in the files, and the ways to correct it."""

from __future__ import annotations

from ...project.markers.entry import MARKERS
from ..markers.card import RecordingCard
from ..parts.widgets import button
from .base import Desk
from .fact_card import FactCard


class GatherDesk(Desk):
    title, lead = "Gather", "What was found in the files. Correct what is wrong; the files stay as they are."

    shows = ("entries", "bakes", "source", "rig", "recordings")

    def build(self):
        self.recording = RecordingCard(self.session)
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
        self.add(self.back, self.recording, self.source, self.rig, self.demo)

    def show_state(self):
        state = self.session.state
        looked = state.entry(self.session.preview)
        self.back.setVisible(looked is not None)
        markers = looked is not None and looked.role == MARKERS
        self.recording.setVisible(markers)
        self.source.setVisible(not markers)
        if markers:
            self.recording.show_entry(looked)
            self.rig.hide()
            self.demo.hide()
            return
        self.source.body.itemAt(0).widget().setText("Preview" if looked else "Source clip")
        self.source.show_entry(looked or state.source_entry)
        self.rig.setVisible(looked is None)
        self.rig.show_entry(state.rig_entry)
        self.demo.setVisible(not state.entries and not state.recordings)
