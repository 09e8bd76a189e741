"""Files for the window: opening, saving, stringings, and work that an earlier session had not saved."""

from __future__ import annotations

import time
from pathlib import Path

from PySide6.QtCore import QObject, Qt, Signal
from PySide6.QtWidgets import QFileDialog, QMessageBox

from ..core.errors import InputError
from ..formats.registry import MARKERS as MARKER_ENDINGS
from ..formats.registry import READABLE
from ..project import storage, stringing
from ..project.commands import AddEntries, AddRecordings, KeepStringing, Rename, UseStringing
from ..project.document import State
from ..project.markers.entry import MARKERS
from . import settings
from .controls.files import ENDING as CONTROLS
from .controls.files import ControlFiles
from .demo_project import demo_project
from .jobs import Job, files_under, load_project, read_files
from .learning import learn_words
from .library import family_name
from .markers.files import OWN, RecordingFiles
from .parts.widgets import ask_text

PROJECT, STRINGING = ".marionette", ".stringing"
_NO_PAIR = "Choose a source clip and a target rig first."


class ProjectFiles(QObject):
    """``found``: work that can be restored, as a sentence and what does it (``restore``, ``discard``). ``settled``: none."""

    found = Signal(str, object, object)
    settled = Signal()

    def __init__(self, parent, session, running, autosave):
        super().__init__(parent)
        self.session, self.running, self.autosave = session, running, autosave
        self.recovery = autosave.recovery
        self._recovering = None
        self.recordings = RecordingFiles(parent, session)
        self.controls = ControlFiles(parent, session)

    @property
    def _window(self):
        return self.parent()

    def _complain(self, text):
        self.session.message.emit(text)

    # --- opening --------------------------------------------------------------------------------
    def ask_open(self):
        """Choose files to open."""
        known = " ".join("*" + e for e in (*READABLE, *MARKER_ENDINGS, PROJECT, STRINGING, CONTROLS, *OWN))
        paths, _ = QFileDialog.getOpenFileNames(
            self._window,
            "Open motions, rigs, stringings or a project",
            settings.last_folder("open"),
            f"All that can be opened ({known});;All files (*)",
        )
        if paths:
            settings.remember_folder("open", Path(paths[0]).parent)
            self.open_paths(paths)

    def open_paths(self, paths):
        """Open projects, stringings and motion files; motions are read off the interface thread."""
        paths = [Path(p) for p in paths]
        for path in [p for p in paths if p.suffix.lower() == PROJECT][:1]:
            self.open_project(path)
        for path in [p for p in paths if p.suffix.lower() == STRINGING]:
            self._guarded(lambda p=path: self.session.document.do(UseStringing(stringing.load(p))))
        for path in [p for p in paths if p.suffix.lower() in OWN]:
            self.recordings.take_up(path)
        for path in [p for p in paths if p.suffix.lower() == CONTROLS]:
            self.controls.take_up(path)
        motions = files_under([p for p in paths if p.suffix.lower() not in (PROJECT, STRINGING, CONTROLS, *OWN)])
        if motions:
            label = f"read {len(motions)} file{'s' if len(motions) > 1 else ''}"
            self.running.run(label, read_files(motions), self._read)
        elif paths and all(p.is_dir() for p in paths):
            self._complain("There is no motion file in this folder.")

    def _read(self, result):
        entries, failures = result
        recordings = tuple(e for e in entries if e.role == MARKERS)
        clips = tuple(e for e in entries if e.role != MARKERS)
        if entries:
            self.session.do(AddEntries(clips), AddRecordings(recordings))
            if recordings and not clips:
                self.session.go("gather")
                self.session.look_at(recordings[0].id)
            self.session.told.emit(
                f"Opened {len(entries)} of {len(entries) + len(failures)}"
                if failures
                else f"Opened {len(entries)} file{'s' if len(entries) > 1 else ''}"
            )
        if failures:
            more = f" And {len(failures) - 3} more files could not be read." if len(failures) > 3 else ""
            self._complain(" ".join(failures[:3]) + more)

    def _open(self, state, path, saved=True, stamp=None):
        """Put another project in place of the present one; what still works for that one is stopped."""
        self.running.cancel(of_project_alone=True)
        self.session.document.open(state, path, saved, stamp)

    def _guarded(self, action):
        """Do something with files; a sentence where it fails."""
        try:
            action()
        except InputError as error:
            self._complain(str(error))

    def new(self):
        """Begin an empty project; unsaved work is asked for first."""
        if self.may_leave():
            self._open(State(), None)
            self.recovery.clear()

    def open_project(self, path, asked=True):
        """Open a project in place of the present one."""
        path = Path(path)

        def done(result):
            if asked and not self.may_leave():
                return
            state, stamp, notes = result
            # What was cut off is not there any more: that is to be saved whole.
            self._open(state, path, stamp=None if notes else stamp)
            settings.put("last/project", str(path))
            self.recovery.clear()
            self.session.told.emit(f"Opened {path.name}")
            for sentence in notes:
                self._complain(sentence)

        self.running.run(f"open {path.name}", load_project(path), done)

    def open_demo(self):
        """Make the demo show where it is not there yet, and open it."""
        self.running.run("create the demo project", lambda _p: demo_project(), self.open_project)

    # --- saving ---------------------------------------------------------------------------------
    def may_leave(self):
        """Whether the open work may be replaced; asks only where something would be lost."""
        state = self.session.state
        if not self.session.document.unsaved or not (state.entries or state.recordings):
            return True
        name = self.session.state.name
        icon = QMessageBox.Icon.NoIcon
        box = QMessageBox(icon, "Unsaved work", f"{name} has unsaved changes.", parent=self._window)
        box.setTextFormat(Qt.TextFormat.PlainText)
        save = box.addButton("Save", QMessageBox.ButtonRole.AcceptRole)
        drop = box.addButton("Don't save", QMessageBox.ButtonRole.DestructiveRole)
        box.addButton("Cancel", QMessageBox.ButtonRole.RejectRole)
        box.exec()
        if box.clickedButton() is save:
            return self.save()
        return box.clickedButton() is drop

    def save(self):
        """Save the project where it lies; returns whether it was saved."""
        if self.session.document.path is None:
            return self.save_as()
        return self.save_to(self.session.document.path)

    def save_as(self):
        """Save under a name that is asked for."""
        start = Path(settings.last_folder("project")) / f"{self.session.state.name}{PROJECT}"
        path = self._ask_path("Save the project", start, "Young Marionette project", PROJECT)
        return path is not None and self.save_to(path)

    def _ask_path(self, title, start, what, ending):
        """A path to save to, with the ending that belongs to it; None where the user thinks better of it."""
        dialog = QFileDialog(self._window, title, str(start.parent), f"{what} (*{ending})")
        dialog.setAcceptMode(QFileDialog.AcceptMode.AcceptSave)
        dialog.setDefaultSuffix(ending)  # so that the question before replacing is about the very file
        dialog.selectFile(start.name)
        return Path(dialog.selectedFiles()[0]) if dialog.exec() else None

    def save_to(self, path):
        """Save to a path, off the interface thread; returns whether it went through, when it did."""
        document, path, saved = self.session.document, Path(path), []
        state, known = self.session.state, document.stamp if path == document.path else None

        def done(stamp):
            saved.append(path)
            document.mark_saved(path, state, stamp)
            if not document.unsaved:
                self.recovery.clear()
            settings.put("last/project", str(path))
            settings.remember_folder("project", path.parent)
            self.session.told.emit(f"Saved {path.name}")

        def work(_progress):
            return storage.save(path, state, known=known)

        self.running.run(f"save {path.name}", work, done, waits=True).wait_here()
        return bool(saved)

    def rename(self):
        """Give the project another name."""
        name = ask_text(self._window, "Rename the project", "Name", self.session.state.name)
        if name is not None:
            self.session.do(Rename(None, name))

    # --- stringings -----------------------------------------------------------------------------
    def keep_stringing(self):
        """Keep the active pairing in the library under the names of its sides."""
        state = self.session.state
        if state.pairing is None:
            self._complain(_NO_PAIR)
            return
        if self.session.do(KeepStringing(f"{family_name(state.source_entry)} to {state.rig_entry.name}")):
            learn_words(self.session)

    def save_stringing(self):
        """Save the active pairing to a file of its own."""
        state = self.session.state
        if state.pairing is None:
            self._complain(_NO_PAIR)
            return
        name = f"{state.source_entry.name} to {state.rig_entry.name}{STRINGING}"
        path = self._ask_path(
            "Save the stringing", Path(settings.last_folder("project")) / name, "Stringing", STRINGING
        )
        if path is not None:
            file = stringing.to_file(state.pairing, state.source_entry, state.rig_entry, path.stem)
            self._guarded(lambda: stringing.save(path, file, True))
            learn_words(self.session)

    # --- work of an earlier session ---------------------------------------------------------------
    def offer_recovery(self):
        """Offer what a session that is no more had not saved."""
        waiting = self.recovery.found()
        if not waiting:
            self.settled.emit()
            return
        kept = waiting[0]
        when = time.strftime("%d %b, %H:%M", time.localtime(kept.when))
        offer = f"Unsaved work on {kept.name} from {when} can be restored."
        self.found.emit(offer, lambda: self._recover(kept), lambda: self._discard(kept))

    def _recover(self, kept):
        def done(state):
            if not self.may_leave():
                return
            self._open(state, Path(kept.path) if kept.path else None, saved=False)
            self.settled.emit()
            # Only when this session has its own copy is the old one let go.
            job = Job("autosave", lambda _p: self.recovery.keep(state, kept.path))
            job.finished.connect(lambda _r: self._discard(kept))
            job.failed.connect(self.autosave.fails)
            self._recovering = job.start()

        self.running.run(f"restore {kept.name}", lambda _p: self.recovery.restore(kept), done)

    def _discard(self, kept):
        self.recovery.discard(kept)
        self.offer_recovery()
