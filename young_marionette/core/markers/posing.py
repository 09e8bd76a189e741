"""Poses of a figure that fit markers best, on all frames at once: Gauss-Newton steps with an analytic Jacobian.

A small turn of a joint moves every marker below it as part of one rigid body, so that the normal equations of a whole
frame follow from three sums per segment (weights, places, and products of places), gathered from the leaves to the root:
the composite-rigid-body method (Featherstone 2008, chapter 6) with weights in place of masses. Joints that do not hang on
each other share no block; eliminated from the leaves to the root, they never come to (the same book, chapter 6.5).

Frames lie last in all arrays (see rows).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .figure import Figure
from .guards import Guards
from .rows import crossed, from_vectors, matrices, normalised, products, symmetric_inverse, to_vectors
from .segments import Structure


@dataclass
class Poses:
    """``q (joints, 4, frames)``: local rotations; ``root (3, frames)``: where the hips are, metres."""

    q: np.ndarray
    root: np.ndarray

    @property
    def frames(self) -> int:
        """The number of frames."""
        return self.root.shape[-1]

    def picked(self, frames: np.ndarray | slice) -> Poses:
        """A copy of some frames."""
        return Poses(self.q[..., frames].copy(), self.root[..., frames].copy())

    def put(self, frames: np.ndarray, other: Poses, of: np.ndarray | slice = slice(None)) -> None:
        """Take over frames of other poses."""
        self.q[..., frames], self.root[..., frames] = other.q[..., of], other.root[..., of]


@dataclass
class Aims:
    """Poses that frames are drawn to, weakly: ``poses``; ``pull (joints, frames)``: one over radians squared,
    ``root_pull (frames,)``: one over metres squared."""

    poses: Poses
    pull: np.ndarray
    root_pull: np.ndarray

    def off(self, poses: Poses) -> tuple[np.ndarray, np.ndarray]:
        """How far poses are from them: ``(turns (joints, 3, frames), ways of the root (3, frames))``."""
        back = poses.q * np.array([-1.0, -1.0, -1.0, 1.0])[:, None]
        return to_vectors(products(back, self.poses.q)), self.poses.root - poses.root

    def cost(self, off: np.ndarray, away: np.ndarray) -> np.ndarray:
        """What being so far off costs on each frame ``(frames,)``."""
        cost: np.ndarray = self.root_pull * np.sum(away * away, 0) + np.sum(self.pull[:, None] * off * off, (0, 1))
        return cost

    def picked(self, frames: np.ndarray | slice) -> Aims:
        """Some of the frames."""
        return Aims(self.poses.picked(frames), self.pull[:, frames], self.root_pull[frames])


def world(structure: Structure, offsets: np.ndarray, poses: Poses) -> tuple[np.ndarray, np.ndarray]:
    """World ``(matrices (joints, 3, 3, frames), positions (joints, 3, frames))``; ``offsets (joints, 3)``."""
    turns = matrices(poses.q)
    places = np.empty((len(structure), 3, poses.frames))
    places[0] = poses.root
    for joint in range(1, len(structure)):
        above = turns[structure.parents[joint]]
        places[joint] = places[structure.parents[joint]] + np.einsum("ijf,j->if", above, offsets[joint])
        turns[joint] = np.einsum("ijf,jkf->ikf", above, turns[joint])
    return turns, places


def predicted(figure: Figure, turns: np.ndarray, places: np.ndarray) -> np.ndarray:
    """Where the figure's markers are in the world ``(markers, 3, frames)``."""
    points = np.empty((len(figure.segments), 3, places.shape[-1]))
    for marker, segment in enumerate(figure.segments):
        points[marker] = places[segment] + np.einsum("ijf,j->if", turns[segment], figure.places[marker])
    return points


