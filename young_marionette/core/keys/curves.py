"""Curves that people read: a joint's rotation as unwrapped degrees, or as swing and twist; positions; morphs."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..clip import as_rows

if TYPE_CHECKING:
    from ..clip import Clip
    from ..skeleton import Skeleton

ANGLES, SWING, PLACE, WEIGHT = READINGS = ("angles", "swing and twist", "position", "morphs")
ORDER = "ZXY"  # of the angles where nothing tells another one
ORDERS = ("XYZ", "XZY", "YXZ", "YZX", "ZXY", "ZYX")
SPEED, SPECTRUM = "speed", "spectrum"


@dataclass(frozen=True, eq=False)
class Curve:
    """``name``: of its joint or morph. ``axis``: X, Y or Z; "twist", or "swing X" to "swing Z"; "" for a morph.

    ``values (frames,)``: degrees, centimetres, or weights, as ``unit`` says.
    """

    name: str
    axis: str
    values: np.ndarray
    unit: str


def curves(clip: Clip, names: list[str], reading: str, order: str = ORDER) -> list[Curve]:
    """The curves of some joints, or morphs, as one ``reading``; names that have none are left out.

    ``order``: of the three angles, first axis first.
    """
    found: list[Curve] = []
    if reading == WEIGHT:
        known = [(name, clip.morphs.index(name)) for name in names if name in clip.morphs]
        return [Curve(name, "", clip.weights[:, i], "") for name, i in known]
    for name in names:
        joint = clip.skeleton.index.get(name)
        if joint is None:
            continue
        if reading == PLACE:
            for i in np.flatnonzero(clip.moving == joint):
                found += [Curve(name, a, clip.translations[:, i, k] * 100, "cm") for k, a in enumerate("XYZ")]
            continue
        turns = as_rows(clip.rotations)[joint]
        if reading == ANGLES:
            angles = np.degrees(rot.to_euler_rows(order, turns))
            found += [Curve(name, axis, angles[i], "°") for i, axis in enumerate(order)]
        else:
            found += _swing_and_twist(name, clip.skeleton, joint, turns)
    return found


def _swing_and_twist(name: str, skeleton: Skeleton, joint: int, turns: np.ndarray) -> list[Curve]:
    """How far a bone leans from its rest about two axes across it, and how far it turns about itself."""
    away = rot.multiply(rot.conjugate(skeleton.rest[joint]), turns.T)
    along, across = _axes(skeleton, joint)
    twist = rot.twist_about(away, along)
    swing = rot.multiply(away, rot.conjugate(twist))
    swing = np.where(swing[:, 3:] < 0, -swing, swing)
    about = np.degrees(rot.to_vector(swing)) @ across.T
    turned = np.degrees(np.unwrap(2 * np.arctan2(twist[:, :3] @ along, twist[:, 3])))
    return [
        Curve(name, "twist", turned, "°"),
        *(Curve(name, f"swing {k}", values, "°") for k, values in enumerate(about.T, 1)),
    ]


def _axes(skeleton: Skeleton, joint: int) -> tuple[np.ndarray, np.ndarray]:
    """``(the bone's direction (3,), two axes across it (2, 3))`` in the joint's axes."""
    children = [i for i, parent in enumerate(skeleton.parents) if int(parent) == joint]
    ways = np.nan_to_num(skeleton.offsets[children] if children else skeleton.tips[joint][None])
    long = ways[np.argmax(np.linalg.norm(ways, axis=1))]
    along = rot.normalise(long) if np.linalg.norm(long) > 1e-9 else np.array([0.0, 1.0, 0.0])
    first = rot.normalise(np.cross(along, np.eye(3)[np.argmin(np.abs(along))]))
    return along, np.stack([first, np.cross(along, first)])


def speed_of(curve: Curve, rate: float) -> Curve:
    """How fast a curve goes, per second."""
    values = np.gradient(curve.values) * rate if len(curve.values) > 1 else np.zeros(1)
    return Curve(curve.name, curve.axis, values, f"{curve.unit}/s")


def spectra(some: list[Curve], rate: float) -> list[Curve]:
    """How large the waves of each frequency are in curves: ``values (k,)`` from 0 to half the rate, in their units.

    A straight line from end to end is taken out before, and a Hann window is laid over what is left.
    """
    found = []
    for curve in some:
        values = curve.values - np.linspace(curve.values[0], curve.values[-1], len(curve.values))
        window = np.hanning(len(values) + 2)[1:-1]
        lines = np.abs(np.fft.rfft(values * window)) * 2 / max(float(window.sum()), 1e-9)
        found.append(Curve(curve.name, curve.axis, lines, curve.unit))
    return found


def own_order(layout: object, joint: int) -> str:
    """The order of the angles that a joint has in its file; ORDER where that does not say."""
    channels = getattr(layout, "channels", None)
    if channels is None or joint >= len(channels):
        return ORDER
    order = "".join(c[0].upper() for c in channels[joint] if c.lower().endswith("rotation"))
    return order if order in ORDERS else ORDER
