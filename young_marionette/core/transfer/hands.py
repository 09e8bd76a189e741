"""Hands that hold: kept where they hold in the room, on the own body and on each other, or in the source's places.

The wrist's way from where the transfer puts it is exact while something is held and smooth between; arms are solved in
the plane that they bend in anyway, and hands stay turned as they are.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..clip import as_rows, from_rows
from ..contacts.points import SIDES, point_rows
from ..humanoid.volumes import nearest
from ..kinematics import forward_rows
from .bridging import bridged
from .clearing import move_arm
from .limbs import FREELY, Limb
from .settings import PLACES, TOUCH

if TYPE_CHECKING:
    from collections.abc import Sequence

    from ..clip import Clip
    from ..contacts.contact import Contacts, Touch
    from ..contacts.points import ContactPoint
    from ..humanoid.volumes import Volume
    from ..skeleton import Skeleton
    from .retarget import Transfer

_APART = 0.25  # seconds between two things that a hand holds, at least
_TRIES = 60


@dataclass(frozen=True, eq=False)
class Arm:
    """An arm of the rig and the middle of its hand."""

    side: str
    limb: Limb
    palm: ContactPoint


@dataclass(frozen=True, eq=False)
class Side:
    """What is known of one side, source or rig: volumes by part, and rotations ``(joints, 4)`` of its reference pose."""

    volumes: dict[str, Volume]
    reference: np.ndarray


def arms_of(
    skeleton: Skeleton, parts: dict[str, tuple[int, ...]], points: dict[str, ContactPoint], forward: np.ndarray
) -> tuple[Arm, ...]:
    """The arms of a rig whose ``parts`` are known; elbows bend forward where nothing else tells."""
    arms = []
    for side in SIDES:
        wanted = [f"{side} {p}" for p in ("upper arm", "forearm", "hand")]
        if not all(p in parts for p in wanted) or f"{side} hand" not in points:
            continue
        upper, lower, hand = (parts[p][0] for p in wanted)
        if lower in skeleton.subtree(upper) and hand in skeleton.subtree(lower):
            arms.append(Arm(side, Limb.of(skeleton, (upper, lower, hand), forward), points[f"{side} hand"]))
    return tuple(arms)


class Holding:
    """Puts the hands of a transferred motion where the source's hands are held."""

    def __init__(
        self,
        clip: Clip,
        source: Clip,
        transfer: Transfer,
        arms: Sequence[Arm],
        palms: dict[str, ContactPoint],
        sides: tuple[Side, Side],
    ) -> None:
        """``clip``: on the rig; ``source``: of the same frames. ``palms``: of the source, by side. ``sides``: source and rig."""
        self.clip, self.source, self.transfer = clip, source, transfer
        self.arms, (self.own, self.rigs) = {arm.side: arm for arm in arms if arm.side in palms}, sides
        wanted = [j for arm in arms for j in (arm.limb.first, arm.limb.second, arm.limb.end)]
        wanted += [volume.joint for volume in self.rigs.volumes.values()]
        self.places, self.turns = forward_rows(clip, sorted(set(wanted)))
        joints = sorted({volume.joint for volume in self.own.volumes.values()})
        self.source_places, self.source_turns = forward_rows(source, joints)
        rows = point_rows(source, [palms[side] for side in self.arms]) if self.arms else []
        self.source_palms = {side: row.T for side, row in zip(self.arms, rows)}
        self.palms = {
            side: self.places[arm.limb.end].T + rot.rotate(self.turns[arm.limb.end].T, arm.palm.offset)
            for side, arm in self.arms.items()
        }

    def shifts(
        self, hands: str, contacts: Contacts, weight: float = 1.0
    ) -> tuple[dict[str, np.ndarray], dict[str, np.ndarray]]:
        """``(ways of the wrists {side: (frames, 3)}, frames in which a hand is held {side: mask})``.

        ``hands``: see settings. ``weight``: from 0, not at all, to 1.
        """
        frames = self.clip.frames
        shifts = {side: np.zeros((frames, 3)) for side in self.arms}
        fixed = {side: np.zeros(frames, bool) for side in self.arms}
        if hands == PLACES:
            for side in self.arms:
                shifts[side] = self.transfer.in_room(self.source_palms[side]) - self.palms[side]
        elif hands == TOUCH:
            self._in_room(shifts, fixed, contacts)
            self._on_body(shifts, fixed, contacts.touches)
            self._together(shifts, fixed, contacts.touches)
            shifts = {side: bridged(shifts[side], fixed[side], self.clip.rate) for side in self.arms}
        return {side: weight * shift for side, shift in shifts.items() if weight and shift.any()}, fixed

    def _in_room(self, shifts: dict, fixed: dict, contacts: Contacts) -> None:
        """Hands that hold something in the room: there, scaled to the rig, or as close to it as the arm reaches."""
        for side in self.arms:
            for contact in contacts.of(f"{side} hand"):
                part = slice(contact.first, min(contact.last + 1, self.clip.frames))
                if part.start >= part.stop:
                    continue
                there = np.median(self.transfer.in_room(self.source_palms[side][part]), axis=0)
                shifts[side][part] = self._reachable(side, there, part) - self.palms[side][part]
                fixed[side][part] = True

    def _reachable(self, side: str, place: np.ndarray, part: slice) -> np.ndarray:
        """The place ``(3,)`` that the palm reaches all through some frames, close to another one.

        By going to where the frame that reaches worst reaches, again and again (projections onto convex sets).
        """
        limb = self.arms[side].limb
        about = self.places[limb.first].T[part] - (self.places[limb.end].T[part] - self.palms[side][part])
        most = FREELY * sum(limb.lengths(self.places))
        for _ in range(_TRIES):
            way = place - about
            far = np.linalg.norm(way, axis=1)
            worst = int(far.argmax())
            if far[worst] <= most:
                break
            place = about[worst] + way[worst] * (0.999 * most / far[worst])
        return place

    def _on_body(self, shifts: dict, fixed: dict, touches: Sequence[Touch]) -> None:
        """Hands on the own body: at the same place of the same part, as far from its surface."""
        for touch in touches:
            if touch.side not in self.arms or touch.to not in self.rigs.volumes:
                continue
            if self._near(fixed[touch.side], touch):
                continue
            part = slice(touch.first, min(touch.last + 1, self.clip.frames))
            own, rigs = self.own.volumes[touch.to], self.rigs.volumes[touch.to]
            palm = self.source_palms[touch.side][part]
            ends = own.line(self.source_places[own.joint].T[part], self.source_turns[own.joint].T[part])
            share, near = nearest(palm, *ends)
            away = palm - near
            far = np.linalg.norm(away, axis=1, keepdims=True)
            change = rot.multiply(self.source_turns[own.joint].T[part], rot.conjugate(self.own.reference[own.joint]))
            rig_change = rot.multiply(self.turns[rigs.joint].T[part], rot.conjugate(self.rigs.reference[rigs.joint]))
            way = rot.rotate(rot.multiply(rig_change, rot.conjugate(change)), away / np.maximum(far, 1e-9))
            a, b = rigs.line(self.places[rigs.joint].T[part], self.turns[rigs.joint].T[part])
            gap = np.maximum(far - own.radius, 0.0) * rigs.radius / own.radius
            place = a + share[:, None] * (b - a) + way * (rigs.radius + gap)
            shifts[touch.side][part] = place - self.palms[touch.side][part]
            fixed[touch.side][part] = True

    def _together(self, shifts: dict, fixed: dict, touches: Sequence[Touch]) -> None:
        """Hands on each other or on one thing: as far apart as the source's, for arms of the rig's length."""
        if len(self.arms) < 2:
            return
        left, right = SIDES
        scale = self._arm_scale()
        for touch in touches:
            if touch.to != "hands" or any(self._near(fixed[side], touch) for side in SIDES):
                continue
            part = slice(touch.first, min(touch.last + 1, self.clip.frames))
            wanted = (self.source_palms[right][part] - self.source_palms[left][part]) * scale
            lacks = wanted - (self.palms[right][part] - self.palms[left][part])
            shifts[left][part] -= lacks / 2
            shifts[right][part] += lacks / 2
            fixed[left][part] = fixed[right][part] = True

    def _near(self, fixed: np.ndarray, touch: Touch) -> bool:
        """Whether a hand holds something else close to a touch: from one to the other there has to be a way."""
        apart = round(_APART * self.clip.rate)
        return bool(fixed[max(touch.first - apart, 0) : touch.last + 1 + apart].any())

    def _arm_scale(self) -> float:
        """How long the rig's arms are against the source's."""
        ties = {s.part: s for s in self.transfer.strings}
        ends = [ties["left upper arm"], ties["left hand"]]
        skeleton = self.source.skeleton
        places = skeleton.rest_world[0]
        first, end = (skeleton.index[s.source[0]] for s in ends)
        middle = skeleton.index[ties["left forearm"].source[0]] if "left forearm" in ties else first
        own = np.linalg.norm(places[middle] - places[first]) + np.linalg.norm(places[end] - places[middle])
        return float(sum(self.arms["left"].limb.lengths(self.places)) / own)

    def moved(self, shifts: dict[str, np.ndarray], swings: dict[str, np.ndarray]) -> Clip:
        """The motion with wrists moved by ``{side: (frames, 3)}`` and elbows swung by ``{side: (frames,)}``, radians."""
        if not shifts and not swings:
            return self.clip
        local = as_rows(self.clip.rotations).copy()
        for side in dict.fromkeys((*shifts, *swings)):
            limb = self.arms[side].limb
            shift = shifts.get(side, np.zeros((self.clip.frames, 3)))
            move_arm(local, self.clip, limb, self.places, self.turns, shift, swings.get(side))
        return replace(self.clip, rotations=from_rows(local))
