"""How sure a reading is told to be: shares of hypotheses made into what proved right as often as told.

Fitted on thousands of characters with useless names (``./run bench bodies`` shows the curve), a little on the careful side.
"""

from __future__ import annotations

import numpy as np

SURE = 0.99
"""The least certainty of what need not be looked at."""
MOST = 0.995
"""What is told where nothing but the shape speaks for it."""
NAMED = 2.0
"""What names that say the same add to the logarithm of the odds."""

_SLOPE, _SHIFT = 1.6, 1.5


def calibrated(share: float) -> float:
    """The certainty to tell of what hypotheses with a ``share`` of all likelihood agree in."""
    return float(_likely(_SLOPE * _odds(share) + _SHIFT))


def supported(certainty: float, by: float = NAMED) -> float:
    """A certainty with more evidence, of so many logarithms of odds."""
    return float(_likely(_odds(certainty) + by))


def _odds(share: float) -> float:
    share = float(np.clip(share, 1e-6, 1 - 1e-6))
    return float(np.log(share / (1 - share)))


def _likely(odds: float) -> float:
    return float(1 / (1 + np.exp(-odds)))
