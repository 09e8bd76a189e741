"""Accents: turning points of how fast a body moves, where animators look for poses."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ..smoothing import gaussian, largest_within

if TYPE_CHECKING:
    from .motion import Motion

_BLUR, _AROUND = 0.05, 0.5  # seconds: what is quicker is no accent; and what one is measured against


def accents(motion: Motion) -> np.ndarray:
    """How strong an accent each frame ``(frames,)`` is, 0 to 1: where the joints' mean speed turns, by how far it does.

    A stop between two moves is the strongest; the fastest moment between two stops counts too.
    """
    result = np.zeros(motion.frames)
    if motion.frames < 5:
        return result
    speeds = np.linalg.norm(np.gradient(motion.places, axis=-1), axis=1).mean(axis=0)
    smooth = gaussian(speeds, max(_BLUR * motion.rate, 0.5))
    reach = max(round(_AROUND * motion.rate), 1)
    high, low = largest_within(smooth, reach), -largest_within(-smooth, reach)
    span = np.maximum(high - low, 1e-9)
    before, at, after = smooth[:-2], smooth[1:-1], smooth[2:]
    for turned, deep, strength in (
        ((at < before) & (at < after), high - smooth, 1.0),
        ((at > before) & (at > after), smooth - low, 0.7),
    ):
        turns, depth = np.flatnonzero(turned) + 1, deep / span
        still = high < 1e-5  # metres a frame: nothing moves
        result[turns] = np.where(still[turns], 0.0, strength * depth[turns])
    return result
