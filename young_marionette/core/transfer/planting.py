"""Planting: what stands on the source stands on the rig, by closed-form legs, without a pop at a contact's ends.

For each foot the contacts of heel and ball are joined to stands, each with one place on the ground. The ankle's way from
where the transfer puts it to where it has to be is exact inside of contacts and a cubic (Hermite) between them; the legs
are solved in the plane that they bend in anyway (two bones, law of cosines), and where a leg would be too short the hips
give way along a smooth curve that lies over all that is needed.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..clip import as_rows, from_rows
from ..contacts.points import points_of
from ..kinematics import forward_rows
from ..smoothing import gaussian, largest_within
from ..stretches import ends_of
from .bridging import PASSING, WALKING, Pace, bridged, looked_at
from .giving import given
from .limbs import Limb, far_at, opening, put

if TYPE_CHECKING:
    from collections.abc import Sequence

    from ..clip import Clip
    from ..contacts.contact import Contact, Contacts
    from ..contacts.points import ContactPoint
    from ..skeleton import Skeleton

_REACH = 0.96  # of a leg's length: how far it is stretched at most
_USUAL, _ALL_BUT_STRAIGHT = 0.95, 0.997  # of a motion's frames, and of a leg's length
_FLAT = np.radians(35.0)  # a sole that is further from level than this was never flat on the floor
_SLIDES, _TURNS = 0.8, 8.0  # m/s and radians per second: how fast what stands may leave where it stood, at most
_SHALLOW = 0.005  # metres under the floor that nobody sees
_RISING, _CLOSE = 0.04, 0.1  # seconds: how softly feet are kept over the floor, and how close to a stand they are not
_ROLLS = 0.025  # seconds: how smoothly an ankle goes about a heel or a ball that stands alone
_YIELD = 0.12  # seconds: the width of the curve by which hips give way


@dataclass(frozen=True, eq=False)
class Leg:
    """A leg of the rig: its bones, and its points on the sole. ``up (3,)``: the sole's normal at rest in the foot's axes."""

    side: str
    limb: Limb
    toes: int | None
    heel: ContactPoint
    toe: ContactPoint
    up: np.ndarray

    @property
    def thigh(self) -> int:
        return self.limb.first

    @property
    def shin(self) -> int:
        return self.limb.second

    @property
    def foot(self) -> int:
        return self.limb.end


@dataclass(eq=False)
class _Step:
    """A stand of a foot in the frames ``part``: in which of them (masks) heel and ball are down.

    ``held``: at a height of its own, not on the floor.
    """

    part: slice
    heel: np.ndarray
    toe: np.ndarray
    held: bool

    @property
    def flat(self) -> np.ndarray:
        return self.heel & self.toe


def plant(
    clip: Clip,
    legs: Sequence[Leg],
    hips: int,
    contacts: Contacts,
    floor: float = 0.0,
    level: bool = True,
    fresh: bool = False,
    giving: bool = False,
) -> Clip:
    """``clip`` on the rig with its feet planted where ``contacts`` (of the source, in the clip's frames) say so.

    ``hips``: the joint that carries the place; only it gets other positions, and only in height, unless it is ``giving`` way
    to all sides to spare the knees. ``floor``: the height of the rig's floor, metres. Limbs without contacts keep their
    motion to the last bit. ``level``: feet on the floor stand on it with level soles; else as high and as level as they
    are. ``fresh``: nobody else has the clip, so that its arrays may be written over.
    """
    stand = [leg for leg in legs if contacts.of(f"{leg.side} heel") or contacts.of(f"{leg.side} toe")]
    # Feet without contacts stay where they are, too, when the hips go elsewhere.
    legs = list(legs) if giving and stand else stand
    if not legs or clip.frames < 2 or hips not in set(map(int, clip.moving)):
        return clip
    wanted = sorted({j for leg in legs for j in (leg.thigh, leg.shin, leg.foot, *((leg.toes,) if leg.toes else ()))})
    places, turns = forward_rows(clip, [*wanted, hips])
    soles = [points_of((leg.heel, leg.toe), places, turns) for leg in legs]
    rise = _rise(soles, legs, contacts, floor) if level else 0.0
    places[wanted, 1] += rise  # the rows of other joints are not defined
    for rows in soles:
        rows[:, 1] += rise
    pace = PASSING if giving else WALKING
    ways = [_Way(leg, clip, places, turns, sole, contacts, floor, level, pace, rise) for leg, sole in zip(legs, soles)]
    if giving:
        shift = given([(way.leg.limb, way.target) for way in ways], places, clip.rate)
    else:
        drop = _drop([way.lacks(places) for way in ways], clip.rate)
        for way in ways:
            way.ease(places, drop)
        shift = np.zeros((clip.frames, 3))
        shift[:, 1] -= _drop([way.lacks(places) for way in ways], clip.rate)
    local = as_rows(clip.rotations) if fresh else as_rows(clip.rotations).copy()
    for way in ways:
        way.solve(places, turns, shift, local)
    if giving:
        same = ~shift.any(axis=1) & np.all([way.stays for way in ways], axis=0)
        local[..., same] = as_rows(clip.rotations)[..., same]
    shift[:, 1] += rise
    return replace(clip, rotations=from_rows(local), translations=_shifted(clip, hips, turns, shift))


def _rise(soles: list[np.ndarray], legs: Sequence[Leg], contacts: Contacts, floor: float) -> float:
    """How much higher the whole motion has to be for its feet to stand on the floor: mostly what soles are off by.

    ``soles``: where heel and ball ``(2, 3, frames)`` of each leg are.
    """
    over = []
    for leg, (heel, toe) in zip(legs, soles):
        for contact in (*contacts.of(leg.heel.name), *contacts.of(leg.toe.name)):
            if not contact.held:
                part = slice(contact.first, contact.last + 1)
                over.append(np.minimum(heel[1, part], toe[1, part]))
    return floor - float(np.median(np.concatenate(over))) if over else 0.0


def _drop(lacking: list[np.ndarray], rate: float) -> np.ndarray:
    """How far the hips give way ``(frames,)``: smooth, and never less than any leg lacks."""
    need = np.max(lacking, axis=0)
    if not (need > 0).any():
        return np.zeros_like(need)
    width = max(_YIELD * rate, 1.0)
    # What is wider than the Gaussian's reach lies over the need everywhere.
    return gaussian(largest_within(need, int(4 * width + 0.5)), width)


def _shifted(clip: Clip, hips: int, turns: np.ndarray, shift: np.ndarray) -> np.ndarray:
    if not shift.any():
        return clip.translations
    moves = as_rows(clip.translations).copy()
    row = [int(j) for j in clip.moving].index(hips)
    parent = int(clip.skeleton.parents[hips])
    if parent >= 0:
        shift = rot.rotate(rot.conjugate(turns[parent].T), shift)
    moves[row] += shift.T
    return from_rows(moves)


class _Way:
    """What one leg has to do: where its ankle goes, and how its foot turns."""

    def __init__(
        self,
        leg: Leg,
        clip: Clip,
        places: np.ndarray,
        turns: np.ndarray,
        sole: np.ndarray,
        contacts: Contacts,
        floor: float,
        level: bool,
        pace: Pace,
        rise: float,
    ) -> None:
        self.leg, self.skeleton, self.rate, self.floor, self.level = leg, clip.skeleton, clip.rate, floor, level
        self.pace = pace
        self.ankle, self.turn = places[leg.foot].T, turns[leg.foot].T
        self.heel_at, self.toe_at = (rows.T for rows in sole)
        # How low a sole may be: no lower than the floor, or than it is by itself.
        self.lowest = np.minimum(floor, np.minimum(self.heel_at[:, 1], self.toe_at[:, 1]) - rise)
        steps = list(_steps(contacts.of(f"{leg.side} heel"), contacts.of(f"{leg.side} toe"), clip.frames))
        self.turned = self._turns(steps)
        self.target = self._places(steps)

    def _turns(self, steps: list[_Step]) -> np.ndarray:
        """The foot's turns ``(frames, 4)``: unmoved where the whole sole stands, close to its own elsewhere."""
        frames = len(self.turn)
        fixed, vectors = np.zeros(frames, bool), np.zeros((frames, 3), order="F")
        flat = [step for step in steps if step.flat.any()]
        if flat:
            means = rot.normalise(np.stack([_sum_of_turns(self.turn[step.part][step.flat]) for step in flat]))
            if self.level:
                means = np.where(np.array([step.held for step in flat])[:, None], means, self._level(means))
            turned = np.zeros((frames, 4), order="F")
            for step, mean in zip(flat, means):
                turned[step.part][step.flat] = mean
                fixed[step.part] |= step.flat
            vectors[fixed] = rot.to_vector(rot.multiply(turned[fixed], rot.conjugate(self.turn[fixed])))
        self.change = rot.from_vector(bridged(vectors, fixed, self.rate, _TURNS, self.pace))
        return rot.multiply(self.change, self.turn)

    def _level(self, turns: np.ndarray) -> np.ndarray:
        """Turns of the foot ``(n, 4)`` with its sole level, where it nearly is."""
        up = rot.rotate(turns, self.leg.up)
        nearly = np.arccos(np.clip(up[:, 1], -1, 1)) < _FLAT
        return np.where(nearly[:, None], rot.multiply(rot.between(up, np.array([0.0, 1.0, 0.0])), turns), turns)

    def _places(self, steps: list[_Step]) -> np.ndarray:
        """Where the ankle goes ``(frames, 3)``: about heel or ball while they stand, between them along a smooth way."""
        frames = len(self.ankle)
        shift, fixed = np.zeros((frames, 3), order="F"), np.zeros(frames, bool)
        heels, toes = np.zeros(frames, bool), np.zeros(frames, bool)
        heel_arm, toe_arm = (rot.rotate(self.turned, p.offset) for p in (self.leg.heel, self.leg.toe))
        for step in steps:
            heel, toe = self._stand(step, toe_arm[step.part] - heel_arm[step.part])
            if not step.held and self.level:
                lift = self.floor - min(heel[1], toe[1])
                heel[1] += lift
                toe[1] += lift
            part = step.part
            arms = np.where(step.heel[:, None], heel - heel_arm[part], toe - toe_arm[part])
            down = step.heel | step.toe
            shift[part][down] = (arms - self.ankle[part])[down]
            fixed[part] |= down
            heels[part] |= step.heel
            toes[part] |= step.toe
        self.shift, self.fixed = shift, fixed
        if self.level:
            for alone, arm, other in (
                (heels & ~toes, self.leg.heel, self.leg.toe),
                (toes & ~heels, self.leg.toe, self.leg.heel),
            ):
                self._roll(alone, heel_arm if arm is self.leg.heel else toe_arm)
                self._tip_up(alone, arm.offset, other.offset)
            return self.ankle + shift  # ways between are found later: see ease
        return self.ankle + bridged(shift, fixed, self.rate, _SLIDES, self.pace)

    def _roll(self, alone: np.ndarray, arm: np.ndarray) -> None:
        """Let the ankle go as smoothly as it does by itself where only heel or ball stands, and turn the foot about them.

        What a captured foot jitters by would else go into the knee. ``alone``: those frames (a mask); ``arm (frames, 3)``: the
        way from the ankle to what stands.
        """
        starts, ends = ends_of(alone)
        if not len(starts):
            return
        width = max(_ROLLS * self.rate, 0.5)
        at = np.flatnonzero(alone)
        # Close to where the rest of the sole stands, or nothing does, all stays as it is.
        count = ends - starts + 1
        away = np.minimum(at - np.repeat(starts, count), np.repeat(ends, count) - at)
        share = np.clip(away / (2 * width), 0, 1)[:, None]
        weights = gaussian(alone.astype(float), width)
        smooth = (gaussian(np.where(alone, self.shift.T, 0.0), width) / np.maximum(weights, 1e-9))[:, at].T
        arm, moves, ankle = arm[at], self.shift[at], self.ankle[at]
        place = ankle + moves + arm
        way = place - (ankle + moves + share * (smooth - moves))
        way *= (np.linalg.norm(arm, axis=1) / np.maximum(np.linalg.norm(way, axis=1), 1e-9))[:, None]
        more = rot.between(arm, way)
        for turns in (self.turned, self.change):
            turns[at] = rot.multiply(more, turns[at])
        self.shift[at] = place - way - ankle

    def _tip_up(self, alone: np.ndarray, stands: np.ndarray, other: np.ndarray) -> None:
        """Turn the foot about the end of its sole that stands alone where its other end would go through the floor.

        ``alone``: the frames (a mask); ``stands``, ``other (3,)``: both ends in the foot's axes.
        """
        at = np.flatnonzero(alone)
        if not len(at):
            return
        arm = rot.rotate(self.turned[at], stands)
        place = self.ankle[at] + self.shift[at] + arm
        sole = rot.rotate(self.turned[at], other) - arm
        lacks = self.lowest[at] - (place + sole)[:, 1]
        low = np.flatnonzero(lacks > 0)
        if not len(low):
            return
        at, arm, place, sole = at[low], arm[low], place[low], sole[low]
        long = np.linalg.norm(sole, axis=1)
        level = np.stack([sole[:, 0], np.zeros(len(at)), sole[:, 2]], 1)
        height = np.clip(sole[:, 1] + lacks[low], -long, long)
        wide = np.sqrt(long**2 - height**2)[:, None]
        raised = rot.normalise(np.where(np.linalg.norm(level, axis=1, keepdims=True) > 1e-9, level, [0, 0, 1.0])) * wide
        raised[:, 1] = height
        more = rot.between(sole, raised)
        for turns in (self.turned, self.change):
            turns[at] = rot.multiply(more, turns[at])
        self.shift[at] = place - rot.rotate(more, arm) - self.ankle[at]

    def _clear(self, target: np.ndarray) -> np.ndarray:
        """Places of the ankle at which the sole does not go through the floor."""
        if self.level:
            low = np.min(
                [(target + rot.rotate(self.turned, p.offset))[:, 1] for p in (self.leg.heel, self.leg.toe)], axis=0
            )
            softly = self._over_floor(self.floor - low, self.fixed)
            # Close to a stand the foot skims the floor rather than going through it.
            target[:, 1] += softly + np.where(self.fixed, 0.0, np.maximum(self.lowest - low - softly, 0.0))
        return target

    def ease(self, places: np.ndarray, drop: np.ndarray) -> None:
        """Find ways between stands anew for hips that give way by ``drop (frames,)``.

        What goes on smoothly is how far the leg is opened, and where to, in place of where the ankle is: the knee of a leg
        close to straight makes much of little that the ankle does.
        """
        lengths, hip = self.leg.limb.lengths(places), places[self.leg.thigh].T.copy()
        hip[:, 1] -= drop
        values = np.zeros((len(hip), 4), order="F")
        at = np.flatnonzero(looked_at(self.fixed, self.rate))
        way = (self.ankle - hip)[at]
        there = way + self.shift[at]
        before, after = (opening(lengths, np.linalg.norm(w, axis=1))[0] for w in (way, there))
        values[at, 0], values[at, 1:] = after - before, rot.to_vector(rot.between(way, there))
        values = bridged(values, self.fixed, self.rate, _TURNS, self.pace)
        at = np.flatnonzero(values.any(axis=1) & ~self.fixed)
        way, values = (self.ankle - hip)[at], values[at]
        opened = opening(lengths, np.linalg.norm(way, axis=1))[0] + values[:, 0]
        turned = rot.rotate(rot.from_vector(values[:, 1:]), rot.normalise(way))
        target = self.ankle + self.shift
        target[at] = hip[at] + turned * far_at(lengths, opened)[:, None]
        self.target = self._clear(target)

    def _over_floor(self, deep: np.ndarray, fixed: np.ndarray) -> np.ndarray:
        """How much higher a foot has to go on its way, so as not to go through the floor ``(frames,)``; softly.

        ``deep``: how deep it is. Close to where it stands nothing is changed.
        """
        need = np.where(fixed, 0.0, np.maximum(deep, 0.0))
        if not (need > _SHALLOW).any():
            return np.zeros_like(need)
        width = max(_RISING * self.rate, 0.7)
        frames = np.arange(len(need))
        stands = np.flatnonzero(fixed)
        if len(stands):
            after = np.clip(np.searchsorted(stands, frames), 1, max(len(stands) - 1, 1))
            away = np.minimum(
                np.abs(frames - stands[after - 1]), np.abs(frames - stands[np.minimum(after, len(stands) - 1)])
            )
        else:
            away = np.full(len(need), len(need))
        share = np.clip(away / max(_CLOSE * self.rate, 1.0), 0, 1)
        return gaussian(largest_within(need, int(2 * width + 0.5)), width) * share * share * (3 - 2 * share)

    def _stand(self, step: _Step, between: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Where heel and ball of a stand are ``(3,)``: about where they are by themselves.

        ``between (n, 3)``: the way from heel to ball in the stand's frames.
        """
        heels, toes, flat = self.heel_at[step.part], self.toe_at[step.part], step.flat
        if flat.any():
            middle = (_mean(heels[flat]) + _mean(toes[flat])) / 2
            half = between[flat.argmax()] / 2
            return middle - half, middle + half
        if step.heel.any():
            heel = _mean(heels[step.heel])
            # The ball comes down, or stays, where the foot is turned to when the heel leaves.
            at = np.flatnonzero(step.heel)[-1 if not step.toe.any() or step.toe.argmax() > step.heel.argmax() else 0]
            return heel, heel + between[at]
        toe = _mean(toes[step.toe])
        return toe - between[step.toe.argmax()], toe

    # --- the leg ----------------------------------------------------------------------------------
    @property
    def stays(self) -> np.ndarray:
        """The frames in which foot and ankle are left where they are (a mask)."""
        return np.all(self.target == self.ankle, axis=1) & np.all(self.change[:, :3] == 0, axis=1)

    def lacks(self, places: np.ndarray) -> np.ndarray:
        """How much lower the hip has to be for the leg to reach ``(frames,)``, metres."""
        long = sum(self.leg.limb.lengths(places))
        own = np.linalg.norm(self.ankle - places[self.leg.thigh].T, axis=1)
        # A body's own motion tells how straight its legs may get.
        share = _REACH if self.level else max(_REACH, min(float(np.quantile(own, _USUAL)) / long, _ALL_BUT_STRAIGHT))
        reach = np.maximum(share * long, np.minimum(own, long))  # as straight as it was anyway
        way = self.target - places[self.leg.thigh].T
        across = np.minimum(np.linalg.norm(way[:, [0, 2]], axis=1), 0.98 * reach)
        return np.maximum(-way[:, 1] - np.sqrt(reach**2 - across**2), 0.0)

    def solve(self, places: np.ndarray, turns: np.ndarray, shift: np.ndarray, local: np.ndarray) -> None:
        """Put the leg's local rotations into ``local (joints, 4, frames)``, for hips that are moved by ``shift (frames, 3)``."""
        leg = self.leg
        thigh_change, shin_change = leg.limb.reach(places, turns, places[leg.thigh].T + shift, self.target)
        thigh, shin = (
            rot.multiply(change, turns[joint].T)
            for change, joint in ((thigh_change, leg.thigh), (shin_change, leg.shin))
        )
        put(local, self.skeleton, leg.thigh, thigh, turns, None)
        put(local, self.skeleton, leg.shin, shin, turns, thigh_change)
        put(local, self.skeleton, leg.foot, self.turned, turns, shin_change)
        if leg.toes is not None:
            put(local, self.skeleton, leg.toes, rot.multiply(self.change, turns[leg.toes].T), turns, self.change)


def _sum_of_turns(turns: np.ndarray) -> np.ndarray:
    """Along the mean of turns that lie close together ``(4,)``; not normalised."""
    return np.where((turns @ turns[0]) < 0, -1.0, 1.0) @ turns


def _mean(places: np.ndarray) -> np.ndarray:
    return np.add.reduce(places, axis=0) / len(places)


def _steps(heels: Sequence[Contact], toes: Sequence[Contact], frames: int) -> list[_Step]:
    """Contacts of heel and ball that overlap or follow each other at once, joined to stands."""
    stretches = sorted(
        [(c.first, c.last, "heel", c.held) for c in heels] + [(c.first, c.last, "toe", c.held) for c in toes]
    )
    groups: list[list[tuple[int, int, str, bool]]] = []
    end = -2
    for stretch in stretches:
        first, last = max(stretch[0], 0), min(stretch[1], frames - 1)
        if last < first:
            continue
        if first > end + 1 or not groups:
            groups.append([])
            end = last
        groups[-1].append((first, last, stretch[2], stretch[3]))
        end = max(end, last)
    steps = []
    for group in groups:
        start, stop = group[0][0], max(last for _, last, *_ in group) + 1
        masks = {name: np.zeros(stop - start, bool) for name in ("heel", "toe")}
        for first, last, name, _ in group:
            masks[name][first - start : last + 1 - start] = True
        steps.append(_Step(slice(start, stop), masks["heel"], masks["toe"], any(held for *_, held in group)))
    return steps


def legs_of(
    skeleton: Skeleton,
    parts: dict[str, tuple[int, ...]],
    points: dict[str, ContactPoint],
    forward: np.ndarray,
    upward: np.ndarray,
) -> tuple[Leg, ...]:
    """The legs of a rig whose ``parts`` are known; ``points``: its contact points.

    ``forward``, ``upward (3,)``: where it faces, and from its hips to its head, at rest.
    """
    _, turns = skeleton.rest_world
    legs = []
    for side in ("left", "right"):
        wanted = [f"{side} {p}" for p in ("thigh", "shin", "foot")]
        if not all(p in parts for p in wanted) or f"{side} heel" not in points:
            continue
        thigh, shin, foot = (parts[p][0] for p in wanted)
        if shin not in skeleton.subtree(thigh) or foot not in skeleton.subtree(shin):
            continue
        toes = parts.get(f"{side} toes", (None,))[0]
        if toes is not None and int(skeleton.parents[toes]) != foot:
            toes = None
        up = rot.rotate(rot.conjugate(turns[foot]), upward)
        limb = Limb.of(skeleton, (thigh, shin, foot), -forward)
        legs.append(Leg(side, limb, toes, points[f"{side} heel"], points[f"{side} toe"], up))
    return tuple(legs)
