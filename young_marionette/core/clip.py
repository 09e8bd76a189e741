"""Clips: motion on a skeleton with a pose on every frame. They are never changed."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from .skeleton import Filled, Skeleton


def as_rows(array):
    """``(frames, joints, n)`` as contiguous ``(joints, n, frames)``; free for a clip's own arrays."""
    return np.ascontiguousarray(np.moveaxis(array, 0, -1))


def from_rows(rows):
    """The view ``(frames, joints, n)`` of rows ``(joints, n, frames)``."""
    return np.moveaxis(rows, -1, 0)


@dataclass(frozen=True, eq=False)
class Clip:
    """Motion on a skeleton, a pose on every frame.

    ``rate``: frames per second. ``rotations (frames, joints, 4)``: local. ``moving (m,)``: the
    joints that also have positions; ``translations (frames, m, 3)``: those, in metres, in the
    parent's axes, in place of the joint's offset. Arrays lie in memory as rows (see ``as_rows``).
    ``curves`` names further channels, such as the weights of morphs; ``values (frames, curves)`` holds them.
    """

    name: str
    skeleton: Skeleton
    rate: float
    rotations: np.ndarray
    moving: np.ndarray = field(default_factory=lambda: np.zeros(0, int))
    translations: Filled = None
    curves: tuple[str, ...] = ()
    values: Filled = None

    def __post_init__(self):
        put = object.__setattr__
        put(self, "rotations", from_rows(as_rows(np.asarray(self.rotations, float))))
        put(self, "moving", np.asarray(self.moving, int))
        moved = np.zeros((len(self.rotations), 0, 3)) if self.translations is None else self.translations
        put(self, "translations", from_rows(as_rows(np.asarray(moved, float))))
        frames = len(self.rotations)
        if self.rotations.shape != (frames, len(self.skeleton), 4):
            raise ValueError("rotations must be (frames, joints, 4)")
        if self.translations.shape != (frames, len(self.moving), 3):
            raise ValueError("translations must be (frames, moving, 3)")
        put(self, "curves", tuple(self.curves))
        values = np.zeros((frames, 0)) if self.values is None else self.values
        put(self, "values", np.asarray(values, float).reshape(frames, len(self.curves)))
        if not self.rate > 0:
            raise ValueError("the rate must be above zero")

    @cached_property
    def digest(self):
        """A text that is equal only for clips whose motion is alike to the last bit, whatever they are called."""
        digest = hashlib.sha256("\n".join((self.skeleton.digest, repr(self.rate), *self.curves)).encode())
        for array in (as_rows(self.rotations), self.moving, as_rows(self.translations), self.values):
            digest.update(np.ascontiguousarray(array).tobytes())
        return digest.hexdigest()

    @property
    def frames(self):
        """The number of frames."""
        return len(self.rotations)

    @property
    def seconds(self):
        """From the first to the last frame, in seconds."""
        return max(self.frames - 1, 0) / self.rate

    def cut(self, first, last):
        """The frames ``first`` to ``last``, both included."""
        kept = slice(first, last + 1)
        return replace(
            self, rotations=self.rotations[kept], translations=self.translations[kept], values=self.values[kept]
        )
