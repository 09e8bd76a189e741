"""Clips of files on rigs of files, tied by stringings or by themselves; what many clips share is read and tied once."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from ...core.errors import InputError
from ...core.evaluator import EVALUATOR
from ...formats import read
from ...formats.files import status_of
from .. import stringing as stringings
from ..entry import Entry, entries_of
from ..opening import open_rig
from ..pairing import Pairing, pair
from .job import Job
from .making import Ready


def clips_of(path: str, names: tuple[str, ...]) -> list[Entry]:
    """The clips of a file, or those of some names; InputError where there are none."""
    label = Path(path).name
    moving = [e for e in entries_of(read(path)) if e.take is not None]
    if not moving:
        raise InputError(f"{label} holds a skeleton without motion, so there is nothing to deliver.")
    for note in moving[0].notes:
        if note.code == "other frames" and note["announced"] > note["there"]:
            # Nobody would see it in a folder of many; by itself such a clip can still be carried over.
            raise InputError(f"{label} was cut off: it announces {note['announced']} frames and holds {note['there']}.")
    if names:
        moving = [e for e in moving if e.name in names]
        if not moving:
            raise InputError(f"{label} has no clip {names[0]} any more.")
    return moving


def tied(job: Job, source: Entry, rig_path: str) -> Ready:
    """A clip on the rig of a file, tied as the job's order says; InputError where it can't be."""
    rig = rig_of(rig_path)
    file = source.path.stem if source.path is not None else source.name
    if not job.order.stringings:
        key = source.placed_skeleton, rig.placed_skeleton
        pairing = EVALUATOR.of("pairing of a delivery", key, lambda: pair(source, rig))
        return Ready(source.name, file, source, rig, pairing)
    pairing, name = _strung(job.order.stringings, source, rig)
    return Ready(source.name, file, source, rig, pairing, stringing=name)


def rig_of(path: str) -> Entry:
    """A rig, read once for many clips."""
    return EVALUATOR.of("rig of a delivery", _stamp(path), lambda: open_rig(path))


def _stamp(path: str) -> tuple[str, int, int]:
    """What tells a file from any other that may come to lie in its place."""
    status = status_of(path)
    return (path, status.st_mtime_ns, status.st_size) if status is not None else (path, 0, 0)


def _strung(paths: tuple[str, ...], source: Entry, rig: Entry) -> tuple[Pairing, str]:
    """``(pairing, name)`` by the stringing that was made for the two, else by the first whose bones are all there."""
    files = [EVALUATOR.of("stringing of a delivery", _stamp(p), partial(stringings.load, Path(p))) for p in paths]
    key = source.family, rig.family
    why = ""
    for file, path in sorted(
        zip(files, paths), key=lambda f: (f[0].source.fingerprint, f[0].target.fingerprint) != key
    ):
        try:
            of = file, source.placed_skeleton, rig.placed_skeleton, *key
            found = EVALUATOR.of("pairing of a stringing", of, partial(stringings.from_file, file, source, rig))
            return found, file.name or Path(path).stem
        except InputError as error:
            why = why or str(error)
    raise InputError(why if len(files) == 1 else f"None of the stringings fits. {why}")
