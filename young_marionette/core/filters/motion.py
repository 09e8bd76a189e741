"""Filters applied to clips: to rotations as rotations, to positions and to morph weights, in a range with eased ends."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from ..clip import as_rows, from_rows
from .breaks import breaks
from .methods import Filter, LowPass, Smoother, Spikes
from .spikes import despiked

if TYPE_CHECKING:
    from ..clip import Clip

ROTATION, POSITION, MORPH = CHANNELS = ("rotation", "position", "morph")
# No spike is smaller: of quaternions (half the angle), metres, weights.
_LEAST = {ROTATION: float(np.radians(4.0) / 2), POSITION: 0.01, MORPH: 0.05}
_HUGE = {ROTATION: float(np.radians(60.0) / 2)}
_MOST_FLIPS = 20  # in one channel
_FLIP = np.radians(100.0)  # from one frame to the next
_EASE = 0.1  # seconds in which a filter comes on at the ends of a range


@dataclass(frozen=True)
class Scope:
    """``channels``: which kinds. ``names``: of the joints and morphs that are meant (None: all).

    ``frames``: first and last, both included (None: all).
    """

    channels: tuple[str, ...] = CHANNELS
    names: frozenset[str] | None = None
    frames: tuple[int, int] | None = None

    def has(self, name: str) -> bool:
        return self.names is None or name in self.names


@dataclass
class Report:
    """What was done: spikes ``{joint or morph: frames}``, cut-offs in hertz likewise, and where the clip jumps."""

    spikes: dict[str, list[int]] = field(default_factory=dict)
    cutoffs: dict[str, float] = field(default_factory=dict)
    breaks: list[int] = field(default_factory=list)


@dataclass(frozen=True, eq=False)
class Channel:
    """Channels of one kind: the names of their joints or morphs, and ``rows (channels, n, frames)``.

    ``cosines (channels, frames - 1)``: of half the angles from frame to frame, of rotations.
    """

    kind: str
    names: list[str]
    rows: np.ndarray
    cosines: np.ndarray | None = None


Measures = dict[str, np.ndarray]  # of each kind of channel, what a filter needs to know of whole curves


def measured(
    clip: Clip, method: Filter, scope: Scope = Scope(), groups: Mapping[str, Collection[str]] = {}
) -> Measures:
    """What a filter needs to know of the whole clip. ``groups``: the joints of each part of the body."""
    found = {channel.kind: _measured(channel, clip.rate, method, scope, groups) for channel in _channels(clip, scope)}
    return {kind: worth for kind, worth in found.items() if worth is not None}


def _measured(
    channel: Channel, rate: float, method: Filter, scope: Scope, groups: Mapping[str, Collection[str]]
) -> np.ndarray | None:
    part = _part(scope.frames, channel.rows.shape[-1])
    piece = channel.rows[..., part]
    worth = method.measure(piece, rate)
    if worth is None:
        return None
    if channel.cosines is not None:
        for i, cuts in _torn(channel.cosines[:, part.start : max(part.stop - 1, 0)]).items():
            longest = max(_stretches(np.ones(piece.shape[-1], bool), cuts), key=lambda s: s.stop - s.start)
            worth[i : i + 1] = method.measure(piece[i : i + 1, :, longest], rate)
    if isinstance(method, LowPass):
        for group, cutoff in method.parts:
            worth[[name in groups.get(group, ()) for name in channel.names]] = cutoff
    return worth


def filtered(
    clip: Clip,
    method: Filter,
    scope: Scope = Scope(),
    groups: Mapping[str, Collection[str]] = {},
    measures: Measures | None = None,
    first: int = 0,
    total: int | None = None,
) -> tuple[Clip, Report]:
    """``clip`` with its channels filtered, and what was done. Rotations stay of length one and never flip.

    Of a part of a longer clip: ``measures`` of that one, the frame ``first`` of it that the part begins with, and its
    ``total`` frames.
    """
    inside = _share(scope.frames, total or clip.frames, clip.rate)[first : first + clip.frames] > 0
    report = Report()

    def run(channel: Channel) -> np.ndarray:
        rows, names, cosines = channel.rows, channel.names, channel.cosines
        known = (measures or {}).get(channel.kind)
        if measures is None:
            known = _measured(channel, clip.rate, method, scope, groups)
        if cosines is not None:
            report.breaks = [frame + first for frame in breaks(rows, cosines)]
        if isinstance(method, LowPass) and known is not None:
            asked = zip(names, known.tolist())
            report.cutoffs |= {
                name: hertz for name, hertz in asked if np.isfinite(hertz) and name not in report.cutoffs
            }
        out = rows
        for part in _stretches(inside, [frame - first for frame in report.breaks]):
            piece = rows[..., part]
            if isinstance(method, Spikes):
                done = _despiked(piece, method, channel.kind, names, clip.rate, part.start + first, known, report)
            else:
                torn = {} if cosines is None else _torn(cosines[:, part.start : part.stop - 1])
                done = _smooth(piece, method, clip.rate, known, torn)
            if done is piece:
                continue
            if piece.shape == rows.shape:
                return done
            out = rows.copy() if out is rows else out
            out[..., part] = done
        return out

    return changed(clip, scope, run, first, total, isinstance(method, Spikes)), report


def changed(
    clip: Clip,
    scope: Scope,
    run: Callable[[Channel], np.ndarray],
    first: int = 0,
    total: int | None = None,
    unit: bool = False,
) -> Clip:
    """``clip`` with the channels that are meant as ``run`` makes them, eased in at the ends of the range.

    ``run`` gives the rows that it got where it changes nothing, and else others; ``unit``: rotations of length one. See
    ``filtered`` for parts of clips.
    """
    share = _share(scope.frames, total or clip.frames, clip.rate)[first : first + clip.frames]
    made = {}
    for channel in _channels(clip, scope):
        rows, out = channel.rows, run(channel)
        if out is rows or not share.any():
            continue
        if share.min() < 1:
            if channel.kind == ROTATION:  # on the same side of the sphere
                out = out * np.where(np.einsum("jcf,jcf->jf", rows, out) < 0, -1.0, 1.0)[:, None]
            out = rows + share * (out - rows)
        if channel.kind == ROTATION and not (unit and share.min() == 1):
            for turns in out:  # one fits the processor's cache
                turns *= 1 / np.maximum(np.sqrt(np.einsum("cf,cf->f", turns, turns)), 1e-12)
        made[channel.kind] = channel, out
    return _put(clip, made)


def _smooth(
    rows: np.ndarray, method: Smoother, rate: float, measures: np.ndarray | None, torn: dict[int, list[int]]
) -> np.ndarray:
    """Rows, smoothed; never across the frames at which single channels of them are torn. The same array where nothing is done."""
    out = method.run(rows, rate, measures)  # type: ignore[arg-type]
    if torn and out is rows:
        return rows
    for i, cuts in torn.items():
        if len(cuts) > _MOST_FLIPS:  # there is no curve that could be smoothed
            out[i] = rows[i]
            continue
        own = None if measures is None else measures[i : i + 1]
        for part in _stretches(np.ones(rows.shape[-1], bool), cuts):
            out[i : i + 1, :, part] = method.run(rows[i : i + 1, :, part], rate, own)  # type: ignore[arg-type]
    return out


def _torn(cosines: np.ndarray) -> dict[int, list[int]]:
    """The frames at which single joints turn so far at once that they don't turn but flip: ``{channel: frames}``."""
    flips = cosines < np.cos(_FLIP / 2)
    return {int(i): (np.flatnonzero(flips[i]) + 1).tolist() for i in np.flatnonzero(flips.any(axis=1))}


