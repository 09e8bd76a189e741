"""Run the tests, with a real X screen where Xvfb is there, and close with a line such as ``120 passed, 0 failed``."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent


class Result(unittest.TextTestResult):
    """Counts what passed."""

    def __init__(self, *args, **kwargs):
        super().__init__(*args, **kwargs)
        self.passed = 0
        self.slow = []

    def startTest(self, test):
        self._began = time.perf_counter()
        super().startTest(test)

    def addSuccess(self, test):
        super().addSuccess(test)
        self.passed += 1
        self.slow.append((time.perf_counter() - self._began, test.id()))


def start_screen():
    """An Xvfb of our own on a number of our own (process or None); sets DISPLAY."""
    if not shutil.which("Xvfb"):
        return None
    # Not the first free number: a server that is just ending still takes its socket away with it.
    for number in (200 + os.getpid() % 700, 901 + os.getpid() % 90):
        if Path(f"/tmp/.X{number}-lock").exists():
            continue
        screen = subprocess.Popen(
            ["Xvfb", f":{number}", "-screen", "0", "2600x1500x24", "-nolisten", "tcp", "-noreset"],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        if _answers(f"/tmp/.X11-unix/X{number}"):
            break
        screen.terminate()
        screen.wait()
    else:
        return None
    os.environ["DISPLAY"], os.environ["QT_QPA_PLATFORM"] = f":{number}", "xcb"
    os.environ.pop("WAYLAND_DISPLAY", None)
    return screen


def _answers(place, seconds=15):
    """Whether a server takes connections at its socket; it may tell its number some time before it does."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        with socket.socket(socket.AF_UNIX) as probe:
            try:
                probe.connect(place)
                return True
            except OSError:
                time.sleep(0.05)
    return False


def main(names):
    """Run all tests, or those whose dotted name begins with one of ``names``."""
    os.chdir(ROOT)
    with tempfile.TemporaryDirectory(prefix="young-marionette-tests-") as home:
        # Nothing of the user's own settings is read or written.
        for place in ("XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_CACHE_HOME", "XDG_STATE_HOME"):
            os.environ[place] = str(Path(home) / place)
        screen = start_screen()
        if screen is None:
            os.environ["QT_QPA_PLATFORM"] = "offscreen"
        print(
            f"Window tests run on {'a screen of their own (Xvfb)' if screen else 'the offscreen platform'}.",
            file=sys.stderr,
        )
        try:
            suite = unittest.defaultTestLoader.discover(str(ROOT / "tests"), top_level_dir=str(ROOT))
            if names:
                suite = unittest.TestSuite(
                    t for t in _flat(suite) if t.id().removeprefix("tests.").startswith(tuple(names))
                )
            result = unittest.TextTestRunner(resultclass=Result, verbosity=1, stream=sys.stderr).run(suite)
        finally:
            if screen is not None:
                screen.terminate()
                screen.wait()
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    if os.environ.get("SHOW_SLOW"):
        for seconds, name in sorted(result.slow, reverse=True)[:15]:
            print(f"{seconds:6.2f} s  {name}", file=sys.stderr)
    print(f"{result.passed} passed, {failed} failed" + (f", {len(result.skipped)} skipped" if result.skipped else ""))
    sys.stdout.flush()
    return 1 if failed or not result.passed else 0


def _flat(suite):
    for item in suite:
        if isinstance(item, unittest.TestSuite):
            yield from _flat(item)
        else:
            yield item


if __name__ == "__main__":
    code = main(sys.argv[1:])
    # Drivers may still hold threads; all that counts has been said.
    os._exit(code)
