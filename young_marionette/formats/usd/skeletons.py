"""Skeletons and animations of UsdSkel as ours."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ...core import rotations as rot
from ...core.errors import InputError
from ...core.skeleton import Clip, Skeleton
from ..sampling import check_size, grid_rate, sampled
from ..transforms import (
    DOUBLES,
    decomposed,
    different,
    parents_first,
    scales_above,
    scaling_note,
    skeleton_under,
    stretched,
)

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
    notes: tuple[str, ...]


def matrices(values):
    """Matrices of USD, which are for row vectors, as ``(n, 4, 4)`` for column vectors."""
    return np.array(values, float).reshape(-1, 4, 4).transpose(0, 2, 1)


def tree_of(prim, label, cache):
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
                f"{label}: a transform of the skeleton {prim.GetName()} holds something that is no number."
            )
    if rest is None:
        rest = np.stack([np.linalg.pinv(bind[p]) @ bind[j] if p >= 0 else bind[j] for j, p in enumerate(parents)])
    if bind is None:
        bind = rest.copy()
        for j in order:
            bind[j] = bind[parents[j]] @ rest[j] if parents[j] >= 0 else rest[j]
    told = skel.GetJointNamesAttr().Get()
    told = (
        [str(n) for n in told]
        if told is not None and len(told) == len(joints)
        else [j.rsplit("/", 1)[-1] for j in joints]
    )
    place = {old: new for new, old in enumerate(order)}
    names, doubles = different([told[j] for j in order])
    moves, turns, scales = decomposed(rest[order])
    over = matrices([cache.GetLocalToWorldTransform(prim)])[0]
    new_parents = [place[parents[j]] if parents[j] >= 0 else -1 for j in order]
    skeleton, notes = skeleton_under(names, new_parents, moves, turns, scales, over)
    if doubles:
        notes.append(DOUBLES.format(doubles))
    skeleton = _with_tips(skeleton, prim, order)
    return UsdTree(
        str(prim.GetPath()), tuple(joints[j] for j in order), skeleton, over, scales, bind[order], tuple(notes)
    )


def _with_tips(skeleton, prim, order):
    """The skeleton with the ends of its last bones, where the file was written by us and tells them."""
    told = prim.GetAttribute(TIPS)
    tips = np.array(told.Get() or [], float).reshape(-1, 3) if told else np.zeros((0, 3))
    if len(tips) != len(skeleton) or not np.isfinite(tips).all():
        return skeleton
    tips = tips[order] * skeleton.scales
    return replace(skeleton, tips=np.where(np.abs(tips).max(1, keepdims=True) > 0, tips, np.nan))


def _parent(joint, index):
    """The nearest joint over a joint's token that the skeleton lists, or -1."""
    while "/" in joint:
        joint = joint.rsplit("/", 1)[0]
        if joint in index:
            return index[joint]
    return -1


def clip_of(prim, tree, stage, label, notes):
    """The Clip of a SkelAnimation prim on a tree, or None where it moves none of its joints."""
    from pxr import UsdSkel

    anim = UsdSkel.Animation(prim)
    joints = [str(j) for j in anim.GetJointsAttr().Get() or ()]
    place = {j: i for i, j in enumerate(tree.joints)}
    shapes = [str(s) for s in anim.GetBlendShapesAttr().Get() or ()]
    if not any(j in place for j in joints) and not shapes:
        return None
    per_second = float(stage.GetTimeCodesPerSecond()) or 24.0
    tracks = {}
    for name, attribute, width in (
        ("rotations", anim.GetRotationsAttr(), 4),
        ("translations", anim.GetTranslationsAttr(), 3),
        ("scales", anim.GetScalesAttr(), 3),
        ("weights", anim.GetBlendShapeWeightsAttr(), 1),
    ):
        count = len(shapes) if name == "weights" else len(joints)
        track = _track(attribute, count, width, label, prim.GetName(), per_second) if count else None
        if track is not None:
            tracks[name] = track
    if not tracks:
        return None
    times = [t for t, _ in tracks.values() if len(t) > 1] or [np.zeros(1)]
    rate, regular = _rate(times, per_second)
    start, end = min(t[0] for t in times), max(t[-1] for t in times)
    frames = int(np.floor((end - start) * rate + 0.02)) + 1
    check_size(label, prim.GetName(), frames, len(tree.joints))
    if not regular:
        notes.append(
            f"The samples of {prim.GetName()} fall on no frames of a usual rate; it is taken at {rate:g} a second."
        )
    at = start + np.arange(frames) / rate
    return _clip(prim.GetName(), tree, joints, place, tracks, at, rate, shapes, notes)


