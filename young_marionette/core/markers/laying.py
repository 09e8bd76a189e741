"""Markers without labels that help: which segment each goes with, from where they are and how they move together.

First the body's surface is laid into the markers of a few frames from many beginnings (facing, posture), every marker drawn
to the surfaces near it in shares (as in Granger and Pennec 2002, multi-scale EM-ICP). What fits best tells each marker's
segment roughly. Then motion decides: with poses of many frames solved, a marker belongs where it keeps its place in the
segment's axes; figure, poses and assignment are refined in turn.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from itertools import product

import numpy as np

from .. import rotations as rot
from . import seen as reduce
from .belonging import assigned, looseness, mean_places, scores_of
from .choosing import spread_frames, unlikeness
from .figure import Figure
from .fitting import fitted, prior_of
from .guards import Guards
from .posing import Poses, Sums, add_guards, gathered, stepped, world
from .rows import crossed, products, rows_of
from .segments import BALL, BODY, SIDES, Structure
from .sites import broad
from .surface import Surface, in_axes
from .tracking import How, refined, settled, started, usual_pose

_SEEN = 0.3  # the share of frames on which a marker must be seen to count at first
_YAWS = 8
# How the figure is refined in turn with the assignment: sigma and width, metres.
_FINER = ((0.05, 0.15), (0.03, 0.1), (0.02, 0.06), (0.012, 0.05), (0.008, 0.04), (0.006, 0.03))
# Metres within which surfaces draw markers, from step to step.
_COARSE, _FINE = (0.16, 0.12, 0.1, 0.08, 0.07, 0.06), (0.05, 0.045, 0.04, 0.035, 0.03, 0.03, 0.03)
_GOOD = 0.5  # the cost of a layout that needs no rival
# Where arms are up through a whole recording, who stands in it looks taller than they are: by these shares, as one looks.
_TALLER = (1.0, 1.13, 1.25)
# Postures to begin with: turns of joints (Euler angles in the orders of the segments, degrees; rotation vectors of ball joints).
# With the share of the stature that who sits so is high.
_POSTURES: tuple[tuple[float, dict[str, tuple[float, float, float]]], ...] = (
    (1.0, {"UpperArm": (0, 0, -5), "LowerArm": (-8, 0, 0), "UpperLeg": (0, 0, 0), "LowerLeg": (4, 0, 0)}),
    (1.0, {"UpperArm": (0, 0, -72), "LowerArm": (-15, 0, 0), "UpperLeg": (0, 0, 0), "LowerLeg": (4, 0, 0)}),
    (1.0, {"UpperArm": (0, 0, -65), "LowerArm": (-85, 0, 0), "UpperLeg": (-5, 0, 0), "LowerLeg": (10, 0, 0)}),
    (1.0, {"UpperArm": (0, -70, -10), "LowerArm": (-20, 0, 0), "UpperLeg": (-5, 0, 0), "LowerLeg": (10, 0, 0)}),
    (1.0, {"UpperArm": (0, -70, 40), "LowerArm": (-50, 0, 0), "UpperLeg": (-5, 0, 0), "LowerLeg": (8, 0, 0)}),
    (1.0, {"UpperArm": (0, -30, 60), "LowerArm": (-20, 0, 0), "UpperLeg": (0, 0, 0), "LowerLeg": (4, 0, 0)}),
    (0.74, {"UpperArm": (0, -30, -50), "LowerArm": (-40, 0, 0), "UpperLeg": (-85, 0, 0), "LowerLeg": (60, 0, 0)}),
)  # fmt: skip


@dataclass(frozen=True, eq=False)
class Layout:
    """``segments (markers,)``: of the joints, -1 for none; ``places (markers, 3)`` in their axes (metres); ``sure (markers,)``: 0 to 1.

    ``cost``: what is left, for comparing; ``figure``: as far as it is known now.
    """

    segments: np.ndarray
    places: np.ndarray
    sure: np.ndarray
    figure: Figure
    cost: float


def lay(points: np.ndarray, stature: float, structure: Structure = BODY) -> Layout:
    """The best Layout of ``points (frames, markers, 3)`` (metres, Y up, NaN where not seen).

    Method: see the module. ``stature``: from the markers' height.
    """
    seen = np.isfinite(points).all(-1)
    often = np.flatnonzero(seen.mean(0) >= _SEEN)
    if len(often) < 8:
        often = np.flatnonzero(seen.any(0))
    own = points[:, often]
    frames = spread_frames(own, 60)
    rows, there = rows_of(own[frames])
    loose = looseness(own)
    best = None
    for n, (figure, poses, at) in enumerate(_likeliest(rows, there, stature, structure)):
        layout = _by_motion(figure, poses, at, rows, there, loose)
        if best is None or layout.cost < best.cost:
            best = layout
        if n >= 1 and best.cost < _GOOD:
            break
    assert best is not None
    count = points.shape[1]
    segments, places, sure = np.full(count, -1), np.zeros((count, 3)), np.zeros(count)
    segments[often], places[often], sure[often] = best.segments, best.places, best.sure
    return replace(best, segments=segments, places=places, sure=sure)


def _posture(structure: Structure, turns: dict[str, tuple[float, float, float]]) -> np.ndarray:
    q = usual_pose(structure)
    for joint, segment in enumerate(structure.segments):
        side = next((s for s in SIDES if segment.name.startswith(s)), "")
        angles = turns.get(segment.name.removeprefix(side))
        if not side or angles is None:
            continue
        mirror = np.array([1.0, 1.0, 1.0])
        if side == "right":
            order = segment.order if segment.kind != BALL else "XYZ"
            mirror = np.array([1.0 if axis == "X" else -1.0 for axis in order])
        radians = np.radians(np.array(angles) * mirror)
        q[joint] = rot.from_vector(radians) if segment.kind == BALL else rot.from_euler(segment.order, radians)
    return q


def _beginnings(
    rows: np.ndarray, seen: np.ndarray, stature: float, structure: Structure
) -> list[tuple[Figure, Poses, int]]:
    """``(figure, its pose, the frame of it)`` of the likeliest beginnings, both ways of facing among them."""
    looked = np.unique(np.linspace(0, rows.shape[-1] - 1, 6).astype(int))
    # The frames on which the markers reach highest are the likeliest to stand.
    heights = np.where(seen, rows[:, 1], np.nan)
    tall = reduce.most(heights, axis=0) - reduce.least(heights, axis=0)
    looked = np.unique(np.append(looked[::2], np.argsort(tall)[-3:]))
    found = []
    for (upright, turns), taller in product(_POSTURES, _TALLER):
        own = stature / (upright * taller)
        offsets = structure.shares * own
        figure = Figure(own, offsets, (), np.zeros(0, int), np.zeros((0, 3)), structure)
        surface = Surface(structure, offsets, own)
        at = np.repeat(looked, _YAWS)
        yaw = np.tile(np.arange(_YAWS) * 2 * np.pi / _YAWS, len(looked))
        q = np.repeat(_posture(structure, turns)[..., None], len(at), -1)
        facing = rot.from_axis_angle(rot.AXES["Y"], yaw).T
        q[0] = products(facing, q[0])
        root = reduce.median(np.where(seen[:, None], rows, np.nan)[..., at], axis=0)
        low = reduce.least(heights[:, at], axis=0)
        root[1] = low + offsets[0, 1] * (1.0 if upright >= 1.0 else 0.6)
        poses, cost = _laid(figure, surface, Poses(q, root), rows[..., at], seen[:, at], _COARSE)
        best = np.argsort(cost)[: max(len(cost) // 4, 8)]
        at = at[best]
        poses, cost = _laid(figure, surface, poses.picked(best), rows[..., at], seen[:, at], _FINE)
        for n in np.argsort(cost)[:6]:
            found.append((float(cost[n]), figure, poses.picked(np.array([n])), int(at[n])))
    found.sort(key=lambda f: f[0])
    kept: list[tuple[Figure, Poses, int]] = []
    ways: list[np.ndarray] = []
    for _, figure, poses, frame in found:
        # Where the figure faces, seen against those kept: one of each way is enough.
        ahead = np.append(rot.rotate(poses.q[0, :, 0], np.array([0, 0, 1.0]))[[0, 2]], frame)
        if not any(w[2] == frame and w[:2] @ ahead[:2] > 0.5 for w in ways):
            ways.append(ahead)
            kept.append((figure, poses, frame))
        if len(kept) == 6:
            break
    return kept


def _likeliest(
    rows: np.ndarray, seen: np.ndarray, stature: float, structure: Structure
) -> list[tuple[Figure, Poses, int]]:
    """The beginnings, those first that a few other frames can be solved from."""
    some = np.unique(np.linspace(0, rows.shape[-1] - 1, 7).astype(int))
    costs = []
    beginnings = _beginnings(rows, seen, stature, structure)
    for figure, pose, at in beginnings:
        frames = np.unique(np.append(some, at))
        start = int(np.searchsorted(frames, at))
        figure = _begun(figure, pose, at, rows, seen)
        clean, weights = np.where(seen[:, None], rows, 0.0)[..., frames], seen[:, frames] * 1.0
        poses = _followed(figure, pose, start, clean, weights, 6)
        _, cost = refined(figure, poses, clean, weights, How(0.04, 0.12, steps=2))
        costs.append(float(np.mean(cost)))
    return [beginnings[n] for n in np.argsort(costs)]


def _laid(
    figure: Figure, surface: Surface, poses: Poses, rows: np.ndarray, seen: np.ndarray, spreads: tuple[float, ...]
) -> tuple[Poses, np.ndarray]:
    """Poses whose surfaces are laid into the markers, and what is left ``(frames,)``."""
    guards = Guards(figure.structure)
    points = np.where(seen[:, None], rows, 0.0)
    for spread in spreads:
        turns, places = world(figure.structure, figure.offsets, poses)
        surfaces, far = surface.against(turns, places, points)
        share = np.exp(-0.5 * (far / spread) ** 2)
        share = share / np.maximum(share.sum(1, keepdims=True), 1e-12) * seen[:, None]
        share = share + _wanted(surface.structure, far, seen, spread)
        # A marker far from everything pulls less.
        share /= 1 + (np.abs(far).min(1, keepdims=True) / 0.15) ** 2
        system = gathered(
            figure.structure, turns, places, _sums(surfaces, points, share / max(spread, 0.03) ** 2, places[0])
        )
        add_guards(guards, poses.q, system, 0.6)
        step, _ = system.damped(np.full(poses.frames, 0.02)).solved()
        size = np.maximum(np.abs(step[:-1]).max((0, 1)) / 0.4, np.abs(step[-1]).max(0) / 0.2)
        poses = stepped(poses, step / np.maximum(size, 1))
    turns, places = world(figure.structure, figure.offsets, poses)
    _, far = surface.against(turns, places, points)
    far = np.abs(far)
    nearest = far.min(1)
    count = np.maximum(seen.sum(0), 1)
    cost = np.sum(np.where(seen, np.minimum(nearest / 0.03, 3) ** 2, 0), 0) / count
    # Every segment of a limb, and the head, should have a marker near it.
    limbs = [
        j
        for j, s in enumerate(figure.structure.segments)
        if s.parent and not s.name.endswith(("Toes", "neck", "spine"))
    ]
    alone = np.where(seen[:, None], far, np.inf)[:, limbs].min(0)
    cost = cost + 0.5 * np.mean(np.minimum(alone / 0.05, 3) ** 2, 0)
    return poses, cost + 0.004 * guards.terms(poses.q)[-1]


def _wanted(structure: Structure, far: np.ndarray, seen: np.ndarray, spread: float) -> np.ndarray:
    """Shares ``(markers, joints, frames)`` by which the ends of limbs and the head look for a marker of their own."""
    share = np.zeros_like(far)
    for joint in (j for j, name in enumerate(structure.names) if name.endswith(("head", "Hand", "Foot"))):
        near = np.where(seen, np.abs(far[:, joint]), 9.0)
        near = np.exp(-0.5 * ((near - near.min(0)) / spread) ** 2) * seen
        share[:, joint] = 0.7 * near / np.maximum(near.sum(0), 1e-9)
    return share


def _sums(there: np.ndarray, points: np.ndarray, weights: np.ndarray, about: np.ndarray) -> Sums:
    """Sums over markers in shares: ``there (markers, joints, 3, frames)``, ``weights (markers, joints, frames)``."""
    arms = there - about
    force = weights[:, :, None] * (points[:, None] - there)
    weighted = weights[:, :, None] * arms
    return Sums(
        weights.sum(0),
        weighted.sum(0),
        np.einsum("msif,msjf->sijf", weighted, arms),
        force.sum(0),
        crossed(arms, force[..., None, :])[..., 0, :].sum(0),
    )


def _begun(figure: Figure, pose: Poses, at: int, rows: np.ndarray, seen: np.ndarray) -> Figure:
    """The figure with the markers as one frame's pose has them near its surface."""
    surface = Surface(figure.structure, figure.offsets, figure.stature)
    turns, places = world(figure.structure, figure.offsets, pose)
    point = reduce.mean(np.where(seen[:, None], rows, np.nan), axis=-1)
    point = np.where(seen[:, None, at], rows[..., at], point)[..., None]
    _, far = surface.against(turns, places, point)
    segments = np.abs(far[..., 0]).argmin(1)
    local = in_axes(turns, places, point)[np.arange(len(rows)), segments, :, 0]
    return replace(figure, labels=tuple(map(str, range(len(rows)))), segments=segments, places=local)


