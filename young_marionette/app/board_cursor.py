"""The string board by keyboard: a cursor that steps from bone to bone, marks runs and ties."""

from __future__ import annotations

import math

from PySide6.QtCore import Qt

from ..core.scene.flat import highest, next_in_direction

WAYS = {
    Qt.Key.Key_Left: (-1.0, 0.0),
    Qt.Key.Key_Right: (1.0, 0.0),
    Qt.Key.Key_Up: (0.0, -1.0),
    Qt.Key.Key_Down: (0.0, 1.0),
}


class BoardCursor:
    """Where the keyboard stands on a board: ``(side, bone name)`` or None, and where a run began."""

    def __init__(self, board):
        self.board, self.at, self._began = board, None, None

    def handles(self, event):
        """Whether a key is the board's own, before any shortcut of the window."""
        return event.key() in WAYS or event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter)

    def press(self, event):
        """Do what a key says; returns whether it was one of the board's."""
        if not self.handles(event) or not self.board.places:
            return False
        self.check()
        if event.key() not in WAYS:
            self._tie()
        elif self.at is None:
            self.at = self._first()
        elif event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self._stretch(event.key())
        else:
            self._began = None
            self.at = self._next(WAYS[event.key()]) or self.at
        if self.at is not None:
            self.board.show_hover(*self.at)
            self.board.part_chosen.emit(self.board.part_of(*self.at))
        return True

    def check(self):
        """Forget a place that is no longer on the board."""
        if self.at is not None and not self._there(*self.at):
            self.at = self._began = None

    def _there(self, side, name):
        entry = self.board.entry(side)
        return entry is not None and name in entry.placed_skeleton.index and self.board.shown(side, name)

    def _first(self):
        """The bone that the chosen string ends at, else the highest one of the performer."""
        tied = (
            next((s for s in self.board.pairing.strings if s.part == self.board.part), None)
            if self.board.pairing
            else None
        )
        if tied and self._there("source", tied.source[0]):
            return "source", tied.source[0]
        places, inside, _ = self.board.places["source"]
        return "source", self.board.entry("source").placed_skeleton.names[highest(places, inside)]

    def _next(self, way):
        """The nearest bone that way, counting steps aside double; over the middle the other figure begins."""
        start = self.board.place(*self.at)
        best, nearest = math.inf, None
        for side, (places, inside, _) in self.board.places.items():
            joint, cost = next_in_direction(places, inside, (start.x(), start.y()), way)
            cost += 0 if side == self.at[0] else self.board.width()
            if cost < best:
                best, nearest = cost, (side, self.board.entry(side).placed_skeleton.names[joint])
        return nearest

    def _stretch(self, key):
        """Shift and up or down: make a run, from where it began to the parent or the first child."""
        side, name = self.at
        skeleton = self.board.entry(side).placed_skeleton
        joint = skeleton.index[name]
        parent, children = int(skeleton.parents[joint]), skeleton.children[joint]
        upwards = key in (Qt.Key.Key_Up, Qt.Key.Key_Left)
        step = parent if upwards else children[0] if children else -1
        if step < 0 or not self.board.shown(side, skeleton.names[step]):
            return
        self._began = self._began or name
        self.at = side, skeleton.names[step]
        self.board.mark_run(side, self._began, skeleton.names[step])

    def _tie(self):
        """Enter: the first on a figure is remembered, the second on the other one ties."""
        if self.at is not None:
            self._began = None
            self.board.clicked.emit(*self.at)
