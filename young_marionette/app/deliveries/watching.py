"""A watched folder in the window: clips that arrive in it are delivered as it is set, without anybody asking."""

from __future__ import annotations

import shutil
import tempfile
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import QObject, QTimer, Signal

from ...core.errors import InputError
from ...project import stringing as stringings
from ...project.batch.choosing import order_of
from ...project.batch.job import DONE, FAILED
from ...project.batch.plan import check_folder
from ...project.batch.run import run_here
from ...project.batch.watch import POLL, Watch
from ...project.entry import RIG
from ...wording.findings import counted
from ..jobs import Job


class Watching(QObject):
    """``changed``: it was begun or ended, or something was delivered."""

    changed = Signal()

    def __init__(self, session):
        super().__init__()
        self.session, self.watch, self.done, self.failed, self.last = session, None, 0, 0, ""
        self._job, self._kept = None, None
        self._timer = QTimer(self, interval=int(POLL * 1000))
        self._timer.timeout.connect(self._look)

    @property
    def on(self):
        return self.watch is not None

    def begin(self, folder):
        """Watch a folder, with the rigs, the recipe and the stringings as they are now; says in a sentence where that can't be."""
        session = self.session
        wanted, state = session.wanted, session.state
        rigs = [e for e in state.of_role(RIG) if e.id in wanted.rigs and e.path is not None]
        try:
            if not Path(folder).is_dir():
                raise InputError(f"There is no folder {folder}.")
            if not rigs:
                raise InputError("Tick a rig that the clips of the watched folder go onto.")
            if not wanted.folder.strip():
                raise InputError("Choose a folder for the files.")
            check_folder(wanted.place)
            wanted.place.mkdir(parents=True, exist_ok=True)
            self._kept = Path(tempfile.mkdtemp(prefix="young-marionette-watch-"))
            saved = tuple(map(str, self._stringings(state, rigs)))
        except (InputError, OSError) as error:
            session.message.emit(str(error))
            return
        order = replace(order_of(wanted), stringings=saved)
        self.watch = Watch(folder, [str(e.path) for e in rigs], order, runner=run_here)
        self.done = self.failed = 0
        self.last = ""
        self._timer.start()
        self.changed.emit()

    def _stringings(self, state, rigs):
        """The library's stringings, and what the project has tied onto these rigs, as files."""
        files = list(state.stringings)
        for rig in rigs:
            for (source, target), pairing in state.pairings.items():
                clip = next((e for e in state.entries if e.family == source), None)
                if target == rig.family and clip is not None:
                    files.append(stringings.to_file(pairing, clip, rig, f"{clip.name} to {rig.name}"))
        for number, file in enumerate(files):
            path = self._kept / f"{number}.stringing"
            stringings.save(path, file)
            yield path

    def end(self):
        """Watch no more; what is under way is finished."""
        self._timer.stop()
        self.watch = None
        if self._job is None and self._kept is not None:
            shutil.rmtree(self._kept, ignore_errors=True)
            self._kept = None
        self.changed.emit()

    def _look(self):
        if self._job is not None or self.watch is None:
            return
        watch = self.watch
        job = self._job = Job("look at the watched folder", lambda _progress: watch.look(lambda _j, _i: None))
        job.finished.connect(self._delivered)
        job.failed.connect(self._wrong)
        job.ended.connect(self._over)
        job.start()

    def _delivered(self, items):
        if not items:
            return
        done, failed = ([i for i in items if i.state == state] for state in (DONE, FAILED))
        self.done, self.failed = self.done + len(done), self.failed + len(failed)
        self.last = (
            failed[-1].why if failed else ", ".join(Path(out).name for out in done[-1].outs) if done else self.last
        )
        self.session.told.emit(
            f"Watched folder: {counted(len(done), 'file')} delivered" + (f", {len(failed)} failed" if failed else "")
        )
        self.changed.emit()

    def _wrong(self, sentence):
        self.session.message.emit(sentence)
        self.end()

    def _over(self):
        self._job = None
        if self.watch is None:
            self.end()
