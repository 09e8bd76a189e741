"""The table of a recording's markers: label, segment, how far off, how sure; segments are changed in it by keyboard."""

from __future__ import annotations

from PySide6.QtCore import QAbstractTableModel, QModelIndex, Qt, Signal
from PySide6.QtWidgets import QAbstractItemView, QComboBox, QHeaderView, QStyledItemDelegate, QTableView

from ...wording.findings import certainty_words
from ...wording.markers import WHY, fault_words, segment_words
from .. import theme

MARKER, SEGMENT, OFF, SURE = range(4)
HEADS = ("Marker", "Segment", "mm off", "Sure")
NOWHERE = "none"


class MarkerModel(QAbstractTableModel):
    """The rows (MarkerRow); ``assigned(label, segment or NOWHERE)``."""

    assigned = Signal(str, str)

    def __init__(self):
        super().__init__()
        self.rows_, self.labels = [], ()

    def show_rows(self, rows, labels):
        """Show other rows; where the markers are the same ones, only their values change."""
        same = [r.label for r in rows] == [r.label for r in self.rows_]
        if not same:
            self.beginResetModel()
        self.rows_, self.labels = rows, labels
        if same:
            self.dataChanged.emit(self.index(0, 0), self.index(len(rows) - 1, len(HEADS) - 1))
        else:
            self.endResetModel()

    def rowCount(self, parent=QModelIndex()):
        return 0 if parent.isValid() else len(self.rows_)

    def columnCount(self, parent=QModelIndex()):
        return 0 if parent.isValid() else len(HEADS)

    def headerData(self, section, orientation, role=Qt.ItemDataRole.DisplayRole):
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return HEADS[section]
        return None

    def flags(self, index):
        flags = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
        return flags | Qt.ItemFlag.ItemIsEditable if index.column() == SEGMENT else flags

    def data(self, index, role=Qt.ItemDataRole.DisplayRole):
        row, column = self.rows_[index.row()], index.column()
        if role == Qt.ItemDataRole.DisplayRole:
            return self._text(row, column)
        if role == Qt.ItemDataRole.EditRole:
            return row.segment or NOWHERE
        if role == Qt.ItemDataRole.ToolTipRole:
            told = [fault_words(f, self.labels) for f in row.faults]
            return "\n".join([f"{row.label}: by {WHY[row.why]}" if row.segment else row.label, *told])
        if role == Qt.ItemDataRole.ForegroundRole:
            if row.faults and column == MARKER:
                return theme.colour("alarm")
            return theme.colour("text" if column < OFF else "quiet")
        if role == Qt.ItemDataRole.TextAlignmentRole and column in (OFF, SURE):
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        return None

    def _text(self, row, column):
        if column == MARKER:
            return f"◆ {row.label.rpartition(':')[2]}" if row.faults else row.label.rpartition(":")[2]
        if column == SEGMENT:
            # The sides by their letters: the column is narrow.
            return segment_words(row.segment).replace("left ", "L ", 1).replace("right ", "R ", 1)
        if column == OFF:
            return "" if row.residual is None else f"{row.residual * 1000:.1f}"
        return certainty_words(row.sure) if row.segment else ""

    def setData(self, index, value, role=Qt.ItemDataRole.EditRole):
        row = self.rows_[index.row()]
        if role == Qt.ItemDataRole.EditRole and value != (row.segment or NOWHERE):
            self.assigned.emit(row.label, value)
            return True
        return False


class _Segments(QStyledItemDelegate):
    """A list of the figure's segments; ``names()`` tells them."""

    def __init__(self, names):
        super().__init__()
        self.names = names

    def createEditor(self, parent, _option, _index):
        box = QComboBox(parent)
        for name in (NOWHERE, *self.names()):
            box.addItem(segment_words(name), name)
        box.activated.connect(lambda _i: self._done(box))
        return box

    def _done(self, box):
        self.commitData.emit(box)
        self.closeEditor.emit(box)

    def setEditorData(self, editor, index):
        editor.setCurrentIndex(max(editor.findData(index.data(Qt.ItemDataRole.EditRole)), 0))

    def setModelData(self, editor, model, index):
        model.setData(index, editor.currentData())


class MarkerTable(QTableView):
    """``chosen(label)``: a row was chosen."""

    chosen = Signal(str)

    def __init__(self, names):
        super().__init__()
        self.rows = MarkerModel()
        self.setModel(self.rows)
        self._delegate = _Segments(names)
        self.setItemDelegateForColumn(SEGMENT, self._delegate)
        self.setAccessibleName("Markers")
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setEditTriggers(
            QAbstractItemView.EditTrigger.DoubleClicked
            | QAbstractItemView.EditTrigger.EditKeyPressed
            | QAbstractItemView.EditTrigger.AnyKeyPressed
        )
        self.setShowGrid(False)
        self.setWordWrap(False)
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(24)
        header = self.horizontalHeader()
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        header.setSectionResizeMode(SEGMENT, QHeaderView.ResizeMode.Stretch)
        header.setHighlightSections(False)
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
        self.setMinimumHeight(190)
        self.selectionModel().currentRowChanged.connect(self._tell)

    def _tell(self, index, _before):
        if index.isValid():
            self.chosen.emit(self.rows.rows_[index.row()].label)

    def choose(self, label):
        """Choose the row of a marker."""
        for n, row in enumerate(self.rows.rows_):
            if row.label == label and self.currentIndex().row() != n:
                self.setCurrentIndex(self.rows.index(n, SEGMENT))
