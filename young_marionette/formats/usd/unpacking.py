"""Arrays of USD attributes, each unpacked once; in large files by two processes, since the library unpacks one at a time."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import socket
from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np

from ...core.errors import InputError
from .memory import Reading, Writing

_LARGE = 1 << 23  # bytes of a file that is worth a second process
_MOST = 20_000  # attributes that are shared out


class Arrays:
    """Values of attributes by their place in the stage."""

    def __init__(self) -> None:
        self._known = {}

    def of(self, attribute: Any, kind: type, width: int = 1) -> np.ndarray:
        """``(n, width)``, or ``(n,)`` for a width of 1, as ``kind``; uncopied where nothing has to be changed."""
        values = self._known.pop(attribute.GetPath(), None)
        if values is None:
            values = attribute.Get()
            values = np.asarray(values if values is not None else [])
        values = values.astype(kind, copy=False)
        return values if width == 1 else values.reshape(-1, width)

    def prepare(self, attributes: Sequence[Any], size: int, label: str) -> None:
        """Unpack the attributes of a file of ``size`` bytes, so that ``of`` has them at hand."""
        attributes = [a for a in attributes if a and a.HasAuthoredValue()][:_MOST]
        if size < _LARGE or len(attributes) < 2:
            return
        todo, fill = os.pipe()
        os.set_blocking(fill, False)
        # Whoever is free takes the next number; two bytes are read as one.
        os.write(fill, np.arange(len(attributes), dtype=np.uint16).tobytes())
        os.close(fill)
        ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        if os.fork() == 0:
            with contextlib.suppress(BaseException):
                _help(attributes, todo, theirs)
            os._exit(0)
        theirs.close()
        for number in _numbers(todo):
            self._known[attributes[number].GetPath()] = np.asarray(attributes[number].Get())
        os.close(todo)
        with ours:
            message, files, _, _ = socket.recv_fds(ours, 1 << 20, 1)
        if not message:
            raise InputError(f"{label} can't be read as USD: it is damaged in a way that makes the USD library fail.")
        store = Reading(files[0])
        for number, place in json.loads(store.get_bytes(json.loads(message))):
            self._known[attributes[number].GetPath()] = store.get(place)


def _numbers(pipe: int) -> Iterator[int]:
    while part := os.read(pipe, 2):
        yield int(np.frombuffer(part, np.uint16)[0])


def _help(attributes: Sequence[Any], todo: Any, answers: socket.socket) -> None:
    """What the second process does; it has no more time than the first."""
    left, _ = signal.getitimer(signal.ITIMER_REAL)
    signal.setitimer(signal.ITIMER_REAL, left)
    store = Writing()
    places = [[number, store.put(np.asarray(attributes[number].Get()))] for number in _numbers(todo)]
    listed = store.put_bytes(json.dumps(places).encode())
    store.finish()
    socket.send_fds(answers, [json.dumps(listed).encode()], [store.file])
