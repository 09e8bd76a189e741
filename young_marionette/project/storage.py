"""Project files: ``*.marionette``, a zip of one JSON document (see schema) and the blobs that it speaks of (see blobs)."""

from __future__ import annotations

import hashlib
import io
import json
import os
import zipfile
from collections.abc import Callable
from pathlib import Path
from urllib.parse import quote_from_bytes

from ..core.clip import as_rows
from ..core.errors import InputError
from ..core.evaluator import EVALUATOR
from ..core.keys.arrays import to_arrays
from ..core.keys.keyed import KeyedClip
from ..core.text import shown
from ..formats.files import opened, write_whole
from . import migration
from .blobs import Blob, ZipBlobs
from .loading import Side, of_document
from .schema import (
    VERSION,
    BakeFile,
    CorrectionFile,
    EntryFile,
    LayoutFile,
    MotionFile,
    PairingFile,
    ProjectFile,
    UseFile,
)
from .soundness import UNSOUND
from .stringing import to_file

# How much larger a packed part may become: what people's motion does, and far less than what a trap does.
PLAIN, TIMES = 64 << 20, 200


def save(path, state, stop: Callable[[], None] = lambda: None):
    """Write the state as a project file, whole or not at all; ``stop`` may raise to end it."""
    document, blobs = described(state)
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w") as archive:
        archive.writestr("project.json", document_bytes(document), zipfile.ZIP_DEFLATED, compresslevel=1)
        for blob in blobs.values():
            stop()
            for place, data in blob.files():
                archive.writestr(zipfile.ZipInfo(f"blobs/{place}", (1980, 1, 1, 0, 0, 0)), data)
    with buffer.getbuffer() as whole:
        write_whole(path, [whole])


def document_bytes(document: ProjectFile) -> bytes:
    """The JSON document as it is written."""
    return json.dumps(document.model_dump(mode="json"), ensure_ascii=False, indent=1).encode()


def described(state) -> tuple[ProjectFile, dict[str, Blob]]:
    """``(the document, the blobs that it speaks of by their names)``."""
    blobs: dict[str, Blob] = {}
    pairings = []
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
    )
    return document, blobs


def _entry_file(entry, blobs):
    return EntryFile(
        id=entry.id,
        role=entry.role,
        name=entry.name,
        path=None if entry.path is None else shown(entry.path, None),
        path_bytes=_path_bytes(entry.path),
        format=entry.format,
        joints=list(entry.skeleton.names),
        skeleton=_skeleton_blob(entry.skeleton, blobs),
        motion=_motion_file(entry.take, blobs),
        layout=_layout_file(entry.layout, blobs),
        unit=entry.declared.unit,
        up=entry.declared.up,
        bones=list(entry.declared.bones),
        correction=CorrectionFile(**vars(entry.correction)),
        notes=list(entry.notes),
        tags=list(entry.tags),
    )


def _path_bytes(path):
    """A path that is no text, such as one of another encoding, as text from which it comes back."""
    return None if path is None or str(path) == shown(path, None) else quote_from_bytes(os.fsencode(path))


def _bake_file(one, blobs):
    sides = one.pairing and (Side(one.pairing.source), Side(one.pairing.target))
    return BakeFile(
        id=one.id,
        name=one.name,
        source=one.source,
        rig=_entry_file(one.rig, blobs),
        stringing=to_file(one.pairing, *sides) if sides else None,
        source_joints=list(one.pairing.source.names) if sides else [],
        source_skeleton=_skeleton_blob(one.pairing.source, blobs) if sides else None,
        joints=list(one.placed_skeleton.names),
        placed=_skeleton_blob(one.placed_skeleton, blobs),
        motion=_motion_file(one.placed_clip, blobs),
        fps=one.fps,
        frames=one.frames,
        digest=one.digest,
        tags=list(one.tags),
    )


def _skeleton_blob(skeleton, blobs):
    name = skeleton.digest[:32]
    keys = ("parents", "offsets", "rest", "tips", "scales")
    blobs.setdefault(name, Blob(name, lambda: {key: getattr(skeleton, key) for key in keys}))
    return name


def _motion_file(clip, blobs):
    if clip is None:
        return None
    name = clip.digest[:32]

    def arrays():
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
    blobs.setdefault(name, Blob(name, (lambda: to_arrays(clip)) if keyed else arrays))
    start = 0.0 if keyed else clip.start
    return MotionFile(name=clip.name, rate=clip.rate, start=start, keyed=keyed, curves=list(clip.morphs), blob=name)


def _layout_file(layout, blobs):
    if layout is None:
        return None

    def pack():
        meta, data = layout.packed()
        return meta, None if data is None else hashlib.sha256(data).hexdigest()[:32]

    # Files never change: what a layout packs into is worked out once, and packed again only where it is written.
    meta, name = EVALUATOR.of("packed layout", (layout,), pack)
    if name is not None:
        blobs.setdefault(name, Blob(name, lambda: layout.packed()[1]))
    return LayoutFile(format=layout.format, meta=meta, blob=name)


def load(path):
    """Read a project file (a State); InputError, in one sentence, for anything else or anything broken."""
    path = Path(path)
    with opened(path) as handle:
        try:
            with zipfile.ZipFile(handle) as archive:
                return _load(path.name, archive, path.stat().st_size)
        except InputError:
            raise
        except UNSOUND:
            raise InputError(f"{path.name} is not a Young Marionette project, or was cut off.") from None


def _load(label, archive, size):
    parts = archive.infolist()
    if "project.json" not in archive.namelist():
        raise InputError(f"{label} is not a Young Marionette project.")
    if len({p.filename for p in parts}) != len(parts):
        raise InputError(f"{label} is damaged: a part of it is there twice.")
    for packed, unpacked in ((size, sum(p.file_size for p in parts)), *((p.compress_size, p.file_size) for p in parts)):
        if unpacked > PLAIN + TIMES * packed:
            raise InputError(
                f"{label} would unpack to {unpacked >> 20} MB, which is more than its size makes plausible."
            )
    data = archive.read("project.json")
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
