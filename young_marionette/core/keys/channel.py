"""What a curve belongs to, by type: a joint or a morph, and what of it moves."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum


class Kind(Enum):
    """What of a node moves. ``rotation``: four components, of a unit quaternion; all else has none to keep."""

    ROTATION = "rotation"
    TRANSLATION = "translation"
    SCALE = "scale"
    WEIGHT = "weight"

    @property
    def width(self) -> int:
        """How many numbers a value has."""
        return _WIDTHS[self]


_WIDTHS = {Kind.ROTATION: 4, Kind.TRANSLATION: 3, Kind.SCALE: 3, Kind.WEIGHT: 1}


@dataclass(frozen=True)
class Joint:
    """A joint, by its number in the skeleton."""

    number: int


@dataclass(frozen=True)
class Morph:
    """A morph, or an expression, by its name."""

    name: str


@dataclass(frozen=True)
class Channel:
    """One thing of one node.

    >>> Channel(Joint(3), Kind.ROTATION).kind.width
    4
    """

    node: Joint | Morph
    kind: Kind
