"""Work that outlives a crash: the open project is kept beside the settings until it is saved or given up.

Each session has a folder of its own. The blobs of the work (see blobs) are written once each; then one file, whole or
not at all, tells the document and what it is called, so that there is never one without the other.
"""

from __future__ import annotations

import contextlib
import fcntl
import json
import shutil
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any

from ..core.errors import InputError
from ..core.text import shown
from ..formats.files import opened, sweep, write_whole
from . import storage
from .blobs import FolderBlobs
from .entry import new_id
from .loading import of_document

if TYPE_CHECKING:
    from .document import State


_WORK, _LOCK, _BLOBS = "work.json", "lock", "blobs"
_MOST = 512 << 20
_YOUNG = 30.0  # seconds


@dataclass(frozen=True)
class Kept:
    """Unsaved work of a session that is no more. ``file``: what tells it."""

    session: str
    name: str
    path: str | None
    when: float
    file: Path


class Recovery:
    """One session's place in ``folder``. A held lock tells the living from the dead, also after a crash."""

    def __init__(self, folder: Path) -> None:
        self.folder = Path(folder)
        self.session = new_id()
        self._own = self.folder / self.session
        self._lock: IO[str] | None = None
        self._writing = threading.Lock()
        with contextlib.suppress(InputError):  # what can't be written now is said when there is work to keep
            self._begin()
        self._sweep()

    def _begin(self) -> None:
        if self._lock is not None and self._own.is_dir():
            return
        try:
            (self._own / _BLOBS).mkdir(parents=True, exist_ok=True)
            self._lock = open(self._own / _LOCK, "w")
            fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            raise InputError(f"{self._own} can't be written: {error.strerror or error}.") from None

    def keep(self, state: State, path: str | Path | None, stop: Callable[[], None] = lambda: None) -> None:
        """Write the unsaved state; ``path``: where the project lies, or None. Only what is new is written."""
        with self._writing:
            self._keep(state, path, stop)

    def _keep(self, state: State, path: str | Path | None, stop: Callable[..., Any]) -> None:
        self._begin()
        document, blobs = storage.described(state)
        store = FolderBlobs(self._own / _BLOBS)
        store.add(blobs.values(), stop)
        note = {"name": state.name, "path": str(path) if path else None, "when": time.time()}
        work = {**note, "document": document.model_dump(mode="json")}
        write_whole(self._own / _WORK, [json.dumps(work).encode()])
        with contextlib.suppress(OSError):
            store.keep_only(set(blobs))

    @property
    def keeps(self) -> bool:
        """Whether anything of this session is kept."""
        return (self._own / _WORK).exists()

    def clear(self) -> None:
        """Forget what was kept: all is saved."""
        with contextlib.suppress(OSError):
            (self._own / _WORK).unlink(missing_ok=True)

    def found(self) -> list[Kept]:
        """What dead sessions left (list of Kept, newest first)."""
        kept = [k for k in (self._told(folder) for folder in self._dead()) if k is not None]
        return sorted(kept, key=lambda k: -k.when)

    def _dead(self) -> Iterator[Path]:
        """Folders of sessions that are no more, and project files that earlier versions kept."""
        with contextlib.suppress(OSError):
            for place in sorted(self.folder.iterdir()):
                session = place.name.removesuffix(".marionette")
                if session == self.session or place.name.startswith("."):
                    continue
                if (place.is_dir() and not _held(place / _LOCK)) or (
                    place.suffix == ".marionette" and not _held(place.with_suffix(".lock"))
                ):
                    yield place

    def _told(self, place: Path) -> Kept | None:
        try:
            if place.is_dir():
                data = json.loads((place / _WORK).read_bytes())
                return Kept(place.name, str(data["name"]), data.get("path"), float(data["when"]), place / _WORK)
            name, path, when = place.stem, None, place.stat().st_mtime
            # It may have been ended before it wrote what the work is called.
            with contextlib.suppress(OSError, ValueError, KeyError, TypeError):
                data = json.loads(place.with_suffix(".json").read_bytes())
                name, path, when = str(data["name"]), data.get("path"), float(data["when"])
            return Kept(place.stem, name, path, when, place)
        except (OSError, ValueError, KeyError, TypeError):
            return None

    def restore(self, kept: Kept) -> State:
        """The State that was kept; it stays on disk until ``discard``."""
        if kept.file.suffix == ".marionette":
            return storage.load(kept.file)
        with opened(kept.file) as file:
            data = file.read(_MOST)
        label = f"The kept work on {shown(kept.name, 60)}"
        try:
            document = json.dumps(json.loads(data)["document"]).encode()
        except (ValueError, KeyError, TypeError, RecursionError):
            raise InputError(f"{label} is damaged.") from None
        return of_document(label, document, FolderBlobs(kept.file.parent / _BLOBS))

    def discard(self, kept: Kept) -> None:
        """Remove what a dead session left."""
        if kept.file.suffix == ".marionette":
            for ending in (".marionette", ".json", ".lock"):
                kept.file.with_suffix(ending).unlink(missing_ok=True)
        else:
            shutil.rmtree(kept.file.parent, ignore_errors=True)

    def _sweep(self) -> None:
        """Remove what dead sessions left that is no work: folders without any, locks, unfinished files."""
        sweep(self.folder)
        with contextlib.suppress(OSError):
            for place in list(self.folder.iterdir()):
                # One that began just now may not hold its lock yet.
                if place.name == self.session or time.time() - place.stat().st_mtime < _YOUNG:
                    continue
                if place.is_dir() and not (place / _WORK).exists() and not _held(place / _LOCK):
                    shutil.rmtree(place, ignore_errors=True)
                elif place.suffix in (".lock", ".json") and not (
                    place.with_suffix(".marionette").exists() or _held(place.with_suffix(".lock"))
                ):
                    place.unlink(missing_ok=True)

    def close(self) -> None:
        """End the session; what was kept stays."""
        keeps = self.keeps
        if self._lock is not None:
            self._lock.close()
            self._lock = None
        if not keeps:
            shutil.rmtree(self._own, ignore_errors=True)


def _held(lock: Path) -> bool:
    """Whether a living process holds a lock."""
    try:
        with open(lock) as file:
            fcntl.flock(file, fcntl.LOCK_SH | fcntl.LOCK_NB)
        return False
    except BlockingIOError:
        return True
    except OSError:
        return False
