"""The process that opens and writes USD files (see usd.server): started when it is first asked, or before.

It loads little, so that the process can load its library while this one loads what it needs itself.
"""

from __future__ import annotations

import atexit
import contextlib
import importlib.util
import json
import os
import socket
import subprocess
import sys
import threading
from collections.abc import Sequence
from pathlib import Path

from ..core.errors import InputError

# Only a process of one thread can be forked safely; and large pages make large arrays quicker.
_SETTINGS = {
    "OPENBLAS_NUM_THREADS": "1",
    "PXR_WORK_THREAD_LIMIT": "1",
    "GLIBC_TUNABLES": "glibc.malloc.hugetlb=1",
}
# Isolated: what lies in the folder that one stands in is never imported, whatever it is called.
_START = f"""
import sys
sys.path[:0] = sys.argv[2:]
from {__package__}.usd.server import main
main(int(sys.argv[1]))
"""
NOT_NOW = "USD files can't be opened or written now: the process for it does not start, or ends."


class Process:
    """Starts the process when it is first needed, and anew should it have ended."""

    def __init__(self) -> None:
        self.process: subprocess.Popen | None = None
        self._requests: socket.socket | None = None
        self._lock = threading.Lock()
        atexit.register(self.stop)

    def prepare(self) -> None:
        """Start the process now; where it can't be started, that is told when it is first asked."""
        with self._lock, contextlib.suppress(InputError, OSError):
            if self.process is None:
                self._start()

    def ask(self, request: dict, files: Sequence[int] = ()) -> socket.socket:
        """The socket that the answer will come through."""
        ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        with theirs, self._lock:
            for _ in range(2):
                if self.process is None or self.process.poll() is not None:
                    self._start()
                assert self._requests is not None
                with contextlib.suppress(OSError):
                    socket.send_fds(self._requests, [json.dumps(request).encode()], [theirs.fileno(), *files])
                    return ours
                self.stop()
        ours.close()
        raise InputError(NOT_NOW)

    def _start(self) -> None:
        if importlib.util.find_spec("pxr") is None:
            raise InputError("USD files need a package that is not installed; get it with: pip install usd-core")
        self._requests, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        with theirs:
            self.process = subprocess.Popen(
                [sys.executable, "-I", "-c", _START, str(theirs.fileno()), *_import_paths()],
                stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
                pass_fds=[theirs.fileno()],
                env={**os.environ, **_SETTINGS},
            )

    def stop(self) -> None:
        """End the process, if there is one."""
        process, self.process = self.process, None
        if process is not None and self._requests is not None:
            self._requests.close()
            process.kill()
            process.wait()


def _import_paths() -> list[str]:
    """Where the process finds us and our packages: where this one does, but for the present folder."""
    root, folder = str(Path(__file__).resolve().parents[2]), os.getcwd()
    return [root, *(p for p in sys.path if os.path.isabs(p) and os.path.realpath(p) not in (folder, root))]


PROCESS = Process()
