"""Deliver: which baked clips are written, where, and under which names; problems before the start, a report after it."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QComboBox, QFileDialog, QLineEdit, QListWidget, QListWidgetItem

from ...core.errors import InputError
from ...formats.files import check_results
from ...formats.registry import ENDINGS, WRITABLE, check_writable, own_ending
from ...project.delivery import deliver, inputs_of
from .. import settings
from ..parts.widgets import Card, button, label, row, tool
from .base import Desk

FORMATS = (("Same as the rig's file", None), *((ENDINGS[e].label, e) for e in WRITABLE))


class DeliverDesk(Desk):
    title, lead = (
        "Deliver",
        "Write baked clips with the rig's own bone names; in its own format also in its own unit and axes.",
    )

    def build(self):
        what = Card("What")
        self.list = QListWidget()
        self.list.setAccessibleName("Baked clips to write")
        self.list.itemChanged.connect(lambda _i: self._check())
        what.add(self.list)
        self.add(what)
        where = Card("Where")
        self.folder = QLineEdit(settings.last_folder("deliver"))
        self.folder.setAccessibleName("Folder")
        self.folder.setPlaceholderText("Folder")
        self.folder.textChanged.connect(lambda _t: self._check())
        where.add(row(self.folder, tool("folder", "Choose a folder", self._choose)))
        self.prefix, self.suffix = QLineEdit(), QLineEdit()
        for widget, text in ((self.prefix, "Prefix"), (self.suffix, "Suffix")):
            widget.setPlaceholderText(text)
            widget.setAccessibleName(text)
            widget.textChanged.connect(lambda _t: self._check())
        where.add(row(self.prefix, self.suffix))
        self.format = QComboBox()
        self.format.setAccessibleName("Format")
        for name, ending in FORMATS:
            self.format.addItem(name, ending)
        self.format.currentIndexChanged.connect(lambda _i: self._check())
        self.body = QCheckBox("Include the body: meshes, skin, materials")
        self.body.toggled.connect(lambda _on: self._check())
        where.add(self.format, self.body)
        self.overwrite = QCheckBox("Overwrite existing files")
        self.overwrite.toggled.connect(lambda _on: self._check())
        where.add(self.overwrite)
        self.add(where)
        self.problems = label("", wrap=True)
        self.write = button("Write", self.write_now, True, "Write the selected clips (Ctrl+D)")
        self.report = label("", wrap=True)
        self.report.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.add(self.report)
        self.add_below(self.problems, self.write)

    def show_state(self):
        ids = [e.id for e in self.session.baked]
        present = [self.list.item(i).data(Qt.ItemDataRole.UserRole) for i in range(self.list.count())]
        if ids != present:
            off = {
                self.list.item(i).data(Qt.ItemDataRole.UserRole)
                for i in range(self.list.count())
                if self.list.item(i).checkState() == Qt.CheckState.Unchecked
            }
            self.list.blockSignals(True)
            self.list.clear()
            for entry in self.session.baked:
                item = QListWidgetItem(entry.name)
                item.setData(Qt.ItemDataRole.UserRole, entry.id)
                item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
                item.setCheckState(Qt.CheckState.Unchecked if entry.id in off else Qt.CheckState.Checked)
                self.list.addItem(item)
            self.list.blockSignals(False)
        # As tall as what it lists, within bounds.
        tall = self.list.sizeHintForRow(0) * self.list.count() + 2 * self.list.frameWidth() + 8
        self.list.setFixedHeight(min(max(tall, 44), 190))
        self._check()

    def jobs(self):
        """``(entry, path)`` of all that is ticked."""
        folder = Path(self.folder.text().strip()).expanduser()
        items = [self.list.item(i) for i in range(self.list.count())]
        entries = [
            self.session.state.entry(i.data(Qt.ItemDataRole.UserRole))
            for i in items
            if i.checkState() == Qt.CheckState.Checked
        ]
        name = f"{self.prefix.text()}{{}}{self.suffix.text()}{{}}".format
        return [(e, folder / name(_file_name(e.name), self._ending(e))) for e in entries if e]

    def _ending(self, entry):
        return self.format.currentData() or own_ending(entry.layout.format if entry.layout else "")

    def _with_body(self, entry):
        """Whether an entry is written with its body."""
        return self.body.isChecked() and entry.character is not None and ENDINGS[self._ending(entry)].body

    def _check(self):
        jobs = self.jobs()
        problems = [] if self.session.baked else ["Nothing is baked yet; open Transfer and bake."]
        if self.session.baked and not jobs:
            problems.append("No clip is selected.")
        if not self.folder.text().strip():
            problems.append("Choose a folder.")
        else:
            files = [p for e in self.session.state.entries for p in inputs_of(e)]
            for i, (_entry, path) in enumerate(jobs):
                try:
                    check_results([path, *(p for _, p in jobs[:i])], files)
                    check_writable(path, self.overwrite.isChecked())
                except InputError as error:
                    problems.append(str(error))
        bodies = [e for e, _ in jobs if e.character is not None and ENDINGS[self._ending(e)].body]
        self.body.setEnabled(bool(bodies))
        self.body.setToolTip(
            "The rig's meshes are written with the motion"
            if bodies
            else "None of the selected clips is on a rig with a body, or the format holds only motion"
        )
        self.problems.setText("\n".join("◆ " + p for p in dict.fromkeys(problems)))
        self.problems.setVisible(bool(problems))
        self.write.setEnabled(not problems)
        self.write.setText(f"Write {len(jobs)} file{'s' if len(jobs) != 1 else ''}" if jobs else "Write")

    def write_now(self):
        """Write what is ticked, off the interface thread; a file that can't be written does not stop the others."""
        jobs = [(entry, path, self._with_body(entry)) for entry, path in self.jobs()]
        overwrite = self.overwrite.isChecked()
        settings.remember_folder("deliver", self.folder.text().strip())
        self.report.setText("")

        def work(progress):
            told = []
            for i, (entry, path, body) in enumerate(jobs):
                progress(i / len(jobs))
                try:
                    deliver(path, entry.placed_clip, entry.rig, overwrite, body)
                    told.append(f"✓ {path.name}: {entry.clip.frames} frames, {path.stat().st_size / 1000:.0f} kB")
                except InputError as error:
                    told.append(f"◆ {error}")
            return told

        self.session.job_asked.emit(f"write {len(jobs)} file{'s' if len(jobs) > 1 else ''}", work, self._written)

    def _written(self, told):
        self.report.setText("\n".join(told))
        self.session.told.emit(told[0] if len(told) == 1 else f"{len(told)} files: see the report")
        self._check()

    def _choose(self):
        folder = QFileDialog.getExistingDirectory(self, "Folder for the delivered files", self.folder.text())
        if folder:
            self.folder.setText(folder)


def _file_name(name):
    """A clip's name without what file names can't have."""
    return "".join("_" if c in '/\\:*?"<>|\0' else c for c in name).strip(". ") or "clip"
