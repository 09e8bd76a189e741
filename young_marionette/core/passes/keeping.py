"""What stands or is held goes on standing and being held after a pass has moved it."""

from __future__ import annotations

import itertools
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..clip import as_rows, from_rows
from ..contacts.contact import Contacts
from ..contacts.points import FEET, HANDS, SIDES, contact_points, point_rows, points_of
from ..humanoid.groups import FACE, groups
from ..kinematics import forward_rows
from ..transfer.bridging import PASSING, WALKING, Pace, bridged
from ..transfer.hands import Arm, arms_of
from ..transfer.limbs import put
from ..transfer.planting import Leg, legs_of, plant

if TYPE_CHECKING:
    from collections.abc import Sequence

    from ..character.meshes import Character
    from ..clip import Clip
    from ..contacts.contact import Contact
    from ..contacts.points import ContactPoint
    from ..controls.rig import ControlRig
    from ..humanoid.reading import Body
    from ..skeleton import Skeleton

_STILL = 0.0003  # metres: what slides by less stands
STOOD, _MORE = 0.003, 0.005  # metres: what slid by less stood before; by how much more it may slide if it did not
_MOSTLY, _STANDS = 0.75, 0.001  # what slides by less (metres) in that share of a contact's frames stands in all of them
_SAME = 1e-6  # metres: what is moved by less is not moved
_FAR = 0.005  # metres: what was moved by more, for most of a contact, has to be put back
_PIVOT, _PIVOT_FRAMES = 0.07, 9  # radians that a foot turns by about heel or ball, and frames that tell it
_SURELY, _JITTERS = (
    4.0,
    0.004,
)  # times what jitter may seem to turn by, and radians of it: with less, slides tell enough
_BESIDE = 0.5  # of a contact's frames: so many have to lie beside the other one's
_OF_FOURTH = 1.54 * 70**0.5  # the median length of fourth differences of noise in three values, against its own in each
_SLIDES = 0.5  # m/s: how fast what is held may leave where it was, at most


@dataclass(frozen=True, eq=False)
class Limbs:
    """What is known of a body whose clip is worked on: its legs and arms, its points, the joint of its hips, the names
    of the joints in each of its groups, and what was read of it. ``rig``: the controls, where the clip is one of controls; then
    the groups are of those.
    """

    legs: tuple[Leg, ...]
    arms: dict[str, Arm]
    points: dict[str, ContactPoint]
    hips: int
    groups: dict[str, tuple[str, ...]]
    body: Body | None = None
    rig: ControlRig | None = None

    @staticmethod
    def of(skeleton: Skeleton, body: Body | None, character: Character | None, morphs: tuple[str, ...] = ()) -> Limbs:
        """Of a skeleton, in metres, with what was read of it."""
        names = groups(skeleton, body, morphs)
        if body is None:
            return Limbs((), {}, {}, 0, names)
        points = {p.name: p for p in contact_points(skeleton, body, character)}
        legs = legs_of(skeleton, body.parts, points, body.forward, body.up)
        arms = arms_of(skeleton, body.parts, points, body.forward)
        return Limbs(legs, arms, points, body.parts["hips"][0], names, body)

    def under(self, rig: ControlRig) -> Limbs:
        """The same body, moved by controls."""
        groups: dict[str, list[str]] = {}
        for control, joint in rig.shown:
            groups.setdefault(control.part, []).append(rig.skeleton.names[joint])
        face = {FACE: self.groups[FACE]} if FACE in self.groups else {}
        return replace(self, groups={part: tuple(names) for part, names in groups.items()} | face, rig=rig)


def kept(before: Clip, after: Clip, limbs: Limbs, contacts: Contacts, giving: bool = False) -> Clip:
    """``after`` with its feet planted, and its hands held, wherever they were and it moves them away from ``before``.

    ``contacts``: in the frames of both. What it did not move stays to the last bit. ``giving``, after filters: the hips may give
    way, too, and feet that turn on the spot go on turning.
    """
    moved = moved_contacts(before, after, limbs, contacts, giving)
    if not moved.found:
        return after
    made = _planted(after, limbs, moved, giving)
    if made is not after:  # hips that gave way took along hands that were still in place
        hands = replace(contacts, found=tuple(c for c in contacts.found if c.point in HANDS))
        moved = moved_contacts(before, made, limbs, hands)
    return _held(made, limbs, moved, made is not after, PASSING if giving else WALKING)


