"""Where a recording's file world lies: unit, up axis, floor, facing, and the stretch of use; each guess with what it was taken from."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from .. import rotations as rot
from ..figure.declared import Declared
from ..figure.placement import AXIS_NAMES, axis_name, axis_vector
from ..findings import DECLARED, MANUAL, Fact, finding
from ..units import UNITS, name_of
from . import seen as reduce
from .recording import Recording
from .segments import STATURE
from .sites import read_labels

_UPRIGHT = 1.55  # metres that markers of a standing performer reach over the lowest, as a rule
_IDLE = 0.15  # metres per second that some marker moves at the least while the performer works
_MARGIN = 0.3  # seconds kept before and after
_LOOKED_AT = 800
_FEET = ("Foot", "Toes")


@dataclass(frozen=True)
class Placed:
    """What a user set of where a recording lies; None where the guess stands.

    ``unit``: metres per unit. ``up``: an axis such as ``"+Z"``. ``turn``: degrees about the vertical, added to what ``ahead`` does.
    ``ahead``: it is turned to face ahead at its start. ``floor``: it is put on the floor. ``centred``: it starts over the origin.
    ``trim``: first and last frame, both included.
    """

    unit: float | None = None
    up: str | None = None
    turn: float = 0.0
    ahead: bool = False
    floor: bool = True
    centred: bool = False
    trim: tuple[int, int] | None = None


@dataclass(frozen=True, eq=False)
class Place:
    """``metres_per_unit``, ``up`` (an axis), ``turn (4,)`` and ``move (3,)`` (metres) from the file's world into ours, with ``facts``."""

    metres_per_unit: float
    up: str
    turn: np.ndarray
    move: np.ndarray
    facts: tuple[Fact, ...]
    use: tuple[int, int]

    def placed(self, recording: Recording) -> Recording:
        """The recording in our world: metres, Y up."""
        return recording.moved(self.metres_per_unit, self.turn, self.move)


