"""Reading C3D, in a process of its own (see worker)."""

from __future__ import annotations

import importlib.util
import json
import os
import subprocess
import zipfile
from pathlib import Path
from typing import Any

import numpy as np

from ...core.errors import InputError
from ...core.figure.declared import Declared
from ...core.findings import finding
from ..child import start
from ..files import opened
from ..markers.parts import MARKER_UNITS, MarkerPart, recording_of
from ..source_file import SourceFile

_WAIT = 180  # seconds
_SETTINGS = {"OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"}


def read(path: Path) -> SourceFile:
    """Read a C3D file (a SourceFile with one MarkerPart)."""
    path = Path(path)
    if importlib.util.find_spec("ezc3d") is None:
        raise InputError("C3D files need a package that is not installed; get it with: pip install ezc3d")
    with opened(path) as file:
        told, arrays = _asked(path.name, file.fileno())
    points = arrays["points"].astype(float)
    frames, count = points.shape[:2]
    if not frames or not count:
        raise InputError(f"{path.name} holds no points.")
    residuals = arrays["residuals"].astype(float)
    residuals = residuals if residuals.shape == (frames, count) else np.zeros((frames, count))
    lost = (residuals < 0) | ~np.isfinite(points).all(-1)
    points[lost] = np.nan
    notes = []
    if 0 < told["announced"] != frames and told["announced"] < 65_535:
        notes.append(finding("other frames", announced=told["announced"], there=frames))
    if told["analogs"]:
        notes.append(finding("analogue left alone", channels=told["analogs"]))
    unit = MARKER_UNITS.get((told["units"] or [""])[0].strip().lower())
    up = told["screen"][1].strip().upper() if len(told["screen"]) == 2 else None
    up = up if up in ("+X", "-X", "+Y", "-Y", "+Z", "-Z") else None
    recording, more = recording_of(
        path.stem,
        told["labels"],
        points,
        told["rate"],
        told["first"],
        np.where(lost, np.nan, residuals),
        told["computed"],
    )
    part = MarkerPart(path.stem, recording, (*notes, *more), Declared(unit, up), tuple(told["subjects"]))
    return SourceFile(path, "C3D", (part,))


def _asked(label: str, file: int) -> tuple[dict[str, Any], dict[str, np.ndarray]]:
    """What the process tells of the file at a descriptor; InputError where it can't, or ends."""
    answer = os.memfd_create("c3d")
    process = start(f"{__package__}.worker", [file, answer], _SETTINGS)
    try:
        process.wait(_WAIT)
    except subprocess.TimeoutExpired:
        process.kill()
        process.wait()
    try:
        os.lseek(answer, 0, os.SEEK_SET)  # both processes share where they are in it
        with os.fdopen(answer, "rb") as told_in, np.load(told_in) as arrays:
            made = {name: arrays[name] for name in arrays.files}
    except (OSError, ValueError, zipfile.BadZipFile, EOFError):
        raise InputError(f"{label} is damaged: it can't be read as a C3D file.") from None
    told: dict[str, Any] = json.loads(made.pop("told").tobytes())
    if "problem" in told:
        raise InputError(f"{label} can't be read as a C3D file: {told['problem'].rstrip('.')}.")
    return told, made
