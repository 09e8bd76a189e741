"""Which segment each marker belongs to, as poses and distances tell it: where it keeps its place, and to which markers its distance."""

from __future__ import annotations

import numpy as np

from . import seen as reduce
from .figure import Figure
from .posing import Poses, world
from .segments import Structure
from .surface import Surface, in_axes

_RIGID = 0.006  # metres that a marker moves in its own segment's axes
_FLESH = 0.028  # metres that it is off the usual surface
_LONELY = 2.0  # what speaks against being the only marker of a segment


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


def assigned(scores: np.ndarray, loose: np.ndarray, structure: Structure) -> tuple[np.ndarray, np.ndarray]:
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


def scores_of(figure: Figure, poses: Poses, rows: np.ndarray, seen: np.ndarray) -> np.ndarray:
    """How badly each marker goes with each segment ``(markers, joints)``: it moves in its axes, or is far from its surface."""
    local = in_axes(*world(figure.structure, figure.offsets, poses), rows)
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


def mean_places(figure: Figure, poses: Poses, rows: np.ndarray, seen: np.ndarray, segments: np.ndarray) -> np.ndarray:
    local = in_axes(*world(figure.structure, figure.offsets, poses), rows)[np.arange(len(rows)), segments]
    places: np.ndarray = reduce.median(np.where(seen[:, None], local, np.nan), axis=-1)
    return places
