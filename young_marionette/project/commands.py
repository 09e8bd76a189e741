"""All edits of the document. Each command has a label in plain words and makes a new state of an old one."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np

from ..core import rotations as rot
from ..core.rebase import rename
from ..core.body.words import shared_prefix
from ..core.errors import InputError
from ..core.skeleton import pose_world
from ..core.stance import Stance
from ..core.tying import mirror_part, set_string, tie
from .entry import BAKED, CLIP, RIG, Entry, free_name, new_id
from .pairing import bake, pair, refuse_gaps
from .stringing import StringingFile, adapt, from_file, to_file


def _paired(state):
    """The state with a pairing for the active two: what the family has, else a stringing that fits, else a new one."""
    if state.key is None or state.key in state.pairings:
        return state
    source, rig = state.source_entry, state.rig_entry
    for file in state.stringings:
        if (file.source.fingerprint, file.target.fingerprint) == state.key:
            known = from_file(file, source, rig)
            return state.with_pairing(replace(known, origin=f"The stringing {file.name} was made for these two families and is used by itself."))
    try:
        return state.with_pairing(pair(source, rig))
    except InputError:
        return state    # said as a snag; nothing to tie by itself


def _need(state):
    pairing = state.pairing
    if pairing is None:
        raise InputError("Choose a performer's clip and a rig first; both need a readable body.")
    return pairing


@dataclass(frozen=True, eq=False)
class AddEntries:
    """Put entries into the library; the first clip and the first rig become active where none is."""

    entries: tuple[Entry, ...]

    @property
    def label(self):
        return f"open {self.entries[0].name}" if len(self.entries) == 1 else f"open {len(self.entries)} files"

    def run(self, state):
        if not self.entries:
            return state
        taken, added = {e.name for e in state.entries}, []
        for entry in self.entries:
            name = free_name(entry.name, taken)
            taken.add(name)
            added.append(entry.told_anew(name=name))
        state = replace(state, entries=(*state.entries, *added))
        if state.source is None:
            state = replace(state, source=next((e.id for e in added if e.role == CLIP), None))
        if state.rig is None:
            state = replace(state, rig=next((e.id for e in added if e.role == RIG and e.figure.body), None))
        return _paired(state)


@dataclass(frozen=True)
class Remove:
    """Take an entry out of the library; the file on disk stays."""

    entry: str
    label: str = "take out of the library"

    def run(self, state):
        return replace(state, entries=tuple(e for e in state.entries if e.id != self.entry),
                       source=None if state.source == self.entry else state.source,
                       rig=None if state.rig == self.entry else state.rig)


@dataclass(frozen=True)
class Choose:
    """Make an entry the active source, or the active rig; a new pair is tied and matched by itself."""

    entry: str
    as_rig: bool = False
    merge: str = "choose"

    @property
    def label(self):
        return "choose the rig" if self.as_rig else "choose the clip"

    def run(self, state):
        if (state.rig if self.as_rig else state.source) == self.entry:
            return state
        return _paired(replace(state, **{"rig" if self.as_rig else "source": self.entry}))


@dataclass(frozen=True)
class SetRole:
    """Use an entry as a rig, or as a clip."""

    entry: str
    role: str
    label: str = "change what an entry is used as"

    def run(self, state):
        return state.with_entry(state.entry(self.entry).told_anew(role=self.role))


@dataclass(frozen=True)
class Rename:
    """Give a library entry, or with ``entry`` None the project, another name."""

    entry: str | None
    name: str
    label: str = "rename"

    def run(self, state):
        name = self.name.strip()
        if not name:
            raise InputError("A name needs at least one letter.")
        if self.entry is None:
            return replace(state, name=name)
        old = state.entry(self.entry)
        return state.with_entry(old.told_anew(name=free_name(name, {e.name for e in state.entries} - {old.name})))


@dataclass(frozen=True)
class Correct:
    """Correct what was guessed of a file (see core.facts.Correction); the file stays as it is."""

    entry: str
    changes: tuple[tuple[str, object], ...]
    label: str = "correct a fact"

    def run(self, state):
        old = state.entry(self.entry)
        # All clips of one skeleton in one folder came the same way, but a correction is for one file only.
        return _paired(state.with_entry(old.corrected(**dict(self.changes))))


@dataclass(frozen=True)
class TieBones:
    """Tie source bones to target bones for a part of the body, and the mirror bones where ``mirror`` is set."""

    part: str
    source: tuple[str, ...]
    target: tuple[str, ...]
    mirror: bool = False

    @property
    def label(self):
        return f"tie {self.part}"

    def run(self, state):
        pairing = _need(state)
        strings = set_string(pairing.strings, self.part, self.source, self.target)
        other = mirror_part(self.part)
        if self.mirror and other:
            sides = [_mirror_bones(e, names) for e, names in ((state.source_entry, self.source), (state.rig_entry, self.target))]
            if None not in sides:
                strings = set_string(strings, other, *sides)
        return state.with_pairing(pairing.with_strings(strings))


def _mirror_bones(entry, names):
    """The bones at the same place on the other side of the body, or None where one has no partner."""
    parts = entry.figure.body.parts if entry.figure.body else {}
    skeleton, found = entry.placed_skeleton, []
    for name in names:
        joint = skeleton.index[name]
        for part, run in parts.items():
            other = parts.get(mirror_part(part) or "", ())
            if joint in run and len(other) == len(run):
                found.append(skeleton.names[other[run.index(joint)]])
                break
        else:
            return None
    return tuple(found)


@dataclass(frozen=True)
class Untie:
    """Take the string off a part."""

    part: str

    @property
    def label(self):
        return f"untie {self.part}"

    def run(self, state):
        pairing = _need(state)
        strings = tuple(s for s in pairing.strings if s.part != self.part)
        return state.with_pairing(pairing.with_strings(strings)) if len(strings) < len(pairing.strings) else state


@dataclass(frozen=True)
class TieAll:
    """Tie again by itself: everything, only what has no string, or only some ``parts``; locked strings stay."""

    only_untied: bool = False
    parts: tuple[str, ...] | None = None

    @property
    def label(self):
        return "tie what is untied" if self.only_untied else "tie a part of the body" if self.parts else "tie all by itself"

    def run(self, state):
        pairing = _need(state)
        source, rig = state.source_entry, state.rig_entry
        if not (source.figure.body and rig.figure.body):
            raise InputError("No body can be seen on one side, so nothing can be tied by itself.")
        strings = tie(pairing.source, source.figure.body, pairing.target, rig.figure.body)
        kept = [s for s in pairing.strings if s.locked or self.only_untied or self.parts and s.part.removesuffix(" twist") not in self.parts]
        parts, used = {s.part for s in kept}, {n for s in kept for n in s.target}
        wanted = [s for s in strings if not self.parts or s.part.removesuffix(" twist") in self.parts]
        strings = (*kept, *(s for s in wanted if s.part not in parts and not used & set(s.target)))
        return state.with_pairing(pairing.with_strings(strings))


@dataclass(frozen=True)
class Lock:
    """Lock a string, so that tying by itself leaves it, or unlock it."""

    part: str
    locked: bool = True

    @property
    def label(self):
        return f"{'lock' if self.locked else 'unlock'} {self.part}"

    def run(self, state):
        pairing = _need(state)
        if self.part not in {s.part for s in pairing.strings}:
            raise InputError(f"The {self.part} has no string to lock.")
        strings = tuple(replace(s, locked=self.locked) if s.part == self.part else s for s in pairing.strings)
        return state.with_pairing(replace(pairing, strings=strings))


@dataclass(frozen=True)
class DeclareAbsent:
    """Say that a part of the body is not there (a creature without arms), or take that back."""

    part: str
    absent: bool = True

    @property
    def label(self):
        return f"declare {self.part} {'absent' if self.absent else 'present'}"

    def run(self, state):
        pairing = _need(state)
        if self.part == "hips":
            raise InputError("The hips can't be absent: all motion hangs on them.")
        rest = tuple(p for p in pairing.absent if p != self.part)
        strings = tuple(s for s in pairing.strings if not (self.absent and s.part == self.part))
        changed = replace(pairing, absent=(*rest, self.part) if self.absent else rest)
        return state.with_pairing(changed.with_strings(strings) if len(strings) < len(pairing.strings) else changed)


@dataclass(frozen=True)
class Tag:
    """Give a library entry tags to search for."""

    entry: str
    tags: tuple[str, ...]
    label: str = "tag"

    def run(self, state):
        return state.with_entry(state.entry(self.entry).told_anew(tags=tuple(dict.fromkeys(t.strip() for t in self.tags if t.strip()))))


@dataclass(frozen=True)
class SwapSides:
    """Exchange left and right on the source's side of all strings."""

    label: str = "exchange left and right"

    def run(self, state):
        pairing = _need(state)
        ends = {s.part: s.source for s in pairing.strings}
        strings = tuple(replace(s, source=ends.get(mirror_part(s.part) or s.part, s.source)) for s in pairing.strings)
        return state.with_pairing(pairing.with_strings(strings))


