"""The archive that a project file is: which of the directories in it is the last whole one, and how it is appended to.

Saving again appends new parts, the document and a new directory. Where that was cut off, the directory before it counts. Parts
may be archives themselves (a USDZ is one), with directories of their own: one of a project closes all that is before it, from
the first byte on, and lists the document.
"""

from __future__ import annotations

import io
import mmap
import os
import struct
import zipfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any, BinaryIO

DOCUMENT = "project.json"
_END, _SIGNATURE = 22, b"PK\x05\x06"
_LOCATOR = b"PK\x06\x07"
_LOCAL, _LOCAL_SIZE = b"PK\x03\x04", 30


class Part(io.RawIOBase):
    """The first ``size`` bytes of something that is mapped into memory, as a file."""

    def __init__(self, data: mmap.mmap, size: int) -> None:
        self._data, self._size, self._at = data, size, 0

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def seek(self, offset: int, whence: int = os.SEEK_SET) -> int:
        start = {os.SEEK_SET: 0, os.SEEK_CUR: self._at, os.SEEK_END: self._size}[whence]
        if start + offset < 0:
            raise OSError("a place before the beginning")
        self._at = start + offset
        return self._at

    def tell(self) -> int:
        return self._at

    def readinto(self, buffer: Any) -> int:
        view = memoryview(buffer).cast("B")
        count = max(min(len(view), self._size - self._at), 0)
        view[:count] = self._data[self._at : self._at + count]
        self._at += count
        return count


@contextmanager
def whole_archive(handle: BinaryIO) -> Iterator[tuple[zipfile.ZipFile, bool] | None]:
    """``(the archive of the last whole directory, whether it closes the file)``; None where a file has none."""
    size = handle.seek(0, os.SEEK_END)
    if size < _END:
        yield None
        return
    with mmap.mmap(handle.fileno(), size, access=mmap.ACCESS_READ) as data:
        for end in _ends(data, size):
            archive = _opened(data, end)
            if archive is not None:
                with archive:
                    yield archive, end == size
                return
        yield None


def _ends(data: mmap.mmap, size: int) -> Iterator[int]:
    """Where directories may end, the last first: behind each record that fits what is before it."""
    place = size
    while (place := data.rfind(_SIGNATURE, 0, place)) >= 0:
        if place + _END > size or data[place + 20 : place + _END] != b"\0\0":
            continue
        length, start = struct.unpack_from("<II", data, place + 12)
        # Of an archive with more than the old kind of directory can hold, the new kind stands before it.
        large = 0xFFFFFFFF in (length, start) or data[max(place - 20, 0) : place][:4] == _LOCATOR
        if large or (length and start + length == place):
            yield place + _END


def _opened(data: mmap.mmap, end: int) -> zipfile.ZipFile | None:
    """The archive of all bytes up to ``end`` where that is a project's, all of whose parts are there; else None."""
    try:
        archive = zipfile.ZipFile(io.BufferedReader(Part(data, end)))
    except (zipfile.BadZipFile, OSError, ValueError, struct.error, NotImplementedError, UnicodeDecodeError):
        return None
    parts = archive.infolist()
    if not any(p.filename == DOCUMENT for p in parts) or not all(_is_there(data, p, archive.start_dir) for p in parts):
        archive.close()
        return None
    return archive


def _is_there(data: mmap.mmap, part: zipfile.ZipInfo, end: int) -> bool:
    """Whether a part lies where its directory says, whole, before ``end``: measured from the first byte of the file."""
    at = part.header_offset
    if at < 0 or at + _LOCAL_SIZE > end or data[at : at + 4] != _LOCAL:
        return False
    name, extra = struct.unpack_from("<HH", data, at + 26)
    return at + _LOCAL_SIZE + name + extra + part.compress_size <= end


class Direct(io.FileIO):
    """A file without a buffer, so that what could not be written is not written later either."""

    def write(self, data: object) -> int:
        view = memoryview(data).cast("B")  # type: ignore[arg-type]
        done = 0
        while done < len(view):
            done += super().write(view[done:]) or 0
        return len(view)


def append(file: Direct, end: int, parts: list[zipfile.ZipInfo], fill: Callable[[zipfile.ZipFile], None]) -> None:
    """Append an archive behind ``end`` that has some parts of what is before it, and what ``fill`` adds; synced.

    Where that fails, the file is cut off at ``end`` again.
    """
    file.seek(end)
    archive = zipfile.ZipFile(file, "w")
    try:
        archive.filelist[:] = parts
        archive.NameToInfo.update({p.filename: p for p in parts})
        fill(archive)
        archive.close()
        os.fsync(file.fileno())
    except BaseException:
        archive.fp = None  # which else writes its directory when it is closed
        os.ftruncate(file.fileno(), end)
        raise
