"""The jobs that run for the window: started with what is to be done at their end, told of, and cancelled."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal

from .jobs import Job


class Running(QObject):
    """``changed``: a job began or ended. ``progressed``: the share that is done of one of them."""

    changed = Signal()
    progressed = Signal(float)

    def __init__(self, session):
        super().__init__(session)
        self.session, self.jobs = session, []

    def run(self, label, work, done, of_project=True, waits=False):
        """Do long work off the interface thread, then ``done`` with its result.

        ``of_project``: for the open project alone; when another one is opened meanwhile, the result is dropped.
        ``waits``: the window does not close before it has ended.
        """
        document = self.session.document
        project = document.project if of_project else None
        job = Job(label, work, project, waits)

        def for_this_project(act):
            return lambda value: act(value) if project in (None, document.project) else None

        self.jobs.append(job)
        job.progressed.connect(self.progressed)
        job.finished.connect(for_this_project(done))
        job.failed.connect(for_this_project(self.session.message.emit))
        job.ended.connect(lambda: self._ended(job))
        self.session.told.emit(f"Working: {job.label}")
        self.progressed.emit(0.0)
        self.changed.emit()
        self.session.last_job = job
        return job.start()

    def _ended(self, job):
        self.jobs.remove(job)
        self.changed.emit()

    def cancel(self, of_project_alone=False):
        """Cancel all jobs, or only those that work for the open project."""
        for job in self.jobs:
            if job.task.project is not None or not of_project_alone:
                job.cancel()

    def close(self):
        """Wait for the jobs that must not be cut off; cancel the others."""
        for job in list(self.jobs):
            if job.task.waits:
                job.wait()
            else:
                job.give_up()
