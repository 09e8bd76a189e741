"""Motion on its way into a file, dense or keyed, as samplers of the file's own joints."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..core import rotations as rot
from ..core.clip import Clip
from ..core.keys.channel import Channel, Kind, Morph
from ..core.keys.inserting import with_keys, with_ways
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

    All get the keys of each other; where in-betweens are held in some and not in others, they are made frames.
    """
    if isinstance(clip, KeyedClip):
        samplers = [
            clip.samplers.get(Channel(Morph(name), Kind.WEIGHT)) if name is not None else None for name in names
        ]
        samplers = _alike(samplers)
        known = [s for s in samplers if s is not None]
        first = known[0] if known else None
        if first is not None and all(np.array_equal(s.interpolation, first.interpolation) for s in known):
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


def _alike(samplers: list[Sampler | None]) -> list[Sampler | None]:
    """With keys at the same times, and smooth in-betweens where any of them has one, unless another one is held there."""
    known = [s for s in samplers if s is not None]
    times = np.unique(np.concatenate([s.times for s in known])) if known else np.zeros(0)
    if len(times) < 2 or len({(s.times.tobytes(), s.interpolation.tobytes()) for s in known}) == 1:
        return samplers
    spread = [None if s is None else with_keys(_over(s, times), times) for s in samplers]
    ways = np.max([s.interpolation for s in spread if s is not None], axis=0)
    if any(s is not None and _steps(s)[ways > Interpolation.STEP].any() for s in spread):
        return spread
    return [None if s is None else with_ways(s, ways, False) for s in spread]


def _steps(sampler: Sampler) -> np.ndarray:
    """Which in-betweens ``(keys - 1,)`` are held up to another value."""
    return (sampler.interpolation == Interpolation.STEP) & (np.diff(sampler.values, axis=0) != 0).any(1)  # type: ignore[no-any-return]


def _over(sampler: Sampler, times: np.ndarray) -> Sampler:
    """With keys at the first and last of ``times``, where it stands still as it does outside of its own."""
    if times[0] < sampler.times[0]:
        sampler = _longer(sampler, 0, float(times[0]))
    if times[-1] > sampler.times[-1]:
        sampler = _longer(sampler, len(sampler), float(times[-1]))
    return sampler


def _longer(sampler: Sampler, at: int, time: float) -> Sampler:
    edge = sampler.values[0 if at == 0 else -1]
    both = sampler.tangents_in, sampler.tangents_out
    inner, outer = (None if t is None else np.insert(t, at, 0, axis=0) for t in both)
    ways = np.insert(sampler.interpolation, min(at, len(sampler) - 1), Interpolation.STEP)
    return Sampler(np.insert(sampler.times, at, time), np.insert(sampler.values, at, edge, axis=0), ways, inner, outer)
