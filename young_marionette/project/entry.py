"""Library entries: one skeleton or one clip each, as read from a file, and as it stands in our world."""

from __future__ import annotations

import uuid
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import numpy as np

from ..core.character.facts import character_facts
from ..core.character.meshes import bind_pose, placed_character
from ..core.clip import Clip
from ..core.contacts.choices import ContactChoices
from ..core.contacts.contact import Contacts
from ..core.contacts.finding import find_contacts, is_searched
from ..core.controls.making import make_controls
from ..core.evaluator import EVALUATOR
from ..core.figure.correction import BIND, Correction, put_down
from ..core.figure.declared import Declared
from ..core.figure.facts import motion_disagrees, motion_facts, place_figure
from ..core.figure.placement import place_clip, place_skeleton
from ..core.figure.posture import pose_for_rest
from ..core.findings import Finding, finding
from ..core.keys.keyed import KeyedClip
from ..core.matching.conventions import HUMANOID, convention_names
from ..core.names import free_name
from ..core.rebase import rename
from ..core.skeleton import Skeleton
from ..formats.source_file import FileLayout
from .words import use as use_words

if TYPE_CHECKING:
    from ..core.character.meshes import Character
    from ..core.controls.sets import ControlSet
    from ..core.figure.facts import Figure
    from ..core.findings import Fact
    from ..core.humanoid.reading import Body
    from ..core.scene.props import Box
    from ..core.transfer.limits import JointLimit
    from ..formats.source_file import SkeletonPart, SourceFile


Motion = TypeVar("Motion", bound="Clip | KeyedClip")
CLIP, RIG, BAKED = "clip", "rig", "baked"
CARRIED = "young_marionette_controls"  # of what goes with a clip in a file: its controls (see carrying)


