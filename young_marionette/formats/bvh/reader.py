"""Reading BVH: the hierarchy word by word, the table of numbers in one sweep."""

from __future__ import annotations

import re
import warnings
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO

import numpy as np

from ...core import rotations as rot
from ...core.clip import Clip, from_rows
from ...core.errors import InputError
from ...core.findings import finding
from ..files import opened
from ..source_file import SkeletonPart, SourceFile
from .header import parse_header

if TYPE_CHECKING:
    from ...core.findings import Finding
    from ...core.skeleton import Skeleton
    from .layout import Layout


_MAX_HEADER, _PIECE = 16 << 20, 1 << 15
_MOTION = re.compile(rb"(?:^|(?<=[\s}]))MOTION(?=\s|$)", re.I)
_FRAMES = re.compile(rb"\s*Frames\s*:?\s*(\S+)[^\S\n]*\r?\n?", re.I)
_TIME = re.compile(rb"\s*Frame\s*Time\s*:?\s*(\S+)[^\S\n]*\r?\n?", re.I)
_COMMON_RATES = [float(r) for r in range(1, 1001)] + [r * 1000 / 1001 for r in (24, 30, 48, 60, 120)]


def read(path: Path) -> SourceFile:
    """Read a BVH file (a SourceFile with one clip, or none if it holds a skeleton only)."""
    path = Path(path)
    with opened(path) as file:
        text, start = _header_of(path.name, file)
        body = None
        if start is not None:
            file.seek(start)
            body = file.read()
    skeleton, layout, notes = parse_header(path.name, text)
    if body is None:
        notes.append(finding("no motion"))
        return SourceFile(path, "BVH", (SkeletonPart(path.stem, skeleton, (), layout, tuple(notes)),))
    rate, table = _table(path.name, body, sum(map(len, layout.channels)), notes)
    clip = _clip(path.stem, skeleton, layout, rate, table, notes)
    return SourceFile(path, "BVH", (SkeletonPart(path.stem, skeleton, (clip,), layout, tuple(notes)),))


def _header_of(label: str, file: BinaryIO) -> tuple[str, int | None]:
    """``(text before MOTION, where what comes after it begins)``; None where the file has no MOTION.

    Read in small pieces: a header has some kilobytes, whatever the motion has.
    """
    head, seen = bytearray(), 0
    while True:
        piece = file.read(_PIECE)
        head += piece
        # The word may lie across the seam of two pieces; one that ends with a piece may go on in the next.
        motion = _MOTION.search(head, max(seen - 16, 0))
        if motion is not None and (motion.end() < len(head) or not piece):
            return _decode(bytes(head[: motion.start()])), motion.end()
        if not piece:
            return _decode(bytes(head)), None
        if len(head) >= _MAX_HEADER:
            raise InputError(f"{label} has no MOTION within its first {_MAX_HEADER >> 20} MB.")
        seen = len(head)


def _decode(data: bytes) -> str:
    data = data.removeprefix(b"\xef\xbb\xbf").replace(b"\r\n", b"\n").replace(b"\r", b"\n")
    try:
        return data.decode()
    except UnicodeDecodeError:
        return data.decode("latin-1")


def _table(label: str, body: bytes, width: int, notes: list[Finding]) -> tuple[float, np.ndarray]:
    """The rate and the numbers ``(frames, width)`` of the part after MOTION."""
    frames = _FRAMES.match(body)
    time = _TIME.match(body, frames.end()) if frames else None
    if frames is None or time is None:
        raise InputError(f"{label}: after MOTION come the lines Frames and Frame Time, and they are missing.")
    announced = _number(label, "Frames", frames.group(1))
    seconds = _number(label, "Frame Time", time.group(1).replace(b",", b"."))
    if announced < 0 or announced != int(announced):
        raise InputError(f"{label}: Frames: {announced:g} is not a frame count.")
    if not 1e-4 <= seconds <= 60:
        raise InputError(f"{label}: a Frame Time of {seconds:g} seconds can't be used.")
    if width == 0:
        raise InputError(f"{label} has motion, but no joint has channels for it.")
    values = _values(label, body[time.end() :])
    rows, rest = divmod(len(values), width)
    cut = rest > 0 or (rows < announced and not body[-1:].isspace())
    if rest == 0 and cut:
        rows -= 1  # the last number may have been cut in two
    if rows < 1:
        raise InputError(f"{label} holds no whole frame: {len(values)} numbers for rows of {width}.")
    if rest and rows >= announced:
        raise InputError(f"{label}: {len(values)} numbers do not fill rows of {width} channels.")
    if rows != announced:
        notes.append(finding("other frames", announced=int(announced), there=rows))
    return _rate(seconds), values[: rows * width].reshape(rows, width)


