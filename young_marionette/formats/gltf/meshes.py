"""Meshes, skins, morphs and materials of glTF as a Character over one of the file's skeletons."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

import numpy as np

from ...core.character.meshes import Character, Material, Mesh, Morph, inverted, level_in, smooth_normals
from ...core.errors import InputError
from .accessors import Accessors, item, whole
from .compression import DRACO, draco_decoded
from .container import fetch
from .motion import morph_names

if TYPE_CHECKING:
    from .container import Container
    from .nodes import Nodes, Tree


def character_of(container: Container, accessors: Accessors, nodes: Nodes, tree: Tree) -> Character | None:
    """The Character of the meshes that hang on a tree (skinned to it, or under its joints); None without any."""
    joint_of = tree.joint_of
    levels = node_levels(container, nodes)
    meshes = []
    for number, node in enumerate(nodes.items):
        if "mesh" not in node:
            continue
        skin = node.get("skin")
        if skin is not None:
            bound = _skin(
                container, accessors, tree, joint_of, item(container.items("skins"), skin, container.label, "skin")
            )
        else:
            bound = _hung(nodes, tree, joint_of, number)
        if bound is not None:
            joints, binds = bound
            meshes += _primitives(container, accessors, nodes, number, joints, binds, len(tree.nodes), levels)
    return Character(tuple(meshes), _materials(container)) if meshes else None


def _skin(
    container: Container, accessors: Accessors, tree: Tree, joint_of: dict[int, int], skin: dict[str, Any]
) -> tuple[np.ndarray, np.ndarray] | None:
    """``(joint numbers, inverse binds)`` of a skin, or None where it is another skeleton's."""
    joints = [joint_of.get(n, -1) for n in skin["joints"]]
    if all(j < 0 for j in joints):
        return None
    if "inverseBindMatrices" in skin:
        binds = accessors.floats(skin["inverseBindMatrices"], 16)
        if len(binds) < len(joints):
            raise InputError(f"{container.label}: a skin of {len(joints)} joints has {len(binds)} bind matrices.")
        binds = binds[: len(joints)].astype(float).reshape(-1, 4, 4).transpose(0, 2, 1)
    else:
        binds = np.tile(np.eye(4), (len(joints), 1, 1))
    return np.maximum(joints, 0), binds


def _hung(nodes: Nodes, tree: Tree, joint_of: dict[int, int], number: int) -> tuple[np.ndarray, np.ndarray] | None:
    """A mesh without a skin under a joint rides on it: ``(joint, its place in the joint's axes)``; else None."""
    over = [number, *nodes.above(number)]
    joint = next((n for n in over if n in joint_of), None)
    if joint is None:
        return None
    place = inverted(nodes.world(joint)) @ nodes.world(number)
    return np.array([joint_of[joint]]), place[None]


def _primitives(
    container: Container,
    accessors: Accessors,
    nodes: Nodes,
    number: int,
    joints: np.ndarray,
    binds: np.ndarray,
    count: int,
    levels: dict[int, int],
) -> Iterator[Mesh]:
    node = nodes.items[number]
    label = container.label
    mesh = item(container.items("meshes"), node["mesh"], label, "mesh")
    name = mesh.get("name") if isinstance(mesh.get("name"), str) else nodes.name(number)
    level = levels[number]
    all_binds = np.tile(np.eye(4), (count, 1, 1))
    all_binds[joints] = binds
    parts = mesh.get("primitives")
    for part in parts if isinstance(parts, list) else ():
        attributes = part.get("attributes") if isinstance(part, dict) else None
        if not isinstance(attributes, dict):
            raise InputError(f"{label}: a part of the mesh {name} has no attributes.")
        if part.get("mode", 4) != 4 or "POSITION" not in attributes:
            continue  # lines and points are nobody's skin
        if isinstance((part.get("extensions") or {}).get(DRACO), dict):
            buffer, start, length = accessors.view(part["extensions"][DRACO].get("bufferView"))
            for number, elements in draco_decoded(part, bytes(buffer[start : start + length]), label).items():
                accessors.put(number, elements)
        points = accessors.floats(attributes["POSITION"], 3)
        triangles = _triangles(accessors, part, len(points), label)
        normals = _same_count(accessors, attributes, "NORMAL", 3, len(points), label)
        normals = smooth_normals(points, triangles) if normals is None else normals
        carried, weights = _influences(accessors, attributes, joints, len(points), label)
        yield Mesh(
            name, points, normals, triangles, carried, weights, all_binds,
            _same_count(accessors, attributes, "TEXCOORD_0", 2, len(points), label),
            whole(part.get("material", -1), label, "a material's number", -1) + 1,
            _morphs(container, accessors, node, part, len(points)), level,
        )  # fmt: skip


def _same_count(
    accessors: Accessors, attributes: dict[str, int], key: str, width: int, count: int, label: str
) -> np.ndarray | None:
    if key not in attributes:
        return None
    values = accessors.floats(attributes[key], width)
    if len(values) != count:
        raise InputError(f"{label}: a mesh has {count} places and {len(values)} of {key}.")
    return values


