"""Deliver: how clips are written, where, and under which names; what is in the way; progress, and what became of it."""

from __future__ import annotations

from PySide6.QtCore import Qt, QTimer, QUrl
from PySide6.QtGui import QDesktopServices
from PySide6.QtWidgets import QCheckBox, QComboBox, QFileDialog, QLineEdit, QListWidget, QListWidgetItem, QProgressBar

from ...core.errors import InputError
from ...core.travel.settings import GROUND, TURN, X, Y, Z
from ...formats.registry import ENDINGS, WRITABLE
from ...project.batch import recipe as recipe_files
from ...project.batch.choosing import TiePairs, problems_of, untied
from ...project.batch.names import FIELDS, check_template
from ...project.batch.recipe import Recipe
from ...project.entry import RIG
from ...wording.findings import counted, finding_words
from .. import settings
from ..deliveries import recipes
from ..deliveries.running import Deliveries
from ..deliveries.table import FilesPanel
from ..deliveries.watching import Watching
from ..parts.widgets import Card, Number, ask_text, button, label, menu_button, row, tool
from .base import Desk

_ID = Qt.ItemDataRole.UserRole
_SET = "As set in Transfer"
_RATES = (("As it is", None), *((f"{r:g} fps", r) for r in (23.976, 24.0, 25.0, 30.0, 50.0, 60.0)))
_UNITS = (("As the rig's", None), *((u, u) for u in ("m", "cm", "mm", "in", "ft", "dm")))
_UPS = (("As the rig's", None), ("Y up", "Y"), ("Z up", "Z"))
_BONES = (("The rig's names", ""), ("VRM names", "vrm"), ("H-Anim names", "h-anim"))
_OVERS = (("Kept", ""), ("Taken into the motion", "apply"), ("Reset", "reset"))
_CASES = (("As it is", ""), ("lower case", "lower"), ("UPPER CASE", "upper"))
_PLACES = ((_SET, None), ("No", ()), ("Sideways", (X,)), ("Ahead", (Z,)), ("Sideways and ahead", GROUND))
_ROOTS = (
    (_SET, None),
    ("Nothing", ()),
    ("Sideways and ahead", GROUND),
    ("Also turn", (X, Z, TURN)),
    ("Also height", (X, Y, Z)),
    ("Also height and turn", (X, Y, Z, TURN)),
)
_ROOT_BONES = (("As in the rig", ""), ("Add one", "add"), ("Take it out", "remove"))
_MANY, _SOON = 200, 150  # rows: of more, the table follows so many milliseconds after what is typed
_MOST = 5  # problems that are told one by one


