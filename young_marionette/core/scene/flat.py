"""Flat views of skeletons: laid into a box, the nearest joint to a place, and the next one in a direction."""

from __future__ import annotations

from collections.abc import Collection, Sequence

import numpy as np

from ..humanoid.beside import EAR, END, FACE
from ..humanoid.reading import Body
from ..skeleton import Skeleton

ASIDE = np.array([[0.82, 0.0], [0.0, 1.0], [0.57, 0.0]])  # seen from a little aside


def chosen_joints(
    skeleton: Skeleton, body: Body | None, parts: Collection[str] | None, hidden: Collection[str] = ()
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Masks ``(joints,)`` of what is shown, of what of it is the body's, and of what a view has to hold.

    Shown are some ``parts`` of the body, or with None all but a root on the floor, and what hangs on them beside the
    body, but for ``hidden`` kinds (see ``humanoid.beside``). A view has to hold faces, but no hair, which may be long.
    """
    of_body = np.ones(len(skeleton), bool)
    if body is None:
        return of_body, of_body, of_body
    of_body[list(body.parts.get("root", ()))] = False
    beside = {j: kind for kind, joints in body.beside.items() for j in joints}
    of_body[list(beside)] = False
    chosen = [j for part, run in body.parts.items() if parts and part in parts for j in run]
    if chosen:
        of_body &= np.isin(np.arange(len(skeleton)), chosen)
    shown = of_body.copy()
    for joint in sorted(beside):
        parent = int(skeleton.parents[joint])
        shown[joint] = beside[joint] not in hidden and (not chosen or (parent >= 0 and bool(shown[parent])))
    held = of_body & shown
    held[[j for j, kind in beside.items() if kind in (FACE, EAR, END) and shown[j]]] = True
    return shown, of_body & shown, held


def laid_out(
    skeleton: Skeleton, inside: np.ndarray, box: Sequence[float], of_hand: bool = False, aside: bool = False
) -> np.ndarray:
    """Places ``(joints, 2)`` of the rest pose, of which those ``inside`` fill a box ``(left, top, width, height)``.

    From the front, or from a little ``aside``, and a hand on its palm's broad side. The second axis points down.
    """
    points = skeleton.rest_world[0]
    flat = points @ ASIDE if aside else points[:, :2]
    if of_hand and inside.sum() >= 4:
        flat = _on_its_palm(points, inside)
    low, high = flat[inside].min(0), flat[inside].max(0)
    extent = np.maximum(high - low, 1e-6)
    left, top, width, height = box
    scale = min(width / extent[0], height / extent[1])
    away = (flat - (low + high) / 2) * scale
    return np.stack([left + width / 2 + away[:, 0], top + height / 2 - away[:, 1]], 1)


def _on_its_palm(points: np.ndarray, inside: np.ndarray) -> np.ndarray:
    own = points[inside] - points[inside].mean(0)
    axes = np.linalg.svd(own, full_matrices=False)[2]
    along = axes[0] * np.sign(axes[0] @ (own[-1] - own[0]) or 1.0)
    across = axes[1] * np.sign(axes[1] @ np.array([0.2, 0.1, 1.0]) or 1.0)
    # Fingers upwards, the thumb's side to the same side on both figures.
    return np.stack([points @ across, points @ along], 1)


def nearest(places: np.ndarray, inside: np.ndarray, point: Sequence[float]) -> tuple[int, float]:
    """``(joint, distance)`` of the joint nearest to a place among those inside."""
    away = np.linalg.norm(places - np.asarray(point), axis=1)
    away[~inside] = np.inf
    joint = int(np.argmin(away))
    return joint, float(away[joint])


def highest(places: np.ndarray, inside: np.ndarray) -> int:
    """The joint that is highest on the view, of ``places (joints, 2)``, among those ``inside (joints,)``."""
    return int(np.argmin(np.where(inside, places[:, 1], np.inf)))


def next_in_direction(
    places: np.ndarray, inside: np.ndarray, start: Sequence[float], way: Sequence[float]
) -> tuple[int, float]:
    """``(joint, cost)`` of the nearest joint that way, steps aside counted double; the cost is infinite without any.

    ``way``: one of the four directions, such as ``(0, -1)`` for upwards.
    """
    steps = places - np.asarray(start)
    along = steps @ np.asarray(way)
    cost = along + 2.2 * np.abs(steps @ np.array([way[1], way[0]]))
    cost[~inside | (along < 2.0)] = np.inf
    joint = int(np.argmin(cost))
    return joint, float(cost[joint])


def spread_frames(frames: int, count: int) -> list[int]:
    """So many frames of a clip, from the first to the last."""
    return np.linspace(0, frames - 1, count).astype(int).tolist()


def strip(poses: Sequence[np.ndarray], hips: int | None) -> tuple[list[np.ndarray], float]:
    """``(flat poses (joints, 2), how tall they are together)``: seen from a little aside, each over its own hips, or as it is."""
    flat = [(p if hips is None else p - p[hips] * [1, 0, 1]) @ ASIDE for p in poses]
    tall = max(f[:, 1].max() for f in flat) - min(0.0, *(f[:, 1].min() for f in flat))
    return flat, max(float(tall), 0.1)
