"""A body that its file names bone by bone, as VRM does: nothing has to be guessed."""

from __future__ import annotations

import itertools
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from .beside import tell_beside
from .reading import Body
from .tree import Tree
from .words import FINGERS, LEFT, RIGHT, NameEvidence

if TYPE_CHECKING:
    from ..skeleton import Skeleton


_LEG = (("left thigh", "left shin"), ("left shin", "left foot"))
_LIMBS = {
    "Shoulder": "collarbone",
    "UpperArm": "upper arm",
    "LowerArm": "forearm",
    "Hand": "hand",
    "UpperLeg": "thigh",
    "LowerLeg": "shin",
    "Foot": "foot",
    "Toes": "toes",
}
_TRUNK = {"hips": "hips", "spine": "spine", "chest": "spine", "upperChest": "spine", "neck": "neck", "head": "head"}
_NEEDED = ("hips", "left thigh", "left shin", "left foot", "right thigh", "right shin", "right foot")


def part_of(bone: str) -> str | None:
    """The part of the body that a VRM 1.0 humanoid bone belongs to, or None (eyes, jaw)."""
    if bone in _TRUNK:
        return _TRUNK[bone]
    side = next((s for s in (LEFT, RIGHT) if bone.startswith(s)), None)
    if side is None:
        return None
    word = bone.removeprefix(side)
    if word in _LIMBS:
        return f"{side} {_LIMBS[word]}"
    finger = next((f for f in FINGERS if word.startswith(f.capitalize())), None)
    return f"{side} {finger}" if finger else None


def known_body(skeleton: Skeleton, bones: tuple[tuple[str, ...], ...], prefix: str | None = None) -> Body | None:
    """The Body that ``bones``, pairs of a VRM bone and a joint's name, tell; None where too little of it is named."""
    runs = {}
    for bone, name in bones:
        part = part_of(bone)
        if part and name in skeleton.index:
            runs.setdefault(part, []).append(skeleton.index[name])
    parts = {part: tuple(sorted(run)) for part, run in runs.items()}
    if not all(part in parts for part in _NEEDED):
        return None
    points = skeleton.rest_world[0]

    def at(part: str) -> np.ndarray:
        return points[parts[part][0]]

    top = at("head") if "head" in parts else points[parts["spine"][-1]] if "spine" in parts else None
    thighs = (at("left thigh") + at("right thigh")) / 2
    up = top - thighs if top is not None else thighs - (at("left foot") + at("right foot")) / 2
    across = at("left thigh") - at("right thigh")
    forward = np.cross(across, up)
    if min(np.linalg.norm(up), np.linalg.norm(forward)) < 1e-12:
        return None
    axis = int(np.argmax(np.abs(up)))
    straight = np.zeros(3)
    straight[axis] = np.sign(up[axis])
    forward = rot.normalise(np.cross(across - (across @ straight) * straight, straight))
    above = skeleton.ancestors(parts["hips"][0])
    if above:
        parts["root"] = (above[-1],)
    leg = sum(float(np.linalg.norm(at(b) - at(a))) for a, b in _LEG)
    trunk = [thighs, *(points[j] for part in ("spine", "neck", "head") for j in parts.get(part, ()))]
    stature = float(leg + sum(np.linalg.norm(b - a) for a, b in itertools.pairwise(trunk)))
    stature += _below(skeleton, parts["left foot"][0], straight, 0.05 * leg) + 0.13 * leg * ("head" in parts)
    certain = dict.fromkeys(parts, 1.0)
    names = NameEvidence(skeleton.names, prefix)
    beside = tell_beside(Tree(skeleton), names, parts, straight, forward)
    return Body(
        parts, certain, certain, straight, forward, "table", True, stature, False, names, True, beside
    )  # fmt: skip


def _below(skeleton: Skeleton, foot: int, up: np.ndarray, least: float) -> float:
    """How far the joints under a foot reach below it."""
    points = skeleton.rest_world[0]
    return max(least, *(float((points[foot] - points[j]) @ up) for j in skeleton.subtree(foot)))
