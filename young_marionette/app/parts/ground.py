"""What lies under the things that move in a widget, ready as a picture."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QPainter, QPixmap


class Ground:
    """Paints with ``paint(painter)`` only where the widget would look otherwise than the last time."""

    def __init__(self, widget, paint):
        self._widget, self._paint, self._of, self._picture = widget, paint, None, None

    def picture(self, *of):
        """The picture; ``of``: all that it depends on beside the widget's size."""
        widget, ratio = self._widget, self._widget.devicePixelRatioF()
        key = widget.size(), ratio, *of
        if key != self._of:
            self._of, self._picture = key, QPixmap(widget.size() * ratio)
            self._picture.setDevicePixelRatio(ratio)
            self._picture.fill(Qt.GlobalColor.transparent)
            painter = QPainter(self._picture)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            self._paint(painter)
            painter.end()
        return self._picture
