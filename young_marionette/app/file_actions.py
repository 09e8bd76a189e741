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
from .jobs import Job, files_under, load_project, read_files
from .library import family_name
from .parts.widgets import ask_text, button

KEEP_AFTER, KEEP_WITHIN = 1.5, 5.0  # seconds: after the last edit, and after the first one that is not kept yet


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
            label = f"read {len(motions)} file{'s' if len(motions) > 1 else ''}"
            self.run_job(label, read_files(motions), self._read)
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

    def run_job(self, label, work, done, of_project=True, waits=False):
        """Do long work off the interface thread, then ``done`` with its result.

        ``of_project``: for the open project alone; when another one is opened meanwhile, the result is dropped.
        """
        document = self.session.document
        project = document.project if of_project else None
        job = Job(label, work, project, waits)
        self.jobs.append(job)
        job.progressed.connect(lambda share: self.progress.setValue(int(share * 100)))
        job.finished.connect(lambda result: done(result) if project in (None, document.project) else None)
        job.failed.connect(lambda text: self.complain(text) if project in (None, document.project) else None)
        job.ended.connect(lambda: self._ended(job))
        self.tell(f"Working: {job.label}")
        self.progress.setValue(0)
        self.progress.show()
        self.cancel.show()
        self.stage.busy = True
        return job.start()

    def _ended(self, job):
        self.jobs.remove(job)
        self.progress.setVisible(bool(self.jobs))
        self.cancel.setVisible(bool(self.jobs))
        self.stage.busy = bool(self.jobs)

    def _opened(self, state, path, saved=True, stamp=None):
        """Put another project in place of the present one; what still works for that one is stopped."""
        for job in self.jobs:
            if job.task.project is not None:
                job.cancel()
        self.session.document.open(state, path, saved, stamp)

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
            self._opened(State(), None)
            self.recovery.clear()

    def open_project(self, path, asked=True):
        """Open a project in place of the present one."""
        path = Path(path)

        def done(result):
            if asked and not self._may_leave():
                return
            state, stamp, told = result
            # What was cut off is not there any more: that is to be saved whole.
            self._opened(state, path, stamp=None if told else stamp)
            settings.put("last/project", str(path))
            self.recovery.clear()
            self.tell(f"Opened {path.name}")
            for sentence in told:
                self.complain(sentence)

        self.run_job(f"open {path.name}", load_project(path), done)

    def open_demo(self):
        """Make the demo show where it is not there yet, and open it."""
        from .main import demo_project

        self.run_job("create the demo project", lambda _p: demo_project(), self.open_project)

    def _may_leave(self):
        """Whether the open work may be replaced; asks only where something would be lost."""
        if not self.session.document.unsaved or not self.session.state.entries:
            return True
        box = QMessageBox(
            QMessageBox.Icon.NoIcon, "Unsaved work", f"{self.session.state.name} has unsaved changes.", parent=self
        )
        box.setTextFormat(Qt.TextFormat.PlainText)
        save = box.addButton("Save", QMessageBox.ButtonRole.AcceptRole)
        drop = box.addButton("Don't save", QMessageBox.ButtonRole.DestructiveRole)
        box.addButton("Cancel", QMessageBox.ButtonRole.RejectRole)
        box.exec()
        if box.clickedButton() is save:
            return self.save()
        return box.clickedButton() is drop

    def _may_close_without(self, why):
        """Whether the window may close although unsaved work can't be kept; asks, since it would be lost."""
        self.complain(f"{why} Save the project before closing.")
        return self._may_leave()

    def save(self):
        """Save the project where it lies; returns whether it was saved."""
        if self.session.document.path is None:
            return self.save_as()
        return self.save_to(self.session.document.path)

    def save_as(self):
        """Save under a name that is asked for."""
        start = Path(settings.last_folder("project")) / f"{self.session.state.name}.marionette"
        path = self._ask_path("Save the project", start, "Young Marionette project", ".marionette")
        return path is not None and self.save_to(path)

    def _ask_path(self, title, start, what, ending):
        """A path to save to, with the ending that belongs to it; None where the user thinks better of it."""
        dialog = QFileDialog(self, title, str(start.parent), f"{what} (*{ending})")
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
            self.tell(f"Saved {path.name}")

        self.run_job(
            f"save {path.name}", lambda _p: storage.save(path, state, known=known), done, waits=True
        ).wait_here()
        return bool(saved)

    def rename(self):
        """Give the project another name."""
        name = ask_text(self, "Rename the project", "Name", self.session.state.name)
        if name is not None:
            self.session.do(Rename(None, name))

    def keep_stringing(self):
        """Keep the active pairing in the library under the names of its sides."""
        state = self.session.state
        if state.pairing is None:
            self.complain("Choose a source clip and a target rig first.")
            return
        self.session.do(KeepStringing(f"{family_name(state.source_entry)} to {state.rig_entry.name}"))

    def save_stringing(self):
        """Save the active pairing to a file of its own."""
        state = self.session.state
        if state.pairing is None:
            self.complain("Choose a source clip and a target rig first.")
            return
        start = Path(settings.last_folder("project")) / f"{state.source_entry.name} to {state.rig_entry.name}.stringing"
        path = self._ask_path("Save the stringing", start, "Stringing", ".stringing")
        if path is not None:
            self._guarded(
                lambda: stringing.save(
                    path, stringing.to_file(state.pairing, state.source_entry, state.rig_entry, path.stem), True
                )
            )

    # --- keeping what is not saved ----------------------------------------------------------------
    def keep_soon(self):
        """Have unsaved work kept when the user pauses, and in any case before long."""
        if not self.session.document.unsaved or not self.session.state.entries:
            self._unkept_since = None
            return
        now = time.monotonic()
        self._unkept_since = self._unkept_since or now
        left = self._unkept_since + KEEP_WITHIN - now
        self._keep_timer.start(max(0, int(1000 * min(KEEP_AFTER, left))))

    def keep(self):
        """Write unsaved work beside the settings, off the interface thread."""
        document = self.session.document
        if self._keeping is not None or not document.unsaved or not self.session.state.entries:
            return  # what runs now is followed by the next: see _kept
        state, path, self._unkept_since = self.session.state, document.path, None
        self._keeping = Job("autosave", lambda _p: self.recovery.keep(state, path), document.project)
        self._keeping.finished.connect(lambda _r: self._keeps(state))
        self._keeping.failed.connect(self._keeps_not)
        self._keeping.ended.connect(self._kept)
        self._keeping.start()

    def _keeps(self, state):
        self._kept_state = state
        if self._keep_failed:
            self._keep_failed = False
            self.message.hide()
            self.tell("Autosave works again")

    def _keeps_not(self, why):
        """Said at once, and tried again; the work itself is as it was."""
        if not self._keep_failed:
            self._keep_failed = True
            self.complain(f"Autosave failed: {why} Save the project to be safe.")
        self._unkept_since = self._unkept_since or time.monotonic()

    def _kept(self):
        self._keeping = None
        if not self.session.document.unsaved:
            self.recovery.clear()
        elif self._keep_failed:
            self._keep_timer.start(int(1000 * KEEP_WITHIN))
        elif self._kept_state is not self.session.state:
            self.keep_soon()

    def offer_recovery(self):
        """Offer what a session that is no more had not saved."""
        found = self.recovery.found()
        if not found:
            return
        kept = found[0]
        when = time.strftime("%d %b, %H:%M", time.localtime(kept.when))
        self.banner.say(
            f"Unsaved work on {kept.name} from {when} can be restored.",
            button("Restore", lambda: self._recover(kept), True),
            button("Discard", lambda: self._give_up(kept)),
        )

    def _recover(self, kept):
        def done(state):
            if not self._may_leave():
                return
            self._opened(state, Path(kept.path) if kept.path else None, saved=False)
            self.banner.hide()
            # Only when this session has its own copy is the old one let go.
            job = Job("autosave", lambda _p: self.recovery.keep(state, kept.path))
            job.finished.connect(lambda _r: self._give_up(kept))
            job.failed.connect(self._keeps_not)
            self._keeping_recovered = job.start()

        self.run_job(f"restore {kept.name}", lambda _p: self.recovery.restore(kept), done)

    def _give_up(self, kept):
        self.recovery.discard(kept)
        self.banner.hide()
        self.offer_recovery()