def place(recording: Recording, declared: Declared = Declared(), chosen: Placed = Placed()) -> Place:
    """The Place of a recording in its file's world, all of it taken from the points, the labels and what the file says."""
    step = max(recording.frames // _LOOKED_AT, 1)
    points = recording.points[::step]
    segments = [r.segment or "" for r in read_labels(recording.labels)]
    up, up_fact = _up(points, segments, recording.rate / step, declared, chosen)
    tall = _extent(points, axis_vector(up))
    unit, unit_fact = _unit(tall, declared, chosen)
    turn = rot.between(axis_vector(up), rot.AXES["Y"])
    placed = rot.rotate(turn, points * unit)
    facing, facing_fact = _facing(placed, recording.labels, segments)
    if facing_fact is not None and facing is not None:
        axis = axis_name(rot.rotate(rot.conjugate(turn), facing))
        facing_fact = replace(facing_fact, values={"axis": axis})
    yaw = np.radians(chosen.turn)
    if chosen.ahead and facing is not None:
        yaw -= np.arctan2(facing[0], facing[2])
    about = rot.from_axis_angle(rot.AXES["Y"], np.array(yaw))
    turn, placed = rot.multiply(about, turn), rot.rotate(about, placed)
    floor = floor_of(placed)
    move = np.zeros(3)
    # Where labels tell of a body, but of no feet, the lowest marker tells nothing of the floor.
    known = any(s.endswith(_FEET) for s in segments) or sum(map(bool, segments)) < 0.5 * len(segments)
    if chosen.floor and known and abs(floor) > 0.02:
        move[1] = -floor
    use = used_range(recording, unit)
    if chosen.centred:
        first = chosen.trim[0] if chosen.trim else use[0]
        begun = placed[min(first // step, len(placed) - 1)]
        middle = reduce.mean(begun, axis=0) if np.isfinite(begun).any() else np.zeros(3)
        move[[0, 2]] = -np.nan_to_num(middle[[0, 2]])
    gaps = ~recording.seen
    facts = (
        unit_fact,
        up_fact,
        *([facing_fact] if facing_fact else []),
        Fact("rate", {"rate": recording.rate}),
        Fact("length", {"seconds": recording.seconds, "frames": recording.frames, "start": recording.first / recording.rate}),
        Fact("markers", {"count": len(recording), "unlabelled": int(recording.unlabelled.sum())}),
        Fact("marker floor", {"metres": floor}),
        Fact("in use", {"first": use[0], "last": use[1], "frames": recording.frames}),
        Fact("gaps", {"share": float(gaps.mean()), "markers": int((gaps.any(0) & ~gaps.all(0)).sum())}),
    )  # fmt: skip
    return Place(unit, up, turn, move, facts, use)


def _extent(points: np.ndarray, up: np.ndarray) -> float:
    """How far markers reach over the lowest one along ``up``, where they do the most, in the file's unit."""
    heights = np.where(np.isfinite(points).all(-1), points @ up, np.nan)
    some = np.isfinite(heights).sum(1) >= 4
    if not some.any():
        return 0.0
    return float(np.percentile(reduce.most(heights[some], axis=1) - reduce.least(heights[some], axis=1), 80))


_SWAY = 3.0  # seconds
# Parts of the body by which labels tell what is up: from the first to the second, the farthest apart first.
_UPWARD = (
    ("feet", "head"),
    ("feet", "chest"),
    ("feet", "hips"),
    ("hips", "head"),
    ("hips", "chest"),
    ("chest", "head"),
)


def _up(points: np.ndarray, segments: list[str], rate: float, declared: Declared, chosen: Placed) -> tuple[str, Fact]:
    if chosen.up is not None:
        return chosen.up, Fact("up", {"axis": chosen.up}, MANUAL)
    for low, high in _UPWARD:
        of_low = np.array([s.endswith(_FEET) if low == "feet" else s == low for s in segments], bool)
        of_high = np.array([s == high for s in segments], bool)
        if of_low.sum() >= 2 and of_high.sum() >= 2:
            way = reduce.median(
                reduce.median(points[:, of_high], axis=1) - reduce.median(points[:, of_low], axis=1), axis=0
            )
            if np.isfinite(way).all() and np.abs(way).max() > 0:
                return axis_name(way), Fact("up", {"axis": axis_name(way)}, finding("feet to head", low=low, high=high))
    scores = {axis: _planted(points, axis_vector(axis), rate) for axis in AXIS_NAMES}
    best = max(scores, key=lambda axis: scores[axis])
    if declared.up and scores.get(declared.up, 0) > 0.6 * scores[best]:
        return declared.up, Fact("up", {"axis": declared.up}, DECLARED)
    return best, Fact("up", {"axis": best}, finding("planted feet"), sure=scores[best] > 0.35)


def _planted(points: np.ndarray, up: np.ndarray, rate: float) -> float:
    """How much an axis looks like up: markers stand still at its lower end, the body is long along it, and hardly sways along it."""
    seen = np.isfinite(points).all(-1)
    if len(points) < 2:
        return _extent(points, up)
    heights = np.where(seen, points @ up, np.inf)
    lowest = np.argsort(heights, axis=1)[:, :4]
    steps = np.linalg.norm(np.diff(points, axis=0), axis=-1) * rate
    slow = np.take_along_axis(steps, lowest[:-1], 1)
    size = max(_size(points), 1e-9)
    with np.errstate(invalid="ignore"):
        still = np.mean(reduce.least(np.where(np.isfinite(slow), slow, np.inf), axis=1) < 0.04 * size)
    low = np.min(heights, axis=1)
    low = low[np.isfinite(low)]
    steady = np.exp(-np.std(low) / (0.05 * size)) if len(low) else 0.0
    long = _extent(points, up) / size
    level = np.exp(-_sway(points @ up, rate) / (0.08 * size))
    return float((0.3 + still) * (0.3 + steady) * (0.5 + level) * min(long, 1.0) ** 2)


def _sway(heights: np.ndarray, rate: float) -> float:
    """How much the middle of all markers goes to and fro along an axis: the spread about a moving mean of some seconds."""
    middle = reduce.mean(heights, axis=1)
    middle = middle[np.isfinite(middle)]
    count = min(2 * round(_SWAY * rate / 2) + 1, len(middle) - (len(middle) + 1) % 2)
    if count < 3:
        return 0.0
    padded = np.pad(middle, count // 2, "reflect", reflect_type="odd")
    return float(np.std(middle - np.convolve(padded, np.ones(count) / count, "valid")))


def _size(points: np.ndarray) -> float:
    """The largest extent of the markers of one frame along any axis, as it usually is."""
    some = points[np.isfinite(points).all(-1).sum(1) >= 4]
    if not len(some):
        return 0.0
    return float(np.median(np.max(reduce.most(some, axis=1) - reduce.least(some, axis=1), axis=-1)))


def _unit(tall: float, declared: Declared, chosen: Placed) -> tuple[float, Fact]:
    if chosen.unit is not None:
        return chosen.unit, Fact("unit", {"unit": name_of(chosen.unit)}, MANUAL)
    if declared.unit is not None and (tall <= 0 or 0.25 < tall * declared.unit < 3.2):
        return declared.unit, Fact("unit", {"unit": name_of(declared.unit)}, DECLARED)
    if tall <= 0:
        return 1.0, Fact("unit", {"unit": name_of(1.0)}, finding("no body"), sure=False)
    off = {u.metres: abs(np.log(tall * u.metres / _UPRIGHT)) + 0.35 * u.rarity for u in UNITS}
    best = min(off, key=lambda metres: off[metres])
    return best, Fact("unit", {"unit": name_of(best)}, finding("markers reach", units=tall), sure=off[best] < 0.5)


def floor_of(points: np.ndarray) -> float:
    """The height of the floor under ``points (frames, markers, 3)`` (metres, Y up): where the lowest markers usually are, less
    their distance from the sole."""
    heights = np.where(np.isfinite(points).all(-1), points[..., 1], np.nan)
    some = np.isfinite(heights).any(1)
    if not some.any():
        return 0.0
    low = reduce.least(heights[some], axis=1)
    return float(np.percentile(low, 15)) - 0.025


def _facing(points: np.ndarray, labels: tuple[str, ...], segments: list[str]) -> tuple[np.ndarray | None, Fact | None]:
    """The way ``(3,)`` that the performer faces in the first frames: from heels to toes."""
    ways = []
    for side in ("left", "right"):
        names = [label.upper() for label in labels]
        of = [m for m, s in enumerate(segments) if s.startswith(side) and s.endswith(_FEET)]
        heels = [m for m in of if any(w in names[m] for w in ("HEE", "HEL", "CAL"))]
        toes = [m for m in of if m not in heels]
        if heels and toes:
            ways.append(reduce.mean(points[:, toes], axis=1) - reduce.mean(points[:, heels], axis=1))
    if not ways:
        return None, None
    both = reduce.mean(np.stack(ways), axis=0)
    both = both[np.isfinite(both).all(-1)]
    if not len(both):
        return None, None
    way = np.median(both[: max(len(both) // 20, 1)], axis=0)
    way[1] = 0.0
    if np.linalg.norm(way) < 1e-6:
        return None, None
    return rot.normalise(way), Fact("facing", {"axis": ""}, finding("feet"))


def used_range(recording: Recording, metres_per_unit: float = 1.0) -> tuple[int, int]:
    """The first and the last frame between which the performer moves, with some before and after; all frames where that is not told."""
    reach = max(round(0.1 * recording.rate), 1)
    if recording.frames < 4 * reach:
        return 0, recording.frames - 1
    points = recording.points * metres_per_unit
    moved = np.linalg.norm(points[reach:] - points[:-reach], axis=-1) * recording.rate / reach
    moved = np.where(np.isfinite(moved), moved, np.nan)
    counted = np.isfinite(moved).sum(1) >= max(0.3 * len(recording), 3)
    # A single marker that jumps is no performer that moves.
    speed = np.where(counted, reduce.percentile(np.where(counted[:, None], moved, 0.0), 90, axis=1), 0.0)
    busy = np.flatnonzero(speed > _IDLE)
    if not len(busy):
        return 0, recording.frames - 1
    margin = round(_MARGIN * recording.rate)
    first, last = max(int(busy[0]) - margin, 0), min(int(busy[-1]) + reach + margin, recording.frames - 1)
    return first, last


def stature_of(points: np.ndarray) -> float:
    """A guess of the performer's stature (metres) from how high markers are over the lowest ones, where they stand the tallest."""
    points = points[:: max(len(points) // 400, 1)]
    seen = np.isfinite(points).all(-1)
    if not seen.any():
        return STATURE
    heights = np.where(seen, points[..., 1], np.nan)
    tall = reduce.percentile(heights, 97, axis=1) - reduce.percentile(heights, 3, axis=1)
    tall = tall[np.isfinite(tall)]
    guess = float(np.percentile(tall, 95)) * 1.06 + 0.02 if len(tall) else STATURE
    return guess if 0.5 < guess < 2.6 else STATURE
