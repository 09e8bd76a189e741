"""Animations of glTF: keys in time, interpolated as the format says, as clips with a pose on every frame."""

from __future__ import annotations

import numpy as np

from ...core import rotations as rot
from ...core.clip import Clip
from ...core.errors import InputError
from ...core.scaling import factors_above, with_scales
from ..sampling import check_size, grid_rate, sampled
from ..transforms import decomposed, mirrors, relative, scales_above, scaling_note
from .accessors import item


def channels_of(container, accessors, animation):
    """``{(node, path): (times, values, interpolation)}`` of an animation."""
    label, found = container.label, {}
    samplers = animation.get("samplers") or []
    for channel in animation.get("channels") or ():
        target = channel.get("target") if isinstance(channel, dict) else None
        if not isinstance(target, dict) or not isinstance(samplers, list):
            raise InputError(f"{label}: an animation's channel has no target.")
        if "node" not in target or target.get("path") not in ("translation", "rotation", "scale", "weights"):
            continue  # a target that only an extension knows
        sampler = item(samplers, channel.get("sampler"), label, "sampler")
        times = accessors.floats(sampler.get("input"), 1)[:, 0].astype(float)
        values = accessors.floats(sampler.get("output"))
        way = sampler.get("interpolation", "LINEAR")
        if way not in ("STEP", "LINEAR", "CUBICSPLINE"):
            raise InputError(f"{label}: there is no interpolation {str(way)[:40]}.")
        if not len(times) or (np.diff(times) < 0).any() or np.abs(times).max() > 1e6:
            raise InputError(f"{label}: an animation's times do not rise.")
        node = item(container.items("nodes"), target["node"], label, "node")
        width = {"translation": 3, "rotation": 4, "scale": 3}.get(target["path"]) or _morph_count(container, node)
        values = _shaped(values, len(times) * (3 if way == "CUBICSPLINE" else 1), width, label)
        found[target["node"], target["path"]] = times, values, way
    return found


def _morph_count(container, node):
    mesh = item(container.items("meshes"), node.get("mesh"), container.label, "mesh")
    first = (mesh.get("primitives") or [{}])[0]
    return len(first.get("targets") or ())


def _shaped(values, rows, width, label):
    if not width or values.size != rows * width:
        raise InputError(f"{label}: an animation has {values.size} numbers where {rows * width} belong.")
    return values.reshape(rows, width).astype(float)


def clip_of(container, accessors, nodes, tree, animation, number, notes):
    """The Clip of an animation on a tree, or None where it moves nothing of it."""
    channels = channels_of(container, accessors, animation)
    joint_of = tree.joint_of
    curves = _curve_channels(container, nodes, tree, channels)
    own = {key: c for key, c in channels.items() if key[0] in joint_of and key[1] != "weights"}
    if not own and not curves:
        return None
    all_times = [c[0] for c in (*own.values(), *(c for c, _, _ in curves))]
    name = animation.get("name") if isinstance(animation.get("name"), str) else None
    name = name or f"animation_{number + 1}"
    rate, regular = grid_rate(all_times, any(c[2] == "CUBICSPLINE" for c in own.values()))
    start, end = min(t[0] for t in all_times), max(t[-1] for t in all_times)
    frames = int(np.floor((end - start) * rate + 0.02)) + 1
    if not regular:
        frames = int(np.ceil((end - start) * rate)) + 1
        notes.append(
            f"The keys of {name} fall on no frames of a usual rate; it is taken at {rate:g} frames per second."
        )
    check_size(container.label, name, frames, len(tree.nodes))
    if abs(start) > 0.5 / rate:
        notes.append(f"{name} begins at {start:.2f} s in the file; it is taken from its first key on.")
    at = start + np.arange(frames) / rate
    skeleton = tree.skeleton
    turns = np.repeat(skeleton.rest[None], frames, 0)
    moves, scales = {}, {}
    over_move, over_turn, _ = decomposed(tree.over)
    own_scales = nodes.scales[list(tree.nodes)]
    above = scales_above(skeleton, own_scales)
    for (node, path), (times, values, way) in own.items():
        joint = joint_of[node]
        root = skeleton.parents[joint] < 0
        if path == "rotation":
            turn = mirrors(above[joint]) * sampled(times, values, way, at, True)
            turns[:, joint] = rot.multiply(over_turn, turn) if root else turn
        elif path == "translation":
            place = sampled(times, values, way, at) * above[joint]
            moves[joint] = rot.rotate(over_turn, place) + over_move if root else place
        else:
            scale = sampled(times, values, way, at)
            if np.abs(scale - own_scales[joint]).max() > 1e-3 * np.abs(own_scales[joint]).max():
                scales[joint] = scale
    if scales:
        notes.append(scaling_note(name, [skeleton.names[j] for j in sorted(scales)]))
    factors = {joint: relative(scale, own_scales[joint]) for joint, scale in scales.items()}
    for joint, factor in factors_above(skeleton, factors).items():
        moves[joint] = moves.get(joint, skeleton.offsets[joint]) * factor
    span = max(float(np.abs(skeleton.offsets).max()), 1e-9)
    moving = [
        j
        for j in sorted(moves)
        if skeleton.parents[j] < 0 or np.abs(moves[j] - skeleton.offsets[j]).max() > 1e-6 * span
    ]
    values = np.stack([sampled(c[0], c[1], c[2], at)[:, k] for c, k, _ in curves], 1) if curves else None
    names, values = with_scales([n for _, _, n in curves], values, factors)
    return Clip(
        name, skeleton, rate, turns, np.array(moving, int),
        np.stack([moves[j] for j in moving], 1) if moving else None,
        names, values,
    )  # fmt: skip


def _curve_channels(container, nodes, tree, channels):
    """``(channel, column, name)`` of the morph weights of meshes that belong to a tree's skeleton."""
    found, names = [], set()
    for (node, path), channel in channels.items():
        if path != "weights":
            continue
        for column, name in enumerate(morph_names(container, nodes.items[node])):
            if name not in names:
                names.add(name)
                found.append((channel, column, name))
    return found


def morph_names(container, node):
    """The names of the morphs of a node's mesh, made up where the file tells none."""
    mesh = item(container.items("meshes"), node.get("mesh"), container.label, "mesh")
    count = _morph_count(container, node)
    extras = mesh.get("extras") if isinstance(mesh.get("extras"), dict) else {}
    told = extras.get("targetNames")
    told = told if isinstance(told, list) else []
    base = mesh.get("name") if isinstance(mesh.get("name"), str) else "morph"
    return [told[i] if i < len(told) and isinstance(told[i], str) else f"{base}_{i + 1}" for i in range(count)]
