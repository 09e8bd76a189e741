"""Filters applied to clips: to rotations as rotations, to positions and to morph weights, in a range with eased ends."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..clip import as_rows, from_rows
from .lowpass import butterworth, suggested
from .spikes import confirmed, hampel

if TYPE_CHECKING:
    from ..clip import Clip

AUTO = "auto"
ROTATION, POSITION, MORPH = CHANNELS = ("rotation", "position", "morph")
_TURN, _WAY, _WEIGHT = (
    np.radians(4.0) / 2,
    0.01,
    0.05,
)  # of quaternions (half the angle), metres, weights: no spike below
_EASE = 0.1  # seconds in which a filter comes on at the ends of a range
_SLOWEST = 0.7  # hertz: no lower cut-off is suggested


@dataclass(frozen=True)
class Cleaning:
    """``spikes``: taken out first. ``low_pass``: hertz, "auto" for what each channel asks for, or None. ``order``: of it.

    ``channels``: which kinds; ``joints``: which of them (None: all). ``frames``: first and last, both included (None: all).
    """

    spikes: bool = False
    low_pass: float | str | None = None
    order: int = 2
    channels: tuple[str, ...] = CHANNELS
    joints: frozenset[int] | None = None
    frames: tuple[int, int] | None = None


@dataclass
class Report:
    """What was done: spikes ``{joint, or name of a morph: frames}``, cut-offs in hertz likewise."""

    spikes: dict[int | str, list[int]]
    cutoffs: dict[int | str, float]


def cleaned(clip: Clip, cleaning: Cleaning) -> tuple[Clip, Report]:
    """``clip`` with its channels cleaned, and what was done. Rotations stay of length one and never flip."""
    report = Report({}, {})
    share = _share(clip, cleaning.frames)
    wanted: Collection[int] = range(len(clip.skeleton)) if cleaning.joints is None else cleaning.joints
    turns, moves, weights = as_rows(clip.rotations).copy(), as_rows(clip.translations).copy(), clip.weights.T.copy()
    if ROTATION in cleaning.channels:
        for joint in wanted:
            rows = rot.continuous(turns[joint].T).T
            made = _channel(rows, clip.rate, cleaning, _TURN, share, joint, report)
            turns[joint] = made / np.maximum(np.linalg.norm(made, axis=0), 1e-12)
    if POSITION in cleaning.channels:
        for i, joint in enumerate(map(int, clip.moving)):
            if joint in wanted:
                moves[i] = _channel(moves[i], clip.rate, cleaning, _WAY, share, joint, report)
    if MORPH in cleaning.channels:
        for i, name in enumerate(clip.morphs):
            made = _channel(weights[i : i + 1], clip.rate, cleaning, _WEIGHT, share, name, report)[0]
            inside = weights[i].min(initial=0.0) >= 0 and weights[i].max(initial=1.0) <= 1
            weights[i] = np.clip(made, 0, 1) if inside else made
    return replace(clip, rotations=from_rows(turns), translations=from_rows(moves), weights=weights.T), report


def _channel(
    rows: np.ndarray, rate: float, cleaning: Cleaning, least: float, share: np.ndarray, key: int | str, report: Report
) -> np.ndarray:
    """A channel ``(n, frames)``, cleaned as far as ``share (frames,)`` says."""
    made, part = rows, share > 0
    if cleaning.spikes:
        bad, made = confirmed(rows, hampel(rows, rate, least) & part, least)
        if bad.any():
            report.spikes[key] = sorted({*report.spikes.get(key, ()), *np.flatnonzero(bad).tolist()})
    if cleaning.low_pass is not None and np.ptp(made, axis=-1).max(initial=0.0) > 1e-9:
        cutoff = cleaning.low_pass
        if cutoff == AUTO:
            cutoff = max(suggested(made[:, part], rate, cleaning.order), _SLOWEST)
        if not np.isfinite(cutoff):
            return made
        report.cutoffs.setdefault(key, float(cutoff))
        # What lies outside of the range counts for nothing.
        smooth = made.copy()
        smooth[:, part] = butterworth(made[:, part], rate, float(cutoff), cleaning.order)
        made = made + share * (smooth - made)
    return made


def _share(clip: Clip, frames: tuple[int, int] | None) -> np.ndarray:
    """How much of a filter each frame gets ``(frames,)``: eased at those ends of the range that lie inside the clip."""
    share = np.zeros(clip.frames)
    first, last = frames if frames is not None else (0, clip.frames - 1)
    share[first : last + 1] = 1.0
    ease = max(round(_EASE * clip.rate), 1)
    ramp = (np.arange(ease) + 1) / (ease + 1)
    ramp = ramp * ramp * (3 - 2 * ramp)
    count = min(ease, (last - first + 1) // 2)
    if first > 0:
        share[first : first + count] = ramp[:count]
    if last < clip.frames - 1:
        share[last + 1 - count : last + 1] = ramp[:count][::-1]
    return share
