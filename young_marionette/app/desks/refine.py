"""Refine: passes over a baked clip that stay adjustable, and what they change."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QComboBox, QVBoxLayout, QWidget

from ...core.filters.methods import LowPass
from ...core.filters.motion import MORPH, POSITION, ROTATION
from ...core.filters.suggesting import suggested_for
from ...core.keys.curves import PLACE, WEIGHT
from ...core.passes.correction import Correction
from ...core.passes.difference import Difference
from ...core.passes.edits import Offset
from ...core.passes.stack import METHODS, Pass
from ...project.commands import (
    AddPass,
    KeepPreset,
    MergePasses,
    MovePass,
    PassAlone,
    RemovePass,
    RemovePreset,
    SetPass,
    UsePreset,
    preset_of,
)
from ...project.entry import new_id
from ...project.joining import fitting
from ...project.keying import is_stale
from ...wording.findings import counted
from ...wording.passes import NAMES, TIPS, changed, loss, telling
from .. import presets
from ..parts.widgets import Card, ask_text, button, label, menu_button, row
from ..passes.joining import JoinCard
from ..passes.line import PassLine
from ..passes.settings import PassSettings
from ..passes.why import Why
from ..session import BEFORE_ALL, BEFORE_ONE
from .base import Desk

_WORKING = "Working it out …"
_MUCH = 0.1  # of the highest speed: a loss that is told
_MENU = (
    "spikes",
    "low-pass",
    "adaptive",
    None,
    "savitzky-golay",
    "gaussian",
    "median",
    None,
    "correction",
    "adjust",
    "mirror",
    "time",
    "offset",
    "scale",
    "retime",
    "loop",
    "plant",
    None,
    "thin",
)


class RefineDesk(Desk):
    title, wide = "Refine", 396

    shows = ("entries", "bakes", "source", "presets")

    def build(self):
        self.clip = self._combo("Baked clip", lambda: self.session.compare_with(self.clip.currentData()))
        self.against = self._combo("Compare with", lambda: self.session.show_before(self.against.currentData()))
        for key, text in ((None, "Live result"), (BEFORE_ALL, "Before all passes"), (BEFORE_ONE, "Before this pass")):
            self.against.addItem(text, key)
        self.against.setMinimumContentsLength(8)
        self.against.setToolTip("What stands beside the baked clip on the stage (A: before all passes)")
        self.head = Card()
        self.comparing = row(label("Against", "quiet"), self.against, stretch_last=True)
        self.head.add(self.clip, self.comparing)
        self.head.body.setSpacing(6)
        self.add(self.head)
        self.stack = Card()
        self.adding = menu_button("Add a pass", self._fill_adding)
        self.keeping = menu_button("Presets", self._fill_presets)
        self.stack.add(row(label("Passes", "section"), None, self.adding, self.keeping))
        self.lines = QWidget()
        self._lines = QVBoxLayout(self.lines)
        self._lines.setContentsMargins(0, 0, 0, 0)
        self._lines.setSpacing(4)
        self.none = label("No passes yet. Begin with spikes, then a low-pass.", "quiet", wrap=True)
        self.settings = PassSettings(self.session)
        self.settings.edited.connect(self._edit)
        self.settings.suggest.connect(self._suggest)
        self.settings.why.connect(self._why)
        self.settings.look.connect(self._look)
        self.settings.merge.connect(self._merge)
        self.settings.alone.connect(self._alone)
        self.stack.add(self.none, self.lines)
        self.add(self.stack)
        self.joining = JoinCard(self.session)
        self.add(self.joining)
        self.why = Why()
        self.add(self.why)
        self.numbers = Card("What they change")
        self.changed = label("", wrap=True)
        self.accents = label("", wrap=True)
        self.stop = button("Stop", self.session.passing.stop, tip="Give up working it out, until something is changed")
        self.numbers.add(self.changed, self.stop, self.accents)
        self.add(self.numbers)
        self.empty = label("Nothing is baked yet: bake a clip in Transfer (Ctrl+B).", "quiet", wrap=True)
        self.add(self.empty)
        self._shown_lines, self._line_widgets = None, []
        self.pose = self.controls = None
        self.session.passing.ready.connect(self._if_in_front)
        self.session.passing.progressed.connect(self._tell_progress)

    def add_cards(self, card, controls):
        """Put the cards of the pose and of the controls under the passes."""
        self.pose, self.controls = card, controls
        self.column.insertWidget(self.column.indexOf(self.why), card)
        self.column.insertWidget(self.column.indexOf(self.head) + 1, controls)
        self.comparing.layout().addWidget(controls.baking)
        controls.show_state()
        for signal in (self.session.bones_changed, self.session.step_changed, self.session.preview_changed):
            signal.connect(card.show_state)
        card.show_state()

    @staticmethod
    def _combo(name, act):
        combo = QComboBox()
        combo.setAccessibleName(name)
        combo.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        combo.setMinimumContentsLength(12)
        combo.activated.connect(lambda _i: act())
        return combo

    def _tell_progress(self, share):
        if self.changed.text().startswith(_WORKING):
            self.changed.setText(f"{_WORKING} {share * 100:.0f} %")
            self.stop.show()

    def _if_in_front(self):
        if self.session.step == "refine":
            self.show_state()

    # --- showing --------------------------------------------------------------------------------
    def show_state(self):
        baked, bake = self.session.baked, self.session.refined
        if bake is None and baked and self.session.step == "refine":
            self.session.compare_with(baked[-1].id)
            return
        for widget in (self.head, self.stack):
            widget.setVisible(bool(baked))
        self.empty.setVisible(not baked)
        if bake is None:
            self.numbers.hide()
            return
        known = [(self.clip.itemData(i), self.clip.itemText(i)) for i in range(self.clip.count())]
        if known != [(e.id, e.name) for e in baked]:
            self.clip.clear()
            for entry in baked:
                self.clip.addItem(entry.name, entry.id)
        self.clip.setCurrentIndex(self.clip.findData(bake.id))
        self.against.setCurrentIndex(self.against.findData(self.session.before))
        frames, rate = bake.length
        clip = bake.dense
        self.clip.setToolTip(
            f"{(frames - 1) / rate:.2f} s at {rate:g} fps: {frames} frames, {len(bake.skeleton)} bones, "
            f"{counted(frames * (len(bake.skeleton) + len(clip.moving)), 'key')}."
        )
        self._show_passes(bake)

    def _show_passes(self, bake):
        if self.pose is not None:
            self.pose.show_state()
            self.controls.show_state()
        passed, session = bake.passed, self.session
        _, known = passed.known()
        reports, numbers, place = {}, [], 0
        for one in bake.passes:
            report = changes = poses = sketch = None
            stale = False
            if one.on:
                place += 1
                if place <= known:
                    stage, changes = passed.stage(place), passed.known_changes(place - 1, place)
                    report, poses = stage.report, stage.poses
                    stale = one.keys is not None and is_stale(one.keys, passed.stage(place - 1))
                elif one.thins:
                    sketch = passed.sketched_poses(place - 1)
            reports[one.id] = report, changes, poses, sketch, stale
            numbers.append(telling(one, report, changes, poses, sketch))
        ids = [one.id for one in bake.passes]
        chosen = session.one_pass if session.one_pass in ids else None
        self._lay_lines(bake, numbers, chosen)
        self.none.setVisible(not bake.passes)
        if chosen is None:
            self.settings.hide()
        else:
            one = bake.passes[ids.index(chosen)]
            # What is built anew must not move what is looked at.
            bar = self._area.verticalScrollBar()
            place = bar.value()
            QTimer.singleShot(0, bar, lambda: bar.setValue(place))
            self.settings.show_pass(one, passed.limbs.groups, reports[chosen][0], *reports[chosen][2:])
            self.settings.show()
        if chosen is None or not isinstance(bake.passes[ids.index(chosen)].method, LowPass):
            self.why.hide()
        every = passed.known_changes(0) if passed.passes else None
        self.numbers.setVisible(bool(passed.passes))
        self.stop.setVisible(every is None and session.passing.job is not None)
        if every is None:
            self.changed.setText(_WORKING)
        else:
            self.changed.setText("\n".join(f"{what}: {much}" for what, much in changed(every)))
        # A spike is no accent: what is lost with it is none of its speed.
        smooth = (
            c for one in bake.passes for c in [reports[one.id][1]] if c is not None and one.method.code != "spikes"
        )
        lost = max(map(loss, smooth), default=0.0)
        self.accents.setVisible(lost > _MUCH)
        self.accents.setText(f"A pass makes the quickest moment {lost * 100:.0f} % slower: accents may be lost.")

    def _lay_lines(self, bake, numbers, chosen):
        """One line for each pass, the newest on top, the settings of the chosen one beneath it."""
        key = [(one.id, one.method.code, one.on, one.id == chosen) for one in bake.passes]
        if key == self._shown_lines:
            # Nothing is laid anew while a number is dragged.
            for line, number in zip(self._line_widgets, reversed(numbers)):
                line.tell(number)
            return
        self._shown_lines = key
        focused = next((w.identifier for w in self.lines.findChildren(PassLine) if w.hasFocus()), None)
        self._line_widgets = []
        self._lines.removeWidget(self.settings)
        self.settings.setParent(self.stack)
        while self._lines.count():
            widget = self._lines.takeAt(0).widget()
            widget.hide()
            widget.deleteLater()
        for one, number in reversed(list(zip(bake.passes, numbers))):
            line = PassLine(one, number, one.id == chosen, lambda what, one=one: self._act(one, what))
            self._lines.addWidget(line)
            self._line_widgets.append(line)
            if one.id == chosen:
                self._lines.addWidget(self.settings)
            if one.id == focused:
                line.setFocus()

    # --- passes ---------------------------------------------------------------------------------
    def _act(self, one, what):
        bake, session = self.session.refined, self.session
        if what == "choose":
            session.choose_pass(None if session.one_pass == one.id else one.id)
        elif what == "on":
            session.do(SetPass(bake.id, replace(one, on=not one.on), "switch a pass"))
        elif what == "remove":
            session.do(RemovePass(bake.id, one.id))
        else:
            session.do(MovePass(bake.id, one.id, 1 if what == "up" else -1))

    def _alone(self):
        """Switch all passes but the chosen one off, or on again."""
        if self.session.refined is not None:
            self.session.do(PassAlone(self.session.refined.id, self.session.one_pass))

    def _merge(self):
        """Make what comes out of the chosen pass the baked motion itself."""
        bake = self.session.refined
        if bake is not None and self.session.do(MergePasses(bake.id, self.session.one_pass)):
            self.session.choose_pass(None)
            self.session.told.emit("Merged; undo takes the passes back")

    def _fill_adding(self, menu):
        menu.clear()
        menu.setToolTipsVisible(True)
        for code in _MENU:
            if code is None:
                menu.addSeparator()
            else:
                menu.addAction(NAMES[code], lambda code=code: self._add(code)).setToolTip(TIPS[code])
        others = [other for other in self._of_the_rig() if other is not self.session.refined]
        menu.addSeparator()
        for text, act, about in (
            ("Difference of another clip", self.add_difference, TIPS["difference"]),
            ("Go over into another clip", self.joining.ask, "Both as one new clip, where they meet best"),
        ):
            own = menu.addMenu(text)
            own.setToolTip(about)
            own.setEnabled(bool(others))
            for other in others:
                own.addAction(other.name, lambda other=other, act=act: act(other))

    def _of_the_rig(self):
        """The baked clips of the rig of the one that is worked on."""
        bake = self.session.refined
        names = bake.placed_skeleton.names if bake is not None else ()
        return [other for other in self.session.baked if other.placed_skeleton.names == names]

    def _add(self, code):
        frame = self.session.frame
        self.add_pass(Correction(frame) if code == "correction" else METHODS[code]())

    def add_difference(self, other):
        """Lay what another clip moves against its first pose over this one."""
        bake, session = self.session.refined, self.session
        session.job_asked.emit(
            "look at the other clip", lambda _told: fitting(bake, other), lambda clip: self.add_pass(Difference(clip))
        )

    def add_pass(self, method, **scope):
        """Lay a pass over the baked clip, and choose it."""
        bake, made = self.session.refined, Pass(new_id(), method, **scope)
        if bake is not None and self.session.do(AddPass(bake.id, made)):
            self.session.choose_pass(made.id)

    def offset(self, amount):
        """Move the selected frames of the curves' bones by what was typed in the curve view."""
        panel, bones = self.window().timeline.curves, self.session.bones
        if not amount or not bones:
            return
        frames = round(panel.first.value), round(panel.last.value)
        axes = {c.axis for c in panel.plot.new if panel.plot.selection is None or panel.plot.touches(c)} or {
            "X",
            "Y",
            "Z",
        }
        three = tuple(amount if axis in axes else 0.0 for axis in "XYZ")
        whole = frames == (0, self.session.frames - 1)
        scope = {"names": bones, "frames": None if whole else frames}
        reading = panel.reading.currentData()
        if reading == PLACE:
            self.add_pass(Offset(metres=tuple(v / 100 for v in three)), channels=(POSITION,), **scope)
        elif reading == WEIGHT:
            self.add_pass(Offset(weight=amount), channels=(MORPH,), **scope)
        else:
            self.add_pass(Offset(degrees=three), channels=(ROTATION,), **scope)

    def _edit(self, one, settled):
        bake = self.session.refined
        if bake is not None:
            self.session.drag(SetPass(bake.id, one), settled=settled)

    def toggle_before(self):
        """Show the baked clip against what it was before all passes, or not any more."""
        if self.session.step == "refine":
            self.session.show_before(None if self.session.before else BEFORE_ALL)

    def _look(self, name, frame):
        self.session.show_curves_of((name,))
        self.session.seek(frame)

    # --- suggestions ----------------------------------------------------------------------------
    def _suggested(self):
        """``(the chosen pass, what each part of the body asks for)`` from what comes into it; work for a task."""
        bake = self.session.refined
        one = next((p for p in bake.passes if p.id == self.session.one_pass), None) if bake else None
        if one is None or not isinstance(one.method, LowPass):
            return None
        place = sum(p.on for p in bake.passes[: bake.passes.index(one)])
        passed = bake.passed
        return one, lambda _progress: suggested_for(passed.stage(place).clip, passed.limbs.groups, one.method.order)

    def _suggest(self):
        asked = self._suggested()
        if asked is not None:
            self.session.job_asked.emit("suggest cut-offs", asked[1], lambda made: self._take(asked[0].id, made))

    def _take(self, identifier, suggestions):
        bake = self.session.refined
        one = next((p for p in bake.passes if p.id == identifier), None) if bake else None
        if one is None or not isinstance(one.method, LowPass):
            return
        parts = tuple((part, round(float(s.cutoffs[0]), 1)) for part, s in suggestions.items() if s.cutoffs[0] < 1e6)
        if not parts:
            self.session.told.emit("No part of this clip needs a low-pass.")
            return
        self.session.do(
            SetPass(
                bake.id,
                replace(one, method=replace(one.method, parts=parts), parts=tuple(p for p, _ in parts)),
                "suggest cut-offs",
            )
        )
        self.session.told.emit(f"Cut-offs suggested for {counted(len(parts), 'part')} of the body")

    def _why(self):
        asked = self._suggested()
        if asked is not None:
            self.session.job_asked.emit("look at the noise", asked[1], self._show_why)

    def _show_why(self, suggestions):
        self.why.show_suggestions(suggestions)
        self.session.told.emit("")
        QTimer.singleShot(0, self.why, lambda: self._area.ensureWidgetVisible(self.why))

    # --- presets --------------------------------------------------------------------------------
    def _fill_presets(self, menu):
        menu.clear()
        session, bake = self.session, self.session.refined
        everyone = tuple(b.id for b in session.baked)
        own = [(p, False) for p in session.state.presets] + [(p, True) for p in presets.load(session.message.emit)]
        for preset, users in own:
            sub = menu.addMenu(f"{preset.name}{'  (yours, in all projects)' if users else ''}")
            sub.addAction("Use on this clip", lambda p=preset: self._use(p, (bake.id,)))
            sub.addAction(f"Use on all {len(everyone)} baked clips", lambda p=preset: self._use(p, everyone))
            sub.addAction("Remove the preset", lambda p=preset, u=users: self._forget(p, u))
        if own:
            menu.addSeparator()
        keep = menu.addAction("Keep these passes in the project …", lambda: self._keep(False))
        yours = menu.addAction("Keep these passes for all projects …", lambda: self._keep(True))
        everywhere = menu.addAction(
            "Use these passes on all baked clips", lambda: self._use(preset_of(bake, "these"), everyone)
        )
        for action in (keep, yours, everywhere):
            action.setEnabled(bake is not None and bool(bake.passes))

    def _use(self, preset, bakes):
        if self.session.do(UsePreset(preset, bakes)):
            self.session.told.emit(
                f"{preset.name}: on {len(bakes)} baked clips" if len(bakes) > 1 else f"{preset.name} is used"
            )

    def _keep(self, for_user):
        name = ask_text(self, "Keep a preset", "Name of the preset:", "Clean up")
        if not name:
            return
        if for_user:
            presets.keep(preset_of(self.session.refined, name), self.session.message.emit)
        else:
            self.session.do(KeepPreset(self.session.refined.id, name))

    def _forget(self, preset, users):
        if users:
            presets.remove(preset.name, self.session.message.emit)
        else:
            self.session.do(RemovePreset(preset.name))

    def keyPressEvent(self, event):
        if event.key() == Qt.Key.Key_Escape and self.why.isVisible():
            self.why.hide()
        else:
            super().keyPressEvent(event)
