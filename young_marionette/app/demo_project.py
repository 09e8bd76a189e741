"""The demo show's project, in the user's data folder."""

from __future__ import annotations

from pathlib import Path

from . import settings


def demo_project() -> Path:
    """The path of the demo show's project, which is made where it is not there yet."""
    from ..demo.example import demo_state, on_controls
    from ..project import storage

    folder = settings.data_folder() / "quillmouth"
    path = folder / "Quillmouth.marionette"
    if not path.exists():
        storage.save(path, on_controls(demo_state(folder)))
    return path
