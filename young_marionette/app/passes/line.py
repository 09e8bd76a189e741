"""One pass in the stack: its switch, its name, its most telling number, and where it stands."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt
from PySide6.QtWidgets import QCheckBox, QFrame, QHBoxLayout

from ...wording.passes import NAMES, TIPS
from ..parts.widgets import label, tool


class PassLine(QFrame):
    """``act(name)`` is called with what the user wants: choose, on, up, down, remove."""

    def __init__(self, one, number, chosen, act):
        super().__init__()
        self.setObjectName("passLine")
        self.setProperty("chosen", chosen)
        self.setFixedHeight(36)
        self.identifier, self._act = one.id, act
        self.setToolTip(TIPS[one.method.code])
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(8, 3, 4, 3)
        layout.setSpacing(3)
        self.on = QCheckBox()
        self.on.setChecked(one.on)
        self.on.setToolTip("On or off")
        self.on.setAccessibleName(f"{NAMES[one.method.code]} on")
        self.on.clicked.connect(lambda: act("on"))
        self.name = label(NAMES[one.method.code], None if one.on else "quiet")
        self.number = label("", "quiet")
        layout.addWidget(self.on)
        layout.addWidget(self.name)
        layout.addStretch(1)
        layout.addWidget(self.number)
        self.up = tool("up", "Move up: later than the others (Ctrl+Up)", lambda: act("up"))
        self.down = tool("down", "Move down: earlier than the others (Ctrl+Down)", lambda: act("down"))
        self.remove = tool("close", "Remove this pass (Delete)", lambda: act("remove"))
        for widget in (self.up, self.down, self.remove):
            widget.setIconSize(QSize(16, 16))
            widget.setVisible(chosen)
            layout.addWidget(widget)

        self._called, self._is_on = NAMES[one.method.code], one.on
        self.tell(number)

    def tell(self, number):
        """Show the most telling number."""
        number = number if self._is_on else "off"
        if number != self.number.text():
            self.number.setText(number)
        self.setAccessibleName(f"{self._called}, {number}" if number else self._called)

    def mousePressEvent(self, event):
        if event.button() == Qt.MouseButton.LeftButton:
            self._act("choose")

    def keyPressEvent(self, event):
        ctrl = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        wanted = {
            (Qt.Key.Key_Return, False): "choose", (Qt.Key.Key_Enter, False): "choose", (Qt.Key.Key_Delete, False): "remove",
            (Qt.Key.Key_Up, True): "up", (Qt.Key.Key_Down, True): "down",
        }.get((Qt.Key(event.key()), ctrl))  # fmt: skip
        if wanted:
            self._act(wanted)
        else:
            super().keyPressEvent(event)
