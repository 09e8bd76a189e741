"""Recordings of markers as a project file has them."""

from __future__ import annotations

import hashlib
import os
from pathlib import Path
from typing import TYPE_CHECKING, Protocol
from urllib.parse import quote_from_bytes, unquote_to_bytes

import numpy as np

from ...core.figure.declared import Declared
from ...core.findings import Finding
from ...core.markers.mends import Mend
from ...core.markers.placing import Placed
from ...core.markers.recording import Recording
from ...core.markers.reference import Reference
from ...core.markers.sizing import SIZES
from ...core.text import shown
from ..blobs import Blob
from .entry import MarkerEntry
from .files import figure_file, figure_of

if TYPE_CHECKING:
    from ..blobs import Blobs
    from ..schema import RecordingFile, ReferenceFile


class HasPath(Protocol):
    """What a file tells of the path that something was read from."""

    @property
    def path(self) -> str | None: ...
    @property
    def path_bytes(self) -> str | None: ...


def path_of(item: HasPath) -> Path | None:
    """The path that something was read from, or None."""
    path = os.fsdecode(unquote_to_bytes(item.path_bytes)) if item.path_bytes else item.path
    return Path(path) if path else None


def path_bytes(path: Path | None) -> str | None:
    """A path that is no text, such as one of another encoding, as text from which it comes back."""
    return None if path is None or str(path) == shown(path, None) else quote_from_bytes(os.fsencode(path))


def recording_file(entry: MarkerEntry, blobs: dict[str, Blob]) -> RecordingFile:
    """A recording as a project file has it; its arrays are added to ``blobs``."""
    from ..schema import FindingFile, MendFile, PlacedFile, RecordingFile

    recording = entry.recording
    name = recording.digest[:32]

    def arrays() -> dict[str, np.ndarray]:
        made = {"points": recording.points, "unlabelled": recording.unlabelled}
        return made if recording.residuals is None else {**made, "residuals": recording.residuals}

    blobs.setdefault(name, Blob(name, arrays))
    return RecordingFile(
        id=entry.id,
        name=entry.name,
        path=None if entry.path is None else shown(entry.path, None),
        path_bytes=path_bytes(entry.path),
        format=entry.format,
        labels=list(recording.labels),
        rate=recording.rate,
        first=recording.first,
        blob=name,
        unit=entry.declared.unit,
        up=entry.declared.up,
        subjects=list(entry.subjects),
        placed=PlacedFile(**vars(entry.placed)),
        labelling=dict(entry.labelling),
        mends=[MendFile(**vars(mend)) for mend in entry.mends],
        figure=None if entry.figure is None else figure_file(entry.figure),
        sizes=dict(entry.sizes),
        reference=None if entry.reference is None else _reference_file(entry.reference, blobs),
        touches=entry.touches,
        notes=[FindingFile(code=note.code, values=dict(note.values)) for note in entry.notes],
        tags=list(entry.tags),
    )


def stored_recording(label: str, item: RecordingFile, blobs: Blobs) -> MarkerEntry:
    """The entry that a project file tells; ValueError, KeyError or InputError where it is not sound."""
    arrays = blobs.arrays(item.blob)
    points = np.asarray(arrays["points"], float)
    if points.ndim != 3 or not len(points):
        raise ValueError("points of another shape than a recording's")
    recording = Recording(
        item.name, tuple(item.labels), points, item.rate, item.first, arrays.get("residuals"), arrays.get("unlabelled")
    )
    return MarkerEntry(
        item.id,
        item.name,
        path_of(item),
        item.format,
        recording,
        Declared(item.unit, item.up),
        tuple(Finding(note.code, note.values) for note in item.notes),
        tuple(item.subjects),
        Placed(**item.placed.model_dump()),
        tuple(item.labelling.items()),
        tuple(Mend(**mend.model_dump()) for mend in item.mends),
        None if item.figure is None else figure_of(label, item.figure),
        tuple((size, metres) for size, metres in item.sizes.items() if size in SIZES),
        None if item.reference is None else _reference(item.reference, blobs),
        item.touches,
        tuple(item.tags),
    )


def _reference_file(reference: Reference, blobs: dict[str, Blob]) -> ReferenceFile:
    from ..schema import ReferenceFile

    name = hashlib.sha256(reference.points.tobytes()).hexdigest()[:32]
    blobs.setdefault(name, Blob(name, lambda: {"points": reference.points}))
    return ReferenceFile(name=reference.name, labels=list(reference.labels), blob=name)


def _reference(item: ReferenceFile, blobs: Blobs) -> Reference:
    points = np.asarray(blobs.arrays(item.blob)["points"], float)
    if points.ndim != 3 or points.shape[1:] != (len(item.labels), 3):
        raise ValueError("points of another shape than a T-pose's")
    return Reference(item.name, tuple(item.labels), points)
