"""The command ``solve``, and what ``info`` tells of recordings."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from ..core import rotations as rot
from ..core.errors import InputError
from ..core.figure.placement import axis_vector
from ..core.findings import finding
from ..core.markers.faults import GAP
from ..core.markers.seen import mean as seen_mean
from ..core.markers.solving import is_likely_stature
from ..core.units import UNITS, unit_of
from ..project.markers.entry import take_of
from ..project.markers.showing import faults_of, marker_rows, told_faults, unknown_segments
from ..project.pairing import within
from ..wording.findings import counted, finding_words
from ..wording.markers import fault_words, mend_words, segment_words
from .console import print_json, say
from .report import found, print_facts, print_notes

if TYPE_CHECKING:
    from argparse import Namespace

    from ..core.findings import Finding
    from ..core.markers.reference import Reference
    from ..core.markers.solving import Solution
    from ..project.markers.entry import MarkerEntry


def solve(asked: Namespace) -> None:
    """Solve a recording and write the take, all files or none."""
    from ..formats.files import check_free, check_results, write_together
    from ..formats.registry import check_writable, encode
    from ..project.markers import files
    from ..project.opening import open_recording
    from .main import range_of

    frames, out, kept = range_of(asked.frames), asked.out, asked.save_figure
    check_results([out, kept], [asked.markers, asked.figure, asked.labels, asked.reference])
    check_writable(out, asked.overwrite)
    if kept:
        check_free(kept, asked.overwrite)
    figure = None if asked.figure is None else files.load_figure(asked.figure)
    labelling = {} if asked.labels is None else files.load_labelling(asked.labels)
    entry = open_recording(asked.markers, asked.subject)
    if entry is None:
        raise InputError(f"{asked.markers.name} holds no recording of markers; C3D, TRC and tables of markers do.")
    if frames is not None:
        entry = entry.changed(trim=within(entry.recording, frames))
    reference = None if asked.reference is None else _reference(asked)
    entry = replace(entry, labelling=tuple(labelling.items()), figure=figure, reference=reference)
    solution = entry.solved()
    take = take_of(entry, solution, asked.fps, out.stem)
    outputs = encode(out, take.take, up="Y", metres_per_unit=1.0)
    if kept:
        outputs += files.encode_figure(kept, solution.figure)
    write_together(outputs)
    told = told_of(entry, solution)
    if asked.as_json:
        print_json({"out": str(out), "frames": take.take.frames, "rate": take.take.rate, **told})
    else:
        _print_solved(entry, solution, told, out)


def _reference(asked: Namespace) -> Reference:
    from ..project.opening import open_recording

    entry = open_recording(asked.reference, asked.subject)
    found = None if entry is None else entry.own_reference
    if found is None:
        raise InputError(f"{asked.reference.name} holds no T-pose of markers: arms straight out, held still.")
    return found


def convert(
    entry: MarkerEntry, asked: Namespace, frames: tuple[int, int] | None, metres: float | None, axis: str | None
) -> None:
    """Write a recording as markers again, in another format, unit or world, or a part of it."""
    from ..formats.files import check_results
    from ..formats.registry import write_markers

    if asked.fps is not None:
        raise InputError("Markers are written at the rate that they were recorded at; leave --fps away.")
    check_results([asked.out], [asked.file])
    place = entry.place
    unit = unit_of(place.metres_per_unit if metres is None else metres) or UNITS[0]
    up = place.up if axis is None else f"+{axis}"
    recording = entry.recording if frames is None else entry.recording.cut(*within(entry.recording, frames))
    turn = rot.between(axis_vector(place.up), axis_vector(up))
    moved = recording.moved(place.metres_per_unit / unit.metres, turn)
    write_markers(asked.out, moved, unit.short, up, asked.overwrite)
    if asked.as_json:
        print_json(
            {"in": str(asked.file), "out": str(asked.out), "markers": len(recording), "frames": recording.frames}
        )
    else:
        say(f"Wrote {asked.out}")


def told_of(entry: MarkerEntry, solution: Solution) -> dict:
    """What a solved recording tells, as plain data: metres, frames from 0 of the whole recording."""
    labels = entry.recording.labels
    structure, figure = solution.figure.structure, solution.figure
    posed = None if entry.figure is not None else entry.reference or entry.own_reference
    # RMS of what is off, of the markers on the figure.
    rms = dict(zip((labels[m] for m in solution.on), np.sqrt(seen_mean(solution.off**2, axis=0)).tolist()))
    # A single bone has its length from its joint to the next.
    lengths = {
        name: round(float(np.linalg.norm(figure.offsets[j])), 5) for j, name in enumerate(structure.names) if j > 0
    }
    return {
        "markers": [
            {
                "marker": row.label,
                "segment": row.segment,
                "why": row.why,
                "sure": round(row.sure, 3),
                "residual_mm": _mm(row.residual),
                "rms_mm": _mm(rms.get(row.label)),
            }
            for row in marker_rows(entry, solution)
        ],
        "residual_mm": _mm(np.nanmedian(solution.off)),
        "reference": None if posed is None else posed.name,
        "figure": {"stature": round(figure.stature, 4), "offsets": lengths},
        "notes": [finding_words(note).text for note in notes_of(entry, solution)],
        "unknown": unknown_segments(solution),
        "faults": [
            {
                "marker": labels[fault.marker],
                "kind": fault.kind,
                "first": fault.first,
                "last": fault.last,
                "mended": fault.mended,
                **({} if fault.other is None else {"with": labels[fault.other] if isinstance(fault.other, int) else fault.other}),
            }
            for fault in faults_of(entry, solution)
        ],
    }  # fmt: skip


def notes_of(entry: MarkerEntry, solution: Solution) -> list[Finding]:
    """What was odd in the file, and about the figure that was fitted."""
    tall = [] if is_likely_stature(solution.figure) else [finding("stature", metres=solution.figure.stature)]
    return [*entry.oddities, *tall]


def _mm(metres: float | None) -> float | None:
    return round(float(metres) * 1000, 3) if metres is not None and np.isfinite(metres) else None


def _print_solved(entry: MarkerEntry, solution: Solution, told: dict, out: object) -> None:
    figure = solution.figure
    say(
        f"{entry.name}: {counted(len(solution.on), 'marker')} on a figure of {figure.stature:.2f} m; usually "
        f"{told['residual_mm']:.1f} mm off"
    )
    for note in told["notes"]:
        say(note)
    if told["unknown"]:
        say("No marker tells of: " + ", ".join(map(segment_words, told["unknown"])))
    for fault in told_faults(entry, solution):
        say(f"{fault_words(fault, entry.recording.labels)} {mend_words(fault)}")
    gaps = [f for f in solution.faults if f.kind == GAP]
    if gaps:
        say(f"{counted(len(gaps), 'gap')} in {counted(len({f.marker for f in gaps}), 'marker')}: bridged")
    say(f"Wrote {out}")


def info(entry: MarkerEntry) -> dict:
    """The facts of a recording as plain data."""
    recording, place = entry.recording, entry.place
    gaps = (~recording.seen).mean(0)
    return {
        "file": str(entry.path),
        "format": entry.format,
        "kind": "markers",
        "markers": list(recording.labels),
        "unlabelled": [label for label, u in zip(recording.labels, recording.unlabelled) if u],
        "subjects": list(entry.subjects),
        "rate": recording.rate,
        "frames": recording.frames,
        "first_frame": recording.first,
        "seconds": round(recording.seconds, 6),
        "metres_per_unit": place.metres_per_unit,
        "up": place.up,
        "in_use": list(place.use),
        "gaps": {label: round(float(share), 4) for label, share in zip(recording.labels, gaps) if share > 0},
        **found(entry),
    }


def print_info(entry: MarkerEntry) -> None:
    """The facts of a recording as a table."""
    say(f"{entry.path}: {entry.format}, {counted(len(entry.recording), 'marker')}")
    print_facts(entry)
    say("Markers: " + ", ".join(entry.recording.labels))
    print_notes(entry)
