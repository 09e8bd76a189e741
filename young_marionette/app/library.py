"""The library: clips by skeleton family, rigs, baked clips and stringings, with small strips of their motion."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import QEvent, QModelIndex, QPointF, QRect, QRectF, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QPainter, QPen, QPixmap, QStandardItem, QStandardItemModel
from PySide6.QtWidgets import (
    QComboBox,
    QLineEdit,
    QMenu,
    QPushButton,
    QStyle,
    QStyledItemDelegate,
    QToolTip,
    QTreeView,
    QVBoxLayout,
    QWidget,
)

from ..core.scene.flat import spread_frames, strip
from ..project.commands import Choose, Remove, SetRole, Tag, UseStringing
from ..project.entry import BAKED, CLIP, RIG
from ..project.markers.entry import MARKERS
from ..project.markers.showing import dot_poses
from ..wording.facts import rest_pose_words
from ..wording.findings import finding_words
from . import icons, theme
from .parts.widgets import ask_text, button, tip
from .stage.view import mark

_KEY, _KIND = Qt.ItemDataRole.UserRole + 1, Qt.ItemDataRole.UserRole + 2
HEADING, STRINGING = "heading", "stringing"
_POSES = 4
_SHOWN = (CLIP, RIG, BAKED, MARKERS)  # what can be looked at on the stage
ORDERS = {
    "As opened": None,
    "By name": lambda e: e.name.casefold(),
    "Longest first": lambda e: -_seconds(e),
    "By tag": lambda e: (not e.tags, e.tags),
}


def _seconds(entry):
    frames, rate = entry.length
    return max(frames - 1, 0) / rate


# Folders that are called so say nothing about a skeleton.
_ANY_FOLDER = frozenset(
    [
        "clip",
        "clips",
        "motion",
        "motions",
        "take",
        "takes",
        "anim",
        "anims",
        "animation",
        "animations",
        "mocap",
        "capture",
        "captures",
        "data",
        "file",
        "files",
        "download",
        "downloads",
        "desktop",
        "documents",
        "export",
        "exports",
        "import",
        "imports",
        "source",
        "sources",
        "library",
        "tmp",
        "temp",
        "new",
        "bvh",
        "glb",
        "gltf",
        "usd",
        "amc",
        "c3d",
        "home",
    ]
)


def family_name(entry):
    """What people call a family: the name prefix, else the folder where that says something, else the skeleton's root and size."""
    prefix = entry.figure.body.names.prefix.rstrip(":_.|- ") if entry.figure.body else ""
    folder = entry.path.parent.name if entry.path else ""
    if prefix or (folder and folder.casefold() not in _ANY_FOLDER):
        return prefix or folder
    return f"{entry.skeleton.names[0]}, {len(entry.skeleton)} joints"


def family_headings(families):
    """What the clips of each family stand under (``families``: lists of entries): names that are told apart by what differs."""
    names = [family_name(members[0]) for members in families]
    sizes = [len(members[0].skeleton) for members in families]
    headings = []
    for i, name in enumerate(names):
        same = [k for k, other in enumerate(names) if other == name]
        if len(same) > 1 and len({sizes[k] for k in same}) == len(same):
            name += f", {sizes[i]} joints"
        elif len(same) > 1 and same[0] != i:
            name += f", skeleton {same.index(i) + 1}"
        headings.append(f"Clips of {name}")
    return headings


def strip_picture(entry, size, ratio=2.0, count=_POSES):
    """A few poses of an entry as stick figures, seen from a little aside."""
    picture = QPixmap(int(size.width() * ratio), int(size.height() * ratio))
    picture.fill(Qt.GlobalColor.transparent)
    if entry.role == MARKERS:
        return _dot_strip(entry, size, picture, ratio)
    body = entry.figure.body
    count = count if entry.length[0] > 2 else 1
    from ..project.playback import Motion

    # What passes make of a baked clip would have to be worked out first, and could not be told from it in this size.
    motion = Motion(replace(entry, passes=()) if entry.role == BAKED else entry)
    poses = [motion.at(f)[0] for f in spread_frames(motion.frames, count)]
    if entry.role == RIG:
        poses = [entry.placed_skeleton.rest_world[0]]  # what a rig is told by, whatever frame its file holds
    hips = body.parts["hips"][0] if body else 0
    hidden = set(body.parts.get("root", ())) if body else set()
    flat, tall = strip(poses, hips)
    p = QPainter(picture)
    p.setRenderHint(QPainter.RenderHint.Antialiasing)
    p.scale(ratio, ratio)
    p.setPen(theme.round_pen(theme.colour({CLIP: "performer", RIG: "marionette", BAKED: "baked"}[entry.role]), 1.2))
    step, scale = size.width() / count, (size.height() - 3) / tall
    for i, pose in enumerate(flat):
        for joint, parent in enumerate(entry.skeleton.parents):
            if parent >= 0 and parent not in hidden:
                a, b = (
                    QPointF((i + 0.5) * step + pose[j, 0] * scale, size.height() - 2 - pose[j, 1] * scale)
                    for j in (parent, joint)
                )
                p.drawLine(a, b)
    p.end()
    picture.setDevicePixelRatio(ratio)
    return picture


