"""The pass that keeps keys by value: what thinning made, and what was done to it by hand since."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from ..keys.keyed import KeyedClip


@dataclass(frozen=True)
class Keys:
    """``keyed``: the motion, on the placed rig. ``marks``: pairs of a frame and what made its pose a key (see thinning.MARKS).

    What lies beneath it does not count any more; ``beneath``: a text that changes with that, so that it can be told.
    """

    keyed: KeyedClip
    marks: tuple[tuple[int, str], ...] = ()
    beneath: str = ""

    code: ClassVar[str] = "keys"
    halo: ClassVar[float] = 0.0
