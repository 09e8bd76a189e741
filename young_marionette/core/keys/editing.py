"""Edits of keyed clips, by frames: keys moved, stretched, taken out and put in; in-betweens and tangents; values of a pose.

A frame is counted from the clip's start, at its own rate. The first and the last frame keep their keys, so that the clip stays
as long as it is. What an edit does not touch stays as it is, to the last bit.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import replace
from functools import partial

import numpy as np

from .. import rotations as rot
from ..evaluator import EVALUATOR
from .channel import Channel, Kind
from .inserting import signed, with_keys, with_ways
from .keyed import KeyedClip
from .sampler import Interpolation, Sampler

JOINED, FLAT, AUTO = TANGENTS = ("joined", "flat", "by themselves")
Chooses = Callable[[Channel], bool]


def everything(_channel: Channel) -> bool:
    """Chooses all channels."""
    return True


def key_frames(clip: KeyedClip, chooses: Chooses = everything) -> list[int]:
    """The frames that any chosen channel has a key at."""
    return sorted({f for c, s in clip.samplers.items() if chooses(c) for f in _frames(clip, s).tolist()})


def _frames(clip: KeyedClip, sampler: Sampler) -> np.ndarray:
    return np.rint((sampler.times - clip.start) * clip.rate).astype(int)


def _times(clip: KeyedClip, frames: Iterable[int]) -> np.ndarray:
    return clip.start + np.asarray(list(frames), float) / clip.rate


def inserted(clip: KeyedClip, frames: Iterable[int], chooses: Chooses = everything) -> KeyedClip:
    """With keys also at some frames, the motion as it was (see ``with_keys``); what never moves needs none."""
    times = _times(clip, frames)

    def change(channel: Channel, sampler: Sampler) -> Sampler:
        if not chooses(channel) or len(sampler) < 2:
            return sampler
        return with_keys(sampler, times, channel.kind is Kind.ROTATION)

    return clip.mapped(change)


def deleted(clip: KeyedClip, frames: Iterable[int], chooses: Chooses = everything) -> KeyedClip:
    """Without the keys at some frames. Where a straight and a smooth in-between become one, it is smooth."""
    gone = {f for f in frames if 0 < f < clip.frames - 1}

    def change(channel: Channel, sampler: Sampler) -> Sampler:
        own = np.array([f in gone for f in _frames(clip, sampler).tolist()], bool)
        if not chooses(channel) or len(sampler) < 3 or not own.any():
            return sampler
        turns, ways = channel.kind is Kind.ROTATION, sampler.interpolation.copy()
        for first, last in _runs(own):
            inside = ways[first - 1 : last + 1]
            if len(set(inside.tolist())) > 1:
                ways[first - 1 : last + 1] = Interpolation.CUBICSPLINE
        sampler = with_ways(sampler, ways, turns)
        return _kept(sampler, ~own)

    return clip.mapped(change)


def _runs(mask: np.ndarray) -> list[tuple[int, int]]:
    """``(first, last)`` of each run of true ones."""
    edges = np.flatnonzero(np.diff(np.concatenate([[0], mask.astype(int), [0]])))
    return [(int(a), int(b) - 1) for a, b in zip(edges[::2], edges[1::2])]


def _kept(sampler: Sampler, keep: np.ndarray) -> Sampler:
    """Some keys; in-betweens go on as they began."""
    places = np.flatnonzero(keep)
    inner, outer = (None if t is None else t[keep] for t in (sampler.tangents_in, sampler.tangents_out))
    return Sampler(sampler.times[keep], sampler.values[keep], sampler.interpolation[places[:-1]], inner, outer)


def room(clip: KeyedClip, frames: Iterable[int]) -> tuple[int, int]:
    """How far keys may be moved together, earlier (below zero) and later, without passing by or meeting another pose."""
    chosen = {f for f in frames if 0 < f < clip.frames - 1}
    others = [f for f in key_frames(clip) if f not in chosen] or [0, clip.frames - 1]
    if not chosen:
        return 0, 0
    low = max((f for f in others if f < min(chosen)), default=0)
    high = min((f for f in others if f > max(chosen)), default=clip.frames - 1)
    return low + 1 - min(chosen), high - 1 - max(chosen)


def moved(clip: KeyedClip, frames: Iterable[int], by: int) -> KeyedClip:
    """With keys moved in time by some frames, as far as there is room between the poses around them."""
    chosen = {f for f in frames if 0 < f < clip.frames - 1}
    low, high = room(clip, chosen)
    inside = [f for f in key_frames(clip) if chosen and min(chosen) < f < max(chosen) and f not in chosen]
    if inside:
        # Others stand between them: each may come as near as its neighbours allow.
        low, high = _gaps(clip, chosen)
    by = min(max(by, low), high)
    return _mapped_frames(clip, {f: f + by for f in chosen}) if by else clip


def _gaps(clip: KeyedClip, chosen: set[int]) -> tuple[int, int]:
    others = np.array([f for f in key_frames(clip) if f not in chosen])
    low = max(int(others[others < f].max()) + 1 - f for f in chosen)
    high = min(int(others[others > f].min()) - 1 - f for f in chosen)
    return min(low, 0), max(high, 0)


def stretched(clip: KeyedClip, frames: Iterable[int], first: int, last: int) -> KeyedClip:
    """With a run of keys stretched or squeezed so that its first one comes to ``first`` and its last one to ``last``.

    Slopes between them become as much flatter or steeper; ValueError where there is no room for all.
    """
    chosen = sorted({f for f in frames if 0 < f < clip.frames - 1})
    if len(chosen) < 2:
        return clip
    low, high = room(clip, chosen)
    first, last = max(first, chosen[0] + low), min(last, chosen[-1] + high)
    if last - first < len(chosen) - 1:
        raise ValueError("no room for the keys")
    share = (last - first) / (chosen[-1] - chosen[0])
    places = [round(first + (f - chosen[0]) * share) for f in chosen]
    for i in range(1, len(places)):
        places[i] = max(places[i], places[i - 1] + 1)
    for i in range(len(places) - 1, 0, -1):
        places[i] = min(places[i], last - (len(places) - 1 - i))
    new = dict(zip(chosen, places))

    def slope(sampler: Sampler, own: np.ndarray) -> Sampler:
        inside = (own >= chosen[0]) & (own <= chosen[-1])
        if sampler.tangents_in is None or sampler.tangents_out is None:
            return sampler
        behind = (inside & (own > chosen[0]))[:, None]
        ahead = (inside & (own < chosen[-1]))[:, None]
        inner = np.where(behind, sampler.tangents_in / share, sampler.tangents_in)
        return replace(
            sampler, tangents_in=inner, tangents_out=np.where(ahead, sampler.tangents_out / share, sampler.tangents_out)
        )

    return _mapped_frames(clip, new, slope)


def _mapped_frames(
    clip: KeyedClip, new: Mapping[int, int], also: Callable[[Sampler, np.ndarray], Sampler] | None = None
) -> KeyedClip:
    start, rate = clip.start, clip.rate

    def change(_channel: Channel, sampler: Sampler) -> Sampler:
        own = _frames(clip, sampler)
        places = np.array([new.get(f, f) for f in own.tolist()])
        if len(sampler) < 2 or np.array_equal(places, own):
            return sampler
        times = np.where(places == own, sampler.times, start + places / rate)
        sampler = also(sampler, own) if also is not None else sampler
        return replace(sampler, times=times)

    return clip.mapped(change)


def with_interpolation(
    clip: KeyedClip, frames: Iterable[int], way: Interpolation, chooses: Chooses = everything
) -> KeyedClip:
    """With the in-betweens that begin at some frames held, straight or smooth."""
    starts = set(frames)

    def change(channel: Channel, sampler: Sampler) -> Sampler:
        own = np.array([f in starts for f in _frames(clip, sampler).tolist()[:-1]], bool)
        if not chooses(channel) or not own.any() or (sampler.interpolation[own] == way).all():
            return sampler
        ways = np.where(own, np.int8(way), sampler.interpolation)
        return with_ways(sampler, ways, channel.kind is Kind.ROTATION)

    return clip.mapped(change)


def with_tangents(clip: KeyedClip, frames: Iterable[int], kind: str, chooses: Chooses = everything) -> KeyedClip:
    """With the tangents of keys joined (the mean of both sides), flat, or by themselves (towards the keys around).

    In-betweens beside such a key become smooth.
    """
    chosen = set(frames)

    def change(channel: Channel, sampler: Sampler) -> Sampler:
        own = np.array([f in chosen for f in _frames(clip, sampler).tolist()], bool)
        if not chooses(channel) or len(sampler) < 2 or not own.any():
            return sampler
        turns = channel.kind is Kind.ROTATION
        ways = np.where(own[:-1] | own[1:], np.int8(Interpolation.CUBICSPLINE), sampler.interpolation)
        sampler = with_ways(sampler, ways, turns)
        assert sampler.tangents_in is not None and sampler.tangents_out is not None  # of smooth in-betweens
        inner, outer = sampler.tangents_in.copy(), sampler.tangents_out.copy()
        slopes = np.zeros_like(inner)
        if kind == JOINED:
            slopes = (inner + outer) / 2
        elif kind == AUTO:
            slopes = _towards(sampler)
        inner[own] = outer[own] = slopes[own]
        return replace(sampler, tangents_in=inner, tangents_out=outer)

    return clip.mapped(change)


def _towards(sampler: Sampler) -> np.ndarray:
    """Slopes ``(keys, n)`` of a curve through the keys that overshoots none of them (Fritsch and Butland 1984)."""
    values, times = sampler.values, sampler.times
    steps = np.maximum(np.diff(times), 1e-9)[:, None]
    slopes = np.diff(values, axis=0) / steps
    result = np.zeros_like(values)
    if len(values) > 2:
        a, b = slopes[:-1], slopes[1:]
        first, second = steps[:-1], steps[1:]
        weight = (first + 2 * second) / (3 * (first + second))
        product = a * b
        middle = np.divide(product, weight * b + (1 - weight) * a, out=np.zeros_like(a), where=product > 0)
        result[1:-1] = middle
    return result


def posed(clip: KeyedClip, frame: int, values: Mapping[Channel, np.ndarray]) -> KeyedClip:
    """With the values ``(n,)`` of some channels at a frame: their keys there are changed or, between keys, made.

    Tangents turn along with rotations. Only the two in-betweens beside the key change.
    """
    samplers = dict(clip.samplers)
    last = clip.frames - 1
    time = float(_times(clip, [frame])[0])
    for channel, value in values.items():
        value = np.asarray(value, float)
        turns = channel.kind is Kind.ROTATION
        sampler = samplers.get(channel)
        if sampler is not None and len(sampler) == 1 and np.abs(sampler.values[0] - value).max() < 1e-12:
            continue  # it never moves, and need not now
        if sampler is None or len(sampler) < 2:
            sampler = _spread(clip, channel, sampler)
        if 0 < frame < last:
            # While a pose is dragged, the same key is made again and again.
            sampler = EVALUATOR.of("a key between", (sampler, time, turns), partial(with_keys, sampler, [time], turns))
        place = int(np.argmin(np.abs(sampler.times - time)))
        samplers[channel] = _set(sampler, place, value, turns)
    return replace(clip, samplers=samplers)


def _spread(clip: KeyedClip, channel: Channel, sampler: Sampler | None) -> Sampler:
    """What never moves, with keys at both ends, between which it may."""
    if sampler is None:
        node = getattr(channel.node, "number", 0)
        rest = {
            Kind.ROTATION: lambda: clip.skeleton.rest[node],
            Kind.TRANSLATION: lambda: clip.skeleton.offsets[node],
            Kind.SCALE: lambda: np.ones(3),
            Kind.WEIGHT: lambda: np.zeros(1),
        }[channel.kind]()
        value = np.asarray(rest, float)
    else:
        value = sampler.values[0]
    zero = np.zeros((2, len(value)))
    return Sampler(_times(clip, (0, clip.frames - 1)), np.stack([value, value]), Interpolation.CUBICSPLINE, zero, zero)


def _set(sampler: Sampler, place: int, value: np.ndarray, turns: bool) -> Sampler:
    old = sampler.values[place]
    values = sampler.values.copy()
    inner, outer = (None if t is None else t.copy() for t in (sampler.tangents_in, sampler.tangents_out))
    if turns:
        value = rot.normalise(value)
        value = value if value @ old >= 0 else -value
        turn = rot.multiply(value, rot.conjugate(rot.normalise(old)))
        for tangents in (inner, outer):
            if tangents is not None:
                tangents[place] = rot.multiply(turn, tangents[place])
    values[place] = value
    made = replace(sampler, values=values, tangents_in=inner, tangents_out=outer)
    return signed(made) if turns else made


def pose_at(clip: KeyedClip, frame: int, chooses: Chooses = everything) -> dict[Channel, np.ndarray]:
    """The values ``(n,)`` of chosen channels at a frame."""
    times = _times(clip, [frame])
    return {c: s.at(times, c.kind is Kind.ROTATION)[0] for c, s in clip.samplers.items() if chooses(c)}


def held(clip: KeyedClip, frame: int, frames: int) -> KeyedClip:
    """With the pose at a frame held for some frames more, as far as there is room before the next pose.

    A second key with the same pose is put behind it, and nothing moves between the two.
    """
    end = min(frame + frames, min((f for f in key_frames(clip) if f > frame), default=clip.frames) - 1)
    if end <= frame:
        return clip
    pose = {c: v for c, v in pose_at(clip, frame).items() if len(clip.samplers[c]) > 1}
    made = posed(posed(clip, frame, pose), end, pose)
    return with_interpolation(made, [frame], Interpolation.STEP)


def spliced(clip: KeyedClip, other: KeyedClip, first: int, last: int) -> KeyedClip:
    """``clip`` with the keys of another one, of as many frames, from frame ``first`` to ``last``."""
    ends = [first, last]
    outer, inner = inserted(_spread_out(clip), ends), inserted(_spread_out(other), ends)

    def change(channel: Channel, sampler: Sampler) -> Sampler:
        if channel not in inner.samplers:
            return sampler
        turns = channel.kind is Kind.ROTATION
        a, b = (_smooth_all(s, turns) for s in (sampler, inner.samplers[channel]))
        own, new = _frames(clip, a), _frames(clip, b)
        parts = [(a, own <= first), (b, (new >= first) & (new <= last)), (a, own >= last)]
        if turns:
            b = _same_sign(b, new, a, own, first)
            parts = [
                (a, own <= first),
                (b, (new >= first) & (new <= last)),
                (_same_sign(a, own, b, new, last), own >= last),
            ]
        result = _kept(*parts[0])
        for part, mask in parts[1:]:
            result = _joined_to(result, _kept(part, mask))
        return _plain_ways(result)

    return outer.mapped(change)


def _spread_out(clip: KeyedClip) -> KeyedClip:
    """With a key at both ends of all channels, also of what never moves."""
    return clip.mapped(lambda c, s: _spread(clip, c, s) if len(s) < 2 else s)


def _smooth_all(sampler: Sampler, turns: bool) -> Sampler:
    """With tangents for all keys, used or not."""
    if sampler.tangents_in is not None:
        return sampler
    zero = np.zeros_like(sampler.values)
    return replace(signed(sampler) if turns else sampler, tangents_in=zero, tangents_out=zero)


def _same_sign(sampler: Sampler, own: np.ndarray, other: Sampler, frames: np.ndarray, at: int) -> Sampler:
    """With the sign that another one has at a frame that both have a key at."""
    i, k = int(np.flatnonzero(own == at)[0]), int(np.flatnonzero(frames == at)[0])
    if sampler.values[i] @ other.values[k] >= 0:
        return sampler
    inner, outer = (None if t is None else -t for t in (sampler.tangents_in, sampler.tangents_out))
    return replace(sampler, values=-sampler.values, tangents_in=inner, tangents_out=outer)


def _joined_to(before: Sampler, after: Sampler) -> Sampler:
    """Two stretches of keys, of which the second begins with the key that the first ends with."""
    assert before.tangents_in is not None and before.tangents_out is not None
    assert after.tangents_in is not None and after.tangents_out is not None
    if len(after) == 1:
        return before
    return Sampler(
        np.concatenate([before.times[:-1], after.times]),
        np.concatenate([before.values[:-1], after.values]),
        np.concatenate([before.interpolation, after.interpolation]),
        np.concatenate([before.tangents_in, after.tangents_in[1:]]),
        np.concatenate([before.tangents_out[:-1], after.tangents_out]),
    )


def _plain_ways(sampler: Sampler) -> Sampler:
    """Without tangents where no in-between is smooth."""
    if (sampler.interpolation == Interpolation.CUBICSPLINE).any():
        return sampler
    return replace(sampler, tangents_in=None, tangents_out=None)
