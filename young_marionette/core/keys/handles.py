"""Keys as people see them in curves: values and slopes in degrees, centimetres or weights, and back to what is kept.

A rotation's key is a quaternion with tangents; what is shown of it are unwrapped angles. A changed angle, or the slope of one
angle's curve beside a key, is brought back by the chain rule, so that what is shown, kept and written is one motion.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from .. import rotations as rot
from .channel import Channel, Joint, Kind, Morph
from .curves import ANGLES, PLACE, WEIGHT
from .keyed import KeyedClip
from .sampler import Interpolation, Sampler

_BESIDE = 1e-4  # of a second: over which slopes of angles are taken
_ALIKE = 1e-6  # of their size: tangents that differ by less are joined


@dataclass(frozen=True)
class Handle:
    """A key of a curve: ``axis`` as in curves.Curve. ``slopes``: before and behind it, per second, None where the in-between
    is not smooth. ``joined``: both sides have one tangent.
    """

    name: str
    axis: str
    frame: int
    value: float
    slopes: tuple[float | None, float | None]
    joined: bool


def channel_of(clip: KeyedClip, name: str, reading: str) -> Channel | None:
    """The channel that a reading of a joint or morph is of; None where it has no keys, or the reading none of its own."""
    if reading == WEIGHT:
        channel = Channel(Morph(name), Kind.WEIGHT)
    elif name in clip.skeleton.index and reading in (ANGLES, PLACE):
        kind = Kind.ROTATION if reading == ANGLES else Kind.TRANSLATION
        channel = Channel(Joint(clip.skeleton.index[name]), kind)
    else:
        return None
    return channel if channel in clip.samplers else None


def handles(clip: KeyedClip, name: str, reading: str, order: str, values: dict[str, np.ndarray]) -> list[Handle]:
    """The keys of a joint or morph. ``values {axis: (frames,)}``: its curves, which tell how angles are unwrapped."""
    channel = channel_of(clip, name, reading)
    if channel is None:
        return []
    sampler, found = clip.samplers[channel], []
    frames = np.rint((sampler.times - clip.start) * clip.rate).astype(int)
    sides = [_slopes(sampler, channel.kind, order, side) for side in (-1, 1)]
    smooth = sampler.interpolation == Interpolation.CUBICSPLINE
    for i, frame in enumerate(frames.tolist()):
        before, behind = i > 0 and smooth[i - 1], i < len(frames) - 1 and smooth[i]
        for k, (axis, curve) in enumerate(values.items()):
            slopes = (float(sides[0][i, k]) if before else None, float(sides[1][i, k]) if behind else None)
            if frame < len(curve):
                found.append(Handle(name, axis, frame, float(curve[frame]), slopes, _is_joined(sampler, i)))
    return found


def _is_joined(sampler: Sampler, i: int) -> bool:
    if sampler.tangents_in is None or sampler.tangents_out is None:
        return False
    a, b = sampler.tangents_in[i], sampler.tangents_out[i]
    return bool(np.abs(a - b).max() <= _ALIKE * (np.abs(a).max() + np.abs(b).max() + 1e-9))


def _slopes(sampler: Sampler, kind: Kind, order: str, side: int) -> np.ndarray:
    """The slopes ``(keys, axes)`` just before (-1) or behind (1) each key, in degrees, centimetres or weights per second."""
    tangents = sampler.tangents_in if side < 0 else sampler.tangents_out
    if tangents is None:
        return np.zeros((len(sampler), 3))
    if kind is not Kind.ROTATION:
        return tangents * (100.0 if kind is Kind.TRANSLATION else 1.0)
    # The angles of the key, and of where its tangent leads within a moment.
    now = rot.normalise(sampler.values)
    then = rot.normalise(sampler.values + tangents * _BESIDE)
    both = np.stack([rot.to_euler_rows(order, np.stack([a, b], 1)) for a, b in zip(now, then)])
    return np.degrees(both[:, :, 1] - both[:, :, 0]) / _BESIDE  # type: ignore[no-any-return]


def with_slope(
    clip: KeyedClip, handle: Handle, reading: str, order: str, side: int, slope: float, both: bool
) -> KeyedClip:
    """With the slope of one curve before (-1) or behind (1) a key; ``both``: on both sides alike."""
    channel = channel_of(clip, handle.name, reading)
    if channel is None:
        return clip
    sampler = clip.samplers[channel]
    place = _place(clip, sampler, handle.frame)
    if place is None or sampler.tangents_in is None or sampler.tangents_out is None:
        return clip
    axes = list(order) if reading == ANGLES else ["X", "Y", "Z"] if reading == PLACE else [""]
    slopes = _slopes(sampler, channel.kind, order, side)[place, : len(axes)].copy()
    slopes[axes.index(handle.axis)] = slope
    tangent = _tangent(sampler.values[place], slopes, channel.kind, order)
    inner, outer = sampler.tangents_in.copy(), sampler.tangents_out.copy()
    tangent = tangent + _along((inner if side < 0 else outer)[place], sampler.values[place], channel.kind)
    for mine, tangents in ((-1, inner), (1, outer)):
        if both or mine == side:
            tangents[place] = tangent
    return replace(clip, samplers={**clip.samplers, channel: replace(sampler, tangents_in=inner, tangents_out=outer)})


def _place(clip: KeyedClip, sampler: Sampler, frame: int) -> int | None:
    (places,) = np.nonzero(np.rint((sampler.times - clip.start) * clip.rate).astype(int) == frame)
    return int(places[0]) if len(places) else None


def _tangent(value: np.ndarray, slopes: np.ndarray, kind: Kind, order: str) -> np.ndarray:
    if kind is not Kind.ROTATION:
        return slopes / (100.0 if kind is Kind.TRANSLATION else 1.0)
    angles = rot.to_euler_rows(order, rot.normalise(value)[:, None])[:, 0]
    step = np.radians(slopes) * _BESIDE
    a, b = rot.from_euler(order, np.stack([angles - step / 2, angles + step / 2]))
    a, b = (q if q @ value >= 0 else -q for q in (a, b))
    return (b - a) / _BESIDE  # type: ignore[no-any-return]


def _along(tangent: np.ndarray, value: np.ndarray, kind: Kind) -> np.ndarray:
    """The part of a quaternion's tangent along itself, which turns nothing at the key but shapes what follows."""
    return (tangent @ value) * value if kind is Kind.ROTATION else np.zeros_like(tangent)


def value_of(
    clip: KeyedClip, handle: Handle, reading: str, order: str, value: float
) -> tuple[Channel, np.ndarray] | None:
    """The channel of a handle, and what its key is where one curve has another ``value``."""
    channel = channel_of(clip, handle.name, reading)
    if channel is None:
        return None
    sampler = clip.samplers[channel]
    now = sampler.at([clip.start + handle.frame / clip.rate], channel.kind is Kind.ROTATION)[0]
    if channel.kind is Kind.WEIGHT:
        return channel, np.array([value])
    if channel.kind is Kind.TRANSLATION:
        moved = now.copy()
        moved["XYZ".index(handle.axis)] = value / 100
        return channel, moved
    angles = rot.to_euler_rows(order, now[:, None])[:, 0]
    # Whole turns do not count: the angle goes by as much as the curve does.
    angles[order.index(handle.axis)] += np.radians(value - handle.value)
    return channel, rot.from_euler(order, angles[None])[0]
