"""The rate that keys in time were meant for, and whether they are frames or keys."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ..core.errors import InputError
from ..core.keys.sampler import Interpolation

if TYPE_CHECKING:
    from ..core.clip import Clip
    from ..core.keys.keyed import KeyedClip


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


def check_size(label: str, name: str, frames: int, joints: int) -> None:
    """InputError where a clip would be larger than can be used."""
    if frames > _MAX_FRAMES or frames * joints * 4 > _MAX_NUMBERS:
        raise InputError(f"{label}: {name} would have {frames} frames, which is more than can be used.")


def on_frames(times: np.ndarray, start: float, rate: float) -> np.ndarray:
    """``times (n,)`` with those that lie on a frame, but for the rounding of 32-bit numbers, put just there."""
    frames = (times - start) * rate
    whole = np.round(frames)
    near = np.abs(frames - whole) <= rate * (2e-7 * np.abs(times) + 1e-9)
    return np.where(near, start + whole / rate, times)


def dense_or_keyed(clip: KeyedClip, regular: bool) -> Clip | KeyedClip:
    """The clip with a pose on every frame where its file has that, else its keys as they are.

    ``regular``: whether all keys fall on frames of its rate. Channels that stand still need no keys.
    """
    moving = [s for s in clip.samplers.values() if not s.is_still]
    frames = clip.frames
    dense = regular and all(len(s) >= frames and s.uniform is Interpolation.LINEAR for s in moving)
    return clip.sample() if dense else clip


def grid_rate(all_times: list[np.ndarray], smooth: bool = False, told: float | None = None) -> tuple[float, bool]:
    """``(rate, on the grid)``: the rate of keys on every frame, else the lowest usual one whose frames all keys fall on.

    ``smooth``: what lies between keys is curved, so that keys alone are too few frames. ``told``: by the file, which is
    right where all keys fall on its frames.
    """
    times = np.unique(np.concatenate(all_times))
    times = times - times[0]
    if told is not None and np.abs(times * told - np.round(times * told)).max() < 0.02:
        return told, True
    if len(times) < 2:
        return 30.0, True
    step = float(np.median(np.diff(times)))
    if step > 0 and not smooth and np.abs(times / step - np.round(times / step)).max() < 0.02:
        # Frames at every key, whatever the rate: a usual one where rounding alone keeps it from being that.
        rate = 1 / step
        exact = (len(times) - 1) / times[-1]
        rounding = 4e-7 * max(times[-1], 1.0)
        if exact > 11.5 and np.abs(times - np.arange(len(times)) / exact).max() <= rounding:
            # So even that the rate is known as well as its times are.
            usual = min(RATES, key=lambda r: abs(r - exact))
            near = abs((len(times) - 1) / usual - times[-1]) <= rounding
            return usual if near else float(exact), True
        usual = min(RATES, key=lambda r: abs(r - rate))
        rate = usual if abs(usual / rate - 1) < 2e-3 else rate
        if rate > 11.5 and np.isclose(len(times) - 1, round(times[-1] * rate), atol=0.5):
            rate = usual if abs(usual / rate - 1) < 2e-3 else (len(times) - 1) / times[-1]
            return float(rate), True
    for rate in RATES:
        if np.abs(times * rate - np.round(times * rate)).max() < 0.02:
            return rate, True
    return OWN_RATE, False