@dataclass(frozen=True, eq=False)
class Entry:
    """``skeleton`` and ``take`` are in the file's unit and axes; ``placed_*`` stand in our world.

    ``take``: the motion as the file has it, a pose on every frame or keys. ``role``: clip or rig. ``layout``: the file as its format's writer needs it (see formats), or None.
    ``declared``: what the file says of itself. ``contact_choices``: what was set or drawn by hand of its contacts.
    ``carried``: motion of controls that its file brings along, until that is taken up (see carrying).
    ``controls``: a rig's own set of them; None where it has none but the one that is made by itself.
    ``props``: stand-ins of what it was acted on, in the room of the placed clip. ``limits``: how far a rig's joints may turn. What is worked out of these lies with the evaluator.
    """

    id: str
    role: str
    name: str
    path: Path | None
    format: str
    skeleton: Skeleton
    take: Clip | KeyedClip | None
    layout: FileLayout | None
    correction: Correction = field(default_factory=Correction)
    notes: tuple[Finding, ...] = ()
    tags: tuple[str, ...] = ()
    declared: Declared = Declared()
    contact_choices: ContactChoices = ContactChoices()
    props: tuple[Box, ...] = ()
    limits: tuple[JointLimit, ...] = ()
    controls: ControlSet | None = None
    carried: Mapping[str, Any] | None = None

    def __repr__(self) -> str:
        motion = "" if self.take is None else f", {self.take.frames} frames at {self.take.rate:g} per second"
        return f"Entry({self.name!r}, {self.role}, {len(self.skeleton)} joints{motion})"

    @property
    def clip(self) -> Clip | None:
        """The motion with a pose on every frame, or None."""
        return None if self.take is None else _dense(self.take)

    @property
    def rested_skeleton(self) -> Skeleton:
        """The skeleton, in the file's unit and axes, in the rest pose that it is believed to have."""
        frame = self._rest_frame
        if frame is None or (self.character if frame == BIND else self.clip) is None:
            return self.skeleton
        given = self.layout if frame == BIND else self.clip
        return EVALUATOR.of("rested skeleton", (self.skeleton, given, frame), lambda: self._rested(frame))

    @property
    def _rest_frame(self) -> int | None:
        """The frame whose pose is taken for the rest pose: the one chosen, or one that is found where the file's is no pose."""
        if self.correction.rest is not None or self.take is None or self.take.frames <= 2:
            return self.correction.rest
        seen = self.skeleton.digest, self.correction.of_the_figure, self.declared, None
        figure = self._examined(seen, self.skeleton)
        if figure.body is not None and not figure.folded:
            return None
        clip, prefix = _dense(self.take), self.correction.prefix
        key = self.skeleton, clip, prefix
        return EVALUATOR.of("pose for rest", key, lambda: pose_for_rest(self.skeleton, clip, prefix))

    def _rested(self, frame: int) -> Skeleton:
        if frame == BIND and self.character is not None:
            return replace(self.skeleton, rest=bind_pose(self.skeleton, self.character.meshes)[0])
        clip = self.clip
        assert clip is not None and isinstance(frame, int)  # see rested_skeleton
        return replace(self.skeleton, rest=clip.rotations[min(frame, clip.frames - 1)])

    @property
    def _seen_as(self) -> tuple[Any, ...]:
        """What decides what the skeleton is seen as; equal for skeletons that are alike, but for what only a motion tells."""
        frame = None if self.correction.rest is not None else self._rest_frame
        seen = self.rested_skeleton.digest, self.correction.of_the_figure, self.declared, frame
        # Where the skeleton alone leaves doubts, or its motion stands otherwise, that tells more; else a family is seen as one.
        if self.take is None:
            return seen
        figure, clip = self._examined(seen, self.rested_skeleton), _dense(self.take)
        if figure.doubtful or EVALUATOR.of("motion disagrees", (figure, clip), lambda: motion_disagrees(figure, clip)):
            return (*seen, clip)
        return seen

    @property
    def figure(self) -> Figure:
        """What the skeleton was found to be (a Figure), shared among equal skeletons."""
        # Asked for all the time: what it is seen as takes longer to compare than the entry itself.
        return EVALUATOR.of("figure of an entry", (self,), lambda: self._examined(self._seen_as, self.rested_skeleton))

    def _examined(self, seen: tuple[Any, ...], skeleton: Skeleton) -> Figure:
        def examined() -> Figure:
            use_words()
            frame, clip = seen[3], seen[4] if len(seen) > 4 else None
            return place_figure(skeleton, self.correction, self.declared, clip, frame)

        return EVALUATOR.of("figure", seen, examined)

    @property
    def length(self) -> tuple[int, float]:
        """``(frames, frames per second)`` of the placed clip."""
        return self.placed_clip.frames, self.placed_clip.rate

    @property
    def contacts(self) -> Contacts:
        """What the placed clip touches, as found in it; nothing for what has no motion or no body."""
        clip, body, character = self.placed_clip, self.metric_body, self.placed_character
        if self.take is None or body is None:
            return Contacts(rate=clip.rate)
        key = clip, body, character, self.contact_choices
        return EVALUATOR.of("contacts", key, lambda: find_contacts(*key))

    @property
    def knows_contacts(self) -> bool:
        """Whether contacts come at once: what is looked at for them was worked out already."""
        return self.take is None or is_searched(self.placed_clip, self.metric_body, self.placed_character)

    @property
    def metric_body(self) -> Body | None:
        """The body as it was read, with its stature in metres, as the placed clip is; None where none can be read."""
        figure = self.figure
        if figure.body is None:
            return None
        body = figure.body
        return EVALUATOR.of("body in metres", (figure,), lambda: replace(body, stature=figure.height))

    @property
    def family(self) -> str:
        """The fingerprint that entries of one skeleton family share."""
        return self.correction.family or self.figure.fingerprint

    @property
    def placed_skeleton(self) -> Skeleton:
        """The rested skeleton in our world, shared among equal ones."""
        return EVALUATOR.of("placed skeleton", self._seen_as, self._placed)

    def _placed(self) -> Skeleton:
        return place_skeleton(self.rested_skeleton, self.figure.placement)

    @property
    def character(self) -> Character | None:
        """The body over the skeleton, in the file's own unit and axes, or None."""
        return self.layout.character if self.layout is not None else None

    @property
    def placed_character(self) -> Character | None:
        """The body in our world, at the level of detail that was chosen, or None."""
        character = self.character
        if character is None:
            return None
        # All clips of a character's file share its body, in memory and on the graphics card.
        placement = self.figure.placement
        key = self.layout, self.level, placement.scale, placement.turn.tobytes()

        def place() -> Character:
            return placed_character(replace(character, meshes=character.at_level(self.level)), placement)

        return EVALUATOR.of("placed character", key, place)

    @property
    def level(self) -> int:
        """The level of detail that is used: the one chosen, where it is there, else the finest."""
        levels, chosen = self.character.levels if self.character is not None else (0,), self.correction.level
        return chosen if chosen is not None and chosen in levels else levels[0]

    @property
    def only_level(self) -> int | None:
        """The level that is delivered where there are several, else None."""
        return self.level if self.character is not None and len(self.character.levels) > 1 else None

    @property
    def bones(self) -> tuple[tuple[str, str], ...]:
        """Pairs of a VRM humanoid bone and a joint's name: the file's own table, else what the body was read as."""
        if self.declared.bones or self.figure.body is None:
            return self.declared.bones
        names = convention_names(self.skeleton, self.figure.body, "vrm")
        return tuple((new, old) for old, new in names.items() if new in HUMANOID)

    @property
    def placed_clip(self) -> Clip:
        """The clip in our world; a rig without motion stands in its rest pose for one frame."""
        return _dense(self.placed_take)

    @property
    def placed_take(self) -> Clip | KeyedClip:
        """As ``placed_clip``, with keys as keys."""
        key = self.take, self.name if self.take is None else "", self._seen_as, self.correction
        return EVALUATOR.of("placed clip", key, self._placed_take)

    def _placed_take(self) -> Clip | KeyedClip:
        if self.take is None:
            still = self.placed_skeleton
            return Clip(self.name, still, 30.0, still.rest[None])
        placed = place_clip(self.take, self.figure.placement, self.placed_skeleton)
        return put_down(placed, self.metric_body, self.correction)

    @property
    def motion(self) -> tuple[tuple[Fact, ...], tuple[Finding, ...]]:
        """``(facts, oddities)`` of the motion; a character's one pose is none."""
        if self.take is None or (self.take.frames <= 2 and self.character is not None):
            return (), ()
        key, figure = (self.take, self._seen_as, self.correction), self.figure
        keys = self.take.keys if isinstance(self.take, KeyedClip) else None
        return EVALUATOR.of(
            "motion facts", key, lambda: motion_facts(self.placed_clip, figure.body, keys, figure.height)
        )

    @property
    def body_facts(self) -> tuple[Fact, ...]:
        """Facts of the body over the skeleton, none where there is none."""
        character = self.character
        if character is None:
            return ()
        key = self.layout, self.skeleton, self.level
        return EVALUATOR.of("body facts", key, lambda: character_facts(self.skeleton, character, self.level))

    @property
    def facts(self) -> tuple[Fact, ...]:
        return (*self.figure.facts, *self.body_facts, *self.motion[0])

    @property
    def control_set(self) -> ControlSet:
        """The rig's own set of controls, else one made from what its bones were read as."""
        if self.controls is not None:
            return self.controls
        key = self.placed_skeleton, self.metric_body, self.placed_character
        return EVALUATOR.of("set of controls", key, lambda: make_controls(*key))

    @property
    def oddities(self) -> tuple[Finding, ...]:
        """What is odd about file, skeleton and motion (Finding each)."""
        return (*self.notes, *self.figure.oddities, *self.motion[1])

    def to_file_world(self, clip: Motion) -> Motion:
        """A clip on this entry's placed skeleton, back in the file's own unit and axes."""
        return place_clip(clip, self.figure.placement.inverse, self.skeleton)

    def corrected(self, **changes: Any) -> Entry:
        """The entry with corrections of the guesses (see Correction)."""
        return replace(self, correction=replace(self.correction, **changes))

    def with_morphs(self, clip: Motion) -> Motion | Clip:
        """A clip for this entry's body: expressions that the body's file knows become the morphs that make them up."""
        expressions = self.layout.expressions if self.layout is not None else {}
        known = [name for name in clip.morphs if name in expressions]
        if not known:
            return clip
        frames = _dense(clip)
        columns = {n: frames.weights[:, i] for i, n in enumerate(frames.morphs) if n not in expressions}
        for name in known:
            for morph, weight in expressions[name].items():
                columns[morph] = columns.get(morph, 0.0) + weight * frames.weights[:, frames.morphs.index(name)]
        return replace(frames, morphs=tuple(columns), weights=np.stack(list(columns.values()), 1))

    def with_bone_names(self, names: dict[str, str], table: tuple[Any, ...] = ()) -> Entry:
        """The entry with bones renamed by ``{old: new}``; the motion stays as it is.

        ``table``: pairs of a VRM humanoid bone and its joint's new name, from then on the entry's table of bones.
        """
        skeleton = rename(self.skeleton, names)
        take = replace(self.take, skeleton=skeleton) if self.take is not None else None
        layout = self.layout.renamed(skeleton.names) if self.layout is not None else None
        bones = tuple((bone, names.get(n, n)) for bone, n in self.declared.bones)
        declared = replace(self.declared, bones=tuple(table) or bones)
        limits = tuple(replace(limit, joint=names.get(limit.joint, limit.joint)) for limit in self.limits)
        return replace(
            self,
            skeleton=skeleton,
            take=take,
            layout=layout,
            declared=declared,
            limits=limits,
            controls=None if self.controls is None else self.controls.renamed(names),
        )


