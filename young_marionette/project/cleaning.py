"""A clip of an entry cleaned by filters, its planted points where they stood."""

from __future__ import annotations

from dataclasses import dataclass
from fnmatch import fnmatchcase
from typing import TYPE_CHECKING

import numpy as np

from ..core import rotations as rot
from ..core.contacts.points import FEET, contact_points
from ..core.errors import InputError
from ..core.filters.motion import Cleaning, Report, cleaned
from ..core.transfer.deviation import slide_lanes
from ..core.transfer.planting import legs_of, plant

if TYPE_CHECKING:
    from ..core.clip import Clip
    from .entry import Entry


@dataclass(frozen=True, eq=False)
class Cleaned:
    """``clip``: placed. ``slides (before, after)``: the farthest that a foot's point slides while it stands, metres.

    ``degrees (rms, largest)``: how far rotations were changed.
    """

    clip: Clip
    report: Report
    slides: tuple[float, float]
    degrees: tuple[float, float]


def clean(entry: Entry, cleaning: Cleaning, keep_contacts: bool = True) -> Cleaned:
    """The entry's placed clip cleaned; with ``keep_contacts`` its feet stand where it says that they stand."""
    before = entry.placed_clip
    clip, report = cleaned(before, cleaning)
    body, contacts = entry.metric_body, entry.contacts
    slides = 0.0, 0.0
    if body is not None:
        points = {p.name: p for p in contact_points(entry.placed_skeleton, body, entry.placed_character)}
        if keep_contacts:
            legs = legs_of(entry.placed_skeleton, body.parts, points, body.forward)
            clip = plant(clip, legs, body.parts["hips"][0], contacts, level=False)
        feet = [p for name, p in points.items() if name in FEET]
        worst = [max((lane.worst for lane in slide_lanes(c, feet, contacts)), default=0.0) for c in (before, clip)]
        slides = worst[0], worst[1]
    angles = np.degrees(rot.angle(rot.multiply(rot.conjugate(before.rotations), clip.rotations)))
    return Cleaned(clip, report, slides, (float(np.sqrt(np.mean(angles**2))), float(angles.max(initial=0.0))))


def joints_like(entry: Entry, pattern: str) -> frozenset[int]:
    """The joints whose names are like a pattern with ``*`` and ``?``, letters large or small; InputError for none."""
    found = frozenset(
        i for i, name in enumerate(entry.skeleton.names) if fnmatchcase(name.casefold(), pattern.casefold())
    )
    if not found:
        raise InputError(f"No joint of {entry.name} is called like '{pattern}'.")
    return found
