"""Asks the process that opens and writes USD files (see server): what breaks the library there does not touch the user's work."""

from __future__ import annotations

import contextlib
import json
import os
import pickle
import socket
import tempfile
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ...core.errors import InputError
from ...core.text import shown
from ..files import Output, status_of
from ..usd_process import NOT_NOW, PROCESS
from ..wanted import MOTION_ALONE, Wanted
from .memory import Reading
from .parcel import unpacked

if TYPE_CHECKING:
    from ...core.clip import Clip
    from ...core.figure.declared import Declared
    from ...core.keys.keyed import KeyedClip
    from .reader import UsdLayout


PATIENCE = 4.0  # seconds for a file to be read, and one more for each four megabytes of it
WRITING_PATIENCE = 60.0  # what is written is our own: only a library that hangs takes so long


class Worker:
    """Asks the process (see usd_process), which is started anew should it have ended."""

    @property
    def process(self) -> Any:
        return PROCESS.process

    def read(
        self, path: Path | str, data: bytes | None = None, textures: dict[str, bytes] | None = None
    ) -> tuple[list[Any], Declared, Any, dict[str, bytes], list[str]]:
        """``(parts, declared, flat layer, textures, layers)`` of a file (see opening); InputError, in one sentence, for any other.

        ``data`` and ``textures`` stand for the layer and the textures, where they are known already.
        """
        path = Path(path).absolute()
        status = status_of(path)
        if status is None:
            raise InputError(f"There is no file {path}.")
        seconds, label = PATIENCE + status.st_size / 4e6, shown(path.name)
        with _clean_name(path) as clean:
            request = {"path": str(clean), "label": label, "folder": str(path.parent), "seconds": seconds}

            def unpacked_is_said() -> None:
                # Now a processor is free.
                nonlocal data
                data = _plain_layer(path) if data is None else data

            failures = {
                "late": f"{label} can't be read as USD: it took more than {seconds:.0f} seconds.",
                "ended": f"{label} can't be read as USD: it is damaged in a way that makes the USD library fail.",
                "none": f"{label} can't be read now: too many files are open.",
            }
            answer, parcel = self._answer(request, (), seconds, failures, unpacked_is_said)
        return unpacked(parcel, answer["told"], data, textures)

    def write(self, path: Path, *what: Any) -> dict[str, bytes]:
        """``{name: bytes}`` of the files that ``writer.files_of`` makes of a path and ``what``."""
        sent = os.memfd_create("motion")
        with os.fdopen(sent, "w+b") as file:
            pickle.dump((Path(path).absolute(), *what), file, protocol=5)
            file.flush()
            size, label = file.tell(), shown(Path(path).name)
            seconds = WRITING_PATIENCE + size / 2e6
            failures = {
                "late": f"{label} can't be written as USD: it took more than {seconds:.0f} seconds.",
                "ended": f"{label} can't be written as USD: the USD library fails.",
                "none": f"{label} can't be written now: too many files are open.",
            }
            answer, parcel = self._answer({"size": size, "seconds": seconds}, (file.fileno(),), seconds, failures)
        store = Reading(parcel)
        return {name: store.get_bytes(place) for name, place in answer["files"].items()}

    def _answer(
        self,
        request: dict[str, Any],
        files: tuple[int, ...],
        seconds: float,
        failures: dict[str, str],
        unpacked_is_said: Callable[..., Any] = lambda: None,
    ) -> tuple[dict[str, Any], int]:
        """``(answer, parcel)`` to a request that sends open ``files`` along; InputError with one of ``failures``."""
        # The process may end before it gets to the request, which is nobody's fault but its own.
        for _ in range(3):
            asked = time.monotonic()
            with PROCESS.ask(request, files) as answers:
                answers.settimeout(seconds + 5)
                begun, (answer, parcels) = _heard(answers)[0], _heard(answers)
                if answer == b"unpacked":
                    unpacked_is_said()
                    answer, parcels = _heard(answers)
            if begun:
                break
        if not begun:
            raise InputError(NOT_NOW)
        if not answer:
            raise InputError(failures["late" if time.monotonic() - asked >= seconds else "ended"])
        answer = json.loads(answer)
        if "wrong" in answer:
            raise InputError(answer["wrong"])
        if not parcels:
            raise InputError(failures["none"])
        return answer, parcels[0]


def _plain_layer(path: Path) -> bytes | None:
    """The bytes of a file that is one binary layer; None for any other."""
    with contextlib.suppress(OSError), open(path, "rb") as file:
        if file.read(8) == b"PXR-USDC":
            file.seek(0)
            return file.read()
    return None


def _heard(answers: socket.socket) -> tuple[bytes, list[int]]:
    """``(message, [parcel])``: the next message; empty where the other side ended without one, or takes too long."""
    with contextlib.suppress(OSError):
        message, parcels, _, _ = socket.recv_fds(answers, 1 << 16, 1)
        return message, parcels
    return b"", []


@contextlib.contextmanager
def _clean_name(path: Path) -> Iterator[Path]:
    """A path to the same file that the USD library can take: it knows only names that are UTF-8."""
    try:
        str(path).encode()
        yield path
    except UnicodeEncodeError:
        with tempfile.TemporaryDirectory() as folder:
            clean = Path(folder) / f"file{path.suffix.lower()}"
            clean.symlink_to(path)
            yield clean


WORKER = Worker()


def encode(
    path: Path, clip: Clip | KeyedClip, layout: UsdLayout | None = None, wanted: Wanted = MOTION_ALONE
) -> list[Output]:
    """The files (list of Output) of a clip, see ``writer.files_of``; the textures beside it in a folder of their own."""
    if layout is not None:
        layout = replace(layout, character=None)  # its file has it
    path = Path(path)
    files = WORKER.write(path, clip, layout, wanted)
    # The textures first: a file is never there without what it speaks of.
    names = sorted(files, key=lambda name: name == path.name)
    outputs = [Output(path.parent / name, [files[name]], in_folder=name != path.name) for name in names]
    return [o for o, name in zip(outputs, names) if not (o.in_folder and _holds(o.path, files[name]))]


def _holds(path: Path, data: bytes) -> bool:
    """Whether just these bytes lie at a path, which is no link out of its folder."""
    return not path.parent.is_symlink() and path.is_file() and path.read_bytes() == data
