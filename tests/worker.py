"""One of the processes that run tests (see run): reads names of modules, answers a line of JSON for each."""

from __future__ import annotations

import gc
import io
import json
import os
import sys
import time
import unittest


class Result(unittest.TextTestResult):
    """Counts what passed, and how long it took."""

    def __init__(self, *args, **kwargs):
        super().__init__(*args, **kwargs)
        self.passed, self.slow = 0, []

    def startTest(self, test):
        self._began = time.perf_counter()
        super().startTest(test)

    def addSuccess(self, test):
        super().addSuccess(test)
        self.passed += 1
        self.slow.append((round(time.perf_counter() - self._began, 2), test.id()))


def run(module, names):
    """Run a module's tests, those whose dotted name begins with one of ``names`` if there are any (a dict)."""
    loader = unittest.TestLoader()
    # What can't be imported becomes a test that fails, and is never left out.
    suite = loader.loadTestsFromName(f"tests.{module}")
    broken = bool(loader.errors)
    if names and not broken:
        suite = unittest.TestSuite(t for t in _flat(suite) if t.id().removeprefix("tests.").startswith(tuple(names)))
    told = io.StringIO()
    result = unittest.TextTestRunner(resultclass=Result, stream=told).run(suite)
    gc.collect()  # window tests leave that to the event loop, which other tests do not have
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    return {
        "passed": result.passed,
        "failed": failed,
        "skipped": len(result.skipped),
        "told": told.getvalue() if failed else "",
        "slow": result.slow,
    }


def _flat(suite):
    for item in suite:
        if isinstance(item, unittest.TestSuite):
            yield from _flat(item)
        else:
            yield item


def main(names):
    answers = os.fdopen(os.dup(1), "w")
    os.dup2(2, 1)  # what tests print is not an answer
    for line in sys.stdin:
        print(json.dumps(run(line.strip(), names)), file=answers, flush=True)


if __name__ == "__main__":
    main(sys.argv[1:])
    # Drivers may still hold threads; all that counts has been said.
    os._exit(0)
