"""CSV tables of markers: columns of coordinates under one, two or three lines of heads, in many dialects."""

from __future__ import annotations

import csv
import re
from itertools import pairwise
from pathlib import Path

import numpy as np

from ...core.errors import InputError
from ...core.figure.declared import Declared
from ...core.findings import finding
from ..source_file import SourceFile
from .parts import MARKER_UNITS, MarkerPart, recording_of
from .text import lines_of, number, on_all_frames, table

_TIME = re.compile(r"^(time|t|seconds?|sec)\b", re.I)
_FRAME = re.compile(r"^(frame|frames|frame#|sample|index|field|nr|no)\b", re.I)
_AXIS = re.compile(r"^(.*?)[\s_.:(\[-]*([xyz])[)\]]?$", re.I)
_UNIT = re.compile(
    r"[\[(]\s*(mm|cm|m|in|inch|inches|millimet(?:er|re)s?|centimet(?:er|re)s?|met(?:er|re)s?)\s*[\])]", re.I
)
_TIME_UNIT = re.compile(r"[\[(_ ]\s*(ms|msec|milliseconds?|s|sec|seconds?)\s*(?:[\])]|$)", re.I)
_HEADS = 60  # lines that may come before the numbers


def is_table(head: bytes) -> bool:
    """Whether the first bytes of a file are those of a table of markers: heads that name X, Y and Z, then rows of numbers."""
    if b"\0" in head:
        return False
    text = head.decode("latin-1")
    lines = text.splitlines()[: _HEADS + 2]
    try:
        mark = _delimiter(lines)
        first = _first_row(lines, mark)
    except (InputError, csv.Error):
        return False
    heads = " ".join(lines[:first]).lower()
    return first > 0 and all(re.search(rf"(?:^|[^a-z]){axis}(?:[^a-z]|$)", heads) for axis in "xyz")


def read(path: Path) -> SourceFile:
    """Read a table of markers (a SourceFile with one MarkerPart)."""
    path = Path(path)
    lines = lines_of(path)
    mark = _delimiter(lines[:_HEADS])
    start = _first_row(lines, mark)
    try:
        heads = [[w.strip() for w in row] for row in csv.reader(lines[:start], delimiter=mark)]
        rows = [row for row in csv.reader(lines[start:], delimiter=mark) if row and any(w.strip() for w in row)]
    except csv.Error as error:
        raise InputError(f"{path.name} can't be read as a table: {error}.") from None
    width = max(map(len, rows))
    columns = _columns(heads, width)
    markers = _markers(columns)
    if not markers:
        raise InputError(f"{path.name} names no columns of X, Y and Z in its heads.")
    values = table(path.name, rows, width)
    points = np.stack([values[:, list(of)] for of in markers.values()], 1)
    rate, notes = _rate(path.name, heads, columns, values)
    unit = next((MARKER_UNITS[m[1].lower()] for row in heads for w in row if (m := _UNIT.search(w))), None)
    if unit is None:
        unit = _told(heads, ("unit", "units", "length units"))
    number_at = next((c for c, words in enumerate(columns) if words and _FRAME.match(words[-1])), None)
    time_at = _time_column(columns)
    told = next((values[:, at] for at in (number_at, time_at) if at is not None), None)
    points, skipped = (points, 0) if told is None else on_all_frames(points, told)
    if skipped:
        notes.append(finding("frames left out", count=skipped))
    first = values[0, number_at] if number_at is not None else 0
    first = int(first) if np.isfinite(first) and abs(first) < 1e9 else 0
    recording, more = recording_of(path.stem, list(markers), points, rate, first)
    return SourceFile(path, "CSV", (MarkerPart(path.stem, recording, (*notes, *more), Declared(unit)),))


def _delimiter(lines: list[str]) -> str:
    counts = {mark: sum(line.count(mark) for line in lines) for mark in (",", ";", "\t")}
    # A comma may be the decimal one: another mark that is there is the one between columns.
    if counts[";"] >= len(lines) and counts[";"]:
        return ";"
    return max(counts, key=lambda mark: counts[mark])


