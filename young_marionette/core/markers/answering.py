"""What a change of markers does to one frame, at once: the figure stays as it was fitted before the change."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from .following import OUT, SIGMA
from .posing import Poses, world
from .tracking import How, refined

if TYPE_CHECKING:
    from .assigning import Laid
    from .recording import Recording
    from .solving import Solution


def answered(
    solution: Solution, recording: Recording, laid: Laid, left_out: Sequence[tuple[int, int, int]], frame: int
) -> Poses:
    """The pose ``(joints, 4, 1)`` of one frame with markers on other segments, or left out, than they were solved with.

    A marker that comes to another segment sits where it is just now in that segment's axes.
    """
    figure, before = solution.figure, solution.poses.picked(np.array([frame]))
    turns, places = world(figure.structure, figure.offsets, before)
    on = np.flatnonzero((laid.segments >= 0) & np.isfinite(recording.points[frame]).all(-1))
    out = {m for m, first, last in left_out if first <= frame <= last}
    # What was found to be faulty in this frame stays out of it.
    out |= {f.marker for f in solution.faults if f.first <= frame <= f.last}
    on = np.array([m for m in on if m not in out], int)
    known = {int(m): n for n, m in enumerate(solution.on)}
    points = recording.points[frame, on]
    local = []
    for marker, point in zip(on, points):
        segment = int(laid.segments[marker])
        n = known.get(int(marker))
        if n is not None and int(figure.segments[n]) == segment:
            local.append(figure.places[n])
        else:
            local.append(turns[segment, ..., 0].T @ (point - places[segment, :, 0]))
    own = replace(
        figure,
        labels=tuple(recording.labels[m] for m in on),
        segments=laid.segments[on],
        places=np.array(local).reshape(-1, 3),
    )
    poses, _ = refined(own, before, points[..., None], np.ones((len(on), 1)), How(SIGMA, OUT, steps=8))
    return poses