def _dense(take: Clip | KeyedClip) -> Clip:
    """A pose on every frame of what may be keys."""
    return EVALUATOR.of("frames of keys", (take,), take.sample) if isinstance(take, KeyedClip) else take


def entries_of(file: SourceFile, taken: tuple[Any, ...] = (), parted: bool = False) -> list[Entry]:
    """The entries of a file as read, of all its skeletons. One of no more than two frames is taken for a rig.

    ``parted``: animations that were made one take, each as an entry of its own instead.
    A character's own animations are clips; the character itself is a rig beside them.
    """
    names, result = {*taken}, []
    for part in file.skeletons:
        still = part.name
        has_body = part.layout is not None and part.layout.character is not None
        problem = part.layout.body_problem if part.layout is not None else ""
        notes = (*part.notes, finding("body unusable", why=problem)) if problem else part.notes
        own = part.parted if parted else part.clips
        long_clips = [c for c in own if c.frames > 2]
        clips: list[Clip | KeyedClip | None] = [*own] or [None]
        if has_body and long_clips:
            clips = [None, *clips]
        for clip in clips:
            role = CLIP if clip is not None and (clip.frames > 2 or long_clips) else RIG
            name = free_name(clip.name if clip is not None else still, names)
            names.add(name)
            result.append(
                Entry(
                    new_id(),
                    role,
                    name,
                    file.path,
                    file.format,
                    part.skeleton,
                    clip,
                    part.layout,
                    notes=notes,
                    declared=part.declared,
                    limits=part.limits,
                    carried=_carried(part, clip),
                )
            )
    return result


def _carried(part: SkeletonPart, clip: Clip | KeyedClip | None) -> Mapping[str, Any] | None:
    """What goes with one of the clips of a part of a file that tells of controls."""
    for own, extras in zip(part.clips, part.extras):
        if own is clip and extras is not None and isinstance(extras.get(CARRIED), dict):
            return extras[CARRIED]  # type: ignore[no-any-return]
    return None


def new_id() -> str:
    """An identifier that no other entry has."""
    return uuid.uuid4().hex[:12]
