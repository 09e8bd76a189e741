"""Time of a whole clip: a stretch of it, backwards, held at some frames, slower here and quicker there."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, ClassVar

import numpy as np

from ..errors import InputError
from ..resample import sampled
from .edits import QUICKEST, SLOWEST

if TYPE_CHECKING:
    from ..clip import Clip
    from ..contacts.contact import Contacts

LONGEST = 600.0  # seconds of a hold


@dataclass(frozen=True)
class Time:
    """``first``, ``last``: the stretch that is left, both included (None: to the end). ``backwards``: its end comes first.

    ``speeds``: pairs of a frame and how quick it is there, 1 as it was; between them it changes evenly, outside it stays.
    ``holds``: pairs of a frame and the seconds that it stands still. Frames count in what comes into the pass.
    """

    first: int = 0
    last: int | None = None
    backwards: bool = False
    speeds: tuple[tuple[int, float], ...] = ()
    holds: tuple[tuple[int, float], ...] = ()

    code: ClassVar[str] = "time"
    halo: ClassVar[float] = np.inf

    def check(self) -> None:
        """InputError for speeds and times that can't be."""
        for frame, speed in self.speeds:
            if not SLOWEST <= speed <= QUICKEST:
                raise InputError(
                    f"A speed of {speed * 100:g} % at frame {frame} can't be used; give {SLOWEST:.0%} to {QUICKEST:.0%}."
                )
        for frame, seconds in self.holds:
            if not 0 < seconds <= LONGEST:
                raise InputError(f"Frame {frame} can't be held for {seconds:g} s; give up to {LONGEST:g}.")

    def _span(self, frames: int) -> tuple[int, int]:
        last = frames - 1 if self.last is None else min(self.last, frames - 1)
        return (self.first, last) if 0 <= self.first <= last else (0, frames - 1)

    def _marks(self, frames: int, rate: float) -> tuple[np.ndarray, np.ndarray]:
        """``(seconds, frames that come in)``: where the result is at marks between which it goes on evenly."""
        first, last = self._span(frames)
        speeds = sorted(self.speeds) or [(first, 1.0)]
        at = np.arange(first, last + 1, dtype=float)
        slow = 1 / np.interp(at, [float(frame) for frame, _ in speeds], [speed for _, speed in speeds])
        times = np.concatenate([[0.0], np.cumsum((slow[1:] + slow[:-1]) / 2)]) / rate
        seconds = dict(sorted(self.holds))
        marks_t, marks_f, late = [], [], 0.0
        for frame, time in zip(at.astype(int).tolist(), times.tolist()):
            marks_t.append(time + late)
            marks_f.append(frame)
            if frame in seconds:
                late += seconds[frame]
                marks_t.append(time + late)
                marks_f.append(frame)
        t, f = np.array(marks_t), np.array(marks_f, float)
        return (t[-1] - t[::-1], f[::-1]) if self.backwards else (t, f)

    def comes_from(self, frame: int, frames: int, rate: float) -> int:
        """The frame of what comes in, of so many, that stands at a frame of the result."""
        return round(float(np.interp(frame / rate, *self._marks(frames, rate))))

    def length(self, frames: int, rate: float) -> int:
        """How many frames come out of so many."""
        times, _ = self._marks(frames, rate)
        return int(np.floor(times[-1] * rate + 0.5)) + 1

    def run(self, clip: Clip, contacts: Contacts) -> tuple[Clip, Contacts]:
        """The clip and its contacts in their new time."""
        times, at = self._marks(clip.frames, clip.rate)
        count = self.length(clip.frames, clip.rate)
        made = sampled(clip, np.interp(np.arange(count) / clip.rate, times, at), smooth=True)
        first, last = self._span(clip.frames)
        found = []
        for contact in contacts.found:
            a, b = max(contact.first, first), min(contact.last, last)
            if a > b:
                continue
            inside = np.flatnonzero((at >= a) & (at <= b))
            start, end = times[inside[0]] * clip.rate, times[inside[-1]] * clip.rate
            start, end = int(np.ceil(start - 1e-6)), min(int(np.floor(end + 1e-6)), count - 1)
            if start <= end:
                found.append(replace(contact, first=start, last=end))
        order = {point: n for n, point in enumerate(dict.fromkeys(c.point for c in contacts.found))}
        found.sort(key=lambda c: (order[c.point], c.first))
        return replace(made, start=0.0), replace(contacts, found=tuple(found), touches=())
