"""Project files: ``*.marionette``, a zip of one JSON document (see schema) and the blobs that it speaks of (see blobs)."""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import json
import os
import zipfile
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from operator import attrgetter
from pathlib import Path
from typing import TYPE_CHECKING, Any, BinaryIO
from zipfile import ZipFile

import numpy as np

from ..core.clip import as_rows
from ..core.errors import InputError
from ..core.evaluator import EVALUATOR
from ..core.keys.arrays import to_arrays
from ..core.keys.keyed import KeyedClip
from ..core.text import shown
from ..formats.files import Output, opened, write_together
from ..formats.source_file import FileLayout
from . import migration
from .archive import DOCUMENT as _DOCUMENT
from .archive import Direct, append, whole_archive
from .blobs import Blob, ZipBlobs
from .control_files import set_file
from .document import Stamp
from .loading import of_document
from .markers.stored import path_bytes, recording_file
from .pass_files import pass_file, preset_file
from .schema import (
    VERSION,
    BakeFile,
    BoxFile,
    ContactChoicesFile,
    ContactFile,
    ContactsFile,
    CorrectionFile,
    EntryFile,
    FindingFile,
    JointLimitFile,
    LayoutFile,
    LimitsFile,
    MotionFile,
    PairingFile,
    ProjectFile,
    TouchFile,
    UseFile,
)
from .soundness import UNSOUND
from .stringing import to_file
from .stringing.sides import Bare

if TYPE_CHECKING:
    from ..core.clip import Clip
    from ..core.contacts.choices import ContactChoices
    from ..core.contacts.contact import Contacts
    from ..core.skeleton import Skeleton
    from .bakes import Bake
    from .document import State
    from .entry import Entry


# How much larger a packed part may become: what people's motion does, and far less than what a trap does.
PLAIN, TIMES = 64 << 20, 200
_SPARE = 4 << 20  # bytes of a file that may be of no use


def save(path: Path, state: State, stop: Callable[[], None] = lambda: None, known: Stamp | None = None) -> Stamp | None:
    """Write the state as a project file, whole or not at all; ``stop`` may raise to end it.

    ``known``: the Stamp of what was last read from or written to ``path``. Where just that is still there, what is new
    is written behind it, and the rest stays as it lies. Gives the Stamp of what lies there now.
    """
    path, (document, blobs) = Path(path), described(state)

    def fill(archive: zipfile.ZipFile) -> None:
        present = {_blob_of(part) for part in archive.infolist()}
        for blob in (b for name, b in blobs.items() if name not in present):
            stop()
            for place, chunks in blob.files():
                with archive.open(zipfile.ZipInfo(f"blobs/{place}", (1980, 1, 1, 0, 0, 0)), "w") as part:
                    for chunk in chunks:
                        part.write(chunk)
        archive.writestr(_DOCUMENT, document_bytes(document), zipfile.ZIP_DEFLATED, compresslevel=1)

    def whole(file: BinaryIO) -> None:
        with zipfile.ZipFile(file, "w") as archive:
            fill(archive)

    if known is None or not _appended(path, known, set(blobs), fill):
        write_together([Output(path, fill=whole)])
    return stamp(path)


def stamp(path: Path) -> Stamp | None:
    """What tells a file at a path from any other that may come to lie there; None where there is none."""
    try:
        return _stamp(os.stat(path))
    except OSError:
        return None


def _stamp(status: os.stat_result) -> Stamp:
    return status.st_dev, status.st_ino, status.st_size, status.st_mtime_ns


def _appended(path: Path, known: Stamp, wanted: set[str], fill: Callable[[zipfile.ZipFile], None]) -> bool:
    """Write what is new behind the known file at ``path``; False, with all as it was, where that can't be done.

    No byte that is there is changed. Until the new directory is whole, ``load`` finds the old one; where it can't be
    made whole, what was written is cut off again.
    """
    with contextlib.suppress(OSError, zipfile.BadZipFile), Direct(path, "r+b") as file:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        status = os.fstat(file.fileno())
        # A file of several names may be somebody's copy, which has to stay as it is.
        if _stamp(status) != known or status.st_nlink > 1:
            return False
        with zipfile.ZipFile(file) as archive:
            parts = [p for p in archive.infolist() if _blob_of(p) in wanted]
        used = sum(p.file_size for p in parts)
        if status.st_size - used > used // 3 + _SPARE:
            return False  # too much in it is of no use: it is made anew
        append(file, status.st_size, parts, fill)
        return True
    return False


