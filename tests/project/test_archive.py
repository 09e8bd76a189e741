"""Appended archives: whatever a cut or a full disk leaves behind, the project opens as it was before."""

import errno
import io
import zipfile
from unittest import mock

import numpy as np

from tests.support import Case
from young_marionette.project.archive import DOCUMENT, Direct, append, whole_archive


def packed(rng, count, document=False):
    """An archive as a blob: some files, as a USDZ has them, or a whole project of somebody's."""
    held = io.BytesIO()
    with zipfile.ZipFile(held, "w") as archive:
        for n in range(count):
            archive.writestr(f"part{n}.usdc", rng.bytes(int(rng.integers(0, 60))))
        if document:
            archive.writestr(DOCUMENT, b"{}")
    return held.getvalue() + (b"" if rng.random() < 0.5 else rng.bytes(8))


class Appending(Case):
    def begun(self, rng):
        path = self.folder / "show.marionette"
        with zipfile.ZipFile(path, "w") as archive:
            archive.writestr("blobs/first.bin", packed(rng, 2))
            archive.writestr(DOCUMENT, b'{"saved": 1}')
        return path

    def saved(self, path, rng, blobs):
        end = path.stat().st_size
        with zipfile.ZipFile(path) as archive:
            parts = [p for p in archive.infolist() if p.filename.startswith("blobs/")]

        def fill(archive):
            for n in range(blobs):
                archive.writestr(f"blobs/more{n}.bin", packed(rng, 1 + n % 3, document=n % 4 == 3))
            archive.writestr(DOCUMENT, b'{"saved": 2}')

        with Direct(path, "r+b") as file:
            append(file, end, parts, fill)
        return end

    def opened(self, path):
        """``(the document, whether it closes the file, names)`` of what is found in a file."""
        with open(path, "rb") as handle, whole_archive(handle) as found:
            if found is None:
                return None
            archive, closes = found
            return archive.read(DOCUMENT), closes, len(archive.namelist())

    def test_every_cut_of_an_appended_save(self):
        for blobs, step in ((1, 1), (18, 3), (40, 11)):
            rng = np.random.default_rng(blobs)
            path = self.begun(rng)
            end = self.saved(path, rng, blobs)
            data = path.read_bytes()
            self.assertEqual(self.opened(path), (b'{"saved": 2}', True, blobs + 2))
            cut = self.folder / "cut.marionette"
            near = {len(data) - k for k in range(1, 120)}
            for size in sorted({*range(end, len(data), step), *near} - {len(data)}):
                cut.write_bytes(data[:size])
                self.assertEqual(self.opened(cut), (b'{"saved": 1}', size == end, 2), (blobs, size))
            path.unlink()

    def test_a_disk_that_fills_at_any_size(self):
        rng = np.random.default_rng(3)
        path = self.begun(rng)
        before = path.read_bytes()
        write = io.FileIO.write
        whole = self.folder / "whole.marionette"
        whole.write_bytes(before)
        need = self.saved(whole, np.random.default_rng(4), 6)
        need = whole.stat().st_size - need
        for room in range(0, need, 7):
            left = [room]

            def full(file, data, left=left):
                if not left[0]:
                    raise OSError(errno.ENOSPC, "No space left on device")
                count = min(len(data), left[0])
                left[0] -= count
                return write(file, bytes(data)[:count])

            with _patched(full), self.assertRaises(OSError):
                self.saved(path, np.random.default_rng(4), 6)
            self.assertEqual(path.read_bytes(), before, room)

    def test_parts_that_are_not_there(self):
        """A directory that speaks of more than the file holds is none."""
        rng = np.random.default_rng(5)
        path = self.begun(rng)
        data = bytearray(path.read_bytes())
        at = data.rfind(b"PK\x01\x02")
        data[at + 20 : at + 24] = (10**6).to_bytes(4, "little")
        path.write_bytes(data)
        self.assertIsNone(self.opened(path))


def _patched(write):
    """Direct files that write by ``write``."""

    class Full(Direct):
        def write(self, data):
            view, done = memoryview(data).cast("B"), 0
            while done < len(view):
                done += write(self, view[done:])
            return len(view)

    return mock.patch("tests.project.test_archive.Direct", Full)
