"""Transfer: travel and height, and baking."""

from __future__ import annotations

from ...project.changes import PAIR
from ...project.commands import AddBake
from ..learning import learn_words
from ..parts.widgets import Card, Number, button, label, row
from .base import Desk
from .contacts import ContactsCard, FeetCard, HandsCard
from .travel import TravelCard


class TransferDesk(Desk):
    title, lead = (
        "Transfer",
        "The rig follows live. Baking makes the result a new clip with a key on every frame.",
    )

    shows = (*PAIR, "limits")

    def build(self):
        self.travel = TravelCard(self.session)
        self.add(self.travel)
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
        self.travel.show_state()
        hips = any(s.part == "hips" for s in pairing.strings)
        self.bake.setEnabled(hips and not any(s.grave for s in session.snags if s.step == "string"))
        rate = state.source_entry.placed_clip.rate
        self.fps.set_value(session.bake_rate)
        self.fps.set_default(rate)
        first, last = session.range
        self.range.setText(f"Frames {first} to {last} of {state.source_entry.name}, {(last - first) / rate:.2f} s")

    def bake_now(self):
        """Bake the range at the chosen rate."""
        session = self.session
        command, state = session.bake_command(), session.state

        def done(made):
            if session.do(AddBake(made)):
                clip = made.placed_clip
                session.told.emit(f"Baked {made.name}: {clip.frames} frames at {clip.rate:g} fps; it is in the library")
                learn_words(session)

        session.job_asked.emit("bake", lambda _p: command.run(state).bakes[-1], done)
