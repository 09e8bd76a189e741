"""Start the window: ``young-marionette-window [FILES]``, with ``--demo`` for the demo project."""

from __future__ import annotations

import argparse
import signal
import sys
from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication

from ..project.log import log_defect, log_path
from . import icons, settings, theme
from .collecting import Collector
from .demo_project import demo_project


def make_app():
    """The application object with the product's dress."""
    app = QApplication.instance() or QApplication(sys.argv[:1])
    app.setApplicationName("young-marionette")
    app.setApplicationDisplayName("Young Marionette")
    theme.install_pictures(icons.style_pictures())
    theme.apply(app)
    Collector(app)
    return app


def defect_hook(window):
    """What happens with an error nobody foresaw: it is told in the window and written to the log file; the work goes on."""

    def hook(kind, error, trace):
        log_defect("in the window", error.with_traceback(trace))
        window.complain(f"Internal error: {kind.__name__}: {error}. Your work is safe; details are in {log_path()}.")

    return hook


def main(arguments=None):
    """Open the window and run until it closes."""
    parser = argparse.ArgumentParser(
        prog="young-marionette-window", description="Bring motion from any skeleton onto your own rigs."
    )
    parser.add_argument("files", nargs="*", help="motions, rigs, stringings or a project")
    parser.add_argument("--demo", action="store_true", help="open the demo project")
    options = parser.parse_args(arguments)
    app = make_app()
    from .window import Window

    window = Window()
    sys.excepthook = defect_hook(window)
    window.restore_place()
    window.show()
    last = settings.get("last/project")
    if options.demo:
        window.files.open_project(demo_project(), asked=False)
    elif options.files:
        window.files.open_paths(options.files)
    elif last and Path(str(last)).exists():
        window.files.open_project(Path(str(last)), asked=False)
    # Ctrl+C in the terminal closes the window as a click would; Python needs a beat to notice it.
    signal.signal(signal.SIGINT, lambda *_a: window.close())
    signal.signal(signal.SIGTERM, lambda *_a: window.close())
    beat = QTimer(interval=300)
    beat.timeout.connect(lambda: None)
    beat.start()
    return app.exec()


if __name__ == "__main__":
    sys.exit(main())
