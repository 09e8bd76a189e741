"""What can be told of markers from their ways through space alone, without knowing the body: jumps, spikes, exchanges."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..stretches import ends_of
from . import seen as reduce

_SPEEDUP = 90.0  # metres per second squared that no marker on a body does between frames
_LEAST = 0.012  # metres off the expected place that are no jump
_SPIKE = 0.12  # seconds that a spike lasts at most


@dataclass(frozen=True)
class Exchange:
    """Two markers that change places from frame ``first`` to ``last``, both included."""

    a: int
    b: int
    first: int
    last: int

    def touches(self, mask: np.ndarray) -> bool:
        """Whether a mask ``(frames, markers)`` holds anywhere on it."""
        return bool(mask[self.first : self.last + 1, [self.a, self.b]].any())


def filled(points: np.ndarray) -> np.ndarray:
    """``points (frames, markers, 3)`` with gaps bridged in straight lines, and ends held; NaN for what is never seen."""
    full = points.copy()
    frames = np.arange(len(points))
    for marker in range(points.shape[1]):
        seen = np.isfinite(points[:, marker]).all(-1)
        if seen.any() and not seen.all():
            for axis in range(3):
                full[:, marker, axis] = np.interp(frames, frames[seen], points[seen, marker, axis])
    return full


def expected(points: np.ndarray) -> np.ndarray:
    """Where each marker is expected by the frames before: straight on, at the speed that it last had; NaN where that can't be told."""
    ahead = np.full_like(points, np.nan)
    ahead[1:] = points[:-1]
    ahead[2:] = np.where(np.isfinite(points[:-2]), 2 * points[1:-1] - points[:-2], ahead[2:])
    return ahead


def jump_size(rate: float) -> float:
    """How far off its expected place a marker must be for a jump, metres."""
    return _LEAST + _SPEEDUP / rate**2


def exchanges(points: np.ndarray, rate: float) -> list[Exchange]:
    """Pairs of markers that change places at once, and back: each is where the other was expected."""
    far = jump_size(rate)
    ahead = expected(points)
    off = np.linalg.norm(points - ahead, axis=-1)
    with np.errstate(invalid="ignore"):
        jumps = off > far
    events: dict[tuple[int, int], list[int]] = {}
    for frame in np.flatnonzero(jumps.sum(1) >= 2):
        jumped = np.flatnonzero(jumps[frame])
        across = np.linalg.norm(points[frame, jumped][:, None] - ahead[frame, jumped][None], axis=-1)
        own = off[frame, jumped]
        for i in range(len(jumped)):
            for j in range(i + 1, len(jumped)):
                crossed = across[i, j] + across[j, i]
                if crossed < 0.35 * (own[i] + own[j]) and crossed < 2.2 * far:
                    events.setdefault((int(jumped[i]), int(jumped[j])), []).append(int(frame))
    found = []
    for (a, b), frames in events.items():
        # A step that is told on two frames running is one: the speed before it was the jump's.
        frames = [f for n, f in enumerate(frames) if n == 0 or f - frames[n - 1] > 1]
        for start, end in zip(frames[::2], [*frames[1::2], None]):
            if end is not None:
                found.append(Exchange(a, b, start, end - 1))
            elif start < len(points) - start:
                found.append(Exchange(a, b, 0, start - 1))
            else:
                found.append(Exchange(a, b, start, len(points) - 1))
    return found


def exchanged(points: np.ndarray, of: list[Exchange]) -> np.ndarray:
    """The points with markers put back in their places."""
    points = points.copy()
    for swap in of:
        span = slice(swap.first, swap.last + 1)
        points[span, [swap.a, swap.b]] = points[span, [swap.b, swap.a]]
    return points


