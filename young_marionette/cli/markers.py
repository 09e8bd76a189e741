"""The command ``solve``, and what ``info`` tells of recordings."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from ..core import rotations as rot
from ..core.errors import InputError
from ..core.figure.placement import axis_vector
from ..core.markers.faults import GAP, usual_distance
from ..core.units import METRES, UNITS
from ..project.markers.entry import take_of
from ..project.markers.showing import unknown_segments
from ..wording.facts import fact_words
from ..wording.findings import counted, finding_words
from ..wording.markers import fault_words, mend_words, segment_words
from .console import print_json, say

if TYPE_CHECKING:
    from argparse import Namespace

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
    check_results([out, kept], [asked.markers, asked.figure, asked.labels])
    check_writable(out, asked.overwrite)
    if kept:
        check_free(kept, asked.overwrite)
    figure = None if asked.figure is None else files.load_figure(asked.figure)
    labelling = {} if asked.labels is None else files.load_labelling(asked.labels)
    entry = open_recording(asked.markers, asked.subject)
    if entry is None:
        raise InputError(f"{asked.markers.name} holds no recording of markers; C3D, TRC and tables of markers do.")
    if frames is not None:
        if frames[1] >= entry.recording.frames:
            raise InputError(f"{entry.name} has the frames 0 to {entry.recording.frames - 1}, not {frames[1]}.")
        entry = entry.changed(trim=frames)
    entry = replace(entry, labelling=tuple(labelling.items()), figure=figure)
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


def convert(
    entry: MarkerEntry, asked: Namespace, frames: tuple[int, int] | None, metres: float | None, axis: str | None
) -> None:
    """Write a recording as markers again, in another format, unit or world, or a part of it."""
    from ..formats.files import check_results
    from ..formats.registry import write_markers

    if asked.fps is not None:
        raise InputError("Markers are written at the rate that they were recorded at; leave --fps away.")
    if frames is not None and frames[1] >= entry.recording.frames:
        raise InputError(f"{entry.name} has the frames 0 to {entry.recording.frames - 1}, not {frames[1]}.")
    check_results([asked.out], [asked.file])
    place = entry.place
    unit = place.metres_per_unit if metres is None else metres
    up = place.up if axis is None else f"+{axis}"
    recording = entry.recording if frames is None else entry.recording.cut(*frames)
    short = next((u.short for u in UNITS if abs(u.metres / unit - 1) < 1e-6), "m")
    factor = place.metres_per_unit / METRES[short]
    turn = rot.between(axis_vector(place.up), axis_vector(up))
    residuals = None if recording.residuals is None else recording.residuals * factor
    points = rot.rotate(turn, recording.points * factor)
    write_markers(asked.out, replace(recording, points=points, residuals=residuals), short, up, asked.overwrite)
    if asked.as_json:
        print_json(
            {"in": str(asked.file), "out": str(asked.out), "markers": len(recording), "frames": recording.frames}
        )
    else:
        say(f"Wrote {asked.out}")


def told_of(entry: MarkerEntry, solution: Solution) -> dict:
    """What a solved recording tells, as plain data: metres, frames from 0 of the whole recording."""
    labels, first = entry.recording.labels, entry.span[0]
    structure, figure = solution.figure.structure, solution.figure
    usual = usual_distance(solution.off)
    with np.errstate(all="ignore"):
        rms = np.sqrt(np.nanmean(solution.off**2, axis=0))
    own = {labels[m]: n for n, m in enumerate(solution.on)}
    # A single bone has its length from its joint to the next.
    lengths = {
        name: round(float(np.linalg.norm(figure.offsets[j])), 5) for j, name in enumerate(structure.names) if j > 0
    }
    return {
        "markers": [
            {
                "marker": label,
                "segment": structure.names[s] if (s := int(solution.laid.segments[m])) >= 0 else None,
                "why": solution.laid.why[m],
                "sure": round(float(solution.laid.sure[m]), 3),
                "residual_mm": _mm(usual[own[label]]) if label in own else None,
                "rms_mm": _mm(rms[own[label]]) if label in own else None,
            }
            for m, label in enumerate(labels)
        ],
        "residual_mm": _mm(np.nanmedian(solution.off)),
        "figure": {"stature": round(figure.stature, 4), "offsets": lengths},
        "unknown": unknown_segments(solution),
        "faults": [
            {
                "marker": labels[fault.marker],
                "kind": fault.kind,
                "first": fault.first + first,
                "last": fault.last + first,
                "mended": fault.mended,
                **({} if fault.other is None else {"with": labels[fault.other] if isinstance(fault.other, int) else fault.other}),
            }
            for fault in solution.faults
        ],
    }  # fmt: skip


def _mm(metres: float) -> float | None:
    return round(float(metres) * 1000, 3) if np.isfinite(metres) else None


def _print_solved(entry: MarkerEntry, solution: Solution, told: dict, out: object) -> None:
    figure = solution.figure
    say(
        f"{entry.name}: {counted(len(solution.on), 'marker')} on a figure of {figure.stature:.2f} m; usually "
        f"{told['residual_mm']:.1f} mm off"
    )
    if told["unknown"]:
        say("No marker tells of: " + ", ".join(map(segment_words, told["unknown"])))
    first = entry.span[0]
    gaps = [f for f in solution.faults if f.kind == GAP]
    for fault in solution.faults:
        if fault.kind != GAP:
            shifted = replace(fault, first=fault.first + first, last=fault.last + first)
            say(f"{fault_words(shifted, entry.recording.labels)} {mend_words(fault)}")
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
        "facts": [{"code": f.code, **fact_words(f)._asdict(), "sure": f.sure} for f in entry.facts],
        "oddities": [finding_words(o).text for o in entry.oddities],
    }


def print_info(entry: MarkerEntry) -> None:
    """The facts of a recording as a table."""
    say(f"{entry.path}: {entry.format}, {counted(len(entry.recording), 'marker')}")
    for fact in entry.facts:
        words = fact_words(fact)
        say(f"{words.label:<12} {words.value + ('' if fact.sure else ' (a guess)'):<13} {words.evidence}")
    say("Markers: " + ", ".join(entry.recording.labels))
    for oddity in entry.oddities:
        say(f"Note: {finding_words(oddity).text}")
