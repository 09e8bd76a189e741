"""The tree beside the curves: the body's parts with their bones, a search, and favourites."""

from __future__ import annotations

import json

from PySide6.QtCore import QItemSelectionModel, Qt, Signal
from PySide6.QtGui import QKeySequence, QShortcut, QStandardItem, QStandardItemModel
from PySide6.QtWidgets import QAbstractItemView, QLineEdit, QTreeView, QVBoxLayout, QWidget

from .. import settings, theme
from ..parts.widgets import tip

_NAME = Qt.ItemDataRole.UserRole + 1
FAVOURITES = "Favourites"


class BoneTree(QWidget):
    """``chosen``: names of the joints and morphs that were chosen, by the user."""

    chosen = Signal(tuple)

    def __init__(self):
        super().__init__()
        self._shown, self._quiet = None, False
        self.favourites = set(json.loads(settings.get("curves/favourites", "[]") or "[]"))
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 6, 4, 4)
        column.setSpacing(4)
        self.search = QLineEdit()
        self.search.setPlaceholderText("Find a bone")
        self.search.setAccessibleName("Find a bone")
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(self._filter)
        self.view, self.model = QTreeView(), QStandardItemModel()
        self.view.setModel(self.model)
        self.view.setHeaderHidden(True)
        self.view.setAccessibleName("Bones and morphs")
        self.view.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.view.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.view.setIndentation(14)
        self.view.setUniformRowHeights(True)
        self.view.selectionModel().selectionChanged.connect(self._on_selection)
        self.view.setToolTip("Ctrl+click: several; a part of the body chooses all of its bones; F: favourite")
        favourite = QShortcut(QKeySequence("F"), self.view)
        favourite.setContext(Qt.ShortcutContext.WidgetShortcut)
        favourite.activated.connect(self._toggle)
        column.addWidget(self.search)
        column.addWidget(self.view, 1)

    def show_bones(self, skeleton, members, chosen):
        """Show the bones, or controls, of a skeleton and morphs by groups ``{group: names}``, with what is chosen of them."""
        key = skeleton, tuple(members.items()), frozenset(self.favourites)
        if key != self._shown:
            self._shown = key
            self._fill(members)
        self._select(chosen)

    def toggle_favourite(self, name):
        """Make a bone a favourite, or none any more."""
        self.favourites ^= {name}
        settings.put("curves/favourites", json.dumps(sorted(self.favourites)))
        if self._shown is not None:
            skeleton, members, _ = self._shown
            self.show_bones(skeleton, dict(members), self.names)

    def _fill(self, members):
        opened = {
            self.model.item(i).text()
            for i in range(self.model.rowCount())
            if self.view.isExpanded(self.model.index(i, 0))
        }
        self._quiet = True
        self.model.clear()
        known = [name for names in members.values() for name in names if name in self.favourites]
        if known:
            members = {FAVOURITES: tuple(known), **members}
        for group, names in members.items():
            parent = QStandardItem(group[0].upper() + group[1:])
            parent.setForeground(theme.colour("brass"))
            for name in names:
                child = QStandardItem(("★ " if name in self.favourites and group != FAVOURITES else "") + name)
                child.setData(name, _NAME)
                child.setToolTip(tip(name))
                parent.appendRow(child)
            self.model.appendRow(parent)
            self.view.setExpanded(parent.index(), parent.text() in opened or group == FAVOURITES)
        self._quiet = False
        self._filter(self.search.text())

    def _items(self):
        for i in range(self.model.rowCount()):
            group = self.model.item(i)
            for k in range(group.rowCount()):
                yield group, group.child(k)

    def _filter(self, text):
        """Show the bones that have the words in their names or parts."""
        words = text.casefold().split()
        shown = set()
        for group, child in self._items():
            inside = f"{group.text()} {child.data(_NAME)}".casefold()
            fits = all(word in inside for word in words)
            self.view.setRowHidden(child.row(), group.index(), not fits)
            if fits:
                shown.add(group.row())
        for i in range(self.model.rowCount()):
            self.view.setRowHidden(i, self.view.rootIndex(), i not in shown)
            if words and i in shown:
                self.view.setExpanded(self.model.index(i, 0), True)

    @property
    def names(self):
        """What is chosen, in the order of the tree; of a chosen part of the body all that can be seen of it."""
        chosen = []
        for group, child in self._items():
            hidden = self.view.isRowHidden(child.row(), group.index())
            model = self.view.selectionModel()
            if model.isSelected(child.index()) or (model.isSelected(group.index()) and not hidden):
                chosen.append(child.data(_NAME))
        return tuple(dict.fromkeys(chosen))

    def _select(self, names):
        if names == self.names:
            return
        self._quiet = True
        wanted, model = set(names), self.view.selectionModel()
        model.clearSelection()
        for group, child in self._items():
            if child.data(_NAME) in wanted:
                model.select(child.index(), QItemSelectionModel.SelectionFlag.Select)
                if len(wanted) < 8:
                    self.view.setExpanded(group.index(), True)
                    self.view.scrollTo(child.index())
                wanted.discard(child.data(_NAME))
        self._quiet = False

    def _on_selection(self, _new, _old):
        if not self._quiet:
            self.chosen.emit(self.names)

    def _toggle(self):
        for name in self.names:
            self.toggle_favourite(name)
