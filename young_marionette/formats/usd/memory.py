"""Arrays in one piece of memory that another process can be handed, without a file on disk."""

from __future__ import annotations

import mmap
import os
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np

_LARGE, _ALIGNED = 1 << 20, 64


class Writing:
    """Arrays and bytes, each told by ``[place, kind, shape]``, written one after the other into a nameless file in memory."""

    def __init__(self) -> None:
        self.file, self.end, self._todo = os.memfd_create("parcel"), 0, []

    def put(self, array: np.ndarray | None) -> Any:
        """Where an array will stand; None for None. It must not change before ``finish``."""
        if array is None:
            return None
        array = np.ascontiguousarray(array)
        place, self.end = self.end, -(-(self.end + array.nbytes) // _ALIGNED) * _ALIGNED
        self._todo.append((place, array))
        return [place, array.dtype.str, list(array.shape)]

    def put_bytes(self, data: bytes | None) -> Any:
        """Where bytes will stand; None for None."""
        return self.put(None if data is None else np.frombuffer(data, np.uint8))

    def finish(self) -> None:
        """Write all that was put."""
        os.ftruncate(self.file, max(self.end, 1))
        with ThreadPoolExecutor(2) as pool:
            list(pool.map(self._write, self._todo))

    def _write(self, part: tuple[int, np.ndarray]) -> None:
        place, array = part
        rest = array.data.cast("B") if array.size else memoryview(b"")
        while len(rest):
            done = os.pwrite(self.file, rest, place)
            rest, place = rest[done:], place + done


class Reading:
    """The counterpart of Writing: large arrays are views of the memory itself, small ones copies that do not keep it."""

    def __init__(self, file: int) -> None:
        try:
            flags = mmap.MAP_SHARED | mmap.MAP_POPULATE
            self.memory = mmap.mmap(file, 0, flags=flags, prot=mmap.PROT_READ)
        finally:
            os.close(file)

    def get(self, entry: list[Any] | None) -> Any:
        """The array that ``put`` told so."""
        if entry is None:
            return None
        place, kind, shape = entry
        array = np.frombuffer(self.memory, kind, int(np.prod(shape)), place).reshape(shape)
        return array if array.nbytes > _LARGE else array.copy()

    def get_bytes(self, place: list[Any] | None) -> Any:
        """The bytes that ``put_bytes`` told so."""
        return None if place is None else self.get(place).tobytes()
