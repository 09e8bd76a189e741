"""Gather's card of a recording: facts and where it lies, how well the figure fits, markers, faults, and the take."""

from __future__ import annotations

from PySide6.QtWidgets import QCheckBox, QVBoxLayout, QWidget

from ...core.figure.placement import AXIS_NAMES
from ...project.commands import (
    AddEntries,
    AssignMarker,
    Choose,
    KeepFigure,
    LeaveOutMarker,
    LetGoMarkers,
    PlaceRecording,
)
from ...project.markers.entry import take_of
from ...project.markers.showing import marker_rows, pictured, told_faults, unknown_segments
from ...wording.findings import counted, finding_words
from ...wording.markers import fault_words, mend_words, segment_words
from .. import theme
from ..desks.facts import FactGrid, choice, measure_options
from ..parts.widgets import Card, Number, button, label, row
from .picture import BodyPicture
from .table import NOWHERE, MarkerTable

_MOST = 12  # faults that are listed


class RecordingCard(QWidget):
    """All of Gather for one recording."""

    def __init__(self, session):
        super().__init__()
        self.session, self.entry, self._facts_of, self._faults_of = session, None, None, None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(12)
        for card in (self._figure_card(), self._markers_card(), self._faults_card(), self._facts_card()):
            column.addWidget(card)
        session.solving.ready.connect(self.show_entry)
        session.solving.changed.connect(self.show_entry)
        session.solving.progressed.connect(self._show_progress)
        session.marker_chosen.connect(self._show_choice)

    # --- building -------------------------------------------------------------------------------
    def _figure_card(self):
        self.name = label("", wrap=True)
        self.name.setFont(theme.font(13, True))
        self.told = label("", wrap=True)
        self.make = button(
            "Make a take", self.make_take, main=True, tip="Add the solved motion to the library as a clip"
        )
        self.keep = button(
            "Keep the figure", self._keep, tip="Use this figure for the performer's other recordings, too"
        )
        self.again = button("Solve", self.session.solving.again, tip="Fit the figure to the markers")
        self.fps = Number(100, "fps", 1, 2, 1, 1000, None, "Frame rate of the take")
        return Card("Recording").add(
            self.name, self.told, row(label("Take at", "quiet"), None, self.fps), row(self.make, self.keep), self.again
        )

    def _markers_card(self):
        self.picture = BodyPicture()
        self.table = MarkerTable(lambda: self.entry.structure.names if self.entry else ())
        self.mirror = QCheckBox("Both sides at once")
        self.mirror.setChecked(True)
        self.mirror.setToolTip("The marker of the same name on the other side goes with that side's segment")
        self.names = QCheckBox("Labels on the stage")
        self.names.toggled.connect(self.session.name_dots)
        self.leave = button(
            "Leave out here", self._leave, tip="Do not believe the chosen marker in the frames of the range"
        )
        self.reset = button("Reset", self._let_go, tip="Let go of all that was set by hand of these markers")
        self.picture.pin_chosen.connect(self.session.choose_marker)
        self.picture.pin_dragged.connect(self.assign)
        self.picture.segment_clicked.connect(lambda segment: self.assign(self.session.marker, segment))
        self.table.chosen.connect(self.session.choose_marker)
        self.table.rows.assigned.connect(lambda marker, name: self.assign(marker, None if name == NOWHERE else name))
        return Card("Markers on segments").add(
            self.picture, self.mirror, self.names, self.table, row(self.leave, self.reset)
        )

    def _faults_card(self):
        self.faults = QWidget()
        self.fault_rows = QVBoxLayout(self.faults)
        self.fault_rows.setContentsMargins(0, 0, 0, 0)
        self.faults_card = Card("Faults").add(self.faults)
        return self.faults_card

    def _facts_card(self):
        self.grid = FactGrid(self._editor)
        self.ahead, self.floor, self.centred = (
            self._switch(*of)
            for of in (
                ("Face ahead", "ahead", "Turn the recording so that the performer faces ahead at its start"),
                ("On the floor", "floor", "Move it up or down so that the lowest markers stand on the floor"),
                ("Over the origin", "centred", "Move it so that it starts over the middle of the grid"),
            )
        )
        self.turn = Number(0, "°", 5, 1, -360, 360, 0, "Turn about the vertical")
        self.turn.edited.connect(lambda value, settled: settled and self._place("turn", value))
        self.trim = button(
            "Trim to the part in use", self._trim, tip="Solve only the frames in which the performer moves"
        )
        self.whole = button("Whole", lambda: self._place("trim", None), tip="Solve the whole recording")
        self.notes = label("", "quiet", wrap=True)
        return Card("Where it lies").add(
            self.grid, self.ahead, self.floor, self.centred, row(label("Turn", "quiet"), None, self.turn),
            row(self.trim, self.whole), self.notes,
        )  # fmt: skip

    def _switch(self, text, name, tells):
        box = QCheckBox(text)
        box.setToolTip(tells)
        box.clicked.connect(lambda on: self._place(name, on))
        return box

    # --- showing --------------------------------------------------------------------------------
    def show_entry(self, entry=None):
        """Show a recording, or the one that is looked at as it is now."""
        entry = entry or self.session.solving.entry
        if entry is None:
            return
        fresh, self.entry = self.entry is None or self.entry.id != entry.id, entry
        solution = self.session.solving.solution(entry)
        self.name.setText(entry.name)
        if fresh:
            self.fps.set_value(entry.recording.rate)
            self.fps.set_default(entry.recording.rate)
        self._show_solution(entry, solution)
        self._show_faults(entry, solution)
        if self._facts_of != (entry.id, entry.placed):
            self._facts_of = entry.id, entry.placed
            self._show_facts(entry)

    def _show_solution(self, entry, solution):
        solving = self.session.solving
        ready, waits, rows = not solving.lags(entry), solving.waits(entry), marker_rows(entry, solution)
        self.again.setVisible(waits)
        if solution is None:
            text = "Not solved." if waits else "Fitting a figure to the markers …"
        else:
            usual = sorted(r.residual for r in rows if r.residual is not None)
            middle = usual[len(usual) // 2] * 1000 if usual else 0.0
            text = f"A figure of {solution.figure.stature:.2f} m on {counted(len(usual), 'marker')}, usually {middle:.1f} mm off."
            lost = unknown_segments(solution)
            if lost:
                text += f" No marker tells of: {', '.join(map(segment_words, lost))}."
            if entry.figure is not None:
                text += " The figure is kept."
            if not ready:
                text += " Not solved again." if waits else " Solving again …"
        self.told.setText(text)
        self.make.setEnabled(ready)
        self.keep.setEnabled(ready)
        self.keep.setText("Let go of the figure" if entry.figure is not None else "Keep the figure")
        self.table.rows.show_rows(rows, entry.recording.labels)
        odd = frozenset(r.label for r in rows if r.faults)
        self.picture.show_body(*pictured(entry, solution), self.session.marker, odd)
        self.leave.setEnabled(self.session.marker in entry.recording.index)
        self.reset.setEnabled(bool(entry.labelling or entry.left_out))

    def _show_faults(self, entry, solution):
        key = entry.id, id(solution), entry.left_out
        if key == self._faults_of:
            return
        self._faults_of = key
        while self.fault_rows.count():
            widget = self.fault_rows.takeAt(0).widget()
            widget.hide()
            widget.deleteLater()
        told = [] if solution is None else told_faults(entry, solution)
        self.faults_card.setVisible(bool(told or entry.left_out))
        for fault in told[:_MOST]:
            text = label(f"◆ {fault_words(fault, entry.recording.labels)} {mend_words(fault)}", wrap=True)
            go = button("Go", lambda f=fault: self._go(f), tip="Go to the first frame of it")
            self.fault_rows.addWidget(row(text, go))
        if len(told) > _MOST:
            self.fault_rows.addWidget(label(f"and {len(told) - _MOST} more", "quiet"))
        for one in entry.left_out:
            text = label(f"{one.label} is left out in frames {one.first} to {one.last}.", "quiet", wrap=True)
            back = button("Believe", lambda o=one: self.session.do(LeaveOutMarker(entry.id, o.label, o.first, o.last)))
            self.fault_rows.addWidget(row(text, back))

    def _show_facts(self, entry):
        self.grid.show_facts(entry.facts)
        placed = entry.placed
        for box, on in ((self.ahead, placed.ahead), (self.floor, placed.floor), (self.centred, placed.centred)):
            box.setChecked(on)
        self.turn.set_value(placed.turn)
        whole = entry.place.use == (0, entry.recording.frames - 1)
        self.trim.setEnabled(not whole and placed.trim != entry.place.use)
        self.whole.setEnabled(placed.trim is not None)
        self.notes.setText("\n".join(f"◆ {o.text} {o.remedy}" for o in map(finding_words, entry.oddities)))
        self.notes.setVisible(bool(entry.oddities))

    def _editor(self, fact, words):
        """What unit and up axis are corrected with; None for what is measured."""
        if fact.code not in ("unit", "up"):
            return None
        place = self.entry.place
        present = place.metres_per_unit if fact.code == "unit" else place.up
        by_hand = getattr(self.entry.placed, fact.code) is not None
        options, present = measure_options(fact.code, AXIS_NAMES, present, by_hand)
        return choice(words.label, options, present, lambda value: self._place(fact.code, value))

    def _show_progress(self, share):
        if self.entry is not None and self.session.solving.job is not None:
            known = self.session.solving.solution(self.entry) is not None
            self.told.setText(f"{'Solving again' if known else 'Fitting a figure to the markers'} … {share:.0%}")

    def _show_choice(self):
        self.table.choose(self.session.marker)
        self.picture.chosen = self.session.marker
        self.picture.update()
        self.leave.setEnabled(self.entry is not None and self.session.marker in self.entry.recording.index)

    # --- doing ----------------------------------------------------------------------------------
    def _place(self, name, value):
        self.session.do(PlaceRecording(self.entry.id, ((name, value),)))

    def _trim(self):
        self._place("trim", self.entry.place.use)

    def assign(self, marker, segment):
        """Say which segment a marker goes with."""
        if self.entry is not None and marker:
            self.session.do(AssignMarker(self.entry.id, marker, segment, self.mirror.isChecked()))
            self.session.told.emit(f"{marker}: {segment_words(segment)}")

    def _leave(self):
        self.session.do(LeaveOutMarker(self.entry.id, self.session.marker, *self.session.range))

    def _let_go(self):
        self.session.do(LetGoMarkers(self.entry.id))

    def _go(self, fault):
        self.session.choose_marker(self.entry.recording.labels[fault.marker])
        self.session.seek(fault.first)

    def _keep(self):
        solution = self.session.solving.solution(self.entry)
        self.session.do(KeepFigure(self.entry.id, None if self.entry.figure is not None else solution.figure))

    def make_take(self):
        """Add the solved motion to the library, as the source clip."""
        solution = self.session.solving.solution(self.entry)
        rate = self.fps.value
        fps = None if abs(rate - self.entry.recording.rate) < 1e-6 else rate
        take = take_of(self.entry, solution, fps)
        if self.session.do(AddEntries((take,)), Choose(take.id)):
            self.session.look_at(None)
            self.session.told.emit(f"{take.name} is in the library, and is the source clip")
