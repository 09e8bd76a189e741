"""Paths without the jitter of single frames."""

from __future__ import annotations

import numpy as np

from ..smoothing import gaussian

_STEADY = 0.03  # m/s
_ENOUGH = 1500  # frames tell how much a whole clip jitters
_NARROW, _WIDE = 0.012, 0.05  # seconds


def steadied(rows: np.ndarray, rate: float, wanted: list[float] | None = None) -> np.ndarray:
    """Places ``(points, 3, frames)`` with the jitter of single frames taken out, so that speeds mean the same at any rate.

    By a Gaussian as wide as each point's own jitter asks for. ``wanted``: those ``widths``, if they are known.
    """
    out = np.empty_like(rows)
    for row, (places, width) in enumerate(zip(rows, wanted or widths(rows, rate))):
        width = min(max(width, _NARROW * rate), _WIDE * rate)
        out[row] = gaussian(places, width) if width > 0.4 else places
    return out


def is_restless(wanted: list[float], rate: float) -> bool:
    """Whether places of such ``widths`` jitter more than ``steadied`` can take out."""
    return max(wanted, default=0.0) > _WIDE * rate


def widths(rows: np.ndarray, rate: float) -> list[float]:
    """The widths of Gaussians, in frames, at which what is left of each point's jitter is a speed of ``_STEADY``.

    Jitter is told by fourth differences: those of white noise of the standard deviation s have s times the root of 70, those
    of smooth motion hardly any.
    """
    if rows.shape[-1] <= 8:
        return [0.0] * len(rows)
    jitters = [float(np.median(np.linalg.norm(_fourth(places), axis=0))) / (1.54 * 70**0.5) for places in rows]
    return [(jitter * rate / (2.66 * _STEADY)) ** (2 / 3) for jitter in jitters]


def _fourth(places: np.ndarray) -> np.ndarray:
    """Fourth differences of places ``(3, frames)``, of no more frames than tell what is usual."""
    step = max(places.shape[-1] // _ENOUGH, 1)
    a, b, c, d, e = (places[:, i : places.shape[-1] - 4 + i : step] for i in range(5))
    return a - 4 * b + 6 * c - 4 * d + e
