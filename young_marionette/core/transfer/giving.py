"""Hips that give way by millimetres, so that knees need not bend by degrees: a leg close to straight hardly changes its reach."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ..smoothing import gaussian
from .limbs import opening

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from .limbs import Limb

_A_RADIAN = 0.4  # metres that hips go rather than a knee bends by a radian
_STEPS = 2
_SMOOTH = 0.04  # seconds: the width of the curve by which hips go
_TAUT = 0.9998  # of a leg's length: where it begins to draw the hips along
_DRAWS = 1000.0  # how much more a metre counts that a leg lacks than one that the hips go


def given(legs: Sequence[tuple[Limb, np.ndarray]], places: np.ndarray, rate: float) -> np.ndarray:
    """How far hips go ``(frames, 3)``, metres, for legs whose ankles go to ``target (frames, 3)``, in pairs with their limbs.

    ``places (joints, 3, frames)``: where all is now; ``rate``: frames per second. On each frame the least squares of what
    the knees bend by and of the hips' own way, by two steps of Gauss and Newton, then smooth in time; last, hips are drawn
    to where no leg would have to be longer than it is.
    """
    shift = np.zeros((places.shape[2], 3))
    for _ in range(_STEPS):
        wanted = _Wanted(shift, _A_RADIAN)
        for limb, towards, far in _ways(legs, places, shift):
            lengths, own = limb.lengths(places), np.linalg.norm(places[limb.end] - places[limb.first], axis=0)
            bent, speed = opening(lengths, far)
            wanted.add(towards, speed, bent - opening(lengths, own)[0])
        shift += wanted.found()
    shift = gaussian(shift.T, max(_SMOOTH * rate, 0.3)).T
    wanted = _Wanted(np.zeros_like(shift), 1.0)
    for limb, towards, far in _ways(legs, places, shift):
        lacks = np.maximum(far - _TAUT * sum(limb.lengths(places)), 0.0)
        wanted.add(towards, np.where(lacks > 0, _DRAWS, 0.0), _DRAWS * lacks)
    return shift + wanted.found()


def _ways(
    legs: Sequence[tuple[Limb, np.ndarray]], places: np.ndarray, shift: np.ndarray
) -> Iterator[tuple[Limb, np.ndarray, np.ndarray]]:
    """Of each leg the limb, the direction ``(frames, 3)`` from its hip to where the ankle goes, and how far that is."""
    for limb, target in legs:
        way = target - places[limb.first].T - shift
        far = np.linalg.norm(way, axis=1)
        yield limb, way / np.maximum(far, 1e-9)[:, None], far


class _Wanted:
    """The normal equations of a step: of ways that the hips go by now, of which ``unit`` metres count as much as a one."""

    def __init__(self, shift: np.ndarray, unit: float) -> None:
        self.normal = np.broadcast_to(np.eye(3) / unit**2, (len(shift), 3, 3)).copy()
        self.right = -shift / unit**2

    def add(self, towards: np.ndarray, speed: np.ndarray, amount: np.ndarray) -> None:
        """An ``amount (frames,)`` that grows less by ``speed (frames,)`` for a metre in a direction ``(frames, 3)``."""
        self.normal += (speed * speed)[:, None, None] * towards[:, :, None] * towards[:, None, :]
        self.right += (speed * amount)[:, None] * towards

    def found(self) -> np.ndarray:
        """The step ``(frames, 3)``."""
        return np.linalg.solve(self.normal, self.right[..., None])[..., 0]
