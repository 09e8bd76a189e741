"""The plot that shows why a cut-off is suggested."""

from __future__ import annotations

from math import log10

from PySide6.QtWidgets import QFrame, QGridLayout, QVBoxLayout

from .. import theme
from ..parts.widgets import label, row, tool

_COLOURS = ("x", "y", "z", "performer", "marionette", "baked", "left", "right", "brass", "quiet")
_TICKS = (0.5, 1, 2, 3, 5, 10, 20, 50, 100)
_DASHES = (None, (6, 3), (1.5, 2.5))


class Why(QFrame):
    """For each part of the body: the error that is left over all cut-offs, and the cut-off where it is least."""

    def __init__(self):
        super().__init__()
        import pyqtgraph as graph

        self._graph = graph
        self.setObjectName("card")
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 8, 8, 10)
        column.addWidget(row(label("Why these cut-offs", "section"), None, tool("close", "Close the plot", self.hide)))
        column.addWidget(
            label(
                "Noise that a cut-off leaves, and motion that it takes away, as a share of all noise. Least is best.",
                "quiet",
                wrap=True,
            )
        )
        self.plot = graph.PlotWidget(background=theme.colour("deep"))
        self.plot.setMenuEnabled(False)
        self.plot.setMouseEnabled(False, False)
        self.plot.hideButtons()
        self.plot.setFixedHeight(160)  # the whole card is in sight where the desk is lowest, under curves
        self.plot.setLogMode(x=True, y=False)
        self.plot.getAxis("bottom").setTicks([[(log10(hertz), f"{hertz:g}") for hertz in _TICKS]])
        self.plot.showGrid(x=True, y=True, alpha=0.16)
        for side, text in (("bottom", "cut-off, Hz"), ("left", "error left, %")):
            axis = self.plot.getAxis(side)
            axis.setTextPen(theme.colour("quiet"))
            axis.setPen(theme.colour("line"))
            axis.enableAutoSIPrefix(False)
            self.plot.setLabel(side, text, color=theme.NIGHT["quiet"])
        column.addWidget(self.plot)
        self.names = QGridLayout()
        self.names.setHorizontalSpacing(10)
        self.names.setVerticalSpacing(2)
        column.addLayout(self.names)
        self.hide()

    def show_suggestions(self, suggestions):
        """``{part of the body: Suggestions of one channel}``."""
        graph = self._graph
        self.plot.clear()
        while self.names.count():
            self.names.takeAt(0).widget().deleteLater()
        for i, (part, one) in enumerate(suggestions.items()):
            if not len(one.tried):
                continue
            tint, dash = theme.colour(_COLOURS[i % len(_COLOURS)]), _DASHES[i % 3]
            pen = graph.mkPen(tint, width=1.8)
            if dash:
                pen.setDashPattern(dash)
            left = (100 * one.left[0]).clip(0, 150)
            self.plot.plot(one.tried, left, pen=pen)
            cutoff = float(one.cutoffs[0])
            best = left[abs(one.tried - cutoff).argmin()] if cutoff < float("inf") else None
            if best is not None:
                self.plot.plot([cutoff], [best], pen=None, symbol="o", symbolSize=8, symbolBrush=tint, symbolPen=None)
            words = f"{cutoff:.1f} Hz" if best is not None else "none needed"
            line = label(f"{('━━', '╍╍', '┅┅')[i % 3]} {part}: {words}")
            line.setStyleSheet(f"color: {tint.name()}")
            self.names.addWidget(line, i // 2, i % 2)
        self.plot.setYRange(0, 110)
        self.show()
