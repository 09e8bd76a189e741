"""Labels, buttons, cards and numbers in the product's own dress."""

from __future__ import annotations

import html

from PySide6.QtCore import QEvent, QSize, Qt, Signal
from PySide6.QtGui import QKeySequence
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QInputDialog,
    QLabel,
    QLineEdit,
    QMenu,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ...core.text import shown
from .. import icons, theme


class Words(QLabel):
    """A label that shows what it is given letter by letter: names from files are no markup, and hold no controls."""

    def __init__(self, text=""):
        super().__init__()
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setText(text)

    def setText(self, text):
        super().setText(shown(text, 4000, lines=True))


def tip(text):
    """Text for a tooltip, letter by letter; Qt would take names with angle brackets for markup."""
    text = shown(text, 2000, lines=True)
    return f"<div style='white-space: pre-wrap'>{html.escape(text)}</div>" if "<" in text else text


def ask_text(parent, title, question, text):
    """Ask for a line of text; None where the user thinks better of it."""
    dialog = QInputDialog(parent)
    dialog.setWindowTitle(title)
    dialog.setLabelText(question)
    dialog.setTextValue(text)
    for words in dialog.findChildren(QLabel):
        words.setTextFormat(Qt.TextFormat.PlainText)
    return dialog.textValue() if dialog.exec() else None


def label(text="", tone=None, wrap=False):
    """A label; ``tone``: quiet, title or section."""
    widget = Words(text)
    if tone:
        widget.setProperty("tone", tone)
    widget.setWordWrap(wrap)
    if wrap:
        widget.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Minimum)
    return widget


def button(text, action, main=False, tip="", icon=None):
    """A push button; ``main`` marks the one that a step leads to."""
    widget = QPushButton(text)
    if main:
        widget.setProperty("kind", "main")
    if icon:
        widget.setIcon(icons.icon(icon))
    widget.setToolTip(tip)
    widget.setAccessibleName(text)
    widget.clicked.connect(lambda: action())
    return widget


def menu_button(text, fill, tip=""):
    """A push button with a menu, which ``fill(menu)`` fills each time that it opens."""
    widget = QPushButton(text)
    menu = QMenu(widget)
    menu.aboutToShow.connect(lambda: fill(menu))
    widget.setMenu(menu)
    widget.setAccessibleName(text)
    widget.setToolTip(tip)
    return widget


def tool(icon, name, action=None, checkable=False, tip=None):
    """A tool button with an icon; ``name`` is read aloud and stands in the tooltip."""
    widget = QToolButton()
    widget.setIcon(icons.icon(icon))
    widget.setIconSize(QSize(20, 20))
    widget.setToolTip(tip or name)
    widget.setAccessibleName(name)
    widget.setCheckable(checkable)
    widget.setFocusPolicy(Qt.FocusPolicy.TabFocus)
    if action:
        widget.clicked.connect(lambda: action())
    return widget


def row(*widgets, spacing=theme.SPACE, stretch_last=False):
    """Widgets side by side; None is a stretch."""
    holder = QWidget()
    layout = QHBoxLayout(holder)
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setSpacing(spacing)
    for widget in widgets:
        if widget is None:
            layout.addStretch(1)
        else:
            layout.addWidget(widget, 1 if stretch_last and widget is widgets[-1] else 0)
    return holder


class _Area(QScrollArea):
    """Wants to be as tall as what it holds, and is asked again whenever that changes."""

    def sizeHint(self):
        inner = self.widget()
        # What wraps may ask for less than the least height that the area then gives it.
        tall = max(inner.heightForWidth(self.viewport().width()), inner.minimumSizeHint().height())
        return QSize(super().sizeHint().width(), tall + 2 * self.frameWidth())

    def eventFilter(self, watched, event):
        if event.type() == QEvent.Type.LayoutRequest:
            self.updateGeometry()
        return super().eventFilter(watched, event)


def scrolling(column):
    """A layout in an area that scrolls up and down."""
    inner, area = QWidget(), _Area()
    inner.setLayout(column)
    area.setWidgetResizable(True)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    area.setWidget(inner)
    area.viewport().setAutoFillBackground(False)
    inner.setAutoFillBackground(False)
    return area


