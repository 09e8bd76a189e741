"""Change a clip's frame rate while its length in seconds stays."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from . import rotations as rot
from .errors import InputError

if TYPE_CHECKING:
    from .clip import Clip


MAX_RATE = 1000.0


def resample(clip: Clip, rate: float) -> Clip:
    """The same motion at ``rate`` frames per second, by slerp and straight lines between frames.

    The first frame stays the first; the last one is the one nearest to the old end, so the length
    changes by half a new frame at the most. Raises InputError for a rate outside 0 to 1000.
    """
    if not 0 < rate <= MAX_RATE:
        raise InputError(
            f"A rate of {rate:g} frames per second can't be used; give one above 0 and up to {MAX_RATE:g}."
        )
    if clip.frames < 2 or abs(rate - clip.rate) < 1e-9 * rate:
        return replace(clip, rate=float(rate))
    count = int(np.floor(clip.seconds * rate + 0.5)) + 1
    at = np.minimum(np.arange(count) * (clip.rate / rate), clip.frames - 1)
    return replace(sampled(clip, at), rate=float(rate))


def sampled(clip: Clip, at: np.ndarray, smooth: bool = False) -> Clip:
    """The poses at frames ``at (n,)``, which may lie between frames: by slerp and straight lines, or ``smooth``.

    Smooth ones go through all frames, on cubic curves with the slopes of their neighbours (Catmull and Rom 1974), so that speed
    has no steps where motion is made slower.
    """
    if clip.frames < 2:
        return clip.picked(np.zeros(len(at), int))
    # A time that falls on a frame, but for rounding, gives just that frame.
    at = np.where(np.abs(at - np.round(at)) < 1e-6, np.round(at), at)
    low = np.clip(at.astype(int), 0, clip.frames - 2)
    share = at - low
    way = _curved if smooth else _between
    if smooth:
        turns = rot.normalise(_curved(rot.continuous(clip.rotations), low, share))
    else:
        turns = rot.slerp(clip.rotations[low], clip.rotations[low + 1], share[:, None])
    moves, weights, scales = (way(a, low, share) for a in (clip.translations, clip.weights, clip.scales))
    return replace(clip, rotations=turns, translations=moves, weights=weights, scales=scales)


def _curved(array: np.ndarray, low: np.ndarray, share: np.ndarray) -> np.ndarray:
    last = len(array) - 1
    t = share.reshape(-1, *[1] * (array.ndim - 1))
    a, b = array[low], array[low + 1]
    ends = (share.shape[0], *[1] * (array.ndim - 1))
    # At both ends it goes on as it goes there.
    before = np.where((low > 0).reshape(ends), array[np.maximum(low - 1, 0)], 2 * a - b)
    after = np.where((low + 2 <= last).reshape(ends), array[np.minimum(low + 2, last)], 2 * b - a)
    out, inner = (b - before) / 2, (after - a) / 2
    return (
        (2 * t**3 - 3 * t**2 + 1) * a + (t**3 - 2 * t**2 + t) * out
        + (3 * t**2 - 2 * t**3) * b + (t**3 - t**2) * inner
    )  # fmt: skip


def _between(array: np.ndarray, low: np.ndarray, share: np.ndarray) -> np.ndarray:
    return array[low] + (array[low + 1] - array[low]) * share.reshape(-1, *[1] * (array.ndim - 1))
