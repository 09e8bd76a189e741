"""A real window for tests: opened on the show, driven by mouse and keys, closed afterwards."""

from __future__ import annotations

import sys
import time
import traceback
from functools import lru_cache

from PySide6.QtCore import QEvent, QPoint, QPointF, Qt, QTimer
from PySide6.QtGui import QHelpEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QPushButton, QToolTip

from tests.support import Case, show_state
from young_marionette.app import settings
from young_marionette.app.main import make_app
from young_marionette.app.stage.view import make_renderer


@lru_cache(maxsize=1)
def application():
    """The one application."""
    return make_app()


@lru_cache(maxsize=1)
def renderer():
    """The one renderer: contexts are dear."""
    application()
    return make_renderer()


class WindowCase(Case):
    """A test with a window. ``opened`` false: nothing is open in it."""

    opened, size = True, (1280, 800)

    def setUp(self):
        from young_marionette.app.window import Window

        application()
        # What one test has put away for next time is nothing to the one after it.
        self.addCleanup(settings._store().clear)
        # An error inside a slot would else only be printed.
        self.defects, before = [], sys.excepthook
        sys.excepthook = lambda *error: self.defects.append("".join(traceback.format_exception(*error)))
        self.addCleanup(lambda: (setattr(sys, "excepthook", before), self.assertEqual(self.defects, [])))
        self.recovery_folder = self.folder / "recovery"
        self.window = Window(self.recovery_folder, renderer())
        self.window.resize(*self.size)
        self.window.show()
        # Keys go to the active window only, and there is no window manager to make it so.
        self.window.activateWindow()
        self.until(self.window.isActiveWindow)
        self.window.stage.setFocus()
        if self.opened:
            self.window.session.document.open(show_state(), self.folder / "show.marionette")
        self.spin(0.05)
        self.addCleanup(self.close)

    def close(self, *args, **kwargs):
        """Arrays agree (with arguments), or end the window (without)."""
        if args:
            super().close(*args, **kwargs)
        elif self.window is not None:
            self.window.session.document.mark_saved(None)
            self.window.close()
            self.window.deleteLater()
            self.window = None
            QApplication.processEvents()
            # Without an event loop of its own, nobody else ends it; the next window would be dressed together with it.
            QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)

    def row_tip(self, row):
        """What a row of the library tells where the pointer rests on it; nothing for headings."""
        tree, model = self.window.library.tree, self.window.library.model
        tree.scrollTo(model.index(row, 0))
        point = tree.visualRect(model.index(row, 0)).center()
        QToolTip.hideText()
        QApplication.sendEvent(
            tree.viewport(), QHelpEvent(QEvent.Type.ToolTip, point, tree.viewport().mapToGlobal(point))
        )
        return QToolTip.text() if QToolTip.isVisible() else ""

    @property
    def session(self):
        return self.window.session

    @property
    def state(self):
        return self.session.state

    def desk(self, step):
        """Open a step and give its desk."""
        self.session.go(step)
        self.spin()
        return self.window.desks[step]

    def spin(self, seconds=0.02):
        """Let the window live for a while."""
        end = time.monotonic() + seconds
        while True:
            QApplication.processEvents()
            if time.monotonic() >= end:
                return
            time.sleep(0.002)

    def until(self, true, seconds=10.0):
        """Wait until something holds."""
        end = time.monotonic() + seconds
        while not true():
            self.assertLess(time.monotonic(), end, "waited in vain")
            self.spin(0.01)

    def key(self, key, modifiers=Qt.KeyboardModifier.NoModifier, widget=None):
        QTest.keyClick(widget or self.window, key, modifiers)
        self.spin()

    def click(self, widget, point=None):
        QTest.mouseClick(
            widget, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, point or widget.rect().center()
        )
        self.spin()

    def write(self, desk):
        """Deliver what the Deliver desk has chosen, to its end."""
        self.click(desk.write)
        self.until(lambda: not desk.deliveries.busy, 60)

    def drag(self, widget, start, end, button=Qt.MouseButton.LeftButton):
        """Press, move over some places, and release."""
        start, end = (p.toPoint() if isinstance(p, QPointF) else p for p in (start, end))
        QTest.mousePress(widget, button, Qt.KeyboardModifier.NoModifier, start)
        for share in (0.2, 0.5, 0.8, 1.0):
            QTest.mouseMove(
                widget,
                QPoint(int(start.x() + (end.x() - start.x()) * share), int(start.y() + (end.y() - start.y()) * share)),
            )
            self.spin(0.005)
        QTest.mouseRelease(widget, button, Qt.KeyboardModifier.NoModifier, end)
        self.spin()

    def answer(self, act, seconds=5.0):
        """Once a dialog asks something, do ``act`` with it; gives a list that then holds the dialog."""
        end, timer, asked = time.monotonic() + seconds, QTimer(interval=20), []

        def look():
            dialog = QApplication.activeModalWidget()
            if dialog is not None and dialog.isVisible():
                timer.stop()
                asked.append(dialog)
                act(dialog)
            elif time.monotonic() > end:
                timer.stop()

        timer.timeout.connect(look)
        timer.start()
        self.addCleanup(timer.stop)
        return asked

    @staticmethod
    def press(text):
        """What ``answer`` does to press a button of a dialog."""

        def act(dialog):
            button = next(b for b in dialog.findChildren(QPushButton) if b.text().replace("&", "") == text)
            QTest.mouseClick(button, Qt.MouseButton.LeftButton)

        return act

    def strings(self):
        return {s.part: s for s in self.state.pairing.strings}

    def id_of(self, name):
        return next(e.id for e in self.state.entries if e.name == name)
