"""Reading and writing files so that nothing is lost: clear refusals, and writes that are whole or not there.

Several files of one piece of work (a file and its textures, a clip and its stringing) are written together: all of
them, or none.
"""

from __future__ import annotations

import contextlib
import fcntl
import filecmp
import os
import stat
import tempfile
import threading
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from ..core.errors import InputError

# Short, so that any name that the system allows can be written; the lock tells the living from the dead.
PART_PREFIX, PART_SUFFIX = ".young-marionette-", ".part"
_YOUNG = 30.0  # seconds


class AlreadyThere(InputError):
    """A file exists, and replacing it was not asked for."""

    def __init__(self, path: Path | str) -> None:
        super().__init__(f"{path} exists already and was left as it is; ask for overwriting to replace it.")


@contextmanager
def opened(path: Path | str) -> Iterator[BinaryIO]:
    """Open a file for reading bytes; InputError, in one sentence, where that can't be done."""
    path = Path(path)
    try:
        if path.is_dir():
            raise InputError(f"{path.name} is a folder, not a file.")
        if path.exists() and not path.is_file():
            raise InputError(f"{path.name} is not a plain file.")
        with open(path, "rb") as file:
            yield file
    except FileNotFoundError:
        raise InputError(f"There is no file {path}.") from None
    except PermissionError:
        raise InputError(f"{path.name} may not be read: permission was denied.") from None
    except (OSError, ValueError) as error:
        raise InputError(f"{path.name} can't be read: {_why(error)}.") from None


def _why(error: Exception) -> str:
    return getattr(error, "strerror", None) or str(error)


def status_of(path: Path | str) -> os.stat_result | None:
    """What lies at a path, or None; InputError for a path that the system does not take, such as one too long."""
    try:
        return os.stat(path)
    except (FileNotFoundError, NotADirectoryError):
        return None
    except OSError as error:
        raise InputError(f"{path} can't be used: {_why(error)}.") from None
    except ValueError as error:
        raise InputError(f"{path} is not a valid path: {error}.") from None


def check_free(path: Path | str, overwrite: bool = False) -> None:
    """Refuse (InputError) a path that exists, unless overwriting was asked for, and one that can't be written."""
    status = status_of(path)
    if status is not None and stat.S_ISDIR(status.st_mode):
        raise InputError(f"{path} is a folder; give a file name.")
    if status is not None and not overwrite:
        raise AlreadyThere(path)
    folder = status_of(Path(path).parent)
    if folder is None or not stat.S_ISDIR(folder.st_mode):
        raise InputError(f"There is no folder {Path(path).parent}.")


def same_place(a: Path | str, b: Path | str) -> bool:
    """Whether two paths lead to one place, through links of any kind, whether or not something is there."""
    if os.path.realpath(a) == os.path.realpath(b):
        return True
    with contextlib.suppress(OSError, ValueError):
        return os.path.samefile(a, b)
    return False


def check_results(results: Iterable[Path | str | None], inputs: Iterable[Path | str | None]) -> None:
    """InputError where a result would replace a file that is read, or two results go to one place; None is passed over."""
    wanted = [r for r in results if r is not None]
    for i, result in enumerate(wanted):
        for path in inputs:
            if path is not None and same_place(result, path):
                raise InputError(f"{result} is one of the files that are read; give the result a name of its own.")
        for other in wanted[:i]:
            if same_place(result, other):
                raise InputError(f"Two results would be written to {result}; give each a name of its own.")


@dataclass
class Output:
    """A file to be written: its bytes in ``chunks``, or by ``fill``, which is given the open file.

    ``in_folder``: its folder is made where it is not there.
    """

    path: Path
    chunks: Iterable[bytes | memoryview] = ()
    in_folder: bool = False
    fill: Callable[[BinaryIO], None] | None = None


def write_whole(path: Path | str, chunks: Iterable[bytes | memoryview]) -> None:
    """Write bytes to ``path``: into a new file beside it, synced, then renamed over it."""
    write_together([Output(Path(path), chunks)])


def write_together(outputs: Iterable[Output], again: bool = False) -> None:
    """Write several files: all are there, whole, or all is as it was (InputError).

    ``again``: an earlier try may have been cut off after some: files that are there with the same bytes stay, others are
    not replaced (AlreadyThere).
    """
    writes = _Writes()
    try:
        for output in outputs:
            with _told(output.path):
                writes.prepare(output)
        if again:
            writes.keep_same()
        writes.put_in_place()
    except BaseException:
        writes.take_back()
        raise
    finally:
        writes.close()


@contextmanager
def _told(path: Path) -> Iterator[None]:
    """Failures of the system as one sentence about a path."""
    try:
        yield
    except FileNotFoundError:
        raise InputError(f"There is no folder {path.parent}.") from None
    except PermissionError:
        raise InputError(f"{path} may not be written: permission was denied.") from None
    except OSError as error:
        raise InputError(f"{path} can't be written: {_why(error)}.") from None


