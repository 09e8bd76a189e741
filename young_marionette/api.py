"""Young Marionette for pipelines: motion onto rigs in a few plain functions. No window and no Qt is needed.

>>> from young_marionette import api
>>> from young_marionette.demo.show import write_show
>>> import tempfile
>>> folder = tempfile.mkdtemp()
>>> _ = write_show(folder)
>>> source, rig = api.read(f"{folder}/quay/light_lamp.bvh"), api.read_rig(f"{folder}/puppets/Heron.bvh")
>>> take = api.retarget(source, rig, api.match(source, rig), frames=(0, 60), in_place=("x", "z"))
>>> take.frames, take.rate
(61, 30.0)
>>> few = api.thin(api.filter(take, spikes=True), within=0.02)
>>> few.keys < 20
True
>>> api.write(few, f"{folder}/light_lamp.glb")
>>> [item.state for item in api.batch([f"{folder}/quay"], [f"{folder}/puppets/Heron.bvh"], folder, dry=True)][:2]
['planned', 'planned']

Everything that can't be used is told as ``InputError`` with one sentence. Lengths are metres, times seconds, angles degrees.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from .core.errors import Cancelled, InputError
from .core.keys.keyed import KeyedClip
from .core.passes.adjusting import Adjust
from .core.passes.mirroring import Mirror
from .core.passes.stack import Pass
from .core.thinning.settings import STAGES, Thin
from .core.travel.settings import parts_of
from .formats.files import check_results, write_together
from .formats.registry import check_writable
from .project import opening
from .project.bakes import baked
from .project.delivery import pair_files
from .project.pairing import refuse_gaps, within
from .project.passes import Passed
from .project.shaping import KEEP, Shape, check_shape, shaped, with_settings

if TYPE_CHECKING:
    from .core.clip import Clip
    from .core.contacts.contact import Contacts
    from .core.controls.motion import Lost
    from .core.passes.stack import Method
    from .core.passes.thinning import Poses
    from .core.travel.joining import Change
    from .formats.files import Output
    from .project.batch.job import Item, Job
    from .project.batch.recipe import Recipe
    from .project.entry import Entry
    from .project.pairing import Pairing

__all__ = [
    "Cancelled",
    "InputError",
    "Take",
    "batch",
    "edit",
    "filter",
    "join",
    "match",
    "over_controls",
    "parts_of",
    "read",
    "read_rig",
    "retarget",
    "take_of",
    "thin",
    "write",
]


@dataclass(frozen=True, eq=False)
class Take:
    """Motion on a rig, in our world: metres, Y up. ``motion``: a pose on every frame, or keys with curves.

    ``contacts``: what touches, in its frames. ``passed``: what was done to it.
    """

    motion: Clip | KeyedClip
    rig: Entry
    contacts: Contacts
    pairing: Pairing | None = None
    passed: Passed | None = None

    @property
    def clip(self) -> Clip:
        """A pose on every frame."""
        return self.motion.sample() if isinstance(self.motion, KeyedClip) else self.motion

    @property
    def poses(self) -> Poses | None:
        """What is told of the poses that thinning made; None where none was done."""
        return None if self.passed is None else self.passed.stage().poses

    @property
    def frames(self) -> int:
        """The number of frames."""
        return self.motion.frames

    @property
    def rate(self) -> float:
        """Frames per second."""
        return self.motion.rate

    @property
    def keys(self) -> int:
        """At how many times it has a key."""
        return self.motion.keys if isinstance(self.motion, KeyedClip) else self.motion.frames


def read(path: str | Path, clip: str | None = None, skeleton: str | None = None) -> Entry:
    """The motion of a file, with all that was found out about it: ``clip`` by name, else the first long one."""
    return opening.open_source(path, skeleton, clip)


def read_rig(path: str | Path, skeleton: str | None = None) -> Entry:
    """The skeleton of a file, as a rig: the one whose root is called ``skeleton``, else the largest."""
    return opening.open_rig(path, skeleton)


def match(source: Entry, rig: Entry, stringing: str | Path | None = None) -> Pairing:
    """Tie bones to bones and match the rest poses: by a saved stringing, else automatically."""
    return pair_files(source, rig, None if stringing is None else Path(stringing))


def retarget(
    source: Entry,
    rig: Entry,
    pairing: Pairing | None = None,
    fps: float | None = None,
    frames: tuple[int, int] | None = None,
    **settings: Any,
) -> Take:
    """Carry the motion of ``source`` over to ``rig``, and bake it.

    ``fps``: of the result, whose length stays; ``frames``: first and last of the source, both included. ``settings``: of the
    transfer (see core.transfer.settings), such as ``in_place=("x", "z")``, ``root=("x", "z", "turn")``, ``feet="planted"``.
    InputError where a required part has no string.
    """
    pairing = pairing if pairing is not None else match(source, rig)
    try:
        pairing = replace(pairing, settings=replace(pairing.settings, **settings))
    except TypeError:
        known = vars(pairing.settings)
        raise InputError(f"'{next(s for s in settings if s not in known)}' is no setting of a transfer.") from None
    refuse_gaps(pairing, source, rig)
    made, contacts = baked(pairing, source, rig, fps, frames)
    return Take(made, rig, contacts, pairing)


def take_of(entry: Entry) -> Take:
    """The motion of an entry as it is, on its own skeleton."""
    return Take(entry.placed_take, entry, entry.contacts)


def filter(
    take: Take,
    spikes: bool = False,
    methods: Sequence[Method] = (),
    frames: tuple[int, int] | None = None,
    **scope: Any,
) -> Take:
    """Clean a take: ``spikes`` are taken out first, then ``methods`` (see core.filters.methods) are run in their order.

    ``frames``: first and last of what is changed. ``scope``: ``channels``, ``names`` and ``keep`` of the passes.
    """
    from .core.filters.methods import Spikes

    return _passed(take, [*([Spikes()] if spikes else ()), *methods], frames, **scope)


def thin(
    take: Take,
    within: float = 0.01,
    degrees: float = 5.0,
    planted: float | None = 0.003,
    weights: float = 0.02,
    stages: Sequence[str] = STAGES,
    frames: tuple[int, int] | None = None,
) -> Take:
    """Few poses with curves between instead of a key on every frame, within tolerances (metres, degrees) that hold on every frame."""
    return _passed(take, [Thin(within, degrees, planted, weights, tuple(stages))], frames)


def edit(
    take: Take, methods: Sequence[Method], frames: tuple[int, int] | None = None, keep: bool = True, **scope: Any
) -> Take:
    """Change a take by any methods of passes (see core.passes), in their order. ``keep``: what stands or is held stays there.

    InputError where the rig lacks what one of them needs.
    """
    return _passed(take, methods, frames, keep=keep, **scope)


def join(first: Take, second: Take, seconds: float = 0.4, at: tuple[int, int] | None = None) -> tuple[Take, Change]:
    """``(both takes of one rig as one, where they meet)``: ``second`` goes on where ``first`` is then, led over within ``seconds``.

    ``at``: the frames of both where the change begins (None: where it is least). InputError where they can't be joined.
    """
    from .core.passes.keeping import Limbs
    from .core.travel.joining import Change, at_rate, best_changes, joined

    rig, one, other = first.rig, first.clip, second.clip
    if rig.metric_body is None:
        raise InputError(f"Nothing was read of a body in {rig.name}: it can't be told where its clips meet.")
    other, contacts = at_rate(other, second.contacts, one.rate)
    limbs = Limbs.of(one.skeleton, rig.metric_body, rig.placed_character)
    both = first.contacts, contacts
    change = Change(*at, 0.0) if at else best_changes(one, other, limbs, both, seconds, 1)[0]
    made, found = joined(one, other, limbs, both, change, seconds)
    return replace(first, motion=made, contacts=found, passed=None), change


def over_controls(take: Take, controls: str | Path | None = None) -> tuple[Take, tuple[tuple[Lost, ...], float, float]]:
    """``(the take as its rig's controls give it, (bones that have none, how far joints are off (metres), and turned (degrees)))``.

    ``controls``: a saved set (``*.controls``) in place of the one that is made by itself. InputError where it does not fit the rig.
    """
    from .core.controls.motion import invert, lost, solve
    from .core.controls.rig import control_rig
    from .core.thinning.deviation import deviation
    from .project import control_files

    found = take.rig.control_set if controls is None else control_files.load(Path(controls))
    clip = take.clip
    made = control_rig(found, clip.skeleton)
    bones = solve(made, invert(made, clip))
    away = deviation(clip, bones)
    told = lost(made, clip), away.places.largest, math.degrees(away.turns.largest)
    return replace(take, motion=bones, passed=None), told


def _passed(take: Take, methods: Sequence[Method], frames: tuple[int, int] | None, **scope: Any) -> Take:
    rig, clip = take.rig, take.clip
    part = None if frames is None else within(clip, frames)
    passes = [Pass(str(number), method, frames=part, **scope) for number, method in enumerate(methods)]
    passed = Passed(clip, passes, rig.metric_body, rig.placed_character, take.contacts)
    for method in methods:
        if isinstance(method, Adjust | Mirror):
            method.check(clip, passed.limbs)
    stage = passed.stage()
    return replace(take, motion=stage.keyed or stage.clip, contacts=stage.contacts, passed=passed)


def write(
    take: Take,
    path: str | Path,
    overwrite: bool = False,
    body: bool = False,
    shape: Shape = Shape(),
    more: Sequence[Output] = (),
    inputs: Sequence[Path | None] = (),
) -> None:
    """Write a take in the format that the path's ending tells, in the rig's own unit and axes where that is its file's format.

    ``body``: with meshes and skin. ``shape``: see project.shaping. ``more``: files that are written with it, all or none;
    ``inputs``: what must not be replaced. InputError where that can't be done; then all is as it was.
    """
    path = Path(path)
    check_results([path, *(o.path for o in more)], [*inputs, *opening.inputs_of(take.rig)])
    check_writable(path, overwrite)
    if take.pairing is not None and shape.root != KEEP:
        shape = with_settings(shape, take.pairing)
    elif take.pairing is not None:
        with_settings(shape, take.pairing)
    check_shape(path, take.rig, shape)
    write_together([*shaped(path, take.motion, take.rig, body, shape), *more])


def batch(
    sources: Sequence[str | Path],
    rigs: Sequence[str | Path],
    folder: str | Path,
    recipe: Recipe | str | Path | None = None,
    stringings: Sequence[str | Path] = (),
    overwrite: bool = False,
    resume: bool = False,
    dry: bool = False,
    workers: int | None = None,
    cluster: str | None = None,
    told: Callable[[Job, list[Item] | None], None] | None = None,
    report: str | Path | None = None,
) -> list[Item]:
    """Deliver clips, and folders of them, onto rigs, over all cores, or over the workers of a Dask scheduler (``cluster``: its address).

    What became of each clip is told in the Items that are returned, and to ``told`` as it goes; none stops the others.
    ``dry``: everything is looked at, and nothing written. ``resume``: only what an earlier run has not done.
    """
    from .project.batch.asking import Asked, carry_out, recipe_of

    asked = Asked(
        tuple(map(str, sources)), tuple(map(str, rigs)), str(folder), recipe_of(recipe), tuple(map(str, stringings)),
        overwrite, resume, dry, workers, cluster, None if report is None else Path(report),
    )  # fmt: skip
    return carry_out(asked, asked.delivery(), told or (lambda job, items: None))
