"""Gather's card of a recording: facts and where it lies, how well the figure fits, markers, faults, and the take."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QVBoxLayout, QWidget

from ...core.figure.placement import AXIS_NAMES
from ...core.markers.mends import BELIEVE, EXCHANGE, FILL, LEAVE_OUT, Mend
from ...project.commands import (
    AddEntries,
    AssignMarker,
    Choose,
    KeepFigure,
    LetGoMarkers,
    LetGoMend,
    MendMarkers,
    PlaceRecording,
)
from ...project.markers.deciding import choices, undecided
from ...project.markers.entry import take_of
from ...project.markers.files import FIGURE, LABELLING
from ...project.markers.showing import marker_rows, nearest_markers, pictured, told_faults, unknown_segments
from ...wording.findings import counted, finding_words
from ...wording.markers import choice_words, decided_words, fault_words, segment_words
from .. import theme
from ..desks.facts import FactGrid, choice, measure_options
from ..parts.widgets import Card, Number, button, label, menu_button, row
from .files import FILLED, MARKERS
from .picture import BodyPicture
from .sizing import SizingCard
from .table import NOWHERE, MarkerTable

_MOST = 12  # faults that are listed
_NEAREST = 20  # markers that one may have changed places with


class RecordingCard(QWidget):
    """All of Gather for one recording. ``write_asked(what)``: its markers, its labelling or its figure are to be written."""

    write_asked = Signal(str)

    def __init__(self, session):
        super().__init__()
        self.session, self.entry, self._facts_of, self._faults_of = session, None, None, None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(12)
        self.sizing = SizingCard(session)
        self.sizing.hide()
        cards = self._figure_card(), self.sizing, self._markers_card(), self._faults_card(), self._facts_card()
        for card in cards:
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
        self.by_hand = QCheckBox("Size the figure by hand")
        self.by_hand.setToolTip("Set its lengths, and move its joints inside the markers on the stage")
        self.by_hand.toggled.connect(self._size_by_hand)
        self.write = menu_button(
            "Write …", self._fill_write, "Write the markers, the labelling or the figure to a file"
        )
        return Card("Recording").add(
            self.name, self.told, row(label("Take at", "quiet"), None, self.fps), row(self.make, self.keep), self.again,
            self.by_hand, self.write,
        )  # fmt: skip

    def _markers_card(self):
        self.picture = BodyPicture()
        self.table = MarkerTable(lambda: self.entry.structure.names if self.entry else ())
        self.mirror = QCheckBox("Both sides at once")
        self.mirror.setChecked(True)
        self.mirror.setToolTip("The marker of the same name on the other side goes with that side's segment")
        self.names = QCheckBox("Labels on the stage")
        self.names.toggled.connect(self.session.name_dots)
        self.mend = menu_button("Mend here", self._fill_mend, "Mend the chosen marker in the frames of the range")
        self.reset = button("Reset", self._let_go, tip="Let go of all that was set by hand of these markers")
        self.picture.pin_chosen.connect(self.session.choose_marker)
        self.picture.pin_dragged.connect(self.assign)
        self.picture.segment_clicked.connect(lambda segment: self.assign(self.session.marker, segment))
        self.table.chosen.connect(self.session.choose_marker)
        self.table.rows.assigned.connect(lambda marker, name: self.assign(marker, None if name == NOWHERE else name))
        return Card("Markers on segments").add(
            self.picture, self.mirror, self.names, self.table, row(self.mend, self.reset)
        )

    def _faults_card(self):
        self.faults = QWidget()
        self.fault_rows = QVBoxLayout(self.faults)
        self.fault_rows.setContentsMargins(0, 0, 0, 0)
        self.keep_all = button("Keep all mends", self._keep_all, tip="Keep what was mended by itself, as it is")
        self.faults_card = Card("Faults").add(self.faults, self.keep_all)
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
        self.mend.setEnabled(self.session.marker in entry.recording.index)
        self.reset.setEnabled(bool(entry.labelling or entry.mends))
        self.sizing.show_entry(entry, solution)

    def _show_faults(self, entry, solution):
        key = entry.id, solution, entry.mends
        if key == self._faults_of:
            return
        self._faults_of = key
        while self.fault_rows.count():
            widget = self.fault_rows.takeAt(0).widget()
            widget.hide()
            widget.deleteLater()
        told = [] if solution is None else told_faults(entry, solution)
        self.faults_card.setVisible(bool(told or entry.mends))
        self.keep_all.setVisible(bool(told) and bool(undecided(entry, solution)))
        for fault in told[:_MOST]:
            self.fault_rows.addWidget(self._fault_row(entry, fault))
        if len(told) > _MOST:
            self.fault_rows.addWidget(label(f"and {len(told) - _MOST} more", "quiet"))
        for mend in entry.mends:
            back = button("Let go", lambda m=mend: self.session.do(LetGoMend(entry.id, m)), tip="Take this back")
            self.fault_rows.addWidget(row(label(decided_words(mend), "quiet", wrap=True), back))

    def _fault_row(self, entry, fault):
        """A fault in words, a way to it, and what can be decided about it; what is done by itself stands first."""
        can = choices(entry, fault)
        options = [(f"By itself: {choice_words(can[0][0], fault).lower()}", None)]
        options += [(choice_words(what, fault), command) for what, command in can]
        box = choice("Mend", options, None, lambda command: command and self.session.do(command))
        holder = QWidget()
        column = QVBoxLayout(holder)
        column.setContentsMargins(0, 0, 0, 4)
        column.setSpacing(3)
        column.addWidget(label(f"◆ {fault_words(fault, entry.recording.labels)}", wrap=True))
        go = button("Go", lambda: self._go(fault), tip="Go to the first frame of it")
        column.addWidget(row(go, box, stretch_last=True))
        return holder

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
        self.mend.setEnabled(self.entry is not None and self.session.marker in self.entry.recording.index)

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

    def _size_by_hand(self, on):
        self.sizing.setVisible(on)
        self.session.view_changed.emit()

    def _keep_all(self):
        solution = self.session.solving.solution(self.entry)
        self.session.do(*(choices(self.entry, fault)[0][1] for fault in undecided(self.entry, solution)))

    def _fill_mend(self, menu):
        """What can be done about the chosen marker in the frames of the range."""
        menu.clear()
        marker, span = self.session.marker, self.session.range
        for kind, text in ((LEAVE_OUT, "Leave out"), (FILL, "Fill from its segment"), (BELIEVE, "Believe it")):
            menu.addAction(text, lambda kind=kind: self._mend(Mend(kind, marker, *span)))
        menu.addAction("Leave out everywhere", lambda: self.assign(marker, None))
        others = menu.addMenu("Exchange with")
        for other in nearest_markers(self.entry, marker, span[0])[:_NEAREST]:
            others.addAction(other, lambda other=other: self._mend(Mend(EXCHANGE, marker, *span, other)))

    def _mend(self, mend):
        if self.session.do(MendMarkers(self.entry.id, (mend,))):
            self.session.told.emit(decided_words(mend))

    def _fill_write(self, menu):
        menu.clear()
        solved = self.session.solving.solution(self.entry) is not None
        for text, what in (
            ("Markers, mended …", MARKERS),
            ("Markers, mended and gaps filled …", FILLED),
            ("Labelling …", LABELLING),
            ("Body figure …", FIGURE),
        ):
            menu.addAction(text, lambda what=what: self.write_asked.emit(what)).setEnabled(solved)

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
