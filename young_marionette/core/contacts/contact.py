"""Contacts of a clip: which point is held still, when, and where."""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, TypeVar

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator


@dataclass(frozen=True)
class Contact:
    """A point that is held still from frame ``first`` to frame ``last``, both included.

    ``height``: of the point over the floor, metres. ``slide``: the farthest that it is from the middle of its places, metres.
    ``held``: at a height of its own, not on the floor. ``by_hand``: drawn, or next to where something was drawn.
    """

    point: str
    first: int
    last: int
    height: float = 0.0
    slide: float = 0.0
    held: bool = False
    by_hand: bool = False

    @property
    def frames(self) -> int:
        return self.last - self.first + 1


@dataclass(frozen=True)
class Touch:
    """A hand (``side``: left or right, or both on each other) that touches ``to``, a part of the body, in some frames."""

    side: str
    to: str
    first: int
    last: int


_Stretch = TypeVar("_Stretch", Contact, Touch)


@dataclass(frozen=True, eq=False)
class Contacts:
    """What a clip touches: ``found``, in the order of points and frames; ``floor``: where the floor is, metres.

    ``touches``: of hands on the own body and on each other, which move along.
    """

    found: tuple[Contact, ...] = ()
    floor: float = 0.0
    rate: float = 30.0
    touches: tuple[Touch, ...] = ()
    by_point: dict[str, tuple[Contact, ...]] = field(init=False)

    def __post_init__(self) -> None:
        names = dict.fromkeys(c.point for c in self.found)
        object.__setattr__(self, "by_point", {n: tuple(c for c in self.found if c.point == n) for n in names})

    def in_frames(self, first: int, last: int, rate: float) -> Contacts:
        """Of the frames ``first`` to ``last`` of the clip, counted anew from 0, at another rate."""
        share = rate / self.rate

        def moved(stretches: Iterable[_Stretch]) -> Iterator[_Stretch]:
            for one in stretches:
                start = math.ceil((max(one.first, first) - first) * share - 1e-6)
                end = int((min(one.last, last) - first) * share + 1e-6)
                if one.last >= first and one.first <= last and end >= start:
                    yield replace(one, first=start, last=end)

        return Contacts(tuple(moved(self.found)), self.floor, rate, tuple(moved(self.touches)))

    def of(self, point: str) -> tuple[Contact, ...]:
        """The contacts of one point, in order."""
        return self.by_point.get(point, ())