class Normal:
    """Normal equations of frames, in blocks of the tree.

    ``blocks[joint] (n, 3, 3, frames)``: rows of the joints of its chain (itself first, then those above, last the place of the
    root), columns of its own turn; the last entry of ``blocks`` is of the root's place. ``gradient (joints + 1, 3, ..., frames)``.
    """

    def __init__(self, structure: Structure, blocks: list[np.ndarray], gradient: np.ndarray) -> None:
        self.structure, self.blocks, self.gradient = structure, blocks, gradient
        self.chains = [*((*chain, len(structure)) for chain in structure.chains), (len(structure),)]

    def picked(self, frames: np.ndarray) -> Normal:
        """A copy of some frames."""
        return Normal(self.structure, [b[..., frames] for b in self.blocks], self.gradient[..., frames])

    def put(self, frames: np.ndarray, other: Normal, of: np.ndarray) -> None:
        """Take over frames of other equations."""
        for mine, theirs in zip(self.blocks, other.blocks):
            mine[..., frames] = theirs[..., of]
        self.gradient[..., frames] = other.gradient[..., of]

    def damped(self, share: np.ndarray, least: float = 1e-6) -> Normal:
        """The same with the diagonal raised by ``share (frames,)`` of itself, and a little of the largest (Marquardt 1963)."""
        blocks = [b.copy() for b in self.blocks]
        top = np.max([np.max([b[0, i, i] for i in range(3)], axis=0) for b in blocks[:-1]], axis=0)
        for block in blocks:
            for i in range(3):
                block[0, i, i] += share * block[0, i, i] + 1e-3 * share * top + least
        return Normal(self.structure, blocks, self.gradient.copy())

    def solved(self, more: np.ndarray | None = None) -> tuple[np.ndarray, np.ndarray | None]:
        """``(step (joints + 1, 3, frames), that of more)``: for the gradient, and for further right sides ``(joints + 1, 3, n, frames)``.

        The equations are used up by it.
        """
        blocks, chains, count = self.blocks, self.chains, len(self.structure) + 1
        order = [*range(count - 2, -1, -1), count - 1]
        right = [self.gradient[:, :, None]] if more is None else [self.gradient[:, :, None], more]
        sides = np.concatenate(right, 2) if more is not None else right[0].copy()
        inverse, across = [None] * count, [None] * count
        for joint in order:
            own = blocks[joint]
            inverse[joint] = back = symmetric_inverse(own[0])
            if len(own) > 1:
                across[joint] = w = np.einsum("nikf,kjf->nijf", own[1:], back)
                for n, above in enumerate(chains[joint][1:]):
                    blocks[above] -= np.einsum("mikf,jkf->mijf", w[n:], own[1 + n])
                    sides[above] -= np.einsum("ikf,kgf->igf", w[n], sides[joint])
        steps = np.empty_like(sides)
        for joint in reversed(order):
            steps[joint] = np.einsum("ijf,jgf->igf", inverse[joint], sides[joint])
            if across[joint] is not None:
                for w, above in zip(across[joint], chains[joint][1:]):
                    steps[joint] -= np.einsum("kif,kgf->igf", w, steps[above])
        return steps[:, :, 0], steps[:, :, 1:] if more is not None else None


def normal(figure: Figure, poses: Poses, points: np.ndarray, weights: np.ndarray) -> Normal:
    """The normal equations of the markers' distances.

    ``points (markers, 3, frames)``: where the markers were seen, anything where ``weights (markers, frames)`` (one over metres
    squared) are 0.
    """
    return equations(figure, *world(figure.structure, figure.offsets, poses), points, weights)


def equations(
    figure: Figure,
    turns: np.ndarray,
    places: np.ndarray,
    points: np.ndarray,
    weights: np.ndarray,
    there: np.ndarray | None = None,
) -> Normal:
    """As ``normal``, of poses in the world; ``there``: where the markers are expected, where that is known already."""
    there = predicted(figure, turns, places) if there is None else there
    count, frames = len(figure.structure), places.shape[-1]
    # About the hips, so that large places in the room cost no digits.
    arms, force = there - places[0], weights[:, None] * (points - there)
    sums = Sums(*(np.zeros((count, *shape, frames)) for shape in ((), (3,), (3, 3), (3,), (3,))))
    for marker, segment in enumerate(figure.segments):
        d, f = arms[marker], force[marker]
        wd = weights[marker] * d
        sums.weight[segment] += weights[marker]
        sums.first[segment] += wd
        sums.second[segment] += wd[:, None] * d
        sums.pull[segment] += f
        sums.turning[segment] += crossed(d, f[:, None])[:, 0]
    return gathered(figure.structure, turns, places, sums)


