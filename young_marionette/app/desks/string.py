"""String: the board above, the table of strings below; tie by dragging, by choosing, or by keyboard."""

from __future__ import annotations

from PySide6.QtCore import QAbstractTableModel, QModelIndex, Qt
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QAbstractItemView, QComboBox, QHeaderView, QSplitter, QStyledItemDelegate, QTableView

from ...core.humanoid.parts import REQUIRED
from ...core.matching.tying import OPTIONAL, mirror_part
from ...project.commands import DeclareAbsent, Lock, TieAll, TieBones, Untie
from ...project.pairing import are_unlike, unlike
from ...wording.findings import certainty_words, finding_words
from ...wording.snags import origin_words
from .. import theme
from ..board import REGIONS, StringBoard
from ..parts.widgets import button, label, menu_button, row, tip, tool
from .base import Desk


class StringTable(QAbstractTableModel):
    """A row per part: required parts first, then optional ones that one side has, then what was tied beyond them."""

    heads = ("Part", "Source", "Target", "Certainty")

    def __init__(self):
        super().__init__()
        self.rows, self.state = [], None

    def show_state(self, state):
        """Show the strings of the active pair."""
        self.beginResetModel()
        self.state, self.rows = state, []
        pairing = state.pairing if state else None
        if pairing:
            tied = {s.part: s for s in pairing.strings}
            bodies = [e.figure.body for e in (state.source_entry, state.rig_entry)]
            wanted = [*REQUIRED, *(p for p in OPTIONAL if p != "root" and all(b and p in b.parts for b in bodies))]
            parts = [*wanted, *(p for p in tied if p not in wanted)]
            self.rows = [(part, tied.get(part)) for part in parts]
        self.endResetModel()

    def _not_tied(self, part):
        pair = self.state.source_entry, self.state.rig_entry
        unread = any(entry.figure.body is None for entry in pair)
        return "not needed" if part != "hips" and (unread or are_unlike(*pair)) else "absent"

    def rowCount(self, _parent=QModelIndex()):
        return len(self.rows)

    def columnCount(self, _parent=QModelIndex()):
        return len(self.heads)

    def headerData(self, section, orientation, role=Qt.ItemDataRole.DisplayRole):
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return self.heads[section]
        return None

    def flags(self, index):
        base = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
        return base | Qt.ItemFlag.ItemIsEditable if index.column() in (1, 2) else base

    def data(self, index, role=Qt.ItemDataRole.DisplayRole):
        part, string = self.rows[index.row()]
        if role == Qt.ItemDataRole.DisplayRole:
            if index.column() == 0:
                return part
            if index.column() == 3:
                return (
                    ""
                    if not string
                    else "locked"
                    if string.locked
                    else "manual"
                    if string.by_hand
                    else certainty_words(string.certainty)
                )
            if string:
                return self._run(index.column(), string)
            return (
                self._not_tied(part) if part in self.state.pairing.absent else "no string" if part in REQUIRED else "–"
            )
        if role == Qt.ItemDataRole.ToolTipRole:
            if string:
                return tip(f"{', '.join(string.source)} → {', '.join(string.target)}\n{string.reason}")
            return "This required part has no string." if part in REQUIRED else "Optional, no string."
        if role == Qt.ItemDataRole.ForegroundRole:
            if string is None:
                return QColor(
                    theme.NIGHT["alarm" if part in REQUIRED and part not in self.state.pairing.absent else "quiet"]
                )
            if not string.sure and index.column() == 3:
                return QColor(theme.NIGHT["brass"])
        if role == Qt.ItemDataRole.FontRole and string and not string.sure:
            font = theme.font(12)
            font.setItalic(True)
            return font
        return None

    def _run(self, column, string):
        """The bones of one side, without the prefix that all names share."""
        entry, names = (
            (self.state.source_entry, string.source) if column == 1 else (self.state.rig_entry, string.target)
        )
        prefix = entry.figure.body.names.prefix if entry.figure.body else ""
        return _run([n.removeprefix(prefix) for n in names])

    def row_of(self, part):
        """The row of a part, or -1."""
        return next((i for i, (p, _) in enumerate(self.rows) if p == part), -1)


def _run(names):
    return names[0] if len(names) == 1 else f"{names[0]} + {len(names) - 1}"


