"""Finding contacts in a clip: where a point of the body is still in the world, and low or held."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ..evaluator import EVALUATOR
from ..humanoid.volumes import volumes
from ..kinematics import forward_rows
from ..stretches import stretches, whole
from .calming import calmed
from .choices import USUAL, ContactChoices, Thresholds
from .contact import Contact, Contacts
from .points import FEET, HANDS, SIDES, contact_points, points_of
from .sitting import sits
from .steadying import is_restless, steadied, widths
from .touching import find_touches

if TYPE_CHECKING:
    from collections.abc import Iterator

    from ..character.meshes import Character
    from ..clip import Clip
    from ..humanoid.reading import Body
    from .choices import Drawn
    from .contact import Touch
    from .points import ContactPoint

_DRIFT = 0.05  # m/s
_USUAL = Thresholds()


def find_contacts(
    clip: Clip, body: Body | None, character: Character | None = None, choices: ContactChoices = ContactChoices()
) -> Contacts:
    """The contacts of a placed clip of a body; none without a body.

    Points that are still in the world, with hysteresis (as in edge detection, Canny 1986) and smallest durations. A foot
    also has to be low, or to carry: still at a height of its own while no foot is on the floor, or while the hips move
    about it. A hand has to be still while its shoulder moves, since idle hands are still too. Knees and the seat count
    where they are low. What is drawn by hand goes over all of that.
    """
    points = contact_points(clip.skeleton, body, character)
    if body is None or not points or clip.frames < 2:
        return Contacts(rate=clip.rate)
    search = EVALUATOR.of("contact search", (clip, body, points), lambda: ContactSearch(clip, body, points, character))
    return search.run(choices)


def is_searched(clip: Clip, body: Body | None, character: Character | None) -> bool:
    """Whether ``find_contacts`` answers at once, since only choices are other ones than before."""
    points = contact_points(clip.skeleton, body, character)
    return body is None or not points or EVALUATOR.peek("contact search", (clip, body, points)) is not None


class ContactSearch:
    """What is known of a clip's points before any threshold is asked for."""

    def __init__(
        self, clip: Clip, body: Body, points: tuple[ContactPoint, ...], character: Character | None = None
    ) -> None:
        self.frames, self.rate, self.body = clip.frames, clip.rate, body
        self.size = body.stature / USUAL
        self.at = dict(zip((p.name for p in points), range(len(points))))
        anchors = [run[0] for part, run in body.parts.items() if part.endswith((" thigh", " shin", " upper arm"))]
        joints = {*anchors, *(p.joint for p in points)}
        world = forward_rows(clip, sorted(joints))
        self.raw = places = points_of(points, *world)
        jitter = widths(places, clip.rate)
        if is_restless(jitter, clip.rate):
            clip = calmed(clip, joints)
            world = forward_rows(clip, sorted(joints))
            places = points_of(points, *world)
            jitter = widths(places, clip.rate)
        self._limbs, self.places = world[0], steadied(places, clip.rate, jitter)
        self.speeds = _speeds(self.places) * clip.rate
        self.sits = self._sits()
        self.touches = find_touches(clip, body, {p.name: p for p in points}, volumes(clip.skeleton, body, character))

    def run(self, choices: ContactChoices) -> Contacts:
        """The contacts of all points: those on the floor, then those at heights of their own, then those drawn by hand."""
        floor = self._floor(choices.thresholds())
        low = {}
        for name in self.at:
            low[name] = np.zeros(self.frames, bool)
            for part, limits in choices.stretches(name):
                low[name][part] = self._low(name, floor, limits)[part]
        on_floor = np.any([mask for name, mask in low.items() if name in FEET] or [np.zeros(self.frames, bool)], axis=0)
        found: list[Contact] = []
        for name in self.at:
            kind = np.zeros(self.frames, np.int8)
            for part, limits in choices.stretches(name):
                kind[part] = 2 * self._held(name, low[name], on_floor, limits)[part]
            kind[low[name]] = 1
            drawn = [d for d in choices.drawn if d.point == name]
            for one in drawn:
                self._draw(kind, one, self._over(name, floor), choices.thresholds(name))
            runs = [(*s, held) for held in (False, True) for s in stretches(kind == 1 + held)]
            found += self._contacts(name, sorted(runs), floor, drawn)
        return Contacts(tuple(found), floor, self.rate, tuple(self._moving(found)))

    def _moving(self, found: list[Contact]) -> Iterator[Touch]:
        """Touches of hands, but for what they do while they hold something in the room."""
        for touch in self.touches:
            hands = HANDS if touch.side == "both" else (f"{touch.side} hand",)
            if not any(c.point in hands and c.first <= touch.last and c.last >= touch.first for c in found):
                yield touch

    def _draw(self, kind: np.ndarray, one: Drawn, over: np.ndarray, limits: Thresholds) -> None:
        """Lay what is drawn by hand over what was found: 0 none, 1 on the floor, 2 at a height of its own."""
        part = slice(one.first, min(one.last + 1, len(kind)))
        if not one.touches:
            kind[part] = 0
            return
        beside = kind[max(one.first - 1, 0) : one.last + 2]
        beside = beside[beside > 0]
        if len(beside):
            fill = beside[0]
        else:
            fill = 1 if not len(over[part]) or np.median(over[part]) < 2 * limits.slack * limits.height else 2
        kind[part] = np.where(kind[part] > 0, kind[part], fill)

    # --- on the floor ---------------------------------------------------------------------------
    def _floor(self, limits: Thresholds) -> float:
        """The floor's height: where the lowest points of the feet are while they are still."""
        feet = [self.at[n] for n in FEET if n in self.at]
        if not feet:
            return 0.0
        heights, still = self.places[feet, 1], self.speeds[feet] < limits.speed
        lowest = np.sort(heights[still]) if still.any() else np.sort(heights.min(0))
        level = float(lowest[len(lowest) // 20])
        # Clips are put on the floor before: what is far from it stands on something, or flies; who sits may rest the
        # feet on anything.
        near = abs(level) < 0.12 * self.size and self.sits.mean() < 0.5
        return level if near else 0.0

    def _over(self, name: str, floor: float) -> np.ndarray:
        """How high a point is over where it stands on the floor, for a figure of the usual stature."""
        row = self.at[name]
        level = self._own_level(row, floor) if name in FEET else floor
        return (self.places[row, 1] - level) / self.size

    def _low(self, name: str, floor: float, limits: Thresholds) -> np.ndarray:
        """Where a point is still and low: frames on the floor (a mask)."""
        row, over = self.at[name], self._over(name, floor)
        height = limits.height if name in FEET else 2 * limits.height
        near = (over < limits.slack * height) & (self.speeds[row] < limits.slack * limits.speed)
        sure = (over < height) & (self.speeds[row] < limits.speed)
        return whole(near, sure, limits.shortest, limits.gap, self.rate)

    def _own_level(self, row: int, floor: float) -> float:
        """How high a foot's point is while it stands on the floor: captured feet are not quite where their bones say."""
        still = self.places[row, 1][self.speeds[row] < _USUAL.speed]
        if len(still) < 3:
            return floor
        level = float(np.sort(still)[len(still) // 10])
        return level if abs(level - floor) < _USUAL.height * self.size else floor

    # --- at heights of their own ----------------------------------------------------------------
    def _held(self, name: str, low: np.ndarray, on_floor: np.ndarray, limits: Thresholds) -> np.ndarray:
        """Where a point is held still though it is not low, as on a rung or a board (a mask)."""
        row, none = self.at[name], np.zeros(self.frames, bool)
        if name == "seat":
            near = self.sits & ~low & (self.speeds[row] < limits.slack * limits.speed)
            return whole(near, near & (self.speeds[row] < limits.speed), limits.shortest_held, limits.gap, self.rate)
        if name not in FEET and name not in HANDS:
            return none
        near = (self.speeds[row] < limits.slack * limits.held_speed) & ~low
        sure = (self.speeds[row] < limits.held_speed) & ~low
        mask = whole(near, sure, limits.shortest_held, limits.gap, self.rate)
        for first, last in stretches(mask):
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
            return np.zeros(self.frames, bool)
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
        seconds = (part.stop - part.start) / self.rate
        return bool(np.ptp(reach) > max(0.05 * self.size, 2.5 * drift) and drift < _DRIFT * seconds)

    def _joint(self, joint: int) -> np.ndarray:
        """The path ``(3, frames)`` of a hip, knee or shoulder."""
        return self._limbs[joint]

    def _contacts(
        self, name: str, runs: list[tuple[int, int, bool]], floor: float, drawn: list[Drawn]
    ) -> Iterator[Contact]:
        """The contacts of a point that touches in ``runs (first, last, held)``, which do not overlap."""
        if not runs:
            return
        places = np.pad(self.raw[self.at[name]], ((0, 0), (0, 1)))
        bounds = np.array([(first, last + 1) for first, last, _ in runs]).ravel()
        counts = bounds[1::2] - bounds[::2]
        middles = np.add.reduceat(places, bounds, axis=1)[:, ::2] / counts
        away = np.zeros(places.shape[1])
        for row in (0, 2):
            off = places[row].copy()
            off[_all_of(bounds)] -= np.repeat(middles[row], counts)
            away += off * off
        slides = np.sqrt(np.maximum.reduceat(away, bounds)[::2])
        for (first, last, held), height, slide in zip(runs, middles[1].tolist(), slides.tolist()):
            by_hand = any(d.first <= last + 1 and d.last >= first - 1 for d in drawn)
            yield Contact(name, first, last, height - floor, slide, held, by_hand)


def _speeds(places: np.ndarray) -> np.ndarray:
    """How far points go in a frame ``(points, frames)``: by central differences, at the ends to the next frame."""
    steps = np.empty_like(places)
    np.subtract(places[..., 2:], places[..., :-2], out=steps[..., 1:-1])
    steps[..., 1:-1] *= 0.5
    for at, (a, b) in ((0, (1, 0)), (-1, (-1, -2))):
        steps[..., at] = places[..., a] - places[..., b]
    return np.sqrt(np.einsum("pxf,pxf->pf", steps, steps))


def _all_of(bounds: np.ndarray) -> np.ndarray:
    """All frames from each even bound to the next odd one."""
    return np.concatenate([np.arange(a, b) for a, b in zip(bounds[::2].tolist(), bounds[1::2].tolist())])
