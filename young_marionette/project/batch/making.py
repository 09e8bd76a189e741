"""From a clip on a rig to what is written of it, and how far that is off."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

from ...core.contacts.points import HANDS
from ...core.errors import InputError
from ...core.keys.keyed import KeyedClip
from ...core.matching.tying import missing
from ...core.resample import resample
from ...core.transfer.deviation import FLOAT, LOWERED, SINK, SLIDE, TOUCHING
from ...wording.findings import finding_words
from ...wording.snags import worse_words
from ..bakes import baked, spanned
from ..carrying import carried
from ..deviation import of_motion
from ..pairing import cut_to, within
from ..passes import Passed
from .job import Measures

if TYPE_CHECKING:
    from ...core.clip import Clip
    from ...core.passes.stack import Stage
    from ..bakes import Bake
    from ..deviation import Deviation
    from ..entry import Entry
    from ..pairing import Pairing
    from .recipe import Recipe


@dataclass(frozen=True, eq=False)
class Ready:
    """A clip that is to be carried over to a rig; with ``bake``, one that was. ``source`` None: it is not known any more.

    ``stage``: the baked clip after all its passes, where that is known. ``name``: the clip's; ``file``: that of the source's file, without its ending. ``stringing``: by which it was tied.
    """

    name: str
    file: str
    source: Entry | None
    rig: Entry
    pairing: Pairing | None
    bake: Bake | None = None
    stringing: str = ""
    stage: Stage | None = None

    @property
    def notes(self) -> tuple[str, ...]:
        """What is worth a look, though it stops nothing."""
        pairing = self.pairing
        notes = [finding_words(note).text for note in self.source.notes] if self.source is not None else []
        if pairing is not None and self.bake is None and not self.stringing:
            if guesses := [s.part for s in pairing.strings if not s.sure]:
                notes.append(f"Tied by a guess: {', '.join(guesses)}.")
            if lacking := missing(pairing.strings, pairing.absent):  # also what one of them does not have
                notes.append(f"Without a string: {', '.join(lacking)}.")
        return tuple(notes)


@dataclass(frozen=True, eq=False)
class Made:
    """``take``: what is written; ``clip``: the same, a pose on every frame; ``plain``: before any pass.
    ``extras``: the motion of controls, which a glTF takes along.
    """

    take: Clip | KeyedClip
    clip: Clip
    plain: Clip
    extras: dict[str, Any] | None = None


def length(ready: Ready, recipe: Recipe) -> tuple[int, float]:
    """``(frames, frames per second)`` of what would be made; InputError for a range that the clip does not have."""
    if ready.bake is not None:
        frames, rate = ready.bake.length
    else:
        assert ready.source is not None  # what is not baked comes from somewhere
        frames, rate = ready.source.length
    first, last = recipe.frames or (0, frames - 1)
    if not 0 <= first <= last < frames:
        raise InputError(f"The range {first}:{last} does not lie in the clip's frames 0:{frames - 1}.")
    wanted = recipe.fps or rate
    return round((last - first) / rate * wanted) + 1, wanted


def make(ready: Ready, recipe: Recipe) -> Made:
    """Bake a clip, or take what was baked, with the recipe's passes, range and rate."""
    rig, bake, passes = ready.rig, ready.bake, recipe.done_to_each
    if bake is None:
        assert ready.source is not None and ready.pairing is not None  # what is not baked is tied
        plain, contacts = baked(ready.pairing, ready.source, rig, recipe.fps, recipe.frames)
        stage = Passed(plain, passes, rig.metric_body, rig.placed_character, contacts).stage() if passes else None
        return _made(plain if stage is None else stage.keyed or stage.clip, plain, recipe)
    worked = ready.stage or bake.passed.stage()
    stage = bake.on_bones(worked)
    extras = None
    if bake.controls is not None and not passes and recipe.frames is None and recipe.fps is None:
        extras = carried(bake.controls, worked.keyed or worked.clip)
    if passes:
        stage = Passed(stage.clip, passes, rig.metric_body, rig.placed_character, stage.contacts).stage()
    take: Clip | KeyedClip = stage.keyed or stage.clip
    if recipe.frames is not None:
        take = cut_to(stage.clip, within(stage.clip, recipe.frames))
    if recipe.fps is not None:
        # Keys are in seconds: they stay where they are.
        take = replace(take, rate=recipe.fps) if isinstance(take, KeyedClip) else resample(take, recipe.fps)
    return replace(_made(take, bake.passed.bones(bake.dense), recipe), extras=extras)


def _made(take: Clip | KeyedClip, plain: Clip, recipe: Recipe) -> Made:
    if recipe.from_zero:
        take = take.moved_to(0.0) if isinstance(take, KeyedClip) else replace(take, start=0.0)
    return Made(take, take.sample() if isinstance(take, KeyedClip) else take, plain)


def measured(ready: Ready, recipe: Recipe, plain: Clip) -> tuple[Measures | None, tuple[str, ...]]:
    """``(how far feet and arms are off, sentences on what planting made worse)``; None where that can't be told."""
    source, pairing, bake = ready.source, ready.pairing, ready.bake
    if source is None or pairing is None or source.take is None:
        return None, ()
    fps, frames = (bake.fps, bake.frames) if bake is not None else (recipe.fps, recipe.frames)
    clip, contacts = spanned(source, fps, frames)
    off = of_motion(pairing, source, ready.rig, clip, contacts, plain)
    worse = tuple(worse_words(b.kind, b.part, a.worst, b.worst, b.at) for a, b in off.worsened())
    sink, hover, touching = (off.worst(kind) for kind in (SINK, FLOAT, TOUCHING))
    slide, hands = (_slide(off, held) for held in (False, True))
    return Measures(slide, sink, hover, touching, hands, off.worst(LOWERED)[1]), worse


def _slide(off: Deviation, held: bool) -> tuple[float, float]:
    """The worst slide ``(before, after)`` of feet, or of hands that hold something."""
    both = (
        max((lane.worst for lane in lanes if lane.kind == SLIDE and (lane.part in HANDS) == held), default=0.0)
        for lanes in (off.before, off.after)
    )
    return next(both), next(both)
