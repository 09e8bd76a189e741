"""From files to a file: open a source and a rig, pair them, bake, and write what was baked."""

from __future__ import annotations

from pathlib import Path

from ..core.conventions import CONVENTIONS, convention_names, learned_names
from ..core.errors import InputError
from ..core.skeleton import Clip
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


def write_entry(entry, path, overwrite=False):
    """Write an entry as it stands, in its own unit and axes; a skeleton without motion as one frame at rest."""
    check_writable(path, overwrite)
    clip = entry.clip or Clip(entry.name, entry.skeleton, 30.0, entry.skeleton.rest[None])
    write(path, clip, entry.layout, overwrite, entry.figure.placement.scale)


def renamed(entry, names):
    """The entry with the bone names of a convention (``"vrm"``, ``"h-anim"``) or of the skeleton in a file."""
    if names.lower() not in CONVENTIONS and not Path(names).exists():
        raise InputError(
            f"'{names}' is no convention known here and no file; use {', '.join(CONVENTIONS)} or a file with the names."
        )
    if entry.figure.body is None:
        raise InputError(f"In {entry.name} no body with two legs can be seen, so its bones can't be told apart.")
    if names.lower() in CONVENTIONS:
        return entry.with_bone_names(convention_names(entry.skeleton, entry.figure.body, names.lower()))
    rig = open_rig(names)
    if rig.figure.body is None:
        raise InputError(f"In {rig.name} no body with two legs can be seen, so no names can be learned from it.")
    return entry.with_bone_names(learned_names(entry.skeleton, entry.figure.body, rig.skeleton, rig.figure.body))


def retarget(source, rig, pairing, out, fps=None, frames=None, overwrite=False):
    """Bake ``source`` onto ``rig`` and write it; returns the baked clip."""
    refuse_same(out, source.path, rig.path)
    check_writable(out, overwrite)
    refuse_gaps(pairing, source, rig)
    baked = bake(pairing, source, fps, frames)
    deliver(out, baked, rig, overwrite)
    return baked
