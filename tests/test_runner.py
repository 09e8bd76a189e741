"""The runner of the tests itself: nothing that breaks may vanish from its count."""

import os
import subprocess
import sys
import unittest
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent


def worker(*lines, names=()):
    """The answers of a worker process to some modules' names, with ``tests/broken_for_runner.py`` style text modules."""
    return subprocess.run(
        [sys.executable, "-m", "tests.worker", *names], input="".join(f"{x}\n" for x in lines),
        capture_output=True, text=True, cwd=ROOT, timeout=120,
    ).stdout.splitlines()  # fmt: skip


class Runner(unittest.TestCase):
    def test_a_module_that_cannot_be_imported_is_a_failure(self):
        import json

        for names in ((), ("no_such_module",), ("no_such_module.Case",)):
            (answer,) = worker("no_such_module", names=names)
            told = json.loads(answer)
            self.assertEqual((told["passed"], told["failed"]), (0, 1))
            self.assertIn("no_such_module", told["told"])

    def test_a_module_that_ends_its_process_is_a_failure_and_the_next_one_runs(self):
        from unittest import mock

        from tests import run

        with mock.patch.object(run, "Screen"):
            import tempfile

            with tempfile.TemporaryDirectory() as home:
                one = run.Worker(0, (), home, "show")
                one.environment = dict(os.environ)
                one.run("core.test_names")
                one.process.kill()
                self.assertEqual(one.run("core.test_names")["failed"], 1)
                self.assertEqual(one.run("core.test_names")["failed"], 0)
                one.close()

    def test_names(self):
        from tests.run import modules

        everything, unknown = modules()
        self.assertIn("core.test_names", everything)
        self.assertFalse(unknown)
        self.assertEqual(modules(("core.test_names.Convention",)), (["core.test_names"], []))
        self.assertEqual(modules(("nothing.test_so",))[1], ["nothing.test_so"])
        self.assertGreater(len(modules(("core",))[0]), 4)
