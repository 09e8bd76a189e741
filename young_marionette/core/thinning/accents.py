"""Accents: turning points of how fast a body moves, where animators look for poses."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from .motion import Motion

_BLUR, _AROUND = 0.05, 0.5  # seconds: what is quicker is no accent; and what one is measured against


def accents(motion: Motion) -> np.ndarray:
    """How strong an accent each frame ``(frames,)`` is, 0 to 1: where the joints' mean speed turns, by how far it does.

    A stop between two moves is the strongest; the fastest moment between two stops counts too.
    """
    from scipy.ndimage import gaussian_filter1d, maximum_filter1d  # slow to load
    from scipy.signal import argrelextrema

    result = np.zeros(motion.frames)
    if motion.frames < 5:
        return result
    speeds = np.linalg.norm(np.gradient(motion.places, axis=-1), axis=1).mean(axis=0)
    smooth = gaussian_filter1d(speeds, max(_BLUR * motion.rate, 0.5), mode="nearest")
    size = 2 * max(round(_AROUND * motion.rate), 1) + 1
    high, low = maximum_filter1d(smooth, size), -maximum_filter1d(-smooth, size)
    span = np.maximum(high - low, 1e-9)
    for order, strength in ((np.less, 1.0), (np.greater, 0.7)):
        (turns,) = argrelextrema(smooth, order)
        depth = (high - smooth if order is np.less else smooth - low) / span
        still = high < 1e-5  # metres a frame: nothing moves
        result[turns] = np.where(still[turns], 0.0, strength * depth[turns])
    return result
