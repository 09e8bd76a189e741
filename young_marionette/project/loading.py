"""The document of a project file, with its blobs, as the State of a document."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any, TypeVar

from ..core.clip import Clip
from ..core.contacts.choices import Adjusted, ContactChoices, Drawn
from ..core.contacts.contact import Contact, Contacts, Touch
from ..core.controls.rig import control_rig
from ..core.errors import InputError
from ..core.figure.correction import Correction
from ..core.figure.declared import Declared
from ..core.findings import Finding, finding
from ..core.keys.keyed import KeyedClip
from ..core.scene.props import Box
from ..core.skeleton import Skeleton
from ..core.text import shown
from ..core.transfer.deviation import Limits
from ..core.transfer.limits import JointLimit
from ..core.transfer.settings import FREE
from ..formats.registry import layout_class
from ..formats.source_file import FileLayout
from .bakes import Bake
from .blobs import Blobs
from .control_files import set_of
from .document import State
from .entry import Entry
from .markers.entry import MarkerEntry
from .markers.stored import path_of, stored_recording
from .old_scales import with_typed_scales
from .pairing import Use
from .pass_files import pass_of, preset_of
from .schema import VERSION, BakeFile, EntryFile, FindingFile, LayoutFile, MotionFile, ProjectFile
from .soundness import UNSOUND, sound_clip, sound_keys, sound_layout, sound_skeleton
from .strict import parse
from .stringing import from_file
from .stringing.sides import Bare

if TYPE_CHECKING:
    from .schema import ContactChoicesFile, ContactsFile, PairingFile, RecordingFile


def of_document(label: str, data: bytes, blobs: Blobs) -> State:
    """The State of a JSON document and its blobs; InputError where anything of it is not sound."""
    file = parse(label, data, ProjectFile, VERSION, "project")
    reading = Reading(label, blobs, file.version)
    entries = tuple(reading.entry(item) for item in file.entries)
    state = State(file.name, entries, stringings=tuple(file.stringings), stance_tolerance=file.stance_tolerance)
    state = with_pairings(label, state, file.pairings, file.version)
    bakes = tuple(reading.bake(item) for item in file.bakes)
    ids = [*(e.id for e in entries), *(b.id for b in bakes), *(r.id for r in file.recordings)]
    if len(set(ids)) != len(ids):
        raise InputError(f"{label} is damaged: an entry stands in it twice.")
    known = {e.id for e in entries}
    source, rig = (i if i in known else None for i in (file.source, file.rig))
    uses = {(u.source, u.rig): Use(**u.model_dump(exclude={"source", "rig"})) for u in file.uses}
    limits = Limits(**file.limits.model_dump())
    presets = tuple(map(preset_of, file.presets))
    recordings = tuple(reading.recording(item) for item in file.recordings)
    return replace(
        state, recordings=recordings, bakes=bakes, uses=uses, source=source, rig=rig, limits=limits, presets=presets
    )


def with_pairings(label: str, state: State, pairings: Sequence[PairingFile], version: int) -> State:
    """The state with the pairings of a file of a version; one whose entries are not there is left out."""
    for item in pairings:
        source, rig = state.entry(item.source), state.entry(item.rig)
        if isinstance(source, Entry | Bake) and isinstance(rig, Entry | Bake):
            pairing = from_file(item.stringing, source, rig)
            if version < 4:  # which planted nothing
                pairing = replace(pairing, settings=replace(pairing.settings, feet=FREE))
            state = replace(state, pairings={**state.pairings, (source.family, rig.family): pairing})
    return state


def _note(note: FindingFile | str) -> Finding:
    return finding("text", text=note) if isinstance(note, str) else Finding(note.code, note.values)


def _choices(file: ContactChoicesFile) -> ContactChoices:
    adjusted = tuple(Adjusted(tuple(a.changes.items()), a.point, a.frames) for a in file.adjusted)
    return ContactChoices(adjusted, tuple(Drawn(d.point, d.first, d.last, d.touches) for d in file.drawn))


def _contacts(file: ContactsFile) -> Contacts:
    found, touches = (Contact(**c.model_dump()) for c in file.found), (Touch(**t.model_dump()) for t in file.touches)
    return Contacts(tuple(found), file.floor, file.rate, tuple(touches))


Made = TypeVar("Made", Entry, Bake, MarkerEntry)


class Reading:
    """Makes entries and bakes of what a document tells; equal skeletons and files are made once."""

    def __init__(self, label: str, blobs: Blobs, version: int) -> None:
        self.label, self.blobs, self.version = label, blobs, version
        self._skeletons, self._layouts = {}, {}

    def entry(self, item: EntryFile) -> Entry:
        return self._told(item.name, lambda: self._entry(item))

    def bake(self, item: BakeFile) -> Bake:
        return self._told(item.name, lambda: self._bake(item))

    def recording(self, item: RecordingFile) -> MarkerEntry:
        return self._told(item.name, lambda: stored_recording(self.label, item, self.blobs))

    def _told(self, name: str, make: Callable[[], Made]) -> Made:
        try:
            return make()
        except InputError:
            raise
        except UNSOUND as error:
            raise InputError(
                f"{self.label} is damaged: the data of {shown(name, 60)} can't be used ({type(error).__name__})."
            ) from None

    def _entry(self, item: EntryFile) -> Entry:
        skeleton = self.skeleton(item.joints, item.skeleton)
        layout = self.layout(item.layout, skeleton)
        return Entry(
            item.id, item.role, item.name, path_of(item), item.format, skeleton,
            self.take(item.motion, skeleton) if item.motion else None, layout, Correction(**item.correction.model_dump()),
            tuple(map(_note, item.notes)), tuple(item.tags), Declared(item.unit, item.up, tuple(item.bones)),
            _choices(item.contacts), tuple(Box(box.centre, box.size) for box in item.props),
            tuple(JointLimit(limit.joint, limit.swing, limit.twist) for limit in item.limits),
            set_of(item.controls).checked(skeleton) if item.controls is not None else None,
        )  # fmt: skip

    def _bake(self, item: BakeFile) -> Bake:
        rig, placed = self.entry(item.rig), self.skeleton(item.joints, item.placed)
        if len(placed) != len(rig.skeleton):
            raise ValueError("a motion of another skeleton")
        controls = set_of(item.controls) if item.controls is not None else None
        worked = control_rig(controls, placed).skeleton if controls is not None else placed
        clip = self.clip(item.motion, worked)
        pairing = None
        if item.stringing is not None and item.source_skeleton is not None:
            # Both sides are just those that were tied: nothing is matched anew.
            source = self.skeleton(item.source_joints, item.source_skeleton)
            pairing = from_file(item.stringing, Bare(source, source.digest[:16]), Bare(placed, placed.digest[:16]))
        frames = item.frames
        return Bake(
            item.id, item.name, item.source, rig, pairing, clip, item.fps, frames, item.digest, tuple(item.tags),
            _contacts(item.contacts) if item.contacts is not None else None, tuple(pass_of(p, lambda kept: self._motion(kept, worked)) for p in item.passes),
            controls, placed if controls is not None else None,
        )  # fmt: skip

    def _motion(self, kept: dict[str, Any], skeleton: Skeleton) -> KeyedClip | Clip:
        return self.take(MotionFile.model_validate(kept), skeleton)

    def skeleton(self, joints: list[str], blob: str) -> Skeleton:
        key = blob, tuple(joints)
        if key not in self._skeletons:
            self._skeletons[key] = sound_skeleton(joints, self.blobs.arrays(blob))
        return self._skeletons[key]

    def take(self, item: MotionFile, skeleton: Skeleton) -> Clip | KeyedClip:
        if item.keyed:
            return sound_keys(item.name, skeleton, item.rate, item.curves, self.blobs.arrays(item.blob))
        return self.clip(item, skeleton)

    def clip(self, item: MotionFile, skeleton: Skeleton) -> Clip:
        clip = sound_clip(item.name, skeleton, item.rate, item.curves, self.blobs.arrays(item.blob), item.start)
        return with_typed_scales(clip) if self.version < 4 else clip

    def layout(self, item: LayoutFile | None, skeleton: Skeleton) -> FileLayout | None:
        if item is None:
            return None
        key = item.format, json.dumps(item.meta, sort_keys=True), item.blob
        if key not in self._layouts:
            data = self.blobs.data(item.blob) if item.blob is not None else None
            self._layouts[key] = layout_class(item.format).unpacked(item.meta, data)
        return sound_layout(self._layouts[key], skeleton)
