"""``young-marionette-window``: start the window, or tell how to get what it needs."""

from __future__ import annotations

import importlib.util
import sys

NEEDS = ("PySide6", "moderngl", "pyqtgraph")


def main(arguments: list[str] | None = None) -> int:
    """Run the window until it closes; returns the exit code (2 where its packages are not installed)."""
    missing = [name for name in NEEDS if importlib.util.find_spec(name) is None]
    if missing:
        print(
            f"The window needs packages that are not installed ({', '.join(missing)}); "
            "get them with: pip install 'young-marionette[window]'",
            file=sys.stderr,
        )
        return 2
    from .app.main import main as run

    return run(arguments)
