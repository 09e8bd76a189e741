"""What a body over a skeleton is like: its meshes, levels of detail, morphs, and how it was bound."""

from __future__ import annotations

import numpy as np

from .. import rotations as rot
from ..figure.facts import Fact
from .meshes import bind_pose


def character_facts(skeleton, character, level):
    """Facts of a Character on its skeleton, both as read (tuple of Fact)."""
    meshes = character.at_level(level)
    count = sum(len(m.triangles) for m in meshes)
    facts = [
        Fact(
            "Body",
            f"{len(meshes)} mesh{'es' if len(meshes) > 1 else ''}, {count:,} triangles",
            f"skinned to {_carriers(meshes)} joints, in {len({m.material for m in meshes})} materials",
        )
    ]
    if len(character.levels) > 1:
        sizes = ", ".join(f"{sum(len(m.triangles) for m in character.at_level(n)):,}" for n in character.levels)
        facts.append(Fact("Detail", f"level {level}", f"{len(character.levels)} levels, of {sizes} triangles"))
    if character.morphs:
        shown = ", ".join(character.morphs[:4]) + (", …" if len(character.morphs) > 4 else "")
        facts.append(Fact("Morphs", str(len(character.morphs)), shown))
    pose, bound = bind_pose(skeleton, meshes)
    apart = np.degrees(rot.angle(rot.multiply(rot.conjugate(skeleton.rest), pose)))
    worst = int(np.argmax(np.where(bound, apart, 0)))
    if apart[worst] > 0.5:
        told = f"up to {apart[worst]:.0f}° apart, at {skeleton.names[worst]}"
        facts.append(Fact("Bind pose", "differs from the rest pose", told))
    else:
        facts.append(Fact("Bind pose", "same as the rest pose", "the skin compared with the joints at rest"))
    return tuple(facts)


def _carriers(meshes):
    return len({int(j) for m in meshes for j in np.unique(m.joints[m.weights > 0])})