def put_back(clip: Clip, limbs: Limbs, contacts: Contacts) -> Clip:
    """``clip`` with feet planted and hands held in all of ``contacts``."""
    made = _planted(clip, limbs, contacts)
    return _held(made, limbs, contacts, made is not clip)


def _planted(clip: Clip, limbs: Limbs, contacts: Contacts, giving: bool = False) -> Clip:
    return plant(clip, limbs.legs, limbs.hips, contacts, level=False, giving=giving)


def _held(clip: Clip, limbs: Limbs, contacts: Contacts, fresh: bool, pace: Pace = WALKING) -> Clip:
    arms = [arm for side, arm in limbs.arms.items() if contacts.of(f"{side} hand")]
    return held(clip, arms, contacts, fresh, pace) if arms else clip


def stilled(clip: Clip, limbs: Limbs, contacts: Contacts) -> Clip:
    """``clip``, retimed, with what stands in most frames of a contact standing in all of them: poses between frames are guesses."""
    points = [p for name, p in limbs.points.items() if name in FEET or name in HANDS]
    rows = dict(zip((p.name for p in points), point_rows(clip, points))) if points else {}
    found = tuple(c for c in contacts.found if c.point in rows and _slips(rows[c.point][:, c.first : c.last + 1]))
    return put_back(clip, limbs, replace(contacts, found=found, touches=())) if found else clip


def _slips(places: np.ndarray) -> bool:
    return bool(places.size) and slide(places) > _STILL and slide(places, _MOSTLY) < _STANDS


def moved_contacts(before: Clip, after: Clip, limbs: Limbs, contacts: Contacts, pivoting: bool = False) -> Contacts:
    """The contacts that have to be put back: what stood in ``before`` and slides in ``after``, and what was moved far.

    What slid before, no less, and is moved by little, is left: its slide was not done by what came in between. Contacts of a
    foot that overlap are one stand, and are put back together, but for those that drifted before. Hands are put back only
    where they stood. ``pivoting``: a foot that turns on the spot while it jitters goes on turning.
    """
    points = [p for name, p in limbs.points.items() if name in FEET or name in HANDS]
    if before is after or not contacts.found or not points:
        return replace(contacts, found=(), touches=())
    rows = dict(zip((p.name for p in points), zip(point_rows(before, points), point_rows(after, points))))
    pivots = _pivots({name: old for name, (old, _) in rows.items()}, contacts) if pivoting else set()
    moved = [c for c in contacts.found if c.point in rows and c not in pivots and _is_moved(*rows[c.point], c)]
    feet = [c for c in contacts.found if c.point in FEET and c.point in rows and c not in pivots]
    feet = [c for c in feet if not _drifts(rows[c.point][0], c)]
    wanted = set(moved)
    todo = list(moved)
    while todo:
        one = todo.pop()
        beside = [c for c in feet if c not in wanted and _one_foot(c, one)]
        wanted.update(beside)
        todo += beside
    return replace(contacts, found=tuple(c for c in contacts.found if c in wanted), touches=())


def _is_moved(old: np.ndarray, new: np.ndarray, contact: Contact) -> bool:
    """Whether a point ``(3, frames)`` does not stand in a contact as it did."""
    part = slice(contact.first, contact.last + 1)
    old, new = old[:, part], new[:, part]
    if not old.size or slide(new) < _STILL or float(np.abs(new - old).max()) < _SAME:
        return False
    slid = slide(old)
    if contact.point in HANDS:  # in a take with noise nobody knows how still a hand was held
        return slid < STOOD
    return slid < STOOD or slide(new) > slid + _MORE or float(np.median(np.linalg.norm(new - old, axis=0))) > _FAR


def _pivots(rows: dict[str, np.ndarray], contacts: Contacts) -> set[Contact]:
    """Contacts of a heel or a ball that jitters and goes about the other one, which stands: more than jitter can seem to."""
    found: set[Contact] = set()
    for side, (a, b) in itertools.product(SIDES, itertools.permutations(("heel", "toe"))):
        names = f"{side} {a}", f"{side} {b}"
        if not all(name in rows for name in names):
            continue
        places = np.stack([rows[name] for name in names])
        others = contacts.of(names[1])
        first, last = (np.array([getattr(c, end) for c in others], int) for end in ("first", "last"))
        for stands in contacts.of(names[0]):
            low, high = np.maximum(first, stands.first), np.minimum(last, stands.last) + 1
            beside = np.flatnonzero(high - low > _BESIDE * (last + 1 - first)).tolist()
            if sum(high[i] - low[i] for i in beside) < _PIVOT_FRAMES:
                continue
            near = places[..., np.concatenate([np.arange(low[i], high[i]) for i in beside])]
            drifts = _third_from_third(near)
            if drifts[1] > drifts[0] and _turns(near):
                found.update(others[i] for i in beside)
    return found


