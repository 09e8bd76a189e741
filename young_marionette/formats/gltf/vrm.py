"""VRM in glTF: the table of humanoid bones (0.x and 1.0), expressions, and animations for it (VRMA)."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from ...core.errors import InputError
from .accessors import item

if TYPE_CHECKING:
    from .container import Container
    from .nodes import Nodes


# VRM 0.x counts the thumb's bones otherwise than 1.0 does.
_OLD_THUMB = {"Proximal": "Metacarpal", "Intermediate": "Proximal", "Distal": "Distal"}


def _extension(container: Container, name: str) -> dict[str, Any] | None:
    extensions = container.document.get("extensions")
    extension = extensions.get(name) if isinstance(extensions, dict) else None
    return extension if isinstance(extension, dict) else None


def version(container: Container) -> str | None:
    """``"VRM 1.0"``, ``"VRM 0.x"``, ``"VRM animation"`` or None."""
    for key, name in (("VRMC_vrm", "VRM 1.0"), ("VRM", "VRM 0.x"), ("VRMC_vrm_animation", "VRM animation")):
        if _extension(container, key) is not None:
            return name
    return None


def humanoid(container: Container) -> dict[str, int]:
    """``{VRM 1.0 bone name: node number}`` of the humanoid table; empty where there is none."""
    new = _extension(container, "VRMC_vrm") or _extension(container, "VRMC_vrm_animation")
    old = _extension(container, "VRM")
    table = (new or old or {}).get("humanoid")
    bones = table.get("humanBones") if isinstance(table, dict) else None
    nodes_of = {}
    if new is not None and isinstance(bones, dict):
        pairs = [(bone, entry) for bone, entry in bones.items()]
    elif old is not None and isinstance(bones, list):
        pairs = [(_renewed(entry.get("bone")), entry) for entry in bones if isinstance(entry, dict)]
    else:
        return {}
    for bone, entry in pairs:
        node = entry.get("node") if isinstance(entry, dict) else None
        if isinstance(bone, str) and node is not None and node != -1:
            item(container.items("nodes"), node, container.label, "node")
            nodes_of[bone] = node
    if len(set(nodes_of.values())) != len(nodes_of):
        raise InputError(f"{container.label}: its table of humanoid bones names a node twice.")
    return nodes_of


def _renewed(bone: Any) -> str:
    """The VRM 1.0 name of a VRM 0.x bone."""
    if isinstance(bone, str):
        for side in ("left", "right"):
            for old, new in _OLD_THUMB.items():
                if bone == f"{side}Thumb{old}":
                    return f"{side}Thumb{new}"
    return bone


def extension_1_0(bones: dict[str, int]) -> dict[str, Any]:
    """The humanoid part of VRMC_vrm for ``{bone: node}``."""
    return {"humanBones": {bone: {"node": node} for bone, node in bones.items()}}


def animation_extension(bones: dict[str, int], expressions: dict[str, int]) -> dict[str, Any]:
    """VRMC_vrm_animation 1.0 for humanoid bones and for expressions, ``{name: node}`` each."""
    preset = {n: {"node": node} for n, node in expressions.items() if n in PRESETS}
    custom = {n: {"node": node} for n, node in expressions.items() if n not in PRESETS}
    tables = {key: table for key, table in (("preset", preset), ("custom", custom)) if table}
    return {"specVersion": "1.0", "humanoid": extension_1_0(bones), **({"expressions": tables} if tables else {})}


PRESETS = {
    "happy", "angry", "sad", "relaxed", "surprised", "aa", "ih", "ou", "ee", "oh", "blink", "blinkLeft", "blinkRight",
    "lookUp", "lookDown", "lookLeft", "lookRight", "neutral",
}  # fmt: skip


def expressions(container: Container, nodes: Nodes) -> dict[str, Any]:
    """``{expression: {morph name: weight}}`` of a VRM character, of either version."""
    from .motion import morph_names

    weights_of = {}
    new, old = _extension(container, "VRMC_vrm"), _extension(container, "VRM")
    if new is not None and isinstance(new.get("expressions"), dict):
        for group in ("preset", "custom"):
            table = new["expressions"].get(group)
            for name, entry in table.items() if isinstance(table, dict) else ():
                for bind in entry.get("morphTargetBinds") or () if isinstance(entry, dict) else ():
                    node = item(nodes.items, bind.get("node"), container.label, "node")
                    names = morph_names(container, node)
                    index = bind.get("index")
                    if isinstance(index, int) and 0 <= index < len(names):
                        weights_of.setdefault(name, {})[names[index]] = float(bind.get("weight", 1.0))
    elif old is not None and isinstance(old.get("blendShapeMaster"), dict):
        by_mesh = {n.get("mesh"): n for n in nodes.items if isinstance(n.get("mesh"), int)}
        for group in old["blendShapeMaster"].get("blendShapeGroups") or ():
            name = group.get("presetName") if group.get("presetName") not in (None, "unknown") else group.get("name")
            for bind in group.get("binds") or ():
                node = by_mesh.get(bind.get("mesh"))
                names = morph_names(container, node) if node else []
                index = bind.get("index")
                if isinstance(name, str) and isinstance(index, int) and 0 <= index < len(names):
                    weights_of.setdefault(name, {})[names[index]] = float(bind.get("weight", 100.0)) / 100
    return weights_of


def expression_nodes(container: Container) -> dict[str, int]:
    """The nodes whose way along X is the weight of a VRM animation's expressions: ``{name: node number}``."""
    extension = _extension(container, "VRMC_vrm_animation") or {}
    expressions = extension.get("expressions")
    nodes = {}
    for group in ("preset", "custom"):
        table = expressions.get(group) if isinstance(expressions, dict) else None
        for name, entry in table.items() if isinstance(table, dict) else ():
            if isinstance(entry, dict) and isinstance(entry.get("node"), int):
                nodes[name] = entry["node"]
    return nodes
