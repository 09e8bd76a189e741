"""The same jobs on many machines: workers of a Dask scheduler do them, which read and write a folder that all of them see."""

from __future__ import annotations

import logging
import time
from collections import deque
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

from ...core.errors import InputError
from ...formats.files import sweep, unfinished
from ..log import log_defect
from .job import Item, Job, failed
from .pool import DIED, Told
from .run import Runner
from .work import work

_POLL = 0.2  # seconds between looks at whether anybody wants to stop
_AHEAD = 3  # jobs that lie with a worker, so that none has to wait for the next
_PATIENCE = "10s"
_RETRIES = 2
_YOUNG = 2.0  # seconds


def cluster(address: str) -> Runner:
    """What does jobs on the workers of the scheduler at ``address``; InputError where it can't be reached."""

    def run(jobs: Sequence[Job], told: Told, go_on: Callable[[], bool]) -> None:
        client = _client(address)
        try:
            _run(client, deque(jobs), told, go_on)
        finally:
            client.close()
        for folder in {job.folder for job in jobs}:
            _sweep(folder)

    return run


def _sweep(folder: str) -> None:
    """Remove what workers that died have left half written, also the last moment's."""
    if unfinished(folder):
        # One that was made just now may be somebody else's who lives, and not have its lock yet.
        time.sleep(_YOUNG)
        sweep(folder, _YOUNG)


def _client(address: str) -> Any:
    try:
        from distributed import Client
    except ImportError:
        raise InputError(
            "A cluster needs packages that are not installed; get them with: pip install 'young-marionette[cluster]'"
        ) from None
    # That a worker has died is told by what becomes of its jobs.
    logging.getLogger("distributed.client").setLevel(logging.ERROR)
    try:
        return Client(address, timeout=_PATIENCE, set_as_default=False)
    except (OSError, ValueError, TimeoutError) as error:
        raise InputError(f"No scheduler answers at {address} ({type(error).__name__}).") from None


def _run(client: Any, jobs: deque[Job], told: Told, go_on: Callable[[], bool]) -> None:
    # A worker that dies takes none of the others' jobs along: what it was at is tried elsewhere, which nobody tells it.
    under_way: dict[Any, Job] = {}
    try:
        while jobs or under_way:
            threads = sum(client.nthreads().values())
            while go_on() and jobs and len(under_way) < max(_AHEAD * threads, 1):
                job = jobs.popleft()
                under_way[client.submit(work, replace(job, again=True), pure=False, retries=_RETRIES)] = job
                told(job, None)
            go_on()
            done = [future for future in under_way if future.done()]
            for future in done:
                job = under_way.pop(future)
                told(job, _items(future, job))
                future.release()
            if not done:
                time.sleep(_POLL)
    except BaseException:
        client.cancel(list(under_way), force=True)
        raise


def _items(future: Any, job: Job) -> list[Item]:
    """What became of a job, or that its workers died one after the other."""
    try:
        items: list[Item] = future.result()
    except Exception as error:
        log_defect("workers of a cluster", error)
        return [failed(job, rig, DIED) for rig in job.rigs]
    return items
