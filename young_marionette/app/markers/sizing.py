"""The body figure by hand: sizes as numbers, joints and bones on the stage, and how the performer stands in the T-pose."""

from __future__ import annotations

from PySide6.QtWidgets import QCheckBox, QGridLayout, QWidget

from ...core.markers.sizing import SIZES, STATURE, TRUNK, changed_sizes, mirror_of, moved, size_of, turned
from ...project.commands import KeepFigure, SizeFigure, TakeTPose
from ...project.markers.showing import shaped, turns_of
from ...wording.markers import size_words
from ..parts.widgets import Card, Number, button, label, row

_CM = 100  # in a metre
_MIDDLE = (STATURE, TRUNK, "head")
_LEFT = tuple(size for size in SIZES if size.startswith("left"))


class SizingCard(Card):
    """Shown while the figure is sized by hand; then a bone of it that is clicked on the stage gets a ring and a dot."""

    def __init__(self, session):
        super().__init__("Body figure by hand")
        self.session, self.entry = session, None
        self.numbers, self.names, self.joint = {}, {}, None
        self.mirror = QCheckBox("Both sides at once")
        self.mirror.setChecked(True)
        self.mirror.setToolTip("What is changed on one side is changed on the other side, too")
        self.again = button(
            "Fit again", self._fit_again, tip="Fit the figure to the markers anew; sizes that are set stay"
        )
        self.reset = button("Reset", self._reset, tip="Let go of all that was set of the figure by hand")
        self.told = label("", "quiet", wrap=True)
        self.shoulders, self.elbows = (self._touch(name, n) for n, name in enumerate(("Shoulders up", "Elbows back")))
        self.let_go = button("Let go of it", self._let_go, tip="Fit the figure without this T-pose")
        self.add(
            label(
                "Set lengths here. Or click a bone on the stage: drag its dot to move the joint inside the markers, its "
                "ring to turn the bone.",
                "quiet",
                wrap=True,
            ),
            self._grid(), self.mirror, row(self.again, self.reset), self.told,
            row(label("Shoulders up", "quiet"), None, self.shoulders), row(label("Elbows back", "quiet"), None, self.elbows),
            self.let_go,
        )  # fmt: skip

    def _grid(self):
        holder = QWidget()
        grid = QGridLayout(holder)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setVerticalSpacing(4)
        grid.setColumnStretch(0, 1)
        for n, size in enumerate(_MIDDLE):
            self._add(grid, n, size, (size,))
        grid.addWidget(label("left", "quiet"), len(_MIDDLE), 1)
        grid.addWidget(label("right", "quiet"), len(_MIDDLE), 2)
        for n, size in enumerate(_LEFT):
            self._add(grid, len(_MIDDLE) + 1 + n, size, (size, mirror_of(size)))
        return holder

    def _add(self, grid, place, size, sizes):
        words = size_words(size).removeprefix("left ")
        self.names[size] = label(words.capitalize())
        grid.addWidget(self.names[size], place, 0)
        for n, one in enumerate(sizes):
            number = Number(0, "cm", 0.5, 1, 0.5, 400, None, size_words(one).capitalize())
            number.setFixedWidth(80)
            number.edited.connect(lambda value, settled, one=one: self._set(one, value, settled))
            self.numbers[one] = number
            grid.addWidget(number, place, 1 + n)

    def _touch(self, name, place):
        number = Number(0, "°", 1, 1, -45, 45, 0, name)
        number.edited.connect(lambda value, settled: self._touched(place, value, settled))
        return number

    # --- showing --------------------------------------------------------------------------------
    def show_entry(self, entry, solution):
        """Show the figure of a recording as it is set."""
        if self.entry is not None and entry.id != self.entry.id:
            self.joint = None
        self.entry = entry
        figure, by_hand = None if solution is None else shaped(entry, solution), dict(entry.sizes)
        for size, number in self.numbers.items():
            number.setEnabled(figure is not None)
            if figure is not None:
                number.set_value(size_of(figure, size) * _CM)
            if size not in by_hand:
                number.set_default(number.value)
        for size, name in self.names.items():
            on = size in by_hand or mirror_of(size) in by_hand
            name.setText(size_words(size).removeprefix("left ").capitalize() + (" ◆ set" if on else ""))
        self.again.setEnabled(entry.figure is not None)
        self.reset.setEnabled(bool(entry.sizes) or entry.figure is not None or entry.touches != (0.0, 0.0))
        found = entry.reference or entry.own_reference
        if found is None:
            self.told.setText("No T-pose of this performer is open: a take of one makes the fit surer.")
        else:
            own = "this recording" if entry.reference is None else found.name
            self.told.setText(f"Fitted by the T-pose of {own}. How it is stood in:")
        for number, value in ((self.shoulders, entry.touches[0]), (self.elbows, entry.touches[1])):
            number.setEnabled(found is not None)
            number.set_value(value)
        self.let_go.setVisible(entry.reference is not None)

    # --- doing ----------------------------------------------------------------------------------
    def _set(self, size, centimetres, settled):
        number = self.numbers[size]
        back = size in dict(self.entry.sizes) and abs(centimetres - number.default) < 1e-9
        metres = None if back else centimetres / _CM
        self.session.drag(SizeFigure(self.entry.id, ((size, metres),), self.mirror.isChecked()), settled=settled)

    def _touched(self, place, degrees, settled):
        touches = list(self.entry.touches)
        touches[place] = degrees
        self.session.drag(TakeTPose(self.entry.id, self.entry.reference, tuple(touches)), settled=settled)

    def _fit_again(self):
        self.session.do(KeepFigure(self.entry.id, None))

    def _reset(self):
        entry = self.entry
        self.session.do(
            KeepFigure(entry.id, None),
            SizeFigure(entry.id, tuple((size, None) for size, _ in entry.sizes)),
            TakeTPose(entry.id, entry.reference),
        )

    def _let_go(self):
        self.session.do(TakeTPose(self.entry.id, None))

    # --- on the stage ---------------------------------------------------------------------------
    def pick(self, joint):
        """A bone of the figure was clicked on the stage."""
        self.joint = joint if joint >= 0 else None

    @property
    def handle(self):
        """The joint that has a ring and a dot, or None."""
        entry = self.session.solving.entry
        on = self.isVisible() and self.entry is not None and entry is not None and entry.id == self.entry.id
        return self.joint if on and self.session.solving.solution(entry) is not None else None

    def move(self, joint, way):
        """Move a joint inside the markers; in the middle of a drag."""
        self._shape(lambda figure, turns, mirror: moved(figure, turns, joint, way, mirror))

    def turn(self, joint, vector):
        """Turn a bone against its markers; in the middle of a drag."""
        self._shape(lambda figure, turns, mirror: turned(figure, turns, joint, vector, mirror))

    def settle(self):
        """A drag is over."""
        self.session.end_drag()

    def _shape(self, change):
        # In the middle of a drag, what is shown here is a little older.
        entry = self.session.solving.entry
        solution = self.session.solving.solution(entry)
        turns = turns_of(entry, solution, self.session.solving.pose(entry, self.session.frame), self.session.frame)
        if turns is None:
            return
        before = shaped(entry, solution)
        after = change(before, turns, self.mirror.isChecked())
        sizes = tuple(changed_sizes(before, after).items())
        self.session.drag(SizeFigure(entry.id, sizes), KeepFigure(entry.id, after), settled=False)
