"""How a BVH file lays out its joints: names as written, and channels in their order."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np

if TYPE_CHECKING:
    from ...core.skeleton import Skeleton


POSITIONS = ("Xposition", "Yposition", "Zposition")
ROTATIONS = ("Zrotation", "Xrotation", "Yrotation")


@dataclass(frozen=True)
class Layout:
    """``names``: as in the file. ``channels``: per joint, such as ``("Zrotation", "Xrotation", ...)``."""

    names: tuple[str, ...]
    channels: tuple[tuple[str, ...], ...]

    format = "BVH"
    character = None
    body_problem = ""
    drawn_in = ()
    expressions: ClassVar[dict] = {}

    def renamed(self, names: tuple[str, ...]) -> Layout:
        """The layout with other joint names."""
        return replace(self, names=tuple(names))

    def packed(self) -> tuple[dict[str, Any], None]:
        """``(plain data, bytes)`` to store it by."""
        return {"names": list(self.names), "channels": [list(c) for c in self.channels]}, None

    @classmethod
    def unpacked(cls, meta: dict[str, Any], _data: Any) -> Layout:
        """A layout that ``packed`` gave; ValueError for channels that the format does not have."""
        names, channels = tuple(map(str, meta["names"])), tuple(tuple(map(str, c)) for c in meta["channels"])
        known = {*POSITIONS, *ROTATIONS}
        if len(names) != len(channels) or any(set(c) - known or len(set(c)) < len(c) for c in channels):
            raise ValueError("channels that are none")
        return cls(names, channels)

    def for_motion(self, moving: set[int], turning: set[int]) -> Layout:
        """The layout with position channels on ``moving`` joints and three turns on ``turning`` ones."""
        result = []
        for joint, channels in enumerate(self.channels):
            turns = tuple(c for c in channels if c.endswith("rotation"))
            places = tuple(c for c in channels if c.endswith("position"))
            if joint in turning and len(turns) < 3:
                turns = ROTATIONS
            if joint in moving and len(places) < 3:
                places = POSITIONS
            kept = set(turns) == {c for c in channels if c.endswith("rotation")} and len(channels) == len(
                turns + places
            )
            result.append(channels if kept else places + turns)
        return Layout(self.names, tuple(result))


def default_layout(skeleton: Skeleton, moving: np.ndarray) -> Layout:
    """Three turns on every joint, in the order Z, X, Y, and places where joints move."""
    moved = {int(j) for j in moving} | {int(j) for j in range(len(skeleton)) if skeleton.parents[j] < 0}
    return Layout(
        skeleton.names, tuple(POSITIONS + ROTATIONS if j in moved else ROTATIONS for j in range(len(skeleton)))
    )
