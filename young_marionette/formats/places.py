"""Where a file may point to: places in its own folder or below it, and nowhere else."""

from __future__ import annotations

import os
import stat
from pathlib import Path
from urllib.parse import unquote, urlparse

from ..core.errors import InputError
from .files import opened, status_of


class Outside(InputError):
    """A file points to a place outside of its own folder."""


def inside(uri: str, label: str, folder: Path | None) -> Path:
    """The path of a file that ``uri`` names, in ``folder`` or below it.

    Raises Outside for any other place (a folder of None has no places), InputError where there is no such file.
    """
    refusal = Outside(f"{label} points to {uri[:80]}, which lies outside of its folder; nothing was read from there.")
    place = unquote(uri)
    if folder is None or urlparse(uri).scheme or "\0" in place or place.startswith("//") or Path(place).is_absolute():
        raise refusal
    path = Path(os.path.realpath(Path(folder) / place))
    if not path.is_relative_to(os.path.realpath(folder)):
        raise refusal
    try:
        status = status_of(path)
    except InputError:
        status = None
    if status is None or not stat.S_ISREG(status.st_mode):
        raise InputError(f"{label} needs the file {uri[:80]}, which is not beside it.")
    return path


def read_inside(uri: str, label: str, folder: Path | None, most: int = -1) -> bytes:
    """The first ``most`` bytes of a file that ``uri`` names (see inside), all of them where that is -1."""
    with opened(inside(uri, label, folder)) as file:
        return file.read(most)


def read_if_there(uri: str, label: str, folder: Path | None) -> bytes | None:
    """As ``read_inside``, and None for a file that is missing; Outside is raised all the same."""
    try:
        return read_inside(uri, label, folder)
    except Outside:
        raise
    except InputError:
        return None
