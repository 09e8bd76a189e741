"""The stage drawn with OpenGL into a picture that Qt paints."""

from __future__ import annotations

from PySide6.QtGui import QImage

from ...rendering.renderer import Renderer


class StageRenderer(Renderer):
    """Draws figures into a QImage."""

    def __init__(self):
        super().__init__()
        self._picture = QImage()

    def taken(self, result, size):
        """What was drawn, as a picture that holds until the next one."""
        # The same picture is filled each time: fresh memory would cost more than reading does.
        if self._picture.size().toTuple() != size:
            self._picture = QImage(*size, QImage.Format.Format_RGBX8888)
        result.read_into(self._picture.bits(), components=4)
        return self._picture
