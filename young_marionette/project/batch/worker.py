"""A worker: a process that does one job after the other and tells what became of each."""

from __future__ import annotations

import signal
import sys
from multiprocessing.connection import Connection
from types import FrameType


def _end(_number: int, _frame: FrameType | None) -> None:
    """End as if by an error, so that what was written by half is taken back."""
    sys.exit(0)


def main(number: int, usd: int) -> None:
    """Do the jobs that come through the socket ``number`` until its other end is closed; ``usd``: see Process.borrow."""
    # The keyboard's interrupt goes to all processes of a terminal: whoever started this one decides.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, _end)
    from ...formats.usd_process import PROCESS
    from .work import work

    if usd >= 0:
        PROCESS.borrow(usd)
    with Connection(number) as jobs:
        jobs.send("ready")
        while True:
            try:
                job = jobs.recv()
            except (EOFError, OSError):
                return
            jobs.send(work(job))
