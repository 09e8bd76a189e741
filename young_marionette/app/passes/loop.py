"""The settings of a loop: which frames, how it is closed, how large the gap is, and the best stretches."""

from __future__ import annotations

import math

from PySide6.QtWidgets import QVBoxLayout, QWidget

from ...project.looping import loop_gap, loop_stretches
from ...wording.findings import counted
from ..parts.widgets import Number, button, label, row


class LoopSettings(QWidget):
    """``put(settled, **changes)``: changes settings of the pass."""

    def __init__(self, session, identifier, put):
        super().__init__()
        self.session, self.identifier, self._put = session, identifier, put
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.first = Number(0, "", 1, 0, 0, 1e6, 0, "First frame of the loop")
        self.last = Number(0, "", 1, 0, 0, 1e6, 0, "Last frame of the loop")
        self.seconds = Number(0.4, "s", 0.05, 2, 0.02, 60, 0.4, "Closed over so many seconds at its end")
        self.first.edited.connect(lambda value, settled: put(settled, first=round(value)))
        self.last.edited.connect(lambda value, settled: put(settled, last=round(value)))
        self.seconds.edited.connect(lambda value, settled: put(settled, seconds=value))
        self.told = label("", "quiet", wrap=True)
        self.find = button("Find the best loops", self._find, tip="Compare all pairs of frames, in pose and in speed")
        self.offered = QVBoxLayout()
        self.offered.setSpacing(4)
        column.addWidget(row(label("From frame", "quiet"), None, self.first))
        column.addWidget(row(label("To frame", "quiet"), None, self.last))
        column.addWidget(row(label("Closed over", "quiet"), None, self.seconds))
        column.addWidget(self.told)
        column.addWidget(self.find)
        column.addLayout(self.offered)

    def show_method(self, method):
        """Show a Loop, and how large the gap is that it closes."""
        bake = self.session.refined
        self.first.set_value(method.first)
        self.seconds.set_value(method.seconds)
        gap = loop_gap(bake, self.identifier) if bake is not None else None
        last = method.last
        if last is None and bake is not None:
            last = bake.dense.frames - 1
        self.last.set_value(last or 0)
        if gap is None:
            self.told.setText("Looking at the gap …")
            return
        along, side = gap.place[1] * 100, gap.place[0] * 100
        self.told.setText(
            f"Gap before closing: hips {gap.height * 100:+.1f} cm in height, {math.degrees(gap.heading):+.1f}° in heading; "
            f"pose up to {gap.pose * 100:.1f} cm ({gap.joint}) and {math.degrees(gap.turn):.0f}°. "
            f"A round goes {along:.0f} cm ahead and {side:.0f} cm sideways."
        )

    def _find(self):
        bake, key = self.session.refined, self.identifier
        if bake is not None:
            self.session.job_asked.emit("find loops", lambda _progress: loop_stretches(bake, key), self._offer)

    def _offer(self, stretches):
        self.session.told.emit(f"{counted(len(stretches), 'loop')} found, best first")
        rate = self.session.refined.dense.rate if self.session.refined is not None else 30.0
        while self.offered.count():
            old = self.offered.takeAt(0).widget()
            old.hide()
            old.deleteLater()
        for one in stretches:
            text = f"{one.first} to {one.last}: {(one.last - one.first) / rate:.2f} s, off by {one.cost * 100:.1f} cm"
            use = button(text, lambda s=one: self._put(True, first=s.first, last=s.last), tip="Use these frames")
            self.offered.addWidget(use)
