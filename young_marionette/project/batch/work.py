"""The work of one job: the same function in this process, in a worker, and on another machine."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from dataclasses import replace
from functools import partial
from pathlib import Path

from ...core.errors import InputError
from ...core.keys.keyed import KeyedClip
from ...core.travel.settings import Travel
from ...formats.files import AlreadyThere, check_results, write_together
from ...formats.registry import ENDINGS, check_writable, own_ending
from ..delivery import has_body
from ..entry import Entry
from ..log import log_defect
from ..opening import inputs_of, placed_as
from ..pairing import refuse_gaps
from ..shaping import ADD, Shape, check_shape, fitted, shaped, with_settings
from .job import DONE, PLANNED, SKIPPED, Item, Job, failed
from .journal import Journal
from .making import Made, Ready, length, make, measured
from .tying import clips_of, tied

_STILL = 2  # frames: what has no more is a pose


def work(job: Job) -> list[Item]:
    """Do a job: read, tie, bake, write. All that goes wrong is told in items; nothing that exists is replaced unasked."""
    if job.order.recipe.together:
        from .together import work_together

        items = work_together(job)
    else:
        taken: set[str] = set()
        items = [r if isinstance(r, Item) else guarded(job, rig, clip, r, taken) for rig, clip, r in clips(job)]
    if job.order.journal and not job.order.dry:
        journal = Journal(job.order.folder)
        for rig in job.rigs:
            journal.note(job, rig, items)
    return items


def clips(job: Job) -> Iterator[tuple[str, str, Item | Callable[[], Ready]]]:
    """``(rig, clip, how to get it ready, or what became of it already)`` for each clip of a job on each of its rigs."""
    if job.parcel:
        from .parcels import opened

        for source in job.sources:
            ready = opened(source)
            yield ready.rig.name, ready.name, partial(_same, ready)
        return
    for source in job.sources:
        entries: list[Entry] | str
        try:
            recipe = job.order.recipe
            entries = [placed_as(e, recipe.source_up, recipe.source_facing) for e in clips_of(source, job.clips)]
        except InputError as error:
            entries = str(error)
        except (MemoryError, RecursionError):
            entries = f"There is not enough memory to read {Path(source).name}."
        except Exception as error:  # a reader's defect is no reason to lose the others
            entries = _defect(error)
        for rig in job.rigs:
            if isinstance(entries, str):
                yield rig, "", failed(replace(job, label=source), rig, entries)
                continue
            for entry in entries:
                assert entry.take is not None  # see clips_of
                if entry.take.frames <= _STILL and not job.clips:
                    count = f"{entry.take.frames} frame{'s' if entry.take.frames != 1 else ''}"
                    why = f"{entry.name} holds only {count}: a reference pose, or junk."
                    yield rig, entry.name, Item(SKIPPED, source, rig, entry.name, why=why, number=job.number)
                else:
                    yield rig, entry.name, partial(tied, job, entry, rig)


def _same(ready: Ready) -> Ready:
    return ready


def guarded(job: Job, rig: str, clip: str, ready: Callable[[], Ready], taken: set[str]) -> Item:
    """The item of a clip on a rig, whatever happens; ``taken``: paths that others of the job have."""
    return told(job, rig, clip, lambda: _delivered(job, rig, ready(), taken))


def told(job: Job, rig: str, clip: str, do: Callable[[], Item]) -> Item:
    """What ``do`` gives, or an item that says in one sentence why it failed."""
    try:
        return do()
    except InputError as error:
        return failed(job, rig, str(error), clip)
    except (MemoryError, RecursionError):
        return failed(job, rig, "There is not enough memory for this clip.", clip)
    except Exception as error:  # a defect of ours in one clip is no reason to lose the others
        return failed(job, rig, _defect(error), clip)


def _defect(error: Exception) -> str:
    log_defect("in a batch", error)
    return str(InputError(f"Internal error: {type(error).__name__}: {error}."))


def _delivered(job: Job, rig: str, ready: Ready, taken: set[str]) -> Item:
    order, recipe = job.order, job.order.recipe
    stem = recipe.names.of(ready.name, ready.rig.name, ready.file, order.date, job.number)
    outs = paths(job, ready, stem)
    source = job.name if job.parcel else str(ready.source.path if ready.source else job.name)
    item = Item(DONE, source, rig, ready.name, tuple(map(str, outs)), number=job.number, stringing=ready.stringing)
    if again := taken.intersection(item.outs):
        raise InputError(f"{min(again)} is written from another clip already; give each a name of its own.")
    taken.update(item.outs)
    ready, shape = prepared(job, ready)
    if there := [out for out in outs if os.path.lexists(out)]:
        check_results(outs, [*(inputs_of(ready.source) if ready.source else ()), *inputs_of(ready.rig)])
        if not order.overwrite and (order.dry or not job.again):
            return left_alone(item, AlreadyThere(there[0]))
    for out in outs:
        check_shape(out, ready.rig, shape)
    if order.dry:
        frames, rate = length(ready, recipe)
        return replace(item, state=PLANNED, frames=frames, rate=rate, notes=ready.notes)
    made = make(ready, recipe)
    take = replace(made.take, name=stem)
    try:
        write(
            job,
            outs,
            lambda out: shaped(
                out, take, ready.rig, has_body(out, ready.rig, recipe.motion_only), shape, extras=made.extras
            ),
        )
    except AlreadyThere as error:
        return left_alone(item, error)
    return finished(job, item, ready, made, shape)


def left_alone(item: Item, why: AlreadyThere) -> Item:
    """The item of a clip whose file is there."""
    return replace(item, state=SKIPPED, why=str(why), exists=True)


def paths(job: Job, ready: Ready, stem: str) -> list[Path]:
    """The files of a clip: one of each format that is asked for, else of the rig's own."""
    layout = ready.rig.layout
    return [
        Path(job.folder) / f"{stem}{e}"
        for e in job.order.recipe.endings or (own_ending(layout.format if layout else ""),)
    ]


