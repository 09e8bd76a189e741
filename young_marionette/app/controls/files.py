"""Sets of controls for the window: saved, and taken up for a rig."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QFileDialog

from ...core.errors import InputError
from ...project import control_files
from ...project.commands import SetControls
from .. import settings

ENDING = ".controls"
_KIND = f"Set of controls (*{ENDING})"


class ControlFiles:
    """Writes the controls of a rig, and gives a rig those of a file."""

    def __init__(self, parent, session):
        self._parent, self.session = parent, session

    def ask_save(self, rig):
        """Save the set of a rig under a name that is asked for."""
        start = str(Path(settings.last_folder("controls")) / f"{rig.name}{ENDING}")
        path, _ = QFileDialog.getSaveFileName(self._parent, "Save the controls", start, _KIND)
        if path:
            path = Path(path)
            path = path if path.suffix.lower() == ENDING else path.with_name(path.name + ENDING)
            settings.remember_folder("controls", path.parent)
            self.save(rig, path)

    def save(self, rig, path):
        """Save the set of a rig; a sentence where that can't be done."""
        try:
            control_files.save(path, rig.control_set, rig.name, True)
        except InputError as error:
            self.session.message.emit(str(error))
            return
        self.session.told.emit(f"Saved {path.name}")

    def ask_load(self, rig):
        """Give a rig the set of a file that is asked for."""
        path, _ = QFileDialog.getOpenFileName(self._parent, "Use controls", settings.last_folder("controls"), _KIND)
        if path:
            settings.remember_folder("controls", Path(path).parent)
            self.take_up(Path(path), rig)

    def take_up(self, path, rig=None):
        """Give a rig, the active one if None, the set of a file."""
        rig = rig if rig is not None else self.session.state.rig_entry
        try:
            if rig is None:
                raise InputError(f"Choose a target rig first: {path.name} is for one.")
            command = SetControls(rig.id, control_files.load(path), "use controls")
        except InputError as error:
            self.session.message.emit(str(error))
            return
        if self.session.do(command):
            self.session.told.emit(f"{rig.name} has the controls of {path.name}")
