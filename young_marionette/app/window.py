"""The main window: puts the views together, and turns what the user does into commands."""

from __future__ import annotations

import os
import time
from urllib.parse import unquote_to_bytes

from PySide6.QtCore import QByteArray, Qt, QTimer, QUrl
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import (
    QHBoxLayout,
    QMainWindow,
    QMenu,
    QProgressBar,
    QSizePolicy,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from ..core.controls.rig import grip_of
from ..core.errors import InputError
from ..core.scene.dots import DOTS, ODD
from ..core.scene.picking import middle
from ..core.text import shown
from ..project.changes import EVERYTHING, FIGURES
from ..project.commands import MatchStance, TieAll, TurnBone
from ..project.recovery import Recovery
from ..project.snags import STEPS
from ..project.words import use as use_words
from . import settings, theme
from .autosave import Autosave
from .controls.card import ControlsCard
from .desks.deliver import DeliverDesk
from .desks.gather import GatherDesk
from .desks.refine import RefineDesk
from .desks.stance import StanceDesk
from .desks.string import StringDesk
from .desks.transfer import TransferDesk
from .director import Director
from .header import Header
from .keys import KeySheet
from .library import Library
from .parts.widgets import button, label, tool
from .passes.pose import PoseCard
from .posing import Posing
from .project_files import ProjectFiles
from .running import Running
from .session import DRESSES, Session
from .snag_panel import SnagPanel
from .stage.view import ARRANGEMENTS, CONTROLS, StageView, make_renderer
from .timeline import BAR, Timeline

_WIDE = 1180  # pixels: narrower windows show no library beside the table of files
DESKS = {
    "gather": GatherDesk,
    "string": StringDesk,
    "stance": StanceDesk,
    "transfer": TransferDesk,
    "refine": RefineDesk,
    "deliver": DeliverDesk,
}


def local_path(url):
    """The path of a dropped file, byte by byte: names need not be UTF-8, which Qt would lose."""
    return os.fsdecode(
        unquote_to_bytes(bytes(url.toEncoded(QUrl.ComponentFormattingOption.FullyEncoded)).removeprefix(b"file://"))
    )


class Bar(QWidget):
    """A strip over the work with a sentence and buttons; it never stops the work."""

    def __init__(self, name):
        super().__init__()
        self.setObjectName(name)
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.hide()
        self.layout_ = QHBoxLayout(self)
        self.layout_.setContentsMargins(14, 6, 8, 6)
        self.text = label("", wrap=True)
        self.layout_.addWidget(self.text, 1)

    def say(self, text, *buttons):
        """Show a sentence with buttons."""
        while self.layout_.count() > 1:
            self.layout_.takeAt(1).widget().deleteLater()
        self.text.setText(text)
        for widget in buttons:
            self.layout_.addWidget(widget)
        self.layout_.addWidget(tool("close", "Close this", self.hide))
        self.show()


class Window(QMainWindow):
    """The one window."""

    def __init__(self, recovery_folder=None, renderer=None):
        super().__init__()
        self.session = Session(self)
        self.director = Director(self.session)
        self.running = Running(self.session)
        self.autosave = Autosave(self.session, Recovery(recovery_folder or settings.data_folder() / "recovery"))
        self.files = ProjectFiles(self, self.session, self.running, self.autosave)
        self.setAcceptDrops(True)
        self.setMinimumSize(1000, 660)
        self.resize(1280, 800)
        self._framed_for = self._arranged_before = self._posed_for = self._shown_pairing = self._shown_bake = None
        self._shown_recording = None
        self._pictures, self._view = [], -1
        self._library_width = int(settings.get("window/library", 0) or 0)
        usual, self._stage_note = renderer or make_renderer()
        with theme.undressed():
            self.stage = StageView(usual)
            self.posing = Posing(self.session)
            self._build()
            controls = ControlsCard(self.session, self.files.controls)
            self.desks["refine"].add_cards(PoseCard(self.posing, self.timeline.lanes.keying), controls)
        self._connect()
        self._shortcuts()
        self._on_document(EVERYTHING)
        self._on_step()
        self.stage.setFocus()
        if self._stage_note:
            self.tell(self._stage_note)
        if trouble := use_words():
            self.complain(trouble)
        self.files.offer_recovery()

    # --- building -------------------------------------------------------------------------------
    def _build(self):
        centre = QWidget()
        self.setCentralWidget(centre)
        column = QVBoxLayout(centre)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        self.menu = self._project_menu()
        self.header = Header(self.session, self.menu)
        self.banner, self.message = Bar("banner"), Bar("message")
        self.library = Library(self.session)
        self.desk_holder = QStackedWidget()
        self.desk_holder.setObjectName("desk")
        self.desks = {step: DESKS[step](self.session) for step in STEPS}
        for desk in self.desks.values():
            self.desk_holder.addWidget(desk)
        self.timeline = Timeline(self.session)
        self.split = QSplitter()
        self.split.setHandleWidth(4)
        self.split.setChildrenCollapsible(False)
        self.centre = QSplitter(Qt.Orientation.Vertical)
        self.centre.setHandleWidth(4)
        self.centre.setChildrenCollapsible(False)
        self.centre.addWidget(self.stage)
        self.files_panel = self.desks["deliver"].panel
        self.centre.addWidget(self.files_panel)
        self.files_panel.hide()
        for widget in (self.library, self.centre, self.desk_holder):
            self.split.addWidget(widget)
        self.split.setStretchFactor(1, 1)
        self.split.splitterMoved.connect(self._split_moved)
        self.centre.splitterMoved.connect(lambda *_: settings.put("files/height", self.centre.sizes()[1]))
        self.library.setMinimumWidth(190)
        self.desk_holder.setMinimumWidth(320)
        self.stack = QSplitter(Qt.Orientation.Vertical)
        self.stack.setHandleWidth(4)
        self.stack.setChildrenCollapsible(False)
        self.stack.addWidget(self.split)
        self.stack.addWidget(self.timeline)
        self.stack.setStretchFactor(0, 1)
        self.stack.splitterMoved.connect(self._lanes_moved)
        for widget, stretch in (
            (self.header, 0),
            (self.banner, 0),
            (self.message, 0),
            (self.stack, 1),
            (self._status(), 0),
        ):
            column.addWidget(widget, stretch)
        self.snag_panel, self.sheet = SnagPanel(centre, self.session), KeySheet(centre)
        self.stage.empty_text = (
            "Open a motion and a rig, or drop their files anywhere on this window: BVH, glTF, VRM, USD or ASF/AMC, "
            "or markers as C3D, TRC or CSV."
        )
        self.stage.bone_names = self._bone_name

    def _status(self):
        holder = QWidget()
        holder.setFixedHeight(28)
        layout = QHBoxLayout(holder)
        layout.setContentsMargins(14, 0, 14, 4)
        self.status = label("", "quiet")
        self.status.setFont(theme.font(11))
        self.speed = label("", "quiet")
        self.speed.setFont(theme.font(11, tabular=True))
        self.progress = QProgressBar()
        self.progress.setFixedWidth(160)
        self.progress.setTextVisible(False)
        self.progress.hide()
        self.cancel = tool("close", "Cancel the running job", self._cancel)
        self.cancel.hide()
        layout.addWidget(self.status, 1)
        layout.addWidget(self.progress)
        layout.addWidget(self.cancel)
        layout.addWidget(self.speed)
        return holder

    def _project_menu(self):
        menu = QMenu(self)
        for text, keys, action in (
            ("New project", "Ctrl+N", self.files.new),
            ("Open files or a project …", "Ctrl+O", self.files.ask_open),
            (None, None, None),
            ("Save", "Ctrl+S", self.files.save),
            ("Save as …", "Ctrl+Shift+S", self.files.save_as),
            ("Rename the project …", "", self.files.rename),
            (None, None, None),
            ("Add the stringing to the library", "", self.files.keep_stringing),
            ("Save the stringing as …", "", self.files.save_stringing),
            (None, None, None),
            ("Keyboard shortcuts", "F1", self._toggle_keys),
            ("Close", "Ctrl+Q", self.close),
        ):
            if text is None:
                menu.addSeparator()
                continue
            entry = menu.addAction(text, action)
            if keys:
                entry.setShortcut(QKeySequence(keys))
                self.addAction(entry)
        return menu

    def _connect(self):
        session, stage = self.session, self.stage
        session.document_changed.connect(self._on_document)
        session.preview_changed.connect(self._on_preview)
        session.frame_changed.connect(self.show_stage)
        session.posed.connect(self._on_posed)
        session.live.ready.connect(self.show_stage)
        session.passing.ready.connect(self.show_stage)
        session.solving.ready.connect(lambda: self._show_figures(True))
        session.solving.progressed.connect(lambda share: self.progress.setValue(int(share * 100)))
        session.solving.changed.connect(self._show_jobs)
        session.marker_chosen.connect(self.show_stage)
        session.bones_changed.connect(self.show_stage)
        session.controls_changed.connect(self.show_stage)
        session.playing_changed.connect(self.show_stage)
        session.pass_chosen.connect(self._on_pass)
        session.step_changed.connect(self._on_step)
        session.chosen_changed.connect(self._on_chosen)
        session.view_changed.connect(self._on_view)
        session.message.connect(self.complain)
        session.told.connect(self.tell)
        session.demo_asked.connect(self.files.open_demo)
        session.job_asked.connect(self.running.run)
        self.running.changed.connect(self._show_jobs)
        self.running.progressed.connect(lambda share: self.progress.setValue(int(share * 100)))
        self.autosave.works_again.connect(self.message.hide)
        self.files.found.connect(self._offer)
        self.files.settled.connect(self.banner.hide)
        self.timeline.asked.connect(self._toggle_lanes)
        self.timeline.curves_asked.connect(self._toggle_curves)
        self.timeline.curves.offset_asked.connect(self.desks["refine"].offset)
        stage.arrangement_asked.connect(session.arrange)
        stage.dress_asked.connect(self._next_dress)
        stage.frame_asked.connect(lambda: stage.frame())
        stage.pointed.connect(self.tell)
        stage.picked.connect(self._picked)
        stage.control_picked.connect(self._control_picked)
        stage.turned.connect(self._turned)
        stage.moved.connect(self._moved)
        stage.tie_picked.connect(self._tie_picked)
        stage.trails.toggled.connect(self._set_trails)
        stage.follow.toggled.connect(lambda _on: self.show_stage())
        stage.drawn.connect(self._count_pictures)
        stage.too_heavy.connect(
            lambda: self.tell("This body is too large to draw while it moves: it is shown when the view is still.")
        )
        self.library.open_asked.connect(self.files.ask_open)
        self.desks["gather"].recording.write_asked.connect(self.files.recordings.ask_write)
        self.header.snags.clicked.connect(self._toggle_snags)

    def _shortcuts(self):
        session = self.session
        table = {
            "Space": session.play,
            "Left": lambda: session.seek(session.frame - 1),
            "Right": lambda: session.seek(session.frame + 1),
            "Shift+Left": lambda: session.seek(session.range[0]),
            "Shift+Right": lambda: session.seek(session.range[1]),
            "I": lambda: session.set_range(session.frame, max(session.frame, session.range[1])),
            "O": lambda: session.set_range(min(session.frame, session.range[0]), session.frame),
            "L": lambda: self.timeline.loop.toggle(),
            "N": self._toggle_lanes,
            "Shift+N": self._toggle_curves,
            "A": self.desks["refine"].toggle_before,
            ",": lambda: self.timeline.lanes.editing.step(-1),
            ".": lambda: self.timeline.lanes.editing.step(1),
            "Alt+Left": lambda: self.timeline.lanes.keying.step(-1),
            "Alt+Right": lambda: self.timeline.lanes.keying.step(1),
            "V": self._next_arrangement,
            "C": self._next_view,
            "Home": lambda: self.stage.frame(),
            "G": session.ground,
            "H": lambda: self.stage.follow.toggle(),
            "T": lambda: self.stage.trails.toggle(),
            "B": self._next_dress,
            "J": lambda: session.show_controls(not session.shows_controls),
            "Alt+S": self._toggle_snags,
            "Alt+M": lambda: self.header.menu.showMenu(),
            "Ctrl+Z": session.undo,
            "Ctrl+Shift+Z": session.redo,
            "Ctrl+Y": session.redo,
            "Ctrl+T": lambda: session.do(TieAll()),
            "Ctrl+M": lambda: session.do(MatchStance()),
            "Ctrl+B": self._bake,
            "Ctrl+D": self._deliver,
            "Esc": self._escape,
        }
        table.update({f"Alt+{i}": lambda s=step: session.go(s) for i, step in enumerate(STEPS, 1)})
        for keys, action in table.items():
            QShortcut(QKeySequence(keys), self, activated=action)

    # --- showing --------------------------------------------------------------------------------
    def _on_posed(self):
        """Put another pose on the screen before any list is made anew; other figures have to be framed first."""
        pairing, bake, recording = self.session.state.pairing, self.session.refined, self.session.solving.entry
        other = (
            pairing is not self._shown_pairing or bake is not self._shown_bake or recording is not self._shown_recording
        )
        if self.isVisible() and other and self._on_stage() == self._framed_for:
            self.show_stage(at_once=True)
            self.stage.repaint()
            self._posed_for = self.session.state

    def _on_stage(self):
        state = self.session.state
        entries = state.source_entry, state.rig_entry, state.entry(self.session.preview)
        recording = self.session.solving.entry
        # The figure of a recording comes later than its markers.
        solved = recording is not None and self.session.solving.solution(recording) is not None
        return {solved, *((e.id, e.correction) if e else None for e in entries)}

    def _on_document(self, change):
        document = self.session.document
        name = shown(self.session.state.name).replace("[*]", "[*][*]")
        self.setWindowTitle(f"{name}{' *' if document.unsaved else ''} – Young Marionette")
        if change.touches(*self.desks[self.session.step].shows):
            self._show_desk()
        if change.touches(*FIGURES):
            self._show_figures(self._posed_for is not self.session.state)
        self._posed_for = None
        if document.unsaved:
            self.autosave.soon()

    def _on_preview(self):
        self._show_desk()
        self._show_figures(True)

    def _show_figures(self, changed):
        """Draw the stage where it changed, and frame figures that were not on it before."""
        figures = self._on_stage()
        fresh, self._framed_for = figures != self._framed_for, figures
        if fresh or changed:
            self.show_stage()
        if fresh:
            self.stage.frame(glide=self.isVisible())

    def _on_step(self):
        desk = self.desks[self.session.step]
        for other in self.desks.values():
            # Only the desk in front says how tall the window has to be.
            tall = QSizePolicy.Policy.Preferred if other is desk else QSizePolicy.Policy.Ignored
            other.setSizePolicy(QSizePolicy.Policy.Preferred, tall)
        self.desk_holder.setCurrentWidget(desk)
        if self.session.step == "stance" and self.session.arrangement == "beside":
            self._arranged_before, self.session.arrangement = "beside", "over"
        elif self.session.step != "stance" and self._arranged_before:
            self.session.arrangement, self._arranged_before = self._arranged_before, None
        self._show_files()
        self._share_width()
        self._show_lanes()
        if not self.running.jobs:
            self.tell("")  # what was told belonged to the step before
        self._on_view()

    def _share_width(self):
        """Divide the window between library, stage and desk."""
        desk = self.desks[self.session.step]
        total = self.split.width()
        # As wide as the user made it; else what its rows need.
        left = self._library_width or min(max(236, total // 8), max(280, total // 6))
        left = max(min(left, total - desk.minimumSizeHint().width() - 360), self.library.minimumWidth())
        wide = min(desk.wide, total - left - 340)
        self.split.setSizes([left, total - left - wide, wide])

    def _show_files(self):
        """The table of files stands beneath the stage where files are written."""
        on = self.session.step == "deliver"
        # The clips are in the table, too: where there is little room, it is the table's.
        self.library.setVisible(not on or self.width() >= _WIDE)
        if on != self.files_panel.isVisibleTo(self.centre):
            self.files_panel.setVisible(on)
            tall = self.centre.height()
            wanted = int(settings.get("files/height", 0) or 0) or int(0.56 * tall)
            self.centre.setSizes([max(tall - wanted, 120), wanted])
            QTimer.singleShot(0, self.stage, lambda: self.stage.frame(glide=self.isVisible()))

    def _show_lanes(self):
        """Lanes and curves are shown in the steps in which they were wanted last: lanes at first where the result is judged."""
        step, timeline = self.session.step, self.timeline
        curves = str(settings.get(f"curves/{step}", False)).lower() == "true"
        usual = step in ("transfer", "refine") and not curves
        lanes = str(settings.get(f"lanes/{step}", usual)).lower() == "true"
        if (lanes, curves) != (timeline.open, timeline.curves_open):
            timeline.show_lanes(lanes, curves)
            QTimer.singleShot(0, self.stage, lambda: self.stage.frame(glide=self.isVisible()))
        self.session.marks = lanes
        total = sum(self.stack.sizes())
        tall = int(settings.get("lanes/height", 0) or 0) or max(self.height() // 4, 170) if lanes else 0
        if lanes and curves:
            tall = min(tall, self.height() // 6)
        wanted = int(settings.get("curves/height", 0) or 0) or int(self.height() * 0.32) if curves else 0
        both = min(tall + wanted, int(0.62 * total))
        self.stack.setSizes([total - BAR - both, BAR + both])
        timeline.halves.setSizes([both - tall, tall])

    def _toggle_lanes(self):
        settings.put(f"lanes/{self.session.step}", not self.timeline.open)
        self._show_lanes()
        self.show_stage()

    def _toggle_curves(self):
        settings.put(f"curves/{self.session.step}", not self.timeline.curves_open)
        self._show_lanes()
        self.show_stage()

    def _lanes_moved(self, _place, _handle):
        """Lanes and curves keep the height that they were given; dragged to the bar's own, they are hidden."""
        tall = max(self.stack.sizes()[1] - BAR, 60)
        if self.timeline.curves_open:
            settings.put("curves/height", max(tall - (self.timeline.area.height() if self.timeline.open else 0), 150))
        else:
            settings.put("lanes/height", tall)

    def _split_moved(self, _place, handle):
        """The library keeps the width that it was given, in every step and the next time."""
        if handle == 1:
            self._library_width = self.split.sizes()[0]
            settings.put("window/library", self._library_width)

    def _on_view(self):
        self.stage.set_arrangement(self.session.arrangement)
        self._show_desk()
        self.show_stage()
        self.stage.frame(glide=self.isVisible())

    def _on_pass(self):
        self._show_desk()
        if self.session.before:
            self.show_stage()

    def _on_chosen(self):
        self._show_desk()
        self.show_stage()

    def _show_desk(self):
        self.desks[self.session.step].show_state()

    def show_stage(self, at_once=False):
        """Show the figures of the moment; ``at_once``: they are drawn while the rest is worked out."""
        figures = self.director.figures()
        if figures:
            camera = self.stage.camera
            (camera.follow if self.stage.follow.isChecked() else camera.go_along)(middle(figures))
        self.stage.show_figures(figures, self.director.lines(figures))
        if at_once:
            self.stage.begin()
        pairing = self._shown_pairing = self.session.state.pairing
        self._shown_bake, self._shown_recording = self.session.refined, self.session.solving.entry
        ringed = (
            self.session.step == "stance"
            and not self.session.preview
            and pairing is not None
            and self.session.bone in pairing.target.index
        )
        sized, posed = self._sizing.handle, self.posing.joint
        if self.session.step == "gather" and sized is not None:
            self.stage.handle, self.stage.handled, self.stage.movable = sized, "performer", True
        else:
            self.stage.handle = pairing.target.index[self.session.bone] if ringed else posed
            self.stage.handled = "marionette" if ringed else "baked"
            self.stage.movable = posed is not None and not ringed
        if self.posing.grip is not None:
            self.stage.handled, self.stage.movable = CONTROLS, self.posing.movable
        self.stage.turnable = self.stage.handled != CONTROLS or self.posing.turnable
        self.stage.tackle.show(self.director.tackle(figures), self.session.bones)
        if self.stage.handled == CONTROLS and self.stage.tackle.place_of(self.stage.handle) is None:
            self.stage.handle = None
        self.stage.names = self.director.names
        if self.session.step == "transfer" and not self.session.playing:
            self.desks["transfer"].show_state()

    def _count_pictures(self):
        """Tell how many fps drawn the stage shows while it plays."""
        if not self.session.playing:
            self._pictures = []
            self.speed.setText("")
            return
        now = time.monotonic()
        self._pictures = [t for t in self._pictures if now - t < 1.0] + [now]
        span = now - self._pictures[0]
        if span > 0.3:
            self.speed.setText(f"{(len(self._pictures) - 1) / span:.0f} fps drawn")

    def _next_dress(self):
        """Bodies, seen through, bones alone; and round again."""
        self.session.dress_as(DRESSES[(DRESSES.index(self.session.dress) + 1) % len(DRESSES)])
        self.tell(
            {"body": "Bodies", "through": "See-through bodies over their bones", "bones": "Bones only"}[
                self.session.dress
            ]
        )

    def _set_trails(self, on):
        self.session.trails = on
        self.show_stage()

    def _next_arrangement(self):
        order = ARRANGEMENTS
        self.session.arrange(order[(order.index(self.session.arrangement) + 1) % len(order)])

    def _next_view(self):
        self._view = (self._view + 1) % 3
        self.stage.look_from(("front", "side", "top")[self._view])

    def _bone_name(self, figure, joint):
        if figure.kind in (DOTS, ODD):
            return self.director.dot_label(figure.kind, joint)
        entry = self._entry_of(figure.kind)
        return entry.skeleton.names[joint] if entry else ""

    def _entry_of(self, kind):
        state = self.session.state
        return (
            (self.session.solving.entry and self.session.solving.take(self.session.solving.entry))
            or state.entry(self.session.preview)
            or (self.session.refined if kind != "performer" and self.session.step == "refine" else None)
            or {"performer": state.source_entry, "marionette": state.rig_entry}.get(kind)
            or state.entry(self.session.compare)
        )

    def _picked(self, kind, joint):
        if self.session.solving.entry is not None:
            if kind in (DOTS, ODD):
                self.session.choose_marker(self.director.dot_label(kind, joint))
                self.tell(self.session.marker)
            elif self._sizing.isVisible() and kind == "performer":
                self._sizing.pick(joint)
                self.show_stage()
            elif kind and joint >= 0 and self.session.marker:
                # A dot, then a bone of the figure: the marker goes with that segment.
                take = self.session.solving.take(self.session.solving.entry)
                self.desks["gather"].recording.assign(self.session.marker, take.skeleton.names[joint])
            return
        if self.session.step == "refine" and self.session.refined is not None and kind != "performer":
            if joint >= 0:
                rig = self.session.refined.control_rig
                if rig is not None:
                    self._control_picked(grip_of(rig, joint), False)
                    return
                name = self.session.refined.skeleton.names[joint]
                self.session.show_curves_of((name,))
                self.tell(f"{self.session.refined.name}: {name}")
            return
        if joint < 0 or kind not in ("performer", "marionette") or self.session.preview:
            return
        entry = self._entry_of(kind)
        name = entry.skeleton.names[joint]
        part = self.desks["string"].board
        part.show_pair(
            self.session.state.source_entry, self.session.state.rig_entry, self.session.state.pairing, self.session.part
        )
        side = "source" if kind == "performer" else "rig"
        chosen = part.part_of(side, name) if part.source and part.rig else None
        self.session.choose(chosen, name if kind == "marionette" else None)
        self.tell(f"{entry.name}: {name}" + (f", {chosen}" if chosen else ""))

    def _control_picked(self, name, add):
        """A control on the stage was clicked: it is what is worked on; with Ctrl, beside those before."""
        if name is not None:
            known = self.session.bones
            others = tuple(n for n in known if n != name) if add else ()
            self.session.show_curves_of((*others, *(() if add and name in known else (name,))))
            self.tell(f"{self.session.refined.name}: {name}")

    def _tie_picked(self, kind, joint):
        """A bone on the stage was clicked with Shift: tie it with one of the other figure."""
        state = self.session.state
        if (
            joint < 0
            or kind not in ("performer", "marionette")
            or self.session.preview
            or not (state.source_entry and state.rig_entry)
        ):
            return
        desk = self.desks["string"]
        desk.board.show_pair(state.source_entry, state.rig_entry, state.pairing, self.session.part)
        desk.click_to_tie("source" if kind == "performer" else "rig", self._entry_of(kind).skeleton.names[joint])

    @property
    def _sizing(self):
        return self.desks["gather"].recording.sizing

    @property
    def _shaping(self):
        """Who changes what the handle on the stage stands on: the figure of a recording, or a pose."""
        return self._sizing if self.session.solving.entry is not None else self.posing

    def _turned(self, joint, vector, settled):
        """The ring on the stage was dragged: turn the bone in the stance, or in what is shaped; one undo step per drag."""
        if self.session.step != "stance":
            self._shaping.settle() if settled else self._shaping.turn(joint, tuple(map(float, vector)))
        elif settled:
            self.session.end_drag()
        else:
            bone = self.session.state.pairing.target.names[joint]
            self.session.drag(TurnBone(bone, tuple(map(float, vector))), settled=False)

    def _moved(self, joint, shift, settled):
        """The middle of a handle was dragged: a hand or a foot reaches, the hips move, a joint moves inside its markers."""
        if settled:
            self._shaping.settle()
        else:
            self._shaping.move(joint, tuple(map(float, shift)))

    def _show_jobs(self):
        busy = bool(self.running.jobs)
        seen = busy or self.session.solving.job is not None
        self.progress.setVisible(seen)
        self.cancel.setVisible(seen)
        self.stage.busy = busy

    def _cancel(self):
        self.running.cancel()
        self.session.solving.give_up()

    def _offer(self, text, restore, discard):
        """Offer work that an earlier session had not saved."""
        self.banner.say(text, button("Restore", restore, True), button("Discard", discard))

    def tell(self, text):
        """Say something in the status line, until something else is done."""
        self.status.setText(text)

    def complain(self, text):
        """Say in one sentence what can't be done; the work stays as it is."""
        self.message.say(text)

    def _toggle_snags(self):
        self.sheet.hide()
        self.snag_panel.toggle()

    def _toggle_keys(self):
        self.snag_panel.hide()
        self.sheet.toggle()

    def _escape(self):
        self.sheet.hide()
        self.snag_panel.hide()
        self.message.hide()
        if self.session.preview:
            self.session.look_at(None)

    def _bake(self):
        self.session.go("transfer")
        if self.desks["transfer"].bake.isEnabled():
            self.desks["transfer"].bake_now()

    def _deliver(self):
        self.session.go("deliver")
        if self.desks["deliver"].write.isEnabled():
            self.desks["deliver"].write_now()

    # --- the window itself ------------------------------------------------------------------------
    def dragEnterEvent(self, event):
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event):
        paths = [local_path(u) for u in event.mimeData().urls() if u.isLocalFile()]
        if paths:
            self.files.open_paths(paths)

    def showEvent(self, event):
        super().showEvent(event)
        self.layout().activate()  # the size is known only now
        self._share_width()

    def resizeEvent(self, event):
        super().resizeEvent(event)
        if hasattr(self, "snag_panel"):
            self.snag_panel.place()
            self._show_files()

    def restore_place(self):
        """Take the place and size that the window had last."""
        geometry = settings.get("window/geometry")
        if isinstance(geometry, QByteArray):
            self.restoreGeometry(geometry)

    def closeEvent(self, event):
        """Close at once: what is not saved is kept, and offered next time."""
        self.running.close()
        self.desks["deliver"].watching.end()
        self.session.live.close()
        self.session.passing.close()
        self.session.solving.close()
        self.session.play(False)
        self.hide()  # closed for the user at once, whatever is still to be kept
        try:
            self.autosave.close()
        except InputError as error:
            self.show()
            self.complain(f"{error} Save the project before closing.")
            if not self.files.may_leave():
                event.ignore()
                return
        self.autosave.recovery.close()
        settings.put("window/geometry", self.saveGeometry())
        event.accept()
