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
