"""The user's own presets of passes, for all projects: one readable file in the data folder."""

from __future__ import annotations

from ..core.errors import InputError
from ..formats.files import write_whole
from ..project.pass_files import presets_bytes, presets_of
from . import settings

_FILE = "presets.passes"


def load(complain):
    """All presets of the user; ``complain`` is told a sentence where the file can't be read."""
    path = settings.data_folder() / _FILE
    try:
        return presets_of(_FILE, path.read_bytes()) if path.exists() else ()
    except (InputError, OSError) as error:
        complain(str(error))
        return ()


def keep(preset, complain):
    """Keep a preset; one of that name is replaced."""
    _change(lambda known: (*(p for p in known if p.name != preset.name), preset), complain)


def remove(name, complain):
    """Take a preset away."""
    _change(lambda known: tuple(p for p in known if p.name != name), complain)


def _change(change, complain):
    failed = []
    known = load(failed.append)
    if failed:  # what can't be read is not written over
        complain(failed[0])
        return
    path = settings.data_folder() / _FILE
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        write_whole(path, [presets_bytes(change(known))])
    except (InputError, OSError) as error:
        complain(str(error))
