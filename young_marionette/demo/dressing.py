"""Dress a skeleton and its motion as another program would deliver them: the same body, told differently."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..core import rotations as rot
from ..core.clip import Clip, as_rows
from ..core.figure.placement import Placement, place_clip
from ..core.rebase import rebase, rebase_clip, rename
from ..core.skeleton import Skeleton


def rest_pose(skeleton, turns):
    """The rest pose with world turns (rotation vectors, radians) added at joints, children carried along."""
    pose = skeleton.rest.copy()
    _, world = skeleton.rest_world
    for name, vector in turns.items():
        joint = skeleton.index[name]
        back = rot.conjugate(world[joint])
        local = rot.multiply(back, rot.multiply(rot.from_vector(np.array(vector, float)), world[joint]))
        pose[joint] = rot.multiply(pose[joint], local)
    return pose


def with_rest(clip, pose=None, axes=None):
    """The clip on its skeleton with another rest pose and other local axes; the motion stays."""
    skeleton, turns = rebase(clip.skeleton, pose, axes)
    return rebase_clip(clip, skeleton, turns)


def with_names(clip, names):
    """The clip with joints renamed by a mapping."""
    return replace(clip, skeleton=rename(clip.skeleton, names))


def in_file_world(clip, metres_per_unit, turn=rot.IDENTITY):
    """The clip in a file's unit and axes; ``turn`` brings our world into the file's."""
    return place_clip(clip, Placement(1 / metres_per_unit, np.asarray(turn, float)))


def insert_joint(clip, name, parent, place, above=()):
    """Add a joint that never turns: ``place`` in the parent's axes, taking children ``above`` under it.

    ``parent`` None puts it over the root, at ``place`` in the world.
    """
    old = clip.skeleton
    at = 0 if parent is None else old.index[parent] + 1
    moved = [old.index[n] for n in above] if parent is not None else [j for j in range(len(old)) if old.parents[j] < 0]
    shift = np.arange(len(old)) + (np.arange(len(old)) >= at)
    parents = np.full(len(old) + 1, -1)
    parents[at] = -1 if parent is None else shift[old.index[parent]]
    parents[shift] = np.where(old.parents >= 0, shift[old.parents], -1)
    parents[shift[moved]] = at
    place = np.asarray(place, float)

    def grown(array, value):
        return np.insert(array, at, value, axis=0)

    offsets = grown(old.offsets, place)
    offsets[shift[moved]] -= place
    skeleton = Skeleton(
        old.names[:at] + (name,) + old.names[at:],
        parents,
        offsets,
        grown(old.rest, rot.IDENTITY),
        grown(old.tips, np.nan),
    )
    rows = np.insert(as_rows(clip.rotations), at, rot.IDENTITY[:, None], axis=0)
    moves = clip.translations.copy()
    for i, joint in enumerate(clip.moving):
        if joint in moved:
            moves[:, i] -= place
    return Clip(clip.name, skeleton, clip.rate, np.moveaxis(rows, -1, 0), shift[clip.moving], moves)