def _turns(places: np.ndarray) -> bool:
    """Whether the way between two points ``(2, 3, frames)`` turns from the first third to the last, jitter apart."""
    ways = places[1] - places[0]
    ways = ways / np.maximum(np.linalg.norm(ways, axis=0), 1e-9)
    turned = float(_third_from_third(ways))
    if turned <= _PIVOT:
        return False
    fourth = np.diff(ways, 4, axis=1)
    jitter = float(np.median(np.sqrt(np.sum(fourth**2, axis=0)))) / _OF_FOURTH
    return jitter > _JITTERS and turned > _SURELY * jitter * (6 / ways.shape[1]) ** 0.5


def _third_from_third(places: np.ndarray) -> np.ndarray:
    """How far the mean place in the first third of the frames is from that in the last: ``(..., 3, frames)`` to ``(...)``."""
    third = -(-places.shape[-1] // 3)
    if not third:
        return np.zeros(places.shape[:-2])
    return np.linalg.norm(places[..., :third].mean(axis=-1) - places[..., -third:].mean(axis=-1), axis=-1)


def _drifts(places: np.ndarray, contact: Contact) -> bool:
    """Whether a point ``(3, frames)`` ends a contact elsewhere than it begins it, jitter apart."""
    return float(_third_from_third(places[:, contact.first : contact.last + 1])) > STOOD


def slide(places: np.ndarray, share: float = 1.0) -> float:
    """How far places ``(3, frames)`` are from their middle in a ``share`` of the frames, at most."""
    away = places - places.mean(axis=1, keepdims=True)
    far = np.sqrt(np.einsum("xf,xf->f", away, away))
    return float(far.max() if share == 1.0 else np.quantile(far, share))


def _one_foot(a: Contact, b: Contact) -> bool:
    """Whether two contacts are of one foot, and follow or overlap each other."""
    return a.point.split()[0] == b.point.split()[0] and a.first <= b.last + 1 and b.first <= a.last + 1


def held(clip: Clip, arms: Sequence[Arm], contacts: Contacts, fresh: bool = False, pace: Pace = WALKING) -> Clip:
    """``clip`` with its palms where they are in the middle of each contact, hands turned as they are.

    ``fresh``: nobody else has ``clip``.
    """
    joints = sorted({j for arm in arms for j in (arm.limb.first, arm.limb.second, arm.limb.end, arm.palm.joint)})
    places, turns = forward_rows(clip, joints)
    local = as_rows(clip.rotations) if fresh else as_rows(clip.rotations).copy()
    for arm in arms:
        palm = points_of((arm.palm,), places, turns)[0].T
        shift, fixed = np.zeros_like(palm, order="F"), np.zeros(clip.frames, bool)
        for contact in contacts.of(arm.palm.name):
            part = slice(contact.first, contact.last + 1)
            shift[part], fixed[part] = palm[part].mean(axis=0) - palm[part], True
        # Held places lie among those where the hand was: they are in reach, or all but.
        target = places[arm.limb.end].T + bridged(shift, fixed, clip.rate, _SLIDES, pace)
        hand = turns[arm.limb.end].T.copy()
        upper, lower = arm.limb.reach(places, turns, places[arm.limb.first].T, target)
        _put_arm(local, clip.skeleton, arm, turns, (upper, lower, hand))
    return replace(clip, rotations=from_rows(local))


def _put_arm(
    local: np.ndarray,
    skeleton: Skeleton,
    arm: Arm,
    turns: np.ndarray,
    changes: tuple[np.ndarray, np.ndarray, np.ndarray],
) -> None:
    upper, lower, hand = changes
    put(local, skeleton, arm.limb.first, rot.multiply(upper, turns[arm.limb.first].T), turns, None)
    put(local, skeleton, arm.limb.second, rot.multiply(lower, turns[arm.limb.second].T), turns, upper)
    put(local, skeleton, arm.limb.end, hand, turns, lower)
