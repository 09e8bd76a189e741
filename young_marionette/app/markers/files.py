"""Files of recordings for the window: markers, labellings and figures, written and taken up."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QFileDialog

from ...core.errors import InputError
from ...formats.files import write_together
from ...formats.registry import write_markers
from ...project.commands import KeepFigure, UseLabelling
from ...project.markers import files
from ...project.markers.writing import as_written, labelling_of
from .. import settings

MARKERS, FILLED = "markers", "filled"
OWN = files.LABELLING, files.FIGURE
_MARKER_FILES = "C3D (*.c3d);;Markers as text (*.trc)"


class RecordingFiles:
    """Writes what belongs to the recording that is looked at, and takes up labellings and figures for it."""

    def __init__(self, parent, session):
        self._parent, self.session = parent, session

    def ask_write(self, what):
        """Write markers, the labelling or the figure under a name that is asked for."""
        entry = self.session.solving.entry
        markers = what in (MARKERS, FILLED)
        ending = ".c3d" if markers else what
        name = f"{entry.name}{' mended' if markers else ''}{ending}"
        kinds = _MARKER_FILES if markers else f"{what.strip('.').capitalize()} (*{what})"
        start = str(Path(settings.last_folder("markers")) / name)
        path, kind = QFileDialog.getSaveFileName(self._parent, "Write", start, kinds)
        if not path:
            return
        path = Path(path)
        endings = (".c3d", ".trc") if markers else (what,)
        if path.suffix.lower() not in endings:
            path = path.with_name(path.name + (".trc" if "trc" in kind else ending))
        settings.remember_folder("markers", path.parent)
        self.write(what, path)

    def write(self, what, path):
        """Write to a path; a sentence where that can't be done."""
        entry, path = self.session.solving.entry, Path(path)
        solution = self.session.solving.solution(entry)
        try:
            if what == files.LABELLING:
                write_together(files.encode_labelling(path, labelling_of(entry, solution), entry.name))
            elif what == files.FIGURE:
                write_together(files.encode_figure(path, solution.figure))
            else:
                if entry.path is not None and path.exists() and path.samefile(entry.path):
                    raise InputError(f"{path.name} is the recording itself; write its markers under another name.")
                write_markers(path, *as_written(entry, solution, gaps=what == FILLED), overwrite=True)
        except InputError as error:
            self.session.message.emit(str(error))
            return
        self.session.told.emit(f"Wrote {path.name}")

    def take_up(self, path):
        """Use a labelling or a figure for the recording that is looked at."""
        entry = self.session.solving.entry
        try:
            if entry is None:
                raise InputError(f"Look at a recording in Gather first: {path.name} is for one.")
            if path.suffix.lower() == files.LABELLING:
                command = UseLabelling(entry.id, tuple(files.load_labelling(path).items()))
            else:
                command = KeepFigure(entry.id, files.load_figure(path))
        except InputError as error:
            self.session.message.emit(str(error))
            return
        if self.session.do(command):
            self.session.told.emit(f"{path.name} is used for {entry.name}")
