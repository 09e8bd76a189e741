"""Project files: ``*.marionette``, a zip of one JSON document and one ``.npz`` of arrays per entry."""

from __future__ import annotations

import hashlib
import io
import json
import weakref
import zipfile
import zlib
from dataclasses import replace
from pathlib import Path
from typing import Literal

import numpy as np
from pydantic import Field

from ..core.correction import Correction
from ..core.declared import Declared
from ..core.errors import InputError
from ..core.skeleton import Clip, Skeleton
from ..formats.files import opened, write_whole
from ..formats.registry import LAYOUTS
from .document import State
from .entry import Entry
from .stringing import Strict, StringingFile, from_file, parse, to_file

VERSION = 2
_MAX_JSON = 256 << 20
_MAX_UNPACKED = 8 << 30


class CorrectionFile(Strict):
    scale: float | None = Field(default=None, gt=0)
    up: str | None = None
    facing: str | None = None
    rate: float | None = Field(default=None, gt=0, le=1000)
    lift: float | None = Field(default=None, ge=-1000, le=1000)
    centred: Literal["origin", "line"] | None = None
    in_place: bool | None = None
    prefix: str | None = None
    family: str | None = None
    rest: int | None = Field(default=None, ge=-1)
    level: int | None = Field(default=None, ge=0)


class LayoutFile(Strict):
    """The file that entries came from, as its format stores it; its bytes lie in ``sources/<number>``."""

    format: Literal["BVH", "glTF", "USD"]
    meta: dict
    source: int | None = None


class EntryFile(Strict):
    """An entry; its arrays lie beside it as ``arrays/<id>.npz``."""

    id: str = Field(pattern=r"^[0-9a-z-]{1,40}$")
    role: Literal["clip", "rig", "baked"]
    name: str
    path: str | None
    format: str
    joints: list[str] = Field(min_length=1)
    rate: float | None = Field(default=None, gt=0)
    clip_name: str = ""
    curves: list[str] = []
    layout: LayoutFile | None = None
    layout_names: list[str] | None = None  # version 1
    layout_channels: list[list[str]] | None = None  # version 1
    unit: float | None = Field(default=None, gt=0)
    up: str | None = None
    bones: list[tuple[str, str]] = []
    correction: CorrectionFile = CorrectionFile()
    notes: list[str] = []
    made_from: list[str] = []
    tags: list[str] = []


class PairingFile(Strict):
    """A pairing, with the entries that it was made between."""

    source: str
    rig: str
    stringing: StringingFile


class ProjectFile(Strict):
    """The schema of ``project.json`` in a project file, version 2."""

    format: Literal["young-marionette project"]
    version: int
    name: str
    entries: list[EntryFile]
    source: str | None = None
    rig: str | None = None
    pairings: list[PairingFile] = []
    stringings: list[StringingFile] = []
    stance_tolerance: float = Field(default=10.0, ge=0, le=180)


def save(path, state):
    """Write the state as a project file, whole or not at all."""
    buffer = io.BytesIO()
    sources = _Sources()
    document = _document(state, sources)
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as archive:
        archive.writestr("project.json", json.dumps(document.model_dump(mode="json"), ensure_ascii=False, indent=1))
        for number, data in enumerate(sources.data):
            archive.writestr(f"sources/{number}", data, zipfile.ZIP_STORED)
        for entry in state.entries:
            arrays = io.BytesIO()
            np.savez(arrays, **_arrays(entry))
            archive.writestr(f"arrays/{entry.id}.npz", arrays.getvalue())
    write_whole(path, [buffer.getbuffer()])


# Files never change, and work is kept every few moments: what a layout packs into is worked out once.
_packed_before = weakref.WeakKeyDictionary()


class _Sources:
    """The bytes of the files that entries came from, each once."""

    def __init__(self):
        self.data, self._numbers, self._packed = [], {}, {}

    def of(self, layout):
        """The LayoutFile of a layout; entries of one file share its bytes."""
        if id(layout) not in self._packed:
            if layout not in _packed_before:
                meta, data = layout.packed()
                _packed_before[layout] = meta, data, hashlib.sha256(data or b"").digest()
            meta, data, digest = _packed_before[layout]
            number = None
            if data is not None:
                number = self._numbers.setdefault(digest, len(self.data))
                if number == len(self.data):
                    self.data.append(data)
            self._packed[id(layout)] = LayoutFile(format=layout.format, meta=meta, source=number)
        return self._packed[id(layout)]


def _document(state, sources):
    pairings = []
    for key, pairing in state.pairings.items():
        source = next((e for e in state.entries if e.family == key[0]), None)
        rig = next((e for e in state.entries if e.family == key[1]), None)
        if source and rig:
            member = replace(state, source=source.id, rig=rig.id).pairing
            pairings.append(PairingFile(source=source.id, rig=rig.id, stringing=to_file(member, source, rig)))
    return ProjectFile(
        format="young-marionette project",
        version=VERSION,
        name=state.name,
        source=state.source,
        rig=state.rig,
        entries=[_entry_file(e, sources) for e in state.entries],
        pairings=pairings,
        stringings=list(state.stringings),
        stance_tolerance=state.stance_tolerance,
    )


def _entry_file(entry, sources):
    return EntryFile(
        id=entry.id,
        role=entry.role,
        name=entry.name,
        path=str(entry.path) if entry.path else None,
        format=entry.format,
        joints=list(entry.skeleton.names),
        rate=entry.clip.rate if entry.clip else None,
        clip_name=entry.clip.name if entry.clip else "",
        curves=list(entry.clip.curves) if entry.clip else [],
        layout=sources.of(entry.layout) if entry.layout is not None else None,
        unit=entry.declared.unit,
        up=entry.declared.up,
        bones=[list(b) for b in entry.declared.bones],
        correction=CorrectionFile(**vars(entry.correction)),
        notes=list(entry.notes),
        made_from=list(entry.made_from),
        tags=list(entry.tags),
    )


