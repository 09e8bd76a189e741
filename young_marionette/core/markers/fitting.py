"""A figure's lengths and the places of its markers, from some hundred frames: everything at once, by least squares.

Poses, lengths and places are refined together (a bundle adjustment): given lengths and places, the poses of the frames do
not touch each other, so that each frame's pose is eliminated by itself (Schur complement; Triggs 2000, Bundle adjustment, a
modern synthesis). What is usual of bodies stands as weak residuals, and wins where the motion says too little.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from .figure import Figure
from .guards import Guards
from .posing import Aims, Normal, Poses, add_aims, add_guards, equations, huber, predicted, stepped, tukey, world
from .rows import crossed
from .segments import Structure
from .sizing import STATURE, Sizes, joints_of, size_of

_STATURE = 0.08  # a stature's standard deviation as a share of the guess
_EVEN = 0.0035  # of the difference of left and right, as a share of the stature
_SET = 0.0002  # metres that a size that is set may be off
_GUARD = 0.05  # guards err alike on all frames: they do not count as so many observations


@dataclass(frozen=True)
class Prior:
    """Where markers are believed to sit: ``places (markers, 3)`` in their joints' axes, within ``sigma (markers, 3)``, metres.

    ``places`` count from a point on the way from the joint to the one that ``ends (markers,)`` tells, at ``along (markers,)`` of
    that way: a marker at the knee stays at the knee, however long the thigh turns out to be.
    """

    places: np.ndarray
    sigma: np.ndarray
    ends: np.ndarray
    along: np.ndarray

    def expected(self, offsets: np.ndarray) -> np.ndarray:
        """The places ``(markers, 3)`` from the joints themselves, on a figure with these offsets."""
        return self.places + self.along[:, None] * offsets[self.ends]


def prior_of(
    structure: Structure, segments: np.ndarray, places: np.ndarray, sigma: np.ndarray, stature: float
) -> Prior:
    """The Prior of markers on ``segments (markers,)``, from places and spreads ``(markers, 3)`` in shares of the stature."""
    ends, along = segments.copy(), np.zeros(len(segments))
    for m, segment in enumerate(segments):
        left = None if abs(places[m, 0]) < 0.01 else places[m, 0] > 0
        end = structure.next_joint(int(segment), left)
        if end == segment:
            continue
        way = structure.shares[end]
        ends[m] = end
        along[m] = 1.0 if segment == 0 else np.clip(places[m] @ way / (way @ way), 0, 1)
    own = places - along[:, None] * structure.shares[ends]
    return Prior(own * stature, sigma * stature, ends, along)


def fitted(
    figure: Figure,
    poses: Poses,
    points: np.ndarray,
    weights: np.ndarray,
    prior: Prior,
    sigma: float,
    width: float,
    last: bool = False,
    steps: int = 10,
    sizes: Sizes | None = None,
    aims: Aims | None = None,
) -> tuple[Figure, Poses]:
    """``(figure, poses)``: lengths, places of markers and poses refined together.

    ``points (markers, 3, frames)``, ``weights (markers, frames)``; ``sigma``, ``width``, ``last``: as in tracking.How.
    ``sizes``: those that are set (see sizing); ``aims``: poses that frames are drawn to.
    """
    fit = _Fit(figure.structure, points, weights, prior, figure.stature, sizes or {}, aims)
    guards = Guards(figure.structure)
    damping = 1e-4
    state = (figure, poses)
    cost, system = fit.equations(state, guards, sigma, width, last)
    for _ in range(steps):
        turn, step = fit.solved(system, damping)
        tried = fit.stepped(state, turn, step)
        cost_then, then = fit.equations(tried, guards, sigma, width, last)
        if cost_then < cost:
            gain = (cost - cost_then) / cost
            state, cost, system, damping = tried, cost_then, then, max(damping * 0.2, 1e-8)
            if gain < 1e-4:
                break
        else:
            damping *= 10
            if damping > 1e4:
                break
    return state


class _Fit:
    def __init__(
        self,
        structure: Structure,
        points: np.ndarray,
        weights: np.ndarray,
        prior: Prior,
        stature: float,
        sizes: Sizes,
        aims: Aims | None,
    ) -> None:
        self.structure, self.weights, self.prior, self.sizes, self.aims = structure, weights, prior, sizes, aims
        self.points = np.where(weights[:, None] > 0, points, 0.0)
        self.guess = stature
        self.free = structure.free
        self.size = 1 + len(self.free) + 3 * len(points)
        self._first = 1 + len(self.free)
        self._even = self._pairs()
        self._placed = self._places()

    def _pairs(self) -> list[tuple[int, int, float]]:
        """Components of the left, the right, and 1 where they should be equal, -1 where opposite."""
        number = {key: i for i, key in enumerate(self.free)}
        pairs = []
        for (joint, axis), i in number.items():
            other = number.get((int(self.structure.mirror[joint]), axis))
            if other is not None and other > i:
                pairs.append((i, other, -1.0 if axis == 0 else 1.0))
        return pairs

    def _places(self) -> np.ndarray:
        """How markers' places less what is expected of them change by lengths and places ``(3 markers, size)``."""
        slopes = np.zeros((len(self.prior.along), 3, self.size))
        number = {key: 1 + i for i, key in enumerate(self.free)}
        for m, (end, along) in enumerate(zip(self.prior.ends, self.prior.along)):
            for axis in range(3):
                slopes[m, axis, self._first + 3 * m + axis] = 1.0
                if along and (int(end), axis) in number:
                    slopes[m, axis, number[int(end), axis]] = -along
        return slopes.reshape(-1, self.size)

    def _priors(self, figure: Figure) -> tuple[np.ndarray, np.ndarray, float]:
        """The matrix, the gradient and the cost of what is usual."""
        h, g = np.zeros((self.size, self.size)), np.zeros(self.size)
        cost = 0.0

        def add(rows: list[tuple[int, float]], value: float, sigma: float) -> None:
            nonlocal cost
            for a, x in rows:
                g[a] -= x * value / sigma**2
                for b, y in rows:
                    h[a, b] += x * y / sigma**2
            cost += (value / sigma) ** 2

        add([(0, 1.0)], figure.stature - self.guess, _STATURE * self.guess)
        for i, (joint, axis) in enumerate(self.free):
            share = self.structure.shares[joint, axis]
            spread = self.structure.spread[i] * self.guess
            add([(1 + i, 1.0), (0, -share)], figure.offsets[joint, axis] - share * figure.stature, spread)
        for a, b, like in self._even:
            (joint, axis), (other, _) = self.free[a], self.free[b]
            value = figure.offsets[joint, axis] - like * figure.offsets[other, axis]
            add([(1 + a, 1.0), (1 + b, -like)], value, _EVEN * self.guess)
        for size, metres in self.sizes.items():
            rows = [(0, 1.0)] if size == STATURE else self._along(figure, size)
            add(rows, size_of(figure, size) - metres, _SET)
        off = (figure.places - self.prior.expected(figure.offsets)) / self.prior.sigma
        slopes = self._placed / self.prior.sigma.ravel()[:, None]
        h += slopes.T @ slopes
        g -= slopes.T @ off.ravel()
        return h, g, cost + float(np.sum(off * off))

    def _along(self, figure: Figure, size: str) -> list[tuple[int, float]]:
        """How a size changes by the lengths that make it."""
        own, rows = joints_of(self.structure, size), []
        for i, (joint, axis) in enumerate(self.free):
            if joint in own:
                long = max(float(np.linalg.norm(figure.offsets[joint])), 1e-6)
                rows.append((1 + i, float(figure.offsets[joint, axis]) / long))
        return rows

    def equations(
        self, state: tuple[Figure, Poses], guards: Guards, sigma: float, width: float, last: bool
    ) -> tuple[float, tuple]:
        """``(cost, (poses' equations, across, shared matrix, shared gradient))``."""
        figure, poses = state
        turns, places = world(self.structure, figure.offsets, poses)
        there = predicted(figure, turns, places)
        off = np.where(self.weights[:, None] > 0, self.points - there, 0.0)
        robust, loss = (tukey if last else huber)(np.linalg.norm(off, axis=1), width)
        w = self.weights * robust / sigma**2
        system = equations(figure, turns, places, self.points, w, there)
        cost = float(np.sum(self.weights * loss)) / sigma**2
        cost += float(add_guards(guards, poses.q, system, _GUARD).sum())
        if self.aims is not None:
            cost += float(add_aims(self.aims, poses, system).sum())
        h, g, usual = self._priors(figure)
        return cost + usual, (system, *self._shared(figure, turns, places, there, w, off, h, g))

    def _slopes(self, marker: int, segment: int, turns: np.ndarray) -> tuple[list[int], np.ndarray]:
        """Which shared unknowns move a marker, and how ``(3, n, frames)``: its own place, and lengths above it."""
        first = self._first + 3 * marker
        columns, slopes = [first, first + 1, first + 2], [turns[segment]]
        for i, (joint, axis) in enumerate(self.free):
            if joint in self.structure.chains[segment]:
                columns.append(1 + i)
                slopes.append(turns[self.structure.parents[joint]][:, axis : axis + 1])
        return columns, np.concatenate(slopes, 1)

    def _shared(
        self,
        figure: Figure,
        turns: np.ndarray,
        places: np.ndarray,
        there: np.ndarray,
        w: np.ndarray,
        off: np.ndarray,
        h: np.ndarray,
        g: np.ndarray,
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """``(across (joints + 1, 3, size, frames), h, g)``: the poses' slopes times the shared ones, gathered from the leaves to the
        root; the shared normal equations, added to what is usual."""
        structure, frames = self.structure, places.shape[-1]
        count = len(structure)
        arms = there - places[0]
        moved, turned = np.zeros((count, 3, self.size, frames)), np.zeros((count, 3, self.size, frames))
        for marker, segment in enumerate(figure.segments):
            columns, slopes = self._slopes(marker, int(segment), turns)
            weighted = slopes * w[marker]
            h[np.ix_(columns, columns)] += np.einsum("iaf,ibf->ab", weighted, slopes)
            g[columns] += np.einsum("iaf,if->a", weighted, off[marker])
            moved[segment][:, columns] += weighted
            turned[segment][:, columns] += crossed(arms[marker], weighted)
        for joint in range(count - 1, 0, -1):
            parent = structure.parents[joint]
            moved[parent] += moved[joint]
            turned[parent] += turned[joint]
        levers = crossed(places - places[0], turns)
        across = np.empty((count + 1, 3, self.size, frames))
        for joint in range(count):
            across[joint] = np.einsum("kif,kgf->igf", turns[joint], turned[joint])
            across[joint] += np.einsum("kif,kgf->igf", levers[joint], moved[joint])
        across[count] = moved[0]
        return across, h, g

    def solved(self, system: tuple, damping: float) -> tuple[np.ndarray, np.ndarray]:
        """``(the poses' steps (joints + 1, 3, frames), the shared step (size,))``."""
        equations, across, h, g = system
        frames = across.shape[-1]
        own, solved = Normal(equations.structure, [b.copy() for b in equations.blocks], equations.gradient).damped(
            np.full(frames, damping)
        ).solved(across)  # fmt: skip
        assert solved is not None
        flat = across.transpose(2, 0, 1, 3).reshape(self.size, -1)
        less = flat @ solved.transpose(2, 0, 1, 3).reshape(self.size, -1).T
        left = h * (1 + damping * np.eye(self.size)) - less
        right = g - flat @ own.ravel()
        step = np.linalg.solve(left + 1e-9 * np.eye(self.size) * np.trace(left) / self.size, right)
        return own - np.einsum("nigf,g->nif", solved, step), step

    def stepped(self, state: tuple[Figure, Poses], turn: np.ndarray, step: np.ndarray) -> tuple[Figure, Poses]:
        """The figure and the poses after a step."""
        figure, poses = state
        offsets = figure.offsets.copy()
        for i, (joint, axis) in enumerate(self.free):
            offsets[joint, axis] += step[1 + i]
        stature = float(np.clip(figure.stature + step[0], 0.3, 4.0))
        places = figure.places + step[self._first :].reshape(-1, 3)
        made = replace(figure, stature=stature, offsets=offsets, places=places)
        return made, stepped(poses, np.clip(turn, -0.5, 0.5))