def prepared(job: Job, ready: Ready) -> tuple[Ready, Shape]:
    """A clip with the settings that the recipe asks for, and how it is written; InputError where required strings are missing."""
    recipe, shape = job.order.recipe, fitted(job.order.recipe.shape, ready.rig)
    if ready.bake is not None:
        pairing = ready.bake.pairing
        if pairing is None:
            return ready, shape
        travel = recipe.travel_of(pairing.settings)
        if travel is None and shape.root == ADD:
            # It was baked as it is to travel; what the bone that is added carries is set there, too.
            travel = Travel(root=pairing.settings.root, smooth=pairing.settings.root_smooth)
        return ready, replace(shape, travel=travel)
    assert ready.source is not None and ready.pairing is not None  # what is not baked is tied
    pairing = replace(ready.pairing, settings=recipe.over(ready.pairing.settings))
    refuse_gaps(pairing, ready.source, ready.rig)
    return replace(ready, pairing=pairing), with_settings(shape, pairing)


def write(job: Job, outs: list[Path], encode: Callable[[Path], list]) -> None:
    """Write all files of a clip, or none; InputError where that can't be done, AlreadyThere where another file is."""
    folder, base = Path(job.folder), Path(job.order.folder or job.folder)
    if not base.is_dir():
        raise InputError(f"The folder {base} is not there any more.")
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise InputError(f"The folder {folder} can't be made: {error.strerror or error}.") from None
    for out in outs:
        check_writable(out, job.order.overwrite or job.again)
    write_together([output for out in outs for output in encode(out)], job.again and not job.order.overwrite)


def finished(job: Job, item: Item, ready: Ready, made: Made, shape: Shape) -> Item:
    """The item of a clip that was written, with what is told of it."""
    outs = [Path(out) for out in item.outs]
    keyed = isinstance(made.take, KeyedClip)
    held = keyed and shape.keeps_keys and all(ENDINGS[o.suffix.lower()].curves for o in outs)
    item = replace(
        item,
        frames=made.clip.frames,
        rate=made.clip.rate,
        size=sum(out.stat().st_size for out in outs),
        keys=held,
        made_dense=keyed and not held,
        notes=ready.notes,
    )
    try:
        if job.order.measured:
            numbers, worse = measured(ready, job.order.recipe, made.plain)
            item = replace(item, measures=numbers, notes=(*item.notes, *worse))
        if job.order.pictures:
            from .pictures import poses

            item = replace(item, pictures=poses(made.clip, ready.rig, job.order.pictures))
    except Exception as error:  # it is written: what only tells of it is no reason to say otherwise
        item = replace(item, notes=(*item.notes, f"It could not be looked at: {_defect(error)}"))
    return item
