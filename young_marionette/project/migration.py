"""Project files of versions 1 and 2: an ``.npz`` of arrays for each entry, and baked clips among the entries."""

from __future__ import annotations

import io
import json
import zipfile
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any
from zipfile import ZipFile

import numpy as np

from ..core.errors import InputError
from ..core.figure.correction import BIND, Correction
from ..core.figure.declared import Declared
from ..core.figure.placement import place_clip
from ..core.findings import finding
from ..core.text import shown
from ..formats.registry import layout_class
from ..formats.source_file import FileLayout
from .bakes import Bake
from .document import State
from .entry import RIG, Entry
from .loading import with_pairings
from .old_scales import with_typed_scales
from .schema import LayoutFile, OldProjectFile
from .soundness import UNSOUND, sound_clip, sound_layout, sound_skeleton
from .strict import parse

if TYPE_CHECKING:
    from .schema import OldEntryFile


def load(label: str, data: bytes, archive: ZipFile) -> State:
    """The State of an old document and the archive that it lies in; InputError where it is not sound."""
    file = parse(label, data, OldProjectFile, 2, "project")
    names, entries, baked, layouts = set(archive.namelist()), [], [], {}
    for item in file.entries:
        member = f"arrays/{item.id}.npz"
        if member not in names:
            raise InputError(f"{label} is damaged: the data of {shown(item.name, 60)} are missing.")
        try:
            arrays = _plain_npz(archive.read(member))
            entry = _entry(item, arrays, _layout(item, archive, layouts))
        except InputError:
            raise
        except UNSOUND as error:
            raise InputError(
                f"{label} is damaged: the data of {shown(item.name, 60)} can't be used ({type(error).__name__})."
            ) from None
        (baked if item.role == "baked" else entries).append((item, entry))
    ids = [item.id for item in file.entries]
    if len(set(ids)) != len(ids):
        raise InputError(f"{label} is damaged: an entry stands in it twice.")
    kept = tuple(entry for _, entry in entries)
    state = State(file.name, kept, stringings=tuple(file.stringings), stance_tolerance=file.stance_tolerance)
    state = with_pairings(label, state, file.pairings, file.version)
    known = {e.id for e in kept}
    return replace(
        state,
        bakes=tuple(_bake(item, entry, state) for item, entry in baked),
        source=file.source if file.source in known else None,
        rig=file.rig if file.rig in known else None,
    )


def _plain_npz(data: bytes) -> dict[str, np.ndarray]:
    """The arrays of an ``.npz`` that is not packed, as all of ours were; ValueError for another."""
    with zipfile.ZipFile(io.BytesIO(data)) as inner:
        parts = inner.infolist()
        if any(p.compress_type != zipfile.ZIP_STORED for p in parts) or sum(p.file_size for p in parts) > len(data):
            raise ValueError("packed within a pack")
    with np.load(io.BytesIO(data), allow_pickle=False) as arrays:
        return {key: arrays[key] for key in arrays.files}


def _layout(item: OldEntryFile, archive: ZipFile, known: dict[Any, Any]) -> FileLayout | None:
    """The layout of an entry; those of one file are made once."""
    layout = item.layout
    if layout is None and item.layout_names is not None and item.layout_channels is not None:
        layout = LayoutFile(format="BVH", meta={"names": item.layout_names, "channels": item.layout_channels})
    if layout is None:
        return None
    key = layout.format, json.dumps(layout.meta, sort_keys=True), layout.source
    if key not in known:
        data = archive.read(f"sources/{layout.source}") if layout.source is not None else None
        known[key] = layout_class(layout.format).unpacked(layout.meta, data)
    return known[key]


def _entry(item: OldEntryFile, arrays: dict[str, np.ndarray], layout: FileLayout | None) -> Entry:
    skeleton = sound_skeleton(item.joints, arrays)
    clip = None
    if item.rate is not None:
        clip = with_typed_scales(sound_clip(item.clip_name or item.name, skeleton, item.rate, item.curves, arrays))
    if layout is not None:
        layout = sound_layout(layout, skeleton)
    return Entry(
        item.id, RIG if item.role == "baked" else item.role, item.name, Path(item.path) if item.path else None,
        item.format, skeleton, clip, layout, Correction(**item.correction.model_dump()),
        tuple(finding("text", text=n) for n in item.notes), tuple(item.tags), Declared(item.unit, item.up, tuple(item.bones)),
    )  # fmt: skip


def _bake(item: OldEntryFile, entry: Entry, state: State) -> Bake:
    """A baked clip as an object of its own, on its rig as that is now, or by itself where that is gone."""
    made_on = item.made_from[1] if len(item.made_from) > 1 else None
    rig = next((e for e in state.entries if e.id == made_on), None)
    if rig is None or rig.skeleton.names != entry.skeleton.names:
        # The frame of a rest pose was one of the rig's own clip, which is not here.
        rest = entry.correction.rest if entry.correction.rest == BIND else None
        rig = replace(entry, take=None, tags=(), correction=replace(entry.correction, rest=rest))
    if entry.clip is None:
        raise InputError(f"{shown(entry.name, 60)} is damaged: a baked clip without motion.")
    clip = place_clip(entry.clip, rig.figure.placement, rig.placed_skeleton)
    source = item.made_from[0] if item.made_from else ""
    return Bake(item.id, item.name, source, rig, None, replace(clip, name=item.name), tags=entry.tags)
