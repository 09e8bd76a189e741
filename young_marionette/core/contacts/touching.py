"""What hands touch that moves along: the other hand, or the own body. (What stands still in the room is a contact.)"""

from __future__ import annotations

from dataclasses import replace
from itertools import pairwise
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..humanoid.volumes import THIGHS, nearest
from ..kinematics import forward_rows
from ..stretches import stretches, whole
from .choices import USUAL
from .contact import Touch
from .points import HANDS, SIDES, points_of
from .steadying import steadied

if TYPE_CHECKING:
    from collections.abc import Iterator

    from ..clip import Clip
    from ..humanoid.reading import Body
    from ..humanoid.volumes import Volume
    from .points import ContactPoint

_RATE = 30.0  # frames a second are enough to see what hands touch
# Metres for a figure of 1.7 m, m/s, seconds.
_TOGETHER, _BAR = 0.30, 0.75  # between the palms: of hands that touch or hold one thing; of hands on one bar
_APART = 0.06  # how quickly that may change
_BUSY = 0.15  # how quickly hands on a bar move against the hips: idle ones hang as far apart, too
_GAP = 0.05  # between a palm and the body
_ALONG = 0.10  # how quickly a palm may move along the body
_SHORTEST, _CLOSED = 0.4, 0.1
_BENT = np.radians(35)  # arms that hang touch nothing, however close to the thighs


def find_touches(
    clip: Clip, body: Body, points: dict[str, ContactPoint], volumes: dict[str, Volume]
) -> tuple[Touch, ...]:
    """What the hands of a placed clip touch of the own body, and each other; ``volumes`` of the same body."""
    hands = [points[hand] for hand in HANDS if hand in points]
    step = max(int(clip.rate / _RATE + 1e-6), 1)
    rate = clip.rate / step
    if clip.frames < 3 * step or not hands:
        return ()
    limbs = [f"{side} {part}" for side in SIDES for part in ("upper arm", "forearm", "hand")]
    joints = {body.parts[p][0] for p in ("hips", *limbs) if p in body.parts} | {p.joint for p in hands}
    world = forward_rows(clip, sorted(joints | {volume.joint for volume in volumes.values()}), step)
    palms = {p.name: row for p, row in zip(hands, points_of(hands, *world))}
    found = (*_hands(rate, body, palms, world[0]), *_on_body(rate, body, palms, world, volumes))
    return tuple(replace(touch, first=touch.first * step, last=touch.last * step) for touch in found)


def _hands(rate: float, body: Body, palms: dict[str, np.ndarray], places: np.ndarray) -> Iterator[Touch]:
    if not all(hand in palms for hand in HANDS):
        return
    size = body.stature / USUAL
    rows = steadied(np.stack([palms[hand] for hand in HANDS]), rate)
    hips = places[body.parts["hips"][0]]
    apart = np.linalg.norm(rows[1] - rows[0], axis=0) / size
    change = np.abs(np.gradient(apart)) * rate
    busy = np.linalg.norm(np.gradient(rows.mean(0) - hips, axis=-1), axis=0) * rate / size
    together = whole(
        (apart < 1.2 * _TOGETHER) & (change < 2 * _APART),
        (apart < _TOGETHER) & (change < _APART),
        _SHORTEST,
        _CLOSED,
        rate,
    )
    steady = whole((apart < _BAR) & (change < 1.5 * _APART), (apart < _BAR) & (change < _APART), 0.5, _CLOSED, rate)
    for first, last in stretches(steady):
        if busy[first : last + 1].mean() > _BUSY:
            together[first : last + 1] = True
    for first, last in stretches(together):
        yield Touch("both", "hands", first, last)


def _on_body(
    rate: float,
    body: Body,
    palms: dict[str, np.ndarray],
    world: tuple[np.ndarray, np.ndarray],
    volumes: dict[str, Volume],
) -> Iterator[Touch]:
    size, parts, (places, turns) = body.stature / USUAL, body.parts, world
    for side in SIDES:
        arm = [parts[f"{side} {p}"][0] for p in ("upper arm", "forearm", "hand") if f"{side} {p}" in parts]
        if f"{side} hand" not in palms or len(arm) < 3:
            continue
        palm = palms[f"{side} hand"].T
        upper, lower = (places[b].T - places[a].T for a, b in pairwise(arm))
        bent = rot.angle_between(upper, lower) > _BENT
        if not bent.any():
            continue
        for volume in volumes.values():
            at, turn = places[volume.joint].T, turns[volume.joint].T
            ends = volume.line(at, turn)
            gap = np.linalg.norm(palm - nearest(palm, *ends)[1], axis=1) - volume.radius
            if not (bent & (gap < _GAP * size)).any():
                continue
            own = rot.rotate(rot.conjugate(turn), palm - at)
            along = np.linalg.norm(np.gradient(steadied(own.T[None], rate)[0], axis=-1), axis=0) * rate
            can = bent
            if volume.part in THIGHS:  # of who sits
                can = bent & (np.abs(rot.normalise(ends[1] - ends[0])[:, 1]) < 0.6)
            mask = whole(
                can & (gap < 1.5 * _GAP * size) & (along < 1.5 * _ALONG * size),
                can & (gap < _GAP * size) & (along < _ALONG * size),
                _SHORTEST,
                _CLOSED,
                rate,
            )
            for first, last in stretches(mask):
                yield Touch(side, volume.part, first, last)
