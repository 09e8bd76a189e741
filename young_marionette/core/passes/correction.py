"""The pass that corrects a dense clip at one frame, eased in before it and out behind it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, ClassVar

import numpy as np

from .. import rotations as rot
from ..clip import as_rows, from_rows
from ..keys.channel import Channel, Joint, Kind

if TYPE_CHECKING:
    from ..clip import Clip

Three = tuple[float, float, float]


@dataclass(frozen=True)
class Correction:
    """At ``frame`` joints are turned by ``turns``: pairs of a name and a rotation vector in the axes of what they hang on
    (radians), and moved by ``moves`` (metres, likewise); ``seconds`` before and behind it nothing is changed any more.
    """

    frame: int = 0
    seconds: float = 0.5
    turns: tuple[tuple[str, Three], ...] = ()
    moves: tuple[tuple[str, Three], ...] = ()

    code: ClassVar[str] = "correction"

    @property
    def halo(self) -> float:
        return 0.0

    def run(self, clip: Clip, first: int = 0) -> Clip:
        """The clip (from frame ``first`` of a longer one) with the correction."""
        away = np.abs(np.arange(first, first + clip.frames) - self.frame) / max(self.seconds * clip.rate, 1e-9)
        weight = np.clip(1 - away, 0, 1)
        weight = weight**3 * (10 - 15 * weight + 6 * weight**2)  # no jump in speed or acceleration at either end
        at = np.flatnonzero(weight > 0)
        if not len(at):
            return clip
        index, local = clip.skeleton.index, as_rows(clip.rotations).copy()
        for name, vector in self.turns:
            if name in index:
                turn = rot.from_vector(weight[at, None] * np.array(vector)).T
                local[index[name]][:, at] = rot.product_rows(turn, local[index[name]][:, at])
        made = replace(clip, rotations=from_rows(local))
        return self._moved(made, weight) if self.moves else made

    def _moved(self, clip: Clip, weight: np.ndarray) -> Clip:
        index = clip.skeleton.index
        places = {int(j): clip.translations[:, i] for i, j in enumerate(clip.moving)}
        for name, shift in self.moves:
            if name in index:
                joint = index[name]
                rows = places.get(joint, np.repeat(clip.skeleton.offsets[joint][None], clip.frames, 0))
                places[joint] = rows + weight[:, None] * np.array(shift)
        moving = sorted(places)
        return replace(clip, moving=np.array(moving, int), translations=np.stack([places[j] for j in moving], 1))


def corrected_by(before: Clip, values: Mapping[Channel, np.ndarray], old: Correction) -> Correction:
    """``old`` with what makes of a pose ``before`` (a Clip of one frame, with ``old`` in it) one with other ``values``."""
    names = before.skeleton.names
    turns, moves = dict(old.turns), dict(old.moves)
    places = {int(j): before.translations[0, i] for i, j in enumerate(before.moving)}
    for channel, value in values.items():
        if not isinstance(channel.node, Joint):
            continue
        joint = channel.node.number
        if channel.kind is Kind.ROTATION:
            step = rot.multiply(value, rot.conjugate(before.rotations[0, joint]))
            done = rot.from_vector(np.array(turns.get(names[joint], (0.0, 0.0, 0.0))))
            turns[names[joint]] = _three(rot.to_vector(rot.multiply(step, done)))
        elif channel.kind is Kind.TRANSLATION:
            shift = np.asarray(value) - places.get(joint, before.skeleton.offsets[joint])
            moves[names[joint]] = _three(np.array(moves.get(names[joint], (0.0, 0.0, 0.0))) + shift)
    return replace(old, turns=tuple(turns.items()), moves=tuple(moves.items()))


def _three(values: np.ndarray) -> Three:
    x, y, z = map(float, values)
    return x, y, z
