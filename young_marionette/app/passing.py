"""What passes make of the baked clip that is worked on, and how much they change it: off the interface thread."""

from __future__ import annotations

from dataclasses import replace
from importlib import import_module

from PySide6.QtCore import Signal

from ..core.keys.editing import key_frames
from .calmly import Calmly
from .jobs import Job


class LivePasses(Calmly):
    """``ready``: the whole result can be shown as it is, and what each pass changed is known. ``progressed``: the share of
    the work that is done.
    """

    progressed = Signal(float)

    def __init__(self, session):
        super().__init__(session, self._begin)
        self._of = self._failed = self._loading = None
        self._poses, self._share = (None, None), None
        session.step_changed.connect(self._load)
        session.listen(("bakes", "entries"), self.ask)
        for signal in (session.preview_changed, session.view_changed, session.step_changed, session.pass_chosen):
            signal.connect(self.ask)

    def _load(self):
        """Have what filters need loaded before the first one is asked for: it takes more than a second."""
        if self.session.step == "refine" and self._loading is None:
            self._loading = Job("load filters", lambda _progress: import_module("scipy.signal")).start()

    @property
    def passed(self):
        """The clip that is worked on, with its passes; None where none is, or none has any."""
        bake = self.session.refined
        if bake is None or not bake.passes or self.session.step not in ("refine", "deliver"):
            return None
        return bake.passed

    def changes(self, before, after=None):
        """What the passes between two places (see Passed.changes) changed, or None where that is not known yet."""
        passed = self.passed
        return passed.known_changes(before, after) if passed is not None else None

    @property
    def poses(self):
        """What is told of the keys of the result; the last that was known while a change of it is worked out. None where
        it has no keys.
        """
        passed, bake = self.passed, self.session.refined
        last = passed.passes[-1] if passed is not None and passed.passes else None
        if last is None or not (last.thins or last.keys):
            self._poses = None, None
            return None
        result = passed.result
        if result is not None:
            self._poses = bake.id, result.poses
            return result.poses
        of, known = self._poses
        known = known if of == bake.id else None
        if known is not None and last.keys is not None:
            # Edited keys show at once; how far they are off, a moment later.
            known = replace(known, frames=tuple(key_frames(last.keys.keyed)), marks=dict(last.keys.marks))
        return known

    @property
    def lags(self):
        """Whether what is shown is not all of the result yet."""
        passed = self.passed
        return passed is not None and passed.result is None

    @property
    def known(self):
        """Whether the whole result, and what it changed, is known; sketches of thinning may still be prepared."""
        return self._wanted() is None and not self.calm.isActive()

    def _wanted(self):
        """The passes in question where anything of them is not known, else None."""
        passed = self.passed
        if passed is None or not passed.passes:
            return None
        steps = range(len(passed.passes))
        known = all(passed.known_changes(i, i + 1) is not None for i in steps) and passed.known_changes(0) is not None
        return None if known else passed

    def ask(self):
        """See to it that what is wanted now gets worked out soon; what is not wanted any more is given up."""
        passed = self._wanted()
        if self.job is not None and (passed is None or self._key(passed) != self._of):
            self.job.cancel()
        if passed is not None and self._key(passed) != self._failed:
            self.calm.start()

    @staticmethod
    def _key(passed):
        return passed.clip, passed.passes

    def _begin(self):
        if self.session.held:
            self.calm.start()  # the hand is at work: what it drags is shown frame by frame, and the processor is the stage's
            return
        passed = self._wanted()
        if self.closed or passed is None or self.job is not None or self._key(passed) == self._failed:
            return
        self._of, self._share = self._key(passed), None

        def work(progress):
            count = len(passed.passes)
            for i in range(count):
                passed.stage(i + 1, lambda share, i=i: progress((i + share) / (count + 1)))
                progress((i + 1) / (count + 1))
            for i in range(count):
                passed.changes(i, i + 1)
            passed.changes(0)
            passed.reach()
            progress((count + 0.5) / (count + 1))
            for i in range(count):
                passed.prepare_sketches(i, progress)
            return passed

        self.job = Job("work out the passes", work, self.session.document.project)
        self.job.progressed.connect(self._told)
        self.job.failed.connect(self._refuse)
        self.job.finished.connect(lambda _done: self.ready.emit())
        self.job.ended.connect(self._ended)
        self.job.start()

    def _told(self, share):
        """Whole passes that are done can be shown, and all numbers half a step later; the rest is for the status line alone."""
        self.progressed.emit(share)
        steps = 2 * (len(self.passed.passes) + 1) if self.passed is not None else 1
        if abs(share * steps - round(share * steps)) < 1e-9 and share != self._share:
            self._share = share
            self.ready.emit()

    def stop(self):
        """Give up what is being worked out, until something is changed."""
        if self.job is not None:
            self._failed = self._of
            self.job.cancel()
            self.session.told.emit("Stopped; the passes are worked out when something is changed again")

    def _refuse(self, sentence):
        self._failed = self._of  # not again, until something is changed
        self.session.message.emit(sentence)

    def _ended(self):
        self.job = None
        self._begin()
