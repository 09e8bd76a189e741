"""The settings of thinning: tolerances with a slider, stages, other tolerances somewhere, and what it made."""

from __future__ import annotations

import math
from dataclasses import replace

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QCheckBox, QGridLayout, QPushButton, QSlider, QVBoxLayout, QWidget

from ...core.thinning.settings import CONTACTS, JOINTS, KEYS, STAGES, Thin
from ...core.thinning.tolerances import Emphasis
from ...wording.passes import sketched, thinned
from ..parts.widgets import Number, label, menu_button, row, tool

_LOWEST, _HIGHEST, _STEPS = 0.1, 10.0, 400  # cm, and places of the slider
_STAGES = {
    CONTACTS: ("Keys where contacts change", "A pose wherever a heel, toe or hand comes down or leaves"),
    KEYS: ("Further keys, as few as keep the tolerance", "Without this one, nothing is promised between contact keys"),
    JOINTS: (
        "Only the joints that a pose needs",
        "Others follow the curves of their neighbours in time, within the tolerance",
    ),
}
_USUAL = Thin()


class PosesTold(QWidget):
    """What thinning, or editing after it, made; a click on what is off most goes there (``look``)."""

    look = Signal(int)

    def __init__(self):
        super().__init__()
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 2, 0, 4)
        self._grid.setHorizontalSpacing(10)
        self._grid.setVerticalSpacing(1)
        self._grid.setColumnStretch(1, 1)
        self._lines = []

    def tell(self, poses, sketch=None, frames=0):
        """Show what is known of ``poses``, or of a ``sketch`` of as many ``frames`` (None: nothing yet)."""
        lines = [("", "Working it out …", None)]
        if poses is not None:
            lines = thinned(poses)
        elif sketch is not None:
            lines = [*sketched(sketch, frames), *lines]
        while len(self._lines) < len(lines):
            self._lines.append(self._line(len(self._lines)))
        for i, (name, told) in enumerate(self._lines):
            what, much, frame = lines[i] if i < len(lines) else ("", "", None)
            name.setText(what)
            told.setText(much)
            told.setProperty("frame", frame)
            told.setToolTip("" if frame is None else f"Go to frame {frame}")
            name.setVisible(i < len(lines))
            told.setVisible(i < len(lines))

    def _line(self, number):
        name, told = label("", "quiet"), QPushButton()
        told.setProperty("kind", "bare")
        told.setStyleSheet("text-align: left; padding: 1px 4px;")
        told.clicked.connect(lambda _on=False: self._go(told.property("frame")))
        self._grid.addWidget(name, number, 0)
        self._grid.addWidget(told, number, 1)
        return name, told

    def _go(self, frame):
        if frame is not None:
            self.look.emit(frame)


