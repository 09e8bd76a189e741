"""Passes over a clip: what each one does, with all that it needs to know, on the whole clip or on a part of it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, ClassVar

from ..filters.methods import FILTERS, Adaptive, Gaussian, LowPass, Median, SavitzkyGolay, Spikes
from ..filters.motion import CHANNELS, Measures, Report, Scope, filtered, measured
from ..thinning.settings import Thin
from ..travel.loops import LEAST
from .adjusting import Adjust
from .correction import Correction
from .difference import Difference
from .edits import Offset, Retime, Scale, edited
from .keeping import Limbs, kept, put_back, stilled
from .keys import Keys
from .loop import Loop
from .mirroring import Mirror
from .thinning import Poses, poses_of, thinned
from .timing import Time
from .under import bones_of, onto_controls, through_bones

if TYPE_CHECKING:
    from ..clip import Clip
    from ..contacts.contact import Contacts
    from ..keys.keyed import KeyedClip


@dataclass(frozen=True)
class Plant:
    """Feet planted, and hands held, wherever the contacts say so, whether or not anything moved them before."""

    code: ClassVar[str] = "plant"
    halo: ClassVar[float] = 1.0


Method = (
    Spikes
    | LowPass
    | SavitzkyGolay
    | Gaussian
    | Median
    | Adaptive
    | Offset
    | Scale
    | Retime
    | Loop
    | Plant
    | Thin
    | Keys
    | Correction
    | Adjust
    | Mirror
    | Time
    | Difference
)
METHODS: dict[str, type[Method]] = {
    **FILTERS,
    **{m.code: m for m in (Offset, Scale, Retime, Loop, Plant, Thin, Correction, Adjust, Mirror, Time)},
}
_FILTERS = (Spikes, LowPass, SavitzkyGolay, Gaussian, Median, Adaptive)
KEEPING_HALO = 1.0  # seconds that planting looks at on each side


@dataclass(frozen=True)
class Pass:
    """One adjustable change over a clip.

    ``channels``: which kinds (see filters.motion). ``names``: of joints and morphs, ``parts``: of groups of them (see
    humanoid.groups); with neither, all. ``frames``: first and last, both included (None: all). ``on``: whether it counts.
    ``keep``: what stands or is held stays where it is.
    """

    id: str
    method: Method
    channels: tuple[str, ...] = CHANNELS
    names: tuple[str, ...] = ()
    parts: tuple[str, ...] = ()
    frames: tuple[int, int] | None = None
    on: bool = True
    keep: bool = True

    @property
    def whole(self) -> bool:
        """Whether it works on a whole clip alone: it may change how many frames there are, or goes by the first one."""
        return isinstance(self.method, Retime | Loop | Mirror | Time)

    @property
    def thins(self) -> bool:
        """Whether it makes keys."""
        return isinstance(self.method, Thin)

    @property
    def keys(self) -> Keys | None:
        """The keys that it keeps by value, if it does: what comes before it does not count."""
        return self.method if isinstance(self.method, Keys) else None

    @property
    def halo(self) -> float:
        """Seconds of context that a frame of its result needs on each side; infinite: the whole clip."""
        return self.method.halo + (KEEPING_HALO if self.keep else 0.0)

    def scope(self, limbs: Limbs) -> Scope:
        """What of a clip it is about."""
        if not self.names and not self.parts:
            return Scope(self.channels, None, self.frames)
        members = {name for part in self.parts for name in limbs.groups.get(part, ())}
        return Scope(self.channels, frozenset(members | set(self.names)), self.frames)


@dataclass(frozen=True, eq=False)
class Stage:
    """A clip with its contacts after some passes; ``report``: what the last of them did.

    ``keyed``: the motion as keys, where the last pass made any, and ``poses``: what is told of them; ``clip`` is what they give
    on every frame.
    """

    clip: Clip
    contacts: Contacts
    report: Report = field(default_factory=Report)
    keyed: KeyedClip | None = None
    poses: Poses | None = None


def measure(one: Pass, clip: Clip, limbs: Limbs) -> Measures:
    """What a pass needs to know of a whole clip before a part of it can be worked on."""
    if isinstance(one.method, _FILTERS):
        return measured(clip, one.method, one.scope(limbs), limbs.groups)
    return {}


def applied(
    one: Pass,
    stage: Stage,
    limbs: Limbs,
    measures: Measures | None = None,
    first: int = 0,
    total: int | None = None,
    progress: Callable[[float], None] | None = None,
) -> Stage:
    """What a pass makes of a stage.

    Of a part of a clip: ``measures`` of the whole one, the frame ``first`` of it that the part begins with, and its
    ``total`` frames; ``stage.contacts`` are in the part's frames. ``progress(share)``: told where a pass takes long; what it
    raises ends the work.
    """
    clip, contacts, method = stage.clip, stage.contacts, one.method
    report, scope = Report(), one.scope(limbs)
    if isinstance(method, Retime | Time):
        made, inside = method.run(clip, contacts)
        return Stage(
            through_bones(made, limbs, lambda bones: stilled(bones, limbs, inside)) if one.keep else made, inside
        )
    if isinstance(method, Loop):
        made, inside = method.run(bones_of(clip, limbs), contacts, limbs, one.keep)
        return Stage(onto_controls(clip, bones_of(clip, limbs), made, limbs), inside)
    if isinstance(method, Keys):
        made = method.keyed.sample(method.keyed.rate)
        return Stage(
            made,
            contacts,
            report,
            method.keyed,
            poses_of(method.keyed, dict(method.marks), clip, made, limbs, contacts),
        )
    if isinstance(method, Thin):
        thin, made, poses = thinned(method, clip, contacts, limbs, scope, progress)
        return Stage(made, contacts, report, thin.keyed, poses)
    if isinstance(method, Plant):
        return Stage(through_bones(clip, limbs, lambda bones: put_back(bones, limbs, contacts)), contacts, report)
    if isinstance(method, Mirror):
        if limbs.body is None:
            return stage
        made, swapped = method.run(bones_of(clip, limbs), contacts, limbs)
        return Stage(onto_controls(clip, bones_of(clip, limbs), made, limbs), swapped, report)
    if isinstance(method, Adjust):
        made = through_bones(clip, limbs, lambda bones: method.run(bones, limbs, one.frames, one.keep, first))
    elif isinstance(method, Correction):
        made = method.run(clip, first)
    elif isinstance(method, Difference):
        made = method.run(clip, scope, first)
    elif isinstance(method, Offset | Scale):
        made = edited(clip, method, scope, first, total)
    else:
        made, report = filtered(clip, method, scope, limbs.groups, measures, first, total)
    if one.keep and made is not clip:
        before, after = bones_of(clip, limbs), bones_of(made, limbs)
        # Filters do not know the hips better than the feet; what else changes a motion means where it puts them.
        stood = kept(before, after, limbs, contacts, isinstance(method, _FILTERS))
        made = onto_controls(made, after, stood, limbs)
    return Stage(made, contacts, report)


def run(passes: Sequence[Pass], stage: Stage, limbs: Limbs) -> Stage:
    """What all passes that are on make of a stage, one after the other."""
    for one in passes:
        if one.on:
            stage = applied(one, stage, limbs)
    return stage


def length(passes: Sequence[Pass], frames: int, rate: float) -> tuple[int, float]:
    """``(frames, frames per second)`` of what comes out of passes."""
    for one in passes:
        if one.on and isinstance(one.method, Retime):
            frames, rate = one.method.length(frames, rate)
        elif one.on and isinstance(one.method, Loop):
            frames = one.method.length(frames) if frames > LEAST else frames
        elif one.on and isinstance(one.method, Time):
            frames = one.method.length(frames, rate)
        elif one.on and one.keys is not None:
            frames, rate = one.keys.keyed.frames, one.keys.keyed.rate
    return frames, rate
