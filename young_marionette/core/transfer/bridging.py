"""Ways between frames in which something is fixed: smooth to the speed, so that no pop is seen where they begin."""

from __future__ import annotations

import numpy as np

_LONGEST = 0.9  # seconds over which a correction goes from one contact to the next; else it fades
_FADE = 0.35  # seconds in which a correction fades where no other contact is near
_MOMENT = 0.03  # seconds over which that speed is taken
_SOON = 0.25  # seconds in which the speed of a contact that slid dies away


def bridged(values: np.ndarray, fixed: np.ndarray, rate: float, most: float = np.inf) -> np.ndarray:
    """``values (frames, n)`` where ``fixed (frames,)``, and a smooth way between, which goes on with both ends' slopes.

    Where the next fixed frame is far, values fade to zero and come back. ``most``: what slopes may be at most, per second.
    """
    out = np.where(fixed[:, None], values, 0.0)
    edges = np.flatnonzero(np.diff(np.concatenate([[False], fixed, [False]]).astype(np.int8)))
    starts, ends = edges[::2].tolist(), (edges[1::2] - 1).tolist()
    last, fade, longest = len(values) - 1, max(round(_FADE * rate), 2), _LONGEST * rate
    rest = np.zeros((2, values.shape[1]))
    ways: dict[int, np.ndarray] = {}

    def fill(a: int, b: int, before: np.ndarray, after: np.ndarray) -> None:
        if b - a > 1:
            if b - a not in ways:
                ways[b - a] = _way(b - a, rate)
            out[a + 1 : b] = ways[b - a] @ np.concatenate([before, after])

    for i in range(len(starts) + 1):
        a = ends[i - 1] if i else None
        b = starts[i] if i < len(starts) else None
        leaves = rest if a is None else _end(values, starts[i - 1], a, -1, rate, most)
        comes = rest if b is None else _end(values, b, ends[i], 1, rate, most)
        if a is not None and b is not None and b - a <= longest:
            fill(a, b, leaves, comes)
            continue
        if a is not None and a < last:
            fill(a, min(a + fade, last + 1), leaves, rest)
        if b is not None and b > 0:
            fill(max(b - fade, -1), b, rest, comes)
    return out


def _end(values: np.ndarray, first: int, last: int, side: int, rate: float, most: float) -> np.ndarray:
    """Value and slope per frame ``(2, n)`` at the beginning (``side`` 1) or end (-1) of a fixed stretch.

    The slope is taken over a moment, so that the jitter of single frames does not count, and is no more than ``most`` per
    second: what is fixed hardly slides.
    """
    at, count = (first if side > 0 else last), last - first + 1
    end = np.zeros((2, values.shape[1]))
    end[0] = values[at]
    if count > 2:
        k = min(max(round(_MOMENT * rate), 1), (count - 1) // 2)
        end[1] = (side / k) * (-1.5 * values[at] + 2 * values[at + side * k] - 0.5 * values[at + 2 * side * k])
    elif count == 2:
        end[1] = side * (values[at + side] - values[at])
    fast = float(np.sqrt(end[1] @ end[1])) * rate
    if fast > most:
        end[1] *= most / fast
    return end


def _way(count: int, rate: float) -> np.ndarray:
    """Shares ``(count - 1, 4)`` by which value and slope of both ends make the frames between: smooth to the speed.

    Slopes die away within a moment, so that a long way does not swing out.
    """
    at = np.arange(1, count)
    u, soon = at / count, min(_SOON * rate, count)
    s, e = np.minimum(at / soon, 1), np.minimum((count - at) / soon, 1)
    over = u**3 * (10 - 15 * u + 6 * u**2)
    return np.stack([1 - over, soon * s * (1 - s) ** 2, over, -soon * e * (1 - e) ** 2], 1)
