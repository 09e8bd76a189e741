"""Recordings of markers: points in space over time. They are never changed."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from .. import rotations as rot
from ..skeleton import Filled


@dataclass(frozen=True, eq=False)
class Recording:
    """Points over time.

    ``labels``: one per marker, all different. ``points (frames, markers, 3)``: NaN where a marker was not seen, in the
    file's unit and axes, or in our world (metres, Y up) once it is placed. ``rate``: frames per second. ``first``: the
    number that the file gives its first frame. ``residuals (frames, markers)``: how sure the recording system was of each
    point, in the unit of the points, NaN where that is not told; or None. ``unlabelled (markers,)``: those that the file
    has no label for.
    """

    name: str
    labels: tuple[str, ...]
    points: np.ndarray
    rate: float
    first: int = 0
    residuals: Filled = None
    unlabelled: Filled = field(default=None)

    def __post_init__(self) -> None:
        put = object.__setattr__
        put(self, "labels", tuple(self.labels))
        put(self, "points", np.asarray(self.points, float))
        count = len(self.labels)
        if self.points.shape != (len(self.points), count, 3):
            raise ValueError("points must be (frames, markers, 3)")
        if len(set(self.labels)) != count:
            raise ValueError("labels must differ")
        unlabelled = np.zeros(count, bool) if self.unlabelled is None else np.asarray(self.unlabelled, bool)
        put(self, "unlabelled", unlabelled)
        if self.residuals is not None:
            put(self, "residuals", np.asarray(self.residuals, float).reshape(self.points.shape[:2]))
        if not self.rate > 0:
            raise ValueError("the rate must be above zero")

    def __len__(self) -> int:
        return len(self.labels)

    @property
    def frames(self) -> int:
        """The number of frames."""
        return len(self.points)

    @property
    def seconds(self) -> float:
        """From the first to the last frame, in seconds."""
        return max(self.frames - 1, 0) / self.rate

    @cached_property
    def seen(self) -> np.ndarray:
        """Where markers are seen ``(frames, markers)``."""
        return np.isfinite(self.points).all(-1)

    @cached_property
    def index(self) -> dict[str, int]:
        """From label to the marker's number."""
        return {label: i for i, label in enumerate(self.labels)}

    @cached_property
    def digest(self) -> str:
        """A text that is equal only for recordings that are alike to the last bit."""
        digest = hashlib.sha256("\n".join([repr(self.rate), *self.labels]).encode("utf-8", "surrogatepass"))
        digest.update(np.ascontiguousarray(self.points).view(np.uint8).data)
        return digest.hexdigest()

    def moved(self, scale: float, turn: np.ndarray, way: np.ndarray | None = None) -> Recording:
        """In another world: scaled, then turned by a quaternion ``(4,)``, then moved by ``way (3,)``."""
        points = rot.rotate(turn, self.points * scale) + (0.0 if way is None else way)
        return replace(self, points=points, residuals=None if self.residuals is None else self.residuals * scale)

    def cut(self, first: int, last: int) -> Recording:
        """The frames ``first`` to ``last``, both included, counted from 0."""
        span = slice(first, last + 1)
        residuals = None if self.residuals is None else self.residuals[span]
        return replace(self, points=self.points[span], residuals=residuals, first=self.first + first)

    def picked(self, markers: list[int] | np.ndarray) -> Recording:
        """Some of the markers, by their numbers."""
        markers = np.asarray(markers, int)
        residuals = None if self.residuals is None else self.residuals[:, markers]
        return replace(
            self,
            labels=tuple(self.labels[i] for i in markers),
            points=self.points[:, markers],
            residuals=residuals,
            unlabelled=self.unlabelled[markers],
        )
