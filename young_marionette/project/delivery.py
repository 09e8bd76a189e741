"""From files to a file: open a source and a rig, pair them, bake, and write what was baked."""

from __future__ import annotations

from pathlib import Path

from ..core.errors import InputError
from ..formats import read, write
from ..formats.registry import check_writable
from . import stringing
from .entry import entries_of
from .pairing import bake, pair, refuse_gaps


def open_source(path):
    """The first entry with motion in a file; InputError where it has none."""
    entry = entries_of(read(path))[0]
    if entry.clip is None:
        raise InputError(f"{Path(path).name} holds a skeleton without motion, so it can't be the source.")
    return entry


def open_rig(path):
    """The first skeleton in a file, as a rig."""
    return entries_of(read(path))[0]


def pair_files(source, rig, stringing_path=None):
    """Pair two entries: with a saved stringing where one is given, else by itself."""
    if stringing_path is None:
        return pair(source, rig)
    return stringing.from_file(stringing.load(stringing_path), source, rig)


def refuse_same(out, *inputs):
    """InputError where a result would replace one of the files it is made from."""
    for path in inputs:
        if path is not None and Path(out).exists() and Path(out).resolve() == Path(path).resolve():
            raise InputError(f"{out} is one of the files that are read; give the result a name of its own.")


def deliver(path, baked, rig, overwrite=False):
    """Write a baked clip on the placed rig, with the rig's names, order, offsets, unit and axes."""
    check_writable(path, overwrite)
    write(path, rig.to_file_world(baked), rig.layout, overwrite, rig.figure.placement.scale)


def retarget(source, rig, pairing, out, fps=None, frames=None, overwrite=False):
    """Bake ``source`` onto ``rig`` and write it; returns the baked clip."""
    refuse_same(out, source.path, rig.path)
    check_writable(out, overwrite)
    refuse_gaps(pairing, source, rig)
    baked = bake(pairing, source, fps, frames)
    deliver(out, baked, rig, overwrite)
    return baked
