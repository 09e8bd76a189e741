"""Two clips of one rig as one: where the second one goes on from the first one, and how it is led over."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..clip import as_rows, from_rows
from ..contacts.contact import Contact, Contacts
from ..contacts.points import FEET, point_rows
from ..errors import InputError
from ..passes.keeping import put_back
from ..resample import resample
from ..smoothing import eased
from .loops import costs, features
from .path import path_of

if TYPE_CHECKING:
    from ..clip import Clip
    from ..passes.keeping import Limbs

LEAST = 3  # frames that one clip is led over into the other in
_UNLIKE = 0.15  # metres that a foot that stands in one clip alone counts as
_MOST = 700  # frames that are compared; of longer clips every few
_APART = 0.2  # seconds: changes that are nearer than that in both clips are the same one


@dataclass(frozen=True)
class Change:
    """From frame ``first`` of the first clip on, frame ``second`` of the other one comes in; ``cost``: metres that they are apart."""

    first: int
    second: int
    cost: float


def at_rate(clip: Clip, contacts: Contacts, rate: float) -> tuple[Clip, Contacts]:
    """A clip and its contacts at another rate; the same where it has that."""
    if abs(clip.rate - rate) <= 1e-6:
        return clip, contacts
    return resample(clip, rate), contacts.in_frames(0, clip.frames - 1, rate)


def best_changes(
    a: Clip, b: Clip, limbs: Limbs, contacts: tuple[Contacts, Contacts], seconds: float, count: int = 3
) -> list[Change]:
    """Where ``a`` goes over into ``b`` best, best first: alike in pose and speed all through the change, on the same foot.

    As few frames of either are left away as there is no better place for. InputError for clips that are too short.
    """
    span = _span(a, b, seconds)
    found, step = [], max(-(-max(a.frames, b.frames) // _MOST), 1)
    rows = features(a, limbs.hips), features(b, limbs.hips)
    stands = _stands(a, contacts[0]), _stands(b, contacts[1])
    first, second = np.arange(0, a.frames - span, step), np.arange(0, b.frames - span, step)
    cost = np.zeros((len(first), len(second)))
    for share in (0.0, 0.5, 1.0):
        i, j = (at + round(share * span) for at in (first, second))
        cost += costs(rows[0][i], rows[1][j]) / 3
        cost += _UNLIKE / 3 * np.abs(stands[0][:, i].T[:, None] - stands[1][:, j].T[None]).sum(-1)
    # All else alike, what is left away is a pity: a centimetre for each second.
    cost += 0.01 * ((a.frames - 1 - span - first)[:, None] / a.rate + second[None] / b.rate)
    near = max(round(_APART * a.rate), step)
    while len(found) < count and np.isfinite(cost).any():
        x, y = np.unravel_index(int(cost.argmin()), cost.shape)
        found.append(Change(int(first[x]), int(second[y]), float(cost[x, y])))
        cost[np.ix_(np.abs(first - first[x]) < near, np.abs(second - second[y]) < near)] = np.inf
    return found


def _span(a: Clip, b: Clip, seconds: float) -> int:
    """The frames of a change of so many seconds; InputError where the clips can't be joined."""
    if a.skeleton.names != b.skeleton.names or (a.skeleton.parents != b.skeleton.parents).any():
        raise InputError(f"{a.name} and {b.name} are not of one rig: their bones differ.")
    if abs(a.rate - b.rate) > 1e-6:
        raise InputError(f"{a.name} has {a.rate:g} fps and {b.name} {b.rate:g}: give both the same rate first.")
    span = max(round(seconds * a.rate), LEAST)
    if min(a.frames, b.frames) <= span + 1:
        raise InputError(f"The clips are too short to be led over into each other in {seconds:g} s.")
    return span


def _stands(clip: Clip, contacts: Contacts) -> np.ndarray:
    """Whether each foot stands ``(2, frames)``: 0 or 1."""
    found = np.zeros((2, clip.frames))
    for point in FEET:
        for contact in contacts.of(point):
            found[0 if point.startswith("left") else 1, contact.first : contact.last + 1] = 1.0
    return found


def joined(
    a: Clip, b: Clip, limbs: Limbs, contacts: tuple[Contacts, Contacts], change: Change, seconds: float
) -> tuple[Clip, Contacts]:
    """``a`` up to a change, led over into ``b`` from there on within ``seconds``, and the contacts of both.

    ``b`` is put where ``a`` is then, facing as it does; a foot that stands in both stays where it stands. What comes before the
    change is as it was.
    """
    span = _span(a, b, seconds)
    first, second = change.first, change.second
    if not (0 <= first <= a.frames - 1 - span and 0 <= second <= b.frames - 1 - span):
        raise InputError(f"There is no change of {seconds:g} s at frames {first} and {second}: the clips end before.")
    tail, rest = a.cut(first, first + span), b.cut(second, b.frames - 1)
    both = contacts[0].in_frames(first, first + span, a.rate), contacts[1].in_frames(second, b.frames - 1, b.rate)
    rest = _put_where(tail, rest, limbs, both, span)
    led = _led(tail, rest.cut(0, span), eased(np.arange(span + 1) / span))
    made = _end_to_end([a.cut(0, first), led.cut(1, span), rest.cut(span + 1, rest.frames - 1)] if rest.frames > span + 1
                       else [a.cut(0, first), led.cut(1, span)])  # fmt: skip
    found = _contacts(contacts, first, second, span)
    kept = replace(found, found=tuple(c for c in found.found if c.last >= first and c.first <= first + span))
    planted = put_back(made, limbs, kept) if kept.found else made
    return replace(planted, name=f"{a.name} {b.name}", start=0.0), found


