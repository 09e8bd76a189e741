"""Keys in time as poses on every frame: interpolation as glTF tells it, and the rate that keys were meant for."""

from __future__ import annotations

import numpy as np

from ..core import rotations as rot
from ..core.errors import InputError

RATES = (
    24.0,
    25.0,
    30.0,
    48.0,
    50.0,
    60.0,
    72.0,
    90.0,
    100.0,
    120.0,
    144.0,
    240.0,
    24000 / 1001,
    30000 / 1001,
    60000 / 1001,
)
OWN_RATE = 60.0
_MAX_FRAMES = 2_000_000
_MAX_NUMBERS = 1 << 28


def check_size(label, name, frames, joints):
    """InputError where a clip would be larger than can be used."""
    if frames > _MAX_FRAMES or frames * joints * 4 > _MAX_NUMBERS:
        raise InputError(f"{label}: {name} would have {frames} frames, which is more than can be used.")


def sampled(times, values, way, at, turns=False):
    """Values ``(keys, ..., n)`` at the times ``at (m,)``; before the first and after the last key they stand still.

    ``CUBICSPLINE`` has three rows for each key: tangent in, value, tangent out.
    """
    count = len(times)
    parts = values.reshape(count, 3, *values.shape[1:]) if way == "CUBICSPLINE" else values[:, None]
    points = parts[:, 1] if way == "CUBICSPLINE" else values
    if turns:
        points = points / np.maximum(np.linalg.norm(points, axis=-1, keepdims=True), 1e-12)
    at = np.clip(at, times[0], times[-1])
    low = np.clip(np.searchsorted(times, at, side="right") - 1, 0, max(count - 2, 0))
    if count == 1:
        return np.repeat(points, len(at), 0)
    step = times[low + 1] - times[low]
    share = np.divide(at - times[low], step, out=np.zeros(len(at)), where=step > 0)
    if way == "STEP" or not (share % 1).any():
        return points[low + (share >= 1)]
    share, step = (row.reshape(-1, *[1] * (points.ndim - 1)) for row in (share, step))
    if way == "LINEAR":
        if turns:
            return rot.slerp(points[low], points[low + 1], share[..., 0])
        return points[low] * (1 - share) + points[low + 1] * share
    s2, s3 = share**2, share**3
    result = (
        (2 * s3 - 3 * s2 + 1) * parts[low, 1]
        + (s3 - 2 * s2 + share) * step * parts[low, 2]
        + (3 * s2 - 2 * s3) * parts[low + 1, 1]
        + (s3 - s2) * step * parts[low + 1, 0]
    )
    return rot.normalise(result) if turns else result


def grid_rate(all_times, smooth=False):
    """``(rate, on the grid)``: the rate of keys on every frame, else the lowest usual one whose frames all keys fall on.

    ``smooth``: what lies between keys is curved, so that keys alone are too few frames.
    """
    times = np.unique(np.concatenate(all_times))
    times = times - times[0]
    if len(times) < 2:
        return 30.0, True
    step = float(np.median(np.diff(times)))
    if step > 0 and not smooth and np.abs(times / step - np.round(times / step)).max() < 0.02:
        # Frames at every key, whatever the rate: a usual one where rounding alone keeps it from being that.
        rate = 1 / step
        usual = min(RATES, key=lambda r: abs(r - rate))
        rate = usual if abs(usual / rate - 1) < 2e-3 else rate
        if rate > 11.5 and np.isclose(len(times) - 1, round(times[-1] * rate), atol=0.5):
            rate = usual if abs(usual / rate - 1) < 2e-3 else (len(times) - 1) / times[-1]
            return float(rate), True
    for rate in RATES:
        if np.abs(times * rate - np.round(times * rate)).max() < 0.02:
            return rate, True
    return OWN_RATE, False
