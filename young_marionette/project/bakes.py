"""Baked clips: the dense motion on a rig, with all that it was made from by value, and whether that still holds."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from dataclasses import dataclass, replace
from operator import attrgetter
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from ..core.clip import Clip
from ..core.controls.rig import control_rig
from ..core.evaluator import EVALUATOR
from ..core.figure.correction import BIND
from ..core.findings import Fact, Finding
from ..core.passes.loop import Loop
from ..core.passes.stack import Pass, Stage, length
from ..core.resample import resample
from ..core.thinning.settings import Thin
from ..core.thinning.thinning import Subject, Thinner
from ..core.travel.settings import GROUND
from .entry import BAKED, Entry
from .pairing import Pairing, cut_to, refuse_gaps
from .passes import Passed
from .planting import adapts, carry, clears, hands_of, plants, travel, travelling

if TYPE_CHECKING:
    from ..core.contacts.contact import Contacts
    from ..core.controls.rig import ControlRig
    from ..core.controls.sets import ControlSet
    from ..core.keys.keyed import KeyedClip
    from ..core.skeleton import Skeleton
    from .document import State


@dataclass(frozen=True, eq=False)
class Bake:
    """``dense``: the motion on the rig as it was baked, a pose on every frame, in our world. ``passes``: what is done to it
    since, first things first.

    ``source``: id of the entry that it came from. ``rig`` and ``pairing``: the rig, and strings, stance and settings,
    as they were then; ``fps`` and ``frames`` what was asked for (see ``baked``). ``digest``: of all that went in; empty
    where that is not known (bakes of projects of version 2). A pairing of None is not known either.
    ``contacts``: what touches, in its frames; None where that is not known (bakes of projects of versions 2 to 4).
    ``controls``: those that it was baked onto, as they were then; ``dense`` is their motion, and ``bones`` the placed rig's.
    None: it is that of the bones.
    """

    id: str
    name: str
    source: str
    rig: Entry
    pairing: Pairing | None
    dense: Clip
    fps: float | None = None
    frames: tuple[int, int] | None = None
    digest: str = ""
    tags: tuple[str, ...] = ()
    contacts: Contacts | None = None
    passes: tuple[Pass, ...] = ()
    controls: ControlSet | None = None
    bones: Skeleton | None = None

    role = BAKED
    path: Path | None = None
    oddities = ()
    body_facts = ()

    @property
    def passed(self) -> Passed:
        """The dense motion with its passes."""
        body, character = self.rig.metric_body, self.rig.placed_character
        return Passed(self.dense, self.passes, body, character, self.contacts, self.control_rig)

    @property
    def control_rig(self) -> ControlRig | None:
        """The controls that it is baked onto, made ready; None where it is on bones."""
        if self.controls is None or self.bones is None:
            return None
        return control_rig(self.controls, self.bones)

    @property
    def placed_clip(self) -> Clip:
        """The motion of the bones after all passes, worked out where it is not known."""
        passed = self.passed
        return passed.bones(passed.stage().clip)

    @property
    def placed_take(self) -> Clip | KeyedClip:
        """As ``placed_clip``, as keys where the last pass made any: of controls, bones that are thinned within the same promise."""
        stage = self.on_bones(self.passed.stage())
        return stage.keyed if stage.keyed is not None else stage.clip

    def _thinned(self, stage: Stage) -> KeyedClip | None:
        """Keys of the bones under keys of controls, within the same promise; None where the controls have none."""
        if stage.keyed is None:
            return None
        bones, limbs = self.passed.bones(stage.clip), self.passed.limbs
        thin = next((p.method for p in reversed(self.passes) if p.on and isinstance(p.method, Thin)), Thin())
        subject = Subject(bones, stage.contacts, limbs.points)
        return EVALUATOR.of("thinned bones", (bones, stage.contacts, thin), lambda: Thinner(subject).thin(thin).keyed)

    def on_bones(self, stage: Stage) -> Stage:
        """A stage of its passes as it is delivered: of controls, that of the bones."""
        if self.controls is None:
            return stage
        return Stage(self.passed.bones(stage.clip), stage.contacts, stage.report, self._thinned(stage))

    @property
    def length(self) -> tuple[int, float]:
        """``(frames, frames per second)`` after all passes, at once."""
        return length(self.passes, self.dense.frames, self.dense.rate)

    @property
    def shown_contacts(self) -> Contacts | None:
        """What touches after all passes, in their frames, where that is known; else before them."""
        known = self.passed.result
        return known.contacts if known is not None else self.contacts

    @property
    def part(self) -> tuple[int, float]:
        """``(first frame, seconds)`` of what passes leave of the dense motion: loops leave a stretch."""
        first, frames = 0, self.dense.frames
        for one in self.passes:
            if one.on and isinstance(one.method, Loop):
                first += one.method.span(frames)[0]
                frames = one.method.length(frames)
        return first, max(frames - 1, 0) / self.dense.rate

    @property
    def clip(self) -> Clip:
        """The motion in the unit and axes of the rig's file."""
        placed = self.placed_clip
        key = placed, self.rig.skeleton
        return EVALUATOR.of("baked clip in its file's world", key, lambda: self.rig.to_file_world(placed))

    take = property(attrgetter("dense"))

    # What is told of the rig is told of what is baked onto it.
    skeleton = property(attrgetter("rig.skeleton"))
    correction = property(attrgetter("rig.correction"))
    figure = property(attrgetter("rig.figure"))
    family = property(attrgetter("rig.family"))
    layout = property(attrgetter("rig.layout"))
    character = property(attrgetter("rig.character"))
    placed_character = property(attrgetter("rig.placed_character"))

    @property
    def placed_skeleton(self) -> Skeleton:
        """The bones, in our world."""
        return self.dense.skeleton if self.bones is None else self.bones

    @property
    def motion(self) -> tuple[tuple[Fact, ...], tuple[Finding, ...]]:
        """What is told of motion is told of what came from files."""
        return (), ()

    def with_morphs(self, clip: Clip) -> Clip:
        return self.rig.with_morphs(clip)


