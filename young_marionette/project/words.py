"""The user's own words for bones, as names are read with them: see ``own_words``, which is only loaded where there are any."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from platformdirs import user_config_dir

from ..core.errors import InputError
from ..core.humanoid.vocabulary import add_words


def words_path() -> Path:
    """Where the user's words are kept."""
    return Path(user_config_dir("young-marionette", appauthor=False)) / "words.json"


def use() -> str:
    """Let names be read with the user's words, as the file has them now; returns what is wrong with it, else nothing."""
    stamp = _stamp()
    if stamp != _used[0]:
        words, trouble = dict[str, Any](), ""
        if stamp[1]:
            from .own_words import load

            try:
                words = load().model_dump(include={"left", "right", "parts"})
            except InputError as error:
                trouble = f"Your own words for bones are not used: {error}"
        add_words(words)
        _used[:] = stamp, trouble
    return _used[1]


_used: list[Any] = [("", 0, 0), ""]  # the file that was last read, and what was wrong with it


def _stamp() -> tuple[str, int, int]:
    path = str(words_path())
    try:
        status = os.stat(path)
    except OSError:
        return path, 0, 0
    return path, status.st_mtime_ns, status.st_size
