"""The log file: no traceback is lost, whoever turns a defect into a sentence."""

import os
import threading
from unittest import mock

from tests.support import Case
from young_marionette import api
from young_marionette.cli import main as command_line
from young_marionette.core.errors import InputError
from young_marionette.project.batch.work import _defect
from young_marionette.project.log import log_path
from young_marionette.project.tasks import Task


def broken(*_arguments, **_named):
    raise ZeroDivisionError("a defect of ours")


class Log(Case):
    def setUp(self):
        place = mock.patch.dict(os.environ, {"XDG_STATE_HOME": str(self.folder)})
        place.start()
        self.addCleanup(place.stop)

    def told(self):
        text = log_path().read_text() if log_path().exists() else ""
        self.assertTrue(str(log_path()).startswith(str(self.folder)))
        return text

    def test_tasks(self):
        failed, ended = [], threading.Event()
        task = Task("count lamps", broken)
        task.failed.connect(failed.append)
        task.ended.connect(ended.set)
        task.start()
        self.assertTrue(ended.wait(10))
        self.assertIn("could not count lamps", failed[0])
        self.assertIn("in broken", self.told())

    def test_batches(self):
        try:
            broken()
        except ZeroDivisionError as error:
            self.assertIn("ZeroDivisionError", _defect(error))
        self.assertIn("in broken", self.told())

    def test_command_line(self):
        import contextlib
        import io

        errors = io.StringIO()
        with mock.patch.dict(command_line.COMMANDS, {"info": broken}), contextlib.redirect_stderr(errors):
            self.assertEqual(command_line.main(["info", "x.bvh"]), 1)
        self.assertIn(str(log_path()), " ".join(errors.getvalue().split()).replace(" ", "") or errors.getvalue())
        self.assertIn("in broken", self.told())

    def test_python_interface(self):
        with mock.patch("young_marionette.api.opening.open_source", broken), self.assertRaises(InputError) as caught:
            api.read("x.bvh")
        self.assertIsInstance(caught.exception.__cause__, ZeroDivisionError)
        self.assertIn("in broken", self.told())
