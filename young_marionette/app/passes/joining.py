"""Two baked clips joined: where they meet best is found and offered, and they become a new clip."""

from __future__ import annotations

from PySide6.QtWidgets import QButtonGroup, QRadioButton, QVBoxLayout

from ...project.commands import AddBake
from ...project.entry import new_id
from ...project.joining import changes_of, joined_bakes
from ..parts.widgets import Card, Number, button, label, row, tool

_BLEND = 0.4  # seconds


class JoinCard(Card):
    """Shown while a join is asked for."""

    def __init__(self, session):
        super().__init__()
        self.session, self.other, self.bake, self.changes = session, None, None, []
        self.title = label("", "section", wrap=True)
        self.close_ = tool("close", "Do not join", self.hide)
        self.blend = Number(_BLEND, "s", 0.05, 2, 0.1, 10, _BLEND, "Over which the first clip goes over into the other")
        self.blend.edited.connect(lambda _value, settled: settled and self._look())
        self.told = label("", "quiet", wrap=True)
        self.places = QVBoxLayout()
        self.group = QButtonGroup(self)
        self.join = button("Join as a new clip", self._join, True)
        self.add(row(self.title, self.close_, stretch_last=False), self.told)
        self.body.addLayout(self.places)
        self.add(row(label("Goes over within"), None, self.blend), row(None, self.join))
        self.hide()
        session.preview_changed.connect(self._check)
        session.document_changed.connect(lambda _change: self._check())

    def ask(self, other):
        """Look for where the clip that is worked on goes over into another one best."""
        self.bake, self.other = self.session.refined, other
        self.title.setText(f"Into {other.name}")
        self.show()
        self._look()

    def _check(self):
        """A card about clips that are not looked at any more goes."""
        state = self.session.state
        if self.bake is not None and (
            self.session.refined is not self.bake or state.entry(self.other.id) is not self.other
        ):
            self.bake = self.other = None
            self.hide()

    def _look(self):
        bake, other, seconds = self.bake, self.other, self.blend.value
        self.told.setText("Looking for where they meet …")
        self._show([])

        def done(changes):
            if self.bake is bake and self.other is other:
                self._show(changes)
                self.session.told.emit("Choose where the clips meet")

        self.session.job_asked.emit("look where clips meet", lambda _told: changes_of(bake, other, seconds), done)

    def _show(self, changes):
        while self.places.count():
            widget = self.places.takeAt(0).widget()
            self.group.removeButton(widget)
            widget.hide()
            widget.deleteLater()
        self.changes = changes
        for number, change in enumerate(changes):
            choice = QRadioButton(f"Frame {change.first}, there {change.second}: {change.cost * 100:.1f} cm apart")
            choice.setToolTip(
                "From this frame on, the other clip comes in at that one; how far apart the poses are there"
            )
            choice.toggled.connect(lambda on, frame=change.first: on and self.session.seek(frame))
            self.group.addButton(choice, number)
            self.places.addWidget(choice)
        if changes:
            self.told.setText("The best places, best first:")
            self.group.button(0).setChecked(True)
        self.join.setEnabled(bool(changes))

    def _join(self):
        change = self.changes[max(self.group.checkedId(), 0)]
        bake, other, seconds, identifier = self.bake, self.other, self.blend.value, new_id()

        def done(made):
            if self.session.do(AddBake(made, "join clips")):
                self.hide()
                self.session.compare_with(made.id)
                self.session.told.emit(f"Joined: {made.dense.frames} frames; it is in the library")

        self.session.job_asked.emit(
            "join clips", lambda _told: joined_bakes(identifier, bake, other, change, seconds), done
        )
