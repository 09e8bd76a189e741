"""Where the large parts of a project lie: sets of arrays, and files as they were read, each named by its content.

What has a name is never changed, so that whoever has it already need not be given it again. A set of arrays is a
group of ``.npy`` files, a file one ``.bin``; nothing is packed, so that sizes are known before anything is read.
"""

from __future__ import annotations

import io
import zipfile
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ..core.errors import InputError
from ..formats.files import Output, write_together

Arrays = dict[str, np.ndarray]
_HEADER = 1 << 16


@dataclass(frozen=True)
class Blob:
    """A part with a name of its content; ``make`` gives its arrays, or its bytes, when they are to be written.

    Arrays without anything in them are left out.
    """

    name: str
    make: Callable[[], Arrays | bytes]

    def files(self) -> Iterable[tuple[str, list[bytes | memoryview]]]:
        """``(place, chunks of bytes)`` of the files that it is written as."""
        made = self.make()
        if isinstance(made, bytes):
            yield f"{self.name}.bin", [made]
            return
        for key, array in made.items():
            if array.size:
                array, header = _narrowed(array), io.BytesIO()
                np.lib.format.write_array_header_1_0(header, np.lib.format.header_data_from_array_1_0(array))
                yield f"{self.name}/{key}.npy", [header.getvalue(), array.reshape(-1).view(np.uint8).data]


def _narrowed(array: np.ndarray) -> np.ndarray:
    """Half as large where not a bit is lost by it, as with motion that was read from binary files."""
    array = np.ascontiguousarray(array)
    few = array.ravel()[:64]
    if array.dtype == np.float64 and np.array_equal(few.astype(np.float32), few, equal_nan=True):
        narrow = array.astype(np.float32)
        if np.array_equal(narrow, array, equal_nan=True):
            return narrow
    return array


def _array(data: bytes) -> np.ndarray:
    """An array of an ``.npy`` file's bytes: as many as it tells of, or ValueError; never code."""
    stream = io.BytesIO(data)
    version = np.lib.format.read_magic(stream)
    read_header = {(1, 0): np.lib.format.read_array_header_1_0, (2, 0): np.lib.format.read_array_header_2_0}
    shape, columns_first, kind = read_header[version](stream, max_header_size=_HEADER)
    if kind.kind not in "fiub" or int(np.prod(shape, dtype=object)) * kind.itemsize != len(data) - stream.tell():
        raise ValueError("an array of another size than it tells")
    array = np.frombuffer(data, kind, offset=stream.tell())
    return array.reshape(shape[::-1]).T if columns_first else array.reshape(shape)


class ZipBlobs:
    """Blobs in the folder ``blobs/`` of a zip."""

    def __init__(self, archive: zipfile.ZipFile) -> None:
        self._archive, self._groups = archive, {}
        for part in archive.infolist():
            if part.filename.startswith("blobs/"):
                if part.compress_type != zipfile.ZIP_STORED or part.file_size != part.compress_size:
                    raise InputError(f"{Path(archive.filename or 'The project').name} is damaged: its data are packed.")
                self._groups.setdefault(part.filename.rsplit("/", 1)[0], []).append(part)

    def arrays(self, name: str) -> Arrays:
        parts = self._groups[f"blobs/{name}"]
        return {Path(p.filename).stem: _array(self._archive.read(p)) for p in parts if p.filename.endswith(".npy")}

    def data(self, name: str) -> bytes:
        return self._archive.read(f"blobs/{name}.bin")


class FolderBlobs:
    """Blobs in a folder, to which those that are not there yet can be added."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def arrays(self, name: str) -> Arrays:
        files = sorted((self.folder / name).glob("*.npy"))
        if not files:
            raise KeyError(name)
        return {p.stem: _array(p.read_bytes()) for p in files}

    def data(self, name: str) -> bytes:
        try:
            return (self.folder / f"{name}.bin").read_bytes()
        except FileNotFoundError:
            raise KeyError(name) from None

    def add(self, blobs: Iterable[Blob], stop: Callable[[], None] = lambda: None) -> None:
        """Write what is not there; ``stop`` may raise to end it between two blobs."""
        for blob in blobs:
            stop()
            if (self.folder / f"{blob.name}.bin").exists() or (self.folder / blob.name).is_dir():
                continue
            files = list(blob.files())
            if files[0][0].endswith(".bin"):
                write_together([Output(self.folder / place, chunks) for place, chunks in files])
                continue
            # A set is there whole or not at all: it is made under another name.
            new = self.folder / f"{blob.name}.new"
            new.mkdir(exist_ok=True)
            write_together([Output(new / Path(place).name, chunks) for place, chunks in files])
            new.rename(self.folder / blob.name)

    def keep_only(self, names: set[str]) -> None:
        """Remove what no longer belongs to anything."""
        for path in self.folder.iterdir():
            if path.name.removesuffix(".bin") not in names:
                if path.is_dir():
                    for part in path.iterdir():
                        part.unlink(missing_ok=True)
                    path.rmdir()
                else:
                    path.unlink(missing_ok=True)


Blobs = ZipBlobs | FolderBlobs  # both have ``arrays(name)`` and ``data(name)``; KeyError where there is none
