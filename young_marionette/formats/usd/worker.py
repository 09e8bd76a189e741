"""A process of its own that opens USD files: what breaks the library there ends a worker, and not the user's work."""

from __future__ import annotations

import atexit
import json
import os
import select
import shutil
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

from ...core.errors import InputError
from .parcel import packed, unpacked

PATIENCE = 15.0  # seconds for one file, and one more for each of its megabytes
_MEMORY, _TIMES = 3 << 29, 16  # what a file may take: so much, and so many times its size


class Worker:
    """Starts the process when it is first needed, and anew after it broke."""

    def __init__(self):
        self._process, self._lock = None, threading.Lock()
        atexit.register(self.stop)

    def read(self, path, textures=None):
        """``(parts, declared, flat layer, textures)`` of a file (see opening); InputError, in one sentence, for any other."""
        folder = tempfile.mkdtemp(prefix="young-marionette-")
        try:
            with self._lock:
                answer = self._ask({"path": str(Path(path).absolute()), "out": folder}, Path(path).name)
            if answer:
                raise InputError(answer)
            return unpacked(Path(folder), textures)
        finally:
            shutil.rmtree(folder, ignore_errors=True)

    def _ask(self, request, label):
        if self._process is None or self._process.poll() is not None:
            self._start()
        broken = f"{label} can't be read as USD: it is damaged so that the library for it gives up."
        try:
            self._process.stdin.write(json.dumps(request).encode() + b"\n")
            self._process.stdin.flush()
        except (BrokenPipeError, OSError):
            self.stop()
            return broken
        patience = PATIENCE + Path(request["path"]).stat().st_size / 1e6
        line, end = b"", time.monotonic() + patience
        while not line.endswith(b"\n"):
            ready, _, _ = select.select([self._process.stdout], [], [], max(end - time.monotonic(), 0))
            if not ready:
                self.stop()
                return f"{label} can't be read as USD: it took more than {patience:.0f} seconds."
            part = os.read(self._process.stdout.fileno(), 1 << 16)
            if not part:
                self.stop()
                return broken
            line += part
        return json.loads(line)

    def _start(self):
        root = str(Path(__file__).resolve().parents[3])
        paths = [root, *filter(None, [os.environ.get("PYTHONPATH")])]
        self._process = subprocess.Popen(
            [sys.executable, "-m", "young_marionette.formats.usd.worker"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            env={**os.environ, "PYTHONPATH": os.pathsep.join(paths)},
        )

    def stop(self):
        """End the process, if there is one."""
        process, self._process = self._process, None
        if process is not None:
            process.kill()
            process.wait()
            process.stdin.close()
            process.stdout.close()


WORKER = Worker()


def _taken():
    """Bytes of address space that this process has."""
    with open("/proc/self/statm") as file:
        return int(file.read().split()[0]) * os.sysconf("SC_PAGE_SIZE")


def main():
    """Answer requests, one line each: an empty sentence when the parcel lies in its folder, else what was wrong."""
    import resource

    from pxr import Usd, UsdGeom, UsdShade, UsdSkel, UsdUtils  # noqa: F401 - what they take is not a file's doing

    from .opening import open_usd

    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    answers = os.fdopen(os.dup(1), "wb")
    # Whatever the library prints must not stand among the answers.
    os.dup2(2, 1)
    for line in sys.stdin.buffer:
        request = json.loads(line)
        size = Path(request["path"]).stat().st_size
        _, most = resource.getrlimit(resource.RLIMIT_AS)
        resource.setrlimit(resource.RLIMIT_AS, (_taken() + _MEMORY + _TIMES * size, most))
        try:
            packed(Path(request["out"]), *open_usd(Path(request["path"])))
            answer = ""
        except InputError as error:
            answer = str(error)
        answers.write(json.dumps(answer).encode() + b"\n")
        answers.flush()


if __name__ == "__main__":
    main()