def _dot_strip(entry, size, picture, ratio):
    """A few frames of a recording as dots."""
    flat, tall = strip(dot_poses(entry, _POSES), None)
    p = QPainter(picture)
    p.setRenderHint(QPainter.RenderHint.Antialiasing)
    p.scale(ratio, ratio)
    p.setPen(Qt.PenStyle.NoPen)
    p.setBrush(theme.colour("text"))
    step, scale = size.width() / len(flat), (size.height() - 3) / tall
    for i, points in enumerate(flat):
        for x, y in points.tolist():
            p.drawEllipse(QPointF((i + 0.5) * step + x * scale, size.height() - 2 - y * scale), 0.9, 0.9)
    p.end()
    picture.setDevicePixelRatio(ratio)
    return picture


def fitted(metrics, text, width):
    """A name that fits a width: cut in the middle, since names of takes differ at their ends."""
    return metrics.elidedText(text, Qt.TextElideMode.ElideMiddle, width)


class _Delegate(QStyledItemDelegate):
    def __init__(self, session, drawn):
        super().__init__()
        self.session, self.drawn, self._strips, self._waiting = session, drawn, {}, []
        self._draw = QTimer(interval=0)
        self._draw.timeout.connect(self._draw_next)

    def sizeHint(self, _option, index):
        return QSize(120, 30 if index.data(_KIND) == HEADING else 34 if index.data(_KIND) == STRINGING else 50)

    def paint(self, p, option, index):
        p.save()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        box, kind = QRect(option.rect), index.data(_KIND)
        if kind == HEADING:
            p.setFont(theme.font(12, True))
            p.setPen(theme.colour("brass"))
            p.drawText(box.adjusted(10, 6, -4, 0), Qt.AlignmentFlag.AlignVCenter, index.data())
        else:
            self._paint_row(p, option, index, box, kind)
        p.restore()

    def _paint_row(self, p, option, index, box, kind):
        if option.state & (QStyle.StateFlag.State_Selected | QStyle.StateFlag.State_MouseOver):
            chosen = option.state & QStyle.StateFlag.State_Selected
            p.setPen(
                QPen(theme.colour("brass"), 1.2)
                if chosen and option.state & QStyle.StateFlag.State_HasFocus
                else Qt.PenStyle.NoPen
            )
            p.setBrush(theme.colour("lifted" if chosen else "raised"))
            p.drawRoundedRect(QRectF(box).adjusted(4, 1.5, -4, -1.5), 7, 7)
        key, state = index.data(_KEY), self.session.state
        if key in (state.source, state.rig):
            mark(
                p, QPointF(box.left() + 14, box.center().y()), "performer" if key == state.source else "marionette", 4.5
            )
        elif kind == BAKED:
            mark(p, QPointF(box.left() + 14, box.center().y()), "baked", 4.5)
        entry = state.entry(key) if kind != STRINGING else None
        wide = 0
        if entry is not None:
            size = QSize(80 if entry.role != RIG else 34, 34)
            wide = size.width() + 6
            p.drawPixmap(box.right() - wide - 4, box.top() + 8, self._strip(entry, size))
        text = box.adjusted(26, 7, -wide - 12, 0)
        p.setFont(theme.font(12, key in (state.source, state.rig)))
        p.setPen(theme.colour("text"))
        p.drawText(
            text,
            Qt.AlignmentFlag.AlignTop,
            fitted(p.fontMetrics(), index.data(), text.width()),
        )
        if entry is not None:
            p.setFont(theme.font(11))
            p.setPen(theme.colour("quiet"))
            p.drawText(
                text.adjusted(0, 19, 0, 0),
                Qt.AlignmentFlag.AlignTop,
                p.fontMetrics().elidedText(_second_line(entry), Qt.TextElideMode.ElideRight, text.width()),
            )

    def helpEvent(self, event, view, option, index):
        """What is known of an entry, worked out only where the pointer rests."""
        entry = self.session.state.entry(index.data(_KEY)) if index.isValid() else None
        if event.type() != QEvent.Type.ToolTip or entry is None:
            return super().helpEvent(event, view, option, index)
        words = (entry.name, str(entry.path or "no file"), *(finding_words(odd).text for odd in entry.oddities))
        QToolTip.showText(event.globalPos(), tip("\n".join(words)), view)
        return True

    def _strip(self, entry, size):
        key = (entry.id, entry.correction, entry.role)
        if key not in self._strips:
            if len(self._strips) > 600:
                self._strips.clear()
            self._strips[key] = QPixmap(1, 1)
            self._strips[key].fill(Qt.GlobalColor.transparent)
            self._waiting.append((key, entry, size))
            self._draw.start()
        return self._strips[key]

    def _draw_next(self):
        """One strip at a time, so that a long list never holds up the window."""
        if not self._waiting:
            self._draw.stop()
            return
        key, entry, size = self._waiting.pop(0)
        self._strips[key] = strip_picture(entry, size)
        self.drawn()