@dataclass(frozen=True)
class RenameBones:
    """Give the bones of an entry, and of all of its family, other names; strings go along, motion stays."""

    entry: str
    names: tuple[tuple[str, str], ...]
    label: str = "rename bones"

    def run(self, state):
        names = dict(self.names)
        old = state.entry(self.entry)
        if not names:
            raise InputError("There is no bone to rename.")
        members = {e.id: e.with_bone_names(names) for e in state.entries if e.family == old.family and e.skeleton.names == old.skeleton.names}
        family = members[old.id].family
        renamed = replace(state, entries=tuple(members.get(e.id, e) for e in state.entries))
        pairings = {}
        for (source, rig), pairing in state.pairings.items():
            key = tuple(family if side == old.family else side for side in (source, rig))
            for side, end in (("source", source), ("target", rig)):
                if end == old.family:
                    ends = tuple(replace(s, **{side: tuple(names.get(n, n) for n in getattr(s, side))}) for s in pairing.strings)
                    pairing = replace(pairing, strings=ends, **{side: rename(getattr(pairing, side), names)})
            pairings[key] = pairing
        return replace(renamed, pairings={**state.pairings, **pairings})


@dataclass(frozen=True)
class MatchStance:
    """Match the stance by itself."""

    label: str = "match the stance"

    def run(self, state):
        return state.with_pairing(_need(state).rematched())


