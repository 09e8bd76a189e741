"""The body figure changed by hand: lengths that are set, joints moved inside the markers, bones turned against them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from .. import rotations as rot
from .figure import Figure
from .segments import SIDES, Structure, mirrored

STATURE, TRUNK = "stature", "trunk"
_TRUNK_JOINTS = ("spine", "chest", "neck")
_SIDED = ("UpperArm", "LowerArm", "Hand", "UpperLeg", "LowerLeg", "Foot", "Toes")
_SINGLE = (STATURE, TRUNK, "head")
SIZES = (*_SINGLE, *(side + name for name in _SIDED for side in SIDES))
_FLIP = np.array([-1.0, 1.0, 1.0])  # a place of the other side

Sizes = Mapping[str, float]
Way = tuple[float, float, float]


def joints_of(structure: Structure, size: str) -> list[int]:
    """The joints whose ways from the joints above them make one of the SIZES, but for the stature.

    A size is named by the joint at its far end: ``leftLowerLeg`` is the length of the left thigh.
    """
    return [structure.index[name] for name in (_TRUNK_JOINTS if size == TRUNK else (size,))]


def size_of(figure: Figure, size: str) -> float:
    """One of the SIZES of a figure, metres."""
    if size == STATURE:
        return figure.stature
    return float(np.linalg.norm(figure.offsets[joints_of(figure.structure, size)], axis=-1).sum())


def mirror_of(size: str) -> str | None:
    """The same size on the other side; None for those of the middle."""
    other = mirrored(size)
    return other if other != size else None


def resized(figure: Figure, sizes: Sizes) -> Figure:
    """The figure with some sizes set (metres); a stature makes all that is not set larger or smaller with it."""
    offsets, stature = figure.offsets.copy(), sizes.get(STATURE, figure.stature)
    offsets *= stature / figure.stature
    for size, metres in sizes.items():
        if size == STATURE:
            continue
        own = joints_of(figure.structure, size)
        long = np.linalg.norm(offsets[own], axis=-1).sum()
        usual = figure.structure.shares[own]
        offsets[own] = (
            offsets[own] * metres / long if long > 1e-6 else usual * metres / np.linalg.norm(usual, axis=-1).sum()
        )
    return replace(figure, offsets=offsets, stature=stature)


def moved(figure: Figure, rotations: np.ndarray, joint: int, way: np.ndarray | Way, mirror: bool = False) -> Figure:
    """The figure with a joint moved by ``way (3,)`` (metres, in the world) inside its markers, which stay where they are.

    ``rotations (joints, 4)``: of the joints in the world, in the frame in which it is done. The other joints stay in place,
    too; the hips take the whole figure along. ``mirror``: the other side's joint moves likewise.
    """
    structure, offsets, places = figure.structure, figure.offsets.copy(), figure.places.copy()
    way = np.asarray(way)
    back = rot.conjugate(rotations)
    if joint == 0:
        places -= rot.rotate(back[figure.segments], way)
        return replace(figure, places=places)
    above = rot.rotate(back[structure.parents[joint]], way)
    own = rot.rotate(back[joint], way)
    for one, flip in _both(structure, joint, mirror):
        offsets[one] += flip * above
        offsets[structure.parents == one] -= flip * own
        places[figure.segments == one] -= flip * own
    return replace(figure, offsets=offsets, places=places)


def turned(figure: Figure, rotations: np.ndarray, joint: int, vector: np.ndarray | Way, mirror: bool = False) -> Figure:
    """The figure with a joint's bone turned against the markers on it by a rotation vector (radians, in the world).

    ``rotations``, ``mirror``: as in ``moved``.
    """
    places = figure.places.copy()
    own = rot.rotate(rot.conjugate(rotations[joint]), np.asarray(vector))
    for one, flip in _both(figure.structure, joint, mirror):
        # A turn seen in a mirror keeps its part about the axis across, and its others change sign.
        turn = rot.from_vector(-own * flip * (flip[0] if one != joint else 1.0))
        of = figure.segments == one
        places[of] = rot.rotate(turn, places[of])
    return replace(figure, places=places)


def _both(structure: Structure, joint: int, mirror: bool) -> list[tuple[int, np.ndarray]]:
    """A joint, and the other side's where that goes along, with what components change sign by."""
    other = int(structure.mirror[joint])
    return [(joint, np.ones(3)), *([(other, _FLIP)] if mirror and other != joint else [])]


def changed_sizes(before: Figure, after: Figure) -> dict[str, float]:
    """The SIZES in which two figures differ, as they are in the second."""
    sizes = {size: (size_of(before, size), size_of(after, size)) for size in SIZES}
    return {size: now for size, (was, now) in sizes.items() if abs(now - was) > 1e-6}
