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
>>> _ = api.write(few, f"{folder}/light_lamp.glb")
>>> [item.state for item in api.batch([f"{folder}/quay"], [f"{folder}/puppets/Heron.bvh"], folder, dry=True)][:2]
['planned', 'planned']

Unusable input raises ``InputError`` with one sentence. Lengths are metres, times seconds, angles degrees.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, get_args

from .core.errors import Cancelled, InputError
from .core.filters.motion import CHANNELS
from .core.keys.keyed import KeyedClip
from .core.passes.adjusting import Adjust
from .core.passes.difference import Difference
from .core.passes.edits import Retime
from .core.passes.mirroring import Mirror
from .core.passes.stack import Method, Pass
from .core.passes.timing import Time
from .core.settings import Rule, check_value
from .core.thinning.settings import STAGES, Thin
from .core.travel.settings import parts_of
from .doors import door, need
from .formats.files import check_results, write_together
from .formats.registry import check_writable
from .project import opening
from .project.bakes import baked
from .project.delivery import check_body, has_body, pair_files
from .project.entry import Entry
from .project.pairing import Pairing, refuse_gaps, within
from .project.passes import Passed
from .project.shaping import KEEP, ROOTS, Shape, check_shape, shaped, with_settings

if TYPE_CHECKING:
    from .core.clip import Clip
    from .core.contacts.contact import Contacts
    from .core.controls.motion import Lost
    from .core.passes.thinning import Poses
    from .core.travel.joining import Change
    from .formats.files import Output
    from .project.batch.job import Item, Job
    from .project.batch.recipe import Recipe

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


_FPS = Rule("number", most=1000.0, above=0.0, none=True)


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
        """Number of distinct key times."""
        return self.motion.keys if isinstance(self.motion, KeyedClip) else self.motion.frames

    def __repr__(self) -> str:
        keys = f", {self.keys} keys" if isinstance(self.motion, KeyedClip) else ""
        return (
            f"Take({self.motion.name!r} on {self.rig.name!r}, {self.frames} frames at {self.rate:g} per second{keys})"
        )


@door
def read(
    path: str | Path,
    clip: str | None = None,
    skeleton: str | None = None,
    up: str | None = None,
    facing: str | None = None,
) -> Entry:
    """Read the motion of a file, with all that was found out about it.

    Parameters
    ----------
    path : the file: any format that can be read; recordings of markers are solved.
    clip, skeleton : names, where the file has several; else the first long clip, and the largest skeleton.
    up, facing : axes such as ``"Z"`` or ``"-Y"`` that are up and ahead in the file; None leaves what the file says or seems to have.

    Raises
    ------
    InputError : the file can't be read, or holds no such motion.
    """
    return opening.placed_as(opening.open_source(_path(path), skeleton, clip), up, facing)


@door
def read_rig(path: str | Path, skeleton: str | None = None, up: str | None = None, facing: str | None = None) -> Entry:
    """Read the skeleton of a file as a rig: the one whose root is called ``skeleton``, else the largest; see ``read``."""
    return opening.placed_as(opening.open_rig(_path(path), skeleton), up, facing)


@door
def match(source: Entry, rig: Entry, stringing: str | Path | None = None) -> Pairing:
    """Tie bones to bones and match the rest poses: by a saved stringing, else automatically."""
    _entries(source, rig)
    return pair_files(source, rig, None if stringing is None else _path(stringing))


