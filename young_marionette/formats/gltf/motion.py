"""Animations of glTF: their keys in the skeleton's own space, and frames where the file has those."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from ...core.errors import InputError
from ...core.findings import finding
from ...core.keys.channel import Channel, Joint, Kind, Morph
from ...core.keys.keyed import KeyedClip
from ...core.keys.sampler import Interpolation, Sampler, still
from ...core.resample import MAX_RATE
from ..sampling import check_size, dense_or_keyed, grid_rate, on_frames
from ..transforms import NodeSpace
from . import vrm
from .accessors import item
from .mixed import told_apart

if TYPE_CHECKING:
    from ...core.clip import Clip
    from ...core.findings import Finding
    from .accessors import Accessors
    from .container import Container
    from .nodes import Nodes, Tree

RATE = "frames_per_second"  # of an animation's extras


def channels_of(
    container: Container, accessors: Accessors, animation: dict[str, Any]
) -> dict[tuple[int, str], tuple[np.ndarray, np.ndarray, str]]:
    """``{(node, path): (times, values, interpolation)}`` of an animation."""
    label, channels = container.label, {}
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
        channels[target["node"], target["path"]] = times, values, way
    return channels


def _morph_count(container: Container, node: dict[str, Any]) -> int:
    mesh = item(container.items("meshes"), node.get("mesh"), container.label, "mesh")
    first = (mesh.get("primitives") or [{}])[0]
    return len(first.get("targets") or ())


def _shaped(values: np.ndarray, rows: int, width: int, label: str) -> np.ndarray:
    if not width or values.size != rows * width:
        raise InputError(f"{label}: an animation has {values.size} numbers where {rows * width} belong.")
    return values.reshape(rows, width).astype(float)


def clip_of(
    container: Container,
    accessors: Accessors,
    nodes: Nodes,
    tree: Tree,
    animation: dict[str, Any],
    number: int,
    notes: list[Finding],
) -> Clip | KeyedClip | None:
    """The motion of an animation on a tree (a Clip, or a KeyedClip where keys are few); None where it moves nothing of it."""
    channels = channels_of(container, accessors, animation)
    own = {key: c for key, c in channels.items() if key[0] in tree.joint_of and key[1] != "weights"}
    curves = _curves(container, nodes, channels)
    if not own and not curves:
        return None
    all_times = [c[0] for c in (*own.values(), *(c for c, _, _ in curves))]
    name = animation.get("name") if isinstance(animation.get("name"), str) else None
    name = name or f"animation_{number + 1}"
    rate, regular = grid_rate(all_times, any(c[2] == "CUBICSPLINE" for c in own.values()), _told_rate(animation))
    start, end = min(t[0] for t in all_times), max(t[-1] for t in all_times)
    if not regular:
        notes.append(finding("no usual rate", clip=name, rate=rate))
    check_size(container.label, name, int((end - start) * rate) + 2, len(tree.nodes))
    known = {}

    def sampler(channel: tuple[np.ndarray, np.ndarray, str], column: Any = None) -> Sampler:
        times, values, way = channel
        if id(times) not in known:  # channels share their times
            known[id(times)] = on_frames(times, start, rate)
        made = _sampler(known[id(times)], values if column is None else values[:, column : column + 1], way)
        return told_apart(made, rate, made.values.shape[1] == 4)

    samplers = _of_joints(nodes, tree, {key: sampler(c) for key, c in own.items()}, name, notes)
    for channel, column, morph in curves:
        samplers[Channel(Morph(morph), Kind.WEIGHT)] = sampler(channel, column)
    for expression, node in vrm.expression_nodes(container).items():
        if (node, "translation") in channels:
            # The way of its node along X is the weight.
            samplers.setdefault(Channel(Morph(expression), Kind.WEIGHT), sampler(channels[node, "translation"], 0))
    if not samplers:
        samplers[Channel(Joint(0), Kind.ROTATION)] = still(tree.skeleton.rest[0], start)
    return dense_or_keyed(KeyedClip(name, tree.skeleton, rate, samplers), regular)


def _told_rate(animation: dict[str, Any]) -> float | None:
    """The frames per second that our writer tells, or None."""
    extras = animation.get("extras")
    rate = extras.get(RATE) if isinstance(extras, dict) else None
    usable = isinstance(rate, int | float) and not isinstance(rate, bool) and 0 < rate <= MAX_RATE
    return float(rate) if usable else None  # type: ignore[arg-type]


def _sampler(times: np.ndarray, values: np.ndarray, way: str) -> Sampler:
    """The Sampler of a channel as glTF has it: a smooth one has tangent in, value, tangent out for each key."""
    if way != "CUBICSPLINE":
        return Sampler(times, values, Interpolation[way])
    parts = values.reshape(len(times), 3, -1)
    return Sampler(times, parts[:, 1], Interpolation.CUBICSPLINE, parts[:, 0], parts[:, 2])


def _of_joints(
    nodes: Nodes, tree: Tree, own: dict[tuple[int, str], Sampler], name: str, notes: list[Finding]
) -> dict[Channel, Sampler]:
    """``{channel: sampler}`` of the joints in our skeleton, of those of their nodes ``{(node, path): sampler}``."""
    skeleton, joint_of = tree.skeleton, tree.joint_of
    own_scales = nodes.scales[list(tree.nodes)]
    space = NodeSpace(skeleton, own_scales, tree.over)
    samplers, scaled = {}, []
    span = max(float(np.abs(skeleton.offsets).max()), 1e-9)
    for (node, path), sampler in own.items():
        joint = joint_of[node]
        if path == "rotation":
            samplers[Channel(Joint(joint), Kind.ROTATION)] = space.rotation_in(joint, sampler)
        elif path == "translation":
            place = space.translation_in(joint, sampler)
            stays = place.is_still and np.abs(place.values - skeleton.offsets[joint]).max() <= 1e-6 * span
            if skeleton.parents[joint] < 0 or not stays:
                samplers[Channel(Joint(joint), Kind.TRANSLATION)] = place
        elif np.abs(sampler.values - own_scales[joint]).max() > 1e-3 * np.abs(own_scales[joint]).max():
            scaled.append(joint)
            samplers[Channel(Joint(joint), Kind.SCALE)] = space.scale_in(joint, sampler)
    if scaled:
        notes.append(finding("scales over time", clip=name, joints=[skeleton.names[j] for j in sorted(scaled)]))
    return samplers


def _curves(
    container: Container, nodes: Nodes, channels: dict[tuple[int, str], tuple[np.ndarray, np.ndarray, str]]
) -> list[Any]:
    """``(channel, column, name)`` of the morph weights of all meshes."""
    curves, names = [], set()
    for (node, path), channel in channels.items():
        if path != "weights":
            continue
        for column, name in enumerate(morph_names(container, nodes.items[node])):
            if name not in names:
                names.add(name)
                curves.append((channel, column, name))
    return curves


def morph_names(container: Container, node: dict[str, Any]) -> list[str]:
    """The names of the morphs of a node's mesh, made up where the file tells none."""
    mesh = item(container.items("meshes"), node.get("mesh"), container.label, "mesh")
    count = _morph_count(container, node)
    extras = mesh.get("extras") if isinstance(mesh.get("extras"), dict) else {}
    names = extras.get("targetNames")
    names = names if isinstance(names, list) else []
    base = mesh.get("name") if isinstance(mesh.get("name"), str) else "morph"
    return [names[i] if i < len(names) and isinstance(names[i], str) else f"{base}_{i + 1}" for i in range(count)]
