"""Ways between frames in which something is fixed: smooth to the speed, so that no pop is seen where they begin."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from ..smoothing import eased, largest_within
from ..stretches import ends_of

_MOMENT = 0.03  # seconds over which the speed at an end is taken


class Pace(NamedTuple):
    """How a correction goes on between contacts, in seconds: over ways up to ``longest`` it goes from one to the next, else it
    fades within ``fade`` (no more than half of that); the speed of a contact that slid dies away within ``soon``.
    """

    longest: float
    fade: float
    soon: float


WALKING = Pace(0.9, 0.35, 0.4)  # of other proportions, or of hips that were moved: all steps are off alike
PASSING = Pace(0.24, 0.12, 0.06)  # of noise, and of what filters bend at a contact's ends: gone with the contact


def bridged(
    values: np.ndarray, fixed: np.ndarray, rate: float, most: float = np.inf, pace: Pace = WALKING
) -> np.ndarray:
    """``values (frames, n)`` where ``fixed (frames,)``, and a smooth way between, which goes on with both ends' slopes.

    Where the next fixed frame is far, values fade to zero and come back. ``most``: what slopes may be at most, per second.
    """
    out = np.where(fixed[:, None], values, 0.0)
    starts, ends = ends_of(fixed)
    leaves, comes = (_ends(values, starts, ends, side, rate, most) for side in (-1, 1))
    last, fade, longest = len(values) - 1, max(round(pace.fade * rate), 2), pace.longest * rate
    rest = np.zeros((2, values.shape[1]))
    ways: dict[int, np.ndarray] = {}

    def fill(a: int, b: int, before: np.ndarray, after: np.ndarray) -> None:
        if b - a > 1:
            if b - a not in ways:
                ways[b - a] = _way(b - a, pace.soon * rate)
            out[a + 1 : b] = ways[b - a] @ np.concatenate([before, after])

    for i in range(len(starts) + 1):
        a = int(ends[i - 1]) if i else None
        b = int(starts[i]) if i < len(starts) else None
        if a is not None and b is not None and b - a <= longest:
            fill(a, b, leaves[i - 1], comes[i])
            continue
        if a is not None and a < last:
            fill(a, min(a + fade, last + 1), leaves[i - 1], rest)
        if b is not None and b > 0:
            fill(max(b - fade, -1), b, rest, comes[i])
    return out


def looked_at(fixed: np.ndarray, rate: float) -> np.ndarray:
    """The ``fixed`` frames (a mask) whose values ``bridged`` goes by: those close to ways."""
    return fixed & largest_within(~fixed, 2 * max(round(_MOMENT * rate), 1) + 1)


def _ends(values: np.ndarray, starts: np.ndarray, ends: np.ndarray, side: int, rate: float, most: float) -> np.ndarray:
    """Values and slopes per frame ``(stretches, 2, n)`` at the beginnings (``side`` 1) or ends (-1) of fixed stretches.

    Slopes are taken over a moment, so that the jitter of single frames does not count, and are no more than ``most`` per
    second: what is fixed hardly slides.
    """
    at = starts if side > 0 else ends
    k = np.minimum(max(round(_MOMENT * rate), 1), (ends - starts) // 2)
    # Of two frames there is one difference, of one frame none.
    near = at + side * np.where(k > 0, k, np.minimum(ends - starts, 1))
    far, k = at + 2 * side * k, k[:, None]
    three = (-1.5 * values[at] + 2 * values[near] - 0.5 * values[far]) / np.maximum(k, 1)
    slopes = side * np.where(k > 0, three, values[near] - values[at])
    fast = np.linalg.norm(slopes, axis=1, keepdims=True) * rate
    slopes *= np.minimum(1.0, most / np.maximum(fast, 1e-12))
    return np.stack([values[at], slopes], 1)


def _way(count: int, soon: float) -> np.ndarray:
    """Shares ``(count - 1, 4)`` by which value and slope of both ends make the frames between: smooth to the speed.

    Slopes die away within ``soon`` frames, so that a long way does not swing out.
    """
    at = np.arange(1, count)
    u, soon = at / count, min(max(soon, 1.0), count)
    s, e = np.minimum(at / soon, 1), np.minimum((count - at) / soon, 1)
    over = eased(u)
    return np.stack([1 - over, soon * s * (1 - s) ** 2, over, -soon * e * (1 - e) ** 2], 1)
