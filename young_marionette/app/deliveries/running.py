"""A delivery of the window on its way: begun, paused, stopped, and what became of each file."""

from __future__ import annotations

import tempfile
import time
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import QObject, QTimer, Signal

from ...core.errors import Cancelled, InputError
from ...core.names import free_name
from ...project.batch.choosing import jobs_of, order_of, rows_of
from ...project.batch.job import DONE, FAILED, RUNNING, SKIPPED
from ...project.batch.report import write_report
from ...project.batch.run import Delivery, run_here
from ...wording.findings import counted

FEW = 2  # files: written before workers would have begun
_PICTURES = 3


class Deliveries(QObject):
    """``changed``: a row's state, or what runs, is another. ``items``: what became of rows, by their keys, or RUNNING."""

    changed = Signal()
    ended = Signal()
    _heard = Signal(object, object)

    def __init__(self, session):
        super().__init__()
        self.session, self.items, self.delivery, self.report = session, {}, None, None
        self.summary, self._rows = "", {}  # of each job by its number
        self._heard.connect(self._hear)
        # While it runs, the time that is left is told anew.
        self._tick = QTimer(self, interval=500)
        self._tick.timeout.connect(self.changed)

    @property
    def busy(self):
        return self.delivery is not None

    def state_of(self, row):
        """What became of a row in the last delivery: an Item, RUNNING, or None."""
        return self.items.get(row.key)

    def begin(self, with_report):
        """Write what is chosen, in the background."""
        session = self.session
        wanted, state = session.wanted, session.state
        rows = [row for row in rows_of(state, wanted) if row.goes]
        if not rows or self.busy:
            return
        self.items, self.summary, self.report = {}, "", None
        groups = {}
        for one in rows:
            groups.setdefault(one.rig.id if wanted.recipe.together else one.number, []).append(one)
        self._rows = {group[0].number: group for group in groups.values()}
        order = replace(order_of(wanted), measured=True, pictures=_PICTURES if with_report else 0)
        few = len(rows) <= FEW
        # What is known of it now; it is filled while jobs are made ready.
        self.delivery = Delivery([], runner=run_here if few else None)
        delivery = self.delivery

        def work(progress):
            since = time.monotonic()
            wanted.place.mkdir(parents=True, exist_ok=True)
            with tempfile.TemporaryDirectory(prefix="young-marionette-") as folder:
                delivery.set_jobs(jobs_of(Path(folder), rows, order))

                def told(job, items):
                    self._heard.emit(job, items)
                    try:
                        progress(delivery.progress.share)
                    except Cancelled:
                        delivery.cancel()

                delivery.run(told)
            if with_report:
                return delivery, self._reported(order, delivery, time.monotonic() - since)
            return delivery, None

        def finished(result):
            delivery, self.report = result
            self._tell(delivery, "")

        session.job_asked.emit(f"write {counted(len(rows), 'file')}", work, finished)
        job = session.last_job
        job.ended.connect(self._ended)
        self._tick.start()
        self.changed.emit()

    @staticmethod
    def _reported(order, delivery, seconds):
        """Write the report beside the files, under a name that is free."""
        place = Path(order.folder)
        taken = {p.stem for p in place.glob("*.html")}
        path = place / f"{free_name(f'delivery {order.date}', taken)}.html"
        try:
            write_report(path, delivery.result, order, seconds)
        except InputError:
            return None
        return path

    def _hear(self, job, items):
        for one in self._rows.get(job.number, ()):
            found = RUNNING if items is None else next((i for i in items if i.clip == one.ready.name), None)
            if found is not None:
                self.items[one.key] = found
        self.changed.emit()

    def _ended(self):
        delivery, self.delivery = self.delivery, None
        self._tick.stop()
        self.items = {key: item for key, item in self.items.items() if item != RUNNING}
        if delivery is not None and delivery.cancelled and not self.summary:
            self._tell(delivery, "Stopped: ")
        self.changed.emit()
        self.ended.emit()

    def _tell(self, delivery, before):
        count = {s: sum(i.state == s for i in delivery.items) for s in (DONE, FAILED, SKIPPED)}
        words = [f"{counted(count[DONE], 'file')} written"]
        words += [f"{count[FAILED]} failed"] if count[FAILED] else []
        words += [f"{count[SKIPPED]} left alone"] if count[SKIPPED] else []
        self.summary = before + ", ".join(words)
        self.session.told.emit(self.summary)

    def pause(self):
        """Begin no further file, or go on."""
        if self.delivery is not None:
            (self.delivery.go_on if self.delivery.paused else self.delivery.pause)()
            self.changed.emit()

    def stop(self):
        """Stop; what is written stays, nothing is left by half."""
        if self.delivery is not None:
            self.delivery.go_on()
            self.delivery.cancel()

    def forget(self):
        """Let go of what the last delivery did: other things are asked for now."""
        if not self.busy and self.items:
            self.items, self.summary = {}, ""
            self.changed.emit()
