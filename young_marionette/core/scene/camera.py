"""The stage's camera: it circles a target, and glides from view to view."""

from __future__ import annotations

import time
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

import numpy as np

if TYPE_CHECKING:
    pass


FIELD = np.radians(32)
GLIDE = 0.28
LOOSE = 0.13  # how far figures may go before the camera goes along, as a share of its distance
VIEWS = {"front": (0.0, 0.06), "side": (np.pi / 2, 0.06), "top": (0.0, np.pi / 2 - 0.001), "corner": (0.5, 0.2)}


@dataclass(frozen=True)
class Pose:
    """``yaw`` 0 looks at the figure's front; ``pitch`` up to pi/2 looks down (radians); metres."""

    target: tuple = (0.0, 0.9, 0.0)
    yaw: float = 0.42
    pitch: float = 0.16
    distance: float = 5.0
    _matrices: dict = field(default_factory=dict, init=False, compare=False, repr=False)

    @property
    def eye(self) -> np.ndarray:
        flat = np.cos(self.pitch)
        way = np.array([np.sin(self.yaw) * flat, np.sin(self.pitch), np.cos(self.yaw) * flat])
        return np.array(self.target) + self.distance * way

    @property
    def axes(self) -> np.ndarray:
        """Right, up and back of the view, as rows ``(3, 3)``."""
        back = (self.eye - self.target) / self.distance
        right = np.array([np.cos(self.yaw), 0.0, -np.sin(self.yaw)])
        return np.stack([right, np.cross(back, right), back])

    def size_at(self, place: np.ndarray, height: float) -> float:
        """The metres that a pixel covers at a place ``(3,)`` of the world, in a view ``height`` pixels high."""
        depth = float((self.eye - np.asarray(place)) @ self.axes[2])
        return 2 * float(np.tan(FIELD / 2)) * max(depth, 0.05) / max(height, 1)

    def matrix(self, aspect: float) -> np.ndarray:
        """Projection times view, ``(4, 4)``, for column vectors."""
        if aspect not in self._matrices:
            self._matrices.clear()
            self._matrices[aspect] = self._matrix(aspect)
        return self._matrices[aspect]

    def _matrix(self, aspect: float) -> np.ndarray:
        near, far = max(0.02, self.distance * 0.02), self.distance * 6 + 60
        view = np.eye(4)
        view[:3, :3] = self.axes
        view[:3, 3] = -self.axes @ self.eye
        scale = 1 / np.tan(FIELD / 2)
        projection = np.zeros((4, 4))
        projection[0, 0], projection[1, 1] = scale / aspect, scale
        projection[2, 2], projection[2, 3] = (far + near) / (near - far), 2 * far * near / (near - far)
        projection[3, 2] = -1
        return projection @ view


class Camera:
    """The present pose, on its way to a goal."""

    def __init__(self) -> None:
        self._from = self._goal = Pose()
        self._since = 0.0
        self._seen: np.ndarray | None = None
        self._last: np.ndarray | None = None  # where what moves was when the view was chosen, and is

    @property
    def pose(self) -> Pose:
        """Where the camera is just now."""
        share = min(1.0, (time.monotonic() - self._since) / GLIDE)
        share = share * share * (3 - 2 * share)
        if share >= 1 or self._from == self._goal:
            return self._goal
        a, b = self._from, self._goal
        mix = (1 - share) * np.array([*a.target, a.yaw, a.pitch, a.distance]) + share * np.array(
            [*b.target, b.yaw, b.pitch, b.distance]
        )
        return Pose(tuple(mix[:3]), *mix[3:])

    @property
    def moving(self) -> bool:
        return time.monotonic() - self._since < GLIDE and self._from != self._goal

    def glide(self, **changes: Any) -> None:
        """Move smoothly to a goal with some values changed."""
        goal = replace(self._goal, **changes)
        start = self.pose
        # The short way round.
        turns = round((start.yaw - goal.yaw) / (2 * np.pi))
        self._from, self._goal, self._since = start, replace(goal, yaw=goal.yaw + 2 * np.pi * turns), time.monotonic()
        self._seen = self._last

    def jump(self, **changes: Any) -> None:
        """Be at once where some values are changed."""
        self._goal = self._from = replace(self.pose, **changes)
        self._seen = self._last

    def orbit(self, dx: float, dy: float) -> None:
        """Turn by a way of the pointer in pixels."""
        pose = self.pose
        self.jump(yaw=pose.yaw - dx * 0.008, pitch=float(np.clip(pose.pitch + dy * 0.006, -0.3, np.pi / 2 - 0.001)))

    def pan(self, dx: float, dy: float, height: float) -> None:
        """Move sideways by a way of the pointer in pixels, in a view ``height`` pixels high."""
        pose = self.pose
        step = 2 * np.tan(FIELD / 2) * pose.distance / max(height, 1)
        target = np.array(pose.target) - pose.axes[0] * dx * step + pose.axes[1] * dy * step
        self.jump(target=tuple(target))

    def zoom(self, factor: float) -> None:
        """Come nearer (factor under 1) or go away."""
        self.jump(distance=float(np.clip(self.pose.distance * factor, 0.3, 200.0)))

    def follow(self, target: np.ndarray) -> None:
        """Keep the target on a moving point ``(3,)`` (metres)."""
        self._shift(np.array(target) - self._goal.target)

    def go_along(self, place: np.ndarray) -> None:
        """Keep what moves in the picture: rest while ``place (3,)`` (metres) is near where it was last seen, and go along beyond."""
        self._last = np.array(place, float)
        seen = self._seen = self._last if self._seen is None else self._seen
        way = self._last - seen
        length = np.linalg.norm(way)
        if length > LOOSE * self._goal.distance:
            way = way * (1 - LOOSE * self._goal.distance / length)
            self._seen = seen + way
            self._shift(way)

    def _shift(self, shift: np.ndarray) -> None:
        if np.abs(shift).max() > 1e-6:
            self._goal = replace(self._goal, target=tuple(np.array(self._goal.target) + shift))
            self._from = replace(self._from, target=tuple(np.array(self._from.target) + shift))

    def look_at(self, points: np.ndarray, aspect: float = 1.0, glide: bool = True) -> None:
        """Frame points ``(n, 3)`` so that all are in view."""
        low, high = points.min(0), points.max(0)
        middle, axes = (low + high) / 2, self._goal.axes
        reach = np.abs((points - middle) @ axes.T)
        half = np.tan(FIELD / 2)
        distance = float(np.max(np.maximum(reach[:, 1] / half, reach[:, 0] / (half * aspect)) * 1.22 + reach[:, 2]))
        (self.glide if glide else self.jump)(target=tuple(middle), distance=float(np.clip(distance, 0.5, 200)))


def project(matrix: np.ndarray, points: np.ndarray, width: float, height: float) -> tuple[np.ndarray, np.ndarray]:
    """Screen places ``(n, 2)`` in pixels and depths ``(n,)`` of world points ``(n, 3)``."""
    homogeneous = np.concatenate([points, np.ones((len(points), 1))], 1) @ matrix.T
    w = np.where(np.abs(homogeneous[:, 3]) < 1e-9, 1e-9, homogeneous[:, 3])
    flat = homogeneous[:, :2] / w[:, None]
    return np.stack([(flat[:, 0] + 1) * width / 2, (1 - flat[:, 1]) * height / 2], 1), w