class DeliverDesk(Desk):
    title, lead = ("Deliver", "Write clips onto rigs: what is ticked in the table, in the way that is set here.")

    shows = ("entries", "bakes", "name", "pairings", "uses", "stringings")

    def build(self):
        self.deliveries = Deliveries(self.session)
        self.panel = FilesPanel(self.session, self.deliveries)
        self.add(
            self._recipe_card(),
            self._where_card(),
            self._rigs_card(),
            self._motion_card(),
            self._shape_card(),
            self._watch_card(),
        )
        self.problems = label("", wrap=True)
        self.tie = button(
            "Tie automatically", self._tie, tip="Tie the clips and rigs that have no strings between them"
        )
        self.differ = button("Number the names", self._number, tip="Add the clip's number to every name")
        self.summary = label("", wrap=True)
        self.summary.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.open_report = button("Open the report", self._open_report, tip="Numbers and pictures of each clip")
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        self.left = label("", "quiet")
        self.pause = button("Pause", self.deliveries.pause)
        self.stop = button("Stop", self.deliveries.stop, tip="What is written stays; nothing is left by half")
        self.write = button("Write", self.write_now, True, "Write the ticked clips (Ctrl+D)")
        self.working = row(self.left, None, self.pause, self.stop)
        self.add_below(
            self.problems,
            row(self.tie, self.differ, None),
            self.summary,
            self.open_report,
            self.bar,
            self.working,
            self.write,
        )
        self.session.wanted_changed.connect(self._asked_anew)
        self.deliveries.changed.connect(self._show_running)
        self.deliveries.ended.connect(self._show_wanted)
        self._soon = QTimer(self, singleShot=True, interval=_SOON)
        self._soon.timeout.connect(self._show_wanted)
        self._fill_recipes()

    # --- cards ----------------------------------------------------------------------------------
    def _recipe_card(self):
        card = Card("Recipe")
        self.recipe = QComboBox()
        self.recipe.setAccessibleName("Recipe")
        self.recipe.activated.connect(lambda i: self._use_recipe(self.recipe.itemData(i)))
        self.more = menu_button("More", self._fill_menu, "Save, open or remove a recipe")
        return card.add(row(self.recipe, self.more))

    def _where_card(self):
        card = Card("Files")
        self.folder, self.template, self.prefix, self.suffix, self.find, self.instead = (QLineEdit() for _ in range(6))
        self.folder.textChanged.connect(lambda text: self.session.ask_for(folder=text))
        for widget, text, field in (
            (self.template, "Names", "template"),
            (self.prefix, "Before", "before"),
            (self.suffix, "Behind", "behind"),
            (self.find, "Find", "find"),
            (self.instead, "Replace with", "replace"),
        ):
            widget.setPlaceholderText(text)
            widget.setAccessibleName(text)
            widget.textChanged.connect(lambda typed, f=field: self._name(**{f: typed}))
        self.folder.setPlaceholderText("Folder")
        self.folder.setAccessibleName("Folder")
        self.template.setToolTip("Names of the files, made of " + ", ".join("{" + f + "}" for f in FIELDS))
        self.fields = menu_button("Insert", self._fill_fields, "Put a part of names in")
        self.case = self._list("Case of the names", _CASES, lambda value: self._name(case=value))
        self.format = menu_button(
            "Same as the rig's file", self._fill_formats, "Formats of the files; several give several files"
        )
        self.motion_only = self._box("Motion only: without meshes and skin", "motion_only")
        self.together = self._box(
            "All clips of a rig in one file", "together", "As its animations: GLB and glTF hold several"
        )
        self.subfolders = self._box(
            "Keep the sources' subfolders", "subfolders", "Files lie as the clips' own files do"
        )
        self.overwrite = QCheckBox("Overwrite existing files")
        self.overwrite.toggled.connect(lambda on: self.session.ask_for(overwrite=on))
        self.with_report = QCheckBox("Write a report")
        self.with_report.setToolTip("An HTML page beside the files: numbers and pictures of each clip")
        return card.add(
            row(self.folder, tool("folder", "Choose a folder", self._choose)),
            row(self.template, self.fields),
            row(self.prefix, self.suffix),
            row(self.find, self.instead),
            row(label("Case"), None, self.case),
            self.format,
            self.motion_only,
            self.together,
            self.subfolders,
            self.overwrite,
            self.with_report,
        )

    def _rigs_card(self):
        self.rigs_card = Card("Rigs for clips that are not baked")
        self.rigs = QListWidget()
        self.rigs.setAccessibleName("Rigs for clips that are not baked")
        self.rigs.itemChanged.connect(self._rig_ticked)
        return self.rigs_card.add(self.rigs)

    def _motion_card(self):
        card = Card("Motion")
        self.rate = self._list("Frames per second", _RATES, lambda value: self.session.ask_for(fps=value))
        self.zero = self._box("Start at frame zero", "from_zero")
        self.place = self._list("In place", _PLACES, lambda value: self._travel(in_place=value))
        self.bone = self._list("Root bone", _ROOT_BONES, lambda value: self._travel(bone=value))
        self.carries = self._list("The root bone carries", _ROOTS, lambda value: self._travel(root=value))
        self.smooth = Number(0, "s", 0.05, 2, 0, 60, 0, "Smooth the root bone's path over so many seconds")
        self.smooth.edited.connect(lambda value, _settled: self._travel(root_smooth=value or None))
        self.part = QCheckBox("Only frames")
        self.part.setToolTip("The same frames of every clip, both included; else all")
        self.first = Number(0, "", 1, 0, 0, 1e6, 0, "First frame")
        self.last = Number(0, "", 1, 0, 0, 1e6, 0, "Last frame")
        for number in (self.first, self.last):
            number.setFixedWidth(64)
            number.edited.connect(lambda _v, _s: self._frames())
        self.part.toggled.connect(lambda _on: self._frames())
        return card.add(
            row(self.part, None, self.first, label("to"), self.last),
            row(label("Rate"), None, self.rate),
            self.zero,
            row(label("In place"), None, self.place),
            row(label("Root bone"), None, self.bone),
            row(label("It carries"), None, self.carries),
            row(label("Smooth path"), None, self.smooth),
        )

    def _shape_card(self):
        card = Card("Skeleton")
        self.bones = self._list("Names of the bones", _BONES, lambda value: self.session.ask_for(bones=value))
        self.over = self._list(
            "What stands over the skeleton", _OVERS, lambda value: self.session.ask_for(object=value)
        )
        self.unit = self._list("Unit", _UNITS, lambda value: self.session.ask_for(unit=value))
        self.up = self._list("Axis that is up", _UPS, lambda value: self.session.ask_for(up=value))
        self.prefix_off = QCheckBox("Without the names' prefix")
        self.prefix_off.toggled.connect(lambda on: self.session.ask_for(prefix=not on))
        self.ends_off = QCheckBox("Without end bones")
        self.ends_off.setToolTip("Bones that only end the bone above them")
        self.ends_off.toggled.connect(lambda on: self.session.ask_for(ends=not on))
        return card.add(
            row(label("Bone names"), None, self.bones),
            self.prefix_off,
            self.ends_off,
            row(label("Object over it"), None, self.over),
            row(label("Unit"), None, self.unit),
            row(label("Up"), None, self.up),
        )

    def _watch_card(self):
        card = Card("Watched folder")
        self.watching = Watching(self.session)
        self.watched = QLineEdit()
        self.watched.setPlaceholderText("Folder")
        self.watched.setAccessibleName("Watched folder")
        self.watched.setText(settings.last_folder("watch") if settings.get("folder/watch") else "")
        self.watch = button("Watch", self._watch, tip="Deliver motion files that arrive there, as it is set above")
        self.watch_told = label("", "quiet", wrap=True)
        self.watching.changed.connect(self._show_watching)
        return card.add(
            row(self.watched, tool("folder", "Choose the folder to watch", self._choose_watched)),
            self.watch,
            self.watch_told,
        )

    def _choose_watched(self):
        folder = QFileDialog.getExistingDirectory(self, "Folder to watch", self.watched.text())
        if folder:
            self.watched.setText(folder)

    def _watch(self):
        if self.watching.on:
            self.watching.end()
        else:
            settings.remember_folder("watch", self.watched.text().strip())
            self.watching.begin(self.watched.text().strip())

    def _show_watching(self):
        one = self.watching
        self.watch.setText("Stop watching" if one.on else "Watch")
        self.watched.setEnabled(not one.on)
        count = f"{counted(one.done, 'file')} delivered" + (f", {one.failed} failed" if one.failed else "")
        self.watch_told.setText(
            f"Watching. {count}. {one.last}".strip() if one.on else count if one.done or one.failed else ""
        )

    @staticmethod
    def _list(name, options, act):
        box = QComboBox()
        box.setAccessibleName(name)
        box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        box.setMinimumContentsLength(14)
        for text, value in options:
            box.addItem(text, value)
        box.activated.connect(lambda i: act(box.itemData(i)))
        return box

    def _box(self, text, field, about=""):
        box = QCheckBox(text)
        box.setToolTip(about)
        box.toggled.connect(lambda on: self.session.ask_for(**{field: on}))
        return box

    # --- asking ---------------------------------------------------------------------------------
    @property
    def asked(self):
        """The recipe as it is set now."""
        return self.session.wanted.recipe

    def _name(self, **changes):
        try:
            if "template" in changes:
                check_template(changes["template"])
            wrong = ""
        except InputError as error:
            wrong = str(error)
        other, self._wrong_name = wrong != self._wrong_name, wrong
        if not wrong:
            self.session.ask_for(names=self.asked.names.model_copy(update=changes))
        if other:
            self._show_wanted()

    _wrong_name = ""

    def _frames(self):
        """Take the frames from the numbers; the last one never comes before the first."""
        first = round(self.first.value)
        last = max(round(self.last.value), first)
        self.session.ask_for(frames=(first, last) if self.part.isChecked() else None)

    def _travel(self, **changes):
        self.session.ask_for(travel=self.asked.travel.model_copy(update=changes))

    def _asked_anew(self):
        self.deliveries.forget()
        if len(self.panel.model.rows) > _MANY:
            self._soon.start()
        else:
            self._show_wanted()

    def _fill_fields(self, menu):
        menu.clear()
        for name in FIELDS:
            menu.addAction("{" + name + "}", lambda n=name: self.template.insert("{" + n + "}"))

    def _fill_formats(self, menu):
        menu.clear()
        same = menu.addAction("Same as the rig's file", lambda: self.session.ask_for(endings=()))
        same.setCheckable(True)
        same.setChecked(not self.asked.endings)
        menu.addSeparator()
        for ending in WRITABLE:
            entry = menu.addAction(ENDINGS[ending].label)
            entry.setCheckable(True)
            entry.setChecked(ending in self.asked.endings)
            entry.triggered.connect(lambda on, e=ending: self._format(e, on))

    def _format(self, ending, on):
        rest = tuple(e for e in self.asked.endings if e != ending)
        self.session.ask_for(endings=(*rest, ending) if on else rest)

    def _rig_ticked(self, item):
        key, rigs = item.data(_ID), self.session.wanted.rigs
        on = item.checkState() == Qt.CheckState.Checked
        self.session.ask_for(rigs=rigs | {key} if on else rigs - {key})

    def _choose(self):
        folder = QFileDialog.getExistingDirectory(self, "Folder for the delivered files", self.session.wanted.folder)
        if folder:
            self.session.ask_for(folder=folder)

    def _tie(self):
        pairs = tuple(untied(self.panel.model.rows))
        if pairs:
            self.session.do(TiePairs(pairs))

    def _number(self):
        self._name(template=f"{self.asked.names.template}_{{number:02}}")

    # --- recipes --------------------------------------------------------------------------------
    def _fill_recipes(self):
        known, wrong = recipes.known()
        self.recipe.clear()
        self.recipe.addItem("As set here", None)
        for name, one in known.items():
            self.recipe.addItem(name, one)
        self.recipe.setCurrentIndex(max(self.recipe.findText(self.asked.name), 0) if self.asked.name else 0)
        if wrong:
            self.session.message.emit(wrong[0])

    def _use_recipe(self, one):
        self.session.ask_for(recipe=one if one is not None else Recipe())

    def _fill_menu(self, menu):
        menu.clear()
        menu.addAction("Save as a recipe …", self._save_recipe)
        menu.addAction("Save to a file …", self._save_to_file)
        menu.addAction("Open from a file …", self._open_file)
        if self.recipe.currentData() is not None:
            menu.addSeparator()
            menu.addAction(
                f"Remove {self.recipe.currentText()}", lambda: self._remove_recipe(self.recipe.currentText())
            )

    def _save_recipe(self):
        name = ask_text(self, "Save as a recipe", "Name of the recipe", self.asked.name or "Engine")
        if name and name.strip():
            self.keep_recipe(name.strip())

    def keep_recipe(self, name):
        """Keep what is set as the user's own recipe."""
        one = self.asked.model_copy(update={"name": name})
        try:
            recipes.keep(one)
        except InputError as error:
            self.session.message.emit(str(error))
            return
        self.session.ask_for(recipe=one)
        self._fill_recipes()
        self.session.told.emit(f"Saved the recipe {name}")

    def _save_to_file(self):
        path, _ = QFileDialog.getSaveFileName(
            self, "Save the recipe", f"{self.asked.name or 'delivery'}.recipe", "Recipes (*.recipe)"
        )
        if path:
            try:
                recipe_files.save(path, self.asked, overwrite=True)
            except InputError as error:
                self.session.message.emit(str(error))

    def _open_file(self):
        path, _ = QFileDialog.getOpenFileName(
            self, "Open a recipe", settings.last_folder("deliver"), "Recipes (*.recipe)"
        )
        if path:
            self.open_recipe(path)

    def open_recipe(self, path):
        """Use the recipe of a file."""
        try:
            self.session.ask_for(recipe=recipe_files.load(path))
        except InputError as error:
            self.session.message.emit(str(error))

    def _remove_recipe(self, name):
        recipes.remove(name)
        self.session.ask_for(name="")
        self._fill_recipes()

    # --- showing --------------------------------------------------------------------------------
    def show_state(self):
        rigs = [(e.id, e.name) for e in self.session.state.of_role(RIG)]
        present = [(self.rigs.item(i).data(_ID), self.rigs.item(i).text()) for i in range(self.rigs.count())]
        if rigs != present:
            self.rigs.blockSignals(True)
            self.rigs.clear()
            for key, name in rigs:
                item = QListWidgetItem(name)
                item.setData(_ID, key)
                item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
                self.rigs.addItem(item)
            self.rigs.blockSignals(False)
        tall = self.rigs.sizeHintForRow(0) * self.rigs.count() + 2 * self.rigs.frameWidth() + 8
        self.rigs.setFixedHeight(min(max(tall, 44), 150))
        self.rigs_card.setVisible(bool(rigs))
        self._show_wanted()

    def _show_wanted(self):
        """Show what is asked for, and what stands against it."""
        wanted, recipe = self.session.wanted, self.session.wanted.recipe
        self.panel.show_state()
        rows = self.panel.model.rows
        self.rigs.blockSignals(True)
        for item in (self.rigs.item(i) for i in range(self.rigs.count())):
            item.setCheckState(Qt.CheckState.Checked if item.data(_ID) in wanted.rigs else Qt.CheckState.Unchecked)
        self.rigs.blockSignals(False)
        names, travel = recipe.names, recipe.travel
        for widget, text in (
            (self.folder, wanted.folder), (self.prefix, names.before), (self.suffix, names.behind),
            (self.find, names.find), (self.instead, names.replace),
            *(() if self._wrong_name else ((self.template, names.template),)),
        ):  # fmt: skip
            if widget.text() != text:
                _quietly(widget, lambda w=widget, t=text: w.setText(t))
        for box, on in (
            (self.motion_only, recipe.motion_only), (self.together, recipe.together), (self.subfolders, recipe.subfolders),
            (self.overwrite, wanted.overwrite), (self.zero, recipe.from_zero), (self.prefix_off, not recipe.prefix),
            (self.ends_off, not recipe.ends),
        ):  # fmt: skip
            _quietly(box, lambda b=box, o=on: b.setChecked(o))
        for box, value in (
            (self.case, names.case), (self.rate, recipe.fps), (self.place, travel.in_place), (self.bone, travel.bone),
            (self.carries, travel.root), (self.bones, recipe.bones), (self.over, recipe.object), (self.unit, recipe.unit), (self.up, recipe.up),
        ):  # fmt: skip
            _choose(box, value)
        self.smooth.set_value(travel.root_smooth or 0)
        _quietly(self.part, lambda: self.part.setChecked(recipe.frames is not None))
        first, last = recipe.frames or (0, max((r.what.length[0] - 1 for r in rows if r.chosen), default=0))
        for number, value in ((self.first, first), (self.last, last)):
            number.set_value(value)
            number.setEnabled(recipe.frames is not None)
        labels = [ENDINGS[e].label for e in recipe.endings]
        self.format.setText(", ".join(labels) if labels else "Same as the rig's file")
        self._show_body(rows)
        self._show_problems(wanted, rows)
        self._show_running()

    def _show_body(self, rows):
        able = [
            r
            for r in rows
            if r.chosen
            and r.rig is not None
            and r.rig.character is not None
            and any(ENDINGS[o.suffix.lower()].body for o in r.outs)
        ]
        self.motion_only.setEnabled(bool(able))
        self.motion_only.setToolTip(
            "Leave the rig's body away; without this, its meshes are written with the motion"
            if able
            else "None of the ticked clips is on a rig with a body, or the format holds only motion"
        )

    def _show_problems(self, wanted, rows):
        problems = [finding_words(p).text for p in problems_of(wanted, rows)]
        problems = [self._wrong_name] if self._wrong_name else problems
        self._blocked = bool(problems)
        own = list(_alike([r.problem for r in rows if r.chosen and r.problem is not None]))
        if bare := sum(r.chosen and r.rig is None for r in rows) * bool(wanted.folder.strip()):
            own.append(f"{counted(bare, 'clip')} {'has' if bare == 1 else 'have'} no rig yet: tick one.")
        there = [r for r in rows if r.chosen and r.exists and r.problem is None]
        if there and not self.deliveries.items:
            what = there[0].outs[0].name + (f" and {len(there) - 1} more exist" if len(there) > 1 else " exists")
            own.append(f"{what} already: left as {'they are' if len(there) > 1 else 'it is'}.")
        problems += [*own[:_MOST], *([f"{len(own) - _MOST} more: see the table."] if len(own) > _MOST else [])]
        self.problems.setText("\n".join(f"◆ {text}" for text in problems))
        self.problems.setVisible(bool(problems))
        codes = {r.problem.code for r in rows if r.chosen and r.problem is not None}
        self.tie.setVisible("not tied" in codes)
        self.differ.setVisible("names meet" in codes)
        self.tie.parentWidget().setVisible(bool({"not tied", "names meet"} & codes))
        self._count = sum(r.goes for r in rows)

    _blocked, _count = True, 0

    def _show_running(self):
        busy, delivery = self.deliveries.busy, self.deliveries.delivery
        self.working.setVisible(busy)
        self.bar.setVisible(busy)
        self.write.setVisible(not busy)
        self.write.setEnabled(not self._blocked and self._count > 0)
        self.write.setText(f"Write {counted(self._count, 'file')}" if self._count else "Write")
        self.summary.setText(self._summary())
        self.summary.setVisible(bool(self.summary.text()) and not busy)
        self.open_report.setVisible(self.deliveries.report is not None and not busy)
        if busy and delivery is not None:
            progress = delivery.progress
            self.bar.setValue(int(progress.share * 100))
            self.pause.setText("Go on" if delivery.paused else "Pause")
            state = "Paused" if delivery.paused else _left(progress.left)
            self.left.setText(f"{progress.done} of {progress.total}{', ' + state if state else ''}")

    def _summary(self):
        """What became of the last delivery, and why what failed did."""
        if not self.deliveries.summary:
            return ""
        failed = [item.why for item in self.deliveries.items.values() if getattr(item, "why", "")]
        sign = "◆" if failed else "✓"
        return "\n".join([f"{sign} {self.deliveries.summary}", *(f"◆ {why}" for why in failed[:3])])

    def write_now(self):
        """Write what is ticked, in the background."""
        self._soon.stop()
        settings.remember_folder("deliver", self.session.wanted.folder.strip())
        self.deliveries.begin(self.with_report.isChecked())

    def _open_report(self):
        QDesktopServices.openUrl(QUrl.fromLocalFile(str(self.deliveries.report)))


def _alike(problems):
    """Problems in words, those of one kind as one: the first, and how many more there are."""
    kinds = {}
    for one in problems:
        kinds.setdefault(one.code if one.code != "text" else one["text"], []).append(one)
    for ones in kinds.values():
        words, more = finding_words(ones[0]).text, len(ones) - 1
        yield f"{words.rstrip('.')}; {counted(more, 'other')} alike." if more else words


def _quietly(widget, act):
    """Change a widget without its telling anybody."""
    widget.blockSignals(True)
    act()
    widget.blockSignals(False)


def _choose(box, value):
    """Show a value in a list; one that a recipe brings and the list has not is put in."""
    at = next((i for i in range(box.count()) if box.itemData(i) == value), -1)
    if at < 0:
        box.addItem(
            ", ".join(value)
            if isinstance(value, tuple)
            else f"{value:g} fps"
            if isinstance(value, float)
            else str(value),
            value,
        )
        at = box.count() - 1
    box.setCurrentIndex(at)


def _left(seconds):
    """The time that is left, about."""
    if seconds is None:
        return ""
    return f"{round(seconds / 60)} min left" if seconds > 100 else f"{max(round(seconds), 1)} s left"
