"""Markers without labels that help: which segment each goes with, from where they are and how they move together.

First the body's surface is laid into the markers of a few frames from many beginnings (facing, posture), every marker drawn
to the surfaces near it in shares (as in Granger and Pennec 2002, multi-scale EM-ICP). What fits best tells each marker's
segment roughly. Then motion decides: with poses of many frames solved, a marker belongs where it keeps its place in the
segment's axes; figure, poses and assignment are refined in turn.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from .. import rotations as rot
from . import seen as reduce
from .choosing import spread_frames, unlikeness
from .figure import Figure
from .fitting import fitted, prior_of
from .guards import Guards
from .posing import Poses, Sums, add_guards, gathered, stepped, world
from .rows import crossed, products
from .segments import BODY, Structure
from .sites import broad
from .tracking import How, refined, settled, started, usual_pose

_SEEN = 0.3  # the share of frames on which a marker must be seen to count at first
_RIGID = 0.006  # metres that a marker moves in its own segment's axes
_FLESH = 0.028  # metres that it is off the usual surface
_LONELY = 2.0  # what speaks against being the only marker of a segment
_YAWS = 8
_GOOD = 0.5  # the cost of a layout that needs no rival
# Postures to begin with: turns of joints (Euler angles in the orders of the segments, degrees; rotation vectors of ball joints).
# With the share of the stature that the highest marker is over the lowest then.
_POSTURES: tuple[tuple[float, dict[str, tuple[float, float, float]]], ...] = (
    (1.0, {"UpperArm": (0, 0, -5), "LowerArm": (-8, 0, 0), "UpperLeg": (0, 0, 0), "LowerLeg": (4, 0, 0)}),
    (1.0, {"UpperArm": (0, 0, -72), "LowerArm": (-15, 0, 0), "UpperLeg": (0, 0, 0), "LowerLeg": (4, 0, 0)}),
    (1.0, {"UpperArm": (0, 0, -65), "LowerArm": (-85, 0, 0), "UpperLeg": (-5, 0, 0), "LowerLeg": (10, 0, 0)}),
    (1.0, {"UpperArm": (0, -70, -10), "LowerArm": (-20, 0, 0), "UpperLeg": (-5, 0, 0), "LowerLeg": (10, 0, 0)}),
    (1.13, {"UpperArm": (0, -70, 40), "LowerArm": (-50, 0, 0), "UpperLeg": (-5, 0, 0), "LowerLeg": (8, 0, 0)}),
    (1.25, {"UpperArm": (0, -30, 60), "LowerArm": (-20, 0, 0), "UpperLeg": (0, 0, 0), "LowerLeg": (4, 0, 0)}),
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


class Surface:
    """The usual surface of a figure: flat capsules around its bones."""

    def __init__(self, structure: Structure, offsets: np.ndarray, stature: float) -> None:
        self.structure, self.stature = structure, stature
        tips = structure.tip_shares * stature
        for joint in range(len(structure)):
            end = structure.next_joint(joint)
            tips[joint] = offsets[end] if end != joint else tips[joint]
        self.starts = np.array([s.start for s in structure.segments]) * stature
        self.tips = tips - self.starts
        tips = self.tips
        self.square = np.maximum(np.sum(tips * tips, -1), 1e-9)
        self.radius = np.array([s.radius for s in structure.segments]) * stature
        self.taper = np.array([s.taper for s in structure.segments])
        self.wide = np.array([s.wide for s in structure.segments]) * stature

    def nearest(self, local: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """``(nearest points of the surfaces (..., joints, 3, n), distances from them (..., joints, n))`` of points in the joints' axes
        ``(..., joints, 3, n)``; inside is negative."""
        local = local - self.starts[..., None]
        share = np.clip(np.einsum("...sif,si->...sf", local, self.tips) / self.square[:, None], 0, 1)
        axis = share[..., None, :] * self.tips[..., None]
        axis[..., 0, :] += np.clip(local[..., 0, :] - axis[..., 0, :], -self.wide[:, None], self.wide[:, None])
        off = local - axis
        far = np.sqrt(np.sum(off * off, -2))
        radius = self.radius[:, None] * (1 - self.taper[:, None] * share)
        near = axis + off * (radius / np.maximum(far, 1e-6))[..., None, :]
        return near + self.starts[..., None], far - radius


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
    rows = np.ascontiguousarray(np.moveaxis(own[frames], 0, -1))
    there = np.isfinite(rows).all(1)
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


def looseness(points: np.ndarray) -> np.ndarray:
    """How much the distances between markers change ``(markers, markers)``, in shares of what does not change; inf where that is not known."""
    some = points[:: max(len(points) // 700, 1)]
    count = some.shape[1]
    loose = np.full((count, count), np.inf)
    for marker in range(count):
        apart = np.linalg.norm(some - some[:, [marker]], axis=-1)
        both = np.isfinite(apart)
        enough = both.sum(0) >= 20
        middle = reduce.median(apart[:, enough], axis=0)
        # A share of the frames may be faulty: the spread is of the rest.
        loose[marker, enough] = 1.48 * reduce.median(np.abs(apart[:, enough] - middle), axis=0)
        far = reduce.percentile(np.abs(apart[:, enough] - middle), 85, axis=0) / 1.44
        loose[marker, enough] = np.maximum(loose[marker, enough], far)
    np.fill_diagonal(loose, np.inf)
    least = np.min(loose, axis=1)
    noise = max(float(np.median(least[np.isfinite(least)])) if np.isfinite(least).any() else 0.001, 2e-4)
    return loose / noise


def _posture(structure: Structure, turns: dict[str, tuple[float, float, float]]) -> np.ndarray:
    q = usual_pose(structure)
    for joint, segment in enumerate(structure.segments):
        side = next((s for s in ("left", "right") if segment.name.startswith(s)), "")
        angles = turns.get(segment.name.removeprefix(side))
        if not side or angles is None:
            continue
        mirror = np.array([1.0, 1.0, 1.0])
        if side == "right":
            order = segment.order if segment.kind != "ball" else "XYZ"
            mirror = np.array([1.0 if axis == "X" else -1.0 for axis in order])
        radians = np.radians(np.array(angles) * mirror)
        q[joint] = rot.from_vector(radians) if segment.kind == "ball" else rot.from_euler(segment.order, radians)
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
    for upright, turns in _POSTURES:
        own = stature / upright
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
        poses, cost = _laid(figure, surface, Poses(q, root), rows[..., at], seen[:, at])
        for n in np.argsort(cost)[:6]:
            found.append((float(cost[n]), figure, poses.picked(np.array([n])), int(at[n]), float(yaw[n])))
    found.sort(key=lambda f: f[0])
    kept: list[tuple[Figure, Poses, int]] = []
    ways: list[np.ndarray] = []
    for _, figure, poses, frame, _ in found:
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
        figure, _ = _begun(figure, pose, at, rows, seen)
        clean, weights = np.where(seen[:, None], rows, 0.0)[..., frames], seen[:, frames] * 1.0
        poses = _followed(figure, pose, start, clean, weights, 6)
        _, cost = refined(figure, poses, clean, weights, How(0.04, 0.12, steps=2))
        costs.append(float(np.mean(cost)))
    return [beginnings[n] for n in np.argsort(costs)]


def _laid(
    figure: Figure, surface: Surface, poses: Poses, rows: np.ndarray, seen: np.ndarray
) -> tuple[Poses, np.ndarray]:
    """Poses whose surfaces are laid into the markers, and what is left ``(frames,)``."""
    guards = Guards(figure.structure)
    points = np.where(seen[:, None], rows, 0.0)
    for spread in (0.16, 0.12, 0.1, 0.08, 0.07, 0.06, 0.05, 0.045, 0.04, 0.035, 0.03, 0.03, 0.03):
        turns, places = world(figure.structure, figure.offsets, poses)
        surfaces, far = _against(surface, turns, places, points)
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
    _, far = _against(surface, turns, places, points)
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


def _against(
    surface: Surface, turns: np.ndarray, places: np.ndarray, points: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """``(nearest surface points in the world (markers, joints, 3, frames), distances (markers, joints, frames))``."""
    local = np.einsum("skif,mskf->msif", turns, points[:, None] - places)
    near, far = surface.nearest(local)
    return places + np.einsum("sikf,mskf->msif", turns, near), far


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


def _begun(figure: Figure, pose: Poses, at: int, rows: np.ndarray, seen: np.ndarray) -> tuple[Figure, np.ndarray]:
    """The figure with the markers as one frame's pose has them near its surface."""
    surface = Surface(figure.structure, figure.offsets, figure.stature)
    turns, places = world(figure.structure, figure.offsets, pose)
    point = reduce.mean(np.where(seen[:, None], rows, np.nan), axis=-1)
    point = np.where(seen[:, None, at], rows[..., at], point)
    _, far = _against(surface, turns, places, point[..., None])
    segments = np.abs(far[..., 0]).argmin(1)
    local = np.einsum("skif,mskf->msif", turns, point[:, None, :, None] - places)[..., 0]
    labels = tuple(map(str, range(len(rows))))
    return replace(figure, labels=labels, segments=segments, places=local[np.arange(len(rows)), segments]), segments


