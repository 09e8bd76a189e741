"""What was found about one entry: each fact with its evidence and a way to correct it."""

from __future__ import annotations

from PySide6.QtWidgets import QComboBox, QLineEdit, QVBoxLayout, QWidget

from ...core.errors import InputError
from ...core.figure.correction import BIND
from ...core.figure.placement import AXIS_NAMES
from ...core.findings import MANUAL, Fact, finding
from ...core.matching.conventions import CONVENTIONS, convention_names, learned_names, tied_names
from ...core.matching.families import kinship
from ...project.commands import AddEntries, Correct, RenameBones
from ...project.opening import of_skeleton
from ...wording.facts import fact_words
from ...wording.findings import finding_words
from .. import theme
from ..library import family_name
from ..parts.widgets import Card, Number, button, label, row
from .facts import FactGrid, choice, measure_options

TIED = "tied"
_CHOICES = {"unit": "scale", "up": "up", "facing": "facing"}  # facts with a few values: the correction of each


class Chooser(QComboBox):
    """A list that is filled when it is opened, since what it offers depends on all of the library."""

    def __init__(self, fill):
        super().__init__()
        self.fill = fill
        self.addItem("Rename bones …", None)

    def showPopup(self):
        self.fill()
        super().showPopup()


class FactCard(Card):
    """The facts of one entry; unit, up and facing can be corrected."""

    def __init__(self, heading, session, empty):
        super().__init__(heading)
        self.session, self.entry, self.empty = session, None, empty
        self.name = label("", wrap=True)
        self.name.setFont(theme.font(13, True))
        self.grid = FactGrid(self._editor)
        self.notes = label("", wrap=True)
        self.add(self.name, self.grid, self.notes)
        self._build_tools()
        self._shown, self.boxes = 0, {}

    def _build_tools(self):
        self.rate = Number(30, "fps", 1, 3, 0.1, 1000, None, "The frame rate that the clip was recorded for")
        self.rate.edited.connect(lambda value, settled: settled and self._correct("rate", value))
        self.floor = button(
            "Put on the floor",
            self._put_on_floor,
            tip="Move the clip up or down so that its feet stand on the floor",
        )
        self.centre = QComboBox()
        self.centre.setAccessibleName("Where the clip starts")
        for text, value in (
            ("Start position: as in the file", None),
            ("Start position: origin", "origin"),
            ("Start position: centre line", "line"),
        ):
            self.centre.addItem(text, value)
        self.centre.activated.connect(lambda _i: self._correct("centred", self.centre.currentData()))
        self.as_read = button(
            "Reset",
            lambda: self._correct_all(rate=None, lift=None, centred=None, in_place=None, grounded=None),
            tip="Reset frame rate, floor, start position and travel",
        )
        self.names = Chooser(self._fill_names)
        self.names.setAccessibleName("Rename the bones")
        self.names.activated.connect(self._rename)
        self.tools = QWidget()
        column = QVBoxLayout(self.tools)
        column.setContentsMargins(0, 4, 0, 0)
        self.motion_tools = QWidget()
        inner = QVBoxLayout(self.motion_tools)
        inner.setContentsMargins(0, 0, 0, 0)
        for widget in (
            row(label("Frames per second", "quiet"), None, self.rate),
            row(self.floor, None, self.as_read),
            self.centre,
        ):
            inner.addWidget(widget)
        self.part = button(
            "Part into takes",
            self._part_take,
            tip="Add each animation that was read as a part of this take as one of its own",
        )
        column.addWidget(self.motion_tools)
        column.addWidget(self.part)
        column.addWidget(self.names)
        self.add(self.tools)

    def _show_tools(self, entry):
        self.tools.setVisible(entry is not None)
        if entry is None:
            return
        self.part.setVisible(any(note.code == "one take" for note in entry.notes) and entry.path is not None)
        self.motion_tools.setVisible(entry.clip is not None and entry.clip.frames > 2)
        if entry.clip is not None:
            self.rate.set_value(entry.placed_clip.rate)
            self.rate.set_default(entry.clip.rate)
            self.centre.setCurrentIndex(max(self.centre.findData(entry.correction.centred), 0))
            self.floor.setEnabled(self._floor_off(entry) != 0)
            self.as_read.setEnabled(
                any(
                    getattr(entry.correction, f) is not None
                    for f in ("rate", "lift", "centred", "in_place", "grounded")
                )
            )
        self.names.setEnabled(entry.figure.body is not None)

    def _fill_names(self):
        """What the bones can be renamed to: conventions, and one member of each other family."""
        self.names.clear()
        self.names.addItem("Rename bones …", None)
        for key, (title, _) in CONVENTIONS.items():
            self.names.addItem(f"to {title} names", key)
        pairing = self.session.state.pairing
        if self.entry is not None and pairing is not None and self.entry is self.session.state.rig_entry:
            self.names.addItem("to VRM names, as tied", TIED)
        families = {self.entry.family} if self.entry else set()
        for other in self.session.state.of_role("rig", "clip"):
            if other.family not in families and other.figure.body:
                families.add(other.family)
                self.names.addItem(f"to the names of {other.name}", other.id)

    @staticmethod
    def _floor_off(entry):
        return next((odd["metres"] for odd in entry.motion[1] if odd.code == "floor"), 0.0)

    def _put_on_floor(self):
        self._correct("lift", (self.entry.correction.lift or 0.0) - self._floor_off(self.entry))

    def _part_take(self):
        try:
            entries = [e for e in of_skeleton(self.entry.path, parted=True) if e.take is not None]
        except InputError as error:
            self.session.message.emit(str(error))
            return
        own = [e for e in entries if e.skeleton.names == self.entry.skeleton.names]
        if self.session.do(AddEntries(tuple(own))):
            self.session.told.emit(f"{len(own)} takes added; the whole one stays")

    def _correct_all(self, **changes):
        self.session.do(Correct(self.entry.id, tuple(changes.items())))

    def _rename(self, _index):
        chosen, entry = self.names.currentData(), self.entry
        self.names.setCurrentIndex(0)
        if chosen is None or entry is None:
            return
        table = ()
        if chosen == TIED:
            names, table = tied_names(self.session.state.pairing.strings, entry.skeleton, "vrm")
        elif chosen in CONVENTIONS:
            names = convention_names(entry.skeleton, entry.figure.body, chosen)
        else:
            other = self.session.state.entry(chosen)
            names = learned_names(entry.skeleton, entry.figure.body, other.skeleton, other.figure.body)
        if self.session.do(RenameBones(entry.id, tuple(names.items()), table)):
            self.session.told.emit(f"{len(names)} bones renamed; the motion is unchanged")

    def show_entry(self, entry):
        """Show an entry's facts; None says what to do first."""
        families = {e.family for e in self.session.state.entries}
        key = (entry.id, entry.correction, entry.name, entry.skeleton.names, len(families)) if entry else None
        if key == self._shown:
            return
        self._show_tools(entry)
        self.entry, self._shown, self.boxes = entry, key, {}
        if entry is None:
            self.grid.show_facts(())
            self.name.setText("")
            self.name.hide()
            self.notes.setText(self.empty)
            self.notes.show()
            return
        self.name.show()
        self.name.setText(entry.name)
        # A rig stands still: what is told of motion is told of clips only.
        still = entry.role == "rig"
        motion = () if still else entry.motion[0]
        told = (*entry.figure.facts, *entry.body_facts, *motion, *self._file_facts(entry), self._family_fact(entry))
        self.grid.show_facts(told)
        odd = [o for o in entry.oddities if not (still and o.code in ("short", "floor"))]
        self.notes.setText("\n".join(f"◆ {o.text} {o.remedy}" for o in map(finding_words, odd)))
        self.notes.setVisible(bool(odd))

    def _file_facts(self, entry):
        """What else the entry's file holds, where it holds more than the entry."""
        siblings = [e for e in self.session.state.entries if e.path == entry.path]
        if entry.path is None or len(siblings) < 2:
            return
        clips = [e for e in siblings if e.clip is not None and (e.role == "clip" or e.clip.frames > 2)]
        if clips:
            short = [e.name.removeprefix(f"{entry.path.stem}: ") for e in clips]
            yield Fact("animations", {"names": short})
        skeletons = len({e.skeleton.names for e in siblings})
        if skeletons > 1:
            yield Fact("skeletons", {"count": skeletons})

    def _family_fact(self, entry):
        """Which family the entry counts with: a fact of the library, not of the file alone."""
        count = sum(e.family == entry.family for e in self.session.state.entries) - 1
        source = MANUAL if entry.correction.family else finding("siblings", count=count)
        return Fact("family", {"name": family_name(entry)}, source)

    def _editor(self, fact, words):
        """What a fact is corrected with, or None where it is measured and can't be wrong."""
        correction = self.entry.correction
        if fact.code in _CHOICES:
            return self._chooser(fact)
        if fact.code == "name prefix":
            edit = QLineEdit(fact["prefix"])
            edit.setPlaceholderText("none")
            edit.setToolTip("Text that all bone names begin with; leave empty to detect it")
            edit.editingFinished.connect(lambda: self._prefix_typed(edit.text()))
            edit.setAccessibleName(words.label)
            self.boxes[fact.code] = edit
            return edit
        if fact.code == "travel":
            options = [("as in the file" if fact["in_place"] else "travels", None), ("in place", True)]
            return self._list(fact, options, correction.in_place, "in_place")
        if fact.code == "detail":
            options = [(f"level {n}{', the finest' if n == 0 else ''}", n) for n in self.entry.character.levels]
            return self._list(fact, options, self.entry.level, "level")
        if fact.code == "rest pose" and (self.entry.clip is not None or self.entry.character is not None):
            return self._list(fact, self._rest_poses(words.value), correction.rest, "rest")
        if fact.code == "family":
            options = self._families()
            return self._list(fact, options, correction.family, "family") if len(options) > 1 else None
        return None

    def _rest_poses(self, words):
        """``(text, correction)`` of the poses that may be the true rest pose; ``words``: what the present one is."""
        entry, present = self.entry, self.entry.correction.rest
        options = [(words if present is None else "as in the file", None)]
        if entry.clip is not None:
            frames = (present, 0, self.session.frame if self.session.clip is entry else 0)
            for frame in dict.fromkeys(f for f in frames if f not in (None, BIND)):
                options.append((f"{words} (frame {frame})" if frame == present else f"as in frame {frame}", frame))
        if entry.character is not None:
            options.append((f"{words} (bound)" if present == BIND else "bind pose", BIND))
        return options

    def _families(self):
        """``(text, fingerprint)`` of the families that the entry may count with: its own, and what is akin to it."""
        entry, members = self.entry, {}
        for other in self.session.state.of_role("clip", "rig"):
            if other.family != entry.figure.fingerprint and kinship(other.skeleton, entry.skeleton) > 0.3:
                members.setdefault(other.family, []).append(other.name)
        options = [(family_name(entry) if entry.correction.family is None else "detected", None)]
        for family, names in members.items():
            more = f" and {len(names) - 1} more" if len(names) > 1 else ""
            options.append((f"same as {names[0]}{more}", family))
        return options

    def _list(self, fact, options, present, field):
        """A list of ``(text, correction)``, of which that for ``present`` is chosen."""
        box = choice(fact_words(fact).label, options, present, lambda value: self._correct(field, value))
        self.boxes[fact.code] = box
        return box

    def _prefix_typed(self, text):
        known = self.entry.figure.body.names.prefix if self.entry.figure.body else ""
        if text == known:
            return
        if text and not any(n.startswith(text) for n in self.entry.skeleton.names):
            self.session.message.emit(f"No bone of {self.entry.name} has a name that begins with {text}.")
            self.boxes["name prefix"].setText(known)
            return
        self._correct("prefix", text or None)

    def _chooser(self, fact):
        """A list of all that unit or axis may be, and of going back to what was detected."""
        figure, field = self.entry.figure, _CHOICES[fact.code]
        axes = [axis for axis in AXIS_NAMES if fact.code == "up" or axis[1] != figure.up[1]]
        present = figure.placement.scale if fact.code == "unit" else fact["axis"]
        by_hand = getattr(self.entry.correction, field) is not None
        options, present = measure_options(fact.code, axes, present, by_hand)
        return self._list(fact, options, present, field)

    def _correct(self, field, value):
        self.session.do(Correct(self.entry.id, ((field, value),)))
