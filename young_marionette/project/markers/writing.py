"""What is written of a recording: its markers as they are mended, in the file's own unit and axes; its labelling."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from ...core import rotations as rot
from ...core.markers.faults import EXCHANGED, FLIP, LEFT_BEHIND, SPIKE
from ...core.markers.mends import EXCHANGE, FILL, LEAVE_OUT, Mend, marked, put_back, refilled
from ...core.units import unit_of
from .showing import told_faults

if TYPE_CHECKING:
    from ...core.markers.recording import Recording
    from ...core.markers.solving import Solution
    from .entry import MarkerEntry


def all_mends(entry: MarkerEntry, solution: Solution) -> tuple[Mend, ...]:
    """What was decided of markers, and what solving mended by itself."""
    labels, found = entry.recording.labels, []
    for fault in told_faults(entry, solution):
        label, span = labels[fault.marker], (fault.first, fault.last)
        if fault.kind == EXCHANGED and isinstance(fault.other, int):
            found.append(Mend(EXCHANGE, label, *span, labels[fault.other]))
        elif fault.kind in (LEFT_BEHIND, SPIKE, FLIP):
            found.append(Mend(LEAVE_OUT, label, *span))
    return (*entry.mends, *found)


def mended_recording(entry: MarkerEntry, solution: Solution, gaps: bool = False) -> Recording:
    """The recording in its file's world with all mends done; what is to be filled, and with ``gaps`` every gap of a marker that the
    figure has, stands where the segment's other markers tell."""
    recording, mends = entry.recording, all_mends(entry, solution)
    points = put_back(recording, mends)
    filled = marked(recording, mends, FILL)
    gone = marked(recording, mends, LEAVE_OUT) & ~filled
    points[gone] = np.nan
    first, last = entry.span
    place, span = entry.place, slice(first, last + 1)
    # From our world back into the file's.
    there = rot.rotate(rot.conjugate(place.turn), solution.expected - place.move) / place.metres_per_unit
    known = np.full(points.shape, np.nan)
    known[span, solution.on] = there
    wanted = filled | (gaps & ~np.isfinite(points).all(-1))
    wanted &= np.isfinite(known).all(-1)
    return replace(recording, points=refilled(points, known, wanted))


def as_written(entry: MarkerEntry, solution: Solution, gaps: bool = False) -> tuple[Recording, str, str]:
    """``(the mended recording, its unit, its up axis)``, in the file's own unit where that has a name, else in millimetres."""
    recording, place = mended_recording(entry, solution, gaps), entry.place
    unit = unit_of(place.metres_per_unit)
    if unit is not None:
        return recording, unit.short, place.up
    return recording.moved(place.metres_per_unit * 1000, rot.IDENTITY), "mm", place.up


def labelling_of(entry: MarkerEntry, solution: Solution) -> dict[str, str | None]:
    """Which segment each marker goes with: what was said by hand, and what was found for the others."""
    names, segments = solution.figure.structure.names, solution.laid.segments
    found: dict[str, str | None] = {
        label: names[segments[m]] if segments[m] >= 0 else None for m, label in enumerate(entry.recording.labels)
    }
    return found | dict(entry.labelling)
