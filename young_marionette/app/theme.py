"""Colours, type and the style sheet: a puppet workshop at night."""

from __future__ import annotations

from contextlib import contextmanager

from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QFont, QPalette, QPen
from PySide6.QtWidgets import QApplication

from ..rendering import palette

NIGHT = dict(palette.NIGHT)  # to which the style sheet's pictures are added
SPACE = 8
WIDE = 16


def colour(name, alpha=255):
    """A QColor of the theme by what it means."""
    c = QColor(NIGHT[name])
    c.setAlpha(alpha)
    return c


def font(size=12, bold=False, tabular=False):
    """The interface's typeface at a size in pixels."""
    f = QFont()
    f.setFamilies(["Inter", "Noto Sans", "DejaVu Sans"])
    f.setPixelSize(size)
    f.setWeight(QFont.Weight.DemiBold if bold else QFont.Weight.Normal)
    if tabular:
        f.setFeature(QFont.Tag("tnum"), 1)
    return f


def apply(app):
    """Put palette, type and style sheet on an application."""
    app.setStyle("Fusion")
    app.setFont(font())
    palette = QPalette()
    for role, name in (
        (QPalette.ColorRole.Window, "base"),
        (QPalette.ColorRole.Base, "raised"),
        (QPalette.ColorRole.AlternateBase, "base"),
        (QPalette.ColorRole.Text, "text"),
        (QPalette.ColorRole.WindowText, "text"),
        (QPalette.ColorRole.Button, "lifted"),
        (QPalette.ColorRole.ButtonText, "text"),
        (QPalette.ColorRole.Highlight, "lifted"),
        (QPalette.ColorRole.HighlightedText, "text"),
        (QPalette.ColorRole.ToolTipBase, "lifted"),
        (QPalette.ColorRole.ToolTipText, "text"),
        (QPalette.ColorRole.PlaceholderText, "quiet"),
        (QPalette.ColorRole.Link, "brass"),
    ):
        palette.setColor(role, colour(name))
    app.setPalette(palette)
    app.setStyleSheet(STYLE % NIGHT)


@contextmanager
def undressed():
    """Widgets are built without the style sheet here, and get it all at once afterwards.

    A widget that comes under a parent gets the sheet anew, with all that is in it: built from the inside outwards, a window took
    four times as long.
    """
    app = QApplication.instance()
    sheet = app.styleSheet()
    app.setStyleSheet("")
    try:
        yield
    finally:
        app.setStyleSheet(sheet)


