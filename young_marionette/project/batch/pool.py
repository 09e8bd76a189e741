"""Workers over the cores of this machine. One that dies is replaced, and takes nobody's work with it."""

from __future__ import annotations

import contextlib
import os
import socket
import subprocess
from collections import deque
from collections.abc import Callable, Iterable
from dataclasses import replace
from multiprocessing.connection import Connection, wait

from ...core.errors import InputError
from ...formats.child import start
from ...formats.files import sweep_after
from ...formats.usd_process import PROCESS
from .job import Item, Job, failed

_POLL = 0.1  # seconds between looks at whether anybody wants to stop
_PATIENCE = 5.0  # seconds for a worker to take back what it had begun to write
_TRIES, _STARTS = 2, 8
# One thread each: the workers are as many as there are cores; and results do not depend on how many there are.
_SETTINGS = dict.fromkeys(("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "MKL_NUM_THREADS"), "1")
_USD = (".usd", ".usda", ".usdc", ".usdz")
DIED = "The worker process ended while it was at this: it was stopped, or there was not enough memory."

_Key = tuple[int, tuple[str, ...]]
_NOBODY: _Key = (0, ())  # stands for workers that die before their first job
Told = Callable[[Job, "list[Item] | None"], None]


def usual_count() -> int:
    """How many workers there are unless somebody says so: one for each core that may be used."""
    return max(len(os.sched_getaffinity(0)), 1)


def needs_usd(jobs: Iterable[Job]) -> bool:
    """Whether any job reads or writes USD files."""
    for job in jobs:
        names = (*job.sources, *job.rigs, *job.order.recipe.endings)
        if job.parcel or any(name.lower().endswith(_USD) for name in names):
            return True
    return False


class _Worker:
    """A process with a socket to it; ``job``: what it is at."""

    def __init__(self, usd: int) -> None:
        ours, theirs = socket.socketpair()
        with theirs:
            self.process: subprocess.Popen = start(f"{__package__}.worker", [theirs.fileno(), usd], _SETTINGS)
        self.connection = Connection(ours.detach())
        self.job: Job | None = None
        self.ready = False

    def give(self, job: Job) -> None:
        self.job = job
        with contextlib.suppress(OSError):  # one that has died is met when it is waited for
            self.connection.send(job)

    def stop(self) -> None:
        """Tell it to end, and to take back what it has begun."""
        self.connection.close()
        self.process.terminate()

    def end(self) -> None:
        """Stop it, and see to it that it has ended."""
        self.stop()
        try:
            self.process.wait(_PATIENCE)
        except subprocess.TimeoutExpired:
            self.process.kill()
            self.process.wait()


def run_jobs(
    jobs: Iterable[Job],
    count: int,
    told: Told,
    go_on: Callable[[], bool] = lambda: True,
) -> None:
    """Do jobs in ``count`` workers; ``told(job, None)`` when one is begun, ``told(job, items)`` when it is done.

    ``go_on``: asked at times; False: no further job is begun for now; what it raises, such as Cancelled, ends all workers, and
    what they had begun leaves nothing behind. InputError where no worker can be started.
    """
    jobs = deque(jobs)
    tries: dict[_Key, int] = {}
    usd = PROCESS.shared() if needs_usd(jobs) else -1
    workers: list[_Worker] = []
    try:
        while jobs or any(w.job is not None for w in workers):
            going = go_on()
            while going and len(workers) < min(count, len(jobs) + sum(w.job is not None for w in workers)):
                workers.append(_started(usd))
            for worker in workers:
                if worker.ready and worker.job is None and jobs and going:
                    worker.give(jobs.popleft())
                    assert worker.job is not None  # just given
                    told(worker.job, None)
            for connection in wait([w.connection for w in workers], _POLL):
                worker = next(w for w in workers if w.connection is connection)
                try:
                    answer = worker.connection.recv()
                except (EOFError, OSError):
                    workers.remove(worker)
                    _buried(worker, jobs, tries, told)
                    continue
                if worker.ready and worker.job is not None:
                    done, worker.job = worker.job, None
                    told(done, answer)
                worker.ready = True
    finally:
        for worker in workers:
            worker.stop()
        for worker in workers:
            worker.end()


def _started(usd: int) -> _Worker:
    try:
        return _Worker(usd)
    except OSError as error:
        raise InputError(f"No worker process can be started: {error.strerror or error}.") from None


def _buried(worker: _Worker, jobs: deque[Job], tries: dict[_Key, int], told: Told) -> None:
    """A worker has died: what it was at is tried once more, each rig for itself; what kills workers twice has failed."""
    worker.end()
    job = worker.job
    if job is not None:
        sweep_after(job.folder, worker.process.pid)
    if job is None:
        tries[_NOBODY] = tries.get(_NOBODY, 0) + 1
        if tries[_NOBODY] > _STARTS:
            raise InputError("The worker processes end before they can begin; there may not be enough memory.")
        return
    job = replace(job, again=True)
    key = job.number, job.rigs
    tries[key] = tries.get(key, 0) + 1
    if len(job.rigs) > 1 and not job.parcel:
        for rig in reversed(job.rigs):
            one = job.on(rig)
            tries[one.number, one.rigs] = 0
            jobs.appendleft(one)
    elif tries[key] < _TRIES:
        jobs.appendleft(job)
    else:
        told(job, [failed(job, rig, DIED) for rig in job.rigs or ("",)])
