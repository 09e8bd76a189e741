"""Writing glTF: new motion into the file that a rig came from, or a document of our own."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from ... import __version__
from ...core import rotations as rot
from ...core.clip import Clip
from ...core.errors import InputError
from ...core.keys.channel import Kind
from ...core.keys.keyed import KeyedClip
from ...core.keys.sampler import Interpolation, Sampler
from ..files import Output
from ..keys_out import has_scales, motion_out, weights_together
from ..transforms import decomposed
from ..wanted import MOTION_ALONE, Wanted
from . import vrm
from .accessors import Writer
from .container import as_glb, as_gltf
from .meshes import node_levels
from .mixed import as_cubic
from .motion import RATE
from .prune import without
from .reader import merged, sound

if TYPE_CHECKING:
    from ...core.character.meshes import Character
    from ...core.skeleton import Skeleton
    from .reader import GltfLayout


_STILL = 1e-7


def encode(
    path: Path,
    clip: Clip | KeyedClip,
    layout: GltfLayout | None = None,
    wanted: Wanted = MOTION_ALONE,
) -> list[Output]:
    """The files (list of Output) of a clip as .gltf or .glb (told by the path's ending), or as a VRM animation where that is ``.vrma``.

    With ``layout`` the clip is in that file's own world, and where the body is wanted the whole file goes along, unchanged
    but for its animations. Else the clip is in metres with Y up. Names of bones are for a VRM animation, or name a rig's.
    """
    bones = wanted.bones
    ending = Path(path).suffix.lower()
    if ending == ".vrma":
        document, binary = _vrm_animation(clip, bones)
    elif layout is not None and wanted.body:
        with sound(layout.container.label):
            document, binary = _into_file((clip, *wanted.more), layout, bones, wanted.level)
    elif layout is not None:
        document, binary = _skeleton_alone((clip, *wanted.more), layout)
    else:
        document, binary = document_of(clip, wanted.character if wanted.body else None, bones, wanted.more)
    if wanted.extras:
        own = document["animations"][-1 - len(wanted.more)]
        own["extras"] = {**own.get("extras", {}), **wanted.extras}
    return [Output(path, (as_gltf if ending == ".gltf" else as_glb)(document, binary))]


def _asset() -> dict[str, str]:
    return {"version": "2.0", "generator": f"Young Marionette {__version__}"}


def _into_file(
    clips: Sequence[Clip | KeyedClip], layout: GltfLayout, bones: tuple[tuple[str, ...], ...], level: int | None
) -> tuple[dict[str, Any], bytes]:
    binary, document = merged(layout.container)
    levels = node_levels(layout.container, layout.nodes)
    others = [n for n, own in levels.items() if level is not None and own != level]
    binary = without(document, binary, others)
    for joint, node in enumerate(layout.tree.nodes):
        old, new = layout.tree.skeleton.names[joint], layout.names[joint]
        if new != old:
            document["nodes"][node]["name"] = new
            for child in layout.nodes.children[node]:
                if layout.nodes.name(child) == f"{old}_end":
                    document["nodes"][child]["name"] = f"{new}_end"
    writer = Writer(document, binary)
    for clip in clips:
        weights = _weight_channels(document, clip)
        _animation(writer, clip, _node_motion(clip, layout), dict(enumerate(layout.tree.nodes)), weights)
    if bones:
        index = clips[0].skeleton.index
        _name_bones(document, {b: layout.tree.nodes[index[n]] for b, n in bones if n in index})
    return document, writer.binary()


def _name_bones(document: dict[str, Any], table: dict[str, int]) -> None:
    """Write the VRM 1.0 table of humanoid bones, whatever else the file tells of VRM."""
    extension = document.setdefault("extensions", {}).setdefault("VRMC_vrm", {"specVersion": "1.0", "meta": {
        "name": "rig", "authors": ["unknown"], "licenseUrl": "https://vrm.dev/licenses/1.0/"}})  # fmt: skip
    extension["humanoid"] = vrm.extension_1_0(table)
    used = document.setdefault("extensionsUsed", [])
    if "VRMC_vrm" not in used:
        used.append("VRMC_vrm")


def _node_motion(clip: Clip | KeyedClip, layout: GltfLayout) -> dict[tuple[int, Kind], Sampler]:
    """The clip's motion in the file's own nodes."""
    tree = layout.tree
    return motion_out(clip, tree.skeleton, layout.nodes.scales[list(tree.nodes)], tree.over)


def _skeleton_alone(clips: Sequence[Clip | KeyedClip], layout: GltfLayout) -> tuple[dict[str, Any], bytes]:
    """The joints of a file with its own transforms, without mesh and skin."""
    tree, nodes = layout.tree, layout.nodes
    document: dict[str, Any] = {"asset": _asset(), "scene": 0, "scenes": [{"nodes": [0]}], "nodes": []}
    for joint, number in enumerate(tree.nodes):
        document["nodes"].append(
            _node(layout.names[joint], nodes.moves[number], nodes.turns[number], nodes.scales[number])
        )
    _link(document, tree.skeleton.parents)
    _mark_ends(document, replace(tree.skeleton, names=layout.names), True)
    if np.abs(tree.over - np.eye(4)).max() > 1e-9:
        move, turn, scale = decomposed(tree.over)
        parent = int(nodes.parents[tree.nodes[0]])
        document["nodes"].append(_node(nodes.name(parent), move, turn, scale) | {"children": [0]})
        document["scenes"][0]["nodes"] = [len(document["nodes"]) - 1]
    document["skins"] = [{"joints": list(range(len(tree.nodes))), "skeleton": 0}]
    writer = Writer(document)
    for clip in clips:
        _animation(writer, clip, _node_motion(clip, layout), {j: j for j in range(len(tree.nodes))}, {})
    return document, writer.binary()


def _node(name: str, move: np.ndarray, turn: np.ndarray, scale: Any = (1.0, 1.0, 1.0)) -> dict[str, Any]:
    node: dict[str, Any] = {"name": name}
    if np.any(np.abs(move) > 0):
        node["translation"] = [float(v) for v in move]
    if rot.angle(np.asarray(turn)) > 1e-12:
        node["rotation"] = [float(v) for v in np.clip(rot.normalise(np.asarray(turn, float)), -1, 1)]
    if np.abs(np.asarray(scale) - 1).max() > 1e-9:
        node["scale"] = [float(v) for v in scale]
    return node


def _link(document: dict[str, Any], parents: np.ndarray) -> None:
    for joint, parent in enumerate(parents):
        if parent >= 0:
            document["nodes"][int(parent)].setdefault("children", []).append(joint)


def document_of(
    clip: Clip | KeyedClip,
    character: Character | None = None,
    bones: tuple[tuple[str, ...], ...] = (),
    more: tuple[Clip | KeyedClip, ...] = (),
) -> tuple[dict[str, Any], bytes]:
    """``(document, binary)`` of a new file: a clip in metres with Y up, its body, and ``more`` clips of its skeleton."""
    skeleton = clip.skeleton
    document = _fresh_nodes(clip)
    _mark_ends(document, skeleton)
    writer = Writer(document)
    joints = list(range(len(skeleton)))
    if character is not None:
        from .bodies import add_character

        add_character(writer, skeleton, character)
    else:
        document["skins"] = [{"joints": joints, "skeleton": int(np.flatnonzero(skeleton.parents < 0)[0])}]
    if bones:
        _name_bones(document, {b: skeleton.index[n] for b, n in bones if n in skeleton.index})
    for one in (clip, *more):
        weights = _weight_channels(document, one) if character is not None else {}
        _animation(writer, one, _plain_motion(one), dict(enumerate(joints)), weights)
    return document, writer.binary()


def _mark_ends(document: dict[str, Any], skeleton: Skeleton, scaled: bool = False) -> None:
    """A node at the end of each last bone, since glTF has no other way to tell how long it is.

    ``scaled``: the joints of the document have the skeleton's scales.
    """
    for joint in np.flatnonzero(np.isfinite(skeleton.tips[:, 0])):
        if not skeleton.children[joint]:
            tip = skeleton.tips[joint] / skeleton.scales[joint] if scaled else skeleton.tips[joint]
            document["nodes"].append(_node(f"{skeleton.names[joint]}_end", tip, rot.IDENTITY))
            document["nodes"][int(joint)]["children"] = [len(document["nodes"]) - 1]


def _plain_motion(clip: Clip | KeyedClip) -> dict[tuple[int, Kind], Sampler]:
    """The clip's motion in nodes of our own, which have no scales at rest and stand under nothing."""
    plain = replace(clip.skeleton, scales=None)
    return motion_out(clip, plain, plain.scales, np.eye(4))


def _weight_channels(document: dict[str, Any], clip: Clip | KeyedClip) -> dict[tuple[int, str], Sampler]:
    """``{(node, "weights"): Sampler}`` of the morphs that nodes of the document have, all of a node in one."""
    channels = {}
    for number, node in enumerate(document["nodes"]):
        if "mesh" not in node or not clip.morphs:
            continue
        mesh = document["meshes"][node["mesh"]]
        count = len((mesh.get("primitives") or [{}])[0].get("targets") or ())
        names = (mesh.get("extras") or {}).get("targetNames") if isinstance(mesh.get("extras"), dict) else None
        names = names if isinstance(names, list) else [f"{mesh.get('name', 'morph')}_{i + 1}" for i in range(count)]
        own = [name if name in clip.morphs else None for name in names[:count]]
        if any(own):
            channels[number, "weights"] = weights_together(clip, own)
    return channels


def _animation(
    writer: Writer,
    clip: Clip | KeyedClip,
    motion: dict[tuple[int, Kind], Sampler],
    node_of: dict[int, int],
    weights: dict[tuple[int, str], Sampler],
) -> None:
    """Add the animation: ``motion {(joint, kind): Sampler}`` and ``weights {(node, path): Sampler}``.

    Of a dense clip, joints that stand at rest all the time need no channel, still ones two keys; what has keys of its
    own is written as it is.
    """
    document, out = writer.document, _Channels(writer, clip)
    first = True
    for (joint, kind), sampler in motion.items():
        node = document["nodes"][node_of[joint]]
        if "matrix" in node:
            # What is animated may not have a matrix: the same transform in its parts.
            move, turn, scale = decomposed(np.array(node.pop("matrix"), float).reshape(4, 4).T)
            node.update(_node(node.get("name", ""), move, turn, scale))
        if isinstance(clip, Clip) and kind is not Kind.SCALE:
            turns = kind is Kind.ROTATION
            rest = np.array(node.get(kind.value, [0, 0, 0, 1.0] if turns else [0.0] * 3))
            values = sampler.values
            still = float(np.ptp(values, axis=0).max()) < _STILL
            away = abs(abs(float(values[0] @ rest)) - 1) if turns else np.abs(values[0] - rest).max()
            if still and away <= (1e-12 if turns else _STILL) and not first:
                continue
            if still and not first and clip.frames > 2:
                sampler = Sampler(sampler.times[[0, -1]], values[[0, -1]], Interpolation.LINEAR)
        out.add(node_of[joint], kind.value, sampler, kind is Kind.ROTATION)
        first = False
    for (node, path), sampler in weights.items():
        out.add(node, path, sampler)
    document.setdefault("animations", []).append(out.animation)


class _Channels:
    """The channels of an animation; those with the same times share them."""

    def __init__(self, writer: Writer, clip: Clip | KeyedClip) -> None:
        self._writer, self._rate, self._times = writer, clip.rate, {}
        self._later = max(-clip.start, 0.0)  # glTF has no times below zero
        self.animation: dict[str, Any] = {"name": clip.name, "channels": [], "samplers": []}
        if isinstance(clip, KeyedClip):
            # Few keys do not tell the rate that they were meant for.
            self.animation["extras"] = {RATE: clip.rate}

    def add(self, node: int, path: str, sampler: Sampler, turns: bool = False) -> None:
        """``path``: as glTF calls what of a node moves."""
        sampler = sampler if sampler.uniform is not None else as_cubic(sampler, self._rate, turns)
        way, values = sampler.uniform, sampler.values
        assert way is not None  # see as_cubic
        if way is Interpolation.CUBICSPLINE and sampler.tangents_in is not None and sampler.tangents_out is not None:
            values = np.stack([sampler.tangents_in, values, sampler.tangents_out], 1).reshape(-1, values.shape[1])
        if path == "weights":
            values = values.reshape(-1, 1)
        samplers = self.animation["samplers"]
        output = self._writer.array(values, {1: "SCALAR", 3: "VEC3", 4: "VEC4"}[values.shape[1]])
        samplers.append({"input": self._input(sampler.times), "output": output, "interpolation": way.name})
        target = {"node": int(node), "path": path}
        self.animation["channels"].append({"sampler": len(samplers) - 1, "target": target})

    def _input(self, times: np.ndarray) -> int:
        key = times.tobytes()
        if key not in self._times:
            self._times[key] = self._writer.array((times + self._later)[:, None], "SCALAR", True)
        return self._times[key]


def _vrm_animation(clip: Clip | KeyedClip, bones: tuple[tuple[str, ...], ...]) -> tuple[dict[str, Any], bytes]:
    """A VRM animation: the humanoid bones alone, resting in a T-pose, and expressions along X of nodes of their own."""
    from .humanoid import t_posed

    table = {b: n for b, n in bones if n in clip.skeleton.index}
    if "hips" not in table:
        raise InputError("A VRM animation needs the humanoid bones of the rig, and none could be told.")
    rested = replace(clip.skeleton, rest=t_posed(clip.skeleton, table))
    # Of scales a VRM animation knows nothing: joints are where they bring them all the same.
    if isinstance(clip, KeyedClip) and has_scales(clip):
        clip = clip.sample()
    if isinstance(clip, Clip):
        clip = replace(clip, skeleton=rested, scaled=np.zeros(0, int), scales=None)
    else:
        clip = replace(clip, skeleton=rested)
    document = _fresh_nodes(clip)
    writer = Writer(document)
    expressions = {}
    for name in clip.morphs:
        document["nodes"].append({"name": f"expression {name}"})
        document["scenes"][0]["nodes"].append(len(document["nodes"]) - 1)
        expressions[name] = len(document["nodes"]) - 1
    joints = {j: j for j in range(len(clip.skeleton))}
    along = np.array([[1.0], [0.0], [0.0]])
    ways = {(n, "translation"): weights_together(clip, [name]).moved(along) for name, n in expressions.items()}
    _animation(writer, clip, _plain_motion(clip), joints, ways)
    index = clip.skeleton.index
    document["extensions"] = {
        "VRMC_vrm_animation": vrm.animation_extension({b: index[n] for b, n in table.items()}, expressions)
    }
    document["extensionsUsed"] = ["VRMC_vrm_animation"]
    return document, writer.binary()


def _fresh_nodes(clip: Clip | KeyedClip) -> dict[str, Any]:
    skeleton = clip.skeleton
    document: dict[str, Any] = {"asset": _asset(), "scene": 0, "scenes": [{"nodes": []}], "nodes": []}
    for joint in range(len(skeleton)):
        document["nodes"].append(_node(skeleton.names[joint], skeleton.offsets[joint], skeleton.rest[joint]))
    _link(document, skeleton.parents)
    document["scenes"][0]["nodes"] = [int(j) for j in np.flatnonzero(skeleton.parents < 0)]
    return document