def _by_motion(figure: Figure, pose: Poses, at: int, rows: np.ndarray, seen: np.ndarray, loose: np.ndarray) -> Layout:
    """The Layout that goes on from one frame's pose: assignment, figure and poses in turn."""
    structure = figure.structure
    clean, weights = np.where(seen[:, None], rows, 0.0), seen * 1.0
    figure = _begun(figure, pose, at, rows, seen)
    poses = _followed(figure, pose, at, clean, weights)
    for turn, fine in enumerate(_FINER):
        segments, _ = assigned(scores_of(figure, poses, clean, seen), loose, structure)
        place, sigma = (np.array(of) for of in zip(*(broad(structure.segments[s]) for s in segments)))
        prior = prior_of(structure, segments, place, sigma, figure.stature)
        local = mean_places(figure, poses, clean, seen, segments)
        figure = replace(figure, segments=segments, places=local)
        figure, poses = fitted(figure, poses, clean, weights, prior, *fine, steps=3)
        poses = settled(figure, poses, clean, weights, How(*fine, steps=4), (1,) if turn < 4 else ())
    _, each = refined(figure, poses, clean, weights, How(0.01, 0.04, last=True, steps=2))
    segments, sure = assigned(scores_of(figure, poses, clean, seen), loose, structure)
    places = mean_places(figure, poses, clean, seen, segments)
    return Layout(segments, places, sure, figure, float(np.mean(each)) / max(len(rows), 1))


def _followed(figure: Figure, pose: Poses, at: int, rows: np.ndarray, weights: np.ndarray, steps: int = 8) -> Poses:
    """Poses of all frames from one frame's: those of the most alike shapes first, each from the most alike that is known."""
    frames = rows.shape[-1]
    poses = started(figure, rows, weights)
    poses.put(np.array([at]), pose)
    unlike = unlikeness(np.moveaxis(np.where(weights[:, None] > 0, rows, np.nan), -1, 0))
    solved = np.zeros(frames, bool)
    solved[at] = True
    how = How(0.06, 0.3, steps=steps)
    while not solved.all():
        rest, known = np.flatnonzero(~solved), np.flatnonzero(solved)
        across = unlike[np.ix_(rest, known)]
        nearest = across.min(1)
        batch = np.argsort(nearest)[: max(len(rest) // 3, 2)]
        start = poses.picked(rest[batch])
        start.q[1:] = poses.q[1:][..., known[across[batch].argmin(1)]]
        made, _ = refined(figure, start, rows[..., rest[batch]], weights[:, rest[batch]], how)
        poses.put(rest[batch], made)
        solved[rest[batch]] = True
    return settled(figure, poses, rows, weights, How(0.04, 0.2, steps=5), (1, 2))