def _blob_of(part: zipfile.ZipInfo) -> str:
    """The name of the blob that a part of the archive belongs to, or nothing."""
    return part.filename.split("/")[1].removesuffix(".bin") if part.filename.startswith("blobs/") else ""


def document_bytes(document: ProjectFile) -> bytes:
    """The JSON document as it is written."""
    return document.model_dump_json(indent=1).encode()


def described(state: State) -> tuple[ProjectFile, dict[str, Blob]]:
    """``(the document, the blobs that it speaks of by their names)``."""
    blobs: dict[str, Blob] = {}
    pairings = []
    # What names the blobs is worked out on all processors.
    unnamed = [one.take for one in state.library if one.take is not None and "digest" not in vars(one.take)]
    if unnamed:
        with ThreadPoolExecutor() as pool:
            list(pool.map(attrgetter("digest"), unnamed))
    for key in state.pairings:
        source = next((e for e in state.entries if e.family == key[0]), None)
        rig = next((e for e in state.entries if e.family == key[1]), None)
        member = state.tied(source, rig) if source and rig else None
        if member is not None and source is not None and rig is not None:
            pairings.append(PairingFile(source=source.id, rig=rig.id, stringing=to_file(member, source, rig)))
    document = ProjectFile(
        format="young-marionette project",
        version=VERSION,
        name=state.name,
        source=state.source,
        rig=state.rig,
        entries=[_entry_file(e, blobs) for e in state.entries],
        bakes=[_bake_file(b, blobs) for b in state.bakes],
        uses=[UseFile(source=s, rig=r, **vars(use)) for (s, r), use in state.uses.items()],
        pairings=pairings,
        stringings=list(state.stringings),
        stance_tolerance=state.stance_tolerance,
        limits=LimitsFile(**vars(state.limits)),
        presets=[preset_file(preset) for preset in state.presets],
        recordings=[recording_file(r, blobs) for r in state.recordings],
    )
    return document, blobs


def _entry_file(entry: Entry, blobs: dict[str, Blob]) -> EntryFile:
    return EntryFile(
        id=entry.id,
        role=entry.role,
        name=entry.name,
        path=None if entry.path is None else shown(entry.path, None),
        path_bytes=path_bytes(entry.path),
        format=entry.format,
        joints=list(entry.skeleton.names),
        skeleton=_skeleton_blob(entry.skeleton, blobs),
        motion=_motion_file(entry.take, blobs),
        layout=_layout_file(entry.layout, blobs),
        unit=entry.declared.unit,
        up=entry.declared.up,
        bones=list(entry.declared.bones),
        correction=CorrectionFile(**vars(entry.correction)),
        contacts=_choices_file(entry.contact_choices),
        props=[BoxFile(**vars(box)) for box in entry.props],
        limits=[JointLimitFile(**vars(limit)) for limit in entry.limits],
        controls=set_file(entry.controls) if entry.controls is not None else None,
        notes=[FindingFile(code=note.code, values=dict(note.values)) for note in entry.notes],
        tags=list(entry.tags),
    )


def _choices_file(choices: ContactChoices) -> ContactChoicesFile:
    adjusted = [{**vars(a), "changes": dict(a.changes)} for a in choices.adjusted]
    return ContactChoicesFile.model_validate({"adjusted": adjusted, "drawn": list(map(vars, choices.drawn))})


def _contacts_file(contacts: Contacts | None) -> ContactsFile | None:
    if contacts is None:
        return None
    found = [ContactFile(**vars(c)) for c in contacts.found]
    touches = [TouchFile.model_validate(vars(t)) for t in contacts.touches]
    return ContactsFile(floor=contacts.floor, rate=contacts.rate, found=found, touches=touches)


def _bake_file(one: Bake, blobs: dict[str, Blob]) -> BakeFile:
    pairing, stringing = one.pairing, None
    if pairing is not None:
        source, rig = (Bare(skeleton, skeleton.digest[:16]) for skeleton in (pairing.source, pairing.target))
        stringing = to_file(pairing, source, rig)
    motion = _motion_file(one.dense, blobs)
    assert motion is not None  # of a clip

    def keep(motion: KeyedClip | Clip) -> dict[str, Any]:
        kept = _motion_file(motion, blobs)
        assert kept is not None
        return kept.model_dump()

    return BakeFile(
        id=one.id,
        name=one.name,
        source=one.source,
        rig=_entry_file(one.rig, blobs),
        stringing=stringing,
        source_joints=list(pairing.source.names) if pairing else [],
        source_skeleton=_skeleton_blob(pairing.source, blobs) if pairing else None,
        joints=list(one.placed_skeleton.names),
        placed=_skeleton_blob(one.placed_skeleton, blobs),
        motion=motion,
        fps=one.fps,
        frames=one.frames,
        contacts=_contacts_file(one.contacts),
        digest=one.digest,
        tags=list(one.tags),
        passes=[pass_file(p, keep) for p in one.passes],
        controls=set_file(one.controls) if one.controls is not None else None,
    )


