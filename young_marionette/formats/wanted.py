"""How a clip is to be written."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from ..core.character.meshes import Character
    from ..core.clip import Clip
    from ..core.keys.keyed import KeyedClip


@dataclass(frozen=True)
class Wanted:
    """How a clip is to be written.

    ``metres_per_unit`` and ``up`` tell where the clip stands; BVH does not say it, glTF is always in metres with Y up, USD
    writes it down. ``body``: write the layout's meshes, of one ``level`` of detail where one is given, or ``character``,
    too. ``bones``: pairs of a VRM bone and a joint's name. ``more``: other clips of the same skeleton in the same file.
    ``extras``: plain data that goes with the clip, where the format can take it along.
    """

    metres_per_unit: float = 1.0
    up: str = "Y"
    body: bool = False
    character: Character | None = None
    bones: tuple[tuple[str, str], ...] = ()
    level: int | None = None
    more: tuple[Clip | KeyedClip, ...] = ()
    extras: Mapping[str, Any] | None = None


MOTION_ALONE = Wanted()
