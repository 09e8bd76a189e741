"""Taking animations and meshes out of a glTF document, with the data that nothing else uses."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from .compression import meshopt_of


def without(document: dict[str, Any], binary: bytes, nodes: Sequence[int] = ()) -> bytes:
    """Remove the animations, and the meshes of some nodes, from ``document`` (in place); returns the smaller buffer.

    Numbers of accessors and bufferViews stay, since extensions that are not known here may hold them: what is no
    longer used becomes empty instead.
    """
    animations = document.pop("animations", [])
    freed = _accessors_of(animations) | _drop_meshes(document, nodes)
    kept = _references(document)
    accessors = document.get("accessors", [])
    freed = {n for n in freed - kept if isinstance(n, int) and 0 <= n < len(accessors)}
    views = document.get("bufferViews", [])
    used = {v for n, a in enumerate(accessors) if n not in freed for v in _views(a)}
    used |= _named(document, "bufferView", skip=("accessors", "bufferViews"))
    for number in freed:
        accessors[number] = {"componentType": 5126, "count": 1, "type": "SCALAR"}
    parts, size = [b"\0\0\0\0"], 4
    for number, view in enumerate(views):
        place = meshopt_of(view) or view
        start, length = place.get("byteOffset", 0), place["byteLength"]
        if number in used:
            raw = binary[start : start + length]
            place["byteOffset"] = size
            parts += [raw, b"\0" * (-length % 4)]
            size += length + (-length % 4)
        else:
            views[number] = {"buffer": 0, "byteOffset": 0, "byteLength": 4}
    if not views:
        return b""
    return b"".join(parts)


def _drop_meshes(document: dict[str, Any], nodes: Sequence[int]) -> set[int]:
    """Take meshes off nodes, and out of the document where no other node has them; gives their accessors."""
    meshes = document.get("meshes", [])
    gone = {document["nodes"][n].pop("mesh") for n in nodes if "mesh" in document["nodes"][n]}
    for number in nodes:
        document["nodes"][number].pop("skin", None)
        document["nodes"][number].pop("weights", None)
    gone -= {n.get("mesh") for n in document["nodes"]}
    if not gone:
        return set()
    before = _references({"meshes": [meshes[n] for n in gone]})
    kept = [n for n in range(len(meshes)) if n not in gone]
    place = {old: new for new, old in enumerate(kept)}
    document["meshes"] = [meshes[n] for n in kept]
    for node in document["nodes"]:
        if "mesh" in node:
            node["mesh"] = place[node["mesh"]]
    _renumber_old_vrm(document, place)
    if not document["meshes"]:
        del document["meshes"]
    return before


def _renumber_old_vrm(document: dict[str, Any], place: dict[int, int]) -> None:
    """VRM 0.x speaks of meshes by their numbers."""
    old = document.get("extensions", {}).get("VRM")
    for group in (old or {}).get("blendShapeMaster", {}).get("blendShapeGroups", []):
        binds = [b for b in group.get("binds", []) if b.get("mesh") in place]
        group["binds"] = [{**b, "mesh": place[b["mesh"]]} for b in binds]
    person = (old or {}).get("firstPerson", {})
    if "meshAnnotations" in person:
        notes = [n for n in person["meshAnnotations"] if n.get("mesh") in place]
        person["meshAnnotations"] = [{**n, "mesh": place[n["mesh"]]} for n in notes]


def _accessors_of(animations: Sequence[Any]) -> set[int]:
    accessors = set()
    for animation in animations:
        for sampler in animation.get("samplers", []):
            accessors |= {sampler.get("input"), sampler.get("output")}
    return accessors


def _views(accessor: dict[str, Any]) -> set[int]:
    sparse = accessor.get("sparse") or {}
    views = (accessor.get("bufferView"), *(sparse.get(k, {}).get("bufferView") for k in ("indices", "values")))
    return {v for v in views if v is not None}


def _references(document: dict[str, Any]) -> set[int]:
    """Accessors that meshes and skins use."""
    references = set()
    for mesh in document.get("meshes", []):
        for part in mesh.get("primitives", []):
            references |= set(part.get("attributes", {}).values()) | {part.get("indices")}
            for target in part.get("targets", []):
                references |= set(target.values())
    references |= {skin.get("inverseBindMatrices") for skin in document.get("skins", [])}
    return {n for n in references if isinstance(n, int)}


def _named(tree: dict[str, Any], key: str, skip: tuple[str, ...] = ()) -> set[int]:
    """All values of a key, however deep."""
    names = set()
    todo = [{k: v for k, v in tree.items() if k not in skip}]
    while todo:
        part = todo.pop()
        if isinstance(part, dict):
            if isinstance(part.get(key), int):
                names.add(part[key])
            todo.extend(part.values())
        elif isinstance(part, list):
            todo.extend(part)
    return names
