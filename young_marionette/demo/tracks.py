"""Tracks over time: eased keys, late follow-through, breath and small irregularities."""

from __future__ import annotations

import numpy as np
from scipy.interpolate import PchipInterpolator
from scipy.ndimage import gaussian_filter1d


def keyed(times, keys):
    """Values at ``times`` from ``{second: value or vector}``, eased between keys without overshoot."""
    at = np.array(sorted(keys), float)
    values = np.array([np.atleast_1d(keys[k]) for k in sorted(keys)], float)
    if len(at) == 1:
        return np.repeat(values, len(times), axis=0)
    return PchipInterpolator(at, values)(np.clip(times, at[0], at[-1]))


def ease(x):
    """Minimum-jerk ease from 0 to 1 (Flash and Hogan 1985)."""
    x = np.clip(x, 0, 1)
    return x**3 * (10 - 15 * x + 6 * x * x)


def smooth(values, seconds, rate):
    """Gaussian smoothing with a width in seconds, the ends held."""
    return gaussian_filter1d(values, max(seconds * rate, 1e-3), axis=0, mode="nearest")


def late(values, seconds, rate, soft=0.5):
    """The same track some time later and softer: what hangs behind follows."""
    shift = seconds * rate
    frames = np.arange(len(values))
    flat = values.reshape(len(values), -1)
    moved = np.stack([np.interp(frames - shift, frames, column) for column in flat.T], -1).reshape(values.shape)
    return smooth(moved, seconds * soft, rate)


def wander(rng, times, size, seconds):
    """A slow random wander ``(frames, 3)`` with deviation ``size`` and a time scale in seconds."""
    # Drawn on a fixed grid, so that another frame rate gives the same performance.
    grid = np.arange(-4 * seconds, times[-1] + 4 * seconds, 1 / 30)
    noise = gaussian_filter1d(rng.standard_normal((len(grid), 3)), seconds * 30, axis=0)
    noise *= size / max(noise.std(), 1e-12)
    return np.stack([np.interp(times, grid, column) for column in noise.T], -1)


def breath(times, rng, period=3.6):
    """Breathing between -1 and 1, slightly irregular, in quicker than out."""
    phase = 2 * np.pi * times / period + wander(rng, times, 0.35, 2.0)[:, 0]
    return np.sin(phase + 0.35 * np.sin(phase))