def _second_line(entry):
    if entry.role == MARKERS:
        return f"{_seconds(entry):.1f} s · {entry.recording.rate:g} fps · {len(entry.recording)} markers"
    if entry.role == RIG:
        return f"{rest_pose_words(entry.figure.rest_pose)} · {len(entry.skeleton)} joints"
    frames, rate = entry.length
    tags = "".join(f" · {tag}" for tag in entry.tags)
    return (f"{_seconds(entry):.1f} s · {rate:g} fps" if frames > 1 else "one frame") + tags


def _is_found(entry, wanted):
    """Whether words that are searched for are in an entry's name, family or tags."""
    of = entry.recording.labels if entry.role == MARKERS else (family_name(entry),)
    return any(wanted in text.casefold() for text in (entry.name, *of, *entry.tags))


class Library(QWidget):
    """The panel on the left."""

    open_asked = Signal()

    def __init__(self, session):
        super().__init__()
        self.setObjectName("library")
        self.session, self._shown = session, []
        layout = QVBoxLayout(self)
        layout.setContentsMargins(8, 10, 4, 10)
        layout.setSpacing(theme.SPACE)
        self.search = QLineEdit(placeholderText="Search the library")
        self.search.setAccessibleName("Search the library")
        self.search.addAction(icons.icon("search", "quiet"), QLineEdit.ActionPosition.LeadingPosition)
        self.search.textChanged.connect(lambda _t: self._fill())
        self.order = QComboBox()
        self.order.setAccessibleName("Order of the clips")
        self.order.setToolTip("Order of the clips")
        for text, key in ORDERS.items():
            self.order.addItem(text, key)
        self.order.activated.connect(lambda _i: self._fill())
        layout.addWidget(self.search)
        layout.addWidget(self.order)
        self.model = QStandardItemModel()
        self.tree = QTreeView()
        self.tree.setModel(self.model)
        self.tree.setHeaderHidden(True)
        self.tree.setRootIsDecorated(False)
        self.tree.setIndentation(0)
        self.tree.setMouseTracking(True)
        self.tree.setEditTriggers(QTreeView.EditTrigger.NoEditTriggers)
        self.tree.setItemDelegate(_Delegate(session, self.tree.viewport().update))
        self.tree.setAccessibleName("Library")
        self.tree.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.tree.customContextMenuRequested.connect(self._menu)
        self.tree.doubleClicked.connect(self.preview)
        self.tree.selectionModel().currentChanged.connect(lambda *_a: self._show_use())
        layout.addWidget(self.tree, 1)
        self.use = QPushButton()
        self.use.clicked.connect(self.use_current)
        layout.addWidget(self.use)
        layout.addWidget(
            button(
                "Open files …",
                self.open_asked.emit,
                tip="Open motions and skeletons (Ctrl+O), or drop them on the window",
                icon="open",
            )
        )
        session.listen(("entries", "bakes", "recordings", "source", "rig", "stringings"), self._fill)
        self._fill()

    def _fill(self):
        """Show the library's rows; those that are there already stay, so that one edit costs little however many there are."""
        current, rows = self.current()[1], self._rows()
        if [row[1:] for row in rows] == [row[1:] for row in self._shown]:
            for place, (row, before) in enumerate(zip(rows, self._shown)):
                if row != before:
                    self.model.item(place).setText(row[0])
        else:
            self.model.clear()
            for text, kind, key in rows:
                item = QStandardItem(text)
                item.setData(kind, _KIND)
                item.setData(key, _KEY)
                if kind == HEADING:
                    item.setFlags(Qt.ItemFlag.ItemIsEnabled)
                self.model.appendRow(item)
            if current:
                self.select(current)
        self._shown = rows
        self.tree.viewport().update()
        self._show_use()

    def _rows(self):
        """``(text, kind, key)`` of each row."""
        state, wanted = self.session.state, self.search.text().casefold().strip()
        families = {}
        for entry in state.of_role(CLIP):
            families.setdefault(entry.family, []).append(entry)
        sections = [("Rigs", state.of_role(RIG)), *zip(family_headings(list(families.values())), families.values())]
        sections.append(("Recordings", list(state.recordings)))
        sections.append(("Baked", list(state.bakes)))
        order, rows = self.order.currentData(), []
        for heading, entries in sections:
            shown = [e for e in entries if not wanted or _is_found(e, wanted)]
            if shown:
                rows.append((heading, HEADING, None))
                rows += [(e.name, e.role, e.id) for e in (sorted(shown, key=order) if order else shown)]
        kept = [f.name for f in state.stringings if wanted in f.name.casefold()]
        if kept:
            rows.append(("Stringings", HEADING, None))
            rows += [(name or "unnamed", STRINGING, name) for name in kept]
        return rows

    def current(self):
        """``(kind, key)`` of the chosen row."""
        index = self.tree.currentIndex()
        return (index.data(_KIND), index.data(_KEY)) if index.isValid() else (None, None)

    def select(self, key):
        """Choose the row of an entry."""
        for row in range(self.model.rowCount()):
            if self.model.item(row).data(_KEY) == key:
                self.tree.setCurrentIndex(self.model.index(row, 0))

    def _show_use(self):
        kind, key = self.current()
        state = self.session.state
        texts = {
            CLIP: "Use as source clip",
            RIG: "Use as target rig",
            MARKERS: "Look at the markers",
            BAKED: "Compare with the live result",
            STRINGING: "Use this stringing",
        }
        self.use.setText(texts.get(kind, "Choose a clip or a rig"))
        self.use.setEnabled(kind in texts and key not in (state.source, state.rig))

    def use_current(self):
        """Make the chosen row active."""
        kind, key = self.current()
        if kind in (CLIP, RIG):
            self.session.look_at(None)
            self.session.do(Choose(key, as_rig=kind == RIG))
        elif kind == MARKERS:
            self.preview()
        elif kind == BAKED:
            self.session.go("refine")
            self.session.compare_with(None if self.session.compare == key else key)
        elif kind == STRINGING:
            file = next(f for f in self.session.state.stringings if f.name == key)
            self.session.do(UseStringing(file))
        self._show_use()

    def preview(self, index=QModelIndex()):
        """Show the chosen entry alone on the stage, and play it."""
        kind, key = self.current() if not index.isValid() else (index.data(_KIND), index.data(_KEY))
        if kind in _SHOWN:
            self.session.go("gather")
            self.session.look_at(key)
            self.session.play(kind != RIG)

    def keyPressEvent(self, event):
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.use.isEnabled():
            self.use_current()
        elif event.key() == Qt.Key.Key_F2 and self.session.state.entry(self.current()[1]):
            self.ask_tags()
        elif event.key() == Qt.Key.Key_Delete and self.current()[0] in _SHOWN:
            self.session.do(Remove(self.current()[1]))
        else:
            super().keyPressEvent(event)

    def ask_tags(self):
        """Ask for the chosen entry's tags, with commas between them."""
        entry = self.session.state.entry(self.current()[1])
        text = ask_text(self, "Tags", f"Tags of {entry.name}, with commas between them", ", ".join(entry.tags))
        if text is not None:
            self.session.do(Tag(entry.id, tuple(text.split(","))))

    def _menu(self, point):
        kind, key = self.current()
        if kind not in _SHOWN:
            return
        menu = QMenu(self)
        menu.addAction("Preview (double-click)", self.preview)
        if self.use.isEnabled():
            menu.addAction(self.use.text() + " (Enter)", self.use_current)
        if kind == CLIP:
            menu.addAction("Treat as a rig", lambda: self.session.do(SetRole(key, RIG)))
        elif kind == RIG:
            menu.addAction("Treat as a clip", lambda: self.session.do(SetRole(key, CLIP)))
        menu.addAction("Tags …", self.ask_tags)
        menu.addSeparator()
        menu.addAction("Remove from the library (Delete)", lambda: self.session.do(Remove(key)))
        menu.exec(self.tree.viewport().mapToGlobal(point))
