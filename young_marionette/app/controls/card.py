"""The card of controls in Refine: baking onto them and back, how limbs are switched, and the set of the rig."""

from __future__ import annotations

from ...core.controls.sets import END, HIPS, WORLD
from ...core.errors import InputError
from ...core.thinning.settings import Thin
from ...project.commands import BakeOntoBones, BakeOntoControls, SetControls, SwitchLimb
from ...project.entry import new_id
from ...wording.findings import counted
from ..parts.widgets import Card, label, menu_button, row, tool
from .look import ControlLook

_ON_BONES = "Bake this clip onto controls. On those, hands and feet stand where they are put, and the limbs follow."
_WAYS = (
    ("Turned bone by bone (FK)", False, WORLD),
    ("Follows the {end}, which stands in the world (IK)", True, WORLD),
    ("Follows the {end}, which goes with the hips (IK)", True, HIPS),
)
_PARTS = ("hips", "spine", "neck and head", "left arm", "right arm", "left fingers", "right fingers", "left leg", "right leg", "other bones")  # fmt: skip


class ControlsCard(Card):
    """Shown for clips on controls; ``baking``, for those on bones, belongs elsewhere. ``files``: saves and loads sets."""

    def __init__(self, session, files):
        super().__init__()
        self.session, self.files = session, files
        self.body.setSpacing(6)
        self.seen = tool("controls", "Show the controls on the stage (J)", None, True)
        self.seen.setChecked(True)
        self.seen.toggled.connect(session.show_controls)
        self.set = menu_button("Set", self._fill_set, "The controls of the rig: saved, loaded, changed")
        self.parts = menu_button("Parts", self._fill_parts, "Which parts of the body show their controls")
        self.limbs = menu_button(
            "Limbs", self._fill_limbs, "Which limbs follow their ends, and which turn bone by bone"
        )
        self.baking = menu_button("Onto controls", self._fill_baking, _ON_BONES)
        self.bones = menu_button(
            "Bake onto bones", self._fill_bones, "Make a clip whose keys are those of the bones again"
        )
        self.add(row(label("Controls", "section"), None, self.bones, self.seen, spacing=6))
        self.about = label("", "quiet", wrap=True)
        self.choosing = row(self.parts, self.limbs, self.set, None, spacing=6)
        self.look = ControlLook(session)
        self.add(self.about, self.look, self.choosing)
        for signal in (session.bones_changed, session.step_changed, session.preview_changed, session.controls_changed):
            signal.connect(self.show_state)

    def show_state(self):
        """Take the clip of the moment."""
        bake, rig = self.session.refined, self.session.refined_rig
        on = bake is not None and bake.controls is not None
        self.setVisible(on)
        self.baking.setVisible(bake is not None and not on)
        if not on:
            return
        self.set.setVisible(rig is not None)
        self.seen.blockSignals(True)
        self.seen.setChecked(self.session.shows_controls)
        self.seen.blockSignals(False)
        self.look.show_state()
        count = sum(one.shown for one, _ in bake.control_rig.shown_of(bake.controls))
        told = f"{counted(count, 'control')} of {bake.rig.name}"
        if rig is not None and rig.control_set.built != bake.controls.built:
            told += ": an earlier set, which this clip keeps. The rig has another one by now."
        self.about.setText(told)

    def _fill_limbs(self, menu):
        menu.clear()
        bake = self.session.refined
        for limb in bake.controls.limbs:
            own = menu.addMenu(limb.name[0].upper() + limb.name[1:])
            end = next(one.name for one in bake.controls.controls if one.kind == END and one.bone == limb.bones[2])
            for text, reaches, space in _WAYS:
                action = own.addAction(
                    text.format(end=end.split()[-1]), lambda n=limb.name, r=reaches, s=space: self.switch(n, r, s)
                )
                action.setCheckable(True)
                action.setChecked(limb.reaches == reaches and (not reaches or limb.space == space))

    def switch(self, limb, reaches, space):
        """Let a limb follow its end, or turn its bones; the motion stays as it is."""
        bake = self.session.refined
        if bake is not None and self.session.do(SwitchLimb(bake.id, limb, reaches, space)):
            way = next(text for text, r, s in _WAYS if (r, s) == (reaches, space))
            self.session.told.emit(
                f"{limb[0].upper()}{limb[1:]}: {way.format(end='its end').lower()}; the motion is the same"
            )

    # --- baking ---------------------------------------------------------------------------------
    def _fill_baking(self, menu):
        menu.clear()
        menu.addAction("As a new clip, a key on every frame", lambda: self.bake_onto())
        menu.addAction("As a new clip, in few poses", lambda: self.bake_onto(few=Thin()))
        menu.addSeparator()
        menu.addAction("In place of this clip", lambda: self.bake_onto(instead=True))

    def bake_onto(self, instead=False, few=None):
        """Bake the clip onto its rig's controls; what its passes give is worked out off the interface thread first."""
        bake = self.session.refined
        made = BakeOntoControls(bake.id, instead, few, new_id())
        self._run(made, bake, made.identifier if not instead else bake.id)

    def _fill_bones(self, menu):
        menu.clear()
        menu.addAction("As a new clip, a key on every frame", lambda: self.bake_back())
        menu.addAction(
            "In place of this clip: its controls and passes are gone until undone", lambda: self.bake_back(True)
        )

    def bake_back(self, instead=False):
        """Bake the clip of controls onto bones."""
        bake = self.session.refined
        made = BakeOntoBones(bake.id, instead, new_id())
        self._run(made, bake, made.identifier if not instead else bake.id)

    def _run(self, command, bake, identifier):
        def done(_stage):
            if self.session.do(command):
                self.session.compare_with(identifier)
                made = self.session.state.entry(identifier)
                self.session.told.emit(f"{made.name}: {made.dense.frames} frames; it is in the library")

        self.session.job_asked.emit(command.label, lambda told: bake.passed.stage(None, told), done)

    # --- the set --------------------------------------------------------------------------------
    def _fill_set(self, menu):
        menu.clear()
        rig = self.session.refined_rig
        menu.addAction("Save the set …", lambda: self.files.ask_save(rig))
        menu.addAction("Use a saved set …", lambda: self.files.ask_load(rig))
        menu.addSeparator()
        without = [name for name in rig.placed_skeleton.names if name not in {c.bone for c in rig.control_set.controls}]
        adding = menu.addMenu("Add a control for a bone")
        for name in without:
            adding.addAction(name, lambda name=name: self._set(rig, rig.control_set.added(name), "add a control"))
        adding.setEnabled(bool(without))
        chosen = self._chosen_of(rig)
        take = menu.addAction(
            f"Take out {chosen}" if chosen else "Take out the chosen control", lambda: self._take_out(rig, chosen)
        )
        take.setEnabled(bool(chosen))
        menu.addSeparator()
        anew = menu.addAction(
            "Make the set anew from the bones", lambda: self._set(rig, None, "make the controls anew")
        )
        anew.setEnabled(rig.controls is not None)

    def _chosen_of(self, rig):
        names = [n for n in self.session.bones if n in rig.control_set.names]
        return names[0] if len(names) == 1 else None

    def _take_out(self, rig, name):
        try:
            self._set(rig, rig.control_set.without(name), "take out a control")
        except InputError as error:
            self.session.message.emit(str(error))

    def _set(self, rig, controls, what):
        if self.session.do(SetControls(rig.id, controls, what)):
            self.session.told.emit("Clips on the set before keep it; bake onto controls again for the new one")

    def _fill_parts(self, menu):
        menu.clear()
        bake = self.session.refined
        known = {one.part for one, _ in bake.control_rig.shown_of(bake.controls)}
        for part in (p for p in _PARTS if p in known):
            action = menu.addAction(part[0].upper() + part[1:], lambda part=part: self._toggle(part))
            action.setCheckable(True)
            action.setChecked(part not in self.session.hidden)
        menu.addSeparator()
        menu.addAction("All", lambda: self._show_all())

    def _toggle(self, part):
        self.session.hide_controls(part, part not in self.session.hidden)

    def _show_all(self):
        for part in tuple(self.session.hidden):
            self.session.hide_controls(part, False)