@dataclass
class Sums:
    """What each segment's own markers sum up to, places counted from the hips: weights ``(joints, frames)``, weighted places
    ``(joints, 3, frames)`` and their products ``(joints, 3, 3, frames)``, weighted distances and their torques."""

    weight: np.ndarray
    first: np.ndarray
    second: np.ndarray
    pull: np.ndarray
    turning: np.ndarray


def gathered(structure: Structure, turns: np.ndarray, places: np.ndarray, sums: Sums) -> Normal:
    """The normal equations of what segments' markers sum up to; the sums are used up by it."""
    count, frames = len(structure), places.shape[-1]
    s0, s1, s2, pull, turning = sums.weight, sums.first, sums.second, sums.pull, sums.turning
    for joint in range(count - 1, 0, -1):
        parent = structure.parents[joint]
        for of in (s0, s1, s2, pull, turning):
            of[parent] += of[joint]
    # What all markers below a joint have to say about turns (``rolled``) and moves (``moved``) by that joint's axes.
    levers = crossed(places - places[0], turns)
    inertia = -s2
    for i in range(3):
        inertia[:, i, i] += s2[:, 0, 0] + s2[:, 1, 1] + s2[:, 2, 2]
    rolled = np.einsum("nikf,nkjf->nijf", inertia, turns) + crossed(s1, levers)
    moved = s0[:, None, None] * levers - crossed(s1, turns)
    gradient = np.empty((count + 1, 3, frames))
    gradient[:count] = np.einsum("nikf,nif->nkf", turns, turning) + np.einsum("nikf,nif->nkf", levers, pull)
    gradient[count] = pull[0]
    blocks = []
    for joint in range(count):
        chain = list(structure.chains[joint])
        block = np.empty((len(chain) + 1, 3, 3, frames))
        np.einsum("nkif,kjf->nijf", turns[chain], rolled[joint], out=block[:-1])
        block[:-1] += np.einsum("nkif,kjf->nijf", levers[chain], moved[joint])
        block[-1] = moved[joint]
        blocks.append(block)
    blocks.append(s0[0] * np.eye(3)[None, ..., None])
    return Normal(structure, blocks, gradient)


def add_guards(guards: Guards, q: np.ndarray, into: Normal, weight: float = 1.0) -> np.ndarray:
    """Add what is usual of joints to normal equations, in place; returns what it costs on each frame ``(frames,)``."""
    squares, pulls, cost = guards.terms(q)
    for row, joint in enumerate(guards.joints):
        into.blocks[joint][0] += weight * squares[row]
        into.gradient[joint] += weight * pulls[row]
    return weight * cost


def add_aims(aims: Aims, poses: Poses, into: Normal) -> np.ndarray:
    """Add a weak pull towards given poses, in place; returns what it costs on each frame ``(frames,)``."""
    off, away = aims.off(poses)
    for i in range(3):
        for joint in range(len(off)):
            into.blocks[joint][0, i, i] += aims.pull[joint]
        into.blocks[-1][0, i, i] += aims.root_pull
    into.gradient[:-1] += aims.pull[:, None] * off
    into.gradient[-1] += aims.root_pull * away
    return aims.cost(off, away)


def stepped(poses: Poses, step: np.ndarray) -> Poses:
    """The poses after a step ``(joints + 1, 3, frames)`` of all turns, and of the root's place."""
    return Poses(normalised(products(poses.q, from_vectors(step[:-1]))), poses.root + step[-1])


def huber(off: np.ndarray, width: float) -> tuple[np.ndarray, np.ndarray]:
    """``(weights, losses)`` of distances: squared up to ``width``, then linear (Huber 1964)."""
    return width / np.maximum(off, width), np.where(off < width, off * off, 2 * width * off - width**2)


def tukey(off: np.ndarray, width: float) -> tuple[np.ndarray, np.ndarray]:
    """``(weights, losses)`` of distances: what is ``width`` off or more counts no further (Beaton and Tukey 1974)."""
    inside = np.clip(1 - (off / width) ** 2, 0, None)
    return inside * inside, width**2 / 3 * (1 - inside**3)
