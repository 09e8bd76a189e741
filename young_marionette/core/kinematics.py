"""Forward kinematics of whole clips, on rows (see ``clip.as_rows``)."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from . import rotations as rot
from .clip import as_rows, from_rows

if TYPE_CHECKING:
    from .clip import Clip
    from .skeleton import Skeleton


def world_rotation_rows(
    skeleton: Skeleton, local: np.ndarray, joints: list[int] | set[int] | None = None
) -> np.ndarray:
    """World rotations ``(joints, 4, frames)`` of local ones in the same layout.

    With ``joints``, only those and what they hang on are computed; other rows stay undefined.
    """
    world = np.empty_like(local)
    for joint in _needed(skeleton, joints):
        parent = skeleton.parents[joint]
        if parent < 0:
            world[joint] = local[joint]
        else:
            rot.product_rows(world[parent], local[joint], out=world[joint])
    return world


def position_rows(
    skeleton: Skeleton, world: np.ndarray, moving: np.ndarray, translations: Any, joints: list[int] | None = None
) -> np.ndarray:
    """World positions ``(joints, 3, frames)`` from world rotation rows and translation rows."""
    positions = np.empty((len(skeleton), 3, world.shape[-1]))
    rows = {int(j): translations[i] for i, j in enumerate(moving)}
    for joint in _needed(skeleton, joints):
        parent = skeleton.parents[joint]
        offset = rows.get(joint, skeleton.offsets[joint][:, None])
        if parent < 0:
            positions[joint] = offset
        else:
            rot.rotate_rows(world[parent], offset, out=positions[joint])
            positions[joint] += positions[parent]
    return positions


def _needed(skeleton: Skeleton, joints: list[int] | set[int] | None) -> list[int] | range:
    if joints is None:
        return range(len(skeleton))
    wanted = set()
    for joint in joints:
        while joint >= 0 and joint not in wanted:
            wanted.add(int(joint))
            joint = skeleton.parents[joint]
    return sorted(wanted)


def forward_rows(clip: Clip, joints: list[int] | None = None, step: int = 1) -> tuple[np.ndarray, np.ndarray]:
    """World positions ``(joints, 3, frames)`` and rotations ``(joints, 4, frames)``, of each ``step``-th frame.

    With ``joints``, only those and what they hang on are computed; other rows stay undefined.
    """
    local, moves = (as_rows(array)[:, :, ::step] for array in (clip.rotations, clip.translations))
    world = world_rotation_rows(clip.skeleton, local, joints)
    return position_rows(clip.skeleton, world, clip.moving, moves, joints), world


def forward(clip: Clip) -> tuple[np.ndarray, np.ndarray]:
    """World positions ``(frames, joints, 3)`` in metres and rotations ``(frames, joints, 4)``."""
    places, world = forward_rows(clip)
    return from_rows(places), from_rows(world)


def local_rotation_rows(skeleton: Skeleton, world: np.ndarray) -> np.ndarray:
    """Local rotations ``(joints, 4, frames)`` that give these world rotations."""
    local = np.empty_like(world)
    for joint, parent in enumerate(skeleton.parents):
        local_rotation(world, parent, joint, local[joint])
    return local


def local_rotation(world: np.ndarray, parent: int, joint: int, out: np.ndarray) -> None:
    """The local rotation of one joint ``(4, frames)`` into ``out``, from its own and its parent's rows of the world."""
    if parent < 0:
        out[:] = world[joint]
    else:
        rot.product_rows(world[parent] * np.array([-1.0, -1.0, -1.0, 1.0])[:, None], world[joint], out=out)
