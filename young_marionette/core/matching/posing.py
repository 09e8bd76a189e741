"""Turns of single bones in a pose, told in one space: the figure's own axes, as the bone's parent carries them.

X points to the figure's left, Y up and Z ahead while the parent is at rest; where the parent is turned, the axes go
along. So the same numbers mean the same movement on any rig, whatever its local axes are: with W the parent's world
rotation at rest, and a local rotation P in place of the rest R, the turn is ``D = W P R^-1 W^-1``. It is given as a
rotation vector (axis times angle, radians), which is unique up to half a turn.
"""

from __future__ import annotations

import numpy as np

from .. import rotations as rot
from ..skeleton import Skeleton, pose_world

MIRROR = np.array([1.0, -1.0, -1.0])  # what a turn becomes on the other side of the plane across the figure's X


def own_turn(skeleton: Skeleton, pose: np.ndarray, joint: int) -> np.ndarray:
    """How far a joint is turned from rest in ``pose (joints, 4)``, by itself: a rotation vector ``(3,)``, radians."""
    above = _above_at_rest(skeleton, joint)
    change = rot.multiply(pose[joint], rot.conjugate(skeleton.rest[joint]))
    return rot.to_vector(rot.multiply(rot.multiply(above, change), rot.conjugate(above)))


def with_own_turn(skeleton: Skeleton, pose: np.ndarray, joint: int, vector: np.ndarray) -> np.ndarray:
    """``pose (joints, 4)`` with a joint turned from rest by just ``vector (3,)``; the counterpart of ``own_turn``."""
    above = _above_at_rest(skeleton, joint)
    change = rot.multiply(rot.multiply(rot.conjugate(above), rot.from_vector(vector)), above)
    changed = np.array(pose, float)
    changed[joint] = rot.normalise(rot.multiply(change, skeleton.rest[joint]))
    return changed


def mirrored(skeleton: Skeleton, pose: np.ndarray, joint: int, partner: int) -> np.ndarray:
    """``pose (joints, 4)`` with ``partner`` turned from rest as ``joint`` is, mirrored across the plane of symmetry.

    Exact wherever both sides rest alike, whatever their local axes are.
    """
    return with_own_turn(skeleton, pose, partner, own_turn(skeleton, pose, joint) * MIRROR)


def turned_in_world(skeleton: Skeleton, pose: np.ndarray, joint: int, vector: np.ndarray) -> np.ndarray:
    """``pose (joints, 4)`` with a joint, and all that hangs on it, turned by ``vector (3,)`` about the world's axes."""
    _, world = pose_world(skeleton, pose)
    over = rot.multiply(rot.from_vector(np.asarray(vector, float)), world[joint])
    changed = np.array(pose, float)
    # Normalised, or the rounding of a long drag's many steps would feed on itself.
    changed[joint] = rot.normalise(rot.multiply(pose[joint], rot.multiply(rot.conjugate(world[joint]), over)))
    return changed


def pose_on(skeleton: Skeleton, other: Skeleton, pose: np.ndarray, names: dict[int, int]) -> np.ndarray:
    """Local rotations ``(joints, 4)`` that turn ``skeleton`` as ``pose`` turns ``other``, whatever the local axes.

    ``names``: from a joint of ``skeleton`` to the same one of ``other``; what has none keeps its rest on its parent.
    """
    posed, rested = pose_world(other, pose)[1], other.rest_world[1]
    change = rot.multiply(posed, rot.conjugate(rested))
    world, own = skeleton.rest_world[1].copy(), np.array(skeleton.rest)
    for joint, parent in enumerate(skeleton.parents.tolist()):
        if joint in names:
            world[joint] = rot.multiply(change[names[joint]], skeleton.rest_world[1][joint])
        elif parent >= 0:
            world[joint] = rot.multiply(world[parent], skeleton.rest[joint])
        above = world[parent] if parent >= 0 else rot.IDENTITY
        own[joint] = rot.multiply(rot.conjugate(above), world[joint])
    return own


def _above_at_rest(skeleton: Skeleton, joint: int) -> np.ndarray:
    parent = int(skeleton.parents[joint])
    return skeleton.rest_world[1][parent] if parent >= 0 else rot.IDENTITY
