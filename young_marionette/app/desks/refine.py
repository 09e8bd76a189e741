"""Refine: what was baked, against the live result: its keys and its curves."""

from __future__ import annotations

from PySide6.QtWidgets import QComboBox

from ...core.keys.angles import angle_curves
from .. import theme
from ..parts.widgets import Card, label, row
from .base import Desk

_DASHES = {"X": None, "Y": (6, 3), "Z": (1.5, 2.5)}


class RefineDesk(Desk):
    title, lead, wide, scrolls = (
        "Refine",
        "A baked clip has a key on every frame. Look at its curves, and at the clip beside the live result.",
        420,
        False,
    )

    shows = ("entries", "bakes", "source")

    def build(self):
        import pyqtgraph as graph

        graph.setConfigOptions(antialias=True)
        card = Card("Baked clip")
        self.clip = QComboBox()
        self.clip.setAccessibleName("Baked clip")
        self.clip.activated.connect(lambda _i: self.session.compare_with(self.clip.currentData()))
        self.told = label("", "quiet", wrap=True)
        card.add(self.clip, self.told)
        self.add(card)
        self.curves = Card("Curves of a bone")
        self.bone = QComboBox()
        self.bone.setAccessibleName("Bone whose curves are shown")
        self.bone.activated.connect(lambda _i: self._draw())
        self.plot = graph.PlotWidget(background=theme.colour("deep"))
        self.plot.setMenuEnabled(False)
        self.plot.showGrid(x=True, y=True, alpha=0.18)
        for side in ("bottom", "left"):
            self.plot.getAxis(side).setTextPen(theme.colour("quiet"))
            self.plot.getAxis(side).setPen(theme.colour("line"))
            # After the pen, which would take the label's colour along.
            self.plot.setLabel(side, {"bottom": "frame", "left": "degrees"}[side], color=theme.NIGHT["quiet"])
        self.line = graph.InfiniteLine(angle=90, pen=graph.mkPen(theme.colour("brass"), width=1.5), movable=True)
        self.line.sigDragged.connect(lambda: self.session.seek(round(self._to_clip(self.line.value()))))
        self.plot.addItem(self.line)
        self._traces = {
            axis: self.plot.plot(pen=graph.mkPen(theme.colour(name), width=1.8))
            for axis, name in (("X", "marionette"), ("Y", "baked"), ("Z", "performer"))
        }
        for axis, dashes in _DASHES.items():
            if dashes:
                pen = self._traces[axis].opts["pen"]
                pen.setDashPattern(dashes)
                self._traces[axis].setPen(pen)
        legend = row(
            *(label(f"{text} {axis}") for axis, text in (("X", "—— X"), ("Y", "– – Y"), ("Z", "···· Z"))), None
        )
        for i, (_axis, text, name) in enumerate(
            (("X", "——  about X", "marionette"), ("Y", "– –  about Y", "baked"), ("Z", "····  about Z", "performer"))
        ):
            widget = legend.layout().itemAt(i).widget()
            widget.setText(text)
            widget.setStyleSheet(f"color: {theme.NIGHT[name]}")
        self.curves.add(self.bone, self.plot, legend)
        self.column.addWidget(self.curves, 1)
        self.empty = label("Nothing is baked yet: bake a clip in Transfer.", "quiet", wrap=True)
        self.add(self.empty)
        self._shown = None
        self.session.frame_changed.connect(self._move_line)

    def _to_clip(self, frame):
        entry = self._entry()
        return frame / entry.clip.rate * self.session.rate if entry else 0

    def _entry(self):
        return self.session.state.entry(self.clip.currentData()) if self.clip.count() else None

    def show_state(self):
        baked = self.session.baked
        for widget in (self.clip.parentWidget(), self.curves):
            widget.setVisible(bool(baked))
        self.empty.setVisible(not baked)
        if not baked:
            return
        ids = [e.id for e in baked]
        present = [self.clip.itemData(i) for i in range(self.clip.count())]
        if ids != present:
            self.clip.clear()
            for entry in baked:
                self.clip.addItem(entry.name, entry.id)
        wanted = self.session.compare if self.session.compare in ids else ids[-1]
        self.clip.setCurrentIndex(ids.index(wanted))
        entry = self._entry()
        clip = entry.clip
        self.told.setText(
            f"{clip.frames * (len(entry.skeleton) + len(clip.moving))} keys: {clip.frames} frames, {len(entry.skeleton)} bones, {len(clip.moving)} of them with position keys. "
            f"{clip.seconds:.2f} s at {clip.rate:g} fps."
        )
        names = list(entry.skeleton.names)
        if [self.bone.itemText(i) for i in range(self.bone.count())] != names:
            self.bone.clear()
            self.bone.addItems(names)
            body = entry.figure.body
            if body and "left forearm" in body.parts:
                self.bone.setCurrentIndex(body.parts["left forearm"][0])
        if self.session.bone in names:
            self.bone.setCurrentText(self.session.bone)
        self._draw()

    def _draw(self):
        entry = self._entry()
        if entry is None:
            return
        key = (entry.id, self.bone.currentText())
        if key != self._shown:
            self._shown = key
            frames, angles = angle_curves(entry.clip, entry.skeleton.index[self.bone.currentText()])
            for axis, values in angles.items():
                self._traces[axis].setData(frames, values)
            self.plot.autoRange()
        self._move_line()

    def _move_line(self):
        entry = self._entry()
        if entry is not None and self.isVisible():
            self.line.setValue(self.session.second * entry.clip.rate)
