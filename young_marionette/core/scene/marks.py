"""Marks on the stage at what touches: rings under heels, diamonds under balls, hexagons at hands, squares elsewhere."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from ..contacts.contact import Contacts
    from ..contacts.points import ContactPoint
    from .figure import Figure

_SIZE = 0.032  # of the stature
_CORNERS = {"heel": 20, "toe": 4, "hand": 6}
_OVER = 0.004  # metres over the floor, so that the floor does not hide them


def contact_marks(
    figure: Figure, points: Sequence[ContactPoint], contacts: Contacts, frame: int, stature: float
) -> Iterator[tuple[str, np.ndarray]]:
    """``(name of the point, closed line (n, 3))`` of each point that touches in a frame, where the figure has it."""
    for point in points:
        if not any(c.first <= frame <= c.last for c in contacts.of(point.name)):
            continue
        if point.joint >= len(figure.positions):
            continue  # the points are another skeleton's, whose figure is about to be shown
        place = figure.positions[point.joint] + rot.rotate(figure.rotations[point.joint], point.offset)
        corners = _CORNERS.get(point.name.rpartition(" ")[2], 4)
        turn = np.pi / 4 if corners == 4 and not point.name.endswith("toe") else 0.0
        angles = np.linspace(0, 2 * np.pi, corners + 1) + turn
        ring = np.stack([np.sin(angles), np.zeros(corners + 1), np.cos(angles)], 1)
        for share in (1.0, 0.82):  # a line of one pixel is lost on large screens
            yield point.name, place + figure.shift + [0, _OVER, 0] + ring * (share * _SIZE * stature)
