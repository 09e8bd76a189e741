"""Bone names of open conventions, and giving a skeleton the names of a convention or of another rig."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from ..humanoid.parts import SIDES
from ..humanoid.words import FINGERS
from ..names import free_name
from .tying import tie

if TYPE_CHECKING:
    from ..humanoid.reading import Body
    from ..skeleton import Skeleton
    from .tying import String


_VRM_LIMBS = {
    "collarbone": "Shoulder",
    "upper arm": "UpperArm",
    "forearm": "LowerArm",
    "hand": "Hand",
    "thigh": "UpperLeg",
    "shin": "LowerLeg",
    "foot": "Foot",
    "toes": "Toes",
}
_H_ANIM_LIMBS = {
    "collarbone": "sternoclavicular",
    "upper arm": "shoulder",
    "forearm": "elbow",
    "hand": "radiocarpal",
    "thigh": "hip",
    "shin": "knee",
    "foot": "talocrural",
    "toes": "metatarsophalangeal_2",
}


def _vrm() -> dict[str, tuple[str, ...]]:
    """VRM 1.0 humanoid bones, from part to the names along its run."""
    names = {"hips": ("hips",), "spine": ("spine", "chest", "upperChest"), "neck": ("neck",), "head": ("head",)}
    for side in SIDES:
        names.update({f"{side} {part}": (side + word,) for part, word in _VRM_LIMBS.items()})
        for finger in FINGERS:
            ends = ("Metacarpal", "Proximal", "Distal") if finger == "thumb" else ("Proximal", "Intermediate", "Distal")
            names[f"{side} {finger}"] = tuple(f"{side}{finger.capitalize()}{end}" for end in ends)
    return names


def _h_anim() -> dict[str, tuple[str, ...]]:
    """H-Anim (ISO/IEC 19774-1:2019) joints, from part to the names along its run."""
    spine = [f"vl{i}" for i in range(5, 0, -1)] + [f"vt{i}" for i in range(12, 0, -1)]
    names = {
        "root": ("humanoid_root",),
        "hips": ("sacroiliac",),
        "spine": tuple(spine),
        "neck": tuple(f"vc{i}" for i in range(7, 0, -1)),
        "head": ("skullbase",),
    }
    for side in SIDES:
        s = side[0]
        names.update({f"{side} {part}": (f"{s}_{word}",) for part, word in _H_ANIM_LIMBS.items()})
        names[f"{side} thumb"] = (
            f"{s}_carpometacarpal_1",
            f"{s}_metacarpophalangeal_1",
            f"{s}_carpal_interphalangeal_1",
        )
        for number, finger in enumerate(FINGERS[1:], 2):
            names[f"{side} {finger}"] = (
                f"{s}_metacarpophalangeal_{number}",
                f"{s}_carpal_proximal_interphalangeal_{number}",
                f"{s}_carpal_distal_interphalangeal_{number}",
            )
    return names


HUMANOID = frozenset(name for run in _vrm().values() for name in run)
CONVENTIONS = {"vrm": ("VRM 1.0", _vrm()), "h-anim": ("H-Anim", _h_anim())}


def _along(run: Sequence[str], names: tuple[str, ...]) -> list[tuple[str, str]]:
    """Pair a run of bones with a run of names: one to one, or spread so that the ends agree."""
    count = min(len(run), len(names))
    if count == 1:
        return [(run[0], names[0])]
    pick = [np.linspace(0, len(side) - 1, count).round().astype(int) for side in (run, names)]
    return [(run[i], names[k]) for i, k in zip(*pick)]


def convention_names(skeleton: Skeleton, body: Body, convention: str) -> dict[str, str]:
    """``{old name: new name}`` by a convention of ``CONVENTIONS``; bones that it has no name for are left out."""
    wanted = CONVENTIONS[convention][1]
    pairs = [
        pair
        for part, run in body.parts.items()
        if part in wanted
        for pair in _along([skeleton.names[j] for j in run], wanted[part])
    ]
    return _without_clashes(skeleton, dict(pairs))


def tied_names(
    strings: tuple[String, ...], skeleton: Skeleton, convention: str
) -> tuple[dict[str, str], tuple[tuple[str, str], ...]]:
    """``({old name: new name}, pairs of a convention's bone and its new name)``: target bones as they were tied."""
    wanted = CONVENTIONS[convention][1]
    pairs = [pair for s in strings if s.part in wanted for pair in _along(s.target, wanted[s.part])]
    names = dict(pairs)
    return _without_clashes(skeleton, names), tuple((new, new) for new in names.values())


def learned_names(skeleton: Skeleton, body: Body, rig: Skeleton, rig_body: Body) -> dict[str, str]:
    """``{old name: new name}`` as a rig names the bones at the same places, and by its prefix for the rest."""
    pairs = [
        pair
        for s in tie(skeleton, body, rig, rig_body)
        for pair in _along(s.source, s.target)
        if not (s.part.endswith(" twist") and len(s.source) != len(s.target)) and pair is not None
    ]
    names = {}
    for old, new in pairs:
        names.setdefault(old, new)
    root, rig_root = body.parts.get("root"), rig_body.parts.get("root")
    if root and rig_root:
        names[skeleton.names[root[0]]] = rig.names[rig_root[0]]
    return _without_clashes(skeleton, names)


def _without_clashes(skeleton: Skeleton, names: dict[str, str]) -> dict[str, str]:
    """Names, with bones that keep theirs told apart from those that are named alike now."""
    result, taken = dict(names), set(names.values())
    for name in skeleton.names:
        if name not in names:
            new = free_name(name, taken, "{}_{}")
            taken.add(new)
            if new != name:
                result[name] = new
    return result
