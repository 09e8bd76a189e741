"""Which format a file has, and who reads and writes it."""

from __future__ import annotations

from pathlib import Path

from ..core.errors import InputError
from . import bvh
from .files import check_free, opened

WRITABLE = {".bvh": "BVH"}


def read(path):
    """Read a file of any known format (a MotionFile), told by its first bytes and not by its name."""
    path = Path(path)
    with opened(path) as file:
        head = file.read(1 << 16)
    if not head:
        raise InputError(f"{path.name} is empty.")
    if b"\0" in head:
        raise InputError(f"{path.name} is a binary file of no format that is known here; BVH can be read.")
    if not head.strip():
        raise InputError(f"{path.name} begins with nothing but blanks.")
    if bvh.is_bvh(head):
        return bvh.read(path)
    raise InputError(f"{path.name} has no format that is known here: a BVH file begins with the word HIERARCHY.")


def check_writable(path, overwrite=False):
    """InputError where a path can't be written: an ending that is not known, or a file that exists."""
    path = Path(path)
    if path.suffix.lower() not in WRITABLE:
        raise InputError(f"{path.name} can't be written: of the endings known here, use {', '.join(WRITABLE)}.")
    if not path.parent.is_dir():
        raise InputError(f"There is no folder {path.parent}.")
    check_free(path, overwrite)


def write(path, clip, layout=None, overwrite=False, metres_per_unit=1.0):
    """Write a clip (in the file's unit and axes) in the format that the name's ending tells."""
    check_writable(path, overwrite)
    bvh.write(path, clip, layout, metres_per_unit)