@dataclass(frozen=True)
class SetTolerance:
    """How far (degrees) a limb may stand apart in the stance before it is a snag."""

    degrees: float
    merge: str | None = "tolerance"
    label: str = "set the tolerance of the stance"

    def run(self, state):
        return replace(state, stance_tolerance=float(np.clip(self.degrees, 0, 180)))


@dataclass(frozen=True)
class TurnBone:
    """Turn a rig bone in the stance by a rotation vector in the world (radians); what hangs on it goes along."""

    bone: str
    vector: tuple[float, float, float]
    merge: str | None = None

    @property
    def label(self):
        return f"turn {self.bone} in the stance"

    def run(self, state):
        pairing = _need(state)
        pose = pairing.stance.target.copy()
        joint = pairing.target.index[self.bone]
        _, world = pose_world(pairing.target, pose)
        over = rot.multiply(rot.from_vector(np.array(self.vector, float)), world[joint])
        pose[joint] = rot.multiply(pose[joint], rot.multiply(rot.conjugate(world[joint]), over))
        return state.with_pairing(replace(pairing, stance=Stance(pairing.stance.source, pose), matched=False))


@dataclass(frozen=True)
class ResetBone:
    """Put a rig bone, or with None the whole rig, back to its rest pose in the stance."""

    bone: str | None = None
    label: str = "reset in the stance"

    def run(self, state):
        pairing = _need(state)
        pose = pairing.stance.target.copy()
        rows = slice(None) if self.bone is None else pairing.target.index[self.bone]
        pose[rows] = pairing.target.rest[rows]
        return state.with_pairing(replace(pairing, stance=Stance(pairing.stance.source, pose), matched=False))


@dataclass(frozen=True)
class AdoptPose:
    """Take a frame of a clip as the source's reference pose; None goes back to its rest pose.

    ``entry``: a clip with the same bones, such as a reference clip; the active one if None. The pose then
    serves all clips of the family.
    """

    frame: int | None
    entry: str | None = None
    label: str = "adopt a reference pose"

    def run(self, state):
        pairing = _need(state)
        pose = pairing.source.rest
        if self.frame is not None:
            pose = _pose_of(state.entry(self.entry) or state.source_entry, self.frame, pairing.source)
            # Only the pose counts, not where the figure happens to face in that frame.
            hips = pairing.source.index[next(s for s in pairing.strings if s.part == "hips").source[0]]
            for joint in (hips, *pairing.source.ancestors(hips)):
                pose[joint] = pairing.source.rest[joint]
        changed = replace(pairing, stance=Stance(pose, pairing.stance.target))
        return state.with_pairing(changed.rematched() if pairing.matched else changed)


