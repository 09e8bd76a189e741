"""Carrying a delivery out: on this machine or on many, told as it goes, paused, stopped, gone on with later."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace

from ...core.errors import Cancelled
from .job import DONE, FAILED, PLANNED, SKIPPED, Item, Job, failed
from .journal import Journal
from .plan import Later
from .pool import run_jobs, usual_count
from .work import work

_POLL = 0.05  # seconds between looks at whether a pause is over
Runner = Callable[[Sequence[Job], Callable, Callable[[], bool]], None]


@dataclass(frozen=True)
class Progress:
    """How far a delivery is. ``left``: seconds, about; None while that can't be told."""

    done: int
    total: int
    left: float | None

    @property
    def share(self) -> float:
        return min(self.done / self.total, 1.0) if self.total else 1.0


class Delivery:
    """Jobs on their way. ``told(job, items)`` hears of each: None when it is begun, a list when it is done.

    Thread-safe: ``pause``, ``go_on`` and ``cancel`` may be called by anybody while another thread is in ``run``.
    """

    def __init__(
        self,
        jobs: Sequence[Job],
        workers: int | None = None,
        resume: bool = False,
        later: Sequence[Later] = (),
        runner: Runner | None = None,
    ) -> None:
        self.items: list[Item] = []
        self._later = list(later)
        self._taken: dict[tuple[int, tuple[str, ...]], str] = {}
        self._count, self._resume = workers or usual_count(), resume
        self._runner = runner or (lambda jobs, told, go_on: run_jobs(jobs, self._count, told, go_on))
        self._stop, self._paused = threading.Event(), threading.Event()
        self._begun = self._finished = 0
        self._since = self._rested = 0.0
        self.set_jobs(jobs)

    def set_jobs(self, jobs: Sequence[Job]) -> None:
        """The jobs, where they were not known from the beginning."""
        self.jobs, self._total = list(jobs), len(jobs)

    def measure(self, pictures: int = 0) -> None:
        """Let it be told how far feet are off in each clip, with so many pictures of it."""
        self.jobs = [replace(job, order=replace(job.order, measured=True, pictures=pictures)) for job in self.jobs]

    def pause(self) -> None:
        """Begin no further job; what is under way is finished."""
        self._paused.set()

    def go_on(self) -> None:
        """Go on after a pause."""
        self._paused.clear()

    @property
    def paused(self) -> bool:
        return self._paused.is_set()

    def cancel(self) -> None:
        """Stop; what was begun leaves nothing behind, what is done stays."""
        self._stop.set()

    @property
    def cancelled(self) -> bool:
        return self._stop.is_set()

    @property
    def progress(self) -> Progress:
        """How far it is."""
        left = None
        if self._begun and self._since:
            spent = time.monotonic() - self._since - self._rested
            left = spent / self._begun * max(self._total - self._finished, 0)
        return Progress(self._finished, self._total, left)

    def run(self, told: Callable[[Job, list[Item] | None], None] = lambda job, items: None) -> list[Item]:
        """Do all of it; what became of each clip, in the order of the jobs. Cancelled where it was stopped."""
        jobs = list(self._to_do(told))
        self._since = time.monotonic()

        def hear(job: Job, items: list[Item] | None) -> None:
            told(job, None if items is None else self._note(job, items))

        looked = self._since

        def may_go_on() -> bool:
            nonlocal looked
            if self._stop.is_set():
                raise Cancelled
            now = time.monotonic()
            self._rested += now - looked if self._paused.is_set() else 0.0
            looked = now
            return not self._paused.is_set()

        self._runner(jobs, hear, may_go_on)
        while self._later:
            self._runner(self._free_now(), hear, may_go_on)
        return self.result

    def _free_now(self) -> list[Job]:
        """Jobs whose name nobody has taken after all, one for each name; of those whose name is taken that is told."""
        made = {os.path.splitext(out)[0] for item in self.items if item.state != FAILED for out in item.outs}
        free: dict[str, Job] = {}
        looks, waiting = [], []
        for one in self._later:
            if one.out in made:
                # Only looked at: what is wrong with it by itself says more than that its name is taken.
                self._taken[one.job.number, one.job.rigs] = one.why
                looks.append(replace(one.job, order=replace(one.job.order, dry=True)))
            elif one.out in free:
                waiting.append(one)
            else:
                free[one.out] = one.job
        self._later, self._total = waiting, self._total + len(free) + len(looks)
        return [*free.values(), *looks]

    def _to_do(self, told: Callable[[Job, list[Item] | None], None]) -> Iterator[Job]:
        """The jobs, without what an earlier run did."""
        journal = Journal(self.jobs[0].order.folder) if self._resume and self.jobs else None
        if journal is not None:
            journal.load()
        for job in self.jobs:
            if journal is None:
                yield job
                continue
            rigs = []
            for rig in job.rigs:
                earlier = journal.done(job, rig)
                if earlier is None:
                    rigs.append(rig)
                else:
                    self.items += earlier
                    told(job, earlier)
            if rigs:
                yield replace(job, rigs=tuple(rigs), again=True)
            else:
                self._finished += 1

    def _note(self, job: Job, items: list[Item]) -> list[Item]:
        why = self._taken.get((job.number, job.rigs))
        if why is not None:
            items = [i if i.state == FAILED else failed(job, i.rig, why, i.clip) for i in items]
        self.items += items
        self._begun += 1
        self._finished += 1
        return items

    @property
    def result(self) -> list[Item]:
        """What became of the clips so far, in the order of the jobs."""
        rigs = {rig: i for job in self.jobs for i, rig in enumerate(job.rigs)}
        return sorted(self.items, key=lambda item: (item.number, rigs.get(item.rig, 0)))


def run_here(jobs: Sequence[Job], told: Callable[[Job, list[Item] | None], None], go_on: Callable[[], bool]) -> None:
    """Do jobs in this process, one after the other: for few, which take less time than workers need to begin."""
    for job in jobs:
        while not go_on():
            time.sleep(_POLL)
        told(job, None)
        told(job, work(job))


def counts(items: Sequence[Item]) -> dict[str, int]:
    """How many clips came to each end."""
    return {state: sum(item.state == state for item in items) for state in (DONE, PLANNED, FAILED, SKIPPED)}
