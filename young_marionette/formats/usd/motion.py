"""Animations of UsdSkel, and what skeletons stand under, as clips."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...core import rotations as rot
from ...core.clip import Clip
from ...core.errors import InputError
from ...core.scaling import factors_above, with_scales
from ..sampling import check_size, grid_rate, sampled
from ..transforms import decomposed, mirrors, relative, scales_above, scaling_note
from .skeletons import matrices


@dataclass(frozen=True, eq=False)
class Ways:
    """How what a skeleton stands under moves: matrices ``(n, 4, 4)`` at ``times (n,)`` in seconds; none where it is still."""

    times: np.ndarray
    matrices: np.ndarray
    per_second: float


def ways_of(skeleton, label):
    """The Ways of a Skeleton prim and of all that it stands under."""
    from pxr import Usd, UsdGeom

    per_second = float(skeleton.GetStage().GetTimeCodesPerSecond()) or 24.0
    told, prim = set(), skeleton
    while prim and not prim.IsPseudoRoot():
        told.update(UsdGeom.Xformable(prim).GetTimeSamples() if prim.IsA(UsdGeom.Xformable) else ())
        prim = prim.GetParent()
    times = sorted(told)
    check_size(label, skeleton.GetName(), len(times), 4)
    found = matrices([UsdGeom.XformCache(Usd.TimeCode(t)).GetLocalToWorldTransform(skeleton) for t in times])
    if len(times) < 2 or np.ptp(found, axis=0).max() == 0:
        return Ways(np.zeros(0), found[:0], per_second)
    if not (np.isfinite(found).all() and np.abs(found).max() < 1e12):
        raise InputError(f"{label}: what {skeleton.GetName()} stands under moves by something that is no number.")
    return Ways(np.array(times) / per_second, found, per_second)


def carried(skeleton, tree, ways, label, notes):
    """The Clip of a skeleton that is only carried by what it stands under, as a list; empty where that is still."""
    if not len(ways.times):
        return []
    return [_timed(skeleton.GetParent().GetName() or "motion", tree, [], {}, {}, ways, [], label, notes)]


def clip_of(prim, tree, ways, label, notes):
    """The Clip of a SkelAnimation prim on a tree, or None where it moves none of its joints."""
    from pxr import UsdSkel

    anim = UsdSkel.Animation(prim)
    joints = [str(j) for j in anim.GetJointsAttr().Get() or ()]
    place = {j: i for i, j in enumerate(tree.joints)}
    shapes = [str(s) for s in anim.GetBlendShapesAttr().Get() or ()]
    if not any(j in place for j in joints) and not shapes:
        return None
    tracks = {}
    for name, attribute, width in (
        ("rotations", anim.GetRotationsAttr(), 4),
        ("translations", anim.GetTranslationsAttr(), 3),
        ("scales", anim.GetScalesAttr(), 3),
        ("weights", anim.GetBlendShapeWeightsAttr(), 1),
    ):
        count = len(shapes) if name == "weights" else len(joints)
        track = _track(attribute, count, width, label, prim.GetName(), ways.per_second) if count else None
        if track is not None:
            tracks[name] = track
    if not tracks:
        return None
    return _timed(prim.GetName(), tree, joints, place, tracks, ways, shapes, label, notes)


def _timed(name, tree, joints, place, tracks, ways, shapes, label, notes):
    times = [t for t in (ways.times, *(t for t, _ in tracks.values())) if len(t) > 1] or [np.zeros(1)]
    rate, regular = _rate(times, ways.per_second)
    start, end = min(t[0] for t in times), max(t[-1] for t in times)
    frames = int(np.floor((end - start) * rate + 0.02)) + 1
    check_size(label, name, frames, len(tree.joints))
    if not regular:
        notes.append(f"The samples of {name} fall on no frames of a usual rate; it is taken at {rate:g} a second.")
    at = start + np.arange(frames) / rate
    return _clip(name, tree, joints, place, tracks, ways, at, rate, shapes, notes)


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
        value = attribute.Get(time)
        value = np.array([] if value is None else value, float).reshape(-1, width)
        if len(value) != count:
            raise InputError(f"{label}: {name} has values for another number of joints than it lists.")
        found.append(value)
    if not found:
        return None
    values = np.stack(found)
    if not (np.isfinite(values).all() and np.abs(values).max(initial=0) < 1e12):
        raise InputError(f"{label}: {name} holds something that is no number.")
    return np.array(samples, float) / per_second, values


def _clip(name, tree, joints, place, tracks, ways, at, rate, shapes, notes):
    skeleton = tree.skeleton
    known = [(column, place[token]) for column, token in enumerate(joints) if token in place]
    columns, moved = (np.array(part, int) for part in zip(*known)) if known else (np.zeros(0, int),) * 2
    found = {
        kind: sampled(times, values[:, columns], "LINEAR", at, kind == "rotations")
        for kind, (times, values) in tracks.items()
        if kind != "weights"
    }
    # Joints in the skeleton's own space first; what it stands under comes over the roots at the end.
    roots = np.flatnonzero(skeleton.parents < 0)
    over_move, over_turn, _ = decomposed(tree.over)
    turns, offsets = np.repeat(skeleton.rest[None], len(at), 0), np.array(skeleton.offsets)
    turns[:, roots] = rot.multiply(rot.conjugate(over_turn), skeleton.rest[roots])
    offsets[roots] = rot.rotate(rot.conjugate(over_turn), offsets[roots] - over_move)
    above = scales_above(skeleton, tree.scales)
    moves, scales, factors = {}, {}, {}
    if "rotations" in found:
        turns[:, moved] = mirrors(above[moved]) * found["rotations"]
    if "translations" in found:
        places = found["translations"] * above[moved]
        moves = {int(j): places[:, i] for i, j in enumerate(moved)}
    if "scales" in found:
        # Scales of animations are half floats: those that only differ by that count for places, and nothing else.
        factors = {int(j): relative(found["scales"][:, i], tree.scales[j]) for i, j in enumerate(moved)}
        factors = {j: f for j, f in factors.items() if np.abs(f - 1).max() > 1e-6}
        far = np.abs(found["scales"] - tree.scales[moved]).max((0, 2)) > 2e-3 * np.abs(tree.scales[moved]).max(1)
        scales = {int(j): found["scales"][:, i] for i, j in enumerate(moved) if far[i]}
    if scales:
        notes.append(scaling_note(name, [skeleton.names[j] for j in sorted(scales)]))
    for joint, factor in factors_above(skeleton, factors).items():
        moves[joint] = moves.get(joint, offsets[joint]) * factor
    if len(ways.times):
        over_move, over_turn, _ = decomposed(ways.matrices)
        over_move = sampled(ways.times, over_move, "LINEAR", at)
        over_turn = sampled(ways.times, over_turn, "LINEAR", at, True)
    turns[:, roots] = rot.multiply(over_turn[..., None, :], turns[:, roots])
    for root in map(int, roots):
        if root in moves or len(ways.times):
            moves[root] = rot.rotate(over_turn, moves.get(root, offsets[root])) + over_move
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
    names, values = with_scales(shapes if values is not None else (), values, {j: factors[j] for j in scales})
    return Clip(
        name, skeleton, rate, turns, np.array(moving, int),
        np.stack([moves[j] for j in moving], 1) if moving else None,
        names, values,
    )  # fmt: skip
