"""What a change of markers does to one frame, at once: the figure stays as it was fitted before the change."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from .following import OUT, SIGMA
from .mends import Mend, mended
from .posing import Poses, world
from .tracking import How, refined

if TYPE_CHECKING:
    from .assigning import Laid
    from .recording import Recording
    from .solving import Solution


def answered(solution: Solution, recording: Recording, laid: Laid, mends: Sequence[Mend], frame: int) -> Poses:
    """The pose ``(joints, 4, 1)`` of one frame with markers on other segments, or mended otherwise, than they were solved with.

    A marker that comes to another segment sits where it is just now in that segment's axes.
    """
    figure, before = solution.figure, solution.poses.picked(np.array([frame]))
    turns, places = world(figure.structure, figure.offsets, before)
    own_mends = [replace(mend, first=0, last=0) for mend in mends if mend.first <= frame <= mend.last]
    recording = mended(recording.cut(frame, frame), own_mends)
    on = np.flatnonzero((laid.segments >= 0) & recording.seen[0])
    # What was found to be faulty in this frame stays out of it, where nothing else is decided.
    decided = {recording.index[label] for mend in own_mends for label in mend.markers if label in recording.index}
    out = {f.marker for f in solution.faults if f.first <= frame <= f.last} - decided
    on = np.array([m for m in on if m not in out], int)
    known = {int(m): n for n, m in enumerate(solution.on)}
    points = recording.points[0, on]
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
