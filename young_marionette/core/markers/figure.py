"""The body figure of one performer: how long each segment is, and where the markers sit on it. Never changed."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ..skeleton import Skeleton
from .segments import BODY, Structure


@dataclass(frozen=True, eq=False)
class Figure:
    """``offsets (joints, 3)``: of joints from their parents in the T-pose, metres. ``labels``: of the markers that sit on it.

    ``segments (markers,)``: the joint that each marker goes with; ``places (markers, 3)``: where it sits in that joint's
    axes, metres. ``stature``: metres.
    """

    stature: float
    offsets: np.ndarray
    labels: tuple[str, ...]
    segments: np.ndarray
    places: np.ndarray
    structure: Structure = BODY

    def on(self, labels: tuple[str, ...]) -> Figure:
        """The figure with some of its markers, in the order of ``labels``; KeyError where it lacks one of them."""
        index = {label: n for n, label in enumerate(self.labels)}
        of = [index[label] for label in labels]
        return replace(self, labels=labels, segments=self.segments[of], places=self.places[of])

    def skeleton(self, tips: bool = True) -> Skeleton:
        """The figure as a skeleton in a T-pose, standing over the origin, feet on the floor."""
        structure = self.structure
        ends = np.full((len(structure), 3), np.nan)
        if tips:
            leaves = [j for j in range(len(structure)) if j not in structure.parents]
            ends[leaves] = structure.tip_shares[leaves] * self.stature
        offsets = self.offsets.copy()
        offsets[0] = 0.0
        made = Skeleton(structure.names, structure.parents, offsets, tips=ends)
        low = np.fmin(made.rest_world[0], made.ends)[:, 1].min() if len(made) else 0.0
        offsets[0, 1] = -low
        return Skeleton(structure.names, structure.parents, offsets, tips=ends)


def usual_figure(stature: float, structure: Structure = BODY) -> Figure:
    """The figure of somebody of a stature (metres), without markers."""
    return Figure(stature, structure.shares * stature, (), np.zeros(0, int), np.zeros((0, 3)), structure)