def baked(
    pairing: Pairing,
    source: Entry,
    rig: Entry,
    fps: float | None = None,
    frames: tuple[int, int] | None = None,
    name: str | None = None,
) -> tuple[Clip, Contacts]:
    """The source entry's clip on the rig: a pose on every frame (a Clip on the placed rig), and what touches.

    ``frames (first, last)``: both included, counted from 0 in the source clip. ``fps``: frames per
    second of the result, the source's if None; its length in seconds stays.
    """
    clip, contacts = spanned(source, fps, frames)
    name = name or clip.name
    if frames is not None and fps is None and adapts(pairing, rig):
        # Where a foot stands does not depend on where the clip is cut; where it starts does.
        made = cut_to(carry(pairing, source, rig, source.placed_clip, source.contacts, name), frames)
    else:
        made = carry(pairing, source, rig, clip, contacts, name)
    return travel(made, pairing), contacts


def spanned(source: Entry, fps: float | None, frames: tuple[int, int] | None) -> tuple[Clip, Contacts]:
    """The source's clip and its contacts in some frames and at a rate, as ``baked`` takes them."""
    clip, contacts = source.placed_clip, source.contacts
    if frames is None and fps is None:
        return clip, contacts
    span = frames if frames is not None else (0, clip.frames - 1)
    contacts = contacts.in_frames(*span, fps if fps is not None else clip.rate)
    if frames is not None:
        clip = cut_to(clip, frames)
    return resample(clip, fps) if fps is not None else clip, contacts


def bake(
    identifier: str,
    name: str,
    pairing: Pairing,
    source: Entry,
    rig: Entry,
    fps: float | None = None,
    frames: tuple[int, int] | None = None,
) -> Bake:
    """Bake a source entry onto a rig; InputError where a required part has no string."""
    refuse_gaps(pairing, source, rig)
    clip, contacts = baked(pairing, source, rig, fps, frames, name)
    still = replace(rig, take=None) if rig.correction.rest in (None, BIND) else rig
    made_from = digest(pairing, source, rig, fps, frames)
    return Bake(identifier, name, source.id, still, pairing, clip, fps, frames, made_from, contacts=contacts)


def digest(
    pairing: Pairing, source: Entry, rig: Entry, fps: float | None = None, frames: tuple[int, int] | None = None
) -> str:
    """A text that changes with anything that a bake is made from, and survives being saved and loaded."""
    settings = pairing.settings
    touches = sorted((name, float(degrees)) for name, degrees in settings.touches if degrees)
    made = hashlib.sha256()
    for part in (
        *_of_entry(source),
        source.take.digest if source.take else "",
        *_of_entry(rig),
        None if fps is None else float(fps),
        None if frames is None else tuple(map(int, frames)),
        [(s.part, s.source, s.target) for s in sorted(pairing.strings, key=lambda s: s.part)],
        (_in_place(settings.in_place), float(settings.stride), float(settings.height_offset), touches),
        _stable(pairing.stance.source),
        _stable(pairing.stance.target),
        *_adaptations(pairing, source, rig),
    ):
        made.update(f"{part!r}\n".encode("utf-8", "surrogatepass"))
    return made.hexdigest()[:32]


def _adaptations(pairing: Pairing, source: Entry, rig: Entry) -> Iterator[tuple[Any, ...]]:
    """What is done beside carrying rotations over; nothing where nothing is, as in bakes of earlier versions."""
    settings = pairing.settings
    if settings.root is not None or settings.travel.needs_first:
        yield "travel", settings.root, float(settings.root_smooth), settings.start, bool(settings.ahead)
    if adapts(travelling(pairing), rig):
        weights = (settings.hold_places, settings.hold_room, settings.hold_body, settings.hold_hands)
        yield plants(pairing), hands_of(pairing), *map(float, weights), clears(pairing), source.contact_choices


def _in_place(axes: tuple[str, ...]) -> bool | tuple[str, ...]:
    """The axes, or as earlier versions had it where all or none are meant."""
    return axes == GROUND if axes in ((), GROUND) else axes


def _of_entry(entry: Entry) -> Iterator[str | tuple[Any, ...]]:
    """What of an entry counts: where and how it stands, not what it is called."""
    c, placement = entry.correction, entry.figure.placement
    yield float(c.rate or 0), float(c.lift or 0), c.centred, bool(c.in_place)
    if entry.limits:
        yield ("limits", *((limit.joint, limit.swing, limit.twist) for limit in entry.limits))
    if c.grounded:
        yield ("grounded", *c.grounded)
    yield round(placement.scale, 9), _stable(placement.turn)
    yield entry.rested_skeleton.digest


def _stable(array: np.ndarray) -> bytes:
    """Numbers as text that does not change with the last rounding."""
    return (np.round(np.asarray(array, float), 5) + 0.0).tobytes()


def is_current(state: State, one: Bake) -> bool:
    """Whether baking anew would give the same; True where that can't be told, or can't be done any more."""
    source, rig = (next((e for e in state.entries if e.id == key), None) for key in (one.source, one.rig.id))
    pairing = state.pairing_of(source, rig) if source is not None and rig is not None else None
    if not one.digest or pairing is None or source is None or rig is None:
        return True
    key = pairing, source, rig, one.fps, one.frames
    return EVALUATOR.of("digest of a bake", key, lambda: digest(*key)) == one.digest
