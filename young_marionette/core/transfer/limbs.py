"""Limbs of two bones in closed form: put where they are to reach, in the plane that they bend in anyway."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot

if TYPE_CHECKING:
    from ..skeleton import Skeleton

_REACH = 0.98  # of an arm's length
_SOFT = 0.012  # of an arm's length: over which reaching as far as it goes comes on
FREELY = _REACH - 3 * _SOFT  # of an arm's length: what is closer is reached just so
_STRAIGHT = np.radians(8.0)  # limbs that bend less get their plane from how they rest


@dataclass(frozen=True, eq=False)
class Limb:
    """Thigh, shin and foot, or upper arm, forearm and hand. ``hinge (3,)``: the axis, in the first bone's axes, about
    which the second one bends.
    """

    first: int
    second: int
    end: int
    hinge: np.ndarray

    @staticmethod
    def of(skeleton: Skeleton, joints: tuple[int, int, int], bends: np.ndarray) -> Limb:
        """A limb whose end goes towards ``bends (3,)`` (world, at rest) when it bends."""
        places, turns = skeleton.rest_world
        first, second, end = joints
        axis = rot.normalise(np.cross(rot.normalise(places[end] - places[first]), bends))
        return Limb(first, second, end, rot.rotate(rot.conjugate(turns[first]), axis))

    def lengths(self, places: np.ndarray) -> tuple[float, float]:
        """Of both bones in a pose, ``places (joints, 3, frames)``."""
        first, second, end = (places[j][:, 0] for j in (self.first, self.second, self.end))
        return float(np.linalg.norm(second - first)), float(np.linalg.norm(end - second))

    def within(self, places: np.ndarray, shift: np.ndarray) -> np.ndarray:
        """Where the end goes that is moved by ``shift (frames, 3)``: no farther than the limb, or than it was; eased, not cut."""
        long = sum(self.lengths(places))
        start, end = places[self.first].T, places[self.end].T
        way = end + shift - start
        far = np.linalg.norm(way, axis=1)
        most, soft = np.maximum(_REACH * long, np.linalg.norm(end - start, axis=1)), _SOFT * long
        eased = most - soft * np.logaddexp(0.0, (most - far) / soft)
        # Where nothing moves, nothing is eased.
        much = np.minimum(np.linalg.norm(shift, axis=1) / (3 * soft), 1.0)
        eased = far + much * (np.minimum(eased, far) - far)
        return start + way * (eased / np.maximum(far, 1e-9))[:, None]

    def reach(
        self, places: np.ndarray, turns: np.ndarray, start: np.ndarray, target: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray]:
        """Changes of rotation in the world ``(frames, 4)`` of both bones that bring the end to ``target``.

        ``places (joints, 3, frames)``, ``turns (joints, 4, frames)``: where all is now. ``start (frames, 3)``: where the
        first joint will be. By the law of cosines; the plane turns along with the way from start to target by the
        smallest turn. What is out of reach is reached for.
        """
        upper, lower = self.lengths(places)
        first, second, end = (places[j].T for j in (self.first, self.second, self.end))
        old, new = end - first, target - start
        hinge = self._plane(second - first, end - second, old, turns[self.first].T)
        swing = rot.between(old, new)
        before, after = _angles(old, upper, lower), _angles(new, upper, lower)
        # Both bones turn about the hinge within the plane, which then turns along with the way.
        one, two = (rot.from_vector(hinge * angle[:, None]) for angle in (before[0] - after[0], after[1] - before[1]))
        return rot.multiply(swing, one), rot.multiply(swing, two)

    def _plane(self, upper: np.ndarray, lower: np.ndarray, way: np.ndarray, turns: np.ndarray) -> np.ndarray:
        """The axis ``(frames, 3)`` that the limb bends about, square to its way; from the rest pose where it is straight."""
        bent = rot.cross(rot.normalise(upper), rot.normalise(lower))
        angle = np.arcsin(np.clip(np.linalg.norm(bent, axis=1), 0, 1))
        share = np.clip(1 - angle / _STRAIGHT, 0, 1)[:, None]
        along = rot.normalise(way)
        axis = bent + 0.15 * share * rot.rotate(turns, self.hinge)
        axis -= np.sum(axis * along, 1, keepdims=True) * along
        # A limb that bends the wrong way at this moment bends on about the axis that it has.
        return rot.normalise(axis)


_FASTEST = 40.0  # radians that a limb opens by for a metre of reach: a straight one's have no end


def opening(lengths: tuple[float, float], far: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The angle ``(frames,)`` between the bones of a limb whose end is ``far`` from its start, and by how much it opens for
    a metre more.

    By the law of cosines; from where it would open faster than ``_FASTEST`` it goes on as fast, also beyond its length.
    """
    a, b = lengths
    longest, sine = _longest(lengths)
    reach = np.clip(far, abs(a - b) + 1e-6, longest)
    cosine = np.clip((a * a + b * b - reach**2) / (2 * a * b), -1, 1)
    rate = reach / (a * b * np.sqrt(np.maximum(1 - cosine**2, sine * sine)))
    return np.arccos(cosine) + _FASTEST * np.maximum(far - longest, 0), rate


def far_at(lengths: tuple[float, float], angle: np.ndarray) -> np.ndarray:
    """How far the end of a limb is from its start when it is open by ``angle (frames,)``: see ``opening``."""
    a, b = lengths
    widest = np.pi - np.arcsin(_longest(lengths)[1])
    cosine = np.cos(np.clip(angle, 0.0, widest))
    return np.sqrt(np.maximum(a * a + b * b - 2 * a * b * cosine, 0)) + np.maximum(angle - widest, 0) / _FASTEST


def _longest(lengths: tuple[float, float]) -> tuple[float, float]:
    """How far a limb's end is where it opens by ``_FASTEST``, and the sine of the angle between its bones there."""
    a, b = lengths
    sine = min((a + b) / (a * b * _FASTEST), 1.0)
    return (a * a + b * b + 2 * a * b * (1 - sine * sine) ** 0.5) ** 0.5, sine


def put(
    local: np.ndarray, skeleton: Skeleton, joint: int, turn: np.ndarray, turns: np.ndarray, above: np.ndarray | None
) -> None:
    """Into ``local (joints, 4, frames)`` the rotations that turn a joint as ``turn (frames, 4)`` in the world.

    ``turns``: in the world as before; ``above``: what has changed the bone that it hangs on since (None: nothing).
    """
    parent = int(skeleton.parents[joint])
    if parent < 0:
        local[joint] = turn.T
        return
    base = turns[parent].T if above is None else rot.multiply(above, turns[parent].T)
    local[joint] = rot.multiply(rot.conjugate(base), turn).T


def _angles(way: np.ndarray, upper: float, lower: float) -> tuple[np.ndarray, np.ndarray]:
    """The angles ``(frames,)`` at the beginning and at the end of the triangle that two bones make with a way."""
    long = np.clip(np.sqrt(np.einsum("fx,fx->f", way, way)), abs(upper - lower) + 1e-6, upper + lower)
    return tuple(  # type: ignore[return-value]
        np.arccos(np.clip((a**2 + long**2 - b**2) / (2 * a * long), -1, 1)) for a, b in ((upper, lower), (lower, upper))
    )
