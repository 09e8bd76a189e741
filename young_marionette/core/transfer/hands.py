"""Hands that hold: kept where they hold in the room, on the own body and on each other, or in the source's places.

The wrist's way from where the transfer puts it is exact while something is held and smooth between; arms are solved in
the plane that they bend in anyway, and hands stay turned as they are. Arms are kept out of the body on top (see clearing).
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..clip import as_rows, from_rows
from ..contacts.points import SIDES, points_of
from ..humanoid.volumes import nearest
from ..kinematics import forward_rows
from .bridging import bridged
from .clearing import RATE, ArmPath, Trunk, cleared, depths, excess, full
from .limbs import FREELY, Limb, put
from .settings import PLACES, TOUCH

if TYPE_CHECKING:
    from collections.abc import Iterable

    from ..clip import Clip
    from ..contacts.contact import Contacts, Touch
    from ..contacts.points import ContactPoint
    from ..humanoid.volumes import Volume
    from ..skeleton import Skeleton
    from .retarget import Transfer
    from .settings import TransferSettings

_TRIES = 60
_APART = 0.25  # seconds between two things that a hand holds, at least


@dataclass(frozen=True, eq=False)
class Arm:
    """An arm and the middle of its hand."""

    side: str
    limb: Limb
    palm: ContactPoint


@dataclass(frozen=True, eq=False)
class Side:
    """What is known of one side, source or rig: its arms and volumes by name, the rotations ``(joints, 4)`` of its
    reference pose in the world, and its stature (metres).
    """

    arms: dict[str, Arm]
    volumes: dict[str, Volume]
    reference: np.ndarray
    stature: float

    def world(self, clip: Clip, step: int = 1) -> tuple[np.ndarray, np.ndarray]:
        """Where arms and volumes are in a clip, as ``forward_rows`` gives it."""
        joints = _joints(self.arms.values()) | {v.joint for v in self.volumes.values()}
        return forward_rows(clip, sorted(joints), step)


def _joints(arms: Iterable[Arm]) -> set[int]:
    return {j for arm in arms for j in (arm.limb.first, arm.limb.second, arm.limb.end, arm.palm.joint)}


def arms_of(
    skeleton: Skeleton, parts: dict[str, tuple[int, ...]], points: dict[str, ContactPoint], forward: np.ndarray
) -> dict[str, Arm]:
    """The arms of a body whose ``parts`` are known, by side; elbows bend forward where nothing else tells."""
    arms = {}
    for side in SIDES:
        wanted = [f"{side} {p}" for p in ("upper arm", "forearm", "hand")]
        if not all(p in parts for p in wanted) or f"{side} hand" not in points:
            continue
        upper, lower, hand = (parts[p][0] for p in wanted)
        if lower in skeleton.subtree(upper) and hand in skeleton.subtree(lower):
            arms[side] = Arm(side, Limb.of(skeleton, (upper, lower, hand), forward), points[f"{side} hand"])
    return arms


class Holding:
    """Puts the hands of a transferred motion where the source's hands are held, and its arms out of its body."""

    def __init__(self, clip: Clip, source: Clip, transfer: Transfer, own: Side, rigs: Side) -> None:
        """``clip``: on the rig; ``source``: of the same frames; ``own`` and ``rigs``: what is known of both sides."""
        self.clip, self.source, self.transfer, self.own, self.rigs = clip, source, transfer, own, rigs
        self.arms = {side: arm for side, arm in rigs.arms.items() if side in own.arms}

    def shifts(
        self, settings: TransferSettings, contacts: Contacts
    ) -> tuple[dict[str, np.ndarray], dict[str, np.ndarray]]:
        """``(ways of the wrists {side: (frames, 3)}, frames in which a hand is held {side: mask})``."""
        fixed = {side: np.zeros(self.clip.frames, bool) for side in self.arms}
        held = settings.hands == TOUCH and (contacts.touches or any(contacts.of(f"{side} hand") for side in self.arms))
        if not held and settings.hands != PLACES:
            return {}, fixed
        return _Hands(self, fixed).shifts(settings, contacts), fixed

    def cleared(
        self, shifts: dict[str, np.ndarray], fixed: dict[str, np.ndarray]
    ) -> tuple[dict[str, np.ndarray], dict[str, np.ndarray]]:
        """``(ways of the wrists, swings of the elbows)`` with which arms are out of the body, beside ``shifts``."""
        if set(self.own.volumes) != set(self.rigs.volumes):
            return shifts, {}
        step, frames = self._step(), self.clip.frames
        arms, trunk, allowed = self._thinned(step)
        ways, swings = dict(shifts), {}
        for side, arm in arms.items():
            before = shifts[side][::step] if side in shifts else np.zeros((len(arm.start), 3))
            shift, swing = cleared(arm, trunk, allowed[side], self.clip.rate / step, before, fixed[side][::step])
            more = shift - before
            if more.any():
                ways[side] = shifts.get(side, 0.0) + full(more, step, frames)
            if swing.any():
                swings[side] = full(swing, step, frames)
        return ways, swings

    def depth(self) -> dict[str, np.ndarray]:
        """How deep each arm is in the body, deeper than the source's: ``{side: (frames,)}``, metres."""
        if set(self.own.volumes) != set(self.rigs.volumes):
            return {}
        step = self._step()
        arms, trunk, allowed = self._thinned(step)
        return {side: full(excess(arm, trunk, allowed[side]), step, self.clip.frames) for side, arm in arms.items()}

    def _step(self) -> int:
        """Each how many frames arms are looked at."""
        return max(int(self.clip.rate / RATE + 1e-6), 1)

    def _thinned(self, step: int) -> tuple[dict[str, ArmPath], Trunk, dict[str, np.ndarray]]:
        """Of each so many frames: the rig's arms, its trunk, and how deep its arms may be, as the source's are."""
        world, own = self.rigs.world(self.clip, step), self.own.world(self.source, step)
        own_trunk = Trunk(self.own.volumes, own, self.own.stature)
        share = self.rigs.stature / self.own.stature
        allowed = {}
        for side in self.arms:
            arm = self.own.arms[side]
            allowed[side] = depths(ArmPath(arm.limb, arm.palm, own), own_trunk) * share
        arms = {side: ArmPath(arm.limb, arm.palm, world) for side, arm in self.arms.items()}
        return arms, Trunk(self.rigs.volumes, world, self.rigs.stature), allowed

    # --- moving -------------------------------------------------------------------------------------
    def moved(self, shifts: dict[str, np.ndarray], swings: dict[str, np.ndarray], fresh: bool = False) -> Clip:
        """The motion with wrists moved by ``{side: (frames, 3)}`` and elbows swung by ``{side: (frames,)}``, radians.

        ``fresh``: nobody else has the clip, so that its arrays may be written over.
        """
        if not shifts and not swings:
            return self.clip
        arms = {side: self.arms[side] for side in dict.fromkeys((*shifts, *swings))}
        world, skeleton = forward_rows(self.clip, sorted(_joints(arms.values()))), self.clip.skeleton
        turns = world[1]
        local = as_rows(self.clip.rotations) if fresh else as_rows(self.clip.rotations).copy()
        for side, arm in arms.items():
            shift = shifts.get(side, np.zeros((self.clip.frames, 3)))
            first, second = ArmPath(arm.limb, arm.palm, world).changes(shift, swings.get(side))
            upper, lower, hand = arm.limb.first, arm.limb.second, arm.limb.end
            put(local, skeleton, upper, rot.multiply(first, turns[upper].T), turns, None)
            put(local, skeleton, lower, rot.multiply(second, turns[lower].T), turns, first)
            put(local, skeleton, hand, turns[hand].T, turns, second)
        return replace(self.clip, rotations=from_rows(local))


