"""What a body over a skeleton is like: its meshes, levels of detail, morphs, and how it was bound."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..findings import Fact, Finding, finding
from .meshes import bind_pose

if TYPE_CHECKING:
    from ..skeleton import Skeleton
    from .meshes import Character, Mesh


def character_facts(skeleton: Skeleton, character: Character, level: int) -> tuple[Fact, ...]:
    """Facts of a Character on its skeleton, both as read (tuple of Fact)."""
    meshes = character.at_level(level)
    count = sum(len(m.triangles) for m in meshes)
    carried = {"joints": _carriers(meshes), "materials": len({m.material for m in meshes})}
    facts = [Fact("body", {"meshes": len(meshes), "triangles": count}, Finding("skin", carried))]
    if len(character.levels) > 1:
        sizes = [sum(len(m.triangles) for m in character.at_level(n)) for n in character.levels]
        facts.append(Fact("detail", {"level": level}, finding("levels", triangles=sizes)))
    if character.morphs:
        facts.append(Fact("morphs", {"names": list(character.morphs)}))
    pose, bound = bind_pose(skeleton, meshes)
    apart = np.degrees(rot.angle(rot.multiply(rot.conjugate(skeleton.rest), pose)))
    worst = int(np.argmax(np.where(bound, apart, 0)))
    differs = bool(apart[worst] > 0.5)
    values = {"degrees": float(apart[worst]), "joint": skeleton.names[worst]} if differs else {}
    facts.append(Fact("bind pose", {"differs": differs, **values}))
    return tuple(facts)


def _carriers(meshes: tuple[Mesh, ...]) -> int:
    return len({int(j) for m in meshes for j in np.unique(m.joints[m.weights > 0])})
