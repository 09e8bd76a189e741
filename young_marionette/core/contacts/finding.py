"""Finding contacts in a clip: where a point of the body is still in the world, and low or held."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING

import numpy as np
from scipy.ndimage import gaussian_filter1d

from ..kinematics import forward_rows
from .points import FEET, HANDS, SIDES, contact_points, point_rows
from .sitting import sits

if TYPE_CHECKING:
    from collections.abc import Iterator

    from ..character.meshes import Character
    from ..clip import Clip
    from ..humanoid.reading import Body
    from .points import ContactPoint

_STEADY, _DRIFT = 0.03, 0.05  # m/s
_NARROW, _WIDE = 0.012, 0.05  # seconds
USUAL = 1.7  # metres: the stature that heights are given for; they grow with the figure


@dataclass(frozen=True)
class Thresholds:
    """When a point touches. Speeds in m/s, the same for every frame rate; heights in metres for a figure of 1.7 m.

    A contact begins below ``speed`` and ``height`` over the floor, and lasts until ``slack`` times either is passed.
    ``held_speed``: for contacts at a height of their own (rungs, boards, walls), which begin slower. ``shortest``,
    ``shortest_held``, ``gap``: seconds; shorter contacts are none, shorter gaps between two are closed.
    """

    speed: float = 0.16
    height: float = 0.03
    slack: float = 1.9
    held_speed: float = 0.07
    shortest: float = 0.11
    shortest_held: float = 0.25
    gap: float = 0.07


@dataclass(frozen=True)
class Contact:
    """A point that is held still from frame ``first`` to frame ``last``, both included.

    ``height``: of the point over the floor, metres. ``slide``: the farthest that it is from its middle place, metres.
    ``held``: at a height of its own, not on the floor.
    """

    point: str
    first: int
    last: int
    height: float = 0.0
    slide: float = 0.0
    held: bool = False

    @property
    def frames(self) -> int:
        return self.last - self.first + 1


@dataclass(frozen=True)
class Contacts:
    """What a clip touches: ``found``, in the order of points and frames; ``floor``: where the floor is, metres."""

    found: tuple[Contact, ...] = ()
    floor: float = 0.0
    rate: float = 30.0
    by_point: dict[str, tuple[Contact, ...]] = field(init=False, compare=False)

    def __post_init__(self) -> None:
        names = dict.fromkeys(c.point for c in self.found)
        object.__setattr__(self, "by_point", {n: tuple(c for c in self.found if c.point == n) for n in names})

    def of(self, point: str) -> tuple[Contact, ...]:
        """The contacts of one point, in order."""
        return self.by_point.get(point, ())


def find_contacts(
    clip: Clip, body: Body | None, character: Character | None = None, thresholds: Thresholds = Thresholds()
) -> Contacts:
    """The contacts of a placed clip of a body; none without a body.

    Points that are still in the world, with hysteresis (as in edge detection, Canny 1986) and smallest durations. A foot
    also has to be low, or to carry: still at a height of its own while no foot is on the floor, or while the hips move
    about it. A hand has to be still while its shoulder moves, since idle hands are still too. Knees and the seat count
    where they are low.
    """
    points = contact_points(clip.skeleton, body, character)
    if body is None or not points or clip.frames < 2:
        return Contacts(rate=clip.rate)
    return _Search(clip, body, points, thresholds).run()


class _Search:
    def __init__(self, clip: Clip, body: Body, points: tuple[ContactPoint, ...], thresholds: Thresholds) -> None:
        self.clip, self.body, self.limits = clip, body, thresholds
        self.size = body.stature / USUAL
        self.at = dict(zip((p.name for p in points), range(len(points))))
        self.raw = point_rows(clip, points)
        self.places = _steadied(self.raw, clip.rate)
        self.speeds = np.linalg.norm(np.gradient(self.places, axis=-1), axis=1) * clip.rate
        anchors = [run[0] for part, run in body.parts.items() if part.endswith((" thigh", " shin", " upper arm"))]
        self._limbs = forward_rows(clip, anchors)[0]
        self.sits = self._sits()
        self.floor = self._floor()

    def run(self) -> Contacts:
        """The contacts of all points: those on the floor, then those at heights of their own."""
        low = {name: self._low(name) for name in self.at}
        on_floor = np.zeros(self.clip.frames, bool)
        for name in FEET:
            if name in low:
                on_floor |= low[name]
        found = []
        for name in self.at:
            held = self._held(name, low[name], on_floor)
            stretches = [*((s, False) for s in _stretches(low[name])), *((s, True) for s in _stretches(held))]
            found += [self._contact(name, first, last, held) for (first, last), held in sorted(stretches)]
        return Contacts(tuple(found), self.floor, self.clip.rate)

    # --- on the floor ---------------------------------------------------------------------------
    def _floor(self) -> float:
        """The floor's height: where the lowest points of the feet are while they are still."""
        feet = [self.at[n] for n in FEET if n in self.at]
        if not feet:
            return 0.0
        heights, still = self.places[feet, 1], self.speeds[feet] < self.limits.speed
        lowest = np.sort(heights[still]) if still.any() else np.sort(heights.min(0))
        level = float(lowest[len(lowest) // 20])
        # Clips are put on the floor before: what is far from it stands on something, or flies; who sits may rest the
        # feet on anything.
        near = abs(level) < 0.12 * self.size and self.sits.mean() < 0.5
        return level if near else 0.0

    def _low(self, name: str) -> np.ndarray:
        """Where a point is still and low: frames on the floor (a mask)."""
        row, limits = self.at[name], self.limits
        level = self._own_level(row) if name in FEET else self.floor
        over = (self.places[row, 1] - level) / self.size
        height = limits.height if name in FEET else 2 * limits.height
        near = (over < limits.slack * height) & (self.speeds[row] < limits.slack * limits.speed)
        sure = (over < height) & (self.speeds[row] < limits.speed)
        return self._whole(near, sure, limits.shortest)

    def _own_level(self, row: int) -> float:
        """How high a foot's point is while it stands on the floor: captured feet are not quite where their bones say."""
        still = self.places[row, 1][self.speeds[row] < self.limits.speed]
        if len(still) < 3:
            return self.floor
        level = float(np.sort(still)[len(still) // 10])
        return level if abs(level - self.floor) < self.limits.height * self.size else self.floor

    # --- at heights of their own ----------------------------------------------------------------
    def _held(self, name: str, low: np.ndarray, on_floor: np.ndarray) -> np.ndarray:
        """Where a point is held still though it is not low, as on a rung or a board (a mask)."""
        row, limits = self.at[name], self.limits
        none = np.zeros(self.clip.frames, bool)
        if name == "seat":
            near = self.sits & ~low & (self.speeds[row] < limits.slack * limits.speed)
            return self._whole(near, near & (self.speeds[row] < limits.speed), limits.shortest_held)
        if name not in FEET and name not in HANDS:
            return none
        near = (self.speeds[row] < limits.slack * limits.held_speed) & ~low
        sure = (self.speeds[row] < limits.held_speed) & ~low
        mask = self._whole(near, sure, limits.shortest_held)
        for first, last in _stretches(mask):
            part = slice(first, last + 1)
            bears = name in FEET and not on_floor[part].any()
            if not (bears or self._moves_about(name, part)):
                mask[part] = False
        return mask

    def _sits(self) -> np.ndarray:
        parts = self.body.parts
        soles = [self.at[n] for n in FEET if n in self.at]
        legs = [(parts[f"{side} thigh"][0], parts[f"{side} shin"][0]) for side in SIDES if f"{side} shin" in parts]
        if not soles or not legs:
            return np.zeros(self.clip.frames, bool)
        hips, knees = (np.stack([self._joint(leg[i]) for leg in legs]) for i in (0, 1))
        return sits(hips, knees, self.places[soles], self.body.stature)

    def _moves_about(self, name: str, part: slice) -> bool:
        """Whether the body moves while the point stays: how far its hip or shoulder goes from it and towards it."""
        side, _, _ = name.partition(" ")
        anchor = f"{side} thigh" if name in FEET else f"{side} upper arm"
        if anchor not in self.body.parts:
            return False
        place = self._joint(self.body.parts[anchor][0])[:, part]
        reach = np.linalg.norm(place - self.places[self.at[name]][:, part], axis=0)
        drift = float(np.linalg.norm(np.ptp(self.places[self.at[name]][:, part], axis=1)))
        seconds = (part.stop - part.start) / self.clip.rate
        return bool(np.ptp(reach) > max(0.05 * self.size, 2.5 * drift) and drift < _DRIFT * seconds)

    def _joint(self, joint: int) -> np.ndarray:
        """The path ``(3, frames)`` of a hip, knee or shoulder."""
        return self._limbs[joint]

    # --- stretches ------------------------------------------------------------------------------
    def _whole(self, near: np.ndarray, sure: np.ndarray, shortest: float) -> np.ndarray:
        """From the first ``sure`` frame of each stretch of ``near`` to its end; small gaps closed, short ones dropped."""
        mask = np.zeros(len(near), bool)
        for first, last in _stretches(near):
            begun = np.flatnonzero(sure[first : last + 1])
            if len(begun):
                mask[first + begun[0] : last + 1] = True
        gap = max(round(self.limits.gap * self.clip.rate), 1)
        for first, last in _stretches(~mask):
            if first > 0 and last < len(mask) - 1 and last - first + 1 <= gap and near[first : last + 1].mean() > 0.3:
                mask[first : last + 1] = True
        for first, last in _stretches(mask):
            if last - first + 1 < max(shortest * self.clip.rate, 2):
                mask[first : last + 1] = False
        return mask

    def _contact(self, name: str, first: int, last: int, held: bool) -> Contact:
        places = self.raw[self.at[name]][:, first : last + 1]
        middle = np.median(places, axis=1)
        away = np.linalg.norm((places - middle[:, None])[[0, 2]], axis=0)
        return Contact(name, first, last, float(middle[1] - self.floor), float(away.max()), held)


def _steadied(rows: np.ndarray, rate: float) -> np.ndarray:
    """Places ``(points, 3, frames)`` with the jitter of single frames taken out, so that speeds mean the same at any rate.

    By a Gaussian as wide as each point's own jitter asks for, which is told by its fourth differences: those of white
    noise of the standard deviation s have s times the root of 70, those of smooth motion hardly any.
    """
    out = np.empty_like(rows)
    for row, places in enumerate(rows):
        jitter = 0.0
        if places.shape[-1] > 8:
            jitter = float(np.median(np.linalg.norm(np.diff(places, 4, axis=-1), axis=0))) / (1.54 * 70**0.5)
        # The width at which what is left of the jitter is a speed of _STEADY, as far as motion can bear it.
        width = (jitter * rate / (2.66 * _STEADY)) ** (2 / 3)
        width = min(max(width, _NARROW * rate), _WIDE * rate)
        out[row] = gaussian_filter1d(places, width, axis=-1, mode="nearest") if width > 0.4 else places
    return out


def _stretches(mask: np.ndarray) -> Iterator[tuple[int, int]]:
    """``(first, last)`` of each run of true values."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], mask, [False]]).astype(np.int8)))
    yield from zip(edges[::2].tolist(), (edges[1::2] - 1).tolist())


def changed(contacts: Contacts, index: int, **fields: object) -> Contacts:
    """The contacts with other fields for one of them."""
    found = list(contacts.found)
    found[index] = replace(found[index], **fields)  # type: ignore[arg-type]
    return replace(contacts, found=tuple(found))
