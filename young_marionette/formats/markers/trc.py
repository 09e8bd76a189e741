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
from .text import lines_of, number, table


def read(path: Path) -> SourceFile:
    """Read a TRC file (a SourceFile with one MarkerPart)."""
    path = Path(path)
    lines = lines_of(path)
    facts, heads, start = _head(path.name, lines)
    split = _splitter(lines[heads])
    labels = [word.strip() for word in split(lines[heads])[2:]]
    labels = [label for label in labels if label]
    if not labels:
        raise InputError(f"{path.name} names no markers in its line {heads + 1}.")
    rows = [split(line) for line in lines[start:] if line.strip()]
    rows = [row for row in rows if np.isfinite(number(row[0]))]
    if not rows:
        raise InputError(f"{path.name} holds no frames.")
    values = table(path.name, rows, 2 + 3 * len(labels))
    notes = []
    announced = facts.get("numframes", np.nan)
    if np.isfinite(announced) and announced != len(rows):
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
    points = values[:, 2:].reshape(len(rows), len(labels), 3)
    recording, more = recording_of(path.stem, labels, points, float(rate), first)
    return SourceFile(path, "TRC", (MarkerPart(path.stem, recording, (*notes, *more), Declared(unit)),))


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
