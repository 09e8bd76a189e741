"""How much a pass changed a motion: what people judge it by, as numbers and over time."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from ..clip import as_rows
from ..contacts.points import FEET, HANDS, point_rows
from .keeping import STOOD, slide
from .under import bones_of

if TYPE_CHECKING:
    from ..clip import Clip
    from ..contacts.points import ContactPoint
    from .keeping import Limbs
    from .stack import Stage

_OVER = 0.05  # seconds over which a speed is taken


@dataclass(frozen=True, eq=False)
class Changes:
    """What one stage is against another one.

    ``degrees (rms, largest)``: of rotations, all joints on all frames. ``hands`` and ``feet``: how far their points are
    moved at most, metres. ``slides (before, after)``: how far a foot, or a hand that stood before, slides
    in its contacts at most, metres. ``peaks (before, after)``: the highest speed of a hand or foot, metres per second. ``lane (frames,)``: how far hands and feet
    are moved, metres; where there is no body, how far joints are turned, radians. Where the number of frames is another
    one, nothing is told but slides and peaks.
    """

    degrees: tuple[float, float]
    hands: float
    feet: float
    slides: tuple[float, float]
    peaks: tuple[float, float]
    lane: np.ndarray


def changes(before: Stage, after: Stage, limbs: Limbs) -> Changes:
    """What a pass, or several, made of ``before``."""
    points = [limbs.points[name] for name in (*FEET, *HANDS) if name in limbs.points]
    clips = [bones_of(stage.clip, limbs) for stage in (before, after)]
    rows = [point_rows(clip, points) if points else np.zeros((0, 3, clip.frames)) for clip in clips]
    peaks = [_peak(places, stage.clip.rate) for places, stage in zip(rows, (before, after))]
    both = _slides(before, after, clips, points), (peaks[0], peaks[1])
    if before.clip.frames != after.clip.frames:
        return Changes((0.0, 0.0), 0.0, 0.0, *both, np.zeros(after.clip.frames))
    angles = turned(*clips)
    moved = np.linalg.norm(rows[1] - rows[0], axis=1)
    hands, feet = (
        max((float(row.max()) for p, row in zip(points, moved) if p.name in names), default=0.0)
        for names in (HANDS, FEET)
    )
    degrees = float(np.degrees(np.sqrt(np.mean(angles**2)))), float(np.degrees(angles.max(initial=0.0)))
    return Changes(degrees, hands, feet, *both, (moved if points else angles).max(axis=0))


def turned(before: Clip, after: Clip) -> np.ndarray:
    """The angles ``(joints, frames)`` between the rotations of two clips of as many frames, radians."""
    a, b = as_rows(before.rotations), as_rows(after.rotations)
    # By the chord, which is exact also for the smallest angles.
    chord = np.minimum(np.linalg.norm(a - b, axis=1), np.linalg.norm(a + b, axis=1))
    return 4 * np.arcsin(np.minimum(chord / 2, 1.0))


def _slides(before: Stage, after: Stage, clips: list[Clip], points: list[ContactPoint]) -> tuple[float, float]:
    """How far feet slide in their contacts, at most, before and after; and hands where they stood before."""
    stages, same = (before, after), before.clip.frames == after.clip.frames
    rows = [dict(zip((p.name for p in points), point_rows(clip, points) if points else ())) for clip in clips]
    worst = [0.0, 0.0]
    for i, stage in enumerate(stages):
        for contact in stage.contacts.found:
            part = slice(contact.first, contact.last + 1)
            places = rows[i].get(contact.point, np.zeros((3, 0)))[:, part]
            if not places.size:
                continue
            foot = contact.point in FEET
            if foot or (same and slide(rows[0][contact.point][:, part]) < STOOD):
                worst[i] = max(worst[i], slide(places))
    return worst[0], worst[1]


def _peak(places: np.ndarray, rate: float) -> float:
    step = max(round(_OVER * rate), 1)
    if places.shape[-1] <= step or not len(places):
        return 0.0
    return float(np.linalg.norm(places[..., step:] - places[..., :-step], axis=1).max()) * rate / step
