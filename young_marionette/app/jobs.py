"""Tasks of the project (see project.tasks) as Qt wants them: what they tell arrives in the interface thread."""

from __future__ import annotations

from collections import deque
from pathlib import Path

from PySide6.QtCore import QEventLoop, QObject, Qt, Signal

from ..core.errors import InputError
from ..project.tasks import Task
from ..rendering.arrays import prepare

COMPANIONS = (".bin", ".png", ".jpg", ".jpeg", ".webp", ".ktx2")


class _Post(QObject):
    """Carries what threads tell into the interface thread.

    It is never deleted, as a Job may be while its thread still tells something: no thread calls Qt through one.
    """

    _come = Signal()

    def __init__(self):
        super().__init__()
        self._told = deque()
        self._come.connect(self._deliver, Qt.ConnectionType.QueuedConnection)

    def put(self, job, name, values):
        self._told.append((job, name, values))
        self._come.emit()

    def _deliver(self):
        job, name, values = self._told.popleft()
        getattr(job, name).emit(*values)


_POST = _Post()


class Job(QObject):
    """A Task whose signals are told in the thread that made it, the interface's."""

    progressed = Signal(float)
    finished = Signal(object)
    failed = Signal(str)
    ended = Signal()

    def __init__(self, label, work, project=None, waits=False):
        super().__init__()
        self.task = Task(label, work, project, waits)
        self.over = False
        self.ended.connect(self._end)
        # A ring of references, on purpose: the thread may be the last to let go of a job, and must not be who ends it.
        for name in ("progressed", "finished", "failed", "ended"):
            getattr(self.task, name).connect(lambda *values, name=name: _POST.put(self, name, values))

    @property
    def label(self):
        return self.task.label

    def start(self):
        self.task.start()
        return self

    def cancel(self):
        self.task.cancel()

    def give_up(self):
        """Cancel it, for good: nobody is told of it any more."""
        self.blockSignals(True)
        self.task.cancel()

    def wait(self, seconds=None):
        self.task.wait(seconds)

    def wait_here(self):
        """Wait for the end while the window lives on."""
        loop = QEventLoop()
        self.ended.connect(loop.quit)
        if not self.over:
            loop.exec()

    def _end(self):
        self.over = True


def read_files(paths):
    """The work of reading files: gives ``(entries, sentences about what could not be read)``."""
    from ..formats import read
    from ..project.entry import entries_of
    from ..project.markers.entry import marker_entries

    def work(progress):
        entries, failures = [], []
        for i, path in enumerate(paths):
            progress(i / len(paths))
            try:
                file = read(path)
                opened, recordings = entries_of(file), marker_entries(file)
                for recording in recordings:
                    recording.facts, recording.own_reference  # noqa: B018
                entries += recordings
                for entry in opened:
                    # What the window asks for at once is worked out here, not on the interface thread.
                    entry.oddities, entry.placed_clip, entry.body_facts  # noqa: B018
                    prepare(entry.placed_character)
                entries += opened
            except InputError as error:
                failures.append(str(error))
        progress(1.0)
        return tuple(entries), failures

    return work


def load_project(path):
    """The work of opening a project: gives its State, with what the window asks for at once worked out, its stamp, and what is to be told."""
    from ..project import storage
    from ..project.snags import find_snags

    def work(progress):
        stamp = storage.stamp(path)
        notes = []
        state = storage.load(path, notes.append)
        progress(0.5)
        for i, entry in enumerate(state.entries):
            entry.oddities, entry.body_facts  # noqa: B018
            progress(0.5 + 0.45 * i / len(state.entries))
        for entry in (state.source_entry, state.rig_entry):
            if entry is not None:
                prepare(entry.placed_character)
        find_snags(state)
        return state, stamp, notes

    return work


def files_under(paths):
    """Files among the paths, and motion files in folders among them, however deep.

    What only goes with a file (buffers, textures) is left out where other files are there.
    """
    from ..formats.registry import ENDINGS

    wanted, files = {name for name, ending in ENDINGS.items() if ending.in_folders}, []
    for path in map(Path, paths):
        files += (
            sorted(p for p in path.rglob("*") if p.suffix.lower() in wanted and p.is_file())
            if path.is_dir()
            else [path]
        )
    main = [p for p in files if p.suffix.lower() not in COMPANIONS]
    return main or files
