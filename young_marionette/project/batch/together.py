"""All clips of a rig as the animations of one file."""

from __future__ import annotations

import os
from dataclasses import replace
from pathlib import Path

from ...core.errors import InputError
from ...formats.registry import ENDINGS
from ..shaping import Shape, check_shape, shaped
from .job import DONE, PLANNED, SKIPPED, Item, Job, failed
from .making import Made, Ready, length, make
from .work import clips, finished, paths, prepared, told, with_body, write


def work_together(job: Job) -> list[Item]:
    """Do a job whose clips all go into one file for each rig: those that can be; the others are told."""
    items: list[Item] = []
    by_rig: dict[str, list[tuple[Item, Ready, Made, Shape]]] = {}
    order, recipe = job.order, job.order.recipe
    for rig, clip, ready in clips(job):
        if isinstance(ready, Item):
            items.append(ready)
            continue
        kept: list[tuple[Ready, Made | None, Shape]] = []

        def do(rig: str = rig, clip: str = clip, ready=ready, kept=kept) -> Item:  # type: ignore[no-untyped-def]
            one, shape = prepared(job, ready())
            stem = recipe.names.of(recipe.name or "clips", one.rig.name, recipe.name or "clips", order.date, job.number)
            outs = paths(job, one, stem)
            for out in outs:
                if not ENDINGS[out.suffix.lower()].several:
                    raise InputError(
                        f"A file ending in {out.suffix} holds one clip; choose GLB or glTF, or a file for each."
                    )
                check_shape(out, one.rig, shape)
            source = str(one.source.path) if one.source is not None and not job.parcel else job.name
            item = Item(DONE, source, rig, clip, tuple(map(str, outs)), number=job.number, stringing=one.stringing)
            if order.dry:
                frames, rate = length(one, recipe)
                return replace(item, state=PLANNED, frames=frames, rate=rate, notes=one.notes)
            there = [out for out in outs if os.path.lexists(out)]
            if there and not order.overwrite:
                why = f"{there[0]} exists already and was left as it is; ask for overwriting to replace it."
                return replace(item, state=SKIPPED, why=why, exists=True)
            kept.append((one, make(one, recipe), shape))
            return item

        item = told(job, rig, clip, do)
        if item.state == DONE:
            one, made, shape = kept[0]
            assert made is not None  # see do
            by_rig.setdefault(rig, []).append((item, one, made, shape))
        else:
            items.append(item)
    for rig, ready_clips in by_rig.items():
        items += _written(job, rig, ready_clips)
    return items


def _written(job: Job, rig: str, ready_clips: list[tuple[Item, Ready, Made, Shape]]) -> list[Item]:
    """The items of all clips of one file."""
    first, ready, _, shape = ready_clips[0]
    outs = [Path(out) for out in first.outs]
    takes = [replace(made.take, name=item.clip) for item, _, made, _ in ready_clips]
    body = job.order.recipe.body

    def do() -> Item:
        write(
            job, outs, lambda out: shaped(out, takes[0], ready.rig, with_body(out, ready.rig, body), shape, takes[1:])
        )
        return first

    item = told(job, rig, "", do)
    if item.state != DONE:
        return [failed(job, rig, item.why, one.clip) for one, _, _, _ in ready_clips]
    done = [finished(job, one, clip, made, own) for one, clip, made, own in ready_clips]
    # One file: its size counts once.
    return [done[0], *(replace(one, size=0) for one in done[1:])]