def _despiked(
    rows: np.ndarray,
    method: Spikes,
    kind: str,
    names: list[str],
    rate: float,
    first: int,
    usual: np.ndarray | None,
    report: Report,
) -> np.ndarray:
    """A stretch of channels without spikes. ``first``: its first frame in the whole clip."""
    numbers, kept = {name: i for i, name in enumerate(names)}, np.zeros((len(rows), rows.shape[-1]), bool)
    for name, frame in method.kept:
        if name in numbers and 0 <= frame - first < rows.shape[-1]:
            kept[numbers[name], frame - first] = True
    settings = method.threshold, method.window, method.longest, _HUGE.get(kind, np.inf)
    within = 1.0 if kind == ROTATION else None
    out, bad = despiked(rows, rate, _LEAST[kind], *settings, usual, kept, within)
    if kind == ROTATION and out is not rows:
        channels, frames = np.divmod(np.flatnonzero(bad), bad.shape[1])  # a fifth of the time that nonzero takes
        turns = out[channels, :, frames]
        out[channels, :, frames] = turns / np.linalg.norm(turns, axis=1, keepdims=True)
    for i in np.flatnonzero(bad.any(axis=1)):
        found = (np.flatnonzero(bad[i]) + first).tolist()
        report.spikes[names[i]] = sorted({*report.spikes.get(names[i], ()), *found})
    return out