def _by_motion(figure: Figure, pose: Poses, at: int, rows: np.ndarray, seen: np.ndarray, loose: np.ndarray) -> Layout:
    """The Layout that goes on from one frame's pose: assignment, figure and poses in turn."""
    structure = figure.structure
    clean, weights = np.where(seen[:, None], rows, 0.0), seen * 1.0
    figure, segments = _begun(figure, pose, at, rows, seen)
    poses = _followed(figure, pose, at, clean, weights)
    for turn in range(6):
        segments, _ = _assigned(_scores(figure, poses, clean, seen), loose, structure)
        place, sigma = (np.array(of) for of in zip(*(broad(structure.segments[s]) for s in segments)))
        prior = prior_of(structure, segments, place, sigma, figure.stature)
        local = _mean_places(figure, poses, clean, seen, segments)
        figure = replace(figure, segments=segments, places=local)
        fine = ((0.05, 0.15), (0.03, 0.1), (0.02, 0.06), (0.012, 0.05), (0.008, 0.04), (0.006, 0.03))[turn]
        figure, poses, _ = fitted(figure, poses, clean, weights, prior, *fine, steps=3)
        poses = settled(figure, poses, clean, weights, How(*fine, steps=4), (1,) if turn < 4 else ())
    _, each = refined(figure, poses, clean, weights, How(0.01, 0.04, last=True, steps=2))
    segments, sure = _assigned(_scores(figure, poses, clean, seen), loose, structure)
    places = _mean_places(figure, poses, clean, seen, segments)
    return Layout(segments, places, sure, figure, float(np.mean(each)) / max(len(rows), 1))