class ThinSettings(QWidget):
    """``put(settled=..., **changes)`` is called with what the user changes of the method; ``look``: a frame to go to."""

    look = Signal(int)

    def __init__(self, session, groups, put):
        super().__init__()
        self.session, self._groups, self._put, self.method = session, groups, put, None
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.setSpacing(6)
        self.told = PosesTold()
        self.told.look.connect(self.look)
        self.numbers = []
        self._build_tolerances()
        self.column.addWidget(self.told)
        self._build_stages()
        self.others = QVBoxLayout()
        self.others.setSpacing(4)
        self.column.addLayout(self.others)
        self.adding = menu_button(
            "Other tolerance",
            self._fill_adding,
            "Closer or looser for some frames or a part of the body: more keys there, or fewer",
        )
        self.marking = menu_button(
            "Keys by hand", self._fill_marking, "Say where there is a key, and where there is none"
        )
        self.column.addWidget(row(self.adding, self.marking, None))

    # --- building -------------------------------------------------------------------------------
    def _build_tolerances(self):
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setRange(0, _STEPS)
        self.slider.setAccessibleName("How far any joint may be off")
        self.slider.setToolTip("How far any joint or tip may be off, in the world, on any frame")
        self.slider.valueChanged.connect(self._slid)
        self.slider.sliderReleased.connect(lambda: self._put(places=self.method.places))
        self.places = Number(1.0, "cm", 0.1, 2, 0.01, 100, 1.0, "How far any joint may be off")
        self.places.edited.connect(lambda value, settled: self._put(places=value / 100, settled=settled))
        self.column.addWidget(row(label("Within", "quiet"), self.slider, self.places, spacing=8))
        self.degrees = Number(5.0, "°", 0.5, 1, 0.1, 180, 5.0, "How far any joint may be turned off")
        self.degrees.edited.connect(lambda value, settled: self._put(degrees=value, settled=settled))
        self.planted = Number(0.3, "cm", 0.05, 2, 0.01, 100, 0.3, "How far what stands or is held may be off")
        self.planted.edited.connect(lambda value, settled: self._put(planted=value / 100, settled=settled))
        self.weights = Number(0.02, "", 0.01, 3, 0.001, 10, 0.02, "How far any morph may be off")
        self.weights.edited.connect(lambda value, settled: self._put(weights=value, settled=settled))
        for number in (self.degrees, self.planted, self.weights):
            number.setFixedWidth(78)
        self.stands = QCheckBox("Planted")
        self.stands.setToolTip("A tolerance of its own for what stands or is held")
        self.stands.clicked.connect(lambda on: self._put(planted=_USUAL.planted if on else None))
        self.column.addWidget(
            row(label("Turned", "quiet"), self.degrees, None, label("Morphs", "quiet"), self.weights, spacing=6)
        )
        self.column.addWidget(row(self.stands, self.planted, None, spacing=6))

    def _build_stages(self):
        self.stages = {}
        for stage in STAGES:
            text, tip = _STAGES[stage]
            tick = QCheckBox(text)
            tick.setToolTip(tip)
            tick.clicked.connect(lambda _on: self._choose_stages())
            self.stages[stage] = tick
            self.column.addWidget(tick)

    # --- showing --------------------------------------------------------------------------------
    def show_method(self, one, poses, sketch=None):
        """Show what a pass asks for, and what it made where that is known, or a ``sketch`` of it."""
        method = self.method = one.method
        self.slider.blockSignals(True)
        self.slider.setValue(_place_of(method.places * 100))
        self.slider.blockSignals(False)
        self.places.set_value(method.places * 100)
        self.degrees.set_value(method.degrees)
        self.weights.set_value(method.weights)
        self.stands.setChecked(method.planted is not None)
        self.planted.setEnabled(method.planted is not None)
        if method.planted is not None:
            self.planted.set_value(method.planted * 100)
        for stage, tick in self.stages.items():
            tick.setChecked(stage in method.stages)
        self._show_others()
        self.told.tell(poses, sketch, self.session.frames)

    def _show_others(self):
        method = self.method
        wanted = [("emphasis", e) for e in method.emphases]
        wanted += [("forced", f) for f in method.forced] + [("barred", b) for b in method.barred]
        if wanted == getattr(self, "_shown_others", None):
            return
        same = [w[0] for w in wanted] == [w[0] for w in getattr(self, "_shown_others", [])]
        self._shown_others = wanted
        if same and all(isinstance(n, Number) for n in self.numbers) and len(self.numbers) == len(method.emphases):
            for number, emphasis in zip(self.numbers, method.emphases):
                number.set_value(emphasis.factor * 100)
            return
        self.numbers = []
        while self.others.count():
            widget = self.others.takeAt(0).widget()
            widget.hide()
            widget.deleteLater()
        for i, emphasis in enumerate(method.emphases):
            number = Number(emphasis.factor * 100, "%", 5, 0, 1, 10000, 100, f"Tolerance {_where(emphasis)}")
            number.setFixedWidth(78)
            number.edited.connect(lambda value, settled, i=i: self._weigh(i, value / 100, settled))
            self.numbers.append(number)
            away = tool("close", "Remove this", lambda i=i: self._put(emphases=_but(self.method.emphases, i)))
            self.others.addWidget(row(label(_where(emphasis), "quiet"), None, number, away, spacing=4))
        for i, frame in enumerate(method.forced):
            away = tool("close", "Remove this", lambda i=i: self._put(forced=_but(self.method.forced, i)))
            self.others.addWidget(row(label(f"A key at frame {frame}", "quiet"), None, away, spacing=4))
        for i, (first, last) in enumerate(method.barred):
            away = tool("close", "Remove this", lambda i=i: self._put(barred=_but(self.method.barred, i)))
            self.others.addWidget(row(label(f"No keys in frames {first} to {last}", "quiet"), None, away, spacing=4))

    # --- editing --------------------------------------------------------------------------------
    def _slid(self, place):
        self._put(places=_cm_of(place) / 100, settled=not self.slider.isSliderDown())

    def _choose_stages(self):
        stages = tuple(stage for stage, tick in self.stages.items() if tick.isChecked())
        if stages:
            self._put(stages=stages)
        else:
            self.session.message.emit("Thinning needs at least one of its stages.")
            for stage, tick in self.stages.items():
                tick.setChecked(stage in self.method.stages)

    def _weigh(self, number, factor, settled):
        emphases = tuple(replace(e, factor=factor) if i == number else e for i, e in enumerate(self.method.emphases))
        self._put(emphases=emphases, settled=settled)

    def _fill_adding(self, menu):
        menu.clear()
        first, last = self.session.range
        for factor, word in ((0.5, "Half the tolerance"), (2.0, "Twice the tolerance")):
            sub = menu.addMenu(word)
            sub.addAction(
                f"In frames {first} to {last}, the range",
                lambda f=factor: self._add(Emphasis(f, frames=self.session.range)),
            )
            for group in self._groups:
                name = group[0].upper() + group[1:]
                sub.addAction(name, lambda f=factor, g=group: self._add(Emphasis(f, parts=(g,))))
            if self.session.bones:
                bones = self.session.bones
                sub.addAction("Bones of the curves", lambda f=factor, b=bones: self._add(Emphasis(f, names=b)))

    def _fill_marking(self, menu):
        menu.clear()
        frame, (first, last) = self.session.frame, self.session.range
        forced = self.method.forced
        there = frame in forced
        menu.addAction(
            f"No key by hand at frame {frame} any more" if there else f"A key at frame {frame}",
            lambda: self._put(forced=tuple(sorted(set(forced) ^ {frame}))),
        )
        menu.addAction(
            f"No keys in frames {first} to {last}, the range",
            lambda: self._put(barred=(*self.method.barred, (first, last))),
        )

    def _add(self, emphasis):
        self._put(emphases=(*self.method.emphases, emphasis))


def _where(emphasis):
    """Where another tolerance holds, in words."""
    what = ", ".join((*emphasis.parts, *emphasis.names[:1])) or "all bones"
    more = f" and {len(emphasis.names) - 1} more" if len(emphasis.names) > 1 else ""
    when = "" if emphasis.frames is None else f", frames {emphasis.frames[0]} to {emphasis.frames[1]}"
    text = f"{what}{more}{when}"
    return text[0].upper() + text[1:]


def _but(things, number):
    return tuple(thing for i, thing in enumerate(things) if i != number)


def _place_of(cm):
    """The slider's place of a tolerance: even steps are even factors."""
    share = math.log(max(cm, 1e-6) / _LOWEST) / math.log(_HIGHEST / _LOWEST)
    return round(min(max(share, 0.0), 1.0) * _STEPS)


def _cm_of(place):
    value = _LOWEST * (_HIGHEST / _LOWEST) ** (place / _STEPS)
    return float(f"{value:.2g}") if value >= 0.1 else value
