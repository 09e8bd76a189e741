"""Keyed clips: motion as samplers on channels, of which frames are made only when something needs them."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from ..clip import Clip
from ..scaling import factors_above
from ..skeleton import Skeleton
from .channel import Channel, Joint, Kind, Morph
from .sampler import Sampler

if TYPE_CHECKING:
    from numpy.typing import ArrayLike

_ON_FRAME = 0.02  # of a frame: nearer than that, a key falls on it


@dataclass(frozen=True, eq=False)
class KeyedClip:
    """Motion on a skeleton as keys.

    ``samplers``: of each channel that has any; rotations are local, translations in metres in the parent's axes, as
    long as they are while nothing above is scaled; scales are factors of those at rest. ``rate``: frames per second
    that the keys were meant for. Without a channel, a joint is as it rests.
    """

    name: str
    skeleton: Skeleton
    rate: float
    samplers: Mapping[Channel, Sampler]

    def __post_init__(self) -> None:
        if not self.samplers:
            raise ValueError("a keyed clip needs keys")
        for channel, sampler in self.samplers.items():
            if sampler.values.shape[1] != channel.kind.width:
                raise ValueError("values of another kind than their channel's")
            if isinstance(channel.node, Joint) == (channel.kind is Kind.WEIGHT):
                raise ValueError("joints have no weights, and morphs nothing else")
            if isinstance(channel.node, Joint) and not 0 <= channel.node.number < len(self.skeleton):
                raise ValueError("a joint that the skeleton has not")
        if not self.rate > 0:
            raise ValueError("the rate must be above zero")

    def __repr__(self) -> str:
        joints, channels = len(self.skeleton), len(self.samplers)
        return f"KeyedClip({self.name!r}, {joints} joints, {channels} channels, {self.rate:g} per second)"

    @cached_property
    def start(self) -> float:
        """The time of the first key, in seconds."""
        return min(float(s.times[0]) for s in self.samplers.values())

    @cached_property
    def end(self) -> float:
        """The time of the last key, in seconds."""
        return max(float(s.times[-1]) for s in self.samplers.values())

    @property
    def seconds(self) -> float:
        """From the first to the last key."""
        return self.end - self.start

    @property
    def frames(self) -> int:
        """How many frames it has at its own rate."""
        return _frames(self.seconds, self.rate)

    @property
    def morphs(self) -> tuple[str, ...]:
        """The names of the morphs that have keys."""
        return tuple(c.node.name for c in self.samplers if isinstance(c.node, Morph))

    @property
    def keys(self) -> int:
        """The number of different times that anything has a key at."""
        return len(np.unique(np.concatenate([s.times for s in self.samplers.values()])))

    @cached_property
    def digest(self) -> str:
        """A text that is equal only for motion that is alike to the last bit, whatever it is called."""
        digest = hashlib.sha256(f"keys\n{self.skeleton.digest}\n{self.rate!r}\n".encode())
        for channel, sampler in self.samplers.items():
            digest.update(repr(channel).encode("utf-8", "surrogatepass"))
            arrays = (sampler.times, sampler.values, sampler.interpolation, sampler.tangents_in, sampler.tangents_out)
            for array in arrays:
                digest.update(b"-" if array is None else np.ascontiguousarray(array).tobytes())
        return digest.hexdigest()

    def sample(self, rate: float | None = None) -> Clip:
        """A pose on every frame at ``rate`` (its own if None), from the first key to the last one (a Clip)."""
        rate = rate or self.rate
        return self.at(self.start + np.arange(_frames(self.seconds, rate)) / rate, rate)

    def at(self, times: ArrayLike, rate: float | None = None) -> Clip:
        """The poses at ``times (m,)`` in seconds, as the frames of a Clip of ``rate``."""
        times = np.atleast_1d(np.asarray(times, float))
        skeleton = self.skeleton
        turns = np.repeat(skeleton.rest[None], len(times), 0)
        moves: dict[int, np.ndarray] = {}
        factors: dict[int, np.ndarray] = {}
        weights: dict[str, np.ndarray] = {}
        for channel, sampler in self.samplers.items():
            node = channel.node
            if isinstance(node, Morph):
                weights[node.name] = sampler.at(times)[:, 0]
            elif channel.kind is Kind.ROTATION:
                turns[:, node.number] = sampler.at(times, True)
            else:
                (moves if channel.kind is Kind.TRANSLATION else factors)[node.number] = sampler.at(times)
        for joint, factor in factors_above(skeleton, factors).items():
            moves[joint] = moves.get(joint, skeleton.offsets[joint]) * factor
        moving, scaled = sorted(moves), sorted(factors)
        return Clip(
            self.name,
            skeleton,
            rate or self.rate,
            turns,
            np.array(moving, int),
            np.stack([moves[j] for j in moving], 1) if moving else None,
            tuple(weights),
            np.stack(list(weights.values()), 1) if weights else None,
            np.array(scaled, int),
            np.stack([factors[j] for j in scaled], 1) if scaled else None,
            float(times[0]) if len(times) else self.start,
        )

    def mapped(self, change: Callable[[Channel, Sampler], Sampler], skeleton: Skeleton | None = None) -> KeyedClip:
        """With every sampler changed, and perhaps on another skeleton."""
        samplers = {channel: change(channel, sampler) for channel, sampler in self.samplers.items()}
        return replace(self, skeleton=skeleton or self.skeleton, samplers=samplers)

    def moved_to(self, start: float) -> KeyedClip:
        """With its first key at ``start`` seconds; the times between keys stay."""
        shift = start - self.start
        return self.mapped(lambda _, s: replace(s, times=s.times + shift)) if shift else self

    def at_rate(self, rate: float) -> KeyedClip:
        """The same keys, on the same frames, meant for another rate, so that it lasts longer or shorter."""
        return replace(self.mapped(lambda _, s: s.stretched(self.rate / rate)), rate=rate)


def dense(take: Clip | KeyedClip) -> Clip:
    """A pose on every frame of what may be keys."""
    return take.sample() if isinstance(take, KeyedClip) else take


def _frames(seconds: float, rate: float) -> int:
    count = seconds * rate
    return int(round(count) if abs(count - round(count)) < _ON_FRAME else np.ceil(count)) + 1