def _assigned(scores: np.ndarray, loose: np.ndarray, structure: Structure) -> tuple[np.ndarray, np.ndarray]:
    """``(segments, how sure)``: by the scores, and by which other markers each keeps its distances to."""
    segments = scores.argmin(1)
    total = scores
    # Hands, feet and shoulders often carry a single marker.
    lonely = np.array([0.3 if n.endswith(("Hand", "Foot", "Shoulder", "Toes")) else _LONELY for n in structure.names])
    for _ in range(6):
        apart = np.tile(lonely, (len(scores), 1))
        for segment in range(scores.shape[1]):
            of = np.flatnonzero(segments == segment)
            if len(of):
                nearest = np.sort(np.where(of[None] == np.arange(len(scores))[:, None], np.inf, loose[:, of]), axis=1)
                known = np.isfinite(nearest[:, 0])
                best = nearest[:, : min(2, max(len(of) - 1, 1))]
                mean = np.mean(np.where(np.isfinite(best), best, nearest[:, :1]), axis=1)
                apart[known, segment] = np.minimum(np.maximum(mean[known] - 1.5, 0) ** 2 * 0.35, 30.0)
        total = scores + apart
        then = total.argmin(1)
        if (then == segments).all():
            break
        segments = then
    return segments, _sure(total)


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


