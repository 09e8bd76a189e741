"""Round numbers along a scale."""

from __future__ import annotations

import numpy as np


def nice_steps(low: float, high: float, count: int) -> list[float]:
    """About ``count`` round numbers from ``low`` to ``high``: multiples of 1, 2 or 5 and a power of ten.

    >>> nice_steps(-0.3, 1.2, 4)
    [0.0, 0.5, 1.0]
    """
    span = high - low
    if not np.isfinite(span) or span <= 0:
        return []
    raw = span / max(count, 1)
    power = 10.0 ** np.floor(np.log10(raw))
    step = float(next(m * power for m in (1, 2, 5, 10) if m * power >= raw * 0.999))
    first = int(np.ceil(low / step - 1e-9))
    return [round(i * step, 10) + 0.0 for i in range(first, int(np.floor(high / step + 1e-9)) + 1)]