@door
def retarget(
    source: Entry,
    rig: Entry,
    pairing: Pairing | None = None,
    fps: float | None = None,
    frames: tuple[int, int] | None = None,
    *,
    in_place: Sequence[str] | None = None,
    root: Sequence[str] | None = None,
    root_smooth: float | None = None,
    root_bone: str = KEEP,
    start: str | None = None,
    ahead: bool | None = None,
    stride: float | None = None,
    height_offset: float | None = None,
    feet: str | None = None,
    hands: str | None = None,
    hold_places: float | None = None,
    hold_room: float | None = None,
    hold_body: float | None = None,
    hold_hands: float | None = None,
    clear: str | None = None,
) -> Take:
    """Carry the motion of ``source`` over to ``rig``, and bake it.

    Parameters
    ----------
    pairing : as ``match`` gave it; None ties and matches automatically.
    fps : frames per second of the result, whose length in seconds stays.
    frames : first and last frame of the source, both included.
    root_bone : ``"add"`` where ``write`` adds a root bone, which then carries ``root``.
    in_place, root, root_smooth, start, ahead, stride, height_offset, feet, hands, hold_places, hold_room, hold_body, hold_hands, clear :
        see core.transfer.settings.TransferSettings; None leaves what the pairing has. For example ``in_place=("x", "z")``,
        ``root=("x", "z", "turn")``, ``feet="planted"``.

    Raises
    ------
    InputError : a part that both sides have has no string, a setting can't be, or the rig has no root bone for what ``root`` asks.
    """
    given = dict(locals())
    _entries(source, rig)
    check_value("fps, the frame rate,", fps, _FPS)
    check_value("root_bone", root_bone, Rule("choice", choices=ROOTS))
    frames = _span(frames)
    if pairing is None:
        pairing = match(source, rig)
    need(pairing, Pairing, "pairing", "a pairing that match gave")
    changes = {name: given[name] for name in vars(pairing.settings) if given.get(name) is not None}
    pairing = replace(pairing, settings=replace(pairing.settings, **changes))
    refuse_gaps(pairing, source, rig)
    if root_bone == KEEP:
        with_settings(Shape(), pairing)
    made, contacts = baked(pairing, source, rig, fps, frames)
    return Take(made, rig, contacts, pairing)


@door
def take_of(entry: Entry) -> Take:
    """The motion of an entry as it is, on its own skeleton."""
    need(entry, Entry, "entry", "what read gave")
    return Take(entry.placed_take, entry, entry.contacts)


@door
def filter(
    take: Take,
    spikes: bool = False,
    methods: Sequence[Method] = (),
    frames: tuple[int, int] | None = None,
    *,
    channels: Sequence[str] = CHANNELS,
    names: Sequence[str] = (),
    keep: bool = True,
) -> Take:
    """Clean a take: ``spikes`` are taken out first, then ``methods`` (see core.filters.methods) are run in their order.

    With neither, it does what the window suggests: spikes, then a low-pass whose cut-offs the motion itself asks for.

    Parameters
    ----------
    frames : first and last frame of what is changed, both included.
    channels : some of ``"rotation"``, ``"position"``, ``"morph"``.
    names : joints and morphs that are changed; none: all.
    keep : what stands or is held stays there.

    Raises
    ------
    InputError : no joint or morph is called so, or something is no filter.
    """
    from .core.filters.methods import LowPass, Spikes

    check_value("spikes", spikes, Rule("flag"))
    chosen = [*([Spikes()] if spikes else ()), *methods] or [Spikes(), LowPass()]
    return _passed(take, chosen, frames, channels=channels, names=names, keep=keep)


@door
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
    check_value("within", within, Rule("number", most=100.0, above=0.0))
    return _passed(take, [Thin(within, degrees, planted, weights, tuple(stages))], frames)


@door
def edit(
    take: Take,
    methods: Sequence[Method],
    frames: tuple[int, int] | None = None,
    keep: bool = True,
    *,
    channels: Sequence[str] = CHANNELS,
    names: Sequence[str] = (),
) -> Take:
    """Change a take by any methods of passes (see core.passes), in their order; see ``filter`` for what else is given.

    InputError where the rig lacks what one of them needs.
    """
    return _passed(take, methods, frames, channels=channels, names=names, keep=keep)


@door
def join(first: Take, second: Take, seconds: float = 0.4, at: tuple[int, int] | None = None) -> tuple[Take, Change]:
    """``(both takes of one rig as one, where they meet)``: ``second`` goes on where ``first`` is then, led over within ``seconds``.

    ``at``: the frames of both where the change begins (None: where it is least). InputError where they can't be joined.
    """
    from .core.passes.keeping import Limbs
    from .core.travel.joining import Change, at_rate, best_changes, joined

    need(first, Take, "first", "a take")
    need(second, Take, "second", "a take")
    check_value("seconds", seconds, Rule("number", least=0.0, most=600.0))
    rig, one, other = first.rig, first.clip, second.clip
    if rig.metric_body is None:
        raise InputError(f"Nothing was read of a body in {rig.name}: it can't be told where its clips meet.")
    other, contacts = at_rate(other, second.contacts, one.rate)
    limbs = Limbs.of(one.skeleton, rig.metric_body, rig.placed_character)
    both = first.contacts, contacts
    change = Change(*at, 0.0) if at else best_changes(one, other, limbs, both, seconds, 1)[0]
    made, found = joined(one, other, limbs, both, change, seconds)
    return replace(first, motion=made, contacts=found, passed=None), change