def _put_where(a: Clip, b: Clip, limbs: Limbs, contacts: tuple[Contacts, Contacts], span: int) -> Clip:
    """``b`` turned about the vertical and moved over the ground, so that it goes on from ``a`` in the middle of the change."""
    middle = span // 2
    headings = [path_of(clip.cut(0, span), limbs.hips).headings[middle] for clip in (a, b)]
    turn = rot.from_axis_angle(rot.AXES["Y"], np.array(headings[0] - headings[1]))
    anchors = []
    for clip in (a, b):
        places = {name: point_rows(clip.cut(0, span), [limbs.points[name]])[0] for name in FEET if name in limbs.points}
        anchors.append((path_of(clip.cut(0, span), limbs.hips).places, places))
    # The foot that stands through most of the change in both; without one, the hips.
    held = {point: min(sum(_inside(c, span) for c in one.of(point)) for one in contacts) for point in anchors[0][1]}
    best = max(held, key=lambda point: held[point], default=None)
    if best is not None and held[best] > 0:
        start, goal = (
            [one[1][best][:, frames].mean(1) for one, frames in zip(anchors, _common(contacts, best, span))]
        )[::-1]
    else:
        start, goal = anchors[1][0][:, middle], anchors[0][0][:, middle]
    way = (goal - rot.rotate(turn, start)) * [1.0, 0.0, 1.0]
    return _carried(b, turn, way)


def _inside(contact: Contact, span: int) -> int:
    return max(min(contact.last, span) - max(contact.first, 0) + 1, 0)


def _common(contacts: tuple[Contacts, Contacts], point: str, span: int) -> list[slice]:
    """For each clip the frames within the change in which a point stands the longest."""
    found = []
    for one in contacts:
        contact = max(one.of(point), key=lambda c: _inside(c, span))
        found.append(slice(max(contact.first, 0), min(contact.last, span) + 1))
    return found


def _carried(clip: Clip, turn: np.ndarray, way: np.ndarray) -> Clip:
    """A clip turned and moved as a whole."""
    roots = np.flatnonzero(clip.skeleton.parents < 0)
    rotations = clip.rotations.copy()
    rotations[:, roots] = rot.multiply(turn, rotations[:, roots])
    moves = {root: rot.rotate(turn, clip.move_of(root)) + way for root in roots.tolist()}
    return replace(clip.with_moves(clip.moves | moves), rotations=rotations)


def _moving(clips: list[Clip]) -> list[Clip]:
    """The clips with the same joints moving in all of them."""
    moving = {joint for clip in clips for joint in clip.moves}
    return [clip.with_moves({joint: clip.move_of(joint) for joint in moving}) for clip in clips]


def _led(a: Clip, b: Clip, share: np.ndarray) -> Clip:
    """From one clip to the other of the same length, by shares ``(frames,)`` of the second."""
    a, b = _moving([a, b])
    mine, theirs = as_rows(a.rotations), as_rows(b.rotations)
    rows = np.stack([rot.slerp(x.T, y.T, share).T for x, y in zip(mine, theirs)])
    places = a.translations + share[:, None, None] * (b.translations - a.translations)
    weights = a.weights
    if a.morphs == b.morphs:
        weights = a.weights + share[:, None] * (b.weights - a.weights)
    return replace(a, rotations=from_rows(rows), translations=places, weights=weights)


def _end_to_end(clips: list[Clip]) -> Clip:
    clips = _moving(clips)
    rotations = rot.continuous(np.concatenate([clip.rotations for clip in clips]))
    # What comes first stays to the last bit.
    rotations[: clips[0].frames] = clips[0].rotations
    translations = np.concatenate([clip.translations for clip in clips])
    same = all(clip.morphs == clips[0].morphs for clip in clips)
    frames = len(rotations)
    weights = np.concatenate([clip.weights for clip in clips]) if same else np.zeros((frames, 0))
    morphs = clips[0].morphs if same else ()
    return replace(
        clips[0], rotations=rotations, translations=translations, weights=weights, morphs=morphs,
        scaled=np.zeros(0, int), scales=np.zeros((frames, 0, 3)),
    )  # fmt: skip


def _contacts(contacts: tuple[Contacts, Contacts], first: int, second: int, span: int) -> Contacts:
    """The contacts of both in the frames of the whole: what stands in one alone lets go, or comes, in the middle of the change."""
    middle, shift = first + span // 2, first - second
    early = [replace(c, last=min(c.last, first + span)) for c in contacts[0].found if c.first <= middle]
    late = [
        replace(c, first=max(c.first + shift, first), last=c.last + shift)
        for c in contacts[1].found
        if c.last + shift > middle
    ]
    found: list[Contact] = []
    for one in early:
        match = next((c for c in late if c.point == one.point and c.first <= one.last + 1 and one.last > first), None)
        if match is not None:
            late.remove(match)
            found.append(replace(one, last=match.last))
        else:
            found.append(replace(one, last=min(one.last, middle)))
    found += [replace(c, first=max(c.first, middle + 1)) for c in late]
    order = {point: n for n, point in enumerate(dict.fromkeys(c.point for c in found))}
    found = sorted((c for c in found if c.last >= c.first), key=lambda c: (order[c.point], c.first))
    return Contacts(tuple(found), contacts[0].floor, contacts[0].rate)
