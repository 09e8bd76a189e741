"""Poses of a known figure over a whole recording: starts, annealed steps that resist faulty markers, neighbours' help."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np

from .. import rotations as rot
from .figure import Figure
from .guards import Guards
from .posing import Aims, Normal, Poses, add_aims, add_guards, equations, huber, predicted, stepped, tukey, world
from .segments import BALL, Structure

_BLOCK = 384  # frames worked out together: what comes about on the way stays small
_MOST_TURN = 0.7  # radians that one step turns a joint by
_MOST_MOVE = 0.3  # metres


@dataclass(frozen=True)
class How:
    """How poses are refined. ``sigma``: how far off a good marker is, metres; ``width``: where its weight begins to fall (Huber), or
    ends (Tukey, ``last``)."""

    sigma: float
    width: float
    last: bool = False
    steps: int = 8


def refined(
    figure: Figure, start: Poses, points: np.ndarray, weights: np.ndarray, how: How, aims: Aims | None = None
) -> tuple[Poses, np.ndarray]:
    """``(poses, cost (frames,))`` that fit the markers better than ``start``, frame by frame.

    ``points (markers, 3, frames)`` in metres, Y up; ``weights (markers, frames)``: how far each is believed, 0 where not seen.
    """
    guards = Guards(figure.structure)

    def one(span: slice) -> tuple[Poses, np.ndarray]:
        own, some = (None if aims is None else aims.picked(span)), weights[:, span]
        clean = np.where(some[:, None] > 0, points[..., span], 0.0)
        return _Refining(figure, guards, clean, some, how, own).run(start.picked(span))

    spans = [slice(at, at + _BLOCK) for at in range(0, max(start.frames, 1), _BLOCK)]
    if len(spans) == 1:
        return one(spans[0])
    with ThreadPoolExecutor(2) as pool:
        parts = list(pool.map(one, spans))
    q, root = np.concatenate([p.q for p, _ in parts], -1), np.concatenate([p.root for p, _ in parts], -1)
    return Poses(q, root), np.concatenate([cost for _, cost in parts])


class _Refining:
    """Damped steps on the frames of one block; those that have settled are left alone."""

    def __init__(
        self, figure: Figure, guards: Guards, points: np.ndarray, weights: np.ndarray, how: How, aims: Aims | None
    ) -> None:
        self.figure, self.guards, self.how = figure, guards, how
        self.points, self.weights, self.aims = points, weights, aims

    def run(self, best: Poses) -> tuple[Poses, np.ndarray]:
        everything = np.arange(best.frames)
        damping, active = np.full(best.frames, 1e-3), everything
        cost, system = self._equations(best, everything)
        for n in range(self.how.steps):
            every = len(active) == best.frames
            step, _ = (system if every else system.picked(active)).damped(damping[active]).solved()
            size = np.maximum(np.abs(step[:-1]).max((0, 1)) / _MOST_TURN, np.abs(step[-1]).max(0) / _MOST_MOVE)
            step /= np.maximum(size, 1)
            tried = stepped(best if every else best.picked(active), step)
            if n + 1 == self.how.steps:
                then, system_then = self._cost(tried, active), None
            else:
                then, system_then = self._equations(tried, active)
            better = then < cost[active]
            won = active[better]
            gained = cost[won] - then[better]
            cost[won] = then[better]
            if every and better.all() and system_then is not None:
                best, system = tried, system_then
            else:
                best.put(won, tried, better)
                if system_then is not None:
                    system.put(won, system_then, better)
            damping[won] *= 0.2
            damping[active[~better]] *= 8
            settled = damping > 1e5
            settled[won] |= (gained < 1e-4 * (cost[won] + 0.1)) & (np.abs(step[..., better]).max((0, 1)) < 1e-3)
            active = active[~settled[active]]
            if not len(active) or system_then is None:
                break
        return best, cost

    def _losses(self, poses: Poses, frames: np.ndarray) -> tuple[np.ndarray, ...]:
        turns, places = world(self.figure.structure, self.figure.offsets, poses)
        there = predicted(self.figure, turns, places)
        off = self.points[..., frames] - there
        robust, loss = (tukey if self.how.last else huber)(np.sqrt(np.sum(off * off, 1)), self.how.width)
        return turns, places, there, robust, np.sum(self.weights[:, frames] * loss, 0) / self.how.sigma**2

    def _equations(self, poses: Poses, frames: np.ndarray) -> tuple[np.ndarray, Normal]:
        turns, places, there, robust, cost = self._losses(poses, frames)
        weights = self.weights[:, frames] * robust / self.how.sigma**2
        system = equations(self.figure, turns, places, self.points[..., frames], weights, there)
        cost = cost + add_guards(self.guards, poses.q, system)
        if self.aims is not None:
            cost = cost + add_aims(self.aims.picked(frames), poses, system)
        return cost, system

    def _cost(self, poses: Poses, frames: np.ndarray) -> np.ndarray:
        cost: np.ndarray = self._losses(poses, frames)[-1] + self.guards.terms(poses.q)[-1]
        if self.aims is not None:
            aims = self.aims.picked(frames)
            cost = cost + aims.cost(*aims.off(poses))
        return cost


def usual_pose(structure: Structure) -> np.ndarray:
    """Local rotations ``(joints, 4)`` that joints are most likely to have."""
    return np.array(
        [
            rot.from_vector(np.radians(s.middle)) if s.kind == BALL else rot.from_euler(s.order, np.radians(s.middle))
            for s in structure.segments
        ]
    )


def started(figure: Figure, points: np.ndarray, weights: np.ndarray) -> Poses:
    """Rough poses to begin with: the trunk laid onto its markers as one rigid body (Kabsch 1976), limbs as they usually are.

    Frames with less than three markers of the trunk take the poses of frames beside them.
    """
    structure, frames = figure.structure, points.shape[-1]
    q = np.repeat(usual_pose(structure)[..., None], frames, -1)
    still = np.tile(rot.IDENTITY, (len(structure), 1))[..., None]
    rest = predicted(figure, *world(structure, figure.offsets, Poses(still, np.zeros((3, 1)))))[..., 0]
    trunk = np.isin(figure.segments, structure.trunk)
    if trunk.sum() < 3:
        trunk = np.ones(len(trunk), bool)
    w = np.where(trunk[:, None], weights, 0.0)
    total = np.maximum(w.sum(0), 1e-9)
    clean = np.where(w[:, None] > 0, points, 0.0)
    middle, middle_rest = np.einsum("mf,mif->if", w, clean) / total, np.einsum("mf,mi->if", w, rest) / total
    crossing = np.einsum("mf,mif,mj->fij", w, clean, rest) - np.einsum("f,if,jf->fij", total, middle, middle_rest)
    u, s, vt = np.linalg.svd(crossing)
    flip = np.ones((frames, 3))
    flip[:, 2] = np.sign(np.linalg.det(u @ vt))
    turn = rot.from_matrix((u * flip[:, None, :]) @ vt)
    known = ((w > 0).sum(0) >= 3) & (s[:, 1] > 1e-6)
    root = middle - rot.rotate(turn, middle_rest.T).T
    if known.any() and not known.all():
        nearest = nearest_true(known)
        turn, root = turn[nearest], root[:, nearest]
    q[0] = turn.T
    return Poses(q, root)


def nearest_true(mask: np.ndarray) -> np.ndarray:
    """For every frame the nearest one where ``mask (frames,)`` holds (at least one has to)."""
    known, frames = np.flatnonzero(mask), np.arange(len(mask))
    after = np.clip(np.searchsorted(known, frames), 0, len(known) - 1)
    before = np.clip(after - 1, 0, None)
    nearest: np.ndarray = np.where(
        np.abs(known[before] - frames) <= np.abs(known[after] - frames), known[before], known[after]
    )
    return nearest


def annealed(figure: Figure, points: np.ndarray, weights: np.ndarray) -> Poses:
    """Poses without any knowledge of them before: coarse at first, so that far limbs come in, then finer.

    Frames help each other: where a neighbour's pose fits a frame better than its own, it goes on from there.
    """
    poses, _ = refined(figure, started(figure, points, weights), points, weights, How(0.06, 0.3, steps=14))
    return settled(figure, poses, points, weights, How(0.025, 0.1, steps=10), (1, 1, 2, 4, 8))


def settled(
    figure: Figure, poses: Poses, points: np.ndarray, weights: np.ndarray, how: How, reaches: tuple[int, ...]
) -> Poses:
    """Poses refined, each also from those of the frames that are ``reaches`` before and after it, where these fit better."""
    poses, cost = refined(figure, poses, points, weights, how)
    frames = np.arange(len(cost))
    for reach in reaches:
        for way in (-reach, reach):
            beside = np.clip(frames + way, 0, len(frames) - 1)
            worse = np.flatnonzero(cost > 1.15 * cost[beside] + 4)
            if len(worse):
                start = Poses(poses.q[..., beside[worse]], poses.root[..., worse].copy())
                start.q[0] = poses.q[0][:, worse]
                tried, then = refined(figure, start, points[..., worse], weights[:, worse], how)
                better = then < cost[worse] - 1e-6
                poses.put(worse[better], tried, better)
                cost[worse[better]] = then[better]
    return poses
