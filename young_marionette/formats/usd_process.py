"""The process that opens and writes USD files (see usd.server): started when it is first asked, or before.

It loads little, so that the process can load its library while this one loads what it needs itself.
"""

from __future__ import annotations

import atexit
import contextlib
import importlib.util
import json
import socket
import subprocess
import threading
from collections.abc import Sequence

from ..core.errors import InputError
from .child import start

# Only a process of one thread can be forked safely; and large pages make large arrays quicker.
_SETTINGS = {
    "OPENBLAS_NUM_THREADS": "1",
    "PXR_WORK_THREAD_LIMIT": "1",
    "GLIBC_TUNABLES": "glibc.malloc.hugetlb=1",
}
NOT_NOW = "USD files can't be opened or written now: the process for it does not start, or ends."


class Process:
    """Starts the process when it is first needed, and anew should it have ended."""

    def __init__(self) -> None:
        self.process: subprocess.Popen | None = None
        self._requests: socket.socket | None = None
        self._lent = False  # the process is another one's, who lets us ask it
        self._lock = threading.Lock()
        atexit.register(self.stop)

    def prepare(self) -> None:
        """Start the process now; where it can't be started, that is told when it is first asked."""
        with self._lock, contextlib.suppress(InputError, OSError):
            if self.process is None:
                self._start()

    def shared(self) -> int:
        """The number of the socket that requests go to, for other processes that may ask it too; -1 where there is none."""
        self.prepare()
        return self._requests.fileno() if self._requests is not None else -1

    def borrow(self, number: int) -> None:
        """Ask the process of another one, through the socket that it gave us."""
        self._requests, self._lent = socket.socket(fileno=number), True

    def ask(self, request: dict, files: Sequence[int] = ()) -> socket.socket:
        """The socket that the answer will come through."""
        ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        with theirs, self._lock:
            for _ in range(2):
                if not self._lent and (self.process is None or self.process.poll() is not None):
                    self._start()
                assert self._requests is not None
                with contextlib.suppress(OSError):
                    socket.send_fds(self._requests, [json.dumps(request).encode()], [theirs.fileno(), *files])
                    return ours
                # It has ended. One that was lent is replaced by one of our own.
                self._lent = False
                self.stop()
        ours.close()
        raise InputError(NOT_NOW)

    def _start(self) -> None:
        if importlib.util.find_spec("pxr") is None:
            raise InputError("USD files need a package that is not installed; get it with: pip install usd-core")
        self._requests, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        with theirs:
            self.process = start(f"{__package__}.usd.server", [theirs.fileno()], _SETTINGS)

    def stop(self) -> None:
        """End the process, if there is one."""
        process, self.process = self.process, None
        requests, self._requests = self._requests, None
        if requests is not None:
            requests.close()
        if process is not None:
            process.kill()
            process.wait()


PROCESS = Process()
