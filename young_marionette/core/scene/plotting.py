"""What of long curves is drawn: no more points than a picture can show."""

from __future__ import annotations

import numpy as np


def highest_of(values: np.ndarray, first: float, last: float, pixels: float) -> list[tuple[float, float]]:
    """``(frame, value)`` to draw of ``values (frames,)`` between two frames: all, or the highest of each pixel."""
    start, end = max(int(first), 0), min(int(np.ceil(last)) + 1, len(values))
    part = values[start:end]
    if not len(part):
        return []
    frames = np.arange(start, end)
    if len(part) > 2 * pixels:
        starts = np.linspace(0, len(part), int(pixels), endpoint=False).astype(int)
        frames, part = frames[starts], np.maximum.reduceat(part, starts)
    return list(zip(frames.tolist(), part.tolist()))


def outline(
    values: np.ndarray, first: float, last: float, columns: int, across: tuple[float, float], up: tuple[float, float]
) -> tuple[np.ndarray, np.ndarray]:
    """Places ``(xs, ys)`` to draw of ``values (frames,)`` between two frames: all of them, or lowest and highest of each column of
    pixels, so that no spike is lost. ``across`` and ``up``: where frame 0, or value 0, is drawn, and how far it is from
    there to the next one.
    """
    start, end = max(int(np.floor(first)), 0), min(int(np.ceil(last)) + 1, len(values))
    if end <= start:
        return np.zeros(0), np.zeros(0)
    places, seen = np.arange(start, end, dtype=float), values[start:end]
    if end - start > 2 * columns:
        edges = np.linspace(0, end - start, columns, endpoint=False).astype(int)
        places = np.repeat(start + edges.astype(float), 2)
        seen = np.stack([np.minimum.reduceat(seen, edges), np.maximum.reduceat(seen, edges)], axis=1).ravel()
    return across[0] + places * across[1], np.clip(up[0] + seen * up[1], -1e5, 1e5)
