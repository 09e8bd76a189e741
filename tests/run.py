"""Run the tests, module by module in parallel processes, and close with a line such as ``120 passed, 0 failed``.

Each process has a screen of its own (Xvfb, else Qt's offscreen platform), settings of its own, and takes the next
module when it is free. ``./run test core app.test_views.Board`` runs what begins so; a name that nothing has is a
failure, and so is a module that can't be imported or that ends its process.
"""

from __future__ import annotations

import json
import os
import queue
import shutil
import socket
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
TESTS = ROOT / "tests"
# A process for each core: where each draws and multiplies with all of them, all wait for each other.
ONE_THREAD = {"LP_NUM_THREADS": "1", "OPENBLAS_NUM_THREADS": "1"}
PLACES = ("XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_CACHE_HOME", "XDG_STATE_HOME")


class Screen:
    """An Xvfb of our own on a number of our own; ``display`` is None where there is none to be had."""

    def __init__(self, place):
        self.process, self.display = None, None
        if not shutil.which("Xvfb"):
            return
        # Not the first free number: a server that is just ending still takes its socket away with it.
        first = 200 + (os.getpid() * 4 + place) % 700
        for number in (first, first + 701, first + 1402):
            if Path(f"/tmp/.X{number}-lock").exists():
                continue
            self.process = subprocess.Popen(
                ["Xvfb", f":{number}", "-screen", "0", "2600x1500x24", "-nolisten", "tcp", "-noreset"],
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
            )
            if _answers(f"/tmp/.X11-unix/X{number}"):
                self.display = f":{number}"
                return
            self.close()

    @property
    def environment(self):
        """What a process needs to show its windows there."""
        if self.display is None:
            return {"QT_QPA_PLATFORM": "offscreen"}
        return {"DISPLAY": self.display, "QT_QPA_PLATFORM": "xcb"}

    def close(self):
        if self.process is not None:
            self.process.terminate()
            self.process.wait()
            self.process = None


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


def modules(names=()):
    """``(modules to run, names that no module has)``: dotted, what takes longest first (windows, then large ones)."""
    files = sorted(TESTS.rglob("test_*.py"), key=lambda p: (p.parent.name != "app", -p.stat().st_size))
    found = [".".join(p.relative_to(TESTS).with_suffix("").parts) for p in files]
    chosen, unknown = set(), []
    for name in names:
        hits = {m for m in found if m.startswith(name) or name.startswith(f"{m}.")}
        chosen |= hits
        if not hits:
            unknown.append(name)
    return [m for m in found if not names or m in chosen], unknown


class Worker:
    """A process that runs modules, with its screen and its settings; started anew should a module end it."""

    def __init__(self, number, names, home, show):
        self.names, self.home, self.screen = names, Path(home) / str(number), Screen(number)
        self.environment = {
            **ONE_THREAD,
            **os.environ,
            **{place: str(self.home / place) for place in PLACES},
            **self.screen.environment,
            "YOUNG_MARIONETTE_TEST_SHOW": show,
        }
        self.environment.pop("WAYLAND_DISPLAY", None)
        self.process = None
        for place in PLACES:
            (self.home / place).mkdir(parents=True)

    def run(self, module):
        """The outcome of a module, as ``tests.worker`` tells it."""
        if self.process is None:
            self.process = subprocess.Popen(
                [sys.executable, "-m", "tests.worker", *self.names],
                cwd=ROOT,
                env=self.environment,
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                text=True,
            )
        try:
            self.process.stdin.write(f"{module}\n")
            self.process.stdin.flush()
            answer = self.process.stdout.readline()
        except BrokenPipeError:
            answer = ""
        if answer:
            return json.loads(answer)
        code, self.process = self.process.wait(), None
        told = f"ERROR: {module}\nThe module ended the process that ran it (exit code {code}).\n"
        return {"passed": 0, "failed": 1, "skipped": 0, "told": told, "slow": []}

    def close(self):
        if self.process is not None:
            self.process.stdin.close()
            self.process.wait()
        self.screen.close()


def main(names):
    """Run all tests, or those whose dotted name begins with one of ``names``; returns the exit code."""
    chosen, unknown = modules(names)
    todo, done, total = queue.SimpleQueue(), [], {"passed": 0, "failed": len(unknown), "skipped": 0}
    for name in unknown:
        print(f"There is no test {name}.", file=sys.stderr)
    for module in chosen:
        todo.put(module)
    with tempfile.TemporaryDirectory(prefix="young-marionette-tests-") as home:

        def work(worker):
            while True:
                try:
                    module = todo.get_nowait()
                except queue.Empty:
                    return
                began = time.perf_counter()
                outcome = worker.run(module)
                done.append(outcome)
                print(f"{module}: {outcome['passed']} passed, {outcome['failed']} failed, "
                      f"{time.perf_counter() - began:.0f} s", file=sys.stderr)  # fmt: skip
                if outcome["told"]:
                    print(outcome["told"], file=sys.stderr)

        count = max(1, min(os.cpu_count() or 1, 4, len(chosen)))
        workers = [Worker(i, names, home, str(Path(home) / "show")) for i in range(count)]
        where = "screens of their own (Xvfb)" if workers[0].screen.display else "the offscreen platform"
        print(f"{len(chosen)} modules in {count} processes; window tests run on {where}.", file=sys.stderr)
        threads = [threading.Thread(target=work, args=(worker,)) for worker in workers]
        try:
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
        finally:
            for worker in workers:
                worker.close()
    for outcome in done:
        for key in total:
            total[key] += outcome[key]
    if os.environ.get("SHOW_SLOW"):
        for seconds, name in sorted((s for o in done for s in o["slow"]), reverse=True)[:25]:
            print(f"{seconds:6.2f} s  {name}", file=sys.stderr)
    skipped = f", {total['skipped']} skipped" if total["skipped"] else ""
    print(f"{total['passed']} passed, {total['failed']} failed{skipped}")
    return 1 if total["failed"] or not total["passed"] else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
