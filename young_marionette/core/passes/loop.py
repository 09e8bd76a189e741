"""A stretch of a clip as a loop, as a pass."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from ..clip import Clip
from ..contacts.contact import Contacts
from ..travel.loops import LEAST, closed
from .keeping import Limbs, put_back

_AGAIN = 0.15  # seconds


@dataclass(frozen=True)
class Loop:
    """Frames ``first`` to ``last`` (None: the end), closed over ``seconds`` at its end. What stands stays there."""

    first: int = 0
    last: int | None = None
    seconds: float = 0.4

    code: ClassVar[str] = "loop"
    halo: ClassVar[float] = np.inf

    def span(self, frames: int) -> tuple[int, int]:
        """First and last frame, of a clip that has so many; the whole of one that is too short for what is set."""
        last = frames - 1 if self.last is None else min(self.last, frames - 1)
        return (self.first, last) if 0 <= self.first <= last - LEAST else (0, frames - 1)

    def length(self, frames: int) -> int:
        """How many frames come out of so many."""
        first, last = self.span(frames)
        return last - first + 1

    def run(self, clip: Clip, contacts: Contacts, limbs: Limbs, keep: bool) -> tuple[Clip, Contacts]:
        """The loop and its contacts; a clip that is too short for one stays as it is."""
        if clip.frames <= LEAST:
            return clip, contacts
        first, last = self.span(clip.frames)
        made, inside = closed(clip, limbs.hips, first, last, self.seconds), contacts.in_frames(first, last, clip.rate)
        if keep:
            # Only what the change of pose moved: up to there it is to the last bit what it was.
            begun = last - first - round(self.seconds * clip.rate)
            moved = replace(inside, found=tuple(c for c in inside.found if c.last >= begun), touches=())
            kept = put_back(made, limbs, moved) if moved.found else made
            # Planting changes the ends a little: they are brought together once more, which takes much less.
            made = closed(kept, limbs.hips, 0, kept.frames - 1, _AGAIN) if kept is not made else made
        return made, inside
