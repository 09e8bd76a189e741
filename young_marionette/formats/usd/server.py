"""The process that opens and writes USD files: it makes one of its own for each file, so that a broken file ends nothing else.

The USD library aborts on some damaged files, and can take memory and time without bound. What it needs is loaded
once here; the process of a file is a fork of this one, limited in memory and time, and costs a few milliseconds.
"""

from __future__ import annotations

import contextlib
import functools
import gc
import json
import os
import pickle
import resource
import signal
import socket
import tempfile
from pathlib import Path
from typing import Any

IDLE = 300.0  # seconds; whoever asks later starts a new process
_MEMORY, _TIMES = 500 << 20, 6  # bytes of memory that a file may take: so much, and so many times its size


def _taken() -> Any:
    """Bytes of address space that this process has."""
    with open("/proc/self/statm") as file:
        return int(file.read().split()[0]) * os.sysconf("SC_PAGE_SIZE")


def _limit(size: int, seconds: float) -> None:
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    _, most = resource.getrlimit(resource.RLIMIT_AS)
    resource.setrlimit(resource.RLIMIT_AS, (_taken() + _MEMORY + _TIMES * size, most))
    signal.setitimer(signal.ITIMER_REAL, max(seconds, 1e-3))


def _answer(asker: Any, request: dict[str, Any], files: tuple[int, ...]) -> None:
    """Do what was asked for, and send where the result stands with the memory that holds it; or one sentence."""
    from ...core.errors import InputError

    label = request.get("label", "The file")
    # From here on an end without an answer is the file's fault.
    asker.send(b"begun")
    try:
        if "path" in request:
            _read(asker, request)
        else:
            _write(asker, request, files[0])
    except InputError as error:
        wrong = str(error)
    except Exception as error:
        # A fault of ours, met in a file that nobody thought of: told, and not taken for one of the library.
        doing = "read" if "path" in request else "written"
        wrong = str(InputError(f"{label} can't be {doing} as USD ({type(error).__name__})."))
    asker.send(json.dumps({"wrong": wrong}).encode())


def _read(asker: Any, request: dict[str, Any]) -> None:
    from ...core.errors import InputError
    from .opening import open_usd
    from .parcel import packed

    path = Path(request["path"])
    try:
        size = path.stat().st_size
    except OSError:
        raise InputError(f"{request['label']} is not there any more.") from None
    _limit(size, request["seconds"])
    said = functools.partial(asker.send, b"unpacked")
    with open_usd(path, said, request["label"], Path(request["folder"])) as contents:
        parcel, place = packed(*contents)
        socket.send_fds(asker, [json.dumps({"told": place}).encode()], [parcel])
        # Nothing is put away: the process ends here.
        os._exit(0)


def _write(asker: Any, request: dict[str, Any], sent: Any) -> None:
    from .memory import Writing
    from .writer import files_of

    _limit(request["size"] * 4 + (1 << 30), request["seconds"])
    with os.fdopen(sent, "rb") as file:
        file.seek(0)
        path, *what = pickle.load(file)  # our own process sent it
    store = Writing()
    files = {name: store.put_bytes(data) for name, data in files_of(path, *what).items()}
    store.finish()
    socket.send_fds(asker, [json.dumps({"files": files}).encode()], [store.file])
    os._exit(0)


def _warm() -> None:
    """Load what the library brings in with the first file, so that not every file's process has to."""
    from pxr import Gf, Usd, UsdGeom, UsdSkel

    from .opening import open_usd
    from .parcel import packed

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "first.usdc"
        stage = Usd.Stage.CreateNew(str(path))
        root = UsdSkel.Root.Define(stage, "/Figure").GetPath()
        skeleton = UsdSkel.Skeleton.Define(stage, root.AppendChild("Skeleton"))
        skeleton.CreateJointsAttr(["hips"])
        skeleton.CreateRestTransformsAttr([Gf.Matrix4d(1)])
        motion = UsdSkel.Animation.Define(stage, root.AppendChild("Motion"))
        motion.CreateJointsAttr(["hips"])
        for time in range(2):
            motion.CreateTranslationsAttr().Set([(0, time, 0)], time)
        mesh = UsdGeom.Mesh.Define(stage, root.AppendChild("Mesh"))
        mesh.CreatePointsAttr([(0, 0, 0), (1, 0, 0), (0, 1, 0)])
        mesh.CreateFaceVertexCountsAttr([3])
        mesh.CreateFaceVertexIndicesAttr([0, 1, 2])
        binding = UsdSkel.BindingAPI.Apply(mesh.GetPrim())
        binding.CreateSkeletonRel().SetTargets([skeleton.GetPath()])
        binding.CreateJointIndicesPrimvar(False, 1).Set([0, 0, 0])
        binding.CreateJointWeightsPrimvar(False, 1).Set([1, 1, 1])
        stage.Save()
        with open_usd(path) as contents:
            parcel, _ = packed(*contents)
            os.close(parcel)


def main(number: int) -> None:
    """Answer the requests that come over the socket ``number`` until its other end is closed, or none came for long."""
    _warm()
    requests = socket.socket(fileno=number)
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    gc.freeze()
    requests.settimeout(IDLE)
    while True:
        try:
            message, files, _, _ = socket.recv_fds(requests, 1 << 16, 2)
        except TimeoutError:
            return
        if not message:
            return
        if os.fork() == 0:
            with contextlib.suppress(BaseException):
                requests.close()
                _answer(socket.socket(fileno=files[0]), json.loads(message), tuple(files[1:]))
            os._exit(0)
        for file in files:
            os.close(file)