class _Writes:
    """Files on their way: first all under other names, then each in its place, with a way back."""

    def __init__(self) -> None:
        self._ready: list[tuple[Path, Path]] = []  # (target, new file)
        self._placed: list[tuple[Path, Path | None]] = []  # (target, the old file kept aside)
        self._folders: list[Path] = []
        self._locks: list[int] = []

    def prepare(self, output: Output) -> None:
        """Write a file beside its target, synced."""
        target = output.path
        if output.in_folder:
            self._make_folder(target.parent)
        # A link stays a link: what it points to is replaced.
        target = Path(os.path.realpath(target)) if target.is_symlink() else target
        sweep(target.parent)
        handle, name = tempfile.mkstemp(prefix=_own_prefix(os.getpid()), suffix=PART_SUFFIX, dir=target.parent)
        self._ready.append((target, Path(name)))
        self._locks.append(os.dup(handle))
        with contextlib.suppress(OSError):
            fcntl.flock(self._locks[-1], fcntl.LOCK_EX | fcntl.LOCK_NB)
        with os.fdopen(handle, "w+b") as file:
            for chunk in output.chunks:
                file.write(chunk)
            if output.fill is not None:
                output.fill(file)
            file.flush()
            os.fsync(file.fileno())
        os.chmod(name, target.stat().st_mode & 0o777 if target.exists() else 0o666 & ~_umask())

    def _make_folder(self, folder: Path) -> None:
        if folder.is_symlink():
            raise InputError(f"{folder} is a link to another place; what belongs to the file is not written there.")
        if not folder.exists():
            folder.mkdir()
            self._folders.append(folder)

    def keep_same(self) -> None:
        """Let files that are there as they would become be; AlreadyThere where one is another."""
        for target, new in self._ready:
            with _told(target):
                if target.exists() and not filecmp.cmp(target, new, shallow=False):
                    raise AlreadyThere(target)
        for target, new in list(self._ready):
            if target.exists():
                new.unlink()
                self._ready.remove((target, new))

    def put_in_place(self) -> None:
        several = len(self._ready) > 1
        while self._ready:
            target, new = self._ready[0]
            with _told(target):
                if target.is_dir():
                    raise IsADirectoryError(21, "a folder has that name")
                kept = self._set_aside(target) if several and target.exists() else None
                self._placed.append((target, kept))
                with _let_go_later(target):
                    os.replace(new, target)
            self._ready.pop(0)
        for _, kept in self._placed:
            if kept is not None:
                kept.unlink(missing_ok=True)
        self._placed, self._folders = [], []

    @staticmethod
    def _set_aside(target: Path) -> Path:
        """Give the old file a second name, under which it can come back."""
        handle, name = tempfile.mkstemp(prefix=PART_PREFIX, suffix=PART_SUFFIX, dir=target.parent)
        os.close(handle)
        os.unlink(name)
        try:
            os.link(target, name)
        except OSError:  # no second names on this file system: moved, for a moment
            os.rename(target, name)
        return Path(name)

    def take_back(self) -> None:
        for target, kept in reversed(self._placed):
            with contextlib.suppress(OSError):
                if kept is not None and target.exists() and os.path.samefile(kept, target):
                    kept.unlink()  # two names of one file: nothing has to come back
                elif kept is not None:
                    os.replace(kept, target)
                elif not any(target == ready for ready, _ in self._ready):
                    target.unlink(missing_ok=True)
        for _, new in self._ready:
            with contextlib.suppress(OSError):
                new.unlink(missing_ok=True)
        for folder in reversed(self._folders):
            with contextlib.suppress(OSError):
                folder.rmdir()

    def close(self) -> None:
        for lock in self._locks:
            os.close(lock)


@contextmanager
def _let_go_later(path: Path) -> Iterator[None]:
    """Replace a file without waiting until the system has freed the old one, which takes long for a large one."""
    try:
        old = os.open(path, os.O_RDONLY)
    except OSError:
        old = -1
    try:
        yield
    finally:
        if old >= 0:
            threading.Thread(target=os.close, args=(old,), daemon=True).start()


def _own_prefix(process: int) -> str:
    return f"{PART_PREFIX}{process:x}-"


def sweep_after(folder: Path | str, process: int) -> None:
    """Remove unfinished files that a process which has ended left in a folder."""
    with contextlib.suppress(OSError):
        for part in [p for p in os.scandir(folder) if p.name.startswith(_own_prefix(process))]:
            _remove_unheld(part.path)


def _remove_unheld(part: str) -> None:
    with contextlib.suppress(OSError), open(part, "rb") as file:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        os.unlink(part)


def unfinished(folder: Path | str) -> list[os.DirEntry[str]]:
    """The unfinished files in a folder, of the living and the dead; none of a folder that can't be read."""
    with contextlib.suppress(OSError):
        return [p for p in os.scandir(folder) if p.name.startswith(PART_PREFIX) and p.name.endswith(PART_SUFFIX)]
    return []


def sweep(folder: Path | str, young: float = _YOUNG) -> None:
    """Remove unfinished files that writers left in a folder which are no more (a held lock tells the living)."""
    with contextlib.suppress(OSError):
        for part in unfinished(folder):
            # One that was made just now may not have its lock yet.
            if time.time() - part.stat().st_mtime < young:
                continue
            _remove_unheld(part.path)


def _umask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask
