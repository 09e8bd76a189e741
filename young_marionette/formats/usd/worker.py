"""Asks the process that opens USD files (see server): what breaks the library there does not touch the user's work."""

from __future__ import annotations

import atexit
import contextlib
import json
import os
import socket
import subprocess
import sys
import threading
import time
from pathlib import Path

from ...core.errors import InputError
from .parcel import unpacked

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
from {__package__}.server import main
main(int(sys.argv[1]))
"""
_NOT_NOW = "USD files can't be opened now: the process for it does not start, or ends."
PATIENCE = 15.0  # seconds for one file, and one more for each of its megabytes


class Worker:
    """Starts the process when it is first needed, and anew should it have ended."""

    def __init__(self):
        self.process, self._requests, self._lock = None, None, threading.Lock()
        atexit.register(self.stop)

    def read(self, path, data=None, textures=None):
        """``(parts, declared, flat layer, textures)`` of a file (see opening); InputError, in one sentence, for any other.

        ``data`` and ``textures`` stand for the layer and the textures, where they are known already.
        """
        path = Path(path).absolute()
        seconds = PATIENCE + path.stat().st_size / 1e6
        # The process may end before it gets to the file, which is no fault of the file's.
        for _ in range(3):
            asked = time.monotonic()
            with self._ask({"path": str(path), "seconds": seconds}) as answers:
                answers.settimeout(seconds + 5)
                begun, (answer, parcels) = _heard(answers)[0], _heard(answers)
                if answer == b"unpacked":
                    # Now a processor is free.
                    data = _plain_layer(path) if data is None else data
                    answer, parcels = _heard(answers)
            if begun:
                break
        if not begun:
            raise InputError(_NOT_NOW)
        if not answer and time.monotonic() - asked >= seconds:
            raise InputError(f"{path.name} can't be read as USD: it took more than {seconds:.0f} seconds.")
        if not answer:
            raise InputError(f"{path.name} can't be read as USD: it is damaged so that the library for it gives up.")
        answer = json.loads(answer)
        if "wrong" in answer:
            raise InputError(answer["wrong"])
        if not parcels:
            raise InputError(f"{path.name} can't be read now: too many files are open.")
        return unpacked(parcels[0], answer["told"], data, textures)

    def _ask(self, request):
        """The socket that the answer will come through."""
        here, there = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        with there, self._lock:
            for _ in range(2):
                if self.process is None or self.process.poll() is not None:
                    self._start()
                with contextlib.suppress(OSError):
                    socket.send_fds(self._requests, [json.dumps(request).encode()], [there.fileno()])
                    return here
                self.stop()
        here.close()
        raise InputError(_NOT_NOW)

    def _start(self):
        self._requests, there = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        with there:
            self.process = subprocess.Popen(
                [sys.executable, "-I", "-c", _START, str(there.fileno()), *_import_paths()],
                stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
                pass_fds=[there.fileno()],
                env={**os.environ, **_SETTINGS},
            )

    def stop(self):
        """End the process, if there is one."""
        process, self.process = self.process, None
        if process is not None:
            self._requests.close()
            process.kill()
            process.wait()


def _import_paths():
    """Where the process finds us and our packages: where this one does, but for the present folder."""
    root, here = str(Path(__file__).resolve().parents[3]), os.getcwd()
    return [root, *(p for p in sys.path if os.path.isabs(p) and os.path.realpath(p) not in (here, root))]


def _plain_layer(path):
    """The bytes of a file that is one binary layer; None for any other."""
    with contextlib.suppress(OSError), open(path, "rb") as file:
        if file.read(8) == b"PXR-USDC":
            file.seek(0)
            return file.read()
    return None


def _heard(answers):
    """``(message, [parcel])``: the next message; empty where the other side ended without one, or takes too long."""
    with contextlib.suppress(OSError):
        message, parcels, _, _ = socket.recv_fds(answers, 1 << 16, 1)
        return message, parcels
    return b"", []


WORKER = Worker()
