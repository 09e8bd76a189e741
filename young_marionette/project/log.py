"""The log file: defects of ours, with where they happened, of the window, the command line and the workers of batches.

What people see of a defect is one sentence; whoever mends it needs the traceback.
"""

from __future__ import annotations

import logging
from logging.handlers import RotatingFileHandler
from pathlib import Path

import platformdirs

_NAME, _BYTES, _OLD = "young-marionette", 1 << 20, 2
_LOGGER = logging.getLogger("young_marionette")


def log_path() -> Path:
    """Where the log file lies, or would."""
    return Path(platformdirs.user_log_path(_NAME, appauthor=False)) / f"{_NAME}.log"


def log_defect(doing: str, error: BaseException | None = None) -> None:
    """Write an exception with its traceback to the log file: ``error``, or the one that is being handled."""
    _open()
    _LOGGER.error("%s", doing, exc_info=error if error is not None else True)


def _open() -> None:
    """Begin the log file at the first defect; where it can't be written, only the sentence is left."""
    path = log_path()
    if any(getattr(handler, "baseFilename", None) == str(path) for handler in _LOGGER.handlers):
        return
    for handler in [h for h in _LOGGER.handlers if isinstance(h, RotatingFileHandler)]:
        _LOGGER.removeHandler(handler)
        handler.close()
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        file = RotatingFileHandler(path, maxBytes=_BYTES, backupCount=_OLD, encoding="utf-8", errors="backslashreplace")
    except OSError:
        _LOGGER.addHandler(logging.NullHandler())
        return
    file.setFormatter(logging.Formatter("%(asctime)s %(process)d %(threadName)s: %(message)s"))
    _LOGGER.addHandler(file)
    _LOGGER.propagate = False
