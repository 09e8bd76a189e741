"""What was found in a USD file, as plain arrays and text in one piece of memory, and back."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from dataclasses import replace
from typing import Any

from ...core.character.meshes import Character, Material, Mesh, Morph
from ...core.clip import Clip
from ...core.figure.declared import Declared
from ...core.findings import Finding
from ...core.keys.arrays import from_arrays, to_arrays
from ...core.keys.keyed import KeyedClip
from ...core.skeleton import Skeleton
from .memory import Reading, Writing
from .skeletons import UsdTree


def packed(
    parts: Sequence[Any], declared: Declared, data: bytes | None, textures: dict[str, bytes], layers: Sequence[str] = ()
) -> tuple[int, list[Any]]:
    """``(file, told)``: all of it in a nameless file in memory, and where in it the description stands."""
    store = Writing()
    described = {
        "declared": [declared.unit, declared.up],
        "parts": [
            {
                "tree": _tree(store, tree),
                "clips": [_clip(store, c) for c in clips],
                "character": _character(store, character),
                "notes": _notes(notes),
                "name": name,
            }
            for tree, clips, character, notes, name in parts
        ],
        "textures": {place: store.put_bytes(image) for place, image in textures.items()},
        "layer": store.put_bytes(data),
        "layers": list(layers),
    }
    entry = store.put_bytes(json.dumps(described).encode())
    store.finish()
    return store.file, entry


def unpacked(
    file: int, entry: list[Any], data: bytes | None = None, textures: dict[str, bytes] | None = None
) -> tuple[list[Any], Declared, Any, dict[str, bytes], list[str]]:
    """``(parts, declared, data, textures, layers)``; ``textures`` replace those of the parcel, ``data`` stands where it has none."""
    store = Reading(file)
    described = json.loads(store.get_bytes(entry))
    if textures is None:
        textures = {place: store.get_bytes(image) for place, image in described["textures"].items()}
    parts = []
    for part in described["parts"]:
        tree = _tree_back(store, part["tree"])
        clips = [_clip_back(store, c, tree.skeleton) for c in part["clips"]]
        parts.append(
            (tree, clips, _character_back(store, part["character"], textures), _notes_back(part["notes"]), part["name"])
        )
    layer = store.get_bytes(described["layer"])
    return parts, Declared(*described["declared"]), data if layer is None else layer, textures, described["layers"]


def _notes(notes: Iterable[Finding]) -> list[Any]:
    return [[note.code, dict(note.values)] for note in notes]


def _notes_back(plain: Sequence[Any]) -> tuple[Finding, ...]:
    return tuple(Finding(code, values) for code, values in plain)


def _tree(store: Writing, tree: UsdTree) -> dict[str, Any]:
    s = tree.skeleton
    arrays = (s.parents, s.offsets, s.rest, s.tips, s.scales, tree.over, tree.scales, tree.binds)
    return {"path": tree.path, "joints": list(tree.joints), "names": list(s.names), "arrays": list(map(store.put, arrays)),
            "notes": _notes(tree.notes)}  # fmt: skip


def _tree_back(store: Reading, plain: dict[str, Any]) -> UsdTree:
    parents, offsets, rest, tips, scales, over, own, binds = map(store.get, plain["arrays"])
    skeleton = Skeleton(tuple(plain["names"]), parents, offsets, rest, tips, scales)
    return UsdTree(plain["path"], tuple(plain["joints"]), skeleton, over, own, binds, _notes_back(plain["notes"]))


_CLIP = ("rotations", "moving", "translations", "weights", "scaled", "scales")


def _clip(store: Writing, clip: Clip | KeyedClip) -> dict[str, Any]:
    keyed = isinstance(clip, KeyedClip)
    arrays = to_arrays(clip) if isinstance(clip, KeyedClip) else {key: getattr(clip, key) for key in _CLIP}
    return {
        "name": clip.name,
        "rate": clip.rate,
        "morphs": list(clip.morphs),
        "start": clip.start,
        "keyed": keyed,
        "arrays": {key: store.put(array) for key, array in arrays.items()},
    }


def _clip_back(store: Reading, plain: dict[str, Any], skeleton: Skeleton) -> Clip | KeyedClip:
    arrays = {key: store.get(place) for key, place in plain["arrays"].items()}
    if plain["keyed"]:
        return from_arrays(plain["name"], skeleton, plain["rate"], plain["morphs"], arrays)
    return Clip(plain["name"], skeleton, plain["rate"], morphs=tuple(plain["morphs"]), start=plain["start"], **arrays)


_MESH = ("points", "normals", "triangles", "joints", "weights", "binds", "texcoords")


def _character(store: Writing, character: Character | None) -> dict[str, Any] | None:
    if character is None:
        return None
    meshes = [
        {
            "name": m.name,
            "arrays": [store.put(getattr(m, key)) for key in _MESH],
            "material": m.material,
            "level": m.level,
            "morphs": [[x.name, store.put(x.points), store.put(x.normals)] for x in m.morphs],
        }
        for m in character.meshes
    ]
    materials = [[m.name, list(m.colour), m.texture, m.double_sided] for m in character.materials]
    return {"meshes": meshes, "materials": materials}


def _character_back(store: Reading, plain: dict[str, Any] | None, textures: dict[str, bytes]) -> Character | None:
    if plain is None:
        return None
    meshes = []
    for m in plain["meshes"]:
        arrays = dict(zip(_MESH, map(store.get, m["arrays"])))
        morphs = tuple(Morph(name, *map(store.get, arrays)) for name, *arrays in m["morphs"])
        meshes.append(Mesh(m["name"], **arrays, material=m["material"], morphs=morphs, level=m["level"]))
    materials = tuple(Material(n, tuple(c), t, d) for n, c, t, d in plain["materials"])
    # A texture travels by its place, and once only.
    materials = tuple(replace(m, texture=textures.get(str(m.texture))) for m in materials)
    return Character(tuple(meshes), materials)
