"""Points on the stage as small balls, and the lines between them."""

from __future__ import annotations

import numpy as np

from .. import rotations as rot
from .figure import Bones, Figure

DOTS, ODD = "dots", "odd dots"
_RADIUS = 0.011  # metres
_LARGE = 1.5  # times, of those that are off


def dots(kind: str, places: np.ndarray, chosen: tuple[int, ...] = ()) -> Figure:
    """Points ``(n, 3)`` (metres) as a figure of balls; ``kind`` DOTS, or ODD for those that are not where they should be."""
    count = len(places)
    radius = np.full(count, _RADIUS * (_LARGE if kind == ODD else 1.0))
    radius[list(chosen)] *= _LARGE
    none = np.zeros(0, int)
    bones = Bones(none, none, np.zeros((0, 3)), np.zeros(0), radius, -1, 0.0)
    return Figure(kind, "", bones, places, np.tile(rot.IDENTITY, (count, 1)), chosen=chosen)


def chain(places: np.ndarray) -> np.ndarray:
    """Some points ``(n, 3)`` joined to a line that goes from each to the nearest that is left."""
    rest, order = list(range(1, len(places))), [0]
    while rest:
        far = np.linalg.norm(places[rest] - places[order[-1]], axis=-1)
        order.append(rest.pop(int(np.argmin(far))))
    return places[order]
