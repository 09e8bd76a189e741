"""The path of a figure: where its hips are over the floor, how high, and which way they face, over time."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..filters.windows import gaussian
from ..kinematics import forward_rows

if TYPE_CHECKING:
    from ..clip import Clip


@dataclass(frozen=True, eq=False)
class Path:
    """``places (3, frames)``: metres; ``headings (frames,)``: radians about the vertical away from facing ahead, unwrapped."""

    places: np.ndarray
    headings: np.ndarray


def path_of(clip: Clip, hips: int, smooth: float = 0.0) -> Path:
    """The path of a clip in our world whose hips are the joint ``hips``, smoothed over some seconds."""
    places, turns = forward_rows(clip, [hips])
    path = Path(places[hips], heading_of(turns[hips], clip.skeleton.rest_world[1][hips]))
    if smooth <= 0 or clip.frames < 3:
        return path
    rows = np.concatenate([path.places, path.headings[None]])[None]
    soft = gaussian(rows, clip.rate, smooth)[0]
    return Path(soft[:3], soft[3])


def heading_of(turns: np.ndarray, rest: np.ndarray) -> np.ndarray:
    """The heading ``(frames,)`` in radians, unwrapped, of world rotations ``(4, frames)`` of what faces ahead at ``rest (4,)``.

    It is the twist about the vertical (swing-twist decomposition): it holds for a figure that bends, lies or kneels, too.
    Where a figure is upside down, and has none, it goes on from the frames before.
    """
    change = rot.product_rows(turns, rot.conjugate(rest)[:, None])
    size = np.hypot(change[1], change[3])
    angles = 2 * np.arctan2(change[1], change[3])
    known = size > 1e-3
    if not known.all() and known.any():
        at = np.flatnonzero(known)
        angles = angles[at[np.clip(np.searchsorted(at, np.arange(len(angles)), side="right") - 1, 0, len(at) - 1)]]
    return np.unwrap(angles) if known.any() else np.zeros(len(angles))
