"""Keys: one table for what they do, for the shortcuts and for the sheet (F1)."""

from __future__ import annotations

from PySide6.QtCore import QEvent, Qt
from PySide6.QtWidgets import QApplication, QFrame, QGridLayout, QVBoxLayout, QWidget

from ..project.log import log_path
from ..project.snags import STEPS
from .parts.widgets import label

SHEET = (
    ("Route", (*((f"Alt+{i}", step.capitalize()) for i, step in enumerate(STEPS, 1)), ("Alt+S", "Snags"))),
    (
        "Time",
        (
            ("Space", "Play, stop"),
            ("Left, Right", "Previous, next frame"),
            ("Shift+Left, Right", "Start, end of the range"),
            ("I, O", "Set the start, end of the range"),
            ("L", "Loop"),
            ("G", "Put the frame on the floor"),
            ("N, Shift+N", "Lanes, curves"),
            (", .", "Previous, next change of contact"),
            ("Alt+Left, Right", "Previous, next pose"),
        ),
    ),
    (
        "Stage",
        (
            ("V", "Side by side, overlaid, single"),
            ("C", "Front, side, top"),
            ("Home", "Frame the figures"),
            ("H", "Follow the hips"),
            ("T", "Trails"),
            ("B", "Bodies, see-through, bones"),
            ("J", "Controls, where a clip is on some"),
            ("A", "Baked clip before its passes"),
            ("drag", "Orbit"),
            ("Shift+drag", "Pan"),
            ("wheel", "Zoom"),
        ),
    ),
    (
        "Work",
        (
            ("Ctrl+O", "Open files"),
            ("Ctrl+T", "Tie all"),
            ("Ctrl+M", "Match the stance"),
            ("Ctrl+B", "Bake"),
            ("Ctrl+D", "Write files"),
            ("Ctrl+Z", "Undo"),
            ("Ctrl+Shift+Z", "Redo"),
            ("Ctrl+S", "Save"),
            ("Ctrl+Shift+S", "Save as"),
        ),
    ),
    (
        "Contacts (in their lanes)",
        (
            ("Up, Down", "Choose a lane"),
            ("[, ]", "Start, end at the playhead"),
            ("Enter", "New contact at the playhead"),
            ("X", "Split at the playhead"),
            ("Delete", "Delete the contact"),
            ("drag", "Draw, or move an end"),
        ),
    ),
    (
        "Poses (in their lane)",
        (
            ("drag", "Move the selected keys"),
            ("Alt+drag", "Stretch or squeeze them"),
            ("Ctrl, Shift+click", "Select more"),
            ("Enter", "Insert a key at the playhead"),
            ("Delete", "Delete the selected keys"),
            ("Ctrl+C, V", "Copy, paste poses"),
            ("Ctrl+Left, Right", "Move by one frame"),
        ),
    ),
    (
        "Library and strings",
        (
            ("Enter", "Use the entry, or choose a bone"),
            ("Delete", "Remove, or untie"),
            ("F2", "Tags of a library entry"),
            ("Shift+click", "Tie a bone of each figure"),
            ("arrows", "Next bone on the board"),
            ("Shift+arrows", "Select a chain of bones there"),
            ("M", "Mirror on or off"),
            ("K", "Lock a string"),
            ("U", "Tie untied parts"),
            ("X", "Mark a part as absent"),
            ("R", "Next part of the body"),
        ),
    ),
)


class KeySheet(QFrame):
    """All keys on one sheet, over the window."""

    def __init__(self, parent):
        super().__init__(parent)
        self.setObjectName("snagPanel")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.hide()
        outer = QVBoxLayout(self)
        outer.setContentsMargins(24, 18, 24, 20)
        outer.addWidget(label("Keyboard shortcuts", "title"))
        grid = QGridLayout()
        grid.setHorizontalSpacing(14)
        grid.setVerticalSpacing(3)
        outer.addLayout(grid)
        for column, groups in enumerate(((0, 4, 5), (1, 2), (3, 6))):
            row = 0
            for group in groups:
                heading, keys = SHEET[group]
                grid.addWidget(label(heading, "section"), row, column * 3, 1, 2)
                for i, (key, what) in enumerate(keys, 1):
                    grid.addWidget(label(key, "quiet"), row + i, column * 3)
                    grid.addWidget(label(what), row + i, column * 3 + 1)
                row += len(keys) + 2
            if column < 2:
                grid.setColumnMinimumWidth(column * 3 + 2, 20)
        outer.addWidget(label(f"Log file, with the details of internal errors: {log_path()}", "quiet"))

    def toggle(self):
        """Show in the middle of the window, or hide."""
        if self.isVisible():
            self.hide()
            return
        self.adjustSize()
        parent = self.parentWidget()
        self.move((parent.width() - self.width()) // 2, max((parent.height() - self.height()) // 2 - 20, 10))
        self.show()
        self.raise_()
        self.setFocus()

    def showEvent(self, event):
        QApplication.instance().installEventFilter(self)
        super().showEvent(event)

    def hideEvent(self, event):
        QApplication.instance().removeEventFilter(self)
        super().hideEvent(event)

    def eventFilter(self, watched, event):
        """A click outside closes the sheet, and does what it would do anyway."""
        if event.type() == QEvent.Type.MouseButtonPress and isinstance(watched, QWidget):
            inside = self.rect().contains(self.mapFromGlobal(event.globalPosition().toPoint()))
            if not inside:
                self.hide()
        return False

    def event(self, event):
        """Any key closes the sheet, also one that would do something else."""
        if event.type() == QEvent.Type.ShortcutOverride and not event.modifiers():
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, _event):
        self.hide()

    def mousePressEvent(self, _event):
        self.hide()
