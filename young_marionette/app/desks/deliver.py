"""Deliver: which baked clips are written, where, and under which names; problems before the start, a report after it."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QComboBox, QFileDialog, QLineEdit, QListWidget, QListWidgetItem

from ...formats.registry import ENDINGS, WRITABLE
from ...project.order import carry_out, items_of, problems_of
from ...wording.findings import counted, finding_words
from .. import settings
from ..parts.widgets import Card, button, label, row, tool
from .base import Desk

FORMATS = (("Same as the rig's file", None), *((ENDINGS[e].label, e) for e in WRITABLE))
_ID = Qt.ItemDataRole.UserRole


class DeliverDesk(Desk):
    title, lead = (
        "Deliver",
        "Write baked clips with the rig's own bone names; in its own format also in its own unit and axes.",
    )

    shows = ("entries", "bakes", "name")

    def build(self):
        session = self.session
        what = Card("What")
        self.list = QListWidget()
        self.list.setAccessibleName("Baked clips to write")
        self.list.itemChanged.connect(self._ticked)
        what.add(self.list)
        self.add(what)
        where = Card("Where")
        self.folder, self.prefix, self.suffix = QLineEdit(), QLineEdit(), QLineEdit()
        for widget, text, field in (
            (self.folder, "Folder", "folder"),
            (self.prefix, "Prefix", "prefix"),
            (self.suffix, "Suffix", "suffix"),
        ):
            widget.setPlaceholderText(text)
            widget.setAccessibleName(text)
            widget.setText(getattr(session.order, field))
            widget.textChanged.connect(lambda typed, f=field: session.ask_for(**{f: typed}))
        where.add(row(self.folder, tool("folder", "Choose a folder", self._choose)))
        where.add(row(self.prefix, self.suffix))
        self.format = QComboBox()
        self.format.setAccessibleName("Format")
        for name, ending in FORMATS:
            self.format.addItem(name, ending)
        self.format.currentIndexChanged.connect(lambda _i: session.ask_for(ending=self.format.currentData()))
        self.body = QCheckBox("Include the body: meshes, skin, materials")
        self.body.toggled.connect(lambda on: session.ask_for(body=on))
        where.add(self.format, self.body)
        self.overwrite = QCheckBox("Overwrite existing files")
        self.overwrite.toggled.connect(lambda on: session.ask_for(overwrite=on))
        where.add(self.overwrite)
        self.add(where)
        self.problems = label("", wrap=True)
        self.write = button("Write", self.write_now, True, "Write the selected clips (Ctrl+D)")
        self.report = label("", wrap=True)
        self.report.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.add(self.report)
        self.add_below(self.problems, self.write)
        session.order_changed.connect(self._show_order)

    def show_state(self):
        names = [(e.id, e.name) for e in self.session.baked]
        present = [(self.list.item(i).data(_ID), self.list.item(i).text()) for i in range(self.list.count())]
        if names != present:
            self.list.blockSignals(True)
            self.list.clear()
            for key, name in names:
                item = QListWidgetItem(name)
                item.setData(_ID, key)
                item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
                self.list.addItem(item)
            self.list.blockSignals(False)
        # As tall as what it lists, within bounds.
        tall = self.list.sizeHintForRow(0) * self.list.count() + 2 * self.list.frameWidth() + 8
        self.list.setFixedHeight(min(max(tall, 44), 190))
        self._show_order()

    def _show_order(self):
        """Show what is asked for, and what stands against it."""
        state, order = self.session.state, self.session.order
        self.list.blockSignals(True)
        for item in (self.list.item(i) for i in range(self.list.count())):
            left_out = item.data(_ID) in order.left_out
            item.setCheckState(Qt.CheckState.Unchecked if left_out else Qt.CheckState.Checked)
        self.list.blockSignals(False)
        for widget, text in ((self.folder, order.folder), (self.prefix, order.prefix), (self.suffix, order.suffix)):
            if widget.text() != text:
                widget.setText(text)
        self.format.setCurrentIndex(self.format.findData(order.ending))
        self.body.setChecked(order.body)
        self.overwrite.setChecked(order.overwrite)
        items, problems = items_of(state, order), problems_of(state, order)
        bodies = any(item.may_have_body for item in items)
        self.body.setEnabled(bodies)
        self.body.setToolTip(
            "The rig's meshes are written with the motion"
            if bodies
            else "None of the selected clips is on a rig with a body, or the format holds only motion"
        )
        self.problems.setText("\n".join(f"◆ {finding_words(p).text}" for p in problems))
        self.problems.setVisible(bool(problems))
        self.write.setEnabled(not problems)
        self.write.setText(f"Write {counted(len(items), 'file')}" if items else "Write")

    def _ticked(self, item):
        on = item.checkState() == Qt.CheckState.Checked
        self.session.ask_for(left_out=self.session.order.ticked(item.data(_ID), on).left_out)

    def write_now(self):
        """Write what is ticked, off the interface thread."""
        order = self.session.order
        items = items_of(self.session.state, order)
        settings.remember_folder("deliver", order.folder.strip())
        self.report.setText("")
        self.session.job_asked.emit(
            f"write {counted(len(items), 'file')}",
            lambda progress: carry_out(items, order.overwrite, progress),
            self._written,
        )

    def _written(self, done):
        lines = [f"◆ {w.problem}" if w.problem else f"✓ {w.path.name}: {_told(w)}" for w in done]
        self.report.setText("\n".join(lines))
        self.session.told.emit(lines[0] if len(lines) == 1 else f"{len(lines)} files: see the report")
        self._show_order()

    def _choose(self):
        folder = QFileDialog.getExistingDirectory(self, "Folder for the delivered files", self.session.order.folder)
        if folder:
            self.session.ask_for(folder=folder)


def _told(written):
    """What a file holds, in a few words."""
    size = f"{written.size / 1000:.0f} kB"
    if written.keys:
        return f"{written.frames} frames as keys with curves, {size}"
    if written.made_dense:
        return f"{written.frames} frames, {size}; a key on every frame, since {written.path.suffix} holds no curves"
    return f"{written.frames} frames, {size}"
