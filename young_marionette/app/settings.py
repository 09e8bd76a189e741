"""What comes back next time: the last project, the window, folders. In the places freedesktop gives them."""

from __future__ import annotations

from pathlib import Path

from platformdirs import PlatformDirs
from PySide6.QtCore import QSettings

_DIRS = PlatformDirs("young-marionette", appauthor=False)


def _store():
    return QSettings(str(Path(_DIRS.user_config_dir) / "window.ini"), QSettings.Format.IniFormat)


def data_folder():
    """Where the demo show and recovered work lie."""
    folder = Path(_DIRS.user_data_dir)
    folder.mkdir(parents=True, exist_ok=True)
    return folder


def get(key, default=None):
    return _store().value(key, default)


def put(key, value):
    _store().setValue(key, value)


def last_folder(what):
    """The folder that was used last for something; home at first."""
    return str(get(f"folder/{what}", str(Path.home())))


def remember_folder(what, folder):
    put(f"folder/{what}", str(folder))
