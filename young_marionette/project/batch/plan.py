"""What a delivery of files takes: jobs for all sources and rigs, and what stands against them."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path

from ...core.errors import InputError
from ...formats.files import same_place
from ...formats.registry import READABLE
from .job import Job, Order
from .journal import Journal

_COMPANIONS = (".bin", ".png", ".jpg", ".jpeg", ".webp", ".ktx2", ".asf")
_SPACE = 1 << 20  # bytes that are to be left


@dataclass(frozen=True)
class Found:
    """A motion file, and the folder among those asked for that it was found in (itself one where it was named)."""

    path: Path
    under: Path


def sources_of(paths: Iterable[str | Path]) -> list[Found]:
    """Motion files among paths, and in folders among them, however deep, in the order of their names."""
    found: dict[str, Found] = {}
    for path in map(Path, paths):
        if path.is_dir():
            inside = sorted(p for p in path.rglob("*") if p.suffix.lower() in READABLE and not _hidden(p, path))
            for one in inside:
                if one.suffix.lower() not in _COMPANIONS and not one.is_dir():
                    found.setdefault(os.path.abspath(one), Found(one, path))
        else:
            found.setdefault(os.path.abspath(path), Found(path, path.parent))
    return list(found.values())


def _hidden(path: Path, under: Path) -> bool:
    return any(part.startswith(".") for part in path.relative_to(under).parts)


def jobs_of(sources: Sequence[Found], rigs: Sequence[str], order: Order) -> list[Job]:
    """The jobs of all sources on all rigs. A rig that lies among the sources is none of them, nor are earlier results."""
    recipe, rigs = order.recipe, tuple(map(str, rigs))
    rest = _not_delivered(sources, order)
    sources = [s for s in rest if not any(same_place(s.path, rig) for rig in rigs)]
    if recipe.together:
        paths = tuple(str(s.path) for s in sources)
        return [Job(i, paths, (rig,), order.folder, order) for i, rig in enumerate(rigs, 1)] if paths else []
    jobs = []
    for number, source in enumerate(sources, 1):
        inside = source.path.parent.relative_to(source.under) if recipe.subfolders else ""
        jobs.append(Job(number, (str(source.path),), rigs, str(Path(order.folder) / inside), order))
    return jobs


def _not_delivered(sources: Sequence[Found], order: Order) -> list[Found]:
    """Sources without what earlier deliveries into the same folder have made, should that lie in a folder of sources."""
    if not order.folder:
        return list(sources)
    folder = Path(order.folder).absolute()
    journal = Journal(folder)
    journal.load()
    made = {os.path.abspath(out) for out in journal.made}
    kept = []
    for one in sources:
        path, under = one.path.absolute(), one.under.absolute()
        # A folder of results within a folder of sources holds no sources, unless they are asked for by name.
        inside = folder != under and under in folder.parents and folder in path.parents
        if str(path) not in made and not inside:
            kept.append(one)
    return kept


@dataclass(frozen=True)
class Later:
    """A job whose result has the name of another one's: ``why`` it is not made, should that one be there."""

    job: Job
    out: str
    why: str


def meeting(jobs: Sequence[Job], rig_names: dict[str, str]) -> tuple[list[Job], list[Later]]:
    """``(jobs, later)``: of sources whose results would have one name, the first is delivered; the others only where it fails.

    By the names of the files: what several clips of one file are called is seen to when it is read.
    """
    taken: dict[str, str] = {}
    kept: list[Job] = []
    later: list[Later] = []
    for job in jobs:
        if job.order.recipe.together or job.clips or job.parcel:
            kept.append(job)
            continue
        file = Path(job.sources[0]).stem
        rigs = []
        for rig in job.rigs:
            stem = job.order.recipe.names.of(file, rig_names[rig], file, job.order.date, job.number)
            out = os.path.join(job.folder, stem)
            if out in taken:
                why = f"{out} would also be written from {taken[out]}; give each a name of its own."
                later.append(Later(job.on(rig), out, str(InputError(why))))
            else:
                taken[out] = job.sources[0]
                rigs.append(rig)
        if rigs:
            kept.append(Job(job.number, job.sources, tuple(rigs), job.folder, job.order, job.clips))
    return kept, later


def check_folder(folder: str | Path, needed: int = 0) -> None:
    """InputError where a folder can't be made or written to, or its disk has no room for so many bytes."""
    place = Path(folder).absolute()
    while not place.exists():
        if place.parent == place:
            break
        place = place.parent
    if not place.is_dir():
        raise InputError(f"{place} is not a folder.")
    if not os.access(place, os.W_OK | os.X_OK):
        raise InputError(f"{place} may not be written to: permission was denied.")
    free = shutil.disk_usage(place).free
    if free < needed + _SPACE:
        raise InputError(
            f"There is no room in {place}: {free / 1e6:.0f} MB are free, {needed / 1e6:.0f} MB are needed."
        )
