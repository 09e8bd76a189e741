"""Keyed clips as a handful of arrays, in which they are stored and sent, and back."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from ..skeleton import Skeleton
from .channel import Channel, Joint, Kind, Morph
from .keyed import KeyedClip
from .sampler import Sampler

_KINDS = tuple(Kind)


def to_arrays(clip: KeyedClip) -> dict[str, np.ndarray]:
    """``nodes``, ``kinds``, ``counts (channels,)``, and end to end ``times``, ``values``, ``interpolation``, ``tangents``.

    A morph's node counts in ``clip.morphs``. ``tangents``: first in, then out, of the channels that have any, which
    ``smooth (channels,)`` tells.
    """
    places = {name: number for number, name in enumerate(clip.morphs)}
    channels, samplers = list(clip.samplers), list(clip.samplers.values())
    tangents = [t for s in samplers for t in (s.tangents_in, s.tangents_out) if t is not None]
    return {
        "nodes": np.array([c.node.number if isinstance(c.node, Joint) else places[c.node.name] for c in channels]),
        "kinds": np.array([_KINDS.index(c.kind) for c in channels]),
        "counts": np.array([len(s) for s in samplers]),
        "smooth": np.array([s.tangents_in is not None for s in samplers], np.int8),
        "times": np.concatenate([s.times for s in samplers]),
        "values": np.concatenate([s.values.ravel() for s in samplers]),
        "interpolation": np.concatenate([s.interpolation for s in samplers]).astype(np.int8),
        "tangents": np.concatenate([t.ravel() for t in tangents]) if tangents else np.zeros(0),
    }


def from_arrays(
    name: str, skeleton: Skeleton, rate: float, morphs: Sequence[str], arrays: Mapping[str, np.ndarray]
) -> KeyedClip:
    """The KeyedClip of such arrays; ValueError, KeyError or IndexError where they do not fit."""
    samplers: dict[Channel, Sampler] = {}
    times, values, ways, tangents = (
        _Taken(arrays.get(k, np.zeros(0))) for k in ("times", "values", "interpolation", "tangents")
    )
    lists = (np.asarray(arrays[key]).tolist() for key in ("nodes", "kinds", "counts", "smooth"))
    for node, kind, count, smooth in zip(*lists, strict=True):
        if min(node, kind, count) < 0:
            raise ValueError("a channel of nothing")
        what = _KINDS[kind]
        shape = count, what.width
        channel = Channel(Morph(morphs[node]) if what is Kind.WEIGHT else Joint(node), what)
        if channel in samplers:
            raise ValueError("a channel that is there twice")
        own_times, own_values = times.next(count), values.next(count * what.width).reshape(shape)
        inner, outer = (tangents.next(count * what.width).reshape(shape) if smooth else None for _ in range(2))
        samplers[channel] = Sampler(own_times, own_values, ways.next(max(count - 1, 0)), inner, outer)
    for part in (times, values, ways, tangents):
        part.check_end()
    return KeyedClip(name, skeleton, rate, samplers)


class _Taken:
    """An array that is taken apart from its beginning."""

    def __init__(self, array: np.ndarray) -> None:
        self._array, self._at = np.asarray(array), 0

    def next(self, count: int) -> np.ndarray:
        part = self._array[self._at : self._at + count]
        if len(part) != count:
            raise ValueError("fewer numbers than told")
        self._at += count
        return part

    def check_end(self) -> None:
        if self._at != len(self._array):
            raise ValueError("more numbers than told")