class BoneChooser(QStyledItemDelegate):
    """A list of bones in a cell; choosing one ties it."""

    def __init__(self, desk):
        super().__init__(desk)
        self.desk = desk

    def createEditor(self, parent, _option, index):
        box = QComboBox(parent)
        state = self.desk.session.state
        skeleton = (state.source_entry if index.column() == 1 else state.rig_entry).placed_skeleton
        box.addItems(["no bone", "this part is absent", *skeleton.names])
        box.activated.connect(lambda _i: (self.commitData.emit(box), self.closeEditor.emit(box)))
        return box

    def setEditorData(self, editor, index):
        """Show what is tied now: a bone, or a run of bones as an item of its own."""
        string = self.desk.table.rows[index.row()][1]
        names = () if string is None else string.source if index.column() == 1 else string.target
        if len(names) > 1 and editor.itemText(0) != _run(names):
            editor.insertItem(0, _run(names))
        editor.setCurrentText(_run(names) if names else "no bone")

    def setModelData(self, editor, _model, index):
        self.desk.choose_bone(index.row(), index.column(), editor.currentText())


class StringDesk(Desk):
    title, wide, scrolls = "String", 500, False

    def build(self):
        self.board, self.table, self.view = StringBoard(), StringTable(), QTableView()
        self._half, self._clicked = {}, None
        self.region = QComboBox()
        for region in REGIONS:
            self.region.addItem(region.capitalize(), region)
        self.region.setMinimumWidth(88)  # only where the desk is narrow: the row is full
        self.region.setAccessibleName("Part of the body to zoom to")
        self.region.setToolTip("Part of the body to zoom to (R cycles)")
        self.region.currentIndexChanged.connect(lambda _i: self.board.set_region(self.region.currentData()))
        self.beside = menu_button("Extras", self._fill_beside, "Which bones beside the body the board shows")
        self.mirror = tool(
            "mirror", "Mirror to the other side", None, True, "Tying one side also ties the other side (M)"
        )
        self.mirror.setChecked(True)
        self.column.addWidget(
            row(
                self.region,
                self.beside,
                None,
                self.mirror,
                button(
                    "Tie all",
                    self.tie_again,
                    tip="Tie everything again automatically, or only the part of the body that is shown; locked strings stay (Ctrl+T)",
                ),
                button(
                    "Tie untied",
                    lambda: self.session.do(TieAll(only_untied=True)),
                    tip="Tie only parts without a string (U)",
                ),
            )
        )
        self.board.tied.connect(self.tie_dragged)
        self.board.part_chosen.connect(lambda part: self.session.choose(part=part))
        self.board.clicked.connect(self.click_to_tie)
        self.board.pointed.connect(self.session.told)
        self.view.setModel(self.table)
        self.view.setItemDelegate(BoneChooser(self))
        self.view.verticalHeader().hide()
        self.view.verticalHeader().setDefaultSectionSize(27)
        self.view.setTextElideMode(Qt.TextElideMode.ElideMiddle)
        self.view.setShowGrid(False)
        self.view.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.view.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.view.setEditTriggers(
            QAbstractItemView.EditTrigger.DoubleClicked | QAbstractItemView.EditTrigger.EditKeyPressed
        )
        self.view.setAccessibleName("Strings")
        head = self.view.horizontalHeader()
        head.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        for column, mode in (
            (0, QHeaderView.ResizeMode.ResizeToContents),
            (1, QHeaderView.ResizeMode.Stretch),
            (2, QHeaderView.ResizeMode.Stretch),
            (3, QHeaderView.ResizeMode.ResizeToContents),
        ):
            head.setSectionResizeMode(column, mode)
        self.view.selectionModel().currentRowChanged.connect(self._row_chosen)
        split = QSplitter(Qt.Orientation.Vertical)
        split.setChildrenCollapsible(False)
        split.addWidget(self.board)
        split.addWidget(self.view)
        split.setSizes([330, 240])
        split.setHandleWidth(6)
        self.column.addWidget(split, 1)
        self.why = label("", "quiet", wrap=True)
        self.why.setMinimumHeight(34)
        self.untie = tool("untie", "Untie (Delete)", self.untie_chosen)
        self.lock = tool(
            "lock", "Lock this string", self.lock_chosen, True, "Lock this string: automatic tying keeps it (K)"
        )
        self.column.addWidget(row(self.untie, self.lock, self.why, stretch_last=True))

    def _fill_beside(self, menu):
        """A switch per kind of bone beside the body, and one for all."""
        menu.clear()
        kinds, hidden = self.board.kinds(), self.board.hidden
        everything = menu.addAction("All", lambda: self.board.set_hidden(set() if hidden & set(kinds) else kinds))
        everything.setCheckable(True)
        everything.setChecked(not hidden & set(kinds))
        menu.addSeparator()
        for kind, count in kinds.items():
            one = menu.addAction(
                f"{kind[0].upper()}{kind[1:]} ({count})", lambda k=kind: self.board.set_hidden(hidden ^ {k})
            )
            one.setCheckable(True)
            one.setChecked(kind not in hidden)

    def show_state(self):
        state = self.session.state
        self.board.show_pair(state.source_entry, state.rig_entry, state.pairing, self.session.part)
        self.beside.setVisible(bool(self.board.kinds()))
        self.table.show_state(state)
        place = self.table.row_of(self.session.part)
        if place >= 0:
            self.view.setCurrentIndex(self.table.index(place, 1))
        string = self.table.rows[place][1] if place >= 0 else None
        self.untie.setEnabled(string is not None)
        self.lock.setEnabled(string is not None)
        self.lock.setChecked(string is not None and string.locked)
        self.why.setText(
            f"{string.part}: {string.reason}"
            if string
            else f"{self._origin(state)} Drag from bone to bone, or double-click a bone in the table."
            if self.table.rows
            else ""
        )

    def _origin(self, state):
        source, rig = state.source_entry, state.rig_entry
        if not state.pairing.strings and are_unlike(source, rig):
            return finding_words(unlike(source, rig)).text
        return origin_words(state.pairing.origin) if state.pairing.strings else "Nothing is tied."

    def _row_chosen(self, current, _before):
        if current.isValid() and current.row() < len(self.table.rows):
            self.session.choose(part=self.table.rows[current.row()][0])

    def tie_dragged(self, source, target):
        """Tie bones, or runs of bones, that were joined on the board."""
        part = self.board.part_of("rig", target[0]) or self.board.part_of("source", source[0]) or target[0]
        self.tie(part, source, target)

    def click_to_tie(self, side, name):
        """A bone was clicked with Shift or met with Enter, on the board or on the stage: the second, on the other figure, ties."""
        before, self._clicked = self._clicked, (side, name)
        if before is None or before[0] == side:
            self.session.told.emit(f"{name}: now Shift and click, or Enter, on a bone of the other figure")
            return
        self._clicked = None
        ends = {side: self.board.run_with(side, name) for side, name in (before, (side, name))}
        self.board.runs = {}
        self.tie_dragged(ends["source"], ends["rig"])

    def tie(self, part, source, target):
        """Tie bones for a part, and its mirror where that is on; a part that was absent is there again."""
        absent = [DeclareAbsent(part, False)] if part in self.session.state.pairing.absent else []
        mirror = self.mirror.isChecked() and mirror_part(part) is not None
        if self.session.do(TieBones(part, source, target, mirror), *absent):
            self._half.pop(part, None)
            self.session.choose(part=part)

    def choose_bone(self, place, column, name):
        """A bone was chosen in the table: one side at a time where there was no string yet."""
        part, string = self.table.rows[place]
        state = self.session.state
        if name == "this part is absent":
            self.session.do(DeclareAbsent(part))
            return
        if name == "no bone":
            absent = [DeclareAbsent(part, False)] if part in state.pairing.absent else []
            self.session.do(Untie(part), *absent)
            return
        skeleton = (state.source_entry if column == 1 else state.rig_entry).placed_skeleton
        if name not in skeleton.index:
            return
        ends = [string.source, string.target] if string else list(self._half.get(part, [(), ()]))
        ends[column - 1] = (name,)
        if all(ends):
            self.tie(part, *ends)
        else:
            if part in state.pairing.absent:
                self.session.do(DeclareAbsent(part, False))
            self._half[part] = ends
            other = "target" if column == 1 else "source"
            self.why.setText(f"{part}: now choose the {other} bone for {name}.")

    def tie_again(self):
        """Tie all by itself, or where the board is zoomed to a part of the body, only that."""
        parts = REGIONS[self.board.region]
        self.session.do(TieAll(parts=parts))

    def lock_chosen(self):
        """Lock or unlock the chosen string."""
        string = (
            next((s for s in self.session.state.pairing.strings if s.part == self.session.part), None)
            if self.session.state.pairing
            else None
        )
        if string:
            self.session.do(Lock(string.part, not string.locked))

    def absent_chosen(self):
        """Say that the chosen part is not there on one of the figures, or take that back."""
        part, pairing = self.session.part, self.session.state.pairing
        if part and pairing:
            self.session.do(DeclareAbsent(part, part not in pairing.absent))

    def untie_chosen(self):
        """Take the string off the chosen part."""
        if self.session.part:
            self.session.do(Untie(self.session.part))

    def keyPressEvent(self, event):
        if event.key() == Qt.Key.Key_Delete:
            self.untie_chosen()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.view.currentIndex().isValid():
            self.view.edit(self.table.index(self.view.currentIndex().row(), max(self.view.currentIndex().column(), 1)))
        elif event.key() == Qt.Key.Key_K:
            self.lock_chosen()
        elif event.key() == Qt.Key.Key_M:
            self.mirror.toggle()
        elif event.key() == Qt.Key.Key_R:
            self.region.setCurrentIndex((self.region.currentIndex() + 1) % self.region.count())
        elif event.key() == Qt.Key.Key_U:
            self.session.do(TieAll(only_untied=True))
        elif event.key() == Qt.Key.Key_X:
            self.absent_chosen()
        else:
            super().keyPressEvent(event)
