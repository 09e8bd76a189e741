"""Library entries: one skeleton or one clip each, as read from a file, and as it stands in our world."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path

import numpy as np

from ..core.correction import Correction, put_down
from ..core.facts import Oddity, motion_facts, place_figure
from ..core.placement import place_clip, place_skeleton
from ..core.rebase import rename
from ..core.skeleton import Clip, Skeleton
from ..formats.bvh import Layout

CLIP, RIG, BAKED = "clip", "rig", "baked"
_figures, _skeletons = {}, {}
_MAX_CACHED = 256


def _remember(cache, key, make):
    if key not in cache:
        if len(cache) >= _MAX_CACHED:
            cache.pop(next(iter(cache)))
        cache[key] = make()
    return cache[key]


def skeleton_key(skeleton):
    """A text that is equal only for skeletons that are alike to the last bit."""
    digest = hashlib.sha256("\n".join(skeleton.names).encode())
    for array in (skeleton.parents, skeleton.offsets, skeleton.rest, skeleton.tips):
        digest.update(np.ascontiguousarray(array).tobytes())
    return digest.hexdigest()


@dataclass(frozen=True, eq=False)
class Entry:
    """``skeleton`` and ``clip`` are in the file's unit and axes; ``placed_*`` stand in our world.

    ``role``: clip, rig or baked. ``made_from`` tells for a baked clip which entries it came from.
    """

    id: str
    role: str
    name: str
    path: Path | None
    format: str
    skeleton: Skeleton
    clip: Clip | None
    layout: Layout | None
    correction: Correction = field(default_factory=Correction)
    notes: tuple[str, ...] = ()
    made_from: tuple[str, ...] = ()
    tags: tuple[str, ...] = ()

    @cached_property
    def _rested(self):
        """The skeleton in the rest pose that it is believed to have."""
        frame = self.correction.rest
        if frame is None or self.clip is None:
            return self.skeleton
        return replace(self.skeleton, rest=self.clip.rotations[min(frame, self.clip.frames - 1)])

    @cached_property
    def _key(self):
        return skeleton_key(self._rested), self.correction

    @cached_property
    def figure(self):
        """What the skeleton was found to be (a Figure), shared among equal skeletons."""
        return _remember(_figures, self._key, lambda: place_figure(self._rested, self.correction))

    @property
    def family(self):
        """The fingerprint that entries of one skeleton family share."""
        return self.correction.family or self.figure.fingerprint

    @cached_property
    def placed_skeleton(self):
        return _remember(_skeletons, self._key, lambda: place_skeleton(self._rested, self.figure.placement))

    @cached_property
    def placed_clip(self):
        """The clip in our world; a rig without motion stands in its rest pose for one frame."""
        if self.clip is None:
            still = self.placed_skeleton
            return Clip(self.name, still, 30.0, still.rest[None])
        placed = place_clip(self.clip, self.figure.placement, self.placed_skeleton)
        return put_down(placed, self.figure.body, self.correction)

    @cached_property
    def motion(self):
        """``(facts, oddities)`` of the motion."""
        if self.clip is None:
            return (), ()
        return motion_facts(self.placed_clip, self.figure.body)

    @property
    def facts(self):
        return (*self.figure.facts, *self.motion[0])

    @property
    def oddities(self):
        """What is odd about file, skeleton and motion (Oddity each)."""
        read = (Oddity("reading", text, "Nothing needs to be done if the motion looks right.") for text in self.notes)
        return (*read, *self.figure.oddities, *self.motion[1])

    def to_file_world(self, clip):
        """A clip on this entry's placed skeleton, back in the file's own unit and axes."""
        return place_clip(clip, self.figure.placement.inverse, self.skeleton)

    def corrected(self, **changes):
        """The entry with corrections of the guesses (see Correction)."""
        return replace(self, correction=replace(self.correction, **changes))

    def with_bone_names(self, names):
        """The entry with bones renamed by ``{old: new}``; the motion stays as it is."""
        skeleton = rename(self.skeleton, names)
        clip = replace(self.clip, skeleton=skeleton) if self.clip is not None else None
        layout = replace(self.layout, names=skeleton.names) if self.layout is not None else None
        return replace(self, skeleton=skeleton, clip=clip, layout=layout)

    def told_anew(self, **changes):
        """The entry with another name or role; what was worked out of its data stays worked out."""
        new = replace(self, **changes)
        for worked_out in ("_key", "figure", "placed_skeleton", "placed_clip", "motion"):
            if worked_out in self.__dict__:
                new.__dict__[worked_out] = self.__dict__[worked_out]
        return new


def entries_of(motion_file, taken=()):
    """The entries of a file as read. One that holds no more than two frames is taken for a rig."""
    names = {*taken}
    result = []
    for clip in motion_file.clips or (None,):
        role = CLIP if clip is not None and clip.frames > 2 else RIG
        name = free_name(clip.name if clip is not None else motion_file.path.stem, names)
        names.add(name)
        result.append(
            Entry(
                new_id(),
                role,
                name,
                motion_file.path,
                motion_file.format,
                motion_file.skeleton,
                clip,
                motion_file.layout,
                notes=motion_file.notes,
            )
        )
    return result


def new_id():
    """An identifier that no other entry has."""
    import uuid

    return uuid.uuid4().hex[:12]


def free_name(name, taken):
    """``name``, or with the first number behind it that is not taken."""
    if name not in taken:
        return name
    number = 2
    while f"{name} {number}" in taken:
        number += 1
    return f"{name} {number}"
