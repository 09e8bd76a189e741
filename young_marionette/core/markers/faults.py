"""Faulty markers, named: what is wrong with which marker, on which frames, found from where the solved figure expects them."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ..stretches import ends_of
from . import seen as reduce
from .trajectories import Exchange, jumps

EXCHANGED, LEFT_BEHIND, SPIKE, FLIP = "exchanged", "left behind", "spike", "flip"
WRONG_SEGMENT, WRONG_SIDE, GAP, STRAY = "wrong segment", "wrong side", "gap", "stray"
KINDS = (EXCHANGED, LEFT_BEHIND, SPIKE, FLIP, WRONG_SEGMENT, WRONG_SIDE, GAP, STRAY)
_FAR = 0.03  # metres off that are a fault at the least
_TIMES = 7.0  # times a marker's own usual distance
_SPIKE = 0.12  # seconds
_CLOSED = 0.08  # seconds between two stretches of one fault
_STILL = 0.006  # metres that a marker left behind is away from where it stands


@dataclass(frozen=True)
class Fault:
    """``kind`` of the KINDS; ``first``, ``last``: frames from 0, both included; ``other``: the marker that it changed places with,
    or the segment that it belongs to. ``mended``: whether the solving goes on as if it were right."""

    kind: str
    marker: int
    first: int
    last: int
    other: str | int | None = None
    mended: bool = True


def usual_distance(off: np.ndarray) -> np.ndarray:
    """How far each marker usually is from where it is expected ``(markers,)``, metres; NaN for what is never seen."""
    return np.asarray(reduce.median(off, axis=0))


def far_off(off: np.ndarray) -> np.ndarray:
    """Where markers are further off than they ever should be ``(frames, markers)``; ``off``: distances, NaN where not seen."""
    level = np.nan_to_num(usual_distance(off))
    # A marker that is off most of the time has no usual distance of its own.
    level = np.minimum(level, 3 * np.median(level[level > 0]) if (level > 0).any() else 0.0)
    with np.errstate(invalid="ignore"):
        far: np.ndarray = off > np.maximum(_FAR, _TIMES * level)
    return far


def residual_exchanges(points: np.ndarray, predicted: np.ndarray, rate: float) -> list[Exchange]:
    """Markers that each stand where the other is expected; arguments as in ``residual_faults``."""
    off = np.linalg.norm(points - predicted, axis=-1)
    far = far_off(off)
    found = []
    often = np.flatnonzero(far.sum(0) >= max(0.03 * rate, 2))
    for n, a in enumerate(often):
        for b in often[n + 1 :]:
            both = far[:, a] & far[:, b]
            if not both.any():
                continue
            across = np.linalg.norm(points[:, a] - predicted[:, b], axis=-1) + np.linalg.norm(
                points[:, b] - predicted[:, a], axis=-1
            )
            with np.errstate(invalid="ignore"):
                swapped = both & (across < 0.4 * (off[:, a] + off[:, b]))
                better = across < off[:, a] + off[:, b]
            for first, last in _stretches(swapped, rate, 0.03):
                # To its ends: as long as the exchange explains the frames better, without a gap.
                while first > 0 and better[first - 1]:
                    first -= 1
                while last + 1 < len(better) and better[last + 1]:
                    last += 1
                found.append(Exchange(int(a), int(b), first, last))
    return found


def _stretches(mask: np.ndarray, rate: float, shortest: float) -> list[tuple[int, int]]:
    """Runs of a mask with short breaks closed, from ``shortest`` seconds on."""
    runs: list[tuple[int, int]] = []
    for first, last in zip(*ends_of(mask)):
        if runs and first - runs[-1][1] - 1 <= _CLOSED * rate:
            runs[-1] = runs[-1][0], int(last)
        else:
            runs.append((int(first), int(last)))
    return [(a, b) for a, b in runs if b - a + 1 >= shortest * rate]


def residual_faults(points: np.ndarray, predicted: np.ndarray, rate: float) -> list[Fault]:
    """Markers left behind, spikes and flips.

    ``points``, ``predicted (frames, markers, 3)``: where markers were seen, and where the figure expects them, metres.
    """
    off = np.linalg.norm(points - predicted, axis=-1)
    far = far_off(off)
    jumped = jumps(points, rate)
    found = []
    for marker in np.flatnonzero(far.any(0)):
        for first, last in _stretches(far[:, marker], rate, 0.0):
            short = last - first + 1 <= _SPIKE * rate
            stood = None if short else _stood(points[:, marker], predicted[:, marker], first, last)
            if stood is not None:
                found.append(Fault(LEFT_BEHIND, int(marker), *stood))
                continue
            # What comes and goes without a jump is the figure's fault, not the marker's.
            ends = [f for f in (*range(first - 2, first + 2), *range(last, last + 3)) if 0 <= f < len(points)]
            if first > 0 and not jumped[ends, marker].any():
                continue
            found.append(Fault(SPIKE if short else FLIP, int(marker), first, last))
    return _merged(found)


def _stood(way: np.ndarray, predicted: np.ndarray, first: int, last: int) -> tuple[int, int] | None:
    """The stretch on which a marker stands in one place while it should move, around the frames ``first`` to ``last``; or None."""
    span = slice(first, last + 1)
    place = reduce.median(way[span], axis=0)
    away = np.linalg.norm(way - place, axis=-1)
    usual = float(reduce.median(away[span]))
    moved = float(np.median(np.linalg.norm(predicted[span] - np.median(predicted[span], axis=0), axis=-1)))
    if usual > _STILL or moved < 4 * usual:
        return None
    # At each end, the frame that splits best what follows the body from what stands in one place.
    off = np.linalg.norm(way - predicted, axis=-1)
    usual_off = max(float(reduce.median(off[_around(off, first, last)])), 1e-4)
    body = np.nan_to_num(np.minimum(off / usual_off, 8.0) ** 2)
    place_cost = np.nan_to_num(np.minimum(away / max(usual, 1e-4), 8.0) ** 2)
    gain = np.cumsum(body - place_cost)  # of standing rather than following, from the beginning
    middle = (first + last) // 2
    start = int(np.argmin(np.append(0.0, gain[:middle]))) if middle else 0
    stop = middle + int(np.argmax(gain[middle:]))
    seen = np.flatnonzero(np.isfinite(away[start : stop + 1]))
    return start + int(seen[0]), start + int(seen[-1])


def _around(off: np.ndarray, first: int, last: int) -> np.ndarray:
    """All frames but those from ``first`` to ``last``; all, where these are all that was seen."""
    rest = np.ones(len(off), bool)
    rest[first : last + 1] = False
    return rest if np.isfinite(off[rest]).any() else ~rest


def _merged(faults: list[Fault]) -> list[Fault]:
    """Faults with what lies in one stretch of one kind told once."""
    kept: list[Fault] = []
    for fault in sorted(faults, key=lambda f: (f.marker, f.first)):
        before = kept[-1] if kept else None
        if before and before.marker == fault.marker and before.kind == fault.kind and fault.first <= before.last + 1:
            kept[-1] = replace(before, last=max(before.last, fault.last))
        elif before and before.marker == fault.marker and fault.last <= before.last:
            continue
        else:
            kept.append(fault)
    return kept


def gaps(points: np.ndarray) -> list[Fault]:
    """The frames on which markers that are seen at other times are not seen."""
    seen = np.isfinite(points).all(-1)
    found = []
    for marker in range(points.shape[1]):
        if seen[:, marker].any():
            for first, last in zip(*ends_of(~seen[:, marker])):
                found.append(Fault(GAP, int(marker), int(first), int(last)))
    return found
