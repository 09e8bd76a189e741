"""Which frames the timeline, its lanes and its curves show, and where: one scale for all of them."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal

MARGIN = 14
_LEAST = 8  # frames that are shown at least


class TimeScale(QObject):
    """Frames along a width in pixels, with a margin at both ends."""

    changed = Signal()

    def __init__(self, session):
        super().__init__()
        self.session, self._view = session, None

    @property
    def span(self):
        """The first and last frame in view."""
        last = max(self.session.frames - 1, 1)
        if self._view is None or self._view[1] > last:
            return 0.0, float(last)
        return self._view

    def line(self, width):
        """``(where frame 0 stands, pixels from frame to frame)``: for many frames at once."""
        first, last = self.span
        step = (width - 2 * MARGIN) / max(last - first, 1e-9)
        return MARGIN - first * step, step

    def x_of(self, frame, width):
        """Where a frame stands."""
        start, step = self.line(width)
        return start + frame * step

    def place_at(self, x, width):
        """The time at a place, in frames and parts of frames."""
        first, last = self.span
        return first + (x - MARGIN) / max(width - 2 * MARGIN, 1) * (last - first)

    def frame_at(self, x, width):
        """The frame at a place."""
        return round(self.place_at(x, width))

    def zoom(self, x, width, delta):
        """Zoom at a place, by a turn of the wheel."""
        first, last = self.span
        at = self.place_at(x, width)
        whole = max(self.session.frames - 1, 1)
        length = min(max((last - first) * 0.999**delta, _LEAST), whole)
        start = min(max(at - (at - first) * length / max(last - first, 1e-9), 0), whole - length)
        self._view = (start, start + length) if length < whole else None
        self.changed.emit()

    def move(self, share):
        """Move what is in view by a share of its length."""
        first, last = self.span
        whole, length = max(self.session.frames - 1, 1), last - first
        start = min(max(first + share * length, 0), whole - length)
        if length < whole:
            self._view = (start, start + length)
            self.changed.emit()

    def show(self, first, last):
        """Show the frames from ``first`` to ``last``, moved to where there are frames."""
        whole = max(self.session.frames - 1, 1)
        length = min(max(last - first, _LEAST), whole)
        start = min(max(first, 0), whole - length)
        self._view = (start, start + length) if length < whole else None
        self.changed.emit()

    def show_whole(self):
        """Show all frames."""
        self._view = None
        self.changed.emit()
