"""The puppets' files with their bodies, each in a format and with the oddities that its maker's program has."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..core import rotations as rot
from ..core.character.meshes import placed_character
from ..core.clip import Clip
from ..core.figure.placement import Placement, place_clip
from ..core.rebase import rebase, rename
from ..formats import encode
from ..formats.files import write_together, write_whole
from ..formats.gltf.accessors import Accessors, Writer
from ..formats.gltf.container import as_glb, parse
from ..formats.gltf.reader import merged
from ..formats.gltf.writer import document_of
from .bodies import puppet_body
from .cast import PUPPETS, vrm_names

FILES = {"Heron": "puppets/bodies/Heron.vrm", "Puffin": "puppets/bodies/Puffin.usdz", "Gull": "puppets/bodies/Gull.glb"}


def puppet(name, axes=None):
    """``(clip of one frame at rest, Character)`` of a puppet in our world, its bones named as by its maker.

    The skin was bound with arms straight out, whatever pose the puppet rests in. ``axes (joints, 4)``: world axes of
    the joints at rest.
    """
    role = next(r for r in PUPPETS if r.name == name)
    figure = role.figure
    character = puppet_body(name, figure)
    skeleton, turns = rebase(figure, role.rest(figure), axes)
    back = np.tile(np.eye(4), (len(figure), 1, 1))
    back[:, :3, :3] = rot.to_matrix(rot.conjugate(turns))
    character = replace(character, meshes=tuple(replace(m, binds=back @ m.binds) for m in character.meshes))
    skeleton = rename(skeleton, role.names)
    hips = figure.index["hips"]
    clip = Clip(name, skeleton, 30.0, skeleton.rest[None], [hips], skeleton.offsets[None, [hips]])
    return clip, character


def write_puppets(folder):
    """Write the three puppets with their bodies under ``folder``; gives their paths."""
    for place in FILES.values():
        (folder / place).parent.mkdir(parents=True, exist_ok=True)
    clip, character = puppet("Heron")
    # Its maker named the bones as VRM does.
    bones = tuple((name, name) for name in vrm_names().values() if name in clip.skeleton.index)
    document, binary = document_of(clip, character, bones)
    document["extensions"]["VRMC_vrm"]["expressions"] = {"preset": _expressions(document)}
    write_whole(folder / FILES["Heron"], as_glb(document, binary))
    clip, character = puppet("Puffin")
    # Centimetres with Z up, as the modelling program of its maker has it.
    world = Placement.from_axes(0.01, rot.AXES["Z"], -rot.AXES["Y"]).inverse
    path = folder / FILES["Puffin"]
    placed = placed_character(character, world)
    write_together(encode(path, place_clip(clip, world), body=True, character=placed, metres_per_unit=0.01, up="Z"))
    rng = np.random.default_rng(7)
    clip, character = puppet("Gull", rot.normalise(rng.normal(size=(len(puppet("Gull")[0].skeleton), 4))))
    document, binary = document_of(clip, character)
    write_whole(folder / FILES["Gull"], as_glb(*under_armature(document, binary)))
    return [folder / place for place in FILES.values()]


def _expressions(document):
    """What VRM calls a blink and an open mouth, from the morphs of the head."""
    expressions = {}
    for number, node in enumerate(document["nodes"]):
        names = document["meshes"][node["mesh"]].get("extras", {}).get("targetNames", []) if "mesh" in node else []
        for expression, morph in (("blink", "blink"), ("aa", "jaw_open")):
            if morph in names:
                binds = expressions.setdefault(expression, {"morphTargetBinds": []})["morphTargetBinds"]
                binds.append({"node": number, "index": names.index(morph), "weight": 1.0})
    return expressions


def under_armature(document, binary, scale=0.01):
    """The same figure under a node that is scaled and lies on its side, as programs with Z up and centimetres write it."""
    container = parse(b"".join(bytes(c) for c in as_glb(document, binary)), "figure")
    binary, document = merged(container)
    root = document["skins"][0]["skeleton"] if "skeleton" in document["skins"][0] else document["scenes"][0]["nodes"][0]
    joints = document["skins"][0]["joints"]
    lie = rot.from_axis_angle(rot.AXES["X"], np.array(-np.pi / 2))
    back = rot.conjugate(lie)
    under = set(joints)
    for number, node in enumerate(document["nodes"]):
        if "mesh" in node:
            continue
        move = np.array(node.get("translation", [0.0] * 3)) / scale
        turn = np.array(node.get("rotation", [0.0, 0, 0, 1]))
        if number == root:
            move, turn = rot.rotate(back, move), rot.multiply(back, turn)
        node["translation"], node["rotation"] = move.tolist(), turn.tolist()
    document["nodes"].append({"name": "Armature", "rotation": lie.tolist(), "scale": [scale] * 3, "children": [root]})
    scene = document["scenes"][0]["nodes"]
    scene[scene.index(root)] = len(document["nodes"]) - 1
    accessors = Accessors(parse(b"".join(bytes(c) for c in as_glb(document, binary)), "figure"))
    writer = Writer(document, binary)
    for skin in document["skins"]:
        if "inverseBindMatrices" in skin:
            binds = accessors.floats(skin["inverseBindMatrices"], 16).reshape(-1, 4, 4).copy()
            binds[:, :, :3] /= scale  # columns lie as rows in the file
            skin["inverseBindMatrices"] = writer.array(binds.reshape(-1, 16), "MAT4")
    for animation in document.get("animations", []):
        for channel in animation["channels"]:
            _scale_channel(
                writer,
                accessors,
                animation["samplers"][channel["sampler"]],
                channel["target"],
                root,
                scale,
                back,
                under,
            )
    return document, writer.binary()


def _scale_channel(writer, accessors, sampler, target, root, scale, back, under):
    node, path = target["node"], target["path"]
    if node not in under or path not in ("translation", "rotation"):
        return
    values = accessors.floats(sampler["output"]).astype(float)
    if path == "translation":
        values = values / scale
        values = rot.rotate(back, values) if node == root else values
        sampler["output"] = writer.array(values, "VEC3")
    elif node == root:
        sampler["output"] = writer.array(rot.multiply(back, values), "VEC4")