class _Hands:
    """Where hands are and where they are to be; ``fixed`` is filled with the frames in which they are held."""

    def __init__(self, holding: Holding, fixed: dict[str, np.ndarray]) -> None:
        self.own, self.rigs, self.arms, self.fixed = holding.own, holding.rigs, holding.arms, fixed
        self.transfer, self.clip = holding.transfer, holding.clip
        self.world, self.own_world = self.rigs.world(holding.clip), self.own.world(holding.source)
        self.palms = {side: points_of([arm.palm], *self.world)[0].T for side, arm in self.arms.items()}
        self.own_palms = {side: points_of([self.own.arms[side].palm], *self.own_world)[0].T for side in self.arms}

    def shifts(self, settings: TransferSettings, contacts: Contacts) -> dict[str, np.ndarray]:
        """The ways of the wrists, of those that have any."""
        fixed, shifts = self.fixed, {side: np.zeros((self.clip.frames, 3)) for side in self.arms}
        if settings.hands == PLACES:
            for side in self.arms:
                away = self.transfer.in_room(self.own_palms[side]) - self.palms[side]
                shifts[side] = settings.hold_places * away
        else:
            if settings.hold_room:
                self._in_room(shifts, fixed, contacts, settings.hold_room)
            if settings.hold_body:
                self._on_body(shifts, fixed, contacts.touches, settings.hold_body)
            if settings.hold_hands:
                self._together(shifts, fixed, contacts.touches, settings.hold_hands)
            shifts = {side: bridged(shifts[side], fixed[side], self.clip.rate) for side in self.arms}
        return {side: shift for side, shift in shifts.items() if shift.any()}

    def _in_room(self, shifts: dict, fixed: dict, contacts: Contacts, weight: float) -> None:
        """Hands that hold something in the room: there, scaled to the rig, or as close to it as the arm reaches."""
        for side in self.arms:
            for contact in contacts.of(f"{side} hand"):
                part = slice(contact.first, min(contact.last + 1, self.clip.frames))
                if part.start >= part.stop:
                    continue
                there = np.median(self.transfer.in_room(self.own_palms[side][part]), axis=0)
                shifts[side][part] = weight * (self._reachable(side, there, part) - self.palms[side][part])
                fixed[side][part] = True

    def _reachable(self, side: str, place: np.ndarray, part: slice) -> np.ndarray:
        """The place ``(3,)`` that the palm reaches all through some frames, close to another one.

        By going to where the frame that reaches worst reaches, again and again (projections onto convex sets).
        """
        limb, places = self.arms[side].limb, self.world[0]
        about = places[limb.first].T[part] - (places[limb.end].T[part] - self.palms[side][part])
        most = FREELY * sum(limb.lengths(places))
        for _ in range(_TRIES):
            way = place - about
            far = np.linalg.norm(way, axis=1)
            worst = int(far.argmax())
            if far[worst] <= most:
                break
            place = about[worst] + way[worst] * (0.999 * most / far[worst])
        return place

    def _on_body(self, shifts: dict, fixed: dict, touches: tuple[Touch, ...], weight: float) -> None:
        """Hands on the own body: at the same place of the same part, as far from its surface."""
        for touch in touches:
            if touch.side not in self.arms or touch.to not in self.rigs.volumes or touch.to not in self.own.volumes:
                continue
            if self._near(fixed[touch.side], touch):
                continue
            part = slice(touch.first, min(touch.last + 1, self.clip.frames))
            own, rigs = self.own.volumes[touch.to], self.rigs.volumes[touch.to]
            palm = self.own_palms[touch.side][part]
            place, turn = (rows[own.joint].T[part] for rows in self.own_world)
            share, near = nearest(palm, *own.line(place, turn))
            away = palm - near
            far = np.linalg.norm(away, axis=1, keepdims=True)
            rig_place, rig_turn = (rows[rigs.joint].T[part] for rows in self.world)
            change = rot.multiply(turn, rot.conjugate(self.own.reference[own.joint]))
            rig_change = rot.multiply(rig_turn, rot.conjugate(self.rigs.reference[rigs.joint]))
            way = rot.rotate(rot.multiply(rig_change, rot.conjugate(change)), away / np.maximum(far, 1e-9))
            a, b = rigs.line(rig_place, rig_turn)
            gap = np.maximum(far - own.radius, 0.0) * rigs.radius / own.radius
            there = a + share[:, None] * (b - a) + way * (rigs.radius + gap)
            shifts[touch.side][part] = weight * (there - self.palms[touch.side][part])
            fixed[touch.side][part] = True

    def _together(self, shifts: dict, fixed: dict, touches: tuple[Touch, ...], weight: float) -> None:
        """Hands on each other or on one thing: as far apart as the source's, for arms of the rig's length."""
        left, right = SIDES
        for touch in touches:
            if len(self.arms) < 2 or touch.to != "hands" or any(self._near(fixed[side], touch) for side in SIDES):
                continue
            part = slice(touch.first, min(touch.last + 1, self.clip.frames))
            wanted = (self.own_palms[right][part] - self.own_palms[left][part]) * self._arm_scale()
            lacks = wanted - (self.palms[right][part] - self.palms[left][part])
            shifts[left][part] -= weight / 2 * lacks
            shifts[right][part] += weight / 2 * lacks
            fixed[left][part] = fixed[right][part] = True

    def _near(self, fixed: np.ndarray, touch: Touch) -> bool:
        """Whether a hand holds something else close to a touch: from one to the other there has to be a way."""
        apart = round(_APART * self.clip.rate)
        return bool(fixed[max(touch.first - apart, 0) : touch.last + 1 + apart].any())

    def _arm_scale(self) -> float:
        """How long the rig's arms are against the source's."""
        longs = [
            sum(sum(arm.limb.lengths(world[0])) for arm in side.arms.values()) / len(side.arms)
            for side, world in ((self.rigs, self.world), (self.own, self.own_world))
        ]
        return longs[0] / longs[1]
