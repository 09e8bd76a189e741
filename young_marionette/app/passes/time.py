"""The settings of time: which stretch is left, backwards, holds, and how quick it is where."""

from __future__ import annotations

from PySide6.QtWidgets import QCheckBox, QVBoxLayout, QWidget

from ...core.passes.stack import length
from ..parts.widgets import Number, button, label, row, tool


class TimeSettings(QWidget):
    """``put(settled, **changes)``: changes settings of the pass."""

    def __init__(self, session, identifier, put):
        super().__init__()
        self.session, self.identifier, self._put = session, identifier, put
        self.method = self._shown = None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.first = Number(0, "", 1, 0, 0, 1e6, 0, "First frame that is left")
        self.last = Number(0, "", 1, 0, 0, 1e6, 0, "Last frame that is left")
        self.first.edited.connect(lambda value, settled: put(settled, first=round(value)))
        self.last.edited.connect(lambda value, settled: put(settled, last=round(value)))
        self.trim = button("Trim to the range", self._trim, tip="Leave only the frames of the timeline's range")
        self.backwards = QCheckBox("Backwards")
        self.backwards.clicked.connect(lambda on: put(True, backwards=on))
        self.rows = QVBoxLayout()
        self.rows.setSpacing(4)
        column.addWidget(row(label("From frame", "quiet"), None, self.first))
        column.addWidget(row(label("To frame", "quiet"), None, self.last))
        column.addWidget(self.trim)
        column.addWidget(self.backwards)
        column.addLayout(self.rows)
        column.addWidget(
            row(
                button("Hold here", self._hold, tip="Let the frame at the playhead stand for a while"),
                button(
                    "Speed here", self._speed, tip="Set how quick it is at the playhead; it changes evenly from there"
                ),
            )
        )

    def _coming_in(self):
        """``(frames, frames per second)`` of what comes into the pass."""
        bake = self.session.refined
        below = []
        for one in bake.passes:
            if one.id == self.identifier:
                break
            below.append(one)
        return length(below, bake.dense.frames, bake.dense.rate)

    def show_method(self, method):
        """Show a Time."""
        self.method = method
        frames, _ = self._coming_in()
        self.first.set_value(method.first)
        self.last.set_value(frames - 1 if method.last is None else method.last)
        self.backwards.setChecked(method.backwards)
        shape = tuple(frame for frame, _ in method.speeds), tuple(frame for frame, _ in method.holds)
        if shape != self._shown:
            self._shown = shape
            self._build()
        for (_, value), number in zip((*method.speeds, *method.holds), self.numbers):
            number.set_value(value * 100 if number in self.numbers[: len(method.speeds)] else value)

    def _build(self):
        while self.rows.count():
            old = self.rows.takeAt(0).widget()
            old.hide()
            old.deleteLater()
        self.numbers = []
        for field, unit, step, decimals, low, high, share in (
            ("speeds", "%", 5, 0, 1, 10_000, 0.01), ("holds", "s", 0.1, 2, 0.01, 600, 1),
        ):  # fmt: skip
            for n, (frame, _) in enumerate(getattr(self.method, field)):
                text = f"Speed at {frame}" if field == "speeds" else f"Held at {frame}"
                number = Number(0, unit, step, decimals, low, high, None, text)
                number.edited.connect(lambda v, settled, f=field, n=n, s=share: self._typed(f, n, v * s, settled))
                away = tool("close", f"Take away: {text}", lambda f=field, n=n: self._remove(f, n))
                self.numbers.append(number)
                self.rows.addWidget(row(label(text, "quiet"), None, number, away, spacing=6))

    def _typed(self, field, place, value, settled):
        old = getattr(self.method, field)
        self._put(settled, **{field: (*old[:place], (old[place][0], value), *old[place + 1 :])})

    def _remove(self, field, place):
        old = getattr(self.method, field)
        self._put(True, **{field: (*old[:place], *old[place + 1 :])})

    def _here(self):
        return self.method.comes_from(self.session.frame, *self._coming_in())

    def _trim(self):
        a, b = sorted(self.method.comes_from(frame, *self._coming_in()) for frame in self.session.range)
        self._put(True, first=a, last=b)

    def _hold(self):
        here = self._here()
        self._put(True, holds=tuple(sorted({**dict(self.method.holds), here: 0.5}.items())))

    def _speed(self):
        here = self._here()
        self._put(True, speeds=tuple(sorted({**dict(self.method.speeds), here: 1.0}.items())))
