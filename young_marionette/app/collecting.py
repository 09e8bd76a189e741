"""Python's garbage, collected in the interface thread alone."""

from __future__ import annotations

import gc

from PySide6.QtCore import QObject, QTimer

INTERVAL = 500  # milliseconds


class Collector(QObject):
    """Looks for garbage in the interface thread, from now on, as often as Python would by itself.

    Left alone, Python looks for it in whatever thread makes the most objects: then a thread of work ends objects of Qt
    that belong to the interface, which spoils memory and ends the program some time later.
    """

    def __init__(self, parent):
        super().__init__(parent)
        gc.disable()
        # Modules and classes stay anyway: they need not be looked through each time.
        gc.freeze()
        timer = QTimer(self, interval=INTERVAL)
        timer.timeout.connect(self.collect)
        timer.start()

    def collect(self):
        """Collect the oldest generation that is due; the younger ones go with it."""
        for generation, (count, most) in reversed(tuple(enumerate(zip(gc.get_count(), gc.get_threshold())))):
            if count > most:
                gc.collect(generation)
                return
