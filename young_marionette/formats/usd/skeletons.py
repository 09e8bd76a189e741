"""Skeletons of UsdSkel as ours."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ...core.errors import InputError
from ...core.findings import Finding, finding
from ...core.skeleton import Skeleton
from ..transforms import decomposed, different, parents_first, skeleton_under

TIPS = "userProperties:boneEnds"


@dataclass(frozen=True, eq=False)
class UsdTree:
    """One skeleton prim: ``joints`` are its tokens, in the order of ``skeleton``; ``over (4, 4)`` is what it stands under.

    ``scales (joints, 3)``: local, in the file. ``binds (joints, 4, 4)``: bind transforms in the skeleton's space.
    """

    path: str
    joints: tuple[str, ...]
    skeleton: Skeleton
    over: np.ndarray
    scales: np.ndarray
    binds: np.ndarray
    notes: tuple[Finding, ...]


def matrices(values: Any) -> np.ndarray:
    """Matrices of USD, which are for row vectors, as ``(n, 4, 4)`` for column vectors."""
    return np.array(values, float).reshape(-1, 4, 4).transpose(0, 2, 1)


def tree_of(prim: Any, label: str, cache: Any) -> UsdTree:
    """The UsdTree of a Skeleton prim; InputError where it is not sound."""
    from pxr import UsdSkel

    skel = UsdSkel.Skeleton(prim)
    joints = [str(j) for j in skel.GetJointsAttr().Get() or ()]
    if not joints:
        raise InputError(f"{label}: the skeleton {prim.GetName()} lists no joints.")
    if len(set(joints)) != len(joints):
        raise InputError(f"{label}: the skeleton {prim.GetName()} lists a joint twice.")
    index = {j: i for i, j in enumerate(joints)}
    parents = [_parent(j, index) for j in joints]
    order = parents_first(parents)
    rest, bind = skel.GetRestTransformsAttr().Get(), skel.GetBindTransformsAttr().Get()
    rest = matrices(rest) if rest is not None and len(rest) == len(joints) else None
    bind = matrices(bind) if bind is not None and len(bind) == len(joints) else None
    if rest is None and bind is None:
        raise InputError(f"{label}: the skeleton {prim.GetName()} has neither rest nor bind transforms for its joints.")
    for values in (rest, bind):
        if values is not None and not (np.isfinite(values).all() and np.abs(values).max() < 1e12):
            raise InputError(
                f"{label}: a transform of the skeleton {prim.GetName()} holds a value that is not a number."
            )
    if rest is None and bind is not None:
        rest = np.stack([np.linalg.pinv(bind[p]) @ bind[j] if p >= 0 else bind[j] for j, p in enumerate(parents)])
    if bind is None:
        bind = rest.copy()
        for j in order:
            bind[j] = bind[parents[j]] @ rest[j] if parents[j] >= 0 else rest[j]
    joint_names = skel.GetJointNamesAttr().Get()
    joint_names = (
        [str(n) for n in joint_names]
        if joint_names is not None and len(joint_names) == len(joints)
        else [j.rsplit("/", 1)[-1] for j in joints]
    )
    place = {old: new for new, old in enumerate(order)}
    names, doubles = different([joint_names[j] for j in order])
    moves, turns, scales = decomposed(rest[order])
    over = matrices([cache.GetLocalToWorldTransform(prim)])[0]
    new_parents = [place[parents[j]] if parents[j] >= 0 else -1 for j in order]
    skeleton, notes = skeleton_under(names, new_parents, moves, turns, scales, over)
    if doubles:
        notes.append(finding("same names", joints=doubles))
    skeleton = _with_tips(skeleton, prim, order)
    return UsdTree(
        str(prim.GetPath()), tuple(joints[j] for j in order), skeleton, over, scales, bind[order], tuple(notes)
    )


def _with_tips(skeleton: Skeleton, prim: Any, order: list[int]) -> Skeleton:
    """The skeleton with the ends of its last bones, where the file was written by us and tells them."""
    attribute = prim.GetAttribute(TIPS)
    tips = np.array(attribute.Get() or [], float).reshape(-1, 3) if attribute else np.zeros((0, 3))
    if len(tips) != len(skeleton) or not np.isfinite(tips).all():
        return skeleton
    tips = tips[order] * skeleton.scales
    return replace(skeleton, tips=np.where(np.abs(tips).max(1, keepdims=True) > 0, tips, np.nan))


def _parent(joint: str, index: dict[str, int]) -> int:
    """The nearest joint over a joint's token that the skeleton lists, or -1."""
    while "/" in joint:
        joint = joint.rsplit("/", 1)[0]
        if joint in index:
            return index[joint]
    return -1