def _number(label: str, what: str, word: bytes) -> float:
    try:
        value = float(word)
    except ValueError:
        value = np.nan
    if not np.isfinite(value):
        raise InputError(f"{label}: {what} needs a number, not '{word[:40].decode('latin-1')}'.")
    return value


def _values(label: str, block: bytes) -> np.ndarray:
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        try:
            values = np.fromstring(block, dtype=float, sep=" ")
        except (DeprecationWarning, ValueError):
            raise InputError(f"{label}: {_first_bad_word(block)}.") from None
    peak = np.abs(values).max(initial=0.0)
    if not peak < 1e12:  # also false for NaN
        row = int(np.argmax(~(np.abs(values) < 1e12)))
        raise InputError(f"{label}: the motion's number {row + 1} is {values[row]:g}, which no pose can have.")
    return values


def _first_bad_word(block: bytes) -> str:
    for row, line in enumerate(block.split(b"\n"), 1):
        for word in line.split():
            try:
                float(word)
            except ValueError:
                return f"row {row} of the motion has '{word[:40].decode('latin-1')}' where a number belongs"
    return "the motion holds a value that is not a number"


def _rate(seconds: float) -> float:
    """Frames per second; a rate people use, where only the rounding of Frame Time keeps it from being one."""
    nearest = min(_COMMON_RATES, key=lambda r: abs(1 / r - seconds))
    return nearest if abs(1 / nearest - seconds) < max(6e-7, 2e-6 * seconds) else 1 / seconds


def _clip(name: str, skeleton: Skeleton, layout: Layout, rate: float, table: np.ndarray, notes: list[Finding]) -> Clip:
    rows = np.ascontiguousarray(table.T)
    turns = np.empty((len(skeleton), 4, rows.shape[1]))
    moving, moves, column = [], [], 0
    for joint, channels in enumerate(layout.channels):
        block = rows[column : column + len(channels)]
        column += len(channels)
        order = [i for i, c in enumerate(channels) if c.endswith("rotation")]
        if order:
            turns[joint] = rot.from_euler_rows([channels[i][0] for i in order], np.radians(block[order]))
        else:
            turns[joint] = rot.IDENTITY[:, None]
        places = {channels[i][0]: block[i] for i in range(len(channels)) if channels[i].endswith("position")}
        if places:
            moving.append(joint)
            moves.append(_places(skeleton, joint, places, rows.shape[1], notes))
    moved = from_rows(np.stack(moves)) if moves else None
    return Clip(name, skeleton, rate, from_rows(turns), np.array(moving, int), moved)


def _places(
    skeleton: Skeleton, joint: int, places: dict[str, np.ndarray], frames: int, notes: list[Finding]
) -> np.ndarray:
    """Local translations ``(3, frames)``. Channels stand in place of the offset, as most programs write them."""
    offset = skeleton.offsets[joint]
    result = np.stack([places.get(axis, np.full(frames, offset[i])) for i, axis in enumerate("XYZ")])
    length = np.linalg.norm(offset)
    if frames > 2 and skeleton.parents[joint] >= 0 and length > 0 and np.linalg.norm(result.mean(1)) < 0.3 * length:
        notes.append(finding("positions added", joint=skeleton.names[joint]))
        result += offset[:, None]
    return result