def _arrays(entry):
    skeleton, clip = entry.skeleton, entry.clip
    arrays = {"parents": skeleton.parents, "offsets": skeleton.offsets, "rest": skeleton.rest, "tips": skeleton.tips}
    arrays["scales"] = skeleton.scales
    if clip is not None:
        # Rows are how a clip lies in memory, and neighbours in time compress better.
        arrays.update(
            rotations=np.moveaxis(clip.rotations, 0, -1),
            moving=clip.moving,
            translations=np.moveaxis(clip.translations, 0, -1),
            values=clip.values,
        )
    return arrays


def load(path):
    """Read a project file (a State); InputError, in one sentence, for anything else or anything broken."""
    path = Path(path)
    with opened(path) as handle:
        try:
            with zipfile.ZipFile(handle) as archive:
                return _load(path.name, archive)
        except (
            zipfile.BadZipFile,
            zipfile.LargeZipFile,
            zlib.error,
            EOFError,
            NotImplementedError,
            RuntimeError,
            OSError,
            OverflowError,
        ):
            raise InputError(f"{path.name} is no project of Young Marionette, or was cut off.") from None


def _load(label, archive):
    names = {i.filename: i.file_size for i in archive.infolist()}
    if "project.json" not in names:
        raise InputError(f"{label} is no project of Young Marionette.")
    if names["project.json"] > _MAX_JSON or sum(names.values()) > _MAX_UNPACKED:
        raise InputError(f"{label} unpacks to more than can be used.")
    file = parse(label, archive.read("project.json"), ProjectFile, VERSION, "project")
    entries, layouts = [], {}
    for item in file.entries:
        member = f"arrays/{item.id}.npz"
        if member not in names:
            raise InputError(f"{label} is damaged: the data of {item.name} are missing.")
        try:
            with np.load(io.BytesIO(archive.read(member)), allow_pickle=False) as arrays:
                entries.append(_entry(item, arrays, _layout(item, archive, layouts)))
        except (
            ValueError,
            KeyError,
            OSError,
            TypeError,
            IndexError,
            MemoryError,
            EOFError,
            zlib.error,
            zipfile.BadZipFile,
        ) as error:
            raise InputError(
                f"{label} is damaged: the data of {item.name} can't be used ({type(error).__name__})."
            ) from None
    if len({e.id for e in entries}) != len(entries):
        raise InputError(f"{label} is damaged: an entry stands in it twice.")
    return _state(file, tuple(entries))


def _layout(item, archive, known):
    """The layout of an entry; those of one file are made once."""
    told = item.layout
    if told is None and item.layout_names is not None and item.layout_channels is not None:
        told = LayoutFile(format="BVH", meta={"names": item.layout_names, "channels": item.layout_channels})
    if told is None:
        return None
    key = told.format, json.dumps(told.meta, sort_keys=True), told.source
    if key not in known:
        data = archive.read(f"sources/{told.source}") if told.source is not None else None
        known[key] = LAYOUTS[told.format].unpacked(told.meta, data)
    return known[key]


def _entry(item, arrays, layout):
    tips = arrays["tips"]
    scales = arrays["scales"] if "scales" in arrays.files else None
    skeleton = Skeleton(tuple(item.joints), arrays["parents"], arrays["offsets"], arrays["rest"], tips, scales)
    clip = None
    if item.rate is not None:
        clip = Clip(
            item.clip_name or item.name,
            skeleton,
            item.rate,
            np.moveaxis(arrays["rotations"], -1, 0),
            arrays["moving"],
            np.moveaxis(arrays["translations"], -1, 0),
            tuple(item.curves),
            arrays["values"] if "values" in arrays.files else None,
        )
        if not (np.isfinite(clip.rotations).all() and np.isfinite(clip.translations).all()):
            raise ValueError("numbers that are none")
        if len(clip.moving) and not (clip.moving.min() >= 0 and clip.moving.max() < len(skeleton)):
            raise ValueError("joints that are none")
    if not (
        np.isfinite(skeleton.offsets).all()
        and np.isfinite(skeleton.rest).all()
        and np.isfinite(skeleton.scales).all()
        and np.isfinite(tips[~np.isnan(tips)]).all()
    ):
        raise ValueError("numbers that are none")
    if layout is not None and len(layout.names) != len(skeleton):
        raise ValueError("a layout of another skeleton")
    return Entry(
        item.id,
        item.role,
        item.name,
        Path(item.path) if item.path else None,
        item.format,
        skeleton,
        clip,
        layout,
        Correction(**item.correction.model_dump()),
        tuple(item.notes),
        tuple(item.made_from),
        tuple(item.tags),
        Declared(item.unit, item.up, tuple(item.bones)),
    )


def _state(file, entries):
    state = State(file.name, entries, stringings=tuple(file.stringings), stance_tolerance=file.stance_tolerance)
    for item in file.pairings:
        source, rig = state.entry(item.source), state.entry(item.rig)
        if source and rig:
            state = replace(
                state, pairings={**state.pairings, (source.family, rig.family): from_file(item.stringing, source, rig)}
            )
    ids = {e.id for e in entries}
    return replace(state, source=file.source if file.source in ids else None, rig=file.rig if file.rig in ids else None)
