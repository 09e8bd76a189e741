"""Clips: motion on a skeleton with a pose on every frame. They are never changed."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from .skeleton import Filled, Skeleton

_BLOCK = 12_288  # frames


def blocks(frames: int) -> Iterator[slice]:
    """Parts of long clips to be worked out one by one, so that what comes about on the way takes little memory."""
    for start in range(0, frames, _BLOCK):
        yield slice(start, min(start + _BLOCK, frames))


def as_rows(array: np.ndarray) -> np.ndarray:
    """``(frames, joints, n)`` as contiguous ``(joints, n, frames)``; free for a clip's own arrays."""
    return np.ascontiguousarray(np.moveaxis(array, 0, -1))


def from_rows(rows: np.ndarray) -> np.ndarray:
    """The view ``(frames, joints, n)`` of rows ``(joints, n, frames)``."""
    return np.moveaxis(rows, -1, 0)


@dataclass(frozen=True, eq=False)
class Clip:
    """Motion on a skeleton, a pose on every frame; the result of evaluating anything.

    ``rate``: frames per second. ``rotations (frames, joints, 4)``: local. ``moving (m,)``: the joints that also have
    positions; ``translations (frames, m, 3)``: those, in metres, in the parent's axes, in place of the joint's offset.
    ``morphs``: names; ``weights (frames, morphs)``: theirs. ``scaled (s,)``: joints whose own axes change their size;
    ``scales (frames, s, 3)``: as factors of those at rest. ``start``: seconds of the first frame in its file.
    Rotations and translations lie in memory as rows (see ``as_rows``).
    """

    name: str
    skeleton: Skeleton
    rate: float
    rotations: np.ndarray
    moving: np.ndarray = field(default_factory=lambda: np.zeros(0, int))
    translations: Filled = None
    morphs: tuple[str, ...] = ()
    weights: Filled = None
    scaled: np.ndarray = field(default_factory=lambda: np.zeros(0, int))
    scales: Filled = None
    start: float = 0.0

    def __post_init__(self) -> None:
        put = object.__setattr__
        put(self, "rotations", from_rows(as_rows(np.asarray(self.rotations, float))))
        frames = len(self.rotations)
        if self.rotations.shape != (frames, len(self.skeleton), 4):
            raise ValueError("rotations must be (frames, joints, 4)")
        for joints, values in (("moving", "translations"), ("scaled", "scales")):
            put(self, joints, np.asarray(getattr(self, joints), int))
            given = getattr(self, values)
            none = given is None or (not len(getattr(self, joints)) and not np.size(given))
            array = np.zeros((frames, 0, 3)) if none else np.asarray(given, float)
            put(self, values, from_rows(as_rows(array)))
            if array.shape != (frames, len(getattr(self, joints)), 3):
                raise ValueError(f"{values} must be (frames, {joints}, 3)")
        put(self, "morphs", tuple(self.morphs))
        weights = np.zeros((frames, 0)) if self.weights is None else self.weights
        put(self, "weights", np.asarray(weights, float).reshape(frames, len(self.morphs)))
        if not self.rate > 0:
            raise ValueError("the rate must be above zero")

    def __repr__(self) -> str:
        return f"Clip({self.name!r}, {len(self.skeleton)} joints, {self.frames} frames at {self.rate:g} per second)"

    @cached_property
    def digest(self) -> str:
        """A text that is equal only for clips whose motion is alike to the last bit, whatever they are called."""
        words = [self.skeleton.digest, repr(self.rate), *self.morphs]
        arrays = [as_rows(self.rotations), self.moving, as_rows(self.translations), self.weights]
        # What most clips have none of is left out, so that texts kept by earlier versions stay the same.
        if self.start:
            words.append(f"start {self.start!r}")
        if len(self.scaled):
            arrays += [self.scaled, as_rows(self.scales)]
        digest = hashlib.sha256("\n".join(words).encode("utf-8", "surrogatepass"))
        for array in arrays:
            digest.update(np.ascontiguousarray(array).reshape(-1).view(np.uint8).data)
        return digest.hexdigest()

    @property
    def frames(self) -> int:
        """The number of frames."""
        return len(self.rotations)

    @property
    def seconds(self) -> float:
        """From the first to the last frame, in seconds."""
        return max(self.frames - 1, 0) / self.rate

    @property
    def times(self) -> np.ndarray:
        """The seconds of all frames ``(frames,)``, ``start`` and on."""
        return self.start + np.arange(self.frames) / self.rate

    @property
    def scale_factors(self) -> dict[int, np.ndarray]:
        """``{joint: (frames, 3)}`` of the joints whose scales change."""
        return {int(joint): self.scales[:, i] for i, joint in enumerate(self.scaled)}

    @property
    def moves(self) -> dict[int, np.ndarray]:
        """``{joint: (frames, 3)}`` of the joints that have positions."""
        return {int(joint): self.translations[:, i] for i, joint in enumerate(self.moving)}

    def move_of(self, joint: int) -> np.ndarray:
        """The positions ``(frames, 3)`` of a joint; where it has none of its own, its offset."""
        return self.moves.get(joint, np.broadcast_to(self.skeleton.offsets[joint], (self.frames, 3)))

    def with_moves(self, moves: Mapping[int, np.ndarray]) -> Clip:
        """With other positions: ``{joint: (frames, 3), or (3,) for all}``."""
        joints = sorted(moves)
        rows = np.empty((self.frames, len(joints), 3))
        for i, joint in enumerate(joints):
            rows[:, i] = moves[joint]
        return replace(self, moving=np.array(joints, int), translations=rows)

    def picked(self, frames: slice | np.ndarray) -> Clip:
        """Some frames, as a slice or their numbers pick them, at the same rate; the start stays."""
        return replace(
            self,
            rotations=self.rotations[frames],
            translations=self.translations[frames],
            weights=self.weights[frames],
            scales=self.scales[frames],
        )

    def cut(self, first: int, last: int) -> Clip:
        """The frames ``first`` to ``last``, both included."""
        return replace(self.picked(slice(first, last + 1)), start=self.start + first / self.rate)
