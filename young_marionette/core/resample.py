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
    # A time that falls on a frame, but for rounding, gives just that frame.
    at = np.where(np.abs(at - np.round(at)) < 1e-6, np.round(at), at)
    low = np.minimum(at.astype(int), clip.frames - 2)
    share = at - low
    turns = rot.slerp(clip.rotations[low], clip.rotations[low + 1], share[:, None])
    moves, weights, scales = (_between(a, low, share) for a in (clip.translations, clip.weights, clip.scales))
    return replace(clip, rate=float(rate), rotations=turns, translations=moves, weights=weights, scales=scales)


def _between(array: np.ndarray, low: np.ndarray, share: np.ndarray) -> np.ndarray:
    return array[low] + (array[low + 1] - array[low]) * share.reshape(-1, *[1] * (array.ndim - 1))