def spikes(points: np.ndarray, rate: float) -> np.ndarray:
    """Frames on which a marker is off the line between the frames before and after, for a moment only ``(frames, markers)``."""
    full = filled(points)
    far = jump_size(rate)
    most = max(round(_SPIKE * rate), 1)
    found = np.zeros(points.shape[:2], bool)
    with np.errstate(invalid="ignore"):
        steps = np.linalg.norm(np.diff(full, axis=0), axis=-1)
        usual = reduce.median(steps, axis=0) if len(steps) else np.zeros(points.shape[1])
        large = steps > far + 4 * usual
    for marker in range(points.shape[1]):
        at = np.flatnonzero(large[:, marker])
        for out in at:
            back = at[(at > out) & (at <= out + most)]
            if not len(back) or found[out + 1, marker]:
                continue
            stop = int(back[-1])  # the step from ``stop`` to ``stop + 1`` leads back
            before, after = full[out, marker], full[stop + 1, marker]
            share = (np.arange(out + 1, stop + 1) - out)[:, None] / (stop + 1 - out)
            away = np.linalg.norm(full[out + 1 : stop + 1, marker] - (before + share * (after - before)), axis=-1)
            if np.linalg.norm(after - before) < 0.4 * away.max() and away.max() > 1.5 * far:
                found[out + 1 : stop + 1, marker] = True
    return found & np.isfinite(points).all(-1)


def left(points: np.ndarray, rate: float, spread: float = 0.004, moved: float = 0.03, long: float = 0.25) -> np.ndarray:
    """Where a marker stands still while those that keep their distance to it best come or go ``(frames, markers)``.

    Still is what stays within ``spread`` metres for ``long`` seconds; the distance to each of its neighbours changes by ``moved``
    metres meanwhile.
    """
    full = filled(points)
    window = 2 * max(round(long * rate / 2), 2) + 1
    found = np.zeros(points.shape[:2], bool)
    if len(points) < window:
        return found
    centred = np.nan_to_num(full - reduce.mean(full, axis=0))
    from scipy.ndimage import maximum_filter1d, uniform_filter1d  # slow to load

    mean = uniform_filter1d(centred, window, axis=0)
    variance = uniform_filter1d(centred * centred, window, axis=0) - mean * mean
    calm = np.sum(variance, -1) < spread**2
    calm[: window // 2], calm[len(calm) - window // 2 :] = False, False
    still = maximum_filter1d(calm.astype(np.uint8), window, axis=0) > 0
    for marker in np.flatnonzero(still.any(0)):
        apart = np.linalg.norm(full - full[:, [marker]], axis=-1)
        moving = ~still[:, marker]
        if moving.sum() < window:
            continue
        loose = np.std(apart[moving], axis=0)
        loose[marker] = np.inf
        beside = np.argsort(np.where(np.isfinite(loose), loose, np.inf))[:3]
        for first, last in zip(*ends_of(still[:, marker])):
            if np.ptp(apart[first : last + 1, beside], axis=0).min() > moved:
                found[first : last + 1, marker] = True
    return found


def jumps(points: np.ndarray, rate: float) -> np.ndarray:
    """Where a marker is not where the frames before let it be expected ``(frames, markers)``, or comes back after a gap."""
    ahead = expected(filled(points))
    off = np.linalg.norm(filled(points) - ahead, axis=-1)
    seen = np.isfinite(points).all(-1)
    with np.errstate(invalid="ignore"):
        jumped = off > jump_size(rate)
    # Across a gap the way was made up: whatever happened there may be a jump.
    jumped[1:] |= seen[1:] != seen[:-1]
    return jumped


def believable(points: np.ndarray, rate: float, sure: np.ndarray | None = None) -> tuple[np.ndarray, list[Exchange]]:
    """``(points, exchanges)``: ``points (frames, markers, 3)`` with markers that change places put back, and NaN where they spike or
    are left behind; but for what is ``sure (frames, markers)``."""
    if sure is None:
        sure = np.zeros(points.shape[:2], bool)
    swaps = [swap for swap in exchanges(points, rate) if not swap.touches(sure)]
    points = exchanged(points, swaps)
    return np.where(((spikes(points, rate) | left(points, rate)) & ~sure)[..., None], np.nan, points), swaps
