"""Loops: how far the last frame of a stretch is from its first one, the best stretch for a loop, and closing it.

A loop may travel: where its last frame stands over the ground, and which way it faces there, the next round begins.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..clip import as_rows, from_rows
from ..errors import InputError
from ..kinematics import forward_rows
from ..smoothing import eased
from .path import path_of

if TYPE_CHECKING:
    from ..clip import Clip

_MOST = 900  # frames that are compared with each other; of longer clips every few, and then the frames between
_SPEED = 0.12  # seconds: how much a difference in speed counts against one in place
_APART = 0.25  # seconds: stretches that begin and end nearer than that are the same one
LEAST = 8  # frames of a loop


@dataclass(frozen=True)
class Gap:
    """What lies between the last and the first frame of a stretch.

    ``place``: metres over the ground, ``height``: metres, ``heading``: radians, all of the hips, last minus first. ``pose``:
    metres that joints are apart at most, with the hips' place over the ground and their heading taken out, and ``joint``: the one.
    ``turn``: radians that a joint is turned apart at most.
    """

    place: tuple[float, float]
    height: float
    heading: float
    pose: float
    joint: str
    turn: float


@dataclass(frozen=True)
class Stretch:
    """Frames ``first`` to ``last`` as a loop. ``cost``: metres that it is off by, in places and in speeds."""

    first: int
    last: int
    cost: float


def gap_of(clip: Clip, hips: int, first: int, last: int) -> Gap:
    """The gap between two frames of a clip."""
    ends = clip.picked(np.array([first, last]))
    path = path_of(ends, hips)
    places, world = forward_rows(ends)
    own = _seen_from(places, path.places, path.headings)
    apart = np.linalg.norm(own[:, :, 1] - own[:, :, 0], axis=1)
    turns = _turned_back(world, path.headings)
    angles = rot.angle(rot.multiply(rot.conjugate(turns[:, :, 0]), turns[:, :, 1]))  # of each joint
    way = path.places[:, 1] - path.places[:, 0]
    worst = int(apart.argmax())
    return Gap(
        (float(way[0]), float(way[2])),
        float(way[1]),
        float(np.angle(np.exp(1j * (path.headings[1] - path.headings[0])))),
        float(apart[worst]),
        clip.skeleton.names[worst],
        float(angles.max()),
    )


def _seen_from(places: np.ndarray, hips: np.ndarray, headings: np.ndarray) -> np.ndarray:
    """Places ``(joints, 3, frames)`` as seen from the hips' place on the ground, facing as they do."""
    away = places - hips[None] * np.array([1.0, 0.0, 1.0])[None, :, None]
    sine, cosine = np.sin(headings), np.cos(headings)
    return np.stack([cosine * away[:, 0] - sine * away[:, 2], away[:, 1], sine * away[:, 0] + cosine * away[:, 2]], 1)


def _turned_back(world: np.ndarray, headings: np.ndarray) -> np.ndarray:
    """World rotations ``(joints, 4, frames)`` without the heading, as ``(joints, 4, frames)``."""
    half = -headings / 2
    none = np.zeros_like(half)
    back = np.stack([none, np.sin(half), none, np.cos(half)])
    return np.stack([rot.product_rows(back, rows) for rows in world])


