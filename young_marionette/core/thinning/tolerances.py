"""How far a thinned motion may be from the dense one: the promise, and where it is another one."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class Tolerances:
    """``places``: of joints and tips in the world, metres. ``turns``: of joints in the world, radians, and so of the bones'
    directions. ``planted``: of what stands or is held, in its contacts, metres. ``weights``: of morphs.
    """

    places: float = 0.01
    turns: float = np.radians(5.0)
    planted: float = 0.003
    weights: float = 0.02

    @property
    def all(self) -> np.ndarray:
        """The four ``(4,)``, in the order of Misses."""
        return np.array([self.places, self.turns, self.planted, self.weights])


@dataclass(frozen=True)
class Emphasis:
    """Another tolerance somewhere: ``factor`` of the usual one, below 1 closer and with more keys, above 1 fewer.

    ``names``: of joints and morphs, ``parts``: of groups of them; with neither, all. ``frames``: first and last (None: all).
    """

    factor: float
    names: tuple[str, ...] = ()
    parts: tuple[str, ...] = ()
    frames: tuple[int, int] | None = None


def shares(
    emphases: Iterable[Emphasis],
    names: Iterable[str],
    groups: Mapping[str, tuple[str, ...]],
    frames: int,
    first: int = 0,
) -> list[float | np.ndarray]:
    """For each joint or morph of ``names`` one over its factor: a number, or ``(frames,)`` where it changes.

    ``first``: the frame of the whole clip that these frames begin with. Later emphases win over earlier ones.
    """
    result: list[float | np.ndarray] = []
    emphases = list(emphases)
    for name in names:
        share: float | np.ndarray = 1.0
        for one in emphases:
            members = {*one.names, *(n for part in one.parts for n in groups.get(part, ()))}
            if (one.names or one.parts) and name not in members:
                continue
            if one.frames is None:
                share = 1 / one.factor
                continue
            start, end = max(one.frames[0] - first, 0), min(one.frames[1] - first, frames - 1)
            if end >= start:
                share = np.full(frames, share) if np.ndim(share) == 0 else np.array(share)
                share[start : end + 1] = 1 / one.factor
        result.append(share)
    return result
