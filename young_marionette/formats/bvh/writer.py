"""Writing BVH: the hierarchy as it was read, the motion formatted in large blocks."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from ...core import rotations as rot
from ...core.clip import as_rows
from ...core.rebase import rebase, rebase_clip
from ..files import Output
from ..transforms import different
from ..wanted import MOTION_ALONE, Wanted
from .digits import rows_of_text
from .layout import default_layout

if TYPE_CHECKING:
    from ...core.clip import Clip
    from ...core.skeleton import Skeleton
    from .layout import Layout


_BLOCK = 1 << 16  # numbers formatted in one go
_DEGREES = 6


def encode(path: Path, clip: Clip, layout: Layout | None = None, wanted: Wanted = MOTION_ALONE) -> list[Output]:
    """The files (list of Output) of ``clip``, given in the file's own unit and axes.

    BVH has no rest rotations: a skeleton that has some is given joint axes along the world's.
    The metres per unit set how many decimals keep places within a hundredth of a millimetre.
    """
    if rot.angle(clip.skeleton.rest).max(initial=0) > 1e-9:
        clip = rebase_clip(clip, *rebase(clip.skeleton))
    layout = layout or default_layout(clip.skeleton, clip.moving)
    turning = np.flatnonzero(rot.angle(clip.rotations).max(0) > 1e-9)
    layout = layout.for_motion({int(j) for j in clip.moving}, {int(j) for j in turning})
    return [Output(path, _chunks(clip, layout, wanted.metres_per_unit))]


def _chunks(clip: Clip, layout: Layout, metres_per_unit: float) -> Iterator[bytes]:
    yield _header(clip.skeleton, layout).encode()
    yield f"MOTION\nFrames: {clip.frames}\nFrame Time: {1 / clip.rate:.9f}\n".encode()
    table = _table(clip, layout)
    # 2 micrometres at the coarsest, so that five roundings along a chain stay under the tolerance
    places = int(np.clip(np.ceil(-np.log10(2e-6 / metres_per_unit)), 4, 12))
    decimals = np.array([_DEGREES if c.endswith("rotation") else places for cs in layout.channels for c in cs], int)
    step = max(1, _BLOCK // max(table.shape[1], 1))
    for start in range(0, clip.frames, step):
        yield rows_of_text(table[start : start + step], decimals) or b"\n" * len(table[start : start + step])


def _table(clip: Clip, layout: Layout) -> np.ndarray:
    width = sum(map(len, layout.channels))
    table, column = np.empty((clip.frames, width)), 0
    turns, moves = as_rows(clip.rotations), as_rows(clip.translations)
    place = {int(j): moves[i] for i, j in enumerate(clip.moving)}
    for joint, channels in enumerate(layout.channels):
        order = [c[0] for c in channels if c.endswith("rotation")]
        angles = dict(zip(order, _degrees(order, turns[joint])))
        for channel in channels:
            if channel.endswith("rotation"):
                table[:, column] = angles[channel[0]]
            else:
                axis = "XYZ".index(channel[0])
                table[:, column] = place[joint][axis] if joint in place else clip.skeleton.offsets[joint, axis]
            column += 1
    return table


def _degrees(order: list[str], turn: np.ndarray) -> np.ndarray:
    if len(order) == 3:
        return np.degrees(rot.to_euler_rows("".join(order), turn))
    return np.zeros((len(order), turn.shape[1]))


def _names(names: tuple[str, ...]) -> list[str]:
    """Joint names that the format can hold: on one line, without braces, none empty; other names stay as they are."""
    plain = [re.sub(r"[\x00-\x1f\x7f-\x9f\u2028\u2029{}]", "_", n).strip() or "joint" for n in names]
    return list(different(plain)[0]) if plain != list(names) else plain


def _number(value: float) -> str:
    return repr(float(value)).removesuffix(".0") if value else "0"


def _header(skeleton: Skeleton, layout: Layout) -> str:
    lines, names = ["HIERARCHY"], _names(layout.names)

    def offset(values: np.ndarray, indent: str) -> str:
        return f"{indent}OFFSET {' '.join(_number(v) for v in values)}"

    stack: list[tuple[int | None, int]] = [(j, 0) for j in reversed(range(len(skeleton))) if skeleton.parents[j] < 0]
    while stack:
        joint, depth = stack.pop()
        if joint is None:
            lines.append("\t" * depth + "}")
            continue
        indent, inner = "\t" * depth, "\t" * (depth + 1)
        lines += [
            f"{indent}{'JOINT' if depth else 'ROOT'} {names[joint]}",
            indent + "{",
            offset(skeleton.offsets[joint], inner),
            f"{inner}CHANNELS {len(layout.channels[joint])} {' '.join(layout.channels[joint])}".rstrip(),
        ]
        stack.append((None, depth))
        if np.isfinite(skeleton.tips[joint, 0]):
            lines += [inner + "End Site", inner + "{", offset(skeleton.tips[joint], inner + "\t"), inner + "}"]
        stack.extend((c, depth + 1) for c in reversed(skeleton.children[joint]))
    return "\n".join(lines) + "\n"
