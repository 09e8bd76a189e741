"""What somebody decides about markers on some frames. It stands before all that is found."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

import numpy as np

from .faults import Fault
from .recording import Recording

EXCHANGE, LEAVE_OUT, FILL, BELIEVE = "exchange", "leave out", "fill", "believe"
KINDS = (EXCHANGE, LEAVE_OUT, FILL, BELIEVE)
_MOST = 0.5  # the share of a fault's frames that a decision has to be about


@dataclass(frozen=True)
class Mend:
    """``kind`` of the KINDS; ``label``: of the marker; ``first``, ``last``: frames, both included.

    EXCHANGE: it changes places with ``other``. LEAVE_OUT: not believed there. FILL: nor is that, and what the segment's other
    markers tell stands in its place. BELIEVE: it is right where it is, whatever is found.
    """

    kind: str
    label: str
    first: int
    last: int
    other: str | None = None

    @property
    def markers(self) -> tuple[str, ...]:
        """The labels that it is about."""
        return (self.label,) if self.other is None else (self.label, self.other)


def within(mends: Iterable[Mend], first: int, last: int) -> tuple[Mend, ...]:
    """The mends that touch frames ``first`` to ``last``, in frames that count from ``first``."""
    return tuple(
        replace(m, first=max(m.first - first, 0), last=min(m.last, last) - first)
        for m in mends
        if m.first <= last and m.last >= first
    )


def put_back(recording: Recording, mends: Iterable[Mend]) -> np.ndarray:
    """The points ``(frames, markers, 3)`` with exchanged markers put back; mends of markers that are not there are passed over."""
    points, index = recording.points.copy(), recording.index
    for mend in mends:
        if mend.kind == EXCHANGE and mend.label in index and mend.other in index:
            span, pair = slice(mend.first, mend.last + 1), [index[mend.label], index[mend.other]]
            points[span, pair] = points[span, pair[::-1]]
    return points


def marked(recording: Recording, mends: Iterable[Mend], *kinds: str) -> np.ndarray:
    """Where markers have a mend of one of some kinds ``(frames, markers)``."""
    mask, index = np.zeros(recording.points.shape[:2], bool), recording.index
    for mend in mends:
        if mend.kind in kinds and mend.label in index:
            mask[mend.first : mend.last + 1, index[mend.label]] = True
    return mask


def mended(recording: Recording, mends: Iterable[Mend]) -> Recording:
    """The recording as it is believed: exchanged markers put back, NaN where they are left out or to be filled."""
    mends = tuple(mends)
    gone = marked(recording, mends, LEAVE_OUT, FILL)
    return replace(recording, points=np.where(gone[..., None], np.nan, put_back(recording, mends)))


def spoken_for(fault: Fault, sure: np.ndarray) -> bool:
    """Whether most of a fault lies where its marker is believed; ``sure (frames, markers)``."""
    return bool(sure[fault.first : fault.last + 1, fault.marker].mean() > _MOST)


def refilled(points: np.ndarray, expected: np.ndarray, mask: np.ndarray) -> np.ndarray:
    """The points ``(frames, markers, 3)`` with those of a mask put where the figure expects them.

    The way is led over from where the marker was seen before and after: nothing jumps.
    """
    points = points.copy()
    for marker in np.flatnonzero(mask.any(0)):
        gone, there = mask[:, marker], expected[:, marker]
        known = np.flatnonzero(~gone & np.isfinite(points[:, marker] + there).all(-1))
        frames = np.flatnonzero(gone)
        off = np.zeros((len(frames), 3))
        if len(known):
            beside = points[known, marker] - there[known]
            off = np.stack([np.interp(frames, known, beside[:, axis]) for axis in range(3)], -1)
        points[frames, marker] = there[frames] + off
    return points
