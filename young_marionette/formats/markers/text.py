"""What tables of markers in text share: the words of a file, and numbers in columns."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from ...core.errors import InputError
from ..files import opened

_MOST = 2 << 30  # bytes
_LONGEST = 1 << 22  # characters of one line


def lines_of(path: Path) -> list[str]:
    """The lines of a text file; InputError for what is too large or no text."""
    with opened(path) as file:
        data = file.read(_MOST + 1)
    if len(data) > _MOST:
        raise InputError(f"{path.name} is larger than {_MOST >> 30} GB, the most that can be read as a table.")
    if b"\0" in data[:4096]:
        raise InputError(f"{path.name} is a binary file, not a table.")
    data = data.removeprefix(b"\xef\xbb\xbf")
    try:
        text = data.decode()
    except UnicodeDecodeError:
        text = data.decode("latin-1")
    lines = text.splitlines()
    if any(len(line) > _LONGEST for line in lines):
        raise InputError(f"{path.name} has a line of more than {_LONGEST >> 20} million characters.")
    return lines


def number(text: str) -> float:
    """A number, with a comma or a point; NaN for what is none.

    >>> number(" 1,5"), number("nan"), number("")
    (1.5, nan, nan)
    """
    try:
        return float(text)
    except ValueError:
        pass
    try:
        return float(text.replace(",", "."))
    except ValueError:
        return float("nan")


_MOST_GAPS = 20  # times as many frames as there are rows


def on_all_frames(points: np.ndarray, numbers: np.ndarray) -> tuple[np.ndarray, int]:
    """``(points, how many frames were left out)``: with a gap for each frame that a table skips.

    ``points (rows, markers, 3)``; ``numbers (rows,)``: the frames or the times that the table tells of its rows. Where they do not
    rise by one step and multiples of it, the rows are what there is.
    """
    if len(numbers) < 3 or not np.isfinite(numbers).all():
        return points, 0
    steps = np.diff(numbers)
    step = float(np.median(steps))
    if step <= 0 or (steps <= 0).any():
        return points, 0
    places = (numbers - numbers[0]) / step
    at = np.round(places).astype(int)
    frames = int(at[-1]) + 1
    if np.abs(places - at).max() > 0.1 or (np.diff(at) < 1).any() or not len(at) < frames <= _MOST_GAPS * len(at):
        return points, 0
    whole = np.full((frames, *points.shape[1:]), np.nan)
    whole[at] = points
    return whole, frames - len(at)


def table(label: str, rows: list[list[str]], width: int) -> np.ndarray:
    """Numbers ``(rows, width)``: short rows are filled with NaN, what is beyond ``width`` is left away."""
    values = np.full((len(rows), width), np.nan)
    if width * len(rows) > 1 << 29:
        raise InputError(f"{label} holds more numbers than can be read.")
    for n, row in enumerate(rows):
        some = row[:width]
        try:
            values[n, : len(some)] = [float(v) if v else np.nan for v in some]
        except ValueError:
            values[n, : len(some)] = [number(v) for v in some]
    return values
