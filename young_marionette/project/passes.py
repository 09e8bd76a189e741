"""Passes over baked clips: worked out from where something changed, and kept; parts of it quickly, for the stage."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from ..core.contacts.finding import find_contacts
from ..core.controls.motion import stretched
from ..core.evaluator import EVALUATOR
from ..core.passes.keeping import Limbs
from ..core.passes.measuring import Changes, changes
from ..core.passes.stack import Pass, Stage, applied, length, measure
from ..core.passes.thinning import thinner_of
from ..core.passes.under import bones_of
from ..core.thinning.settings import Thin

if TYPE_CHECKING:
    from ..core.character.meshes import Character
    from ..core.clip import Clip
    from ..core.contacts.contact import Contacts
    from ..core.controls.rig import ControlRig
    from ..core.filters.motion import Measures
    from ..core.humanoid.reading import Body
    from ..core.thinning.thinning import Sketch, Thinner

Progress = Callable[[float], None]


@dataclass(frozen=True)
class Preset:
    """A named list of passes, which may be laid over any baked clip."""

    name: str
    passes: tuple[Pass, ...]


def limbs_of(clip: Clip, body: Body | None, character: Character | None, rig: ControlRig | None = None) -> Limbs:
    """What is known of the body that a placed clip moves, by the controls of ``rig`` where it is of those; ``body``: in metres."""
    skeleton = clip.skeleton if rig is None else rig.bones
    key = skeleton, body, character, clip.morphs
    limbs = EVALUATOR.of("limbs", key, lambda: Limbs.of(skeleton, body, character, clip.morphs))
    return limbs if rig is None else EVALUATOR.of("limbs under controls", (limbs, rig), lambda: limbs.under(rig))


class Passed:
    """A placed clip with passes over it. ``body``: in metres; ``contacts``: None where they are to be found in the clip.

    ``rig``: of a clip of controls, on which passes are run; what touches, and what is told of their work, are of the bones.
    """

    def __init__(
        self,
        clip: Clip,
        passes: Sequence[Pass],
        body: Body | None = None,
        character: Character | None = None,
        contacts: Contacts | None = None,
        rig: ControlRig | None = None,
    ) -> None:
        self.clip, self.passes = clip, tuple(one for one in passes if one.on)
        self.body, self.character, self._contacts, self.rig = body, character, contacts, rig
        self.limbs = limbs_of(clip, body, character, rig)

    @property
    def contacts(self) -> Contacts:
        """What touches, before any pass."""
        if self._contacts is not None:
            return self._contacts
        key = self.bones(self.clip), self.body, self.character
        return EVALUATOR.of("contacts of a bake", key, lambda: find_contacts(*key))

    def up_to(self, count: int) -> Passed:
        """The same with the first ``count`` of the passes that are on."""
        return Passed(self.clip, self.passes[:count], self.body, self.character, self._contacts, self.rig)

    def bones(self, clip: Clip) -> Clip:
        """The motion of the bones that a clip, or a part of it, is of, or that its controls give."""
        return bones_of(clip, self.limbs)

    @property
    def length(self) -> tuple[int, float]:
        """``(frames, frames per second)`` of the result, without working it out."""
        return length(self.passes, self.clip.frames, self.clip.rate)

    @property
    def first(self) -> Stage:
        """The clip as it is without any pass."""
        key = self.clip, self._contacts, self.body, self.character
        return EVALUATOR.of("clip before all passes", key, lambda: Stage(self.clip, self.contacts))

    def stage(self, count: int | None = None, progress: Progress | None = None) -> Stage:
        """After the first ``count`` passes that are on (None: all); kept, so that only what follows a change is new.

        ``progress(share)``: told while a pass that takes long is worked out; what it raises ends that.
        """
        stage = self.first
        for one in self.passes[:count]:
            stage = self._after(stage, one, progress)
        return stage

    def _after(self, stage: Stage, one: Pass, progress: Progress | None = None) -> Stage:
        def make() -> Stage:
            return applied(one, stage, self.limbs, self._measures(stage.clip, one), progress=progress)

        return EVALUATOR.of("pass", (stage, one.method, _about(one), self.limbs), make)

    def _measures(self, clip: Clip, one: Pass) -> Measures:
        # Those of a filter whose cut-offs are given cost nothing; others hold as long as what they are of.
        return EVALUATOR.of(
            "measures", (clip, one.method, _about(one), self.limbs), lambda: measure(one, clip, self.limbs)
        )

    def known(self) -> tuple[Stage, int]:
        """The last stage that was worked out already, and after how many passes it comes."""
        stage, count = self.first, 0
        for one in self.passes:
            after = EVALUATOR.peek("pass", (stage, one.method, _about(one), self.limbs))
            if after is None:
                break
            stage, count = after, count + 1
        return stage, count

    @property
    def result(self) -> Stage | None:
        """After all passes, where that was worked out already."""
        stage, count = self.known()
        return stage if count == len(self.passes) else None

    def reach(self) -> dict[str, np.ndarray]:
        """By limb that follows its end, how far ``(frames,)`` the end's control is out of its reach in the result (metres)."""
        clip, rig = self.stage().clip, self.rig
        if rig is None:
            return {}
        return EVALUATOR.of("out of reach", (clip, rig), lambda: stretched(rig, clip, self.bones(clip)))

    def known_reach(self) -> dict[str, np.ndarray]:
        """As ``reach``, where that was worked out already; else nothing."""
        result = self.result
        if result is None or self.rig is None:
            return {}
        return EVALUATOR.peek("out of reach", (result.clip, self.rig)) or {}

    def part(self, first: int, last: int) -> Clip:
        """Frames of the result, both included, worked out from what lies around them where it is not known."""
        stage, count = self.known()
        rest = self.passes[count:]
        kept = [i for i, one in enumerate(rest) if one.keys is not None]
        if kept and (keys := rest[kept[-1]].keys) is not None:
            # What comes before keys does not count, and keys give single frames at once.
            rest = rest[kept[-1] + 1 :]
            if not rest:
                last = min(last, keys.keyed.frames - 1)
                return keys.keyed.at(keys.keyed.start + np.arange(first, last + 1) / keys.keyed.rate)
            stage = Stage(keys.keyed.sample(), stage.contacts)
        # What thinning may be off is less than waiting for it.
        rest = tuple(one for one in rest if not one.thins)
        while rest and any(one.whole for one in rest):
            stage, rest = self._after(stage, rest[0]), rest[1:]
        clip = stage.clip
        last = min(last, clip.frames - 1)
        around = sum(min(one.halo, 4.0) for one in rest)
        start = max(first - round(around * clip.rate), 0)
        end = min(last + round(around * clip.rate), clip.frames - 1)
        part = Stage(clip.cut(start, end), stage.contacts.in_frames(start, end, clip.rate)) if rest else stage
        for i, one in enumerate(rest):
            # Only of the first one there is a whole clip to be measured.
            measures = self._measures(clip, one) if i == 0 else None
            part = applied(one, part, self.limbs, measures, start, clip.frames)
        return part.clip.cut(first - start, last - start) if rest else clip.cut(first, last)

    def sketch(self, names: Sequence[str], count: int | None = None) -> Clip:
        """After the first ``count`` passes (None: all), at once, for some joints or morphs only; all others are as they were.

        What is not known is worked out without looking at what stands or is held.
        """
        stage, known = self.known()
        wanted = len(self.passes) if count is None else count
        if known >= wanted:
            return self.stage(wanted).clip
        for one in self.passes[known:wanted]:
            if one.keys is not None:
                stage = Stage(one.keys.keyed.sample(), stage.contacts)
            elif not one.thins:
                stage = self._sketched(stage, one, names)
        return stage.clip

    def _sketched(self, stage: Stage, one: Pass, names: Sequence[str]) -> Stage:
        meant = one.scope(self.limbs)
        these = tuple(name for name in names if meant.has(name))
        if not one.whole and not these:
            return stage
        return applied(replace(one, names=these, parts=(), keep=False), stage, self.limbs)

    def sketched_poses(self, count: int) -> Sketch | None:
        """About what the thinning after the first ``count`` passes gives, at once; None where that would take long."""
        thinner = self._thinner(count)
        method = self.passes[count].method
        return thinner.sketch(method) if thinner is not None and isinstance(method, Thin) and thinner.prepared else None

    def prepare_sketches(self, count: int, progress: Progress) -> None:
        """Work out what sketches of the thinning after the first ``count`` passes need; ``progress`` is told at times."""
        thinner, method = self._thinner(count), self.passes[count].method
        if thinner is not None and isinstance(method, Thin):
            thinner.prepare(method, lambda: progress(1.0))

    def _thinner(self, count: int) -> Thinner | None:
        """What thins after the first ``count`` passes, where what comes before is known."""
        one = self.passes[count]
        if not one.thins or self.known()[1] < count:
            return None
        stage = self.stage(count)
        return thinner_of(stage.clip, stage.contacts, self.limbs, one.scope(self.limbs))

    def changes(self, before: int, after: int | None = None) -> Changes:
        """What the passes after the first ``before``, up to ``after``, changed; worked out where it is not known."""
        stages = self.stage(before), self.stage(after)
        return EVALUATOR.of("changes", (*stages, self.limbs), lambda: changes(*stages, self.limbs))

    def known_changes(self, before: int, after: int | None = None) -> Changes | None:
        """As ``changes``, where that was worked out already."""
        if self.known()[1] < (len(self.passes) if after is None else after):
            return None
        return EVALUATOR.peek("changes", (self.stage(before), self.stage(after), self.limbs))  # type: ignore[no-any-return]


def _about(one: Pass) -> Pass:
    """A pass by what it does, whatever its id."""
    return replace(one, id="")
