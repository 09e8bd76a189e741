"""What people choose about the contacts of a clip: other thresholds, for all or for a part, and contacts drawn by hand."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Iterator


USUAL = 1.7  # metres: the stature that heights are given for; they grow with the figure


@dataclass(frozen=True)
class Thresholds:
    """When a point touches. Speeds in m/s, the same for every frame rate; heights in metres for a figure of 1.7 m.

    A contact begins below ``speed`` and ``height`` over the floor, and lasts until ``slack`` times either is passed.
    ``held_speed``: for contacts at a height of their own (rungs, boards, walls), which begin slower. ``shortest``,
    ``shortest_held``, ``gap``: seconds; shorter contacts are none, shorter gaps between two are closed.
    """

    speed: float = 0.16
    height: float = 0.03
    slack: float = 1.9
    held_speed: float = 0.07
    shortest: float = 0.11
    shortest_held: float = 0.25
    gap: float = 0.07


@dataclass(frozen=True)
class Adjusted:
    """Other thresholds, ``((name, value), ...)``, for one point (None: all) in some frames (None: the whole clip)."""

    changes: tuple[tuple[str, float], ...]
    point: str | None = None
    frames: tuple[int, int] | None = None


@dataclass(frozen=True)
class Drawn:
    """Frames, both included, in which a point touches, or does not, whatever is found there."""

    point: str
    first: int
    last: int
    touches: bool


@dataclass(frozen=True)
class ContactChoices:
    """``adjusted``: from the widest to the narrowest; what comes later counts. ``drawn``: none lies over another."""

    adjusted: tuple[Adjusted, ...] = ()
    drawn: tuple[Drawn, ...] = ()

    def thresholds(self, point: str | None = None, frame: int | None = None) -> Thresholds:
        """The thresholds of all points, or of one, or of one in a frame."""
        limits = Thresholds()
        for one in self.adjusted:
            whole = one.frames is None or (frame is not None and one.frames[0] <= frame <= one.frames[1])
            if whole and one.point in (None, point):
                limits = replace(limits, **dict(one.changes))
        return limits

    def stretches(self, point: str) -> Iterator[tuple[slice, Thresholds]]:
        """``(frames, thresholds)`` of a point: the whole clip, then the stretches that have their own."""
        yield slice(None), self.thresholds(point)
        for one in self.adjusted:
            if one.frames is not None and one.point in (None, point):
                yield slice(one.frames[0], one.frames[1] + 1), self.thresholds(point, one.frames[0])

    def adjust(
        self, name: str, value: float | None, point: str | None, frames: tuple[int, int] | None
    ) -> ContactChoices:
        """With another threshold for a point (None: all) in some frames (None: all); a value of None lets it go."""
        kept = dict(next((o.changes for o in self.adjusted if (o.point, o.frames) == (point, frames)), ()))
        kept.pop(name, None)
        if value is not None:
            kept[name] = float(value)
        others = [o for o in self.adjusted if (o.point, o.frames) != (point, frames)]
        if kept:
            others.append(Adjusted(tuple(kept.items()), point, frames))
        # What is meant for one point goes over what is meant for all, a stretch over the whole clip.
        others.sort(key=lambda o: (o.frames is not None, o.point is not None))
        return replace(self, adjusted=tuple(others))

    def draw(self, point: str, first: int, last: int, touches: bool) -> ContactChoices:
        """With a point that touches, or does not, in some frames, both included."""
        return replace(self, drawn=(*self._without(point, first, last), Drawn(point, first, last, touches)))

    def let_go(self, point: str | None = None, frames: tuple[int, int] | None = None) -> ContactChoices:
        """Without what was drawn for a point (None: all) and reaches into some frames (None: all)."""
        first, last = frames if frames is not None else (0, 1 << 60)
        return replace(
            self,
            drawn=tuple(d for d in self.drawn if point not in (None, d.point) or d.last < first or d.first > last),
        )

    def _without(self, point: str, first: int, last: int) -> Iterator[Drawn]:
        """What is drawn, without what lies within some frames of a point."""
        for one in self.drawn:
            if one.point != point or one.last < first or one.first > last:
                yield one
                continue
            if one.first < first:
                yield replace(one, last=first - 1)
            if one.last > last:
                yield replace(one, first=last + 1)