def _in_axes(figure: Figure, poses: Poses, rows: np.ndarray) -> np.ndarray:
    turns, places = world(figure.structure, figure.offsets, poses)
    return np.einsum("skif,mskf->msif", turns, rows[:, None] - places)


def _scores(figure: Figure, poses: Poses, rows: np.ndarray, seen: np.ndarray) -> np.ndarray:
    """How badly each marker goes with each segment ``(markers, joints)``: it moves in its axes, or is far from its surface."""
    local = _in_axes(figure, poses, rows)
    masked = np.where(seen[:, None, None], local, np.nan)
    middle = reduce.median(masked, axis=-1)
    loose = np.sqrt(reduce.median(np.sum((masked - middle[..., None]) ** 2, 2), -1))
    # Of usual lengths: a chest that was stretched over the head's markers would keep them.
    surface = Surface(figure.structure, figure.structure.shares * figure.stature, figure.stature)
    _, far = surface.nearest(middle[..., None])
    far = far[..., 0]
    own = np.minimum((loose / _RIGID) ** 2, 400) * 0.4 + np.minimum((far / _FLESH) ** 2, 400) * 0.5
    scores: np.ndarray = own + _rare(figure.structure) + _near_joint(surface, middle)
    return scores


def _near_joint(surface: Surface, local: np.ndarray) -> np.ndarray:
    """What speaks against the segment below a joint, of markers at the joint: those of knees, elbows, wrists and ankles go with the
    bone above by custom ``(markers, joints)``."""
    structure = surface.structure
    against = np.zeros(local.shape[:2])
    for joint, segment in enumerate(structure.segments):
        if segment.name.endswith(("LowerArm", "Hand", "LowerLeg", "UpperArm", "Toes")):
            along = local[:, joint] @ surface.tips[joint] / surface.square[joint]
            against[:, joint] = 3.0 * np.clip(1 - along / 0.22, 0, 1)
        if segment.name.endswith("Shoulder"):
            along = local[:, joint] @ surface.tips[joint] / surface.square[joint]
            against[:, joint] = 3.0 * np.clip(2 - along / 0.3, 0, 1)
        if segment.name.endswith("Foot"):
            # A foot's own markers are below the ankle.
            above = local[:, joint, 1] / (0.04 * abs(surface.square[joint]) ** 0.5 / 0.09 + 1e-9)
            against[:, joint] = 3.0 * np.clip(0.6 + above, 0, 1)
        if segment.name == "chest":
            # What is far out at the height of the collarbones goes with these.
            out = np.abs(local[:, joint, 0]) / (0.085 * surface.stature)
            high = local[:, joint, 1] / (0.1 * surface.stature)
            against[:, joint] = 3.0 * np.clip((out - 0.75) * 4, 0, 1) * np.clip((high - 0.8) * 5, 0, 1)
    return against


def _rare(structure: Structure) -> np.ndarray:
    """What speaks against segments that seldom have markers of their own ``(joints,)``."""
    less = {"neck": 3.0, "spine": 2.5, "Toes": 2.0}
    return np.array([next((v for k, v in less.items() if name.endswith(k)), 0.0) for name in structure.names])


def _sure(scores: np.ndarray) -> np.ndarray:
    two = np.sort(scores, axis=1)[:, :2]
    sure: np.ndarray = 1 - np.exp(-np.clip(two[:, 1] - two[:, 0], 0, None) / 2)
    return sure


def _mean_places(figure: Figure, poses: Poses, rows: np.ndarray, seen: np.ndarray, segments: np.ndarray) -> np.ndarray:
    local = _in_axes(figure, poses, rows)[np.arange(len(rows)), segments]
    places: np.ndarray = reduce.median(np.where(seen[:, None], local, np.nan), axis=-1)
    return places