def _rate(times, per_second):
    every = np.unique(np.concatenate(times)) * per_second
    if len(every) > 1 and np.abs(every - np.round(every)).max() < 1e-3 and np.median(np.diff(every)) < 1.5:
        return per_second, True
    return grid_rate(times)


def _track(attribute, count, width, label, name, per_second):
    """``(times in seconds, values (samples, count, width))`` of an attribute, or None where it has no value."""
    samples = attribute.GetTimeSamples()
    if not samples:
        value = attribute.Get()
        samples = [0.0] if value is not None else []
    found = []
    for time in samples:
        value = np.array(attribute.Get(time), float).reshape(-1, width) if attribute.Get(time) is not None else None
        if value is None or len(value) != count:
            raise InputError(f"{label}: {name} has values for another number of joints than it lists.")
        found.append(value)
    if not found:
        return None
    values = np.stack(found)
    if not (np.isfinite(values).all() and np.abs(values).max(initial=0) < 1e12):
        raise InputError(f"{label}: {name} holds something that is no number.")
    return np.array(samples, float) / per_second, values


def _clip(name, tree, joints, place, tracks, at, rate, shapes, notes):
    skeleton = tree.skeleton
    over_move, over_turn, _ = decomposed(tree.over)
    above = scales_above(skeleton, tree.scales)
    turns = np.repeat(skeleton.rest[None], len(at), 0)
    known = [(column, place[token]) for column, token in enumerate(joints) if token in place]
    columns, moved = (np.array(part, int) for part in zip(*known)) if known else (np.zeros(0, int),) * 2
    roots = moved[skeleton.parents[moved] < 0]
    found = {
        kind: sampled(times, values[:, columns], "LINEAR", at, kind == "rotations")
        for kind, (times, values) in tracks.items()
        if kind != "weights"
    }
    moves, scales = {}, {}
    if "rotations" in found:
        turns[:, moved] = found["rotations"]
        turns[:, roots] = rot.multiply(over_turn, turns[:, roots])
    if "translations" in found:
        places = found["translations"] * above[moved]
        moves = {int(j): places[:, i] for i, j in enumerate(moved)}
        moves |= {int(j): rot.rotate(over_turn, moves[int(j)]) + over_move for j in roots}
    if "scales" in found:
        # Scales of animations are half floats.
        far = np.abs(found["scales"] - tree.scales[moved]).max((0, 2)) > 2e-3 * np.abs(tree.scales[moved]).max(1)
        scales = {int(j): found["scales"][:, i] for i, j in enumerate(moved) if far[i]}
    if scales:
        notes.append(scaling_note(name, [skeleton.names[j] for j in sorted(scales)]))
    for joint, factor in stretched(skeleton, tree.scales, scales).items():
        moves[joint] = moves.get(joint, skeleton.offsets[joint]) * factor
    span = max(float(np.abs(skeleton.offsets).max()), 1e-9)
    moving = [
        j
        for j in sorted(moves)
        if skeleton.parents[j] < 0 or np.abs(moves[j] - skeleton.offsets[j]).max() > 2e-6 * span
    ]
    values = None
    if shapes and "weights" in tracks:
        times, weights = tracks["weights"]
        values = sampled(times, weights[:, :, 0], "LINEAR", at)
    return Clip(
        name, skeleton, rate, turns, np.array(moving, int),
        np.stack([moves[j] for j in moving], 1) if moving else None,
        tuple(shapes) if values is not None else (), values,
    )  # fmt: skip