def _first_row(lines: list[str], mark: str) -> int:
    """The first line of numbers; InputError where there is none."""
    for n, line in enumerate(lines[:_HEADS]):
        words = [w.strip().strip('"') for w in line.split(mark)]
        numbers = [w for w in words if np.isfinite(number(w))]
        filled = [w for w in words if w]
        if len(words) >= 3 and len(numbers) >= 3 and len(numbers) >= 0.6 * len(filled):
            following = [w.strip() for w in lines[n + 1].split(mark)] if n + 1 < len(lines) else words
            if len(following) >= len(words) - 1:
                return n
    raise InputError("There is no row of numbers.")


def _columns(heads: list[list[str]], width: int) -> list[list[str]]:
    """The words over each column, from top to bottom; a word over several columns stands over the first of them."""
    wide = [row for row in heads if sum(1 for w in row if w) >= 2]
    table_heads = [row for row in wide if len(row) >= 0.5 * width or row is wide[-1]][-4:] if wide else []
    columns: list[list[str]] = [[] for _ in range(width)]
    for row in table_heads:
        word = ""
        spread = sum(1 for w in row if w) < 0.67 * width
        for c in range(width):
            own = row[c] if c < len(row) else ""
            word = own or (word if spread else "")
            columns[c].append(word)
    return columns


def _markers(columns: list[list[str]]) -> dict[str, tuple[int, int, int]]:
    """``{label: columns of X, Y, Z}``."""
    found: dict[str, dict[str, int]] = {}
    for c, words in enumerate(columns):
        filled = [w for w in words if w]
        if not filled or _TIME.match(filled[-1]) or _FRAME.match(filled[-1]):
            continue
        match = next((m for w in reversed(filled) if (m := _AXIS.match(_UNIT.sub("", w).strip()))), None)
        if match is None:
            continue
        stem, axis = match[1].strip(" _.:-"), match[2].upper()
        if not stem:
            above = [w for w in filled if not _AXIS.match(_UNIT.sub("", w).strip()) or len(w) > 3]
            kinds = ("position", "rotation", "marker", "bone", "rigid body", "type", "name", "id", "trajectories")
            above = [w for w in above if w.lower() not in kinds]
            stem = above[0] if above else ""
        if any(w.lower() == "rotation" for w in filled) or not stem:
            continue
        found.setdefault(stem, {}).setdefault(axis, c)
    return {label: (a["X"], a["Y"], a["Z"]) for label, a in found.items() if len(a) == 3}


def _told(heads: list[list[str]], names: tuple[str, ...]) -> float | None:
    """A unit that a head names beside a word such as ``Units``."""
    for row in heads:
        for word, value in pairwise(row):
            if word.lower().strip(" :") in names and value.lower() in MARKER_UNITS:
                return MARKER_UNITS[value.lower()]
    return None


def _time_column(columns: list[list[str]]) -> int | None:
    """The column of times, or None."""
    return next((c for c, words in enumerate(columns) if words and _TIME.match(words[-1] or words[0])), None)


def _rate(label: str, heads: list[list[str]], columns: list[list[str]], values: np.ndarray) -> tuple[float, list]:
    """Frames per second: of a column of times, or of a head that tells them, else 100."""
    for row in heads:
        for word, value in pairwise(row):
            if re.search(r"\b(rate|frequency|fps|hz)\b", word, re.I) and number(value) > 0:
                return number(value), []
    at = _time_column(columns)
    if at is not None and len(values) > 1:
        step = float(np.nanmedian(np.diff(values[:, at])))
        if step > 0:
            unit = next((m[1].lower() for w in columns[at] if (m := _TIME_UNIT.search(w))), "")
            # Without a unit, whole steps are milliseconds: nobody is recorded once in a second.
            guessed = not unit and step >= 1
            rate = 1000 / step if guessed or unit.startswith("m") else 1 / step
            usual = round(rate) if abs(rate - round(rate)) < 0.02 * rate and rate > 5 else rate
            return float(usual), [finding("rate guessed", rate=float(usual))] if guessed else []
    return 100.0, [finding("rate guessed", rate=100.0)]
