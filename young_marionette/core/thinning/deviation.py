"""How far a thinned motion is from the dense one, on every frame: what the promise is checked by, and what people are told."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..contacts.points import point_rows
from ..kinematics import forward_rows

if TYPE_CHECKING:
    from collections.abc import Mapping

    from ..clip import Clip
    from ..contacts.contact import Contacts
    from ..contacts.points import ContactPoint


@dataclass(frozen=True)
class Worst:
    """The ``largest`` deviation of one kind, its root mean square, and the ``name`` and ``frame`` where it is largest."""

    largest: float = 0.0
    rms: float = 0.0
    name: str = ""
    frame: int = 0


@dataclass(frozen=True, eq=False)
class Deviation:
    """``places``: of joints and bones' tips in the world, metres. ``turns``: of joints in the world, radians. ``planted``: of
    points in their contacts, metres. ``weights``: of morphs. ``lane (frames,)``: the largest of any place, metres.
    """

    places: Worst
    turns: Worst
    planted: Worst
    weights: Worst
    lane: np.ndarray


def deviation(
    before: Clip,
    after: Clip,
    points: Mapping[str, ContactPoint] | None = None,
    contacts: Contacts | None = None,
) -> Deviation:
    """Of two clips of one skeleton and as many frames."""
    skeleton = before.skeleton
    (places, turns), (new_places, new_turns) = forward_rows(before), forward_rows(after)
    away = np.linalg.norm(new_places - places, axis=1)
    tips = [j for j, tip in enumerate(skeleton.tips) if np.isfinite(tip).all() and np.any(tip)]
    ends = np.zeros((len(tips), before.frames))
    for row, joint in enumerate(tips):
        tip = skeleton.tips[joint][:, None]
        moved = new_places[joint] + rot.rotate_rows(new_turns[joint], tip)
        ends[row] = np.linalg.norm(moved - places[joint] - rot.rotate_rows(turns[joint], tip), axis=0)
    chord = np.minimum(np.linalg.norm(new_turns - turns, axis=1), np.linalg.norm(new_turns + turns, axis=1))
    angles = 4 * np.arcsin(np.minimum(chord / 2, 1.0))
    every = np.concatenate([away, ends])
    names = [*skeleton.names, *(f"tip of {skeleton.names[j]}" for j in tips)]
    weights = np.abs(after.weights - before.weights).T
    return Deviation(
        _worst(every, names),
        _worst(angles, list(skeleton.names)),
        _planted(before, after, points or {}, contacts),
        _worst(weights, list(before.morphs)),
        every.max(axis=0, initial=0.0),
    )


def _planted(before: Clip, after: Clip, points: Mapping[str, ContactPoint], contacts: Contacts | None) -> Worst:
    known = [points[name] for name in contacts.by_point if name in points] if contacts is not None else []
    if contacts is None or not known:
        return Worst()
    away = np.linalg.norm(point_rows(after, known) - point_rows(before, known), axis=1)
    stands = np.zeros(away.shape, bool)
    for row, point in enumerate(known):
        for contact in contacts.of(point.name):
            stands[row, max(contact.first, 0) : contact.last + 1] = True
    worst = _worst(np.where(stands, away, 0.0), [p.name for p in known])
    rms = float(np.sqrt(np.mean(away[stands] ** 2))) if stands.any() else 0.0
    return Worst(worst.largest, rms, worst.name, worst.frame)


def _worst(values: np.ndarray, names: list[str]) -> Worst:
    if not values.size:
        return Worst()
    row, frame = np.unravel_index(int(values.argmax()), values.shape)
    return Worst(float(values[row, frame]), float(np.sqrt(np.mean(values**2))), names[int(row)], int(frame))


def count_keys(clip: Clip) -> int:
    """How many keys a clip has that has one on every frame."""
    return clip.frames * (len(clip.skeleton) + len(clip.moving) + len(clip.morphs))
