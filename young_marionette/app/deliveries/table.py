"""The table of files: which clips on which rigs, what each is called, and what became of it."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QAbstractTableModel, QEvent, QModelIndex, QSize, QSortFilterProxyModel, Qt
from PySide6.QtWidgets import QAbstractItemView, QComboBox, QHeaderView, QLineEdit, QTableView, QVBoxLayout, QWidget

from ...project.bakes import Bake
from ...project.batch.choosing import BAKED_CLIP, LIBRARY, rows_of
from ...project.batch.job import DONE, FAILED, RUNNING, SKIPPED
from ...wording.findings import counted, finding_words
from .. import theme
from ..library import family_name, strip_picture
from ..parts.widgets import button, label, row, tip

COLUMNS = ("Clip", "Rig", "File", "State", "Length", "Slides", "Size")
CLIP, RIG, FILE, STATE, LENGTH, SLIDES, SIZE = range(len(COLUMNS))
_SORT = Qt.ItemDataRole.UserRole
_RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
_PICTURE = QSize(26, 30)
_TALL = 36
_ROOM = {LENGTH: 400, SLIDES: 480, SIZE: 560}  # pixels that the table needs to show a column


class Files(QAbstractTableModel):
    """All rows that may be delivered."""

    def __init__(self, session, deliveries):
        super().__init__()
        self.session, self.deliveries = session, deliveries
        self.rows, self._pictures = [], {}

    def refresh(self):
        """Work the rows out anew; where they are the same clips on the same rigs, what is chosen in the table stays."""
        rows = rows_of(self.session.state, self.session.wanted)
        if [r.key for r in rows] == [r.key for r in self.rows]:
            self.rows = rows
            self.tell()
            return
        self.beginResetModel()
        self.rows = rows
        known = {r.what.id for r in rows}
        self._pictures = {key: p for key, p in self._pictures.items() if key[0] in known}
        self.endResetModel()

    def tell(self):
        """What is shown of any row may be another."""
        if self.rows:
            self.dataChanged.emit(self.index(0, 0), self.index(len(self.rows) - 1, len(COLUMNS) - 1))

    def rowCount(self, parent=QModelIndex()):
        return 0 if parent.isValid() else len(self.rows)

    def columnCount(self, _parent=QModelIndex()):
        return len(COLUMNS)

    def headerData(self, section, orientation, role=Qt.ItemDataRole.DisplayRole):
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return COLUMNS[section]
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.TextAlignmentRole:
            return _RIGHT if section >= LENGTH else Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        return None

    def flags(self, index):
        flags = super().flags(index)
        return flags | Qt.ItemFlag.ItemIsUserCheckable if index.column() == CLIP else flags

    def data(self, index, role=Qt.ItemDataRole.DisplayRole):
        one, column = self.rows[index.row()], index.column()
        if role == Qt.ItemDataRole.DisplayRole:
            return self._text(one, column)
        if role == _SORT:
            return self._value(one, column)
        if role == Qt.ItemDataRole.CheckStateRole and column == CLIP:
            return Qt.CheckState.Checked if one.chosen else Qt.CheckState.Unchecked
        if role == Qt.ItemDataRole.DecorationRole and column == CLIP:
            return self._picture(one.what)
        if role == Qt.ItemDataRole.TextAlignmentRole and column >= LENGTH:
            return _RIGHT
        if role == Qt.ItemDataRole.ForegroundRole:
            return self._tint(one, column)
        if role == Qt.ItemDataRole.ToolTipRole:
            return tip(self._told(one, column))
        return None

    def setData(self, index, value, role=Qt.ItemDataRole.EditRole):
        if role != Qt.ItemDataRole.CheckStateRole:
            return False
        on = Qt.CheckState(value) == Qt.CheckState.Checked
        self.session.tick([self.rows[index.row()].what], on)
        return True

    def _picture(self, what):
        # A pose at a glance; what is worked out of it holds as long as its motion is the same.
        key = what.id, what.take
        if key not in self._pictures:
            self._pictures = {k: p for k, p in self._pictures.items() if k[0] != what.id}
            self._pictures[key] = strip_picture(what, _PICTURE, count=1)
        return self._pictures[key]

    def _text(self, one, column):
        item = self.deliveries.state_of(one)
        written = item if item not in (None, RUNNING) and item.state == DONE else None
        if column == CLIP:
            return one.ready.name if one.ready is not None else one.what.name
        if column == RIG:
            return one.rig.name if one.rig is not None else "no rig"
        if column == FILE:
            return ", ".join(out.name for out in one.outs)
        if column == STATE:
            return self.words(one)[0]
        if column == LENGTH:
            frames, rate = (written.frames, written.rate) if written else one.what.length
            return f"{max(frames - 1, 0) / rate:.2f} s"
        if written is None:
            return ""
        if column == SLIDES:
            return f"{written.measures.slide[1] * 1000:.1f} mm" if written.measures else ""
        return f"{written.size / 1000:,.0f} kB"

    def _value(self, one, column):
        item = self.deliveries.state_of(one)
        written = item if item not in (None, RUNNING) and item.state == DONE else None
        if column == LENGTH:
            frames, rate = one.what.length
            return frames / rate
        if column == SLIDES:
            return written.measures.slide[1] if written and written.measures else -1.0
        if column == SIZE:
            return written.size if written else -1
        return self._text(one, column).casefold()

    def words(self, one):
        """``(what is so, more of it)`` of a row, each state with a sign of its own."""
        item = self.deliveries.state_of(one)
        if item == RUNNING:
            return "▶ Working", ""
        if item is not None and item.state == DONE:
            return "✓ Written", _written_words(item)
        if item is not None and item.state in (FAILED, SKIPPED):
            return ("◆ Failed" if item.state == FAILED else "◇ Left alone"), item.why
        if not one.chosen:
            return "", ""
        if one.rig is None:
            return "◆ No rig", "Choose a rig for it."
        if one.problem is not None:
            return "◆ " + _SHORT.get(one.problem.code, "Can't be written"), finding_words(one.problem).text
        if one.exists:
            return (
                "◇ Exists",
                f"{one.outs[0].name} exists already and is left as it is, unless overwriting is asked for.",
            )
        return ("○ Waiting" if self.deliveries.busy else "○ Ready"), ""

    def _tint(self, one, column):
        if column == STATE:
            sign = self.words(one)[0][:1]
            tint = {"◆": "alarm", "✓": "text", "▶": "brass", "◇": "quiet", "○": "quiet"}.get(sign, "quiet")
            return theme.colour(tint)
        return theme.colour("text" if one.chosen and column in (CLIP, RIG, FILE) else "quiet")

    def _told(self, one, column):
        if column == STATE:
            return self.words(one)[1]
        if column == FILE:
            return "\n".join(map(str, one.outs))
        return ""


_SHORT = {"not tied": "Not tied", "strings missing": "Strings missing", "names meet": "Same name"}


def _written_words(item):
    """What a file holds, in a few words."""
    told = [counted(item.frames, "frame")]
    if item.keys:
        told = [f"{counted(item.frames, 'frame')} as keys with curves"]
    elif item.made_dense:
        ending = Path(item.outs[0]).suffix
        told = [f"{counted(item.frames, 'frame')}; a key on every frame, since {ending} holds no curves so"]
    return ". ".join([*told, *(n.rstrip(".") for n in item.notes)]) + "."


class _Shown(QSortFilterProxyModel):
    """The rows that are looked for, sorted by what their columns mean."""

    def __init__(self):
        super().__init__()
        self.words, self.family, self.kind = "", None, None
        self.setSortRole(_SORT)

    def look_for(self, words, family, kind):
        self.beginFilterChange()
        self.words, self.family, self.kind = words.casefold().split(), family, kind
        self.endFilterChange(QSortFilterProxyModel.Direction.Rows)

    def filterAcceptsRow(self, number, _parent):
        one = self.sourceModel().rows[number]
        what = one.what
        if self.kind is not None and (self.kind == BAKED_CLIP) != isinstance(what, Bake):
            return False
        if self.family is not None and _family_of(self.sourceModel().session.state, what) != self.family:
            return False
        text = " ".join((what.name, *what.tags, one.rig.name if one.rig else "")).casefold()
        return all(word in text for word in self.words)


def _family_of(state, what):
    """What people call the family of a clip, or of the clip that was baked."""
    source = next((e for e in state.entries if e.id == what.source), None) if isinstance(what, Bake) else what
    return family_name(source) if source is not None else ""


class _Table(QTableView):
    """Space ticks what is chosen. Names share the room that is left."""

    def share(self):
        """Give the names what the other columns leave; where that is little, what else is known of files goes first."""
        wide = self.viewport().width()
        for column in (LENGTH, SLIDES, SIZE):
            known = self.model().sourceModel().deliveries.items
            self.setColumnHidden(column, (column != LENGTH and not known) or wide < _ROOM[column])
        others = sum(self.columnWidth(c) for c in (RIG, STATE, LENGTH, SLIDES, SIZE) if not self.isColumnHidden(c))
        left = max(wide - others, 250)
        self.setColumnWidth(CLIP, int(left * 0.5))
        self.setColumnWidth(FILE, left - int(left * 0.5))

    def resizeEvent(self, event):
        super().resizeEvent(event)
        self.share()

    def event(self, event):
        """Space ticks here, and does not play."""
        if event.type() == QEvent.Type.ShortcutOverride and event.key() == Qt.Key.Key_Space:
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event):
        if event.key() == Qt.Key.Key_Space:
            chosen = self.selectionModel().selectedRows(CLIP)
            if chosen:
                on = not all(index.data(Qt.ItemDataRole.CheckStateRole) == Qt.CheckState.Checked for index in chosen)
                model = self.model()
                rows = [model.sourceModel().rows[model.mapToSource(index).row()].what for index in chosen]
                model.sourceModel().session.tick(rows, on)
            return
        super().keyPressEvent(event)


class FilesPanel(QWidget):
    """The table, with what is looked for in it."""

    def __init__(self, session, deliveries):
        super().__init__()
        self.session, self.deliveries = session, deliveries
        self.model, self.shown = Files(session, deliveries), _Shown()
        self.shown.setSourceModel(self.model)
        self.table = _Table()
        self.table.setAccessibleName("Files to write")
        self.table.setModel(self.shown)
        self.table.setSortingEnabled(True)
        self.table.horizontalHeader().setSortIndicator(-1, Qt.SortOrder.AscendingOrder)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setShowGrid(False)
        self.table.setWordWrap(False)
        self.table.setIconSize(_PICTURE)
        self.table.setTextElideMode(Qt.TextElideMode.ElideMiddle)
        self.table.verticalHeader().hide()
        self.table.verticalHeader().setDefaultSectionSize(_TALL)
        self.table.verticalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        self.table.doubleClicked.connect(self._look)
        header = self.table.horizontalHeader()
        header.setMinimumSectionSize(48)
        for column, wide in ((RIG, 66), (STATE, 108), (LENGTH, 62), (SLIDES, 70), (SIZE, 64)):
            self.table.setColumnWidth(column, wide)
        self.search = QLineEdit()
        self.search.setPlaceholderText("Search clips, rigs and tags")
        self.search.setAccessibleName("Search the files")
        self.search.setClearButtonEnabled(True)
        self.family, self.kind = QComboBox(), QComboBox()
        self.family.setAccessibleName("Skeleton family")
        self.kind.setAccessibleName("Which clips")
        for box, letters in ((self.kind, 6), (self.family, 7)):
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            box.setMinimumContentsLength(letters)
        self.search.setMinimumWidth(70)
        for text, value in (("All clips", None), ("Baked", BAKED_CLIP), ("Not baked", LIBRARY)):
            self.kind.addItem(text, value)
        self.search.textChanged.connect(lambda _t: self._filter())
        self.family.activated.connect(lambda _i: self._filter())
        self.kind.activated.connect(lambda _i: self._filter())
        self.all = button("All", lambda: self._tick(True), tip="Tick all that are shown")
        self.none = button("None", lambda: self._tick(False), tip="Untick all that are shown")
        self.count = label("", "quiet")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(12, 8, 12, 4)
        layout.setSpacing(6)
        layout.addWidget(row(self.search, self.kind, self.family, self.all, self.none))
        layout.addWidget(self.table, 1)
        deliveries.changed.connect(self._tell)
        self._tell()

    def minimumSizeHint(self):
        """No wider than the stage above it may be."""
        return QSize(340, 120)

    def _tell(self):
        """What is only known of written files takes no room before there are any."""
        self.table.share()
        self.model.tell()

    def show_state(self):
        """Show what may be delivered now."""
        self.model.refresh()
        families = sorted({_family_of(self.session.state, one.what) for one in self.model.rows} - {""})
        present = [self.family.itemText(i) for i in range(1, self.family.count())]
        if families != present or not self.family.count():
            chosen = self.family.currentData()
            self.family.clear()
            self.family.addItem("All families", None)
            for name in families:
                self.family.addItem(name, name)
            self.family.setCurrentIndex(max(self.family.findData(chosen), 0))
            self._filter()

    def _filter(self):
        self.shown.look_for(self.search.text(), self.family.currentData(), self.kind.currentData())

    def _tick(self, on):
        rows = [
            self.model.rows[self.shown.mapToSource(self.shown.index(i, 0)).row()] for i in range(self.shown.rowCount())
        ]
        self.session.tick([one.what for one in rows], on)

    def _look(self, index):
        one = self.model.rows[self.shown.mapToSource(index).row()]
        self.session.look_at(one.what.id)
