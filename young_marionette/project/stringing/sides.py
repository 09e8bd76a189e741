"""One side of a stringing on a skeleton: which bone is which, and its reference pose."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Protocol

import numpy as np

from ...core import rotations as rot
from ...core.errors import InputError
from ...core.humanoid.words import shared_prefix
from ...core.matching.stance import fitted_pose
from ...core.skeleton import Skeleton
from .schema import Joint, Side

if TYPE_CHECKING:
    pass


class Sided(Protocol):
    """What stands at one end of a pairing: an entry, or a skeleton by itself."""

    @property
    def placed_skeleton(self) -> Skeleton: ...
    @property
    def family(self) -> str: ...


@dataclass(frozen=True, eq=False)
class Bare:
    """A skeleton by itself, without the entry that it came from."""

    placed_skeleton: Skeleton
    family: str


def side_of(entry: Sided, skeleton: Skeleton, pose: np.ndarray) -> Side:
    turns = rot.multiply(rot.conjugate(skeleton.rest), pose)
    joints = [
        Joint(
            name=n,
            parent=skeleton.names[p] if p >= 0 else None,
            offset=tuple(np.round(o, 6).tolist()),
            rest=tuple(np.round(q, 9).tolist()) if rot.angle(q) > 1e-9 else None,
        )
        for n, p, o, q in zip(skeleton.names, skeleton.parents, skeleton.offsets, skeleton.rest)
    ]
    return Side(
        fingerprint=entry.family,
        joints=joints,
        pose={n: tuple(q.tolist()) for n, q in zip(skeleton.names, turns) if rot.angle(q) > 1e-9},
    )


def matcher(side: Side, skeleton: Skeleton) -> dict[str, str]:
    """From the file's bone names to the skeleton's, through what is left without their prefixes."""
    mine = {n.removeprefix(shared_prefix(skeleton.names)): n for n in skeleton.names}
    old = shared_prefix([j.name for j in side.joints])
    names = {j.name: mine.get(j.name.removeprefix(old)) for j in side.joints}
    return {old_name: new for old_name, new in names.items() if new is not None}


def pose_on(side: Side, skeleton: Skeleton, names: dict[str, str], alike: bool = True) -> np.ndarray:
    """The reference pose of a side on a skeleton (local rotations); ``alike``: both rest in the same pose."""
    if not alike:
        return _rebuilt(side, skeleton, names)
    pose = skeleton.rest.copy()
    for name, turn in side.pose.items():
        if name in names:
            joint = skeleton.index[names[name]]
            pose[joint] = rot.multiply(pose[joint], rot.normalise(np.array(turn)))
    return pose


def _skeleton(side: Side) -> Skeleton:
    """The skeleton that a side describes; InputError where its joints make no tree."""
    index = {}
    for joint in side.joints:
        if joint.name in index or (joint.parent is not None and joint.parent not in index):
            raise InputError(
                f"This stringing is not a valid one: its joint {joint.name} stands before its parent, or twice."
            )
        index[joint.name] = len(index)
    return Skeleton(
        tuple(index),
        np.array([-1 if j.parent is None else index[j.parent] for j in side.joints]),
        np.array([j.offset for j in side.joints]),
        np.array([rot.normalise(np.array(j.rest)) if j.rest else rot.IDENTITY for j in side.joints]),
        np.full((len(index), 3), np.nan),
    )


def rests_alike(side: Side, skeleton: Skeleton, names: dict[str, str]) -> bool:
    """Whether the bones of a side point, at rest, where those of a skeleton do (within two degrees)."""
    old = _skeleton(side)
    old_points, points = old.rest_world[0], skeleton.rest_world[0]
    for name, joint in old.index.items():
        over = old.parents[joint]
        if over < 0 or name not in names or old.names[over] not in names:
            continue
        was = old_points[joint] - old_points[over]
        now = points[skeleton.index[names[name]]] - points[skeleton.index[names[old.names[over]]]]
        if min(np.linalg.norm(was), np.linalg.norm(now)) > 1e-4 and rot.angle_between(was, now) > np.radians(2):
            return False
    return True


def _rebuilt(side: Side, skeleton: Skeleton, names: dict[str, str]) -> np.ndarray:
    """The pose of a side on a skeleton of the same bones that rests otherwise: every bone pointed the same way."""
    old = _skeleton(side)
    pose = np.array(old.rest)
    for name, turn in side.pose.items():
        if name in old.index:
            pose[old.index[name]] = rot.multiply(pose[old.index[name]], rot.normalise(np.array(turn)))
    return fitted_pose(old, skeleton, {skeleton.index[b]: old.index[a] for a, b in names.items()}, pose)