STYLE = """
* { outline: none; }
QMainWindow, QWidget#desk, QWidget#library { background: %(base)s; }
QLabel { color: %(text)s; background: transparent; }
QLabel[tone="quiet"] { color: %(quiet)s; }
QLabel[tone="title"] { font-size: 17px; font-weight: 600; }
QLabel[tone="section"] { color: %(brass)s; font-size: 12px; font-weight: 600; }
QToolTip { background: %(lifted)s; color: %(text)s; border: 1px solid %(line)s; padding: 5px 8px; }
QPushButton { background: %(lifted)s; color: %(text)s; border: 1px solid %(line)s; border-radius: 7px; padding: 6px 12px; min-height: 16px; }
QPushButton:hover { border-color: %(quiet)s; }
QPushButton:focus { border-color: %(brass)s; }
QPushButton:pressed { background: %(raised)s; }
QPushButton:disabled { color: #6d7785; background: %(raised)s; border-color: %(raised)s; }
QPushButton[kind="main"] { background: %(brass)s; color: #1b1608; border-color: %(brass)s; font-weight: 600; }
QPushButton[kind="main"]:hover { background: #f2d684; }
QPushButton[kind="main"]:focus { border: 2px solid %(text)s; padding: 5px 11px; }
QPushButton[kind="main"]:disabled { background: %(raised)s; color: #6d7785; border-color: %(line)s; }
QPushButton[kind="bare"], QToolButton { background: transparent; border: 1px solid transparent; border-radius: 6px; padding: 4px; color: %(text)s; }
QPushButton[kind="bare"]:hover, QToolButton:hover { background: %(lifted)s; }
QPushButton[kind="bare"]:focus, QToolButton:focus { border-color: %(brass)s; }
QToolButton:checked { background: %(lifted)s; border-color: %(brass)s; }
QToolButton::menu-indicator { image: none; }
QLineEdit, QComboBox { background: %(raised)s; color: %(text)s; border: 1px solid %(line)s; border-radius: 6px; padding: 5px 8px; selection-background-color: %(brass)s; selection-color: #1b1608; }
QLineEdit:focus, QComboBox:focus { border-color: %(brass)s; }
QComboBox::drop-down { border: none; width: 18px; }
QComboBox::down-arrow { image: url(%(down)s); width: 12px; height: 12px; margin-right: 8px; }
QComboBox QAbstractItemView { background: %(lifted)s; color: %(text)s; border: 1px solid %(line)s; selection-background-color: %(brass)s; selection-color: #1b1608; padding: 4px; }
QCheckBox { spacing: 8px; color: %(text)s; }
QCheckBox::indicator, QListView::indicator, QTableView::indicator { width: 15px; height: 15px; border: 1px solid %(quiet)s; border-radius: 4px; background: %(raised)s; }
QCheckBox::indicator:checked, QListView::indicator:checked, QTableView::indicator:checked { background: %(brass)s; border-color: %(brass)s; image: url(%(check)s); }
QCheckBox:focus, QRadioButton:focus { color: %(brass)s; }
QRadioButton { spacing: 8px; color: %(text)s; padding: 2px 0; }
QRadioButton::indicator { width: 13px; height: 13px; border: 1px solid %(quiet)s; border-radius: 7px; background: %(raised)s; }
QRadioButton::indicator:checked { border: 5px solid %(brass)s; width: 5px; height: 5px; background: %(deep)s; }
QListView::item { padding: 4px 2px; border-radius: 5px; }
QListView::item:hover, QListView::item:selected { background: %(lifted)s; color: %(text)s; }
QMenu { background: %(lifted)s; color: %(text)s; border: 1px solid %(line)s; padding: 6px; }
QMenu::item { padding: 6px 22px 6px 12px; border-radius: 5px; }
QMenu::item:selected { background: %(raised)s; color: %(brass)s; }
QMenu::item:disabled { color: #7b8594; }
QMenu::separator { height: 1px; background: %(line)s; margin: 5px 8px; }
QTreeView, QTableView, QListView, QScrollArea { background: transparent; border: none; color: %(text)s; }
QTableView { gridline-color: transparent; selection-background-color: %(lifted)s; selection-color: %(text)s; }
QTableView::item { padding: 2px 6px; border: none; }
QTableView::item:selected { background: %(lifted)s; color: %(text)s; }
QHeaderView::section { background: %(base)s; color: %(quiet)s; border: none; border-bottom: 1px solid %(line)s; padding: 5px 6px; font-weight: 400; }
QSlider::groove:horizontal { height: 4px; background: %(line)s; border-radius: 2px; }
QSlider::sub-page:horizontal { background: %(brass)s; border-radius: 2px; }
QSlider::handle:horizontal { width: 14px; height: 14px; margin: -6px 0; border-radius: 8px; background: %(text)s; border: 1px solid %(line)s; }
QSlider::handle:horizontal:hover { background: %(brass)s; }
QSlider:focus { background: %(lifted)s; border-radius: 7px; }
QScrollBar:vertical { background: transparent; width: 10px; margin: 0; }
QScrollBar::handle:vertical { background: %(line)s; border-radius: 4px; min-height: 28px; margin: 1px; }
QScrollBar:horizontal { background: transparent; height: 10px; margin: 0; }
QScrollBar::handle:horizontal { background: %(line)s; border-radius: 4px; min-width: 28px; margin: 1px; }
QScrollBar::add-line, QScrollBar::sub-line, QScrollBar::add-page, QScrollBar::sub-page { background: none; border: none; height: 0; width: 0; }
QSplitter::handle { background: %(deep)s; }
QProgressBar { background: %(raised)s; border: none; border-radius: 4px; height: 8px; text-align: center; }
QProgressBar::chunk { background: %(brass)s; border-radius: 4px; }
QWidget#banner { background: #3a3320; border-bottom: 1px solid %(brass)s; }
QWidget#message { background: #442a2a; border-bottom: 1px solid %(alarm)s; }
QFrame#card { background: %(raised)s; border: 1px solid %(lifted)s; border-radius: 10px; }
QFrame#passLine { background: %(lifted)s; border: 1px solid %(lifted)s; border-radius: 7px; }
QFrame#passLine:hover, QFrame#passLine:focus { border-color: %(quiet)s; }
QFrame#passLine[chosen="true"] { border-color: %(brass)s; }
QPushButton::menu-indicator { image: url(%(down)s); width: 10px; height: 10px; subcontrol-position: right center; right: 6px; }
QListWidget { background: %(deep)s; border: 1px solid %(line)s; border-radius: 6px; }
QFrame#snagPanel { background: %(raised)s; border: 1px solid %(line)s; border-radius: 12px; }
"""


def install_pictures(files):
    """Where the style sheet finds its pictures."""
    NIGHT.update(files)


def round_pen(tint, width):
    """A pen with round ends."""
    return QPen(tint, width, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap, Qt.PenJoinStyle.RoundJoin)
