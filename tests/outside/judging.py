"""How the judge compares what was written with what was meant."""

import os
import tempfile
from pathlib import Path

import numpy as np
from hypothesis import HealthCheck, settings

TEXT = 5e-5  # metres
UP = {"Y": np.eye(3), "Z": np.array([[1, 0, 0], [0, 0, 1], [0, -1, 0.0]])}  # from a file's world into one with Y up
# A short run with one seed in the tests; ``./run bench outside N`` sets a number, and draws anew each time.
_COUNT = int(os.environ.get("OUTSIDE_EXAMPLES", "0"))


def examples(few):
    """Settings of a law: ``few`` examples in a test run."""
    return settings(
        max_examples=_COUNT or few,
        derandomize=not _COUNT,
        database=None,
        deadline=None,
        print_blob=True,
        suppress_health_check=list(HealthCheck),
    )


def folder():
    """A folder for one example, as a context manager that gives its Path."""
    return _Folder()


class _Folder(tempfile.TemporaryDirectory):
    def __enter__(self):
        return Path(super().__enter__())


def command(*words):
    """Run a command of the program in this process; gives its exit code."""
    import contextlib
    import io

    from young_marionette.cli.main import main

    errors = io.StringIO()
    with contextlib.redirect_stdout(io.StringIO()), contextlib.redirect_stderr(errors):
        code = main(list(map(str, words)))
    if code:
        raise AssertionError(f"{' '.join(map(str, words))}: exit code {code}: {errors.getvalue()}")
    return code


def with_y_up(seen):
    """``{name: (frames, 3)}`` of what a reader saw, with Y up."""
    turn = UP[seen.up or "Y"]
    return {name: places @ turn.T for name, places in seen.places.items()}


def farthest(places, wanted):
    """How far any joint is from where it belongs, in the unit of ``wanted``; every joint that is meant has to be there."""
    away = 0.0
    for name, path in wanted.items():
        assert name in places, f"{name} is gone; there are {sorted(places)[:8]}"
        own = places[name]
        assert own.shape == path.shape, f"{name}: {own.shape[0]} frames in place of {path.shape[0]}"
        away = max(away, float(np.abs(own - path).max(initial=0.0)))
    return away


def extent(wanted):
    """The size of all that moves, from one corner to the other."""
    every = np.concatenate(list(wanted.values()))
    return float(np.linalg.norm(np.ptp(every, axis=0)))
