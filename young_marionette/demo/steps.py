"""Feet on the ground: planned footholds become ankle paths with heel strike, flat foot and toe-off."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..core import rotations as rot
from .tracks import ease, keyed, smooth


@dataclass(frozen=True)
class Hold:
    """A foot stands from ``start`` to ``end`` (seconds) at ``place`` (x, height, z), toes turned by ``yaw``."""

    start: float
    end: float
    place: tuple[float, float, float]
    yaw: float = 0.0


@dataclass(frozen=True, eq=False)
class FootTrack:
    """Ankle path ``(frames, 3)``, foot turn ``(frames, 4)``, toe bend (radians) and 1 while it stands."""

    ankle: np.ndarray
    turn: np.ndarray
    toe: np.ndarray
    stands: np.ndarray


def foot_track(times, holds, build, lift=0.09, roll=1.0):
    """The track of one foot over its holds. ``roll`` scales heel strike and toe-off (0: flat steps)."""
    ankle_up, ball = np.array([0, build.ankle, 0]), np.array([0, 0.018, build.foot])
    heel = np.array([0, 0.0, -0.05])
    yaw = keyed(times, _ends(holds, lambda h: h.yaw))[:, 0]
    pitch = keyed(times, _pitch_keys(holds, roll, times[-1]))[:, 0]
    turn = rot.multiply(rot.from_axis_angle(rot.AXES["Y"], yaw), rot.from_axis_angle(rot.AXES["X"], pitch))
    level = rot.from_axis_angle(rot.AXES["Y"], yaw)

    def around(place, rows):
        """The ankle while the sole turns about its ball (heel up) or its heel (toes up)."""
        pivot = np.where(pitch[rows, None] > 0, ball, heel)
        fixed = np.asarray(place) + rot.rotate(level[rows], pivot)
        return fixed + rot.rotate(turn[rows], ankle_up - pivot)

    ankle, stands = np.zeros((len(times), 3)), np.zeros(len(times))
    for i, hold in enumerate(holds):
        rows = (times >= hold.start) & (times <= hold.end)
        ankle[rows], stands[rows] = around(hold.place, rows), 1.0
        if i + 1 == len(holds):
            continue
        after = holds[i + 1]
        rows = (times > hold.end) & (times < after.start)
        share = (times[rows] - hold.end) / (after.start - hold.end)
        start, end = (
            _at(times, t, lambda r, p=p: around(p, r)) for t, p in ((hold.end, hold.place), (after.start, after.place))
        )
        way = ease(share)[:, None]
        path = start + (end - start) * way
        height = lift + max(0.0, after.place[1] - hold.place[1]) * 0.4
        path[:, 1] += height * (np.sin(np.pi * share) ** 1.5) * (1 - 0.35 * share)
        ankle[rows] = path
    rate = 1 / (times[1] - times[0])
    toe = -np.maximum(pitch, 0) * 0.85 * np.maximum(smooth(stands, 0.03, rate), 0.25)
    return FootTrack(ankle, turn, toe, stands)


def _at(times, moment, function):
    row = np.zeros(len(times), bool)
    row[int(np.argmin(np.abs(times - moment)))] = True
    return function(row)[0]


def _ends(holds, value):
    keys = {}
    for hold in holds:
        keys[hold.start], keys[hold.end] = value(hold), value(hold)
    return keys


def _pitch_keys(holds, roll, last):
    keys = {}
    for i, hold in enumerate(holds):
        stood = hold.end - hold.start
        if i > 0:
            keys[hold.start] = -0.26 * roll
            keys[hold.start + min(0.1, stood * 0.25)] = 0.0
        else:
            keys[hold.start] = 0.0
        if i + 1 < len(holds):
            keys[hold.end - min(0.26, stood * 0.4)] = 0.0
            keys[hold.end] = 0.72 * roll
            keys[hold.end + 0.45 * (holds[i + 1].start - hold.end)] = 0.25 * roll
        else:
            keys[max(hold.end, last)] = 0.0
    return keys


def support(left, right, rate):
    """Share of the weight on the left foot, moving over before the other foot lifts."""
    both = left.stands + right.stands
    share = np.where(both > 0, left.stands / np.maximum(both, 1), 0.5)
    return smooth(share, 0.14, rate)
