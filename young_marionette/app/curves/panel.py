"""The curve view: tree, tools and plot, over the timeline."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QVBoxLayout, QWidget

from ...core.errors import InputError
from ...core.evaluator import EVALUATOR
from ...core.filters.methods import LowPass
from ...core.humanoid.groups import groups
from ...core.keys.curves import (
    ANGLES,
    ORDER,
    ORDERS,
    PLACE,
    SPECTRUM,
    SPEED,
    SWING,
    WEIGHT,
    curves,
    own_order,
    spectra,
    speed_of,
)
from ...core.keys.handles import handles
from ...project.bakes import Bake
from ...project.commands import SetKeys
from ...project.entry import BAKED
from ...project.keying import curve_slope, curve_value, keys_of
from ..parts.widgets import Number, button, label, row, tool
from .plot import CurvePlot
from .tree import BoneTree

_READINGS = {ANGLES: "Rotation", SWING: "Swing and twist", PLACE: "Position", WEIGHT: "Morphs and expressions"}
_VIEWS = {"": "Values", SPEED: "Speed", SPECTRUM: "Spectrum"}
_AT_ONCE = 8  # bones whose curves are worked out at once while something is dragged
_AXIS = 60  # pixels for the numbers beside the plot


class CurvePanel(QWidget):
    """``offset_asked``: the user typed how much the selected stretch is to be moved by: degrees, centimetres or weights."""

    offset_asked = Signal(float)

    def __init__(self, session, scale):
        super().__init__()
        self.session, self.scale = session, scale
        self.tree, self.plot = BoneTree(), CurvePlot(session, scale)
        self.tree.chosen.connect(session.show_curves_of)
        self._before = None  # the keys as they were before a drag
        self._build()
        for signal in (session.preview_changed, session.step_changed, session.view_changed, session.bones_changed):
            signal.connect(self.show_state)
        for signal in (session.pass_chosen, session.passing.ready, session.live.ready):
            signal.connect(self.show_state)
        session.listen(("entries", "bakes", "source"), self.show_state)

    def _build(self):
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self.tree)
        right = QVBoxLayout()
        right.setContentsMargins(4, 6, 10, 2)
        right.setSpacing(4)
        layout.addLayout(right, 1)
        self.reading, self.order, self.view = QComboBox(), QComboBox(), QComboBox()
        for combo, name, items in (
            (self.reading, "What is shown", _READINGS),
            (self.order, "Order of the angles", {"": "Rig's order", **{o: o for o in ORDERS}}),
            (self.view, "Values, speed or spectrum", _VIEWS),
        ):
            combo.setAccessibleName(name)
            combo.setToolTip(name)
            for key, text in items.items():
                combo.addItem(text, key)
            combo.activated.connect(lambda _i: self.show_state(True))
        self.seconds = tool("clock", "Times in seconds", self._in_seconds, True)
        self.fit = tool("frame", "Fit the selection, or all values (F); double-click: the whole clip", self.plot.fit)
        self.first, self.last = (
            Number(0, "", 1, 0, 0, 1e7, name=f"{end} frame of the selection") for end in ("First", "Last")
        )
        self.low, self.high = (Number(0, "", 1, 2, name=f"{end} value in view") for end in ("Lowest", "Highest"))
        for number in (self.first, self.last, self.low, self.high):
            number.setFixedWidth(64)
        self.first.edited.connect(lambda _v, _s: self._typed_frames())
        self.last.edited.connect(lambda _v, _s: self._typed_frames())
        self.low.edited.connect(lambda _v, _s: self._typed_values())
        self.high.edited.connect(lambda _v, _s: self._typed_values())
        self.amount = Number(0, "°", 1, 2, name="How much the selection is moved by")
        self.amount.setFixedWidth(72)
        self.move = button(
            "Offset",
            lambda: self.offset_asked.emit(self.amount.value),
            tip="Adds a pass that moves the selected frames of these bones",
        )
        self.between, self.within = label("Frames", "quiet"), label("Values", "quiet")
        self.tools = row(
            self.reading, self.order, self.view, self.seconds, self.fit, self.between, self.first, self.last,
            self.within, self.low, self.high, None, self.amount, self.move, spacing=6,
        )  # fmt: skip
        right.addWidget(self.tools)
        right.addWidget(self.plot, 1)
        self.plot.selected.connect(self._show_selection)
        self.plot.value_dragged.connect(self._drag_value)
        self.plot.slope_dragged.connect(self._drag_slope)

    def place(self, left, wide):
        """Where the timeline's frames lie."""
        self.tree.setFixedWidth(max(left - _AXIS, 150))
        self.plot.place(left, wide)

    def _in_seconds(self):
        self.plot.seconds = self.seconds.isChecked()
        self.plot.update()

    # --- what is shown --------------------------------------------------------------------------
    def _clips(self):
        """``(entry, new clip, old clip or None)`` whose curves are shown; the old one where it has as many frames."""
        bake, session = self.session.refined, self.session
        if session.step != "refine" or bake is None or session.preview:
            entry = session.clip
            return (
                (entry, entry.placed_clip, None) if entry is not None and entry.take is not None else (None, None, None)
            )
        passed, bones = bake.passed, session.bones[:_AT_ONCE]
        known = passed.result
        new = known.clip if known is not None else passed.sketch(bones)
        old = passed.sketch(bones, session.count_before) if passed.passes else None
        if old is not None and (old.frames != new.frames or old is new):
            old = None
        return bake, new, old

    def show_state(self, fit=False):
        """Take the curves of the moment."""
        if not self.isVisible():
            return
        entry, new, old = self._clips()
        if entry is None:
            self.plot.show_curves([], [], "")
            return
        session = self.session
        if entry.role != BAKED or new.skeleton is entry.placed_skeleton:
            self.tree.show_bones(new.skeleton, groups(new.skeleton, entry.figure.body, new.morphs), session.bones)
        else:
            self.tree.show_bones(new.skeleton, entry.passed.limbs.groups, session.bones)
        reading, view = self.reading.currentData(), self.view.currentData()
        self.order.setVisible(reading == ANGLES)
        made = [[], []]
        for name in session.bones:
            order = self.order.currentData() or self._own_order(entry, name)
            for clip, into in zip((new, old), made):
                if clip is not None:
                    key = clip, name, reading, order
                    into += EVALUATOR.of("curves", key, lambda key=key: curves(key[0], [key[1]], *key[2:]))
        band, marks = None, ()
        if view == SPEED:
            made = [[speed_of(c, new.rate) for c in some] for some in made]
        elif view == SPECTRUM:
            made = [spectra(some, new.rate) for some in made]
            band, marks = new.rate / 2, self._cutoffs()
        unit = made[0][0].unit if made[0] else ""
        self.amount.set_unit(unit if unit in ("°", "cm") else "")
        self.plot.handles = self._handles(made[0], reading) if view == "" else []
        self.plot.show_curves(made[0], made[1], unit, band, marks, fit is True)
        self._show_selection(self.plot.selection)

    def _handles(self, shown, reading):
        """The keys of the curves that are shown, where they can be edited."""
        session, names = self.session, self.session.bones
        if session.passing.poses is None or session.preview or len(names) > _AT_ONCE:
            return []
        try:
            keyed = keys_of(session.refined).keyed
        except InputError:
            return []
        found = []
        for name in names:
            values = {c.axis: c.values for c in shown if c.name == name}
            found += handles(keyed, name, reading, self._order_of(name), values)
        return found

    def _order_of(self, name):
        return self.order.currentData() or self._own_order(self.session.refined, name)

    def _edit(self, label, change, settled):
        """An edit of a key by its curve; all of one drag is one step."""
        if self._before is None:
            self._before = keys_of(self.session.refined)
        made = change(self._before)
        self.session.drag(SetKeys(self.session.refined.id, made, label), settled=settled, afresh=True)
        if settled:
            self._before = None

    def _drag_value(self, handle, value, settled):
        reading, order = self.reading.currentData(), self._order_of(handle.name)
        self._edit("change a key", lambda keys: curve_value(keys, handle, reading, order, value), settled)

    def _drag_slope(self, handle, side, slope, both, settled):
        reading, order = self.reading.currentData(), self._order_of(handle.name)
        self._edit(
            "change a tangent", lambda keys: curve_slope(keys, handle, reading, order, side, slope, both), settled
        )

    @staticmethod
    def _own_order(entry, name):
        """The order of a bone's angles in the rig's file; controls are in none."""
        on_controls = isinstance(entry, Bake) and entry.controls is not None
        joint = None if on_controls else entry.placed_skeleton.index.get(name)
        return own_order(entry.layout, joint) if joint is not None else ORDER

    def _cutoffs(self):
        """The cut-offs of low-pass passes on what is shown."""
        bake = self.session.refined
        if bake is None or not bake.passes:
            return ()
        passed, found = bake.passed, set()
        known = passed.known()[1]
        for i, one in enumerate(passed.passes[:known], 1):
            if isinstance(one.method, LowPass):
                cutoffs = passed.stage(i).report.cutoffs
                found |= {round(cutoffs[name], 2) for name in self.session.bones if name in cutoffs}
        return tuple(sorted(found))

    def _show_selection(self, selection):
        first, last = (0, self.session.frames - 1) if selection is None else selection[:2]
        self.first.set_value(first)
        self.last.set_value(last)
        self.low.set_value(self.plot.low)
        self.high.set_value(self.plot.high)
        editable = self.session.step == "refine" and self.session.refined is not None and bool(self.plot.new)
        self.move.setEnabled(editable and self.view.currentData() == "")
        self.amount.setEnabled(self.move.isEnabled())

    def _typed_frames(self):
        first, last = sorted((round(self.first.value), round(self.last.value)))
        last = min(last, self.session.frames - 1)
        self.plot.select((min(first, last), last, self.plot.low, self.plot.high))

    def _typed_values(self):
        low, high = sorted((self.low.value, self.high.value))
        if high > low:
            self.plot.low, self.plot.high = low, high
            self.plot.update()

    def resizeEvent(self, event):
        """Where there is little room, numbers that the plot shows anyway make place."""
        super().resizeEvent(event)
        room = self.width() - self.tree.width()
        for widget in (self.within, self.low, self.high):
            widget.setVisible(room > 860)
        self.between.setVisible(room > 700)

    def showEvent(self, event):
        super().showEvent(event)
        self.show_state()
