"""What is open in the window just now: the document, the step, the playhead, what is chosen. Views listen to it."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import QElapsedTimer, QObject, QTimer, Signal

from ..core.errors import InputError
from ..project.bakes import Bake as Baked
from ..project.batch.choosing import Wanted
from ..project.changes import FIGURES, Change
from ..project.commands import Bake, GroundFrame
from ..project.document import Document
from ..project.entry import Entry
from ..project.snags import STEPS, find_snags, route_states
from ..wording.snags import origin_words
from . import settings
from .live import LiveResult
from .markers.live import LiveSolution
from .passing import LivePasses

TICK = 15
WORDS_AFTER = 40
DRESSES = ("body", "through", "bones")
BEFORE_ALL, BEFORE_ONE = "all", "pass"
SPEEDS = (0.1, 0.25, 0.5, 1.0, 2.0)


class Session(QObject):
    """All that views share. Signals tell what changed; nothing here draws."""

    document_changed = Signal(Change)  # all that was touched since it was told last
    preview_changed = Signal()
    posed = Signal()
    snags_changed = Signal()  # without any change of the document
    frame_changed = Signal()
    playing_changed = Signal()
    step_changed = Signal()
    chosen_changed = Signal()
    contact_chosen = Signal()
    controls_changed = Signal()
    bones_changed = Signal()
    pass_chosen = Signal()
    keys_chosen = Signal()
    view_changed = Signal()
    message = Signal(str)
    told = Signal(str)
    marker_chosen = Signal()
    demo_asked = Signal()
    job_asked = Signal(str, object, object)
    wanted_changed = Signal()

    def __init__(self, parent=None):
        super().__init__(parent)
        self.document = Document()
        self.document.changed.connect(self._on_changed)
        self._gesture, self._untold = None, Change()
        self.step, self.part, self.bone = STEPS[0], None, None
        self.bones = ()  # names of the joints, controls and morphs whose curves are shown
        self.shows_controls, self.hidden = True, frozenset()  # on the stage; parts of the body whose controls are not
        self.held = False  # a pose is being dragged on the stage
        self.one_pass, self.before = None, None  # the chosen pass; what the result is shown against: a BEFORE
        self.keys = ()  # frames of the pose keys that are chosen
        self.contact = None, None  # the chosen lane of contacts, and a frame of the contact that is chosen in it
        self.arrangement, self.preview, self.compare, self.dress = "beside", None, None, DRESSES[0]
        self.playing, self.loop, self.speed, self.trails = False, True, 1.0, False
        self.marker, self.dot_names = None, False  # the chosen marker of a recording; labels are on the stage
        self.marks = False  # what touches is marked under the figures
        self._second, self._started_at = 0.0, 0.0
        self._clip_key, self.range, self._origin = None, (0, 0), None
        self.snags, self.route = [], {}
        self.wanted = Wanted(folder=settings.last_folder("deliver"))
        self.last_job = None  # that was begun for whoever asked last
        self._bake_rate = None, None  # frames per second, and the source that they were chosen for
        self._clock, self._tick = QElapsedTimer(), QTimer(self, interval=TICK)
        self._tick.timeout.connect(self._ticked)
        self._soon = QTimer(self, singleShot=True, interval=WORDS_AFTER)
        self._soon.timeout.connect(self._on_document)
        self._timed_of = None
        self.live, self.passing, self.solving = LiveResult(self), LivePasses(self), LiveSolution(self)
        self._on_document()
        self.live.measured.connect(self._on_measured)
        self.solving.ready.connect(self._on_measured)
        self.passing.ready.connect(self._on_measured)

    # --- document -------------------------------------------------------------------------------
    def listen(self, parts, slot):
        """Call ``slot`` after changes of the document that touch some parts (see ``Change.touches``), and only then."""
        self.document_changed.connect(lambda change: slot() if change.touches(*parts) else None)

    @property
    def state(self):
        return self.document.state

    def do(self, *commands, gesture=None, afresh=False):
        """Run commands as one step; a sentence for the user where it can't be done. Returns whether it went through."""
        try:
            self.document.do(*commands, gesture=gesture, afresh=afresh)
            return True
        except InputError as error:
            self.message.emit(str(error))
            return False

    def drag(self, *commands, settled, afresh=False):
        """Run commands in the middle of a drag, or with ``settled`` at its end: all of one drag is one step.

        ``afresh``: each time from what was there before the drag.
        """
        self._gesture = self._gesture or object()
        gesture, self._gesture = self._gesture, None if settled else self._gesture
        return self.do(*commands, gesture=gesture, afresh=afresh)

    def end_drag(self):
        """What comes next is a step of its own."""
        self._gesture = None

    def undo(self):
        label = self.document.undo_label
        self.document.undo()
        if label:
            self.told.emit(f"Undone: {label}")

    def redo(self):
        label = self.document.redo_label
        self.document.redo()
        if label:
            self.told.emit(f"Redone: {label}")

    def _on_changed(self, change, within):
        """The figure answers first; while something is dragged, words and lists follow a moment later."""
        self._untold |= change
        if change.touches(*FIGURES):
            self.posed.emit()
        if within:
            if not self._soon.isActive():
                self._soon.start()
        else:
            self._soon.stop()
            self._on_document()

    def _on_document(self):
        state = self.state
        change, self._untold = self._untold, Change()
        if self.preview and state.entry(self.preview) is None:
            self.preview = None
            self.preview_changed.emit()
        if self.compare and state.entry(self.compare) is None:
            self.compare = None
        self.snags = find_snags(state)
        self.route = route_states(state, self.snags)
        self._fit_time()
        self.document_changed.emit(change)
        self._tell_origin()

    def _on_measured(self):
        """What the whole result was found to be off by may be snags, too."""
        self.snags = find_snags(self.state)
        self.route = route_states(self.state, self.snags)
        self.snags_changed.emit()

    def _tell_origin(self):
        state = self.state
        origin = state.pairing.origin if state.pairing else None
        if origin != self._origin:
            self._origin = origin
            if origin:
                self.told.emit(origin_words(origin))

    def _fit_time(self):
        """Another clip on the timeline is shown whole."""
        clip = self.clip
        key = (id(clip.take), clip.correction, clip.length) if clip else None
        if key != self._clip_key:
            self._clip_key = key
            last = max(self.frames - 1, 0)
            self.range = (0, last)
            self._second = min(self._second, last / self.rate)

    @property
    def clip(self):
        """The entry whose time the timeline shows: the previewed one, else the active clip, else what is baked."""
        return self._timed[0]

    @property
    def _timed(self):
        """``(that entry or None, (its frames, its rate))``; asked for by all that is drawn over time, many times a picture."""
        of = self.state, self.preview, self.compare, self.step
        known = self._timed_of
        if known is None or known[0][0] is not of[0] or known[0][1:] != of[1:]:
            clip = self.state.entry(self.preview) or self._in_refine or self.state.source_entry
            known = self._timed_of = of, (clip, clip.length if clip else (1, 30.0))
        return known[1]

    @property
    def refined_rig(self):
        """The rig of the baked clip that is worked on, as it is in the library now, or None."""
        bake = self.refined
        return next((e for e in self.state.entries if bake is not None and e.id == bake.rig.id), None)

    @property
    def refined(self):
        """The baked clip that is worked on, or None."""
        bake = self.state.entry(self.compare)
        return bake if isinstance(bake, Baked) else None

    @property
    def _in_refine(self):
        """The baked clip where the timeline shows its own time: not where that is just the active clip's."""
        bake, source = self.refined, self.state.source_entry
        if self.step != "refine" or bake is None:
            return None
        same = source is not None and bake.source == source.id and bake.frames is None and bake.length == source.length
        return None if same else bake

    @property
    def baked(self):
        """The baked clips of the library."""
        return self.state.bakes

    # --- step and choice ------------------------------------------------------------------------
    def go(self, step):
        """Open a step of the route."""
        if step != self.step:
            self.step = step
            if step != "gather" and self.preview:
                self._show_alone(None)
            if step == "refine" and self.refined is None and self.baked:
                self.compare = self.baked[-1].id
            self._fit_time()
            self.step_changed.emit()

    def choose(self, part=None, bone=None):
        """Point out a part of the body, or one rig bone."""
        if (part, bone) != (self.part, self.bone):
            self.part, self.bone = part, bone
            self.chosen_changed.emit()

    def choose_marker(self, label):
        """Choose a marker of the recording that is looked at, by its label."""
        if label != self.marker:
            self.marker = label
            self.marker_chosen.emit()

    def name_dots(self, on):
        """Show the markers' labels on the stage, or not."""
        self.dot_names = on
        self.marker_chosen.emit()

    def choose_contact(self, point, frame=None):
        """Choose a lane of contacts, and with a frame the contact that is there."""
        if (point, frame) != self.contact:
            self.contact = point, frame
            self.contact_chosen.emit()

    def arrange(self, name):
        """Side by side, one over the other, or one figure alone."""
        self.arrangement = name
        self.view_changed.emit()

    def dress_as(self, dress):
        """Show bodies, bodies seen through over their bones, or bones alone."""
        self.dress = dress
        self.view_changed.emit()

    def look_at(self, entry):
        """Show an entry on the stage without changing any work; None goes back to the active pair."""
        self._show_alone(entry)
        self.seek(0)

    def _show_alone(self, entry):
        self.preview = entry
        self._fit_time()
        self.preview_changed.emit()

    def ground(self):
        """Put the frame under the playhead on the floor, or let go of it."""
        if isinstance(self.clip, Entry) and self.clip.take is not None:
            frame = self.frame
            if self.do(GroundFrame(self.clip.id, frame)):
                on = frame in (self.clip.correction.grounded or ())
                self.told.emit(f"Frame {frame} is {'put on the floor' if on else 'where it was again'}")

    def compare_with(self, entry):
        """Show a baked clip beside the live result, to work on; None shows none."""
        self.compare = entry
        self._fit_time()
        self.preview_changed.emit()
        self.view_changed.emit()

    def show_curves_of(self, names):
        """Choose the joints and morphs whose curves are shown."""
        if tuple(names) != self.bones:
            self.bones = tuple(names)
            self.bones_changed.emit()

    def show_controls(self, on):
        """Show the controls of a clip that is on some, or not."""
        self.shows_controls = on
        self.controls_changed.emit()

    def hide_controls(self, part, hide):
        """Hide the controls of a part of the body, or show them again."""
        self.hidden = self.hidden | {part} if hide else self.hidden - {part}
        self.controls_changed.emit()

    def choose_pass(self, identifier):
        """Choose a pass of the baked clip that is worked on."""
        if identifier != self.one_pass:
            self.one_pass = identifier
            self.pass_chosen.emit()

    def choose_keys(self, frames):
        """Choose pose keys of the thinned clip, by their frames."""
        if tuple(frames) != self.keys:
            self.keys = tuple(frames)
            self.keys_chosen.emit()

    def show_before(self, what):
        """Show the result against what it was before the chosen pass, or before all (a BEFORE), or with None not."""
        self.before = what
        self.view_changed.emit()

    @property
    def count_before(self):
        """How many of the passes that are on lie before what the result is shown against."""
        bake = self.refined
        if bake is None or self.before != BEFORE_ONE:
            return 0
        ids = [one.id for one in bake.passes]
        at = ids.index(self.one_pass) if self.one_pass in ids else 0
        return sum(one.on for one in bake.passes[:at])

    # --- baking and delivering ------------------------------------------------------------------
    @property
    def bake_rate(self):
        """The rate that is baked at: what was chosen for this clip, else the clip's own."""
        rate, source = self._bake_rate
        return rate if rate is not None and source == self.state.source else self.state.source_entry.placed_clip.rate

    def bake_at(self, rate):
        """Choose the frames per second of the next bake of this clip."""
        self._bake_rate = rate, self.state.source

    def bake_command(self):
        """The command that bakes the range at the rate that were chosen."""
        clip = self.state.source_entry.placed_clip
        whole = self.range == (0, clip.frames - 1)
        same = abs(self.bake_rate - clip.rate) < 1e-6
        return Bake(None if same else self.bake_rate, None if whole else self.range)

    def ask_for(self, **changes):
        """Change what is to be delivered, see ``Wanted``; what is not one of its fields is of its recipe."""
        own = {name: value for name, value in changes.items() if name in vars(self.wanted)}
        of_recipe = {name: value for name, value in changes.items() if name not in own}
        if of_recipe:
            own["recipe"] = self.wanted.recipe.model_copy(update=of_recipe)
        wanted = replace(self.wanted, **own)
        if wanted != self.wanted:
            self.wanted = wanted
            self.wanted_changed.emit()

    def tick(self, clips, on):
        """Choose clips, baked or not, for the delivery, or leave them out."""
        wanted = self.wanted
        for clip in clips:
            wanted = wanted.ticked(clip, on)
        if wanted != self.wanted:
            self.wanted = wanted
            self.wanted_changed.emit()

    # --- time -----------------------------------------------------------------------------------
    @property
    def frames(self):
        """The number of frames on the timeline."""
        return self._timed[1][0]

    @property
    def rate(self):
        return self._timed[1][1]

    @property
    def second(self):
        return self._second

    @property
    def frame(self):
        """The frame nearest to the playhead."""
        return int(min(max(self._second * self.rate + 1e-6, 0), self.frames - 1))

    def seek(self, frame):
        """Put the playhead on a frame."""
        self._second = min(max(frame, 0), self.frames - 1) / self.rate
        self._mark_start()
        self.frame_changed.emit()

    def set_range(self, first, last):
        """The frames that are played and baked, both included."""
        first = min(max(first, 0), self.frames - 1)
        self.range = (first, min(max(last, first), self.frames - 1))
        self.frame_changed.emit()

    def play(self, on=None):
        """Start, stop, or with None change over."""
        self.playing = not self.playing if on is None else on
        if self.playing:
            if not self.range[0] <= self.frame < self.range[1]:
                self._second = self.range[0] / self.rate
            self._mark_start()
            self._tick.start()
        else:
            self._tick.stop()
            self.seek(self.frame)
        self.playing_changed.emit()

    def set_speed(self, speed):
        self._second = self._now() if self.playing else self._second
        self.speed = speed
        self._mark_start()
        self.playing_changed.emit()

    def _mark_start(self):
        self._started_at = self._second
        self._clock.restart()

    def _now(self):
        return self._started_at + self._clock.nsecsElapsed() / 1e9 * self.speed

    def _ticked(self):
        """Where the playhead is follows from the clock alone: slow drawing skips frames and never slows the motion."""
        now, first, last = self._now(), self.range[0] / self.rate, self.range[1] / self.rate
        length = last - first
        if now > last + 1 / self.rate:
            if not self.loop or length <= 0:
                self._second = last
                self.play(False)
                return
            now = first + (now - first) % (length + 1 / self.rate)
            self._second = now
            self._mark_start()
        before = self.frame
        self._second = now
        if self.frame != before:
            self.frame_changed.emit()

    def show_snag(self, snag):
        """Go to where a snag is."""
        if snag.entry and self.state.entry(snag.entry) and snag.entry not in (self.state.source, self.state.rig):
            self.go(snag.step)
            self.look_at(snag.entry)
        else:
            self.go(snag.step)
        if snag.part:
            self.choose(part=snag.part)
        if snag.frame is not None:
            self.seek(snag.frame)
