"""Stand-ins of what a clip was acted on: boxes for rungs, rails, benches and boards, drawn by their edges."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

Triple = tuple[float, float, float]


@dataclass(frozen=True)
class Box:
    """A box that stands straight in the room of a placed clip: its ``centre`` and ``size``, metres."""

    centre: Triple
    size: Triple


def edges(box: Box, in_room: Callable[[np.ndarray], np.ndarray] = lambda places: places) -> Iterator[np.ndarray]:
    """The edges of a box as lines ``(n, 3)``; ``in_room``: where a place of the clip's room is."""
    x, y, z = np.array(box.size) / 2
    ring = np.array([(-x, 0, -z), (x, 0, -z), (x, 0, z), (-x, 0, z), (-x, 0, -z)])
    low, high = (in_room(np.array(box.centre) + ring + [0, h, 0]) for h in (-y, y))
    yield low
    yield high
    for corner in range(4):
        yield np.stack([low[corner], high[corner]])
