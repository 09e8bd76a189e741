"""A character's meshes, materials and skin as parts of a new glTF document."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from ...core.character.meshes import strongest

if TYPE_CHECKING:
    from ...core.character.meshes import Character, Material, Mesh, Morph
    from ...core.skeleton import Skeleton
    from .accessors import Writer


_ARRAY, _INDICES = 34962, 34963


def add_character(writer: Writer, skeleton: Skeleton, character: Character) -> None:
    """Add all meshes of a character in the skeleton's own world; joints are the first nodes of the document."""
    document = writer.document
    materials = _materials(writer, character.materials)
    document["meshes"], document["skins"] = [], []
    groups = {}
    for mesh in character.meshes:
        groups.setdefault((mesh.name, mesh.level, tuple(m.name for m in mesh.morphs)), []).append(mesh)
    for (name, _level, morphs), meshes in groups.items():
        document["skins"].append(_skin(writer, skeleton, meshes[0]))
        entry = {"name": name, "primitives": [_primitive(writer, m, materials) for m in meshes]}
        if morphs:
            entry["extras"] = {"targetNames": list(morphs)}
            entry["weights"] = [0.0] * len(morphs)
        document["meshes"].append(entry)
        node = {"name": name, "mesh": len(document["meshes"]) - 1, "skin": len(document["skins"]) - 1}
        document["nodes"].append(node)
        document["scenes"][0]["nodes"].append(len(document["nodes"]) - 1)


def _skin(writer: Writer, skeleton: Skeleton, mesh: Mesh) -> dict[str, Any]:
    binds = mesh.binds.copy()
    # Joints are written without scale: what they had goes into the bind matrices.
    binds[:, :3, :] *= skeleton.scales[:, :, None]
    binds[:, 3] = 0.0, 0.0, 0.0, 1.0
    matrices = binds.transpose(0, 2, 1).reshape(-1, 16)
    return {"joints": list(range(len(skeleton))), "inverseBindMatrices": writer.array(matrices, "MAT4")}


def _primitive(writer: Writer, mesh: Mesh, materials: list[int | None]) -> dict[str, Any]:
    joints, weights = strongest(mesh)
    attributes = {
        "POSITION": writer.array(mesh.points, "VEC3", True, target=_ARRAY),
        "NORMAL": writer.array(_unit(mesh.normals), "VEC3", target=_ARRAY),
        "JOINTS_0": writer.array(joints, "VEC4", component=5123, target=_ARRAY),
        "WEIGHTS_0": writer.array(weights, "VEC4", target=_ARRAY),
    }
    if mesh.texcoords is not None:
        attributes["TEXCOORD_0"] = writer.array(mesh.texcoords, "VEC2", target=_ARRAY)
    part: dict[str, Any] = {"attributes": attributes}
    part["indices"] = writer.array(mesh.triangles.reshape(-1, 1), "SCALAR", component=5125, target=_INDICES)
    if materials[mesh.material] is not None:
        part["material"] = materials[mesh.material]
    if mesh.morphs:
        part["targets"] = [_target(writer, mesh, m) for m in mesh.morphs]
    return part


def _target(writer: Writer, mesh: Mesh, morph: Morph) -> dict[str, int]:
    target = {"POSITION": writer.changes(morph.points, "VEC3", True)}
    # All targets of a mesh have to tell the same.
    if any(m.normals is not None for m in mesh.morphs):
        normals = np.zeros_like(morph.points) if morph.normals is None else morph.normals
        target["NORMAL"] = writer.changes(normals, "VEC3")
    return target


def _unit(normals: np.ndarray) -> np.ndarray:
    length = np.linalg.norm(normals, axis=1, keepdims=True)
    return np.where(length > 1e-6, normals / np.maximum(length, 1e-12), [0.0, 1.0, 0.0])


def _materials(writer: Writer, materials: tuple[Material, ...]) -> list[int | None]:
    """Numbers of the materials in the document, the plain one of parts without any as None."""
    document = writer.document
    numbers: list[int | None] = []
    textures: dict[bytes, int] = {}  # each picture once, however many materials wear it
    for number, material in enumerate(materials):
        if number == 0 and not material.name:
            numbers.append(None)
            continue
        rough = {"baseColorFactor": [float(c) for c in material.colour], "metallicFactor": 0.0, "roughnessFactor": 0.7}
        entry: dict[str, Any] = {"name": material.name, "pbrMetallicRoughness": rough}
        if material.double_sided:
            entry["doubleSided"] = True
        if material.texture and material.texture[:4] in (b"\x89PNG", b"\xff\xd8\xff\xe0", b"\xff\xd8\xff\xe1"):
            if material.texture not in textures:
                kind = "image/png" if material.texture[:4] == b"\x89PNG" else "image/jpeg"
                image = {"bufferView": writer.data(material.texture), "mimeType": kind}
                document.setdefault("images", []).append(image)
                document.setdefault("textures", []).append({"source": len(document["images"]) - 1})
                textures[material.texture] = len(document["textures"]) - 1
            rough["baseColorTexture"] = {"index": textures[material.texture]}
        document.setdefault("materials", []).append(entry)
        numbers.append(len(document["materials"]) - 1)
    return numbers
