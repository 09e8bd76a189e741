"""Frames to fit a figure by: some hundred that differ from each other as much as they can."""

from __future__ import annotations

import numpy as np

from . import seen as reduce

_PAIRS, _LOOKED_AT = 60, 3000
_SEEN = 0.7  # the share of markers that a frame must have, of what the best frames have


def spread_frames(points: np.ndarray, count: int = 96) -> np.ndarray:
    """Numbers of up to ``count`` frames ``(n,)`` with many markers seen and unlike shapes (farthest-point sampling, Gonzalez 1985)."""
    seen = np.isfinite(points).all(-1)
    share = seen.mean(1)
    good = np.flatnonzero(share >= _SEEN * share.max(initial=0))
    if len(good) > _LOOKED_AT:
        good = good[np.unique(np.linspace(0, len(good) - 1, _LOOKED_AT).astype(int))]
    if len(good) <= count:
        return good
    often = np.flatnonzero(seen[good].mean(0) > 0.5)
    if len(often) < 3:
        return good[np.unique(np.linspace(0, len(good) - 1, count).astype(int))]
    shape = _shape(points[good], often)
    # Where the whole turns and goes counts too, a little: what is fixed in the room shows against it.
    middle = reduce.mean(points[good][:, often], axis=1)
    shape = np.hstack([shape, 0.3 * middle])
    shape = np.where(np.isfinite(shape), shape, reduce.median(shape, axis=0))
    chosen = [int(np.argmax(share[good]))]
    nearest = np.full(len(good), np.inf)
    for _ in range(count - 1):
        nearest = np.minimum(nearest, np.sum((shape - shape[chosen[-1]]) ** 2, -1))
        chosen.append(int(np.argmax(nearest)))
    return np.sort(good[np.unique(chosen)])


def alike(points: np.ndarray, known: np.ndarray) -> np.ndarray:
    """For each frame of ``points (frames, markers, 3)`` the number of the frame of ``known`` (likewise) whose shape is most like its own."""
    often = np.flatnonzero(np.isfinite(known).all(-1).mean(0) > 0.5)
    if len(often) < 3:
        return np.zeros(len(points), int)
    mine, theirs = _shape(points, often), _shape(known, often)
    middle = reduce.median(theirs, axis=0)
    mine, theirs = np.where(np.isfinite(mine), mine, middle), np.where(np.isfinite(theirs), theirs, middle)
    from scipy.spatial import cKDTree  # slow to load

    nearest: np.ndarray = cKDTree(theirs).query(mine)[1]
    return nearest


def _shape(points: np.ndarray, markers: np.ndarray) -> np.ndarray:
    """Some distances between markers ``(frames, pairs)``: alike for poses that are alike, wherever they stand."""
    a, b = np.random.default_rng(1).choice(markers, (2, _PAIRS))
    distances: np.ndarray = np.linalg.norm(points[:, a] - points[:, b], axis=-1)
    return distances


def unlikeness(points: np.ndarray) -> np.ndarray:
    """How unlike the shapes of frames are ``(frames, frames)``, metres; ``points (frames, markers, 3)``."""
    often = np.flatnonzero(np.isfinite(points).all(-1).mean(0) > 0.5)
    if len(often) < 3:
        return np.abs(np.subtract.outer(np.arange(len(points)), np.arange(len(points)))) * 1.0
    shape = _shape(points, often)
    shape = np.where(np.isfinite(shape), shape, reduce.median(shape, axis=0))
    from scipy.spatial.distance import cdist  # slow to load

    return np.asarray(cdist(shape, shape))
