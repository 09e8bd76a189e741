"""A watched folder: clips that arrive in it are delivered, each once, when they are completely written."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

from ...core.errors import Cancelled
from ...formats.files import status_of
from .job import DONE, Item, Job, Order
from .journal import Journal
from .plan import jobs_of, sources_of
from .run import Delivery, Runner

POLL = 1.0  # seconds between looks
SETTLED = 2.0  # seconds that a file must have stayed as it is


class Watch:
    """Looks at a folder; see ``run``. What was delivered is in the journal of the results' folder, so that it is not done again."""

    def __init__(
        self,
        folder: str | Path,
        rigs: Sequence[str],
        order: Order,
        workers: int | None = None,
        runner: Runner | None = None,
    ) -> None:
        self.folder, self.rigs, self.order = Path(folder), tuple(rigs), replace(order, journal=True)
        self._workers, self._runner = workers, runner
        self._seen: dict[str, tuple[tuple[int, int], float]] = {}  # what a file is like, and since when
        self._tried: dict[str, tuple[int, int]] = {}
        self._number = self._looks = 0

    def arrived(self) -> list[Job]:
        """Jobs for all files that are complete and were not delivered: those that are as they were for a while."""
        journal = Journal(self.order.folder)
        journal.load()
        now, ready = time.monotonic(), []
        for found in sources_of([self.folder]):
            path = str(found.path)
            status = status_of(path)
            if status is None:
                continue
            like = status.st_size, status.st_mtime_ns
            known, since = self._seen.get(path, (None, now))
            if known != like:
                self._seen[path] = like, now
            elif now - since >= SETTLED and self._tried.get(path) != like:
                ready.append(found)
                self._tried[path] = like
        jobs = []
        for job in jobs_of(ready, self.rigs, self.order):
            left = tuple(rig for rig in job.rigs if journal.done(job, rig) is None)
            if left:
                self._number += 1
                jobs.append(replace(job, rigs=left, number=self._number, again=True))
        return jobs

    def look(self, told: Callable[[Job, list[Item] | None], None]) -> list[Item]:
        """Deliver what has arrived; what became of it."""
        jobs, self._looks = self.arrived(), self._looks + 1
        return Delivery(jobs, self._workers, runner=self._runner).run(told) if jobs else []

    def emptied(self) -> bool:
        """Whether nothing that is there waits for being complete, or for being delivered."""
        there = {str(found.path) for found in sources_of([self.folder])}
        return self._looks > 0 and all(p in self._seen and self._tried.get(p) == self._seen[p][0] for p in there)

    def run(self, told: Callable[[Job, list[Item] | None], None], stopped: Callable[[], bool]) -> int:
        """Look again and again until ``stopped``; how many clips were delivered."""
        count = 0
        while not stopped():
            try:
                count += sum(item.state == DONE for item in self.look(told))
            except Cancelled:
                break
            time.sleep(POLL)
        return count
