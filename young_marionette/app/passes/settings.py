"""The settings of the chosen pass: what it does, how strongly, and where."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QCheckBox, QComboBox, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from ...core.filters.methods import AUTO, Adaptive, Gaussian, LowPass, Median, SavitzkyGolay, Spikes
from ...core.filters.motion import CHANNELS
from ...core.passes.adjusting import Adjust
from ...core.passes.correction import Correction
from ...core.passes.difference import Difference
from ...core.passes.edits import Offset, Retime, Scale
from ...core.passes.loop import Loop
from ...core.passes.mirroring import Mirror
from ...core.passes.stack import Plant
from ...core.passes.strength import strength_over
from ...core.passes.timing import Time
from ...core.thinning.settings import Thin
from ...wording.passes import found
from ..parts.widgets import Number, button, label, row, tool
from .loop import LoopSettings
from .thin import PosesTold, ThinSettings
from .time import TimeSettings

# Of each method: (field, label, unit, step, decimals, low, high, how much of what is shown is one).
NUMBERS = {
    Spikes: (
        ("threshold", "Threshold", "×", 0.1, 1, 0.5, 20, 1),
        ("window", "Compared with", "s", 0.01, 2, 0.02, 2, 1),
        ("longest", "Longest run", "frames", 1, 0, 1, 20, 1),
    ),
    SavitzkyGolay: (("seconds", "Window", "s", 0.02, 2, 0, 10, 1), ("degree", "Degree", "", 1, 0, 1, 7, 1)),
    Gaussian: (("seconds", "Width", "s", 0.01, 2, 0, 10, 1),),
    Median: (("seconds", "Window", "s", 0.01, 2, 0, 10, 1),),
    Adaptive: (("strength", "Strength", "%", 5, 0, 0, 1000, 0.01),),
    Scale: (("factor", "Amount", "%", 5, 0, -500, 500, 0.01),),
    Retime: (("speed", "Speed", "%", 5, 1, 1, 1000, 0.01),),
    Offset: (("seconds", "Later by", "s", 0.01, 3, -60, 60, 1), ("weight", "Morphs by", "", 0.05, 2, -10, 10, 1)),
    Plant: (),
    Adjust: (
        ("hips", "Hips up", "cm", 0.5, 1, -200, 200, 0.01),
        ("look", "Look up", "°", 1, 1, -180, 180, 1),
        ("wider", "Arms wider", "°", 1, 1, -180, 180, 1),
        ("lean", "Lean ahead", "°", 1, 1, -180, 180, 1),
        ("strength", "Strength", "%", 5, 0, -1000, 1000, 0.01),
        ("seconds", "Eased over", "s", 0.05, 2, 0, 60, 1),
    ),
    Mirror: (),
    Difference: (
        ("strength", "Strength", "%", 5, 0, -1000, 1000, 0.01),
        ("at", "Begins at frame", "", 1, 0, -100_000, 100_000, 1),
        ("reference", "Against its frame", "", 1, 0, 0, 100_000, 1),
        ("seconds", "Eased over", "s", 0.05, 2, 0, 60, 1),
    ),
    Correction: (
        ("seconds", "Eased over", "s", 0.05, 2, 0.01, 60, 1),
        ("strength", "Strength", "%", 5, 0, -1000, 1000, 0.01),
    ),
}
_WHOLE = {"longest", "degree", "at", "reference"}
# What can be told of where a method counts; of those that are not here, all of it.
FRAMES, BONES, KINDS, KEEP = ALL = ("frames", "bones", "kinds", "keep")
OFFERS = {
    Retime: (), Time: (), Mirror: (), Plant: (), Loop: (KEEP,), Correction: (KEEP,), Adjust: (FRAMES, KEEP),
    Thin: (FRAMES, BONES), Difference: (BONES, KEEP),
}  # fmt: skip
_KINDS = dict(zip(CHANNELS, ("Rotations", "Positions", "Morphs")))
_LISTED = 300  # spikes


def _offers(method):
    return OFFERS.get(type(method), ALL)


class PassSettings(QWidget):
    """``edited(pass, settled)``: the user changed something; ``settled`` is false while dragging.

    ``suggest``: cut-offs are asked for, for all parts of the body; ``why``: to see where they come from. ``merge``: what comes out of the pass is to become the baked motion itself; ``alone``: no other pass is to count.
    """

    edited = Signal(object, bool)
    suggest = Signal()
    why = Signal()
    look = Signal(str, int)
    merge = Signal()
    alone = Signal()

    def __init__(self, session):
        super().__init__()
        self.session, self.one, self._shape = session, None, None
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(6, 4, 0, 8)
        self.column.setSpacing(6)

    def show_pass(self, one, groups, report, poses=None, sketch=None, stale=False):
        """Show a pass. ``groups``: the parts of the body; ``report``, ``poses``: what it did, where that is known, or a
        ``sketch`` of it. ``stale``: keys that were made of another motion than what lies beneath them now.
        """
        self.one, self._groups = one, groups
        parts = tuple(name for name, _ in one.method.parts) if isinstance(one.method, LowPass) else ()
        count = len(getattr(one.method, "emphases", ()))
        if isinstance(one.method, Correction):
            count = tuple(key.frame for key in one.method.keys)
        count = count, tuple(frame for frame, _ in getattr(one.method, "strengths", ()))
        shape = (
            one.id,
            type(one.method),
            parts,
            isinstance(getattr(one.method, "cutoff", 0.0), str),
            tuple(groups),
            count,
        )
        if shape != self._shape:
            self._shape = shape
            self._build()
        self._show()
        if isinstance(one.method, Spikes):
            self._list(report)
        if isinstance(one.method, Loop):
            self.loop.show_method(one.method)
        if isinstance(one.method, Time):
            self.time.show_method(one.method)
        if isinstance(one.method, Thin):
            self.thin.show_method(one, poses, sketch)
        if one.keys is not None:
            self.told.tell(poses)
            self.stale.setVisible(stale)

    # --- building -------------------------------------------------------------------------------
    def _build(self):
        while self.column.count():
            widget = self.column.takeAt(0).widget()
            widget.hide()
            widget.deleteLater()
        self.numbers, self.switches, self.threes, self.cutoffs, self.strengths = {}, {}, {}, {}, []
        method = self.one.method
        if isinstance(method, LowPass):
            self._build_low_pass(method)
        for field, text, unit, step, decimals, low, high, share in NUMBERS.get(type(method), ()):
            number = Number(0, unit, step, decimals, low, high, _usual(method, field) / share, text)
            number.edited.connect(lambda value, settled, f=field, s=share: self._typed(f, value * s, settled))
            self.numbers[field] = number, share
            self._row(text, number)
        if isinstance(method, Offset):
            for field, text, unit, share in (("degrees", "Turn by", "°", 1), ("metres", "Move by", "cm", 0.01)):
                three = [Number(0, unit, 1, 1, -1e4, 1e4, name=f"{text}, {axis}") for axis in "XYZ"]
                for number in three:
                    number.setFixedWidth(76)
                    number.edited.connect(lambda _v, settled, f=field: self._typed_three(f, settled))
                self.threes[field] = three, share
                self._row(text, *three)
        if hasattr(method, "strengths"):
            self._build_strengths(method)
        if isinstance(method, Adjust):
            self._build_turn()
        if isinstance(method, Correction):
            self._build_poses(method)
        if isinstance(method, Retime):
            self.rate = Number(0, "fps", 1, 3, 0, 1000, 0, "Frame rate; 0 keeps it")
            self.rate.edited.connect(lambda value, settled: self._put(rate=value or None, settled=settled))
            self._row("Frame rate", self.rate)
        if isinstance(method, Loop):
            self.loop = LoopSettings(self.session, self.one.id, self._put)
            self.column.addWidget(self.loop)
        if isinstance(method, Time):
            self.time = TimeSettings(self.session, self.one.id, self._put)
            self.column.addWidget(self.time)
        if isinstance(method, Spikes):
            self._build_spikes()
        if isinstance(method, Thin):
            self.thin = ThinSettings(self.session, self._groups, self._put)
            self.thin.look.connect(self.session.seek)
            self.column.addWidget(self.thin)
        if self.one.keys is not None:
            self._build_keys()
            self._build_merge()
            return
        offers = _offers(method)
        if FRAMES in offers or BONES in offers:
            self._build_scope(offers)
        if hasattr(method, "seamless"):
            self._switch(
                "seamless", "The clip is a loop", "Ends are filtered as if the clip went on with its first frame"
            )
        if KEEP in offers:
            self.keep = QCheckBox("What stands or is held stays in place")
            self.keep.clicked.connect(lambda on: self.edited.emit(replace(self.one, keep=on), True))
            self.column.addWidget(self.keep)
        self._build_merge()

    def _build_merge(self):
        tells = "Make what comes out of this pass the baked motion itself; it and the passes beneath it go"
        alone = button("Alone", self.alone.emit, tip="This pass alone, all others off; once more: all on")
        self.column.addWidget(row(button("Merge into the clip", self.merge.emit, tip=tells), alone, None))

    def _row(self, text, *widgets):
        line = row(label(text, "quiet"), None, *widgets, spacing=6)
        self.column.addWidget(line)
        return line

    def _switch(self, field, text, tip):
        switch = QCheckBox(text)
        switch.setToolTip(tip)
        switch.clicked.connect(lambda on: self._put(**{field: on}))
        self.switches[field] = switch
        self.column.addWidget(switch)

    def _combo(self, name, items, act):
        combo = QComboBox()
        combo.setAccessibleName(name)
        combo.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        combo.setMinimumContentsLength(7)
        for key, text in items:
            combo.addItem(text, key)
        combo.activated.connect(lambda i: act(combo.itemData(i)))
        return combo

    def _build_low_pass(self, method):
        kinds = (("one", "One for all"), ("auto", "Each bone's own"), ("parts", "By body part"))
        self.kind = self._combo("Cut-offs", kinds, self._choose_kind)
        self.kind.setMinimumContentsLength(13)
        self._row("Cut-off", self.kind)
        if not isinstance(method.cutoff, str) and not method.parts:
            number = Number(6.0, "Hz", 0.5, 1, 0.1, 1000, 6.0, "Cut-off")
            number.edited.connect(lambda value, settled: self._put(cutoff=value, settled=settled))
            self.numbers["cutoff"] = number, 1
            self._row("", number)
        for part, _ in method.parts:
            number = Number(6.0, "Hz", 0.5, 1, 0.1, 1000, 6.0, f"Cut-off, {part}")
            number.edited.connect(lambda value, settled, p=part: self._typed_part(p, value, settled))
            self.cutoffs[part] = number
            self._row(part[0].upper() + part[1:], number)
        ask = button(
            "Suggest for this clip", self.suggest.emit, tip="A cut-off for each part of the body, from its noise"
        )
        self.column.addWidget(
            row(
                ask,
                button(
                    "Show why", self.why.emit, tip="How much noise each cut-off leaves, and how much motion it takes"
                ),
                None,
            )
        )
        self.order = self._combo(
            "Steepness", ((2, "2nd order"), (4, "4th order")), lambda order: self._put(order=order)
        )
        self._row("Steepness", self.order)

    def _build_spikes(self):
        self.found = QListWidget()
        self.found.setAccessibleName("Spikes that were found")
        self.found.setFixedHeight(132)
        self.found.setToolTip("Ticked: taken out. Click a name: go there.")
        self.found.itemChanged.connect(self._ticked)
        self.found.itemClicked.connect(lambda item: self.look.emit(*item.data(Qt.ItemDataRole.UserRole)))
        self.told = label("", "quiet", wrap=True)
        self.column.addWidget(self.told)
        self.column.addWidget(self.found)

    def _build_keys(self):
        about = (
            "Keys as they were edited by hand, in the lane of the poses (N) or on the stage. They stand by themselves: "
            "what lies beneath this pass does not count any more. Remove it to start again from there."
        )
        self.told = PosesTold()
        self.told.look.connect(self.session.seek)
        self.stale = label(
            "◆ What lies beneath has changed since these keys were made, and does not show. Remove this pass to show it.",
            wrap=True,
        )
        self.column.addWidget(label(about, "quiet", wrap=True))
        self.column.addWidget(self.stale)
        self.column.addWidget(self.told)

    def _build_poses(self, method):
        """The frames of a correction: a way to each, and taking it out."""
        self._switch("whole", "All through", "It is there from the first frame to the last, without easing in and out")
        for frame in (key.frame for key in method.keys):
            go = button(f"Frame {frame}", lambda f=frame: self.session.seek(f), tip="Go there")
            away = tool("close", f"Take frame {frame} out of the correction", lambda f=frame: self._take_out(f))
            away.setEnabled(len(method.keys) > 1)
            self._row("Pose at", go, away)
        self.column.addWidget(
            label(
                "While this pass is chosen and on top, a pose that is changed elsewhere becomes one more of it.",
                "quiet",
                wrap=True,
            )
        )

    def _build_strengths(self, method):
        """How strong it is at frames: a curve, of a value at each."""
        here = button(
            "Strength here", self._strength_here, tip="Set how strong it is at the playhead; it changes evenly between"
        )
        self.column.addWidget(row(here, None))
        for place, (frame, _) in enumerate(method.strengths):
            number = Number(0, "%", 5, 0, -1000, 1000, 100, f"Strength at frame {frame}")
            number.edited.connect(lambda v, settled, p=place: self._typed_strength(p, v / 100, settled))
            go = button(f"Frame {frame}", lambda f=frame: self.session.seek(f), tip="Go there")
            away = tool(
                "close", f"Take away the strength at {frame}", lambda p=place: self._typed_strength(p, None, True)
            )
            self.strengths.append(number)
            self._row("Strength at", go, number, away)

    def _strength_here(self):
        method, frame = self.one.method, self.session.frame
        now = float(strength_over([frame], method.strengths)[0])
        self._put(strengths=tuple(sorted({**dict(method.strengths), frame: now}.items())))

    def _typed_strength(self, place, value, settled):
        old = self.one.method.strengths
        own = () if value is None else ((old[place][0], value),)
        self._put(settled, strengths=(*old[:place], *own, *old[place + 1 :]))

    def _take_out(self, frame):
        made = self.one.method.with_keys(key for key in self.one.method.keys if key.frame != frame)
        self.edited.emit(replace(self.one, method=made), True)

    def _build_turn(self):
        """A bone of the rig, and how far it is turned about its own axes."""
        names = self.session.refined.skeleton.names
        self.turned = self._combo("Bone that is turned", [(name, name) for name in names], lambda _name: self._show())
        chosen = [name for name, _ in self.one.method.turns] or [n for n in self.session.bones if n in names]
        self.turned.setCurrentIndex(max(self.turned.findData(chosen[0]), 0) if chosen else 0)
        self._row("Turn", self.turned)
        self.turn = [Number(0, "°", 1, 1, -360, 360, 0, f"Turn about its {axis}") for axis in "XYZ"]
        for number in self.turn:
            number.setFixedWidth(76)
            number.edited.connect(lambda _v, settled: self._typed_turn(settled))
        self._row("", *self.turn)

    def _typed_turn(self, settled):
        name, degrees = self.turned.currentData(), tuple(n.value for n in self.turn)
        others = tuple(t for t in self.one.method.turns if t[0] != name)
        self._put(settled, turns=(*others, (name, degrees)) if any(degrees) else others)

    def _build_scope(self, offers):
        if FRAMES in offers:
            spans = ("all", "All frames"), ("range", "Frames of the range")
            self.frames = self._combo("Frames", spans, self._choose_frames)
        if BONES not in offers:
            self.column.addWidget(row(label("Where", "quiet"), self.frames, spacing=6, stretch_last=True))
            return
        parts = [(f"part:{g}", g[0].upper() + g[1:]) for g in self._groups]
        self.bones = self._combo(
            "Bones", (("all", "All bones"), ("curves", "Bones of the curves"), *parts), self._choose_bones
        )
        where = (self.frames, self.bones) if FRAMES in offers else (self.bones,)
        self.column.addWidget(row(label("Where", "quiet"), *where, spacing=6, stretch_last=True))
        if KINDS not in offers:
            return  # of a pose all is kept together
        kinds = []
        for kind, text in _KINDS.items():
            tick = QCheckBox(text)
            tick.clicked.connect(lambda _on: self._choose_channels())
            self.switches[kind] = tick
            kinds.append(tick)
        self.column.addWidget(row(*kinds, None, spacing=8))

    # --- showing --------------------------------------------------------------------------------
    def _show(self):
        one, method = self.one, self.one.method
        for field, (number, share) in self.numbers.items():
            number.set_value(getattr(method, field) / share)
        for part, value in getattr(method, "parts", ()):
            self.cutoffs[part].set_value(value)
        for field, (three, share) in self.threes.items():
            for number, value in zip(three, getattr(method, field)):
                number.set_value(value / share)
        for field, switch in self.switches.items():
            switch.setChecked(field in one.channels if field in _KINDS else getattr(method, field))
        if isinstance(method, LowPass):
            self.kind.setCurrentIndex(2 if method.parts else 1 if isinstance(method.cutoff, str) else 0)
            self.order.setCurrentIndex(self.order.findData(method.order))
        if isinstance(method, Retime):
            self.rate.set_value(method.rate or 0)
        for number, (_, value) in zip(self.strengths, getattr(method, "strengths", ())):
            number.set_value(value * 100)
        if isinstance(method, Adjust):
            for number, value in zip(self.turn, dict(method.turns).get(self.turned.currentData(), (0.0, 0.0, 0.0))):
                number.set_value(value)
        offers = () if one.keys is not None else _offers(method)
        if KEEP in offers:
            self.keep.setChecked(one.keep)
        if FRAMES in offers:
            text = "All frames" if one.frames is None else f"Frames {one.frames[0]} to {one.frames[1]}"
            self.frames.setItemText(1, text if one.frames else "Frames of the range")
            self.frames.setCurrentIndex(0 if one.frames is None else 1)
        if BONES in offers:
            self.bones.setItemText(1, _names(one.names) if one.names else "Bones of the curves")
            wanted = "curves" if one.names else f"part:{one.parts[0]}" if one.parts else "all"
            self.bones.setCurrentIndex(max(self.bones.findData(wanted), 0))

    def _list(self, report):
        """List the spikes that were found, and those that are kept."""
        kept = set(self.one.method.kept)
        spikes = [] if report is None else found(report)
        total = len(spikes)
        listed = sorted([*spikes[:_LISTED], *kept], key=lambda spike: (spike[0], spike[1]))
        self.found.blockSignals(True)
        self.found.clear()
        for name, frame in listed:
            item = QListWidgetItem(f"{name}, frame {frame}")
            item.setData(Qt.ItemDataRole.UserRole, (name, frame))
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Unchecked if (name, frame) in kept else Qt.CheckState.Checked)
            self.found.addItem(item)
        self.found.blockSignals(False)
        if report is None:
            self.told.setText("Looking for spikes …")
        else:
            more = f", {_LISTED} of them listed" if total > _LISTED else ""
            self.told.setText(f"{total} taken out, {len(kept)} kept{more}")

    # --- editing --------------------------------------------------------------------------------
    def _put(self, settled=True, **changes):
        self.edited.emit(replace(self.one, method=replace(self.one.method, **changes)), settled)

    def _typed(self, field, value, settled):
        self._put(settled, **{field: round(value) if field in _WHOLE else value})

    def _typed_part(self, part, value, settled):
        self._put(settled, parts=tuple((p, value if p == part else hertz) for p, hertz in self.one.method.parts))

    def _typed_three(self, field, settled):
        three, share = self.threes[field]
        self._put(settled, **{field: tuple(n.value * share for n in three)})

    def _choose_kind(self, kind):
        if kind == "parts":
            self.suggest.emit()
        else:
            self._put(cutoff=AUTO if kind == "auto" else 6.0, parts=())

    def _choose_frames(self, which):
        self.edited.emit(replace(self.one, frames=None if which == "all" else self.session.range), True)

    def _choose_bones(self, which):
        names = self.session.bones if which == "curves" else ()
        if which == "curves" and not names:
            self.session.message.emit("Choose bones in the curve view first (Shift+N), or click one on the stage.")
            self._show()
            return
        parts = (which.removeprefix("part:"),) if which.startswith("part:") else ()
        self.edited.emit(replace(self.one, names=names, parts=parts), True)

    def _choose_channels(self):
        kinds = tuple(kind for kind in CHANNELS if self.switches[kind].isChecked())
        if kinds:
            self.edited.emit(replace(self.one, channels=kinds), True)
        else:
            self._show()  # at least one of them

    def _ticked(self, item):
        spike = item.data(Qt.ItemDataRole.UserRole)
        kept = set(self.one.method.kept) - {spike}
        if item.checkState() == Qt.CheckState.Unchecked:
            kept.add(spike)
        self._put(kept=tuple(sorted(kept)))


def _usual(method, field):
    """What a setting of a method is as usual."""
    return type(method).__dataclass_fields__[field].default if field != "seconds" else getattr(method, field)


def _names(names):
    return names[0] if len(names) == 1 else f"{names[0]} and {len(names) - 1} more"
