"""What lies under a place on a picture: a figure's bone, or the bone that moves a triangle of its body most."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from .camera import project
from .figure import Figure

Picked = tuple[Figure, int]
NEAREST = 0.05  # metres from the eye: what is nearer is not seen


def pick(
    figures: Iterable[Figure], matrix: np.ndarray, size: tuple[int, int], point: tuple[float, float], within: float
) -> Picked | None:
    """``(figure, joint)`` under ``point`` (pixels): of a body, else the nearest bone ``within`` so many pixels, or None.

    ``matrix (4, 4)``: projection times view. ``size``: of the picture in pixels.
    """
    figures = tuple(figures)
    dot = pick_dot(figures, matrix, size, point, within)
    return dot or pick_body(figures, matrix, size, point) or pick_bone(figures, matrix, size, point, within)


def pick_bone(
    figures: Iterable[Figure], matrix: np.ndarray, size: tuple[int, int], point: tuple[float, float], within: float
) -> Picked | None:
    """``(figure, joint)`` of the bone nearest to a place, or None."""
    best, picked = within, None
    place = np.array(point)
    for figure in figures:
        if figure.ghost or not len(figure.bones.start) or not figure.shows_bones:
            continue
        (a, depth_a), (b, depth_b) = (project(matrix, ends, *size) for ends in figure.segments())
        away = away_from(place, a, b)
        away[(depth_a < NEAREST) | (depth_b < NEAREST)] = np.inf
        # Of bones that lie over each other, the one in front.
        away += 1e-3 * (depth_a + depth_b)
        nearest = int(np.argmin(away))
        if away[nearest] < best:
            best, picked = float(away[nearest]), (figure, int(figure.bones.start[nearest]))
    return picked


def away_from(place: np.ndarray, starts: np.ndarray, ends: np.ndarray) -> np.ndarray:
    """How far a place ``(2,)`` is from each of the lines from ``starts (n, 2)`` to ``ends (n, 2)``, pixels."""
    way = ends - starts
    along = np.clip(((place - starts) * way).sum(1) / np.maximum((way**2).sum(1), 1e-9), 0, 1)
    return np.asarray(np.linalg.norm(starts + along[:, None] * way - place, axis=1))


def pick_dot(
    figures: Iterable[Figure], matrix: np.ndarray, size: tuple[int, int], point: tuple[float, float], within: float
) -> Picked | None:
    """``(figure, number)`` of the ball of a figure without bones that is nearest to a place, or None."""
    best, picked = within, None
    for figure in figures:
        if not len(figure.bones.start) and len(figure.bones.balls):
            places, depth = project(matrix, figure.placed, *size)
            away = np.linalg.norm(places - np.array(point), axis=1) + 1e-3 * depth
            away[depth < NEAREST] = np.inf
            nearest = int(np.argmin(away))
            if away[nearest] < best:
                best, picked = float(away[nearest]), (figure, nearest)
    return picked


def pick_body(
    figures: Iterable[Figure], matrix: np.ndarray, size: tuple[int, int], point: tuple[float, float]
) -> Picked | None:
    """``(figure, joint)`` of the nearest body's triangle under a place, or None; it is what moves it most."""
    best, nearest = np.inf, None
    for figure in (f for f in figures if f.shows_body and f.dress == "body"):
        corners, joints = figure.skin()
        flat, depth = project(matrix, corners.reshape(-1, 3), *size)
        a, b, c = (flat.reshape(-1, 3, 2) - np.array(point)).transpose(1, 0, 2)
        turns = [u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0] for u, v in ((a, b), (b, c), (c, a))]
        inside = (np.minimum.reduce(turns) >= 0) | (np.maximum.reduce(turns) <= 0)
        near = depth.reshape(-1, 3).min(1)
        near[~inside | (near < NEAREST)] = np.inf
        first = int(np.argmin(near))
        if near[first] < best:
            best, nearest = float(near[first]), (figure, int(joints[first]))
    return nearest


def turn_between(before: float, after: float) -> float:
    """The angle from one direction to another, the shorter way round (radians)."""
    return (after - before + np.pi) % (2 * np.pi) - np.pi


def direction(way: tuple[float, float]) -> tuple[float, float]:
    """``(angle, length)`` of a way in pixels, whose second axis points down (radians, pixels)."""
    return float(np.arctan2(-way[1], way[0])), float(np.hypot(*way))


def footing(figure: Figure, matrix: np.ndarray, size: tuple[int, int]) -> tuple[float, float] | None:
    """The middle and the lower end of a figure on a picture (pixels); None where part of it is behind the eye."""
    points, depth = project(matrix, figure.extent, *size)
    return (float(points[:, 0].mean()), float(points[:, 1].max())) if depth.min() >= NEAREST else None


def to_frame(figures: Iterable[Figure]) -> np.ndarray:
    """Points ``(n, 3)`` that a view on figures should hold: with room for a raised arm."""
    figures = tuple(figures)
    points = np.concatenate([f.extent for f in figures])
    head = max((float(f.bones.reach) for f in figures), default=0.0)
    return np.concatenate([points, [[points[:, 0].mean(), points[:, 1].min() + head, points[:, 2].mean()]]])


def middle(figures: Iterable[Figure]) -> np.ndarray:
    """The mean place ``(3,)`` of what figures hang on."""
    firsts = [f.placed[f.bones.start[0]] if len(f.bones.start) else f.placed[0] for f in figures]
    return np.mean(firsts, axis=0)
