"""A delivery of files as it is asked for by name: looked at, made into jobs, carried out, reported."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path

from ...core.errors import InputError
from ...formats.files import check_free
from .. import stringing
from . import recipe as recipes
from .job import Item, Job, Order
from .plan import check_folder, jobs_of, meeting, sources_of
from .recipe import Recipe
from .run import Delivery
from .tying import rig_of

PICTURES = 3  # of each clip in a report


@dataclass(frozen=True)
class Asked:
    """``sources``: motion files and folders of them. ``rigs``, ``stringings``: files; the recipe's own where none are given.

    ``cluster``: the address of a Dask scheduler. ``report``: the HTML file to write.
    """

    sources: tuple[str, ...]
    rigs: tuple[str, ...]
    folder: str
    recipe: Recipe = field(default_factory=Recipe)
    stringings: tuple[str, ...] = ()
    overwrite: bool = False
    resume: bool = False
    dry: bool = False
    workers: int | None = None
    cluster: str | None = None
    report: Path | None = None

    @property
    def order(self) -> Order:
        """What all its jobs share; InputError where anything of it can't be used."""
        strings = self.stringings or self.recipe.stringings
        for path in strings:
            stringing.load(Path(path))  # one that is broken is told before anything is begun
        pictures = PICTURES if self.report is not None else 0
        today = date.today().isoformat()
        return Order(
            self.recipe,
            self.folder,
            True,
            strings,
            self.overwrite,
            today,
            self.dry,
            bool(pictures),
            pictures,
        )

    @property
    def on_rigs(self) -> tuple[str, ...]:
        """The rigs; InputError where there are none, or one twice."""
        rigs = self.rigs or self.recipe.rigs
        if not rigs:
            raise InputError("Say which rig the clips go onto.")
        if twice := [rig for rig in rigs if rigs.count(rig) > 1]:
            raise InputError(f"The rig {twice[0]} is given twice.")
        return rigs

    def delivery(self) -> Delivery:
        """All of it made ready: InputError where it can't be begun; the folder is made."""
        if self.report is not None and not self.dry:
            check_free(self.report, self.overwrite)
        here = self if self.cluster is None else self._everywhere()
        rigs = here.on_rigs
        names = {rig: rig_of(rig).name for rig in rigs}
        jobs, later = meeting(jobs_of(sources_of(here.sources), rigs, here.order), names)
        if not jobs:
            raise InputError("There are no clips to deliver: no file that can be read is there.")
        if not here.dry:
            check_folder(here.folder)
            try:
                Path(here.folder).mkdir(parents=True, exist_ok=True)
            except OSError as error:
                raise InputError(f"The folder {here.folder} can't be made: {error.strerror or error}.") from None
        runner = None
        if here.cluster is not None:
            from .cluster import cluster

            runner = cluster(here.cluster)
        return Delivery(jobs, here.workers, here.resume, later, runner)

    def _everywhere(self) -> Asked:
        """With paths that mean the same whatever folder a worker stands in."""
        from dataclasses import replace

        def whole(paths: tuple[str, ...]) -> tuple[str, ...]:
            return tuple(map(os.path.abspath, paths))

        recipe, bones = self.recipe, self.recipe.bones
        if bones and Path(bones).exists():
            recipe = recipe.model_copy(update={"bones": os.path.abspath(bones)})
        return replace(
            self,
            sources=whole(self.sources),
            rigs=whole(self.on_rigs),
            folder=os.path.abspath(self.folder),
            stringings=whole(self.stringings or recipe.stringings),
            recipe=recipe,
        )


def carry_out(
    asked: Asked, delivery: Delivery, told: Callable[[Job, list[Item] | None], None] = lambda job, items: None
) -> list[Item]:
    """Run a delivery to its end, and write its report where one is asked for; what became of each clip."""
    since = time.monotonic()
    items = delivery.run(told)
    if asked.report is not None and not asked.dry:
        from .report import write_report

        write_report(asked.report, items, delivery.jobs[0].order, time.monotonic() - since, asked.overwrite)
    return items


def recipe_of(given: Recipe | str | Path | None) -> Recipe:
    """A recipe, or that of a file."""
    if given is None:
        return Recipe()
    return given if isinstance(given, Recipe) else recipes.load(Path(given))
