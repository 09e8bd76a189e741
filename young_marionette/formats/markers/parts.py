"""The part of a file that is a recording of markers."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from ...core.errors import InputError
from ...core.figure.declared import Declared
from ...core.findings import finding
from ...core.markers.computed import computed_outputs
from ...core.markers.recording import Recording
from ...core.names import FreeNames
from ...core.text import shown

if TYPE_CHECKING:
    from ...core.findings import Finding

MARKER_UNITS = {
    "mm": 0.001, "millimeter": 0.001, "millimetre": 0.001, "millimeters": 0.001, "millimetres": 0.001, "cm": 0.01,
    "centimeters": 0.01, "centimetres": 0.01, "m": 1.0, "meter": 1.0, "meters": 1.0, "metre": 1.0, "metres": 1.0,
    "in": 0.0254, "inch": 0.0254, "inches": 0.0254, "ft": 0.3048, "feet": 0.3048, "dm": 0.1,
}  # fmt: skip
_MOST_MARKERS, _LEAST_RATE, _MOST_RATE = 20_000, 0.01, 100_000.0
_FAR = 1e7  # of any unit: no room is so large


@dataclass(frozen=True, eq=False)
class MarkerPart:
    """A recording of a file, in its own unit and axes. ``subjects``: names of whom it is of, where the file tells."""

    name: str
    recording: Recording
    notes: tuple[Finding, ...] = ()
    declared: Declared = Declared()
    subjects: tuple[str, ...] = ()


def recording_of(
    name: str,
    labels: Sequence[str],
    points: np.ndarray,
    rate: float,
    first: int = 0,
    residuals: np.ndarray | None = None,
    listed: Sequence[str] = (),
) -> tuple[Recording, list[Finding]]:
    """A sound Recording of what a file tells, and what was odd of it; InputError where nothing can be made of it.

    ``listed``: labels of columns that the file itself tells to be no markers; what is computed is left out.
    Points at the very origin, or beyond all bounds, are gaps. Labels that are missing or not unique get names.
    """
    label = shown(name)
    count = points.shape[1]
    if not (_LEAST_RATE <= rate <= _MOST_RATE):
        raise InputError(f"{label} tells no usable frame rate ({rate:g} per second).")
    if count > _MOST_MARKERS:
        raise InputError(f"{label} holds {count} points; {_MOST_MARKERS} are the most that can be read.")
    points = np.array(points, float)
    with np.errstate(invalid="ignore"):
        points[(points == 0).all(-1) | (np.abs(points) > _FAR).any(-1)] = np.nan
    points[~np.isfinite(points).all(-1)] = np.nan
    if not np.isfinite(points).any():
        raise InputError(f"{label} holds no point that was seen.")
    notes = []
    names: list[str] = []
    given_names = FreeNames()
    unlabelled = np.zeros(count, bool)
    for marker in range(count):
        given = shown(str(labels[marker]).strip("\0 \t"), 80) if marker < len(labels) else ""
        bare = given.rpartition(":")[2]
        unlabelled[marker] = not bare or bare.startswith("*") or bare.lower().startswith(("unlabel", "uname", "ghost"))
        names.append(given_names.give(given or f"point {marker + 1}"))
    left_out = computed_outputs(names, points, listed)
    if left_out.any():
        gone = [names[m] for m in np.flatnonzero(left_out)]
        if left_out.all():
            raise InputError(f"{label} holds computed outputs alone ({', '.join(gone[:3])}), and no markers.")
        notes.append(finding("computed outputs", count=len(gone), names=gone))
        keep = ~left_out
        names = [n for n, kept in zip(names, keep) if kept]
        points, unlabelled = points[:, keep], unlabelled[keep]
        residuals = None if residuals is None else residuals[:, keep]
        if not np.isfinite(points).any():
            raise InputError(f"{label} holds no marker that was seen, only computed outputs.")
    if unlabelled.any():
        notes.append(finding("unlabelled points", count=int(unlabelled.sum())))
    return Recording(name, tuple(names), points, float(rate), int(first), residuals, unlabelled), notes