def _triangles(accessors: Accessors, part: dict[str, Any], count: int, label: str) -> np.ndarray:
    if "indices" in part:
        flat = accessors.array(part["indices"], 1)[:, 0]
        if len(flat) and int(flat.max()) >= count:
            raise InputError(f"{label}: a mesh's triangles point past its {count} vertices.")
    else:
        flat = np.arange(count)
    flat = flat.view(np.int32) if flat.dtype == np.uint32 else flat.astype(np.int32)
    return flat[: len(flat) // 3 * 3].reshape(-1, 3)


def _influences(
    accessors: Accessors, attributes: dict[str, int], joints: np.ndarray, count: int, label: str
) -> tuple[np.ndarray, np.ndarray]:
    """``(joints (v, k), weights (v, k))``; a mesh without any rides on its one joint."""
    sets, shares = [], []
    for number in range(8):
        if f"JOINTS_{number}" not in attributes or f"WEIGHTS_{number}" not in attributes:
            break
        which = accessors.array(attributes[f"JOINTS_{number}"], 4)
        share = accessors.floats(attributes[f"WEIGHTS_{number}"], 4)
        if len(which) != count or len(share) != count:
            raise InputError(f"{label}: a skin has weights for another number of vertices.")
        if which.size and int(which.max()) >= len(joints):
            which = np.where(share > 0, which, 0)  # only joints with a share have to be there
        if which.size and (which.min() < 0 or int(which.max()) >= len(joints)):
            raise InputError(f"{label}: a skin's weights refer to joints that it does not list.")
        sets.append(np.asarray(joints, np.int32)[which])
        shares.append(share)
    if not sets:
        return np.full((count, 1), joints[0], np.int32), np.ones((count, 1), np.float32)
    carried = sets[0] if len(sets) == 1 else np.concatenate(sets, 1)
    weights = shares[0] if len(shares) == 1 else np.concatenate(shares, 1)
    total = np.einsum("vk->v", weights)[:, None]
    if total.size and abs(total.min() - 1) < 1e-4 and abs(total.max() - 1) < 1e-4 and weights.min() >= 0:
        return carried, weights
    return carried, np.divide(weights, total, out=np.zeros_like(weights), where=total > 1e-9)


def _morphs(
    container: Container, accessors: Accessors, node: dict[str, Any], part: dict[str, Any], count: int
) -> tuple[Morph, ...]:
    targets = part.get("targets")
    names = morph_names(container, node)
    morphs = []
    for name, target in zip(names, targets if isinstance(targets, list) else ()):
        if isinstance(target, dict) and "POSITION" in target:
            points = accessors.floats(target["POSITION"], 3)
            if len(points) != count:
                raise InputError(f"{container.label}: the morph {name} is of another mesh's size.")
            normals = accessors.floats(target["NORMAL"], 3) if "NORMAL" in target else None
            morphs.append(Morph(name, points, normals if normals is not None and len(normals) == count else None))
    return tuple(morphs)


def _materials(container: Container) -> tuple[Material, ...]:
    """The first is for parts without a material."""
    materials = [Material()]
    for material in container.items("materials"):
        rough = material.get("pbrMetallicRoughness")
        rough = rough if isinstance(rough, dict) else {}
        colour = rough.get("baseColorFactor", [1, 1, 1, 1])
        try:
            colour = tuple(float(np.clip(c, 0, 1)) for c in colour)
        except (TypeError, ValueError):
            colour = ()
        texture = rough.get("baseColorTexture")
        image = _image(container, texture.get("index")) if isinstance(texture, dict) else None
        name = material.get("name")
        materials.append(
            Material(
                name if isinstance(name, str) else "",
                colour if len(colour) == 4 else (0.8, 0.8, 0.8, 1.0),
                image,
                bool(material.get("doubleSided")),
            )
        )
    return tuple(materials)


def _image(container: Container, number: Any) -> bytes | None:
    """An image's bytes; None where it is missing, for a body can be shown without."""
    try:
        texture = item(container.items("textures"), number, container.label, "texture")
        source = texture.get("source")
        image = item(container.items("images"), source, container.label, "image")
        if source in container.images:
            return container.images[source]
        if "bufferView" in image:
            buffer, start, length = Accessors(container).view(image["bufferView"])
            return bytes(buffer[start : start + length])
        return fetch(image["uri"], container.label, None)
    except (InputError, KeyError, IndexError, TypeError, ValueError):
        return None


def node_levels(container: Container, nodes: Nodes) -> dict[int, int]:
    """``{node: level}`` of all nodes with meshes, as the extension MSFT_lod tells, else as their names do."""
    levels = {}
    for number, node in enumerate(nodes.items):
        if "mesh" in node:
            mesh = item(container.items("meshes"), node["mesh"], container.label, "mesh")
            levels.setdefault(number, level_in(nodes.name(number), str(mesh.get("name", ""))))
        extension = (node.get("extensions") or {}).get("MSFT_lod") if isinstance(node.get("extensions"), dict) else None
        ids = extension.get("ids") if isinstance(extension, dict) else None
        if isinstance(ids, list):
            levels[number] = 0
            levels.update({n: i for i, n in enumerate(ids, 1) if isinstance(n, int)})
    return levels