def best_stretches(
    clip: Clip, hips: int, shortest: float = 0.5, longest: float | None = None, count: int = 3
) -> list[Stretch]:
    """The stretches of a clip that make the best loops, best first: whose ends are alike in pose and in speed.

    ``shortest``, ``longest``: seconds. Of those that overlap at both ends only the best one is given. All pairs of frames are
    compared (Kovar, Gleicher and Pighin 2002, *Motion Graphs*, with joints instead of a cloud of points).
    """
    least = max(round(shortest * clip.rate), LEAST)
    most = clip.frames - 1 if longest is None else max(round(longest * clip.rate), least)
    if clip.frames <= least:
        raise InputError(f"The clip is too short for a loop of {shortest:g} s.")
    step = -(-clip.frames // _MOST)
    rows = features(clip, hips)
    at = np.arange(0, clip.frames, step)
    cost = costs(rows[at], rows[at])
    length = at[None] - at[:, None]
    cost = np.where((length >= least) & (length <= most), cost, np.inf)
    found: list[Stretch] = []
    near = max(round(_APART * clip.rate), step)
    while len(found) < count and np.isfinite(cost).any():
        a, b = np.unravel_index(int(cost.argmin()), cost.shape)
        found.append(_refined(rows, int(at[a]), int(at[b]), step, least, most))
        cost[np.ix_(np.abs(at - at[a]) < near, np.abs(at - at[b]) < near)] = np.inf
    return sorted(found, key=lambda s: s.cost)


def features(clip: Clip, hips: int) -> np.ndarray:
    """What is alike in frames that are: joints as seen from the hips, and how fast they go ``(frames, n)``."""
    path = path_of(clip, hips)
    own = _seen_from(forward_rows(clip)[0], path.places, path.headings)
    # Speeds as seen from there, too; those of the hips over the ground belong to them.
    ways = np.gradient(path.places, axis=1) * clip.rate if clip.frames > 1 else np.zeros_like(path.places)
    speeds = np.gradient(own, axis=2) * clip.rate
    sine, cosine = np.sin(path.headings), np.cos(path.headings)
    ahead = np.stack([cosine * ways[0] - sine * ways[2], np.zeros(clip.frames), sine * ways[0] + cosine * ways[2]])
    speeds = speeds + ahead[None]
    joints = len(clip.skeleton)
    rows = np.concatenate([own.reshape(3 * joints, -1), _SPEED * speeds.reshape(3 * joints, -1)])
    return rows.T / np.sqrt(joints)


def costs(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """Distances between rows, all against all."""
    square = (a * a).sum(1)[:, None] + (b * b).sum(1)[None] - 2 * a @ b.T
    return np.sqrt(np.maximum(square, 0.0))


def _refined(rows: np.ndarray, first: int, last: int, step: int, least: int, most: int) -> Stretch:
    """The best of all frames around two that were compared."""
    count = len(rows)
    a = np.arange(max(first - step, 0), min(first + step, count - 1) + 1)
    b = np.arange(max(last - step, 0), min(last + step, count - 1) + 1)
    cost = costs(rows[a], rows[b])
    length = b[None] - a[:, None]
    cost = np.where((length >= least) & (length <= most), cost, np.inf)
    i, j = np.unravel_index(int(cost.argmin()), cost.shape)
    return Stretch(int(a[i]), int(b[j]), float(cost[i, j]))


def closed(clip: Clip, hips: int, first: int, last: int, seconds: float) -> Clip:
    """The frames ``first`` to ``last``, whose last pose is the first one's, where it stands and faces then.

    Over the last ``seconds`` it goes over, with ease, to what leads to the first frame: to the frames before it where there are
    so many, so that speeds agree too, else to the first pose itself. What comes before that stretch is as it was.
    """
    length = last - first
    if not 0 <= first < last < clip.frames or length < LEAST:
        raise InputError(f"A loop needs at least {LEAST} frames within the clip's 0 to {clip.frames - 1}.")
    span = int(np.clip(round(seconds * clip.rate), 1, length - 1))
    made = clip.cut(first, last)
    goal = _leading(clip, first, span)
    turn, way = _seam(clip, hips, first, last)
    share = eased(np.arange(span + 1) / span)
    rows, into = as_rows(made.rotations).copy(), as_rows(goal.rotations)
    part = slice(length - span, length + 1)
    skeleton = clip.skeleton
    for joint, parent in enumerate(skeleton.parents.tolist()):
        wanted = into[joint] if parent >= 0 else rot.product_rows(turn[:, None], into[joint])
        rows[joint][:, part] = rot.slerp(rows[joint][:, part].T, wanted.T, share).T
    own, others = as_rows(made.translations), as_rows(goal.translations)
    moves = {}
    for i, joint in enumerate(made.moving.tolist()):
        wanted = others[i]
        if skeleton.parents[joint] < 0:
            wanted = rot.rotate_rows(turn[:, None], wanted) + way[:, None]
        row = own[i].copy()
        row[:, part] += share * (wanted - row[:, part])
        moves[joint] = row
    weights, scales = made.weights.copy(), made.scales.copy()
    weights[part] += share[:, None] * (goal.weights - weights[part])
    scales[part] += share[:, None, None] * (goal.scales - scales[part])
    places = from_rows(np.stack([moves[j] for j in made.moving.tolist()])) if moves else made.translations
    return replace(made, rotations=from_rows(rows), translations=places, weights=weights, scales=scales, start=0.0)


def _leading(clip: Clip, first: int, span: int) -> Clip:
    """``span + 1`` frames that lead to the first one; where there are too few, the first pose stands for those before."""
    return clip.picked(np.maximum(np.arange(first - span, first + 1), 0) if first >= span else np.full(span + 1, first))


def _seam(clip: Clip, hips: int, first: int, last: int) -> tuple[np.ndarray, np.ndarray]:
    """``(turn (4,), way (3,))`` from where the first frame stands and faces to where the last one does; over the ground."""
    path = path_of(clip.picked(np.array([first, last])), hips)
    turn = rot.from_axis_angle(rot.AXES["Y"], np.array(path.headings[1] - path.headings[0]))
    ground = np.array([1.0, 0.0, 1.0])
    start, end = path.places[:, 0] * ground, path.places[:, 1] * ground
    return turn, end - rot.rotate(turn, start)


def ghost_places(clip: Clip, hips: int, first: int, last: int) -> tuple[np.ndarray, np.ndarray]:
    """World ``(places (joints, 3), rotations (joints, 4))`` of the first frame's pose, put where the last one stands and faces."""
    turn, way = _seam(clip, hips, first, last)
    places, world = forward_rows(clip.cut(first, first))
    return rot.rotate(turn, places[:, :, 0]) + way, rot.multiply(turn, world[:, :, 0])
