"""Poses on all frames of a recording, of a figure that is known: some frames first, then those between, then what markers tell too
little of."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from .choosing import alike, spread_frames
from .figure import Figure
from .posing import Poses, normal, predicted, tukey, world
from .rows import rows_of
from .smoothing import aims, between
from .tracking import How, annealed, refined, settled, started

Progress = Callable[[float], None]
SIGMA = 0.004  # metres that a good marker may be off
OUT = 0.035  # metres at which a marker counts no more
_CLEANEST = 0.00005  # metres that any marker is off
_NOISY = 0.0007  # metres: what real recordings have
_BLOCK = 512  # frames worked out together
_EASED = 0.1  # seconds over which a marker comes in and goes out


def solve_poses(
    figure: Figure,
    points: np.ndarray,
    rate: float,
    known: tuple[np.ndarray, Poses] | None = None,
    progress: Progress = lambda share: None,
) -> Poses:
    """Poses on all frames of a known figure. ``points (frames, markers, 3)``: NaN where not seen or not believed.

    ``known``: frames whose poses are known roughly, and these.
    """
    frames = len(points)
    rows, seen = rows_of(points)
    if known is None:
        at = spread_frames(points)
        known = at, annealed(figure, rows[..., at], seen[:, at] * 1.0)
    some = np.unique(np.append(np.arange(0, frames, max(round(rate / 12.5), 1)), frames - 1))
    own, weights = rows[..., some], seen[:, some] * 1.0
    start = started(figure, own, weights)
    start.q[1:] = known[1].q[1:][..., alike(points[some], points[known[0]])]
    start = settled(figure, start, own, weights, How(0.012, 0.08, steps=8), (1, 2, 1))
    progress(0.3)
    more = np.unique(np.append(np.arange(0, frames, max(round(rate / 50), 1)), frames - 1))
    poses = between(start, np.searchsorted(more, some), len(more)) if len(more) > len(some) else start
    poses = settled(figure, poses, rows[..., more], seen[:, more] * 1.0, How(SIGMA, OUT, steps=4), (1, 2))
    progress(0.55)
    weights = eased(seen, rate)
    poses, _ = refined(figure, between(poses, more, frames), rows, weights, How(SIGMA, OUT, last=True, steps=2))
    progress(0.75)
    return finished(figure, poses, rows, weights, rate)


def finished(figure: Figure, poses: Poses, points: np.ndarray, weights: np.ndarray, rate: float) -> Poses:
    """Poses with markers believed as far as they deserve: clean ones leave what is usual of a body hardly any say."""
    sigma = noise_of(figure, poses, points, weights)
    # The cleaner, the more there is to gain by going on.
    for _ in range(1 if sigma > _NOISY else 4):
        poses, _ = refined(figure, poses, points, weights, How(sigma, OUT, last=True, steps=2 if sigma > _NOISY else 5))
        sigma = noise_of(figure, poses, points, weights)
    return helped(figure, poses, points, weights, rate, sigma)


def noise_of(figure: Figure, poses: Poses, points: np.ndarray, weights: np.ndarray) -> float:
    """How far markers usually are from where the figure expects them, along one axis, metres."""
    some = np.unique(np.linspace(0, poses.frames - 1, 400).astype(int))
    off = points[..., some] - predicted(figure, *world(figure.structure, figure.offsets, poses.picked(some)))
    far = np.sqrt(np.sum(off * off, 1))[(weights[:, some] > 0.5) & np.isfinite(off).all(1)]
    return float(np.clip(np.median(far) / 1.54, _CLEANEST, SIGMA)) if len(far) else SIGMA


def helped(
    figure: Figure, poses: Poses, points: np.ndarray, weights: np.ndarray, rate: float, sigma: float = SIGMA
) -> Poses:
    """Poses with joints of which the markers tell too little drawn to a smooth way between the frames where they do."""
    frames, count = poses.frames, len(figure.structure)
    told, told_root = np.empty((count, frames)), np.empty(frames)
    for at in range(0, frames, _BLOCK):
        span = slice(at, at + _BLOCK)
        off = points[..., span] - predicted(figure, *world(figure.structure, figure.offsets, poses.picked(span)))
        robust, _ = tukey(np.sqrt(np.nansum(off * off, 1)), OUT)
        clean = np.where(weights[:, None, span] > 0, points[..., span], 0.0)
        system = normal(figure, poses.picked(span), clean, weights[:, span] * robust / SIGMA**2)
        for joint in range(count):
            told[joint, span] = np.linalg.eigvalsh(np.moveaxis(system.blocks[joint][0], -1, 0))[:, 0]
        told_root[span] = system.blocks[-1][0, 0, 0]
    drawn = aims(poses, told, told_root, rate)
    # Only frames on which something is missing: the others stay as their markers have them.
    some = np.flatnonzero((drawn.pull > 0).any(0) | (drawn.root_pull > 0))
    if len(some):
        own, _ = refined(
            figure, poses.picked(some), points[..., some], weights[:, some], How(sigma, OUT, last=True, steps=3),
            drawn.picked(some),
        )  # fmt: skip
        poses.put(some, own)
    return poses


def eased(seen: np.ndarray, rate: float) -> np.ndarray:
    """Weights ``(markers, frames)``: 0 where not ``seen``, rising to 1 over a tenth of a second beside gaps."""
    reach = max(round(_EASED * rate), 1)
    frames, hidden, never = np.arange(seen.shape[1]), ~seen, seen.shape[1] + reach
    before = np.maximum.accumulate(np.where(hidden, frames, -never), axis=1)
    after = np.minimum.accumulate(np.where(hidden, frames, 2 * never)[:, ::-1], axis=1)[:, ::-1]
    near = np.minimum(frames - before, after - frames)
    weights: np.ndarray = seen * np.clip(near / (reach + 1), 0.02, 1) ** 2
    return weights


def expected_places(figure: Figure, poses: Poses) -> np.ndarray:
    """Where the figure's markers are on all frames ``(frames, markers, 3)``."""
    parts = []
    for at in range(0, poses.frames, _BLOCK):
        some = poses.picked(slice(at, at + _BLOCK))
        parts.append(np.moveaxis(predicted(figure, *world(figure.structure, figure.offsets, some)), -1, 0))
    return np.concatenate(parts)
