"""Opening files for one piece of work: an entry with motion, a rig, or either, by name where a file has several."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..core.errors import InputError
from ..core.figure.placement import axis_name, axis_vector
from ..formats import read
from ..formats.registry import MARKERS
from .entry import entries_of
from .markers.entry import MarkerEntry, marker_entries, take_of

if TYPE_CHECKING:
    from .entry import Entry


def open_source(path: str | Path, skeleton: str | None = None, clip: str | None = None) -> Entry:
    """An entry with motion in a file, the first long one unless named; InputError where it has none."""
    if skeleton is None and clip is None and (recording := open_recording(path)) is not None:
        return take_of(recording, recording.solved())
    entries = of_skeleton(path, skeleton)
    moving = [e for e in entries if e.take is not None]
    if not moving:
        raise InputError(f"{Path(path).name} holds a skeleton without motion, so it can't be the source.")
    if clip is not None:
        parted = [e for e in of_skeleton(path, skeleton, parted=True) if e.take is not None]
        named = [e for e in (*moving, *parted) if e.take and clip in (e.name, e.take.name, e.name.split(": ")[-1])]
        if not named:
            raise InputError(f"{Path(path).name} has no clip {clip}; it has {', '.join(e.name for e in moving[:8])}.")
        return named[0]
    return next((e for e in moving if e.take and e.take.frames > 2), moving[0])


def open_recording(path: Path | str, subject: str | None = None) -> MarkerEntry | None:
    """The recording of markers in a file that can hold one, of ``subject`` where it is of several; None where its ending tells
    another kind of file, or there is none in it."""
    if Path(path).suffix.lower() not in MARKERS:
        return None
    entries = marker_entries(read(path))
    if entries and subject is not None:
        named = [e for e in entries if subject in e.subjects]
        if not named:
            told = ", ".join(s for e in entries for s in e.subjects) or "no names"
            raise InputError(f"{Path(path).name} has no subject {subject}; it tells {told}.")
        return named[0]
    return entries[0] if entries else None


def open_rig(path: Path | str, skeleton: str | None = None) -> Entry:
    """The first skeleton in a file, or the one named by its root, as a rig."""
    return of_skeleton(path, skeleton)[0]


def open_any(path: str | Path, skeleton: str | None = None, clip: str | None = None) -> Entry:
    """An entry with motion where the file has any, else its skeleton."""
    entries = of_skeleton(path, skeleton)
    return open_source(path, skeleton, clip) if clip or any(e.take for e in entries) else entries[0]


def of_skeleton(path: str | Path, skeleton: str | None = None, parted: bool = False) -> list[Entry]:
    """All entries of a file, or of the skeleton in it whose root has a name; InputError where there is none.

    ``parted``: of animations that are one take together, each by itself.
    """
    file = read(path)
    entries = entries_of(file, parted=parted)
    if not entries and not parted:
        raise InputError(f"{Path(path).name} holds markers, not a skeleton; solve it into a take first.")
    if skeleton is None:
        return entries
    if parted and not entries:
        return []
    named = [e for e in entries if skeleton in (e.skeleton.names[0], e.name.split(": ")[-1])]
    if not named:
        roots = ", ".join(dict.fromkeys(e.skeleton.names[0] for e in entries))
        raise InputError(f"{Path(path).name} has no skeleton {skeleton}; its skeletons begin with {roots}.")
    return named


def placed_as(entry: Entry, up: str | None = None, facing: str | None = None) -> Entry:
    """The entry with the axes of its file that are up and ahead set by hand; InputError for what is no axis."""
    changes = {}
    for name, axis in (("up", up), ("facing", facing)):
        if axis is not None:
            if not isinstance(axis, str):
                raise InputError(f"{name} has to be an axis such as 'Z' or '-Y', not {type(axis).__name__}.")
            changes[name] = axis_name(axis_vector(axis))
    if len(changes) == 2 and changes["up"][1] == changes["facing"][1]:
        raise InputError(f"{changes['up']} can't be up and {changes['facing']} ahead: both lie along one axis.")
    return entry.corrected(**changes) if changes else entry


def inputs_of(entry: Entry) -> list[Any]:
    """The files that an entry was read from."""
    return [entry.path, *(entry.layout.drawn_in if entry.layout is not None else ())]
