"""Work that outlives a crash: the open project is kept beside the settings until it is saved or given up."""

from __future__ import annotations

import fcntl
import json
import time
from dataclasses import dataclass
from pathlib import Path

from ..formats.files import write_whole
from . import storage
from .entry import new_id


@dataclass(frozen=True)
class Kept:
    """Unsaved work of a session that is no more."""

    session: str
    name: str
    path: str | None
    when: float
    file: Path


class Recovery:
    """One session's place in ``folder``. A held lock tells the living from the dead, also after a crash."""

    def __init__(self, folder):
        self.folder = Path(folder)
        self.folder.mkdir(parents=True, exist_ok=True)
        self.session = new_id()
        self._lock = open(self._at(".lock"), "w")
        fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)

    def _at(self, ending, session=None):
        return self.folder / f"{session or self.session}{ending}"

    def keep(self, state, path):
        """Write the unsaved state; ``path``: where the project lies, or None."""
        storage.save(self._at(".marionette"), state)
        note = {"name": state.name, "path": str(path) if path else None, "when": time.time()}
        write_whole(self._at(".json"), [json.dumps(note).encode()])

    def clear(self):
        """Forget what was kept: all is saved."""
        self._remove(self.session)

    def _remove(self, session):
        for ending in (".marionette", ".json"):
            self._at(ending, session).unlink(missing_ok=True)

    def found(self):
        """What dead sessions left (list of Kept, newest first)."""
        kept = []
        for note in self.folder.glob("*.json"):
            if note.stem == self.session or self._lives(note.stem):
                continue
            try:
                data = json.loads(note.read_bytes())
                file = self._at(".marionette", note.stem)
                if file.exists():
                    kept.append(Kept(note.stem, str(data["name"]), data.get("path"), float(data["when"]), file))
            except (OSError, ValueError, KeyError, TypeError):
                continue
        return sorted(kept, key=lambda k: -k.when)

    def _lives(self, session):
        try:
            with open(self._at(".lock", session)) as lock:
                fcntl.flock(lock, fcntl.LOCK_SH | fcntl.LOCK_NB)
            return False
        except BlockingIOError:
            return True
        except OSError:
            return False

    def restore(self, kept):
        """The State that was kept; it stays on disk until ``discard``."""
        return storage.load(kept.file)

    def discard(self, kept):
        """Remove what a dead session left."""
        self._remove(kept.session)
        self._at(".lock", kept.session).unlink(missing_ok=True)

    def close(self):
        """End the session; what was kept stays."""
        self._lock.close()
        if not self._at(".json").exists():
            self._at(".lock").unlink(missing_ok=True)
