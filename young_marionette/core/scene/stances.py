"""The stance of two figures on the stage: sized alike at the same hips, and arcs of the angles that are left."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

import numpy as np

from ..humanoid.parts import NEXT
from ..matching.stance import Limb
from ..matching.tying import String
from ..skeleton import Skeleton
from .figure import Figure

Line = np.ndarray


def put_together(performer: Figure, marionette: Figure, joints: tuple[int, int], scale: float) -> None:
    """Size the performer by ``scale`` and put its hips where the marionette's are; both stand on the floor or over it.

    ``joints``: the hips of both.
    """
    hips = marionette.positions[joints[1]]
    performer.positions = (performer.positions - performer.positions[joints[0]]) * scale + hips
    bones, performer.size = performer.bones, scale
    sizes = ("tips", "radius", "joint_radius", "reach")
    performer.bones = replace(bones, **{name: getattr(bones, name) * scale for name in sizes})
    lift = max(0.0, -min(f.positions[:, 1].min() for f in (performer, marionette)))
    for figure in (performer, marionette):
        figure.positions = figure.positions + [0, lift, 0]


def put_side_by_side(figures: Sequence[Figure], widths: Sequence[float]) -> None:
    """Shift figures apart along X, each with its own width, around the middle."""
    places = np.cumsum([0.0, *((a + b) / 2 for a, b in pairwise(widths))])
    for figure, x in zip(figures, places - places.mean()):
        figure.shift = np.array([x, 0.0, 0.0])


def arcs(
    limbs: Sequence[Limb], strings: Sequence[String], performer: Figure, marionette: Figure, least: float = 0.5
) -> list[Line]:
    """Lines ``(n, 3)`` at the marionette's limbs, to where the performer's point: an arc and its end for each.

    ``least``: degrees below which nothing is shown. The performer's figure is unshifted.
    """
    ties = {s.part: s for s in strings}
    lines: list[Line] = []
    source, target = performer.skeleton, marionette.skeleton
    assert isinstance(source, Skeleton) and isinstance(target, Skeleton)
    for limb in limbs:
        side, plain = limb.part.split(" ", 1)
        after = ties.get(f"{side} {NEXT.get(plain, '')}")
        if after is None or limb.angle < least:
            continue
        tie = ties[limb.part]
        start = marionette.placed[target.index[tie.target[0]]]
        own = marionette.placed[target.index[after.target[0]]] - start
        first = performer.positions
        aim = first[source.index[after.source[0]]] - first[source.index[tie.source[0]]]
        length = np.linalg.norm(own)
        a, b = own / max(length, 1e-9), aim / max(np.linalg.norm(aim), 1e-9)
        share = np.linspace(0, 1, 18)[:, None]
        arc = a * (1 - share) + b * share
        arc /= np.maximum(np.linalg.norm(arc, axis=1, keepdims=True), 1e-9)
        lines.append(start + arc * length * 0.9)
        lines.append(np.array([start, start + b * length * 0.9]))
    return lines
