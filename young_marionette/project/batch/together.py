"""All clips of a rig as the animations of one file."""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path

from ...core.errors import InputError
from ...formats.files import AlreadyThere
from ...formats.registry import ENDINGS
from ..delivery import has_body
from ..shaping import Shape, check_shape, shaped
from .job import DONE, PLANNED, SKIPPED, Item, Job, failed
from .making import Made, Ready, length, make
from .work import clips, finished, left_alone, paths, prepared, told, write


@dataclass(frozen=True, eq=False)
class _Clip:
    """One that goes into a file, with its item as it will be."""

    item: Item
    ready: Ready
    made: Made
    shape: Shape


def work_together(job: Job) -> list[Item]:
    """Do a job whose clips all go into one file for each rig: those that can be; the others are told."""
    items: list[Item] = []
    by_rig: dict[str, list[_Clip]] = {}
    for rig, clip, ready in clips(job):
        if isinstance(ready, Item):
            items.append(ready)
            continue
        kept: list[_Clip] = []
        item = told(job, rig, clip, partial(_made, job, rig, clip, ready, kept))
        if kept:
            by_rig.setdefault(rig, []).extend(kept)
        else:
            items.append(item)
    for rig, together in by_rig.items():
        items += _written(job, rig, together)
    return items


def _made(job: Job, rig: str, clip: str, ready: Callable[[], Ready], kept: list[_Clip]) -> Item:
    """The item of a clip; where it is to be written it is made, and put into ``kept``."""
    order, recipe = job.order, job.order.recipe
    one, shape = prepared(job, ready())
    called = recipe.name or "clips"
    outs = paths(job, one, recipe.names.of(called, one.rig.name, called, order.date, job.number))
    for out in outs:
        if not ENDINGS[out.suffix.lower()].several:
            raise InputError(f"A file ending in {out.suffix} holds one clip; choose GLB or glTF, or a file for each.")
        check_shape(out, one.rig, shape)
    source = str(one.source.path) if one.source is not None and not job.parcel else job.name
    item = Item(DONE, source, rig, clip, tuple(map(str, outs)), number=job.number, stringing=one.stringing)
    if order.dry:
        frames, rate = length(one, recipe)
        return replace(item, state=PLANNED, frames=frames, rate=rate, notes=one.notes)
    there = [out for out in outs if os.path.lexists(out)]
    if there and not order.overwrite and not job.again:
        return left_alone(item, AlreadyThere(there[0]))
    kept.append(_Clip(item, one, make(one, recipe), shape))
    return item


def _written(job: Job, rig: str, together: list[_Clip]) -> list[Item]:
    """The items of all clips of one file, which is written."""
    first = together[0]
    takes = [replace(one.made.take, name=one.item.clip) for one in together]
    motion_only, ready = job.order.recipe.motion_only, first.ready

    def do() -> Item:
        outs = [Path(out) for out in first.item.outs]
        try:
            write(
                job,
                outs,
                lambda out: shaped(
                    out, takes[0], ready.rig, has_body(out, ready.rig, motion_only), first.shape, takes[1:]
                ),
            )
        except AlreadyThere as error:
            return left_alone(first.item, error)
        return first.item

    item = told(job, rig, "", do)
    if item.state == SKIPPED:
        return [replace(one.item, state=SKIPPED, why=item.why, exists=True) for one in together]
    if item.state != DONE:
        return [failed(job, rig, item.why, one.item.clip) for one in together]
    done = [finished(job, one.item, one.ready, one.made, one.shape) for one in together]
    # One file: its size counts once.
    return [done[0], *(replace(one, size=0) for one in done[1:])]