@door
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


def _passed(
    take: Take,
    methods: Sequence[Method],
    frames: tuple[int, int] | None,
    channels: Sequence[str] = CHANNELS,
    names: Sequence[str] = (),
    keep: bool = True,
) -> Take:
    need(take, Take, "take", "a take")
    rig, clip = take.rig, take.clip
    for method in methods:
        need(method, get_args(Method), "a method", "one of those in core.passes and core.filters.methods")
    check_value("channels", tuple(channels), Rule("parts", choices=CHANNELS))
    check_value("keep", keep, Rule("flag"))
    known = {*clip.skeleton.names, *clip.morphs}
    if isinstance(names, str) or (unknown := [name for name in names if name not in known]):
        raise InputError(f"{clip.name} has no joint or morph {names if isinstance(names, str) else unknown[0]}.")
    span = _span(frames)
    part = None if span is None else within(clip, span)
    passes = [Pass(str(n), one, tuple(channels), tuple(names), (), part, True, keep) for n, one in enumerate(methods)]
    passed = Passed(clip, passes, rig.metric_body, rig.placed_character, take.contacts)
    for method in methods:
        if isinstance(method, Adjust | Mirror):
            method.check(clip, passed.limbs)
        elif isinstance(method, Difference):
            method.check(clip)
        elif isinstance(method, Thin | Retime | Time):
            method.check()
    stage = passed.stage()
    return replace(take, motion=stage.keyed or stage.clip, contacts=stage.contacts, passed=passed)


@door
def write(
    take: Take,
    path: str | Path,
    overwrite: bool = False,
    motion_only: bool = False,
    shape: Shape = Shape(),
    more: Sequence[Output] = (),
    inputs: Sequence[Path | None] = (),
    need_body: bool = False,
) -> bool:
    """Write a take in the format that the path's ending tells, in the rig's own unit and axes where that is its file's format.

    Parameters
    ----------
    motion_only : without meshes and skin. Else they are written where the rig's file has them and the format can hold them.
    need_body : refuse where no body can be written.
    shape : how it differs from the rig's own file, see project.shaping.
    more : files that are written with it, all or none. ``inputs``: files that must not be replaced.

    Returns
    -------
    bool : whether a body was written.

    Raises
    ------
    InputError : that can't be done; then all is as it was.
    """
    need(take, Take, "take", "a take")
    need(shape, Shape, "shape", "a Shape")
    for name, value in (("overwrite", overwrite), ("motion_only", motion_only), ("need_body", need_body)):
        check_value(name, value, Rule("flag"))
    path = _path(path)
    check_results([path, *(o.path for o in more)], [*inputs, *opening.inputs_of(take.rig)])
    check_writable(path, overwrite)
    if need_body:
        check_body(path, take.rig)
    if take.pairing is not None and shape.root != KEEP:
        shape = with_settings(shape, take.pairing)
    elif take.pairing is not None:
        with_settings(shape, take.pairing)
    check_shape(path, take.rig, shape)
    body = has_body(path, take.rig, motion_only)
    write_together([*shaped(path, take.motion, take.rig, body, shape), *more])
    return body


@door
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

    for name, several in (("sources", sources), ("rigs", rigs), ("stringings", stringings)):
        need(several, (list, tuple), name, "a list of paths")
    asked = Asked(
        tuple(map(str, sources)), tuple(map(str, rigs)), str(folder), recipe_of(recipe), tuple(map(str, stringings)),
        overwrite, resume, dry, workers, cluster, None if report is None else Path(report),
    )  # fmt: skip
    return carry_out(asked, asked.delivery(), told or (lambda job, items: None))


def _path(path: str | Path) -> Path:
    need(path, (str, Path), "path", "a path")
    return Path(path)


def _entries(source: Entry, rig: Entry) -> None:
    need(source, Entry, "source", "an entry that read gave")
    need(rig, Entry, "rig", "an entry that read_rig gave")


def _span(frames: tuple[int, int] | None) -> tuple[int, int] | None:
    """``frames`` as given; InputError where that is no pair of whole numbers."""
    if frames is None:
        return None
    need(frames, (tuple, list), "frames", "a pair of frames, the first and the last")
    if len(frames) != 2:
        raise InputError("frames has to be a pair, the first and the last frame, both included.")
    for value in frames:
        check_value("a frame", value, Rule("number", least=0, whole=True))
    return int(frames[0]), int(frames[1])
