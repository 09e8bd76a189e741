"""Animations of UsdSkel, and what skeletons stand under, as clips."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from ...core import rotations as rot
from ...core.errors import InputError
from ...core.findings import finding
from ...core.keys.channel import Channel, Joint, Kind, Morph
from ...core.keys.keyed import KeyedClip
from ...core.keys.sampler import Interpolation, Sampler, still
from ...core.scaling import factors_above
from ..sampling import check_size, dense_or_keyed, grid_rate, on_frames
from ..transforms import NodeSpace, decomposed, relative
from .skeletons import matrices

if TYPE_CHECKING:
    from ...core.clip import Clip
    from ...core.findings import Finding
    from .skeletons import UsdTree


_LOWEST, _HIGHEST = 10.0, 240.0  # rates that frames are made at where samples are few
_WAY = Interpolation.LINEAR  # what a stage does between samples, unless who looks at it wants otherwise


@dataclass(frozen=True, eq=False)
class Ways:
    """How what a skeleton stands under moves: matrices ``(n, 4, 4)`` at ``times (n,)`` in seconds; none where it is still."""

    times: np.ndarray
    matrices: np.ndarray
    per_second: float


def ways_of(skeleton: Any, label: str) -> Ways:
    """The Ways of a Skeleton prim and of all that it stands under."""
    from pxr import Usd, UsdGeom

    per_second = float(skeleton.GetStage().GetTimeCodesPerSecond()) or 24.0
    sampled, prim = set(), skeleton
    while prim and not prim.IsPseudoRoot():
        sampled.update(UsdGeom.Xformable(prim).GetTimeSamples() if prim.IsA(UsdGeom.Xformable) else ())
        prim = prim.GetParent()
    times = sorted(sampled)
    check_size(label, skeleton.GetName(), len(times), 4)
    ways = matrices([UsdGeom.XformCache(Usd.TimeCode(t)).GetLocalToWorldTransform(skeleton) for t in times])
    if len(times) < 2 or np.ptp(ways, axis=0).max() == 0:
        return Ways(np.zeros(0), ways[:0], per_second)
    if not (np.isfinite(ways).all() and np.abs(ways).max() < 1e12):
        raise InputError(f"{label}: what {skeleton.GetName()} stands under moves by a value that is not a number.")
    return Ways(np.array(times) / per_second, ways, per_second)


def carried(skeleton: Any, tree: UsdTree, ways: Ways, label: str, notes: list[Finding]) -> list[Clip | KeyedClip]:
    """The Clip of a skeleton that is only carried by what it stands under, as a list; empty where that is still."""
    if not len(ways.times):
        return []
    return [_timed(skeleton.GetParent().GetName() or "motion", tree, [], {}, {}, ways, [], label, notes)]


def clip_of(prim: Any, tree: UsdTree, ways: Ways, label: str, notes: list[Finding]) -> Clip | KeyedClip | None:
    """The Clip of a SkelAnimation prim on a tree, or None where it moves none of its joints."""
    from pxr import UsdSkel

    anim = UsdSkel.Animation(prim)
    joints = [str(j) for j in anim.GetJointsAttr().Get() or ()]
    place = {j: i for i, j in enumerate(tree.joints)}
    shapes = [str(s) for s in anim.GetBlendShapesAttr().Get() or ()]
    if not any(j in place for j in joints) and not shapes:
        return None
    tracks = {}
    for name, attribute, width in (
        ("rotations", anim.GetRotationsAttr(), 4),
        ("translations", anim.GetTranslationsAttr(), 3),
        ("scales", anim.GetScalesAttr(), 3),
        ("weights", anim.GetBlendShapeWeightsAttr(), 1),
    ):
        count = len(shapes) if name == "weights" else len(joints)
        track = _track(attribute, count, width, label, prim.GetName(), ways.per_second) if count else None
        if track is not None:
            tracks[name] = track
    if not tracks:
        return None
    return _timed(prim.GetName(), tree, joints, place, tracks, ways, shapes, label, notes)


def _timed(
    name: str,
    tree: UsdTree,
    joints: Sequence[str],
    place: dict[str, int],
    tracks: dict[str, tuple[np.ndarray, np.ndarray]],
    ways: Ways,
    shapes: list[Any],
    label: str,
    notes: list[Finding],
) -> Clip | KeyedClip:
    times = [t for t in (ways.times, *(t for t, _ in tracks.values())) if len(t) > 1] or [np.zeros(1)]
    rate, regular = _rate(times, ways.per_second)
    start, end = min(t[0] for t in times), max(t[-1] for t in times)
    check_size(label, name, int((end - start) * rate) + 2, len(tree.joints))
    if not regular:
        notes.append(finding("no usual rate", clip=name, rate=rate))
    tracks = {kind: (on_frames(t, start, rate) if len(t) > 1 else t + start, v) for kind, (t, v) in tracks.items()}
    known = [(column, place[token]) for column, token in enumerate(joints) if token in place]
    motion = _Motion(name, tree, known, tracks, ways, start + np.arange(round((end - start) * rate + 0.48) + 1) / rate)
    samplers = motion.samplers(notes)
    if shapes and "weights" in tracks:
        at, weights = tracks["weights"]
        samplers |= {Channel(Morph(s), Kind.WEIGHT): Sampler(at, weights[:, i], _WAY) for i, s in enumerate(shapes)}
    return dense_or_keyed(KeyedClip(name, tree.skeleton, rate, samplers), regular)


def _rate(times: list[np.ndarray], per_second: float) -> tuple[float, bool]:
    every = np.unique(np.concatenate(times)) * per_second
    if len(every) > 1 and np.abs(every - np.round(every)).max() < 1e-3:
        steps = np.diff(np.round(every))
        # Samples of an even step of several codes are frames of a lower rate; of an uneven one they are keys.
        if np.median(steps) < 1.5 or (len(np.unique(steps)) > 1 and _LOWEST <= per_second <= _HIGHEST):
            return per_second, True
    return grid_rate(times)


def _track(
    attribute: Any, count: int, width: int, label: str, name: str, per_second: float
) -> tuple[np.ndarray, np.ndarray] | None:
    """``(times in seconds, values (samples, count, width))`` of an attribute, or None where it has no value."""
    samples = attribute.GetTimeSamples()
    if not samples:
        value = attribute.Get()
        samples = [0.0] if value is not None else []
    tracks = []
    for time in samples:
        value = attribute.Get(time)
        value = np.array([] if value is None else value, float).reshape(-1, width)
        if len(value) != count:
            raise InputError(f"{label}: {name} has values for another number of joints than it lists.")
        tracks.append(value)
    if not tracks:
        return None
    values = np.stack(tracks)
    if not (np.isfinite(values).all() and np.abs(values).max(initial=0) < 1e12):
        raise InputError(f"{label}: {name} holds a value that is not a number.")
    return np.array(samples, float) / per_second, values


class _Motion:
    """The samples of an animation as samplers of our skeleton's joints. ``frames``: times of all of its frames."""

    def __init__(
        self,
        name: str,
        tree: UsdTree,
        known: Sequence[tuple[int, ...]],
        tracks: dict[str, tuple[np.ndarray, np.ndarray]],
        ways: Ways,
        frames: np.ndarray,
    ) -> None:
        self.name, self.tree, self.known, self.tracks, self.ways, self.frames = name, tree, known, tracks, ways, frames
        self._space = NodeSpace(tree.skeleton, tree.scales, tree.over)

    def _joints(self, kind: str) -> dict[int, Sampler]:
        """``{joint: Sampler}`` of a track, in the file's own joints."""
        if kind not in self.tracks:
            return {}
        times, values = self.tracks[kind]
        return {joint: Sampler(times, values[:, column], _WAY) for column, joint in self.known}

    def samplers(self, notes: list[Finding]) -> dict[Channel, Sampler]:
        """``{channel: sampler}``; tells in ``notes`` what changes its size."""
        skeleton, space = self.tree.skeleton, self._space
        turns = {j: space.rotation_in(j, s) for j, s in self._joints("rotations").items()}
        moves = {j: space.translation_in(j, s) for j, s in self._joints("translations").items()}
        scales, rounded = self._scales()
        if scales:
            notes.append(
                finding("scales over time", clip=self.name, joints=[skeleton.names[j] for j in sorted(scales)])
            )
        for joint, factor in factors_above(skeleton, rounded).items():
            moves[joint] = self._longer(moves.get(joint) or still(skeleton.offsets[joint], self.frames[0]), factor)
        if len(self.ways.times):
            self._carry(turns, moves)
        span = max(float(np.abs(skeleton.offsets).max()), 1e-9)
        for joint in [j for j in moves if skeleton.parents[j] >= 0]:
            if np.abs(moves[joint].values - skeleton.offsets[joint]).max() <= 2e-6 * span:
                del moves[joint]
        kinds = ((turns, Kind.ROTATION), (moves, Kind.TRANSLATION), (scales, Kind.SCALE))
        samplers = {Channel(Joint(j), kind): s for part, kind in kinds for j, s in sorted(part.items())}
        return samplers or {Channel(Joint(0), Kind.ROTATION): still(skeleton.rest[0], self.frames[0])}

    def _scales(self) -> tuple[dict[int, Sampler], dict[int, np.ndarray]]:
        """``({joint: Sampler} of those that change their size, {joint: factors} of those that only seem to)``.

        Scales of animations are half floats: those that only differ by that count for places, and nothing else.
        """
        scales, rounded, own = {}, {}, self.tree.scales
        for joint, sampler in self._joints("scales").items():
            if np.abs(sampler.values - own[joint]).max() > 2e-3 * np.abs(own[joint]).max():
                scales[joint] = self._space.scale_in(joint, sampler)
            else:
                factors = relative(sampler.values, own[joint])
                if np.abs(factors - 1).max() > 1e-6:
                    changes = not sampler.is_still
                    rounded[joint] = relative(sampler.at(self.frames), own[joint]) if changes else factors[:1]
        return scales, rounded

    def _longer(self, sampler: Sampler, factor: np.ndarray) -> Sampler:
        """A translation under joints whose scales are rounded: ``factor`` on one or all frames ``(1 or frames, 3)``."""
        if len(factor) == 1:
            return sampler.moved(np.diag(factor[0]))
        return Sampler(self.frames, sampler.at(self.frames) * factor, _WAY)

    def _carry(self, turns: dict[int, Sampler], moves: dict[int, Sampler]) -> None:
        """Put the motion of what the skeleton stands under over its roots, on every frame."""
        skeleton, ways, frames = self.tree.skeleton, self.ways, self.frames
        still_move, still_turn, _ = decomposed(self.tree.over)
        over_move, over_turn, _ = decomposed(ways.matrices)
        over_move = Sampler(ways.times, over_move, _WAY).at(frames)
        over_turn = Sampler(ways.times, over_turn, _WAY).at(frames, True)
        for root in map(int, np.flatnonzero(skeleton.parents < 0)):
            own = turns[root].at(frames, True) if root in turns else skeleton.rest[root][None]
            place = moves[root].at(frames) if root in moves else skeleton.offsets[root][None]
            own, place = (
                rot.multiply(rot.conjugate(still_turn), own),
                rot.rotate(rot.conjugate(still_turn), place - still_move),
            )
            turns[root] = Sampler(frames, rot.multiply(over_turn, own), _WAY)
            moves[root] = Sampler(frames, rot.rotate(over_turn, place) + over_move, _WAY)