def _channels(clip: Clip, scope: Scope) -> list[Channel]:
    """The channels that are meant; rotations have signs that don't jump."""
    skeleton, found = clip.skeleton.names, list[Channel]()
    if ROTATION in scope.channels:
        joints = [j for j, name in enumerate(skeleton) if scope.has(name)]
        turns = as_rows(clip.rotations)
        meant = turns if len(joints) == len(turns) else turns[joints]
        found.append(Channel(ROTATION, [skeleton[j] for j in joints], *continuous(meant)))
    if POSITION in scope.channels:
        which = [i for i, joint in enumerate(clip.moving) if scope.has(skeleton[joint])]
        names = [skeleton[clip.moving[i]] for i in which]
        found.append(Channel(POSITION, names, as_rows(clip.translations)[which]))
    if MORPH in scope.channels:
        which = [i for i, name in enumerate(clip.morphs) if scope.has(name)]
        rows = np.ascontiguousarray(clip.weights.T[which][:, None])
        found.append(Channel(MORPH, [clip.morphs[i] for i in which], rows))
    return [channel for channel in found if channel.names]


def _put(clip: Clip, made: dict[str, tuple[Channel, np.ndarray]]) -> Clip:
    """The clip with other channels, which are nobody else's."""
    changes: dict[str, Any] = {}
    if ROTATION in made:
        channel, out = made[ROTATION]
        if len(channel.names) < len(clip.skeleton):
            turns = as_rows(clip.rotations).copy()
            turns[[clip.skeleton.index[name] for name in channel.names]] = out
            out = turns
        changes["rotations"] = from_rows(out)
    if POSITION in made:
        channel, out = made[POSITION]
        moves, wanted = as_rows(clip.translations).copy(), set(channel.names)
        moves[[i for i, joint in enumerate(clip.moving) if clip.skeleton.names[joint] in wanted]] = out
        changes["translations"] = from_rows(moves)
    if MORPH in made:
        channel, out = made[MORPH]
        rows = channel.rows
        inside = (rows.min(axis=(1, 2), initial=0.0) >= 0) & (rows.max(axis=(1, 2), initial=1.0) <= 1)
        out = np.where(inside[:, None, None], np.clip(out, 0, 1), out)
        weights = clip.weights.copy()
        weights[:, [clip.morphs.index(name) for name in channel.names]] = out[:, 0].T
        changes["weights"] = weights
    return replace(clip, **changes) if changes else clip


def continuous(turns: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Rotations ``(joints, 4, frames)`` with signs that don't jump (the same array where none does), and the cosines of half
    the angles from frame to frame ``(joints, frames - 1)``.
    """
    cosines = np.einsum("jcf,jcf->jf", turns[..., 1:], turns[..., :-1])
    jumps = cosines < 0
    if not jumps.any():
        return turns, cosines
    signs = np.ones((len(turns), turns.shape[-1]))
    signs[:, 1:] -= 2 * (np.cumsum(jumps, axis=1) % 2)
    return turns * signs[:, None], np.abs(cosines)


def _part(frames: tuple[int, int] | None, total: int) -> slice:
    return slice(0, total) if frames is None else slice(min(frames[0], total), min(frames[1] + 1, total))


def _stretches(inside: np.ndarray, cuts: list[int]) -> list[slice]:
    """The frames that are ``inside`` (one run), cut where the clip jumps."""
    at = np.flatnonzero(inside)
    if not len(at):
        return []
    first, end = int(at[0]), int(at[-1]) + 1
    return [slice(a, b) for a, b in itertools.pairwise([first, *(c for c in cuts if first < c < end), end])]


def _share(frames: tuple[int, int] | None, total: int, rate: float) -> np.ndarray:
    """How much of a filter each frame gets ``(total,)``: eased at those ends of the range that lie inside the clip."""
    share, part = np.zeros(total), _part(frames, total)
    share[part] = 1.0
    if part.start >= part.stop:
        return share
    first, last = part.start, part.stop - 1
    ease = max(round(_EASE * rate), 1)
    ramp = (np.arange(ease) + 1) / (ease + 1)
    ramp = ramp * ramp * (3 - 2 * ramp)
    count = min(ease, (last - first + 1) // 2)
    if first > 0:
        share[first : first + count] = ramp[:count]
    if last < total - 1:
        share[last + 1 - count : last + 1] = ramp[:count][::-1]
    return share
