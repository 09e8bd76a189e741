"""How much a pass changed a motion: what people judge it by, as numbers and over time."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from ..clip import as_rows
from ..contacts.points import FEET, HANDS, point_rows
from ..transfer.deviation import slide_lanes

if TYPE_CHECKING:
    from ..clip import Clip
    from .keeping import Limbs
    from .stack import Stage

_OVER = 0.05  # seconds over which a speed is taken


@dataclass(frozen=True, eq=False)
class Changes:
    """What one stage is against another one.

    ``degrees (rms, largest)``: of rotations, all joints on all frames. ``hands`` and ``feet``: how far their points are
    moved at most, metres. ``slides (before, after)``: how far a foot or a held hand slides at most, metres. ``peaks
    (before, after)``: the highest speed of a hand or foot, metres per second. ``lane (frames,)``: how far hands and feet
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
    rows = [
        point_rows(stage.clip, points) if points else np.zeros((0, 3, stage.clip.frames)) for stage in (before, after)
    ]
    slides = [_slide(stage, limbs) for stage in (before, after)]
    peaks = [_peak(places, stage.clip.rate) for places, stage in zip(rows, (before, after))]
    both = (slides[0], slides[1]), (peaks[0], peaks[1])
    if before.clip.frames != after.clip.frames:
        return Changes((0.0, 0.0), 0.0, 0.0, *both, np.zeros(after.clip.frames))
    angles = turned(before.clip, after.clip)
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


def _slide(stage: Stage, limbs: Limbs) -> float:
    points = [p for name, p in limbs.points.items() if name in FEET or name in HANDS]
    return max((lane.worst for lane in slide_lanes(stage.clip, points, stage.contacts)), default=0.0)


def _peak(places: np.ndarray, rate: float) -> float:
    step = max(round(_OVER * rate), 1)
    if places.shape[-1] <= step or not len(places):
        return 0.0
    return float(np.linalg.norm(places[..., step:] - places[..., :-step], axis=1).max()) * rate / step
