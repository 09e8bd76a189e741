"""Facts as a grid: what it is about, its value or what it is corrected with, and what it was taken from."""

from __future__ import annotations

from PySide6.QtWidgets import QComboBox, QGridLayout, QWidget

from ...core.units import UNITS, name_of
from ...wording.facts import fact_words
from .. import theme
from ..parts.widgets import label


class FactGrid(QWidget):
    """Shows facts; ``editor(fact, words)`` gives what one is corrected with, or None where it is only told."""

    def __init__(self, editor):
        super().__init__()
        self._editor = editor
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setHorizontalSpacing(10)
        self._grid.setVerticalSpacing(2)
        self._grid.setColumnStretch(1, 1)

    def show_facts(self, facts):
        """Show other facts in place of those before."""
        while self._grid.count():
            widget = self._grid.takeAt(0).widget()
            if widget:
                widget.hide()
                widget.deleteLater()
        for n, fact in enumerate(facts):
            words = fact_words(fact)
            self._grid.addWidget(label(words.label, "quiet"), 2 * n, 0)
            value = self._editor(fact, words)
            if value is None:
                value = label(words.value + ("" if fact.sure else " (a guess)"), wrap=True)
            self._grid.addWidget(value, 2 * n, 1)
            if words.evidence:
                evidence = label(("" if fact.sure else "Unsure: ") + words.evidence, "quiet", wrap=True)
                evidence.setFont(theme.font(11))
                self._grid.addWidget(evidence, 2 * n + 1, 1)


def choice(name, options, present, chosen):
    """A list of ``(text, value)``, of which that for ``present`` is chosen; ``chosen(value)`` is told another one."""
    box = QComboBox()
    box.setAccessibleName(name)
    for text, value in options:
        box.addItem(text, value)
    box.setCurrentIndex(max(next((i for i, (_, v) in enumerate(options) if v == present), 0), 0))
    box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    box.setMinimumContentsLength(12)
    box.activated.connect(lambda _i: chosen(box.currentData()))
    return box


def measure_options(code, axes, present, by_hand):
    """``(options, present)`` of a unit (metres) or an axis: all usual ones, and with ``by_hand`` going back to what was detected.

    ``axes``: names of those that it may be; ``present``: metres, or a name.
    """
    if code == "unit":
        options = [(unit.name, unit.metres) for unit in UNITS]
        known = next((metres for _, metres in options if abs(metres / present - 1) < 1e-6), None)
        options = options if known else [(name_of(present), present), *options]
        present = known or present
    else:
        options = [(axis, axis) for axis in axes]
    return [*options, ("detected value", None)] if by_hand else options, present
