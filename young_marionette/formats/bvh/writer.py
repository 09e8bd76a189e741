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
    order = clip.skeleton.depth_first
    yield _header(clip.skeleton, layout).encode()
    yield f"MOTION\nFrames: {clip.frames}\nFrame Time: {1 / clip.rate:.9f}\n".encode()
    table = _table(clip, layout, order)
    # 2 micrometres at the coarsest, so that five roundings along a chain stay under the tolerance
    places = int(np.clip(np.ceil(-np.log10(2e-6 / metres_per_unit)), 4, 12))
    decimals = np.array(
        [_DEGREES if c.endswith("rotation") else places for j in order for c in layout.channels[j]], int
    )
    step = max(1, _BLOCK // max(table.shape[1], 1))
    for start in range(0, clip.frames, step):
        yield rows_of_text(table[start : start + step], decimals) or b"\n" * len(table[start : start + step])


def _table(clip: Clip, layout: Layout, order: tuple[int, ...]) -> np.ndarray:
    """The numbers of all frames ``(frames, channels)``, their columns in the order in which the header lists the joints."""
    width = sum(map(len, layout.channels))
    table, column = np.empty((clip.frames, width)), 0
    turns, moves = as_rows(clip.rotations), as_rows(clip.translations)
    place = {int(j): moves[i] for i, j in enumerate(clip.moving)}
    for joint in order:
        channels = layout.channels[joint]
        axes = [c[0] for c in channels if c.endswith("rotation")]
        angles = dict(zip(axes, _degrees(axes, turns[joint])))
        for channel in channels:
            if channel.endswith("rotation"):
                table[:, column] = angles[channel[0]]
            else:
                axis = "XYZ".index(channel[0])
                table[:, column] = place[joint][axis] if joint in place else clip.skeleton.offsets[joint, axis]
            column += 1
    return table


def _degrees(axes: list[str], turn: np.ndarray) -> np.ndarray:
    if len(axes) == 3:
        return np.degrees(rot.to_euler_rows("".join(axes), turn))
    return np.zeros((len(axes), turn.shape[1]))


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

    open_joints: list[int] = []
    for joint in skeleton.depth_first:
        while open_joints and open_joints[-1] != skeleton.parents[joint]:
            open_joints.pop()
            lines.append("\t" * len(open_joints) + "}")
        depth = len(open_joints)
        indent, inner = "\t" * depth, "\t" * (depth + 1)
        lines += [
            f"{indent}{'JOINT' if depth else 'ROOT'} {names[joint]}",
            indent + "{",
            offset(skeleton.offsets[joint], inner),
            f"{inner}CHANNELS {len(layout.channels[joint])} {' '.join(layout.channels[joint])}".rstrip(),
        ]
        if np.isfinite(skeleton.tips[joint, 0]):
            lines += [inner + "End Site", inner + "{", offset(skeleton.tips[joint], inner + "\t"), inner + "}"]
        open_joints.append(joint)
    lines += ["\t" * depth + "}" for depth in reversed(range(len(open_joints)))]
    return "\n".join(lines) + "\n"
