"""How far a transferred motion is from what it should be, frame by frame: slide, sink, float and angles to the source."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..contacts.points import point_rows
from ..humanoid.parts import NEXT
from ..kinematics import forward_rows
from ..stretches import stretches

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from ..clip import Clip
    from ..contacts.contact import Contacts
    from ..contacts.points import ContactPoint
    from ..matching.tying import String
    from .planting import Leg

SLIDE, SINK, FLOAT, LOWERED, TOUCHING, ANGLE = ("slide", "sink", "hover", "lowered", "touching", "angle")


@dataclass(frozen=True)
class Limits:
    """What is told as wrong where it is exceeded: metres."""

    slide: float = 0.01
    sink: float = 0.015
    touching: float = 0.02
    hover: float = 0.02


@dataclass(frozen=True, eq=False)
class Lane:
    """One number over time. ``values (frames,)``: metres, for angles radians; never negative, 0 where all is well.

    ``part``: the contact point of a slide, else the part of the body.
    """

    kind: str
    part: str
    values: np.ndarray

    @property
    def worst(self) -> float:
        return float(self.values.max(initial=0.0))

    @property
    def at(self) -> int:
        """The frame of the worst value."""
        return int(self.values.argmax()) if len(self.values) else 0

    def over(self, limit: float) -> list[tuple[int, int, float]]:
        """``(first, last, worst)`` of each stretch over a limit."""
        return [(a, b, float(self.values[a : b + 1].max())) for a, b in stretches(self.values > limit)]


def feet_lanes(clip: Clip, legs: Sequence[Leg], contacts: Contacts, floor: float = 0.0) -> Iterator[Lane]:
    """Slide per point of the feet, sink and float per foot, of a motion on a rig (``contacts`` in its frames).

    Slide: how far a point is from the middle of its own path while it stands. Sink: how deep the lower one of heel and
    ball is under the floor, at any time; float: how high it is over it while the source's foot is on the floor.
    """
    points = [point for leg in legs for point in (leg.heel, leg.toe)]
    if not points:
        return
    rows = dict(zip((p.name for p in points), point_rows(clip, points)))
    for name, places in rows.items():
        yield _slide(name, places, contacts)
    for leg in legs:
        over = np.minimum(rows[leg.heel.name][1], rows[leg.toe.name][1]) - floor
        stands = np.zeros(clip.frames, bool)
        for contact in (*contacts.of(leg.heel.name), *contacts.of(leg.toe.name)):
            if not contact.held:
                stands[contact.first : contact.last + 1] = True
        yield Lane(SINK, f"{leg.side} foot", np.maximum(-over, 0.0))
        yield Lane(FLOAT, f"{leg.side} foot", np.where(stands, np.maximum(over, 0.0), 0.0))


def slide_lanes(clip: Clip, points: Sequence[ContactPoint], contacts: Contacts) -> Iterator[Lane]:
    """Slide of other points of a rig, such as hands, while they hold something."""
    for point, places in zip(points, point_rows(clip, points) if points else ()):
        yield _slide(point.name, places, contacts)


def _slide(name: str, places: np.ndarray, contacts: Contacts) -> Lane:
    slide = np.zeros(places.shape[-1])
    for contact in contacts.of(name):
        part = slice(contact.first, contact.last + 1)
        if contact.first < len(slide):
            middle = np.median(places[:, part], axis=1)[:, None]
            slide[part] = np.linalg.norm(places[:, part] - middle, axis=0)
    return Lane(SLIDE, name, slide)


def angle_lanes(source: Clip, target: Clip, strings: Sequence[String]) -> Iterator[Lane]:
    """The angle between the source's and the rig's upper and lower arms and legs; both clips of the same frames."""
    ties = {s.part: s for s in strings}
    limbs = [
        (f"{side} {a}", f"{side} {b}")
        for side in ("left", "right")
        for a, b in NEXT.items()
        if f"{side} {a}" in ties and f"{side} {b}" in ties
    ]
    if not limbs:
        return
    parts = [part for limb in limbs for part in limb]
    sides = []
    for clip, names in ((source, lambda s: s.source), (target, lambda s: s.target)):
        joints = [clip.skeleton.index[names(ties[p])[0]] for p in parts]
        places, _ = forward_rows(clip, sorted(set(joints)))
        sides.append(np.stack([places[b] - places[a] for a, b in zip(joints[::2], joints[1::2])]))
    ways, others = (rot.normalise(np.moveaxis(side, 1, -1)) for side in sides)
    # From the distance between the directions: exact also where they are all but the same.
    apart = 2 * np.arcsin(np.clip(np.linalg.norm(ways - others, axis=-1) / 2, 0, 1))
    for (part, _), angle in zip(limbs, apart):
        yield Lane(ANGLE, part, angle)
