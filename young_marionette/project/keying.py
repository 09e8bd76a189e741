"""Edits of the keys of a baked clip: what its passes give, changed, as the keys that are kept from then on."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from ..core.errors import InputError
from ..core.keys import editing
from ..core.keys.channel import Channel
from ..core.keys.handles import Handle, value_of, with_slope
from ..core.keys.sampler import Interpolation
from ..core.passes import posing
from ..core.passes.correction import Correction, corrected_by
from ..core.passes.keys import Keys
from ..core.passes.stack import Pass, Stage
from ..core.thinning.thinning import HAND, Subject, Thinner
from .commands import AddPass, SetPass
from .entry import new_id

if TYPE_CHECKING:
    from ..core.clip import Clip
    from ..core.keys.keyed import KeyedClip
    from ..core.thinning.settings import Thin
    from .bakes import Bake

_NONE = "This clip has a key on every frame; thin it first."


@dataclass(frozen=True, eq=False)
class CopiedPoses:
    """Poses of some channels at frames, counted from the first of them; ``joints``: of which rig."""

    joints: tuple[str, ...]
    frames: tuple[int, ...]
    values: tuple[Mapping[Channel, np.ndarray], ...]


def keys_of(bake: Bake) -> Keys:
    """The keys that a baked clip has after all passes; InputError where it has none, or they are not known yet."""
    on = [one for one in bake.passes if one.on]
    if not on or not (on[-1].thins or on[-1].keys):
        raise InputError(_NONE)
    if (own := on[-1].keys) is not None:
        return own
    stage = bake.passed.result
    if stage is None or stage.keyed is None or stage.poses is None:
        raise InputError("The passes are still being worked out.")
    return Keys(stage.keyed, tuple(stage.poses.marks.items()), stage.keyed.digest[:32])


def is_stale(keys: Keys, beneath: Stage) -> bool:
    """Whether what lies beneath edited keys is another motion by now than the one that they were made from."""
    return bool(keys.beneath) and (beneath.keyed is None or beneath.keyed.digest[:32] != keys.beneath)


def _with(keys: Keys, keyed: KeyedClip, marks: Mapping[int, str]) -> Keys:
    return replace(keys, keyed=keyed, marks=tuple(sorted(marks.items())))


def move(keys: Keys, frames: Iterable[int], by: int) -> tuple[Keys, tuple[int, ...]]:
    """``(the keys with some moved in time, the frames that those have now)``."""
    frames = tuple(frames)
    made = editing.moved(keys.keyed, frames, by)
    inner = [f for f in frames if 0 < f < keys.keyed.frames - 1]
    old, new = set(editing.key_frames(keys.keyed)), set(editing.key_frames(made))
    if made is keys.keyed or not inner:
        return keys, frames
    by = min(new - old, default=min(inner)) - min(old - new, default=min(inner)) if new != old else 0
    table = {f: f + by for f in inner}
    return _renumbered(keys, made, table), tuple(table.get(f, f) for f in frames)


def stretch(keys: Keys, frames: Iterable[int], first: int, last: int) -> tuple[Keys, tuple[int, ...]]:
    """As ``move``, with the first and the last of the keys at these frames; InputError where there is no room."""
    chosen = sorted(f for f in frames if 0 < f < keys.keyed.frames - 1)
    try:
        made = editing.stretched(keys.keyed, chosen, first, last)
    except ValueError:
        raise InputError("There is no room for all of these keys.") from None
    if made is keys.keyed:
        return keys, tuple(chosen)
    kept = [f for f in editing.key_frames(keys.keyed) if f not in chosen]
    new = sorted(set(editing.key_frames(made)) - set(kept))
    return _renumbered(keys, made, dict(zip(chosen, new))), tuple(new)


def _renumbered(keys: Keys, made: KeyedClip, table: Mapping[int, int]) -> Keys:
    return _with(keys, made, {table.get(f, f): mark for f, mark in keys.marks})


def delete(keys: Keys, frames: Iterable[int]) -> Keys:
    """Without the poses at some frames; the first and the last one stay."""
    gone = {f for f in frames if 0 < f < keys.keyed.frames - 1}
    if not gone:
        raise InputError("The first and the last pose stay; choose others.")
    return _with(keys, editing.deleted(keys.keyed, gone), {f: m for f, m in keys.marks if f not in gone})


def insert(keys: Keys, frame: int) -> Keys:
    """With a key of all that moves at a frame; the motion stays as it was."""
    if not 0 < frame < keys.keyed.frames - 1:
        raise InputError("There is a key at the first and the last frame already.")
    return _with(keys, editing.inserted(keys.keyed, [frame]), dict(keys.marks) | {frame: HAND})


def interpolate(keys: Keys, frames: Iterable[int], way: Interpolation) -> Keys:
    """With the in-betweens that begin at some poses held, straight or smooth."""
    # Where a joint has no key at a pose, its in-between goes on: it is given one first.
    frames = list(frames)
    made = editing.inserted(keys.keyed, _with_next(keys.keyed, frames))
    return _with(keys, editing.with_interpolation(made, frames, way), dict(keys.marks))


def _with_next(keyed: KeyedClip, frames: Iterable[int]) -> list[int]:
    poses, found = editing.key_frames(keyed), set(frames)
    for frame in list(found):
        found.update(f for f in poses if f > frame and not any(frame < other < f for other in poses))
    return sorted(found)


def tangents(keys: Keys, frames: Iterable[int], kind: str) -> Keys:
    """With the tangents of some poses joined, flat, or by themselves."""
    return _with(keys, editing.with_tangents(keys.keyed, frames, kind), dict(keys.marks))


def pose(keys: Keys, frame: int, values: Mapping[Channel, np.ndarray]) -> Keys:
    """With the values of some channels at a frame, as a key made by hand."""
    return _with(keys, editing.posed(keys.keyed, frame, values), dict(keys.marks) | {frame: HAND})


def hold(keys: Keys, frame: int, frames: int) -> Keys:
    """With the pose at a frame held for some frames more."""
    made = editing.held(keys.keyed, frame, frames)
    if made is keys.keyed:
        raise InputError("There is no room before the next pose.")
    new = set(editing.key_frames(made)) - set(editing.key_frames(keys.keyed))
    return _with(keys, made, dict(keys.marks) | dict.fromkeys(new, HAND))


def copied(keys: Keys, frames: Iterable[int]) -> CopiedPoses:
    """The poses at some frames; InputError for none."""
    frames = sorted(frames)
    if not frames:
        raise InputError("Choose poses to copy.")
    poses = tuple(editing.pose_at(keys.keyed, f) for f in frames)
    return CopiedPoses(keys.keyed.skeleton.names, tuple(f - frames[0] for f in frames), poses)


def paste(keys: Keys, poses: CopiedPoses, frame: int) -> Keys:
    """With copied poses, the first of them at a frame; those beyond the end are left out.

    InputError where they are of another rig.
    """
    if poses.joints != keys.keyed.skeleton.names:
        raise InputError("These poses are of another rig.")
    for offset, values in zip(poses.frames, poses.values):
        if frame + offset < keys.keyed.frames:
            known = {c: v for c, v in values.items() if c in keys.keyed.samplers}
            keys = pose(keys, frame + offset, known)
    return keys


def thin_again(keys: Keys, bake: Bake, method: Thin, frames: tuple[int, int]) -> Keys:
    """With other keys in a range of frames, thinned anew from what the keys give there; all others stay."""
    dense, passed = keys.keyed.sample(), bake.passed
    stage = passed.result
    contacts = stage.contacts if stage is not None else None
    limbs = passed.limbs
    made = Thinner(Subject(dense, contacts, limbs.points, limbs.groups, None, frames, limbs.rig)).thin(method)
    marks = {f: m for f, m in keys.marks if not frames[0] < f < frames[1]}
    marks = made.marks | marks
    return _with(keys, editing.spliced(keys.keyed, made.keyed, *frames), marks)


def make_dense(keys: Keys, frames: tuple[int, int]) -> Keys:
    """With a key on every frame of a range."""
    made = editing.inserted(keys.keyed, range(frames[0], frames[1] + 1))
    marks = {f: m for f, m in keys.marks if not frames[0] < f < frames[1]}
    return _with(keys, made, marks)


def posed(bake: Bake, frame: int, before: Clip, after: Clip, gentle: bool = True, chosen: str | None = None) -> Pass:
    """The pass that brings a pose (a Clip of one frame) from ``before`` to ``after``: keys where the clip has few, else a
    correction that is eased in and out. It takes the place of the one with its id, or is a new one on top.

    ``gentle``: what stands or is held goes on doing so in a correction. ``chosen``: the id of a pass; a correction on top that it is
    gets the pose as one more of its own.
    """
    values = posing.differences(before, after)
    on = [one for one in bake.passes if one.on]
    if on and (on[-1].thins or on[-1].keys):
        one = on[-1] if on[-1].keys else Pass(new_id(), Keys(keys_of(bake).keyed))
        return replace(one, method=pose(keys_of(bake), frame, values))
    old = on[-1] if on else None
    layer = old.method if old is not None and isinstance(old.method, Correction) else None
    if old is not None and layer is not None and (old.id == chosen or frame in {key.frame for key in layer.keys}):
        return replace(old, method=corrected_by(before, values, layer, frame), keep=gentle)
    return Pass(new_id(), corrected_by(before, values, Correction(frame)), keep=gentle)


def laid(bake: Bake, one: Pass, label: str) -> SetPass | AddPass:
    """The command that lays such a pass over a baked clip."""
    known = any(p.id == one.id for p in bake.passes)
    return SetPass(bake.id, one, label) if known else AddPass(bake.id, one, None, label)


def curve_slope(keys: Keys, handle: Handle, reading: str, order: str, side: int, slope: float, both: bool) -> Keys:
    """With the slope of a curve beside a key (see core.keys.handles)."""
    made = with_slope(keys.keyed, handle, reading, order, side, slope, both)
    return _with(keys, made, dict(keys.marks) | {handle.frame: HAND})


def curve_value(keys: Keys, handle: Handle, reading: str, order: str, value: float) -> Keys:
    """With another value of a curve at a key."""
    made = value_of(keys.keyed, handle, reading, order, value)
    return keys if made is None else pose(keys, handle.frame, dict([made]))