def _skeleton_blob(skeleton: Skeleton, blobs: dict[str, Blob]) -> str:
    name = skeleton.digest[:32]
    keys = ("parents", "offsets", "rest", "tips", "scales")
    blobs.setdefault(name, Blob(name, lambda: {key: getattr(skeleton, key) for key in keys}))
    return name


def _motion_file(clip: Clip | KeyedClip | None, blobs: dict[str, Blob]) -> MotionFile | None:
    if clip is None:
        return None
    name = clip.digest[:32]

    def arrays() -> dict[str, np.ndarray]:
        if isinstance(clip, KeyedClip):
            return to_arrays(clip)
        # Rows are how a clip lies in memory.
        return {
            "rotations": as_rows(clip.rotations),
            "moving": clip.moving,
            "translations": as_rows(clip.translations),
            "values": clip.weights,
            "scaled": clip.scaled,
            "factors": as_rows(clip.scales),
        }

    keyed = isinstance(clip, KeyedClip)
    blobs.setdefault(name, Blob(name, arrays))
    start = 0.0 if keyed else clip.start
    return MotionFile(name=clip.name, rate=clip.rate, start=start, keyed=keyed, curves=list(clip.morphs), blob=name)


def _layout_file(layout: FileLayout | None, blobs: dict[str, Blob]) -> LayoutFile | None:
    if layout is None:
        return None

    def pack() -> tuple[dict[str, Any], str | None]:
        meta, data = layout.packed()
        return meta, None if data is None else hashlib.sha256(data).hexdigest()[:32]

    # Files never change: what a layout packs into is worked out once, and packed again only where it is written.
    meta, name = EVALUATOR.of("packed layout", (layout,), pack)
    if name is not None:
        blobs.setdefault(name, Blob(name, lambda: layout.packed()[1] or b""))
    return LayoutFile(format=layout.format, meta=meta, blob=name)


def load(path: Path, tell: Callable[[str], None] = lambda _sentence: None) -> State:
    """Read a project file (a State); InputError, in one sentence, for anything else or anything broken.

    A file whose last saving was cut off is what it was before, which is told.
    """
    path = Path(path)
    with opened(path) as handle:
        try:
            with whole_archive(handle) as found:
                if found is None:
                    return _unusual(path, handle)
                archive, closes = found
                if not closes:
                    tell(f"The last save of {path.name} was cut off; it is opened as it was saved before.")
                return _load(path.name, archive, path.stat().st_size)
        except InputError:
            raise
        except UNSOUND:
            raise InputError(f"{path.name} is not a Young Marionette project, or was cut off.") from None


def _unusual(path: Path, handle: BinaryIO) -> State:
    """A file without a directory of a project's, told for what it is."""
    handle.seek(0)
    with zipfile.ZipFile(handle) as archive:
        if _DOCUMENT in archive.namelist():
            raise InputError(f"{path.name} is damaged: parts of it are not where they should be.")
        return _load(path.name, archive, path.stat().st_size)


def _load(label: str, archive: ZipFile, size: int) -> State:
    parts = archive.infolist()
    if _DOCUMENT not in archive.namelist():
        raise InputError(f"{label} is not a Young Marionette project.")
    if len({p.filename for p in parts}) != len(parts):
        raise InputError(f"{label} is damaged: a part of it is there twice.")
    for packed, unpacked in ((size, sum(p.file_size for p in parts)), *((p.compress_size, p.file_size) for p in parts)):
        if unpacked > PLAIN + TIMES * packed:
            raise InputError(
                f"{label} would unpack to {unpacked >> 20} MB, which is more than its size makes plausible."
            )
    data = archive.read(_DOCUMENT)
    if version_of(data) < 3:
        return migration.load(label, data, archive)
    return of_document(label, data, ZipBlobs(archive))


def version_of(data: bytes) -> int:
    """The version that a JSON document tells, 3 where it tells none."""
    try:
        version = json.loads(data).get("version")
    except (ValueError, RecursionError, AttributeError):
        return VERSION
    return version if isinstance(version, int) else VERSION
