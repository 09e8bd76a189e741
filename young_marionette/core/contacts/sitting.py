"""Whether a body sits: then its feet may rest on anything, and the floor can't be told by them."""

from __future__ import annotations

import numpy as np

_LOW, _AWAY = 0.30, 0.2  # of the stature: hips over the feet, and from them along the floor
_LEVEL = 0.65  # of a thigh's length, at most, is height


def sits(hips: np.ndarray, knees: np.ndarray, soles: np.ndarray, stature: float) -> np.ndarray:
    """Frames in which the seat carries (a mask): low over the feet, away from them, and the thighs about level.

    ``hips``, ``knees (legs, 3, frames)``, ``soles (points, 3, frames)``: world positions in metres, Y up. Who crouches has
    the hips over the feet, who kneels upright has steep thighs.
    """
    seat = hips.mean(0)
    over = seat[1] - soles[:, 1].min(0)
    away = np.linalg.norm((seat - soles.mean(0))[[0, 2]], axis=0)
    thighs = knees - hips
    steep = np.abs(thighs[:, 1] / np.maximum(np.linalg.norm(thighs, axis=1), 1e-9)).max(0)
    return (over < _LOW * stature) & (away > _AWAY * stature) & (steep < _LEVEL)
