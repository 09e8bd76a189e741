"""Motion on its way into a file, dense or keyed, as samplers of the file's own joints."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..core import rotations as rot
from ..core.clip import Clip
from ..core.keys.channel import Channel, Kind, Morph
from ..core.keys.keyed import KeyedClip
from ..core.keys.sampler import Interpolation, Sampler
from ..core.skeleton import Skeleton
from .transforms import local_keys, local_motion


def motion_out(
    clip: Clip | KeyedClip,
    skeleton: Skeleton,
    own_scales: np.ndarray,
    over: np.ndarray,
    precision: type[np.floating] = np.float32,
) -> dict[tuple[int, Kind], Sampler]:
    """``{(joint, kind): Sampler}`` in the file's own joints, of which ``skeleton_under`` made ``skeleton``; see ``local_motion``."""
    if isinstance(clip, KeyedClip):
        return local_keys(clip, skeleton, own_scales, over, precision)
    times, result = clip.times, {}
    for joint, (turns, places, scales) in local_motion(clip, skeleton, own_scales, over, precision).items():
        result[joint, Kind.ROTATION] = Sampler(times, rot.continuous(turns), Interpolation.LINEAR)
        if places is not None:
            result[joint, Kind.TRANSLATION] = Sampler(times, places, Interpolation.LINEAR)
        if scales is not None:
            result[joint, Kind.SCALE] = Sampler(times, scales, Interpolation.LINEAR)
    return result


def has_scales(clip: KeyedClip) -> bool:
    """Whether any joint's size has keys."""
    return any(channel.kind is Kind.SCALE for channel in clip.samplers)


def weights_together(clip: Clip | KeyedClip, names: Sequence[str | None]) -> Sampler:
    """One Sampler ``(keys, len(names))`` of the weights of morphs; those without a name, or without keys, are zero.

    Where their keys differ in time or kind, they are made frames.
    """
    if isinstance(clip, KeyedClip):
        samplers = [
            clip.samplers.get(Channel(Morph(name), Kind.WEIGHT)) if name is not None else None for name in names
        ]
        known = [s for s in samplers if s is not None]
        first = known[0] if known else None
        if first is not None and all(
            np.array_equal(s.times, first.times) and np.array_equal(s.interpolation, first.interpolation) for s in known
        ):
            empty = np.zeros((len(first), 1))

            def column(what: str) -> np.ndarray:
                parts = [None if s is None else getattr(s, what) for s in samplers]
                return np.concatenate([empty if p is None else p for p in parts], 1)

            smooth = Interpolation.CUBICSPLINE in first.interpolation
            tangents = (column("tangents_in"), column("tangents_out")) if smooth else (None, None)
            return Sampler(first.times, column("values"), first.interpolation, *tangents)
        clip = clip.sample()
    columns = [clip.weights[:, clip.morphs.index(n)] if n in clip.morphs else np.zeros(clip.frames) for n in names]
    return Sampler(clip.times, np.stack(columns, 1), Interpolation.LINEAR)


def of_one_kind(sampler: Sampler, rate: float, turns: bool = False) -> Sampler:
    """The sampler with one interpolation for all its in-betweens, as most formats want it: frames where they differ."""
    if sampler.uniform is not None:
        return sampler
    start, end = float(sampler.times[0]), float(sampler.times[-1])
    frames = start + np.arange(int(np.ceil((end - start) * rate - 1e-6)) + 1) / rate
    times = np.union1d(np.minimum(frames, end), sampler.times)
    values = sampler.at(times, turns)
    return Sampler(times, rot.continuous(values) if turns else values, Interpolation.LINEAR)