def _pose_of(entry, frame, skeleton):
    """A frame's pose on another skeleton of the same bones, whatever its local axes (local rotations)."""
    clip = entry.placed_clip
    if not 0 <= frame < clip.frames:
        raise InputError(f"{entry.name} has no frame {frame}.")
    if clip.skeleton is skeleton:
        return np.array(clip.rotations[frame])
    here, there = ({n.removeprefix(shared_prefix(s.names)): i for i, n in enumerate(s.names)} for s in (clip.skeleton, skeleton))
    _, posed = pose_world(clip.skeleton, clip.rotations[frame])
    _, rested = clip.skeleton.rest_world
    change = rot.multiply(posed, rot.conjugate(rested))
    lacking = [n for n in there if n not in here]
    if len(lacking) > 0.3 * len(there):
        raise InputError(f"{entry.name} has other bones than this family, so its pose can't be taken.")
    world, own = skeleton.rest_world[1].copy(), np.array(skeleton.rest)
    for name, joint in there.items():
        parent = skeleton.parents[joint]
        if name in here:
            world[joint] = rot.multiply(change[here[name]], skeleton.rest_world[1][joint])
        elif parent >= 0:
            world[joint] = rot.multiply(world[parent], skeleton.rest[joint])
        above = world[parent] if parent >= 0 else rot.IDENTITY
        own[joint] = rot.multiply(rot.conjugate(above), world[joint])
    return own


@dataclass(frozen=True)
class SetTransfer:
    """Change transfer settings (see core.transfer.TransferSettings)."""

    changes: tuple[tuple[str, object], ...]
    merge: str | None = None
    label: str = "change the transfer"

    def run(self, state):
        pairing = _need(state)
        return state.with_pairing(replace(pairing, settings=replace(pairing.settings, **dict(self.changes))))


@dataclass(frozen=True)
class Bake:
    """Bake the active clip onto the active rig, as a new clip; nothing is replaced."""

    fps: float | None = None
    frames: tuple[int, int] | None = None
    identifier: str = field(default_factory=new_id)
    label: str = "bake"

    def run(self, state):
        pairing, source, rig = _need(state), state.source_entry, state.rig_entry
        refuse_gaps(pairing, source, rig)
        name = free_name(f"{source.name} on {rig.name}", {e.name for e in state.entries})
        clip = replace(rig.to_file_world(bake(pairing, source, self.fps, self.frames)), name=name)
        entry = Entry(self.identifier, BAKED, name, None, rig.format, rig.skeleton, clip, rig.layout,
                      replace(rig.correction, rate=None, lift=None, centred=None), made_from=(source.id, rig.id))
        return replace(state, entries=(*state.entries, entry))


@dataclass(frozen=True, eq=False)
class UseStringing:
    """Put a stringing into the library and use it for the active pair; InputError where it does not fit."""

    file: StringingFile
    label: str = "use a stringing"

    def run(self, state):
        kept = (*(f for f in state.stringings if f != self.file), self.file)
        state = replace(state, stringings=kept)
        if state.key is None:
            return state
        return state.with_pairing(from_file(self.file, state.source_entry, state.rig_entry))


@dataclass(frozen=True, eq=False)
class AdaptStringing:
    """Use a stringing that nearly fits the active pair: keep what fits, tie the rest by itself."""

    file: StringingFile
    label: str = "adapt a stringing"

    def run(self, state):
        _need(state)
        pairing, told = adapt(self.file, state.source_entry, state.rig_entry)
        return state.with_pairing(replace(pairing, origin=f"Adapted from the stringing {self.file.name}; {told}."))


@dataclass(frozen=True)
class KeepStringing:
    """Keep the active pairing as a named stringing in the library."""

    name: str
    label: str = "keep the stringing"

    def run(self, state):
        if not self.name.strip():
            raise InputError("A stringing needs a name.")
        file = to_file(_need(state), state.source_entry, state.rig_entry, self.name.strip())
        return replace(state, stringings=(*(f for f in state.stringings if f.name != file.name), file))
