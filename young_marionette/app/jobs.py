"""Long work off the interface thread, one job at a time, with progress and cancel."""

from __future__ import annotations

import threading

from PySide6.QtCore import QObject, Signal

from ..core.errors import Cancelled, InputError
from .stage.arrays import prepare

COMPANIONS = (".bin", ".png", ".jpg", ".jpeg", ".webp", ".ktx2")


class Job(QObject):
    """Work in a thread of its own. ``work(progress)`` calls ``progress(share)``, which raises Cancelled when asked to stop."""

    progressed = Signal(float)
    finished = Signal(object)
    failed = Signal(str)
    ended = Signal()

    def __init__(self, label, work):
        super().__init__()
        self.label = label
        self._work, self._stop = work, threading.Event()
        self._thread = threading.Thread(target=self._run, daemon=True)

    def start(self):
        self._thread.start()
        return self

    def cancel(self):
        """Ask the work to stop at its next progress."""
        self._stop.set()

    def wait(self, seconds=None):
        """Wait for the thread to end."""
        self._thread.join(seconds)

    def _progress(self, share):
        if self._stop.is_set():
            raise Cancelled
        self.progressed.emit(share)

    def _run(self):
        try:
            self.finished.emit(self._work(self._progress))
        except Cancelled:
            pass
        except InputError as error:
            self.failed.emit(str(error))
        except Exception as error:  # the window must live on whatever a file does to a reader
            self.failed.emit(
                f"A defect of Young Marionette while it was to {self.label}: {type(error).__name__}: {error}"
            )
        self.ended.emit()


def read_files(paths):
    """The work of reading files: gives ``(entries, sentences about what could not be read)``."""
    from ..formats import read
    from ..project.entry import entries_of

    def work(progress):
        entries, failures = [], []
        for i, path in enumerate(paths):
            progress(i / len(paths))
            try:
                found = entries_of(read(path))
                for entry in found:
                    # What the window asks for at once is worked out here, not on the interface thread.
                    entry.oddities, entry.placed_clip, entry.body_facts  # noqa: B018
                    prepare(entry.placed_character)
                entries += found
            except InputError as error:
                failures.append(str(error))
        progress(1.0)
        return tuple(entries), failures

    return work


def files_under(paths):
    """Files among the paths, and motion files in folders among them, however deep.

    What only goes with a file (buffers, textures) is left out where other files are there.
    """
    from pathlib import Path

    from ..formats.registry import READABLE

    found = []
    for path in map(Path, paths):
        found += (
            sorted(p for p in path.rglob("*") if p.suffix.lower() in READABLE and p.is_file())
            if path.is_dir()
            else [path]
        )
    main = [p for p in found if p.suffix.lower() not in COMPANIONS]
    return main or found
