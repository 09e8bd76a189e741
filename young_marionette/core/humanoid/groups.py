"""Groups of bones that people treat alike: trunk, head, an arm with its hand, its fingers, a leg."""

from __future__ import annotations

from typing import TYPE_CHECKING

from .words import FINGERS

if TYPE_CHECKING:
    from ..skeleton import Skeleton
    from .reading import Body

HIPS, SPINE, HEAD, OTHER, FACE = "hips", "spine", "neck and head", "other bones", "face"
SIDED = ("arm", "fingers", "leg")
GROUPS = (HIPS, SPINE, HEAD, *(f"{side} {group}" for side in ("left", "right") for group in SIDED), OTHER, FACE)
_OF_PART = {
    "root": HIPS, "hips": HIPS, "spine": SPINE, "neck": HEAD, "head": HEAD, "eye": HEAD, "jaw": HEAD,
    **dict.fromkeys(("collarbone", "upper arm", "forearm", "hand"), "arm"),
    **dict.fromkeys(FINGERS, "fingers"),
    **dict.fromkeys(("thigh", "shin", "foot", "toes"), "leg"),
}  # fmt: skip


def group_of(part: str) -> str | None:
    """The group that a part of the body belongs to, such as that of "left forearm twist"; None for another part."""
    side, _, rest = part.partition(" ")
    if side not in ("left", "right"):
        side, rest = "", part
    group = _OF_PART.get(rest.removesuffix(" twist"))
    return f"{side} {group}" if group in SIDED and side else group


def groups(skeleton: Skeleton, body: Body | None, morphs: tuple[str, ...] = ()) -> dict[str, tuple[str, ...]]:
    """The names of the joints in each group, in the order of GROUPS, and of the morphs; groups without any are left out.

    A bone that is no part of the body goes with the one that it hangs on.
    """
    of = {joint: group_of(part) for part, run in (body.parts if body else {}).items() for joint in run}
    names: dict[str, list[str]] = {group: [] for group in GROUPS}
    told: list[str] = []
    for joint, parent in enumerate(map(int, skeleton.parents)):
        group = of.get(joint) or (told[parent] if parent >= 0 else OTHER)
        told.append(group)
        names[group].append(skeleton.names[joint])
    names[FACE] = list(morphs)
    return {group: tuple(members) for group, members in names.items() if members}
