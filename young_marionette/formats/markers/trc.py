"""TRC: a table of markers in text, a row per frame, three columns per marker under two lines of heads."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path

import numpy as np

from ...core.errors import InputError
from ...core.figure.declared import Declared
from ...core.findings import finding
from ...core.markers.recording import Recording
from ..files import Output
from ..source_file import SourceFile
from .parts import MARKER_UNITS, MarkerPart, recording_of
from .text import lines_of, number, on_all_frames, table


def read(path: Path) -> SourceFile:
    """Read a TRC file (a SourceFile with one MarkerPart)."""
    path = Path(path)
    lines = lines_of(path)
    facts, heads, start = _head(path.name, lines)
    split = _splitter(lines[heads])
    labels = _labels(split(lines[heads])[2:], facts.get("nummarkers", np.nan))
    if not any(labels):
        raise InputError(f"{path.name} names no markers in its line {heads + 1}.")
    rows = [split(line) for line in lines[start:] if line.strip()]
    rows = [row for row in rows if np.isfinite(number(row[0]))]
    if not rows:
        raise InputError(f"{path.name} holds no frames.")
    values = table(path.name, rows, 2 + 3 * len(labels))
    notes = []
    announced = facts.get("numframes", np.nan)
    if np.isfinite(announced) and announced != len(rows) and not _skips(values[:, 0]):
        notes.append(finding("other frames", announced=int(announced), there=len(rows)))
    if np.isfinite(facts.get("nummarkers", np.nan)) and facts["nummarkers"] != len(labels):
        notes.append(finding("markers differ", announced=int(facts["nummarkers"]), markers=len(labels)))
    rate = facts.get("datarate", np.nan)
    times = values[:, 1]
    step = np.median(np.diff(times)) if len(times) > 1 else np.nan
    if not rate > 0:
        rate = 1 / step if step > 0 else 100.0
    unit = MARKER_UNITS.get(str(facts.get("units", "")).strip().lower())
    first = int(values[0, 0]) if np.isfinite(values[0, 0]) and abs(values[0, 0]) < 1e9 else 0
    points, skipped = on_all_frames(values[:, 2:].reshape(len(rows), len(labels), 3), values[:, 0])
    if skipped:
        notes.append(finding("frames left out", count=skipped))
    recording, more = recording_of(path.stem, labels, points, float(rate), first)
    return SourceFile(path, "TRC", (MarkerPart(path.stem, recording, (*notes, *more), Declared(unit)),))


def _skips(numbers: np.ndarray) -> bool:
    """Whether rows are numbered with some left out."""
    steps = np.diff(numbers)
    return len(steps) > 1 and bool(np.isfinite(steps).all()) and bool(steps.max() > 1.5 * np.median(steps))


def _labels(cells: list[str], announced: float) -> list[str]:
    """A label for each marker, empty for one without: over the first of its three columns, or one behind the other."""
    if any(cell for n, cell in enumerate(cells) if n % 3):
        return [cell for cell in cells if cell]  # without blank cells for Y and Z
    labels = cells[::3]
    count = max((n + 1 for n, label in enumerate(labels) if label), default=0)
    if np.isfinite(announced) and count < announced <= len(labels):
        count = int(announced)
    return labels[:count]


def _head(label: str, lines: list[str]) -> tuple[dict, int, int]:
    """``(facts by their lower-case names, the line with the markers' labels, the first line of numbers)``."""
    for n, line in enumerate(lines[:40]):
        if re.match(r"\s*Frame#?\s", line, re.I) and re.search(r"\bTime\b", line, re.I):
            words, values = ((re.split(r"\s+", lines[n - k].strip()) if n >= k else []) for k in (2, 1))
            facts: dict = dict(zip(map(str.lower, words), values))
            facts = {k: v if k == "units" else number(v) for k, v in facts.items()}
            return facts, n, n + 2
    raise InputError(f"{label} has no line that begins with Frame# and Time, as a TRC file has.")


def _splitter(line: str) -> Callable[[str], list[str]]:
    """How lines like this one are cut into words."""
    if "\t" in line:
        return lambda text: [word.strip() for word in text.split("\t")]
    return lambda text: text.split()


def encode_markers(path: Path, recording: Recording, unit: str, up: str) -> list[Output]:
    """The file that holds a recording, whose points are in ``unit`` (such as ``"mm"``). TRC does not say which axis is up."""
    count, frames, rate = len(recording), recording.frames, f"{recording.rate:.6g}"
    names = [label.replace("\t", " ") for label in recording.labels]
    head = [
        f"PathFileType\t4\t(X/Y/Z)\t{path.name}",
        "DataRate\tCameraRate\tNumFrames\tNumMarkers\tUnits\tOrigDataRate\tOrigDataStartFrame\tOrigNumFrames",
        "\t".join((rate, rate, str(frames), str(count), unit, rate, str(recording.first), str(frames))),
        "Frame#\tTime\t" + "\t\t\t".join(names),
        "\t\t" + "\t".join(f"{axis}{n}" for n in range(1, count + 1) for axis in "XYZ"),
        "",
    ]
    digits = {"m": 6, "cm": 4}.get(unit, 3)
    flat = recording.points.reshape(frames, -1)
    rows = []
    for n, row in enumerate(flat):
        numbers = ("" if v != v else f"{v:.{digits}f}" for v in row.tolist())
        rows.append(f"{n + recording.first}\t{n / recording.rate:.6f}\t" + "\t".join(numbers))
    return [Output(path, ["\n".join([*head, *rows, ""]).encode()])]
