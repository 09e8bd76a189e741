"""The T-pose that VRM wants its humanoids to rest in."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ...core import rotations as rot
from ...core.matching.heading import turn_ahead
from ...core.skeleton import pose_world

if TYPE_CHECKING:
    from ...core.skeleton import Skeleton


_WAYS = {
    **{
        f"{side}{bone}": (sign, 0.0, 0.0)
        for side, sign in (("left", 1.0), ("right", -1.0))
        for bone in ("UpperArm", "LowerArm")
    },
    **{f"{side}{bone}": (0.0, -1.0, 0.0) for side in ("left", "right") for bone in ("UpperLeg", "LowerLeg")},
}
_NEXT = {"UpperArm": "LowerArm", "LowerArm": "Hand", "UpperLeg": "LowerLeg", "LowerLeg": "Foot"}


def t_posed(skeleton: Skeleton, table: dict[str, str]) -> np.ndarray:
    """Local rotations ``(joints, 4)`` of the T-pose; ``table``: VRM bone to joint name.

    Arms are aimed to the sides and legs down, each by the smallest turn; the figure faces +Z.
    """
    pose = _facing_ahead(skeleton, table)
    bone_of = {name: bone for bone, name in table.items()}
    for joint, name in enumerate(skeleton.names):
        bone = bone_of.get(name)
        if bone not in _WAYS:
            continue
        after = next((table.get(bone.replace(b, n)) for b, n in _NEXT.items() if bone.endswith(b)), None)
        if after is None:
            continue
        points, turns = pose_world(skeleton, pose)
        own = points[skeleton.index[after]] - points[joint]
        if np.linalg.norm(own) < 1e-9:
            continue
        turned = rot.multiply(rot.between(own, np.array(_WAYS[bone])), turns[joint])
        parent = int(skeleton.parents[joint])
        above = turns[parent] if parent >= 0 else rot.IDENTITY
        pose[joint] = rot.normalise(rot.multiply(rot.conjugate(above), turned))
    return pose


def _facing_ahead(skeleton: Skeleton, table: dict[str, str]) -> np.ndarray:
    """The rest pose ``(joints, 4)`` with the hips turned so that the figure stands upright and faces +Z."""
    points, turns = skeleton.rest_world
    pose = np.array(skeleton.rest)

    def place(bone: str) -> np.ndarray | None:
        return points[skeleton.index[table[bone]]] if bone in table else None

    def across(bone: str) -> np.ndarray | None:
        left, right = place(f"left{bone}"), place(f"right{bone}")
        return None if left is None or right is None else left - right

    hips, top = place("hips"), next((p for p in map(place, ("head", "neck", "chest", "spine")) if p is not None), None)
    if hips is None or top is None:
        return pose
    turn = turn_ahead(top - hips, across("UpperLeg"), across("UpperArm"))
    if turn is None:
        return pose
    joint = skeleton.index[table["hips"]]
    parent = int(skeleton.parents[joint])
    above = turns[parent] if parent >= 0 else rot.IDENTITY
    pose[joint] = rot.normalise(rot.multiply(rot.conjugate(above), rot.multiply(turn, turns[joint])))
    return pose
