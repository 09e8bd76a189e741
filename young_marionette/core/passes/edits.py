"""Plain edits of whole stretches: offset, scale, and another speed or rate. Each is a value that says what to do."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from .. import rotations as rot
from ..clip import Clip
from ..contacts.contact import Contacts
from ..errors import InputError
from ..filters.motion import MORPH, POSITION, ROTATION, Channel, Scope, changed
from ..resample import MAX_RATE, resample
from ..settings import check, number

SLOWEST, QUICKEST = 0.01, 100.0
Three = tuple[float, float, float]


@dataclass(frozen=True)
class Offset:
    """Added to every frame: a turn in the joint's own axes (``degrees``, about X, then Y, then Z), ``metres``, a ``weight``.

    ``seconds``: how much later the channels come; what comes in from outside stays as it is at the end.
    """

    degrees: Three = (0.0, 0.0, 0.0)
    metres: Three = (0.0, 0.0, 0.0)
    weight: float = number(0.0, least=-1e6, most=1e6)
    seconds: float = number(0.0, least=-600.0, most=600.0)

    def __post_init__(self) -> None:
        check(self)

    code: ClassVar[str] = "offset"

    @property
    def halo(self) -> float:
        return abs(self.seconds) + 0.1

    def run(self, channel: Channel, rate: float) -> np.ndarray:
        """The channel's rows, moved."""
        rows = channel.rows
        if self.seconds:
            rows = _later(rows, self.seconds * rate)
        if channel.kind == ROTATION and any(self.degrees):
            turn = rot.from_euler("ZYX", np.radians(self.degrees[::-1]))
            return np.stack([rot.multiply(values.T, turn).T for values in rows])
        if channel.kind == POSITION and any(self.metres):
            return rows + np.array(self.metres)[:, None]
        return rows + self.weight if channel.kind == MORPH and self.weight else rows


@dataclass(frozen=True)
class Scale:
    """How far values go from their mean, times ``factor``: below 1 less, above 1 more. Rotations turn about theirs."""

    factor: float = number(1.0, least=-100.0, most=100.0)

    def __post_init__(self) -> None:
        check(self)

    code: ClassVar[str] = "scale"
    halo: ClassVar[float] = np.inf  # the mean is that of all frames

    def run(self, channel: Channel, _rate: float) -> np.ndarray:
        """The channel's rows, scaled."""
        if channel.kind != ROTATION:
            mean = channel.rows.mean(axis=-1, keepdims=True)
            return mean + self.factor * (channel.rows - mean)
        return np.stack([self._turned(values.T).T for values in channel.rows])

    def _turned(self, turns: np.ndarray) -> np.ndarray:
        mean = rot.normalise(turns.mean(axis=0))
        away = rot.multiply(rot.conjugate(mean), turns)
        away = np.where(away[:, 3:] < 0, -away, away)
        return rot.continuous(rot.multiply(mean, rot.from_vector(self.factor * rot.to_vector(away))))


@dataclass(frozen=True)
class Retime:
    """The whole clip, quicker by ``speed``, at ``rate`` frames per second (None: as it was)."""

    speed: float = 1.0
    rate: float | None = None

    code: ClassVar[str] = "retime"
    halo: ClassVar[float] = np.inf

    def check(self) -> None:
        """InputError for a speed or a rate that can't be."""
        if not SLOWEST <= self.speed <= QUICKEST:
            raise InputError(f"A speed of {self.speed * 100:g} % can't be used; give {SLOWEST:.0%} to {QUICKEST:.0%}.")
        if self.rate is not None and not 0 < self.rate <= MAX_RATE:
            raise InputError(f"A rate of {self.rate:g} frames per second can't be used; give up to {MAX_RATE:g}.")

    def length(self, frames: int, rate: float) -> tuple[int, float]:
        """``(frames, frames per second)`` of what comes out."""
        new = self.rate or rate
        share = new / (rate * self.speed)
        if frames < 2 or abs(share - 1) < 1e-9:
            return frames, new
        return int(np.floor((frames - 1) * share + 0.5)) + 1, new

    def run(self, clip: Clip, contacts: Contacts) -> tuple[Clip, Contacts]:
        """The clip and its contacts at that speed and rate; InputError for a rate that can't be."""
        new = self.rate or clip.rate
        made = resample(replace(clip, rate=clip.rate * self.speed), new)
        moved = contacts.in_frames(0, clip.frames - 1, contacts.rate * new / (clip.rate * self.speed))
        return made, replace(moved, rate=new)


def edited(clip: Clip, edit: Offset | Scale, scope: Scope, first: int = 0, total: int | None = None) -> Clip:
    """``clip`` (from frame ``first`` of a longer one of ``total`` frames) with an edit, eased at the ends of its range."""
    return changed(clip, scope, lambda channel: edit.run(channel, clip.rate), first, total)


def _later(rows: np.ndarray, frames: float) -> np.ndarray:
    """Rows that come some frames later."""
    at = np.clip(np.arange(rows.shape[-1]) - frames, 0, rows.shape[-1] - 1)
    low = np.minimum(at.astype(int), max(rows.shape[-1] - 2, 0))
    high = np.minimum(low + 1, rows.shape[-1] - 1)
    return rows[..., low] + (rows[..., high] - rows[..., low]) * (at - low)
