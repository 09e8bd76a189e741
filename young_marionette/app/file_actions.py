"""Files in the window: opening, saving, and keeping what is not saved. The window's own half of it is in ``window``."""

from __future__ import annotations

import time
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QMessageBox

from ..core.errors import InputError
from ..formats.registry import READABLE
from ..project import storage, stringing
from ..project.commands import AddEntries, KeepStringing, Rename, UseStringing
from ..project.document import State
from . import settings
from .jobs import Job, files_under, read_files
from .library import family_name
from .parts.widgets import ask_text, button


class FileActions:
    """What the window does with files. Expects ``session``, ``recovery``, ``jobs`` and the bars of a Window."""

    # --- files ----------------------------------------------------------------------------------
    def ask_open(self):
        """Choose files to open."""
        paths, _ = QFileDialog.getOpenFileNames(
            self,
            "Open motions, rigs, stringings or a project",
            settings.last_folder("open"),
            f"All that can be opened ({' '.join('*' + e for e in (*READABLE, '.marionette', '.stringing'))});;All files (*)",
        )
        if paths:
            settings.remember_folder("open", Path(paths[0]).parent)
            self.open_paths(paths)

    def open_paths(self, paths):
        """Open projects, stringings and motion files; motions are read off the interface thread."""
        paths = [Path(p) for p in paths]
        for path in [p for p in paths if p.suffix.lower() == ".marionette"][:1]:
            self.open_project(path)
        for path in [p for p in paths if p.suffix.lower() == ".stringing"]:
            self._guarded(lambda p=path: self.session.document.do(UseStringing(stringing.load(p))))
        motions = files_under([p for p in paths if p.suffix.lower() not in (".marionette", ".stringing")])
        if motions:
            self._start(
                Job(f"read {len(motions)} file{'s' if len(motions) > 1 else ''}", read_files(motions)), self._read
            )
        elif paths and all(p.is_dir() for p in paths):
            self.complain("There is no motion file in this folder.")

    def _read(self, result):
        entries, failures = result
        if entries:
            self.session.do(AddEntries(entries))
            self.tell(
                f"Opened {len(entries)} of {len(entries) + len(failures)}"
                if failures
                else f"Opened {len(entries)} file{'s' if len(entries) > 1 else ''}"
            )
        if failures:
            more = f" And {len(failures) - 3} more files could not be read." if len(failures) > 3 else ""
            self.complain(" ".join(failures[:3]) + more)

    def _start(self, job, done):
        self.jobs.append(job)
        job.progressed.connect(lambda share: self.progress.setValue(int(share * 100)))
        job.finished.connect(done)
        job.failed.connect(self.complain)
        job.ended.connect(lambda: self._ended(job))
        self.tell(f"Working: {job.label}")
        self.progress.setValue(0)
        self.progress.show()
        self.cancel.show()
        self.stage.busy = True
        job.start()
        return job

    def _ended(self, job):
        self.jobs.remove(job)
        self.progress.setVisible(bool(self.jobs))
        self.cancel.setVisible(bool(self.jobs))
        self.stage.busy = bool(self.jobs)

    def _guarded(self, action):
        """Do something with files; a sentence where it fails. Returns whether it went through."""
        try:
            action()
            return True
        except InputError as error:
            self.complain(str(error))
            return False

    def new(self):
        """Begin an empty project; unsaved work is asked for first."""
        if self._may_leave():
            self.session.document.open(State(), None)
            self.recovery.clear()

    def open_project(self, path, asked=True):
        """Open a project in place of the present one."""

        def load():
            state = storage.load(path)
            if asked and not self._may_leave():
                return
            self.session.document.open(state, Path(path))
            settings.put("last/project", str(path))
            self.recovery.clear()

        self._guarded(load)

    def open_demo(self):
        """Make the demo show where it is not there yet, and open it."""
        from .main import demo_project

        self._start(Job("make the demo show", lambda _p: demo_project()), self.open_project)

    def _may_leave(self):
        """Whether the open work may be replaced; asks only where something would be lost."""
        if not self.session.document.changed or not self.session.state.entries:
            return True
        box = QMessageBox(
            QMessageBox.Icon.NoIcon, "Unsaved work", f"{self.session.state.name} has unsaved changes.", parent=self
        )
        box.setTextFormat(Qt.TextFormat.PlainText)
        save = box.addButton("Save", QMessageBox.ButtonRole.AcceptRole)
        drop = box.addButton("Leave without saving", QMessageBox.ButtonRole.DestructiveRole)
        box.addButton("Stay", QMessageBox.ButtonRole.RejectRole)
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
        start = Path(settings.last_folder("project")) / f"{self.session.state.name}.marionette"
        path, _ = QFileDialog.getSaveFileName(
            self, "Save the project", str(start), "Young Marionette project (*.marionette)"
        )
        if not path:
            return False
        path = Path(path)
        return self.save_to(path if path.suffix == ".marionette" else path.with_name(path.name + ".marionette"))

    def save_to(self, path):
        """Save to a path; returns whether it went through."""
        state, path = self.session.state, Path(path)

        def write():
            storage.save(path, state)
            self.session.document.mark_saved(path, state)
            self.recovery.clear()
            settings.put("last/project", str(path))
            settings.remember_folder("project", path.parent)
            self.tell(f"Saved {path.name}")

        return self._guarded(write)

    def rename(self):
        """Give the project another name."""
        name = ask_text(self, "Rename the project", "Name", self.session.state.name)
        if name is not None:
            self.session.do(Rename(None, name))

    def keep_stringing(self):
        """Keep the active pairing in the library under the names of its sides."""
        state = self.session.state
        if state.pairing is None:
            self.complain("There is no pairing yet: choose a clip and a rig first.")
            return
        self.session.do(KeepStringing(f"{family_name(state.source_entry)} to {state.rig_entry.name}"))

    def save_stringing(self):
        """Save the active pairing to a file of its own."""
        state = self.session.state
        if state.pairing is None:
            self.complain("There is no pairing yet: choose a clip and a rig first.")
            return
        start = Path(settings.last_folder("project")) / f"{state.source_entry.name} to {state.rig_entry.name}.stringing"
        path, _ = QFileDialog.getSaveFileName(self, "Save the stringing", str(start), "Stringing (*.stringing)")
        if path:
            path = Path(path) if path.endswith(".stringing") else Path(path + ".stringing")
            self._guarded(
                lambda: stringing.save(
                    path, stringing.to_file(state.pairing, state.source_entry, state.rig_entry, path.stem), True
                )
            )

    # --- keeping what is not saved ----------------------------------------------------------------
    def keep(self):
        """Write unsaved work beside the settings, off the interface thread."""
        if self.session.document.changed and self.session.state.entries:
            if self._keeping is not None:
                self._keep_timer.start()
                return
            state, path = self.session.state, self.session.document.path
            self._keeping = Job("keep the work", lambda _p: self.recovery.keep(state, path))
            self._keeping.ended.connect(self._kept)
            self._keeping.start()

    def _kept(self):
        self._keeping = None
        if not self.session.document.changed:
            self.recovery.clear()

    def offer_recovery(self):
        """Offer what a session that is no more had not saved."""
        found = self.recovery.found()
        if not found:
            return
        kept = found[0]
        when = time.strftime("%d %b, %H:%M", time.localtime(kept.when))
        self.banner.say(
            f"Unsaved work on {kept.name} from {when} was kept.",
            button("Bring it back", lambda: self._recover(kept), True),
            button("Give it up", lambda: self._give_up(kept)),
        )

    def _recover(self, kept):
        if not self._may_leave():
            return

        def restore():
            self.session.document.open(self.recovery.restore(kept), Path(kept.path) if kept.path else None, saved=False)
            # Only when this session has its own copy is the old one let go.
            self.recovery.keep(self.session.state, kept.path)
            self.recovery.discard(kept)
            self.banner.hide()
            self.offer_recovery()

        self._guarded(restore)

    def _give_up(self, kept):
        self.recovery.discard(kept)
        self.banner.hide()
        self.offer_recovery()
