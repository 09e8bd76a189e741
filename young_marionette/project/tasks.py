"""Long work, off whatever thread asks for it: with progress, cancel, and the project that it is done for."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Any

from psygnal import Signal

from ..core.errors import Cancelled, InputError
from .log import log_defect

Progress = Callable[[float], None]


class Task:
    """Work in a thread of its own. ``work(progress)`` calls ``progress(share)``, which raises Cancelled when asked to stop.

    ``project``: what the result is for (see Document.project), or None where it is for no project. ``waits``: the work
    must not be cut off, such as a save; it is waited for when the window closes. Signals are told in the thread of the
    work: the result, the sentence that it failed with, and in any case its end.
    """

    progressed = Signal(float)
    finished = Signal(object)
    failed = Signal(str)
    ended = Signal()

    def __init__(
        self, label: str, work: Callable[[Progress], Any], project: object = None, waits: bool = False
    ) -> None:
        self.label, self.project, self.waits = label, project, waits
        self._work, self._stop = work, threading.Event()
        self._thread = threading.Thread(target=self._run, daemon=True, name=label)

    def start(self) -> Task:
        self._thread.start()
        return self

    def cancel(self) -> None:
        """Ask the work to stop at its next progress."""
        self._stop.set()

    def wait(self, seconds: float | None = None) -> None:
        """Wait for the thread to end."""
        self._thread.join(seconds)

    @property
    def cancelled(self) -> bool:
        return self._stop.is_set()

    def _progress(self, share: float) -> None:
        if self._stop.is_set():
            raise Cancelled
        self.progressed.emit(share)

    def _run(self) -> None:
        try:
            self.finished.emit(self._work(self._progress))
        except Cancelled:
            pass
        except InputError as error:
            self.failed.emit(str(error))
        except MemoryError:
            self.failed.emit(f"There is not enough memory to {self.label}.")
        except Exception as error:  # whatever a file does to a reader, the work of others must go on
            log_defect(f"could not {self.label}", error)
            self.failed.emit(
                str(InputError(f"Internal error: could not {self.label}: {type(error).__name__}: {error}."))
            )
        self.ended.emit()
