"""What hands touch that moves along: the other hand, or the own body. (What stands still in the room is a contact.)"""

from __future__ import annotations

from itertools import pairwise
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..humanoid.volumes import THIGHS, nearest
from ..kinematics import forward_rows
from .choices import USUAL
from .contact import Touch
from .points import HANDS, SIDES, point_rows
from .steadying import steadied
from .stretches import stretches, whole

if TYPE_CHECKING:
    from collections.abc import Iterator

    from ..clip import Clip
    from ..humanoid.reading import Body
    from ..humanoid.volumes import Volume
    from .points import ContactPoint

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
    if clip.frames < 3:
        return ()
    return tuple(_hands(clip, body, points)) + tuple(_on_body(clip, body, points, volumes))


def _hands(clip: Clip, body: Body, points: dict[str, ContactPoint]) -> Iterator[Touch]:
    if not all(hand in points for hand in HANDS):
        return
    size = body.stature / USUAL
    rows = steadied(point_rows(clip, [points[hand] for hand in HANDS]), clip.rate)
    hips = forward_rows(clip, [body.parts["hips"][0]])[0][body.parts["hips"][0]]
    apart = np.linalg.norm(rows[1] - rows[0], axis=0) / size
    change = np.abs(np.gradient(apart)) * clip.rate
    busy = np.linalg.norm(np.gradient(rows.mean(0) - hips, axis=-1), axis=0) * clip.rate / size
    together = whole(
        (apart < 1.2 * _TOGETHER) & (change < 2 * _APART),
        (apart < _TOGETHER) & (change < _APART),
        _SHORTEST,
        _CLOSED,
        clip.rate,
    )
    steady = whole(
        (apart < _BAR) & (change < 1.5 * _APART), (apart < _BAR) & (change < _APART), 0.5, _CLOSED, clip.rate
    )
    for first, last in stretches(steady):
        if busy[first : last + 1].mean() > _BUSY:
            together[first : last + 1] = True
    for first, last in stretches(together):
        yield Touch("both", "hands", first, last)


def _on_body(clip: Clip, body: Body, points: dict[str, ContactPoint], volumes: dict[str, Volume]) -> Iterator[Touch]:
    size, parts = body.stature / USUAL, body.parts
    limbs = [f"{side} {part}" for side in SIDES for part in ("upper arm", "forearm", "hand")]
    joints = [v.joint for v in volumes.values()] + [parts[p][0] for p in limbs if p in parts]
    places, turns = forward_rows(clip, sorted(set(joints)))
    for side in SIDES:
        arm = [parts[f"{side} {p}"][0] for p in ("upper arm", "forearm", "hand") if f"{side} {p}" in parts]
        if f"{side} hand" not in points or len(arm) < 3:
            continue
        palm = point_rows(clip, [points[f"{side} hand"]])[0].T
        upper, lower = (places[b].T - places[a].T for a, b in pairwise(arm))
        bent = rot.angle_between(upper, lower) > _BENT
        for volume in volumes.values():
            at, turn = places[volume.joint].T, turns[volume.joint].T
            ends = volume.line(at, turn)
            gap = np.linalg.norm(palm - nearest(palm, *ends)[1], axis=1) - volume.radius
            own = rot.rotate(rot.conjugate(turn), palm - at)
            along = np.linalg.norm(np.gradient(steadied(own.T[None], clip.rate)[0], axis=-1), axis=0) * clip.rate
            can = bent
            if volume.part in THIGHS:  # of who sits
                can = bent & (np.abs(rot.normalise(ends[1] - ends[0])[:, 1]) < 0.6)
            mask = whole(
                can & (gap < 1.5 * _GAP * size) & (along < 1.5 * _ALONG * size),
                can & (gap < _GAP * size) & (along < _ALONG * size),
                _SHORTEST,
                _CLOSED,
                clip.rate,
            )
            for first, last in stretches(mask):
                yield Touch(side, volume.part, first, last)
