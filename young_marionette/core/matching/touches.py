"""Touches: small constant offsets that animators like in the reference pose, by name and in degrees.

They are laid over the matched stance, so the match itself stays what it is. Positive means: shoulders up,
elbows back, arms away from the body, head down.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..skeleton import pose_world

if TYPE_CHECKING:
    from ..skeleton import Skeleton
    from .tying import String


TOUCHES = {
    "shoulders up": "Collarbones, or upper arms where there are none, lifted",
    "elbows back": "Elbows behind the straight line; the hands stay in line",
    "arms out": "Arms away from the thighs",
    "head down": "Head bowed",
}
_X, _Y, _Z = (rot.AXES[a] for a in "XYZ")


def _turns(name: str, degrees: float, parts: dict[str, int]) -> Iterator[tuple[str, np.ndarray, float]]:
    """``(part, world axis, radians)`` of a touch, parents first; left is +X, so that it turns the other way."""
    angle = np.radians(degrees)
    for side, sign in (("left ", 1.0), ("right ", -1.0)):
        if name == "shoulders up":
            yield side + ("collarbone" if side + "collarbone" in parts else "upper arm"), sign * _Z, angle
        elif name == "elbows back":
            yield side + "upper arm", sign * _Y, angle
            yield side + "forearm", sign * _Y, -2 * angle
        elif name == "arms out":
            yield side + "upper arm", sign * _Z, angle
    if name == "head down":
        yield "head", _X, angle


def touched(pose: np.ndarray, skeleton: Skeleton, strings: tuple[String, ...], touches: dict[str, float]) -> np.ndarray:
    """``pose (joints, 4)`` of the target with touches ``{name: degrees}``; parts that are not tied are passed over."""
    pose = np.array(pose)
    parts = {s.part: skeleton.index[s.target[0]] for s in strings}
    for name, degrees in touches.items():
        for part, axis, angle in _turns(name, degrees, parts) if degrees else ():
            if part in parts:
                joint = parts[part]
                _, world = pose_world(skeleton, pose)
                over = rot.multiply(rot.from_axis_angle(axis, np.array(angle)), world[joint])
                pose[joint] = rot.multiply(pose[joint], rot.multiply(rot.conjugate(world[joint]), over))
    return pose
