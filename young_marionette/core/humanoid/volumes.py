"""Simple volumes of a body: capsules for thighs, hips, belly, chest and head, from its skin or from its proportions."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..evaluator import EVALUATOR

if TYPE_CHECKING:
    from collections.abc import Iterator

    from ..character.meshes import Character
    from ..skeleton import Skeleton
    from .reading import Body

TRUNK = ("hips", "belly", "chest")
THIGHS = ("left thigh", "right thigh")
# Shares of the stature (after Drillis and Contini 1966, and breadths and depths of Winter 2009, rounded): half breadths
# beside the axis, and radii.
_WIDE = {"hips": 0.045, "belly": 0.035, "chest": 0.045, "head": 0.0}
_ROUND = {"hips": 0.062, "belly": 0.06, "chest": 0.066, "head": 0.062, "thigh": 0.044}
_MOSTLY = 0.55  # the share of a bone in a point of skin by which the point is the bone's


@dataclass(frozen=True, eq=False)
class Volume:
    """A capsule that goes with ``joint``: all that is within ``radius`` of the line from ``a`` to ``b (3,)`` (its axes, metres)."""

    part: str
    joint: int
    a: np.ndarray
    b: np.ndarray
    radius: float

    def line(self, places: np.ndarray, turns: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """The ends of its line ``(frames, 3)`` each, for ``places (frames, 3)`` and ``turns (frames, 4)`` of its joint."""
        return places + rot.rotate(turns, self.a), places + rot.rotate(turns, self.b)


def nearest(points: np.ndarray, a: np.ndarray, b: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """``(share along the line (frames,), the nearest place on it (frames, 3))`` of ``points (frames, 3)`` on lines a-b."""
    way = b - a
    long = np.sum(way * way, -1)
    share = np.clip(np.sum((points - a) * way, -1) / np.maximum(long, 1e-12), 0, 1)
    return share, a + share[..., None] * way


def volumes(skeleton: Skeleton, body: Body, character: Character | None = None) -> dict[str, Volume]:
    """The volumes of a body that stands upright in our world at rest (``body.stature`` in metres), by part."""
    return EVALUATOR.of(
        "volumes", (skeleton, body, character), lambda: {v.part: v for v in _volumes(skeleton, body, character)}
    )


def _volumes(skeleton: Skeleton, body: Body, character: Character | None) -> Iterator[Volume]:
    places, turns = skeleton.rest_world
    skin = _Skin(skeleton, character) if character is not None else None
    parts, tall = body.parts, body.stature
    side_ways = np.cross(body.up, body.forward)

    def made(part: str, joint: int, a: np.ndarray, b: np.ndarray, radius: float) -> Volume:
        back = rot.conjugate(turns[joint])
        return Volume(part, joint, rot.rotate(back, a - places[joint]), rot.rotate(back, b - places[joint]), radius)

    for side in ("left", "right"):
        if f"{side} thigh" in parts and f"{side} shin" in parts:
            thigh, shin = parts[f"{side} thigh"][0], parts[f"{side} shin"][0]
            a, b = places[thigh], places[shin]
            radius = _ROUND["thigh"] * tall
            if skin is not None:
                radius = skin.around(parts[f"{side} thigh"], a, b, radius)
            yield made(f"{side} thigh", thigh, a, b, radius)
    hips = parts["hips"][0]
    spine = parts.get("spine", ())
    legs = [places[parts[f"{s} thigh"][0]] for s in ("left", "right") if f"{s} thigh" in parts]
    low = np.mean(legs, axis=0) if legs else places[hips]
    arms = [places[parts[f"{s} upper arm"][0]] for s in ("left", "right") if f"{s} upper arm" in parts]
    top = np.mean(arms, axis=0) if arms else low + 0.28 * tall * body.up
    for part, joint, share in (
        ("hips", hips, 0.06),
        ("belly", spine[0] if spine else hips, 0.42),
        ("chest", spine[-1] if spine else hips, 0.78),
    ):
        middle = low + share * (top - low)
        wide, radius = _WIDE[part] * tall, _ROUND[part] * tall
        if skin is not None:
            run = {"hips": parts["hips"], "belly": spine[:-1] or spine, "chest": spine[-1:]}[part] or parts["hips"]
            middle, wide, radius = skin.across(run, middle, side_ways, body.forward, wide, radius)
        yield made(part, joint, middle - wide * side_ways, middle + wide * side_ways, radius)
    if "head" in parts:
        head = parts["head"][0]
        middle, radius = places[head] + 0.06 * tall * body.up, _ROUND["head"] * tall
        if skin is not None:
            middle, radius = skin.ball(parts["head"], middle, radius)
        yield made("head", head, middle, middle, radius)


class _Skin:
    """The skin at rest, and which bones it goes with."""

    def __init__(self, skeleton: Skeleton, character: Character) -> None:
        from ..character.meshes import joint_matrices, skinned

        matrices = joint_matrices(skeleton, *skeleton.rest_world)
        self.meshes = [(mesh, skinned(mesh, matrices)) for mesh in character.at_level(0)]

    def _of(self, joints: tuple[int, ...]) -> np.ndarray:
        """Points ``(n, 3)`` that mostly go with some joints."""
        found = [points[(np.isin(mesh.joints, joints) * mesh.weights).sum(1) > _MOSTLY] for mesh, points in self.meshes]
        return np.concatenate(found) if found else np.zeros((0, 3))

    def around(self, joints: tuple[int, ...], a: np.ndarray, b: np.ndarray, usual: float) -> float:
        """How thick the skin is around a bone."""
        points = self._of(joints)
        if len(points) < 12:
            return usual
        _, near = nearest(points, a, b)
        return float(np.percentile(np.linalg.norm(points - near, axis=1), 70, method="nearest"))

    def across(
        self,
        joints: tuple[int, ...],
        middle: np.ndarray,
        side_ways: np.ndarray,
        forward: np.ndarray,
        wide: float,
        radius: float,
    ) -> tuple[np.ndarray, float, float]:
        """``(middle, half breadth beside the axis, radius)`` of a part of the trunk."""
        points = self._of(joints)
        if len(points) < 12:
            return middle, wide, radius
        depth, breadth = (np.percentile(points @ axis, [8, 92], method="nearest") for axis in (forward, side_ways))
        radius = float(np.ptp(depth)) / 2
        middle = middle + (depth.mean() - middle @ forward) * forward
        return middle, max(float(np.ptp(breadth)) / 2 - radius, 0.0), radius

    def ball(self, joints: tuple[int, ...], middle: np.ndarray, radius: float) -> tuple[np.ndarray, float]:
        """``(middle, radius)`` of the head."""
        points = self._of(joints)
        if len(points) < 12:
            return middle, radius
        low, high = points.min(0), points.max(0)
        return (low + high) / 2, float(np.median(np.linalg.norm(points - (low + high) / 2, axis=1)))