class Card(QFrame):
    """A raised surface with a heading."""

    def __init__(self, heading=None):
        super().__init__()
        self.setObjectName("card")
        self.body = QVBoxLayout(self)
        self.body.setContentsMargins(14, 12, 14, 12)
        self.body.setSpacing(theme.SPACE)
        if heading:
            self.body.addWidget(label(heading, "section"))

    def add(self, *widgets):
        for widget in widgets:
            self.body.addWidget(widget)
        return self


class Number(QLineEdit):
    """A number with its unit: type it, drag it sideways, step it with the arrow keys, double-click to reset it.

    ``edited(value, settled)`` comes on every change by the user; ``settled`` is false while dragging.
    """

    edited = Signal(float, bool)

    def __init__(self, value=0.0, unit="", step=1.0, decimals=1, low=-1e9, high=1e9, default=None, name=""):
        super().__init__()
        self._value, self._unit, self._step, self._decimals = value, unit, step, decimals
        self._low, self._high, self._default = low, high, value if default is None else default
        self._drag = None
        self.setAccessibleName(name)
        self.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.setFixedWidth(92)
        self.setToolTip(f"{name}: type, drag sideways, or use the arrow keys; double-click resets".lstrip(": "))
        self.setCursor(Qt.CursorShape.SizeHorCursor)
        self.editingFinished.connect(self._typed)
        self._show()

    @property
    def value(self):
        return self._value

    @property
    def default(self):
        """What a double-click resets to."""
        return self._default

    def set_value(self, value):
        """Show a value without announcing it."""
        if not self.hasFocus() or abs(value - self._value) > 1e-12:
            self._value = value
            self._show()

    def set_unit(self, unit):
        """Show the value in another unit; it stays the same number."""
        self._unit = unit
        self._show()

    def set_default(self, value):
        """What a double-click resets to."""
        self._default = value

    def _show(self):
        text = f"{round(self._value, self._decimals) + 0.0:.{self._decimals}f}"
        if self._decimals > 1:
            text = text.rstrip("0").rstrip(".")
        self.setText(f"{text}{' ' if self._unit not in ('°', '%') else ''}{self._unit}".strip())

    def _typed(self):
        text = (
            self.text().replace(self._unit, "").replace(",", ".").strip()
            if self._unit
            else self.text().replace(",", ".")
        )
        try:
            self._put(float(text), True)
        except ValueError:
            self._show()

    def _put(self, value, settled):
        value = min(max(value, self._low), self._high)
        if value != value:
            value = self._value
        changed = round(value, self._decimals + 2) != round(self._value, self._decimals + 2)
        self._value = value
        self._show()
        if changed or (settled and self._drag is not None):
            self.edited.emit(value, settled)

    def event(self, event):
        """Leave undo and redo to the document: a number that was typed is a step there."""
        if event.type() == QEvent.Type.ShortcutOverride and (
            event.matches(QKeySequence.StandardKey.Undo) or event.matches(QKeySequence.StandardKey.Redo)
        ):
            event.ignore()
            return False
        return super().event(event)

    def keyPressEvent(self, event):
        steps = {Qt.Key.Key_Up: 1, Qt.Key.Key_Down: -1, Qt.Key.Key_PageUp: 10, Qt.Key.Key_PageDown: -10}.get(
            event.key()
        )
        if steps is None:
            super().keyPressEvent(event)
            return
        self._put(self._value + steps * self._step, True)

    def mousePressEvent(self, event):
        self._drag = (event.position().x(), self._value, False)
        super().mousePressEvent(event)

    def mouseMoveEvent(self, event):
        if self._drag is None:
            return
        start, value, _ = self._drag
        way = event.position().x() - start
        if abs(way) > 3 or self._drag[2]:
            self._drag = (start, value, True)
            self.deselect()
            fine = 0.1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
            self._put(value + round(way / 4) * self._step * fine, False)

    def mouseReleaseEvent(self, event):
        dragged = self._drag is not None and self._drag[2]
        if dragged:
            self._put(self._value, True)
        self._drag = None
        super().mouseReleaseEvent(event)

    def mouseDoubleClickEvent(self, event):
        self._put(self._default, True)
