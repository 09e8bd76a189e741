"""The pass that thins: see core.thinning."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from ..evaluator import EVALUATOR
from ..thinning.deviation import Deviation, count_keys, deviation
from ..thinning.thinning import Subject, Thinned, Thinner
from .under import bones_of

if TYPE_CHECKING:
    from ..clip import Clip
    from ..contacts.contact import Contacts
    from ..filters.motion import Scope
    from ..keys.keyed import KeyedClip
    from ..thinning.settings import Thin
    from .keeping import Limbs


@dataclass(frozen=True, eq=False)
class Poses:
    """What thinning made: ``frames`` of all poses, and by frame what made them keys (``marks``, see thinning.MARKS; a key on every
    frame where nothing was thinned has none); how many frames, and keys of single joints and morphs, there were ``before`` and how
    many poses and keys ``after``; and how far the result is from the dense motion.
    """

    frames: tuple[int, ...]
    marks: dict[int, str]
    before: tuple[int, int]
    after: tuple[int, int]
    deviation: Deviation

    @property
    def gone(self) -> float:
        """The share of the frames that are no poses any more."""
        return 1 - self.after[0] / max(self.before[0], 1)


def thinned(
    method: Thin,
    clip: Clip,
    contacts: Contacts,
    limbs: Limbs,
    scope: Scope,
    progress: Callable[[float], None] | None = None,
) -> tuple[Thinned, Clip, Poses]:
    """A clip with few keys, what they give on every frame, and what is told of it."""
    made = thinner_of(clip, contacts, limbs, scope).thin(method, progress)
    result = made.keyed.sample(clip.rate)
    return made, result, poses_of(made.keyed, made.marks, clip, result, limbs, contacts)


def thinner_of(clip: Clip, contacts: Contacts, limbs: Limbs, scope: Scope) -> Thinner:
    """What thins a clip, kept as long as the clip is."""

    def make() -> Thinner:
        return Thinner(Subject(clip, contacts, limbs.points, limbs.groups, scope.names, scope.frames, limbs.rig))

    return EVALUATOR.of("thinner", (clip, contacts, limbs, scope.names, scope.frames), make)


def poses_of(
    keyed: KeyedClip, marks: dict[int, str], clip: Clip, result: Clip, limbs: Limbs, contacts: Contacts
) -> Poses:
    """What is told of keys that were made of ``clip``, and that give ``result`` on every frame."""
    times = np.unique(np.concatenate([s.times for s in keyed.samplers.values()]))
    frames = tuple(np.unique(np.rint((times - keyed.start) * keyed.rate).astype(int)).tolist())
    before = clip.frames, count_keys(clip)
    after = len(frames), sum(len(s) for s in keyed.samplers.values())
    same = clip.frames == result.frames
    clip, result = bones_of(clip, limbs), bones_of(result, limbs)
    away = deviation(clip, result, limbs.points, contacts) if same else deviation(result, result)
    return Poses(frames, marks, before, after, away)
