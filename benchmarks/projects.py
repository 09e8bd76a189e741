"""Saving and opening a project of 300 clips of ten seconds, against writing and reading as many bytes."""

import os
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import numpy as np

from young_marionette.core.clip import Clip
from young_marionette.demo.figures import Build, make_figure
from young_marionette.project import storage
from young_marionette.project.document import State
from young_marionette.project.entry import Entry
from young_marionette.project.recovery import Recovery

from .measure import plain, row

CLIPS, FRAMES, RATE = 300, 300, 30.0


def many_clips():
    """A State of 300 different clips of one skeleton, about 63 MB of motion."""
    skeleton = make_figure(Build(fingers=False, spine=3))
    rng, entries = np.random.default_rng(3), []
    for number in range(CLIPS):
        turns = np.tile(skeleton.rest, (FRAMES, 1, 1)) + rng.normal(0, 0.05, (FRAMES, len(skeleton), 4))
        turns /= np.linalg.norm(turns, axis=-1, keepdims=True)
        moves = rng.normal(0, 0.1, (FRAMES, 1, 3))
        clip = Clip(f"clip {number}", skeleton, RATE, turns, np.array([0]), moves)
        entries.append(Entry(f"{number:012x}", "clip", clip.name, None, "BVH", skeleton, clip, None))
    return State("many", tuple(entries))


def saving():
    """First saving, saving and keeping after one edit, opening."""
    state = many_clips()
    edited = state.with_entry(replace(state.entries[7], name="renamed"))
    with tempfile.TemporaryDirectory(dir=os.environ.get("BENCH_FOLDER")) as folder:
        path, floor_path = Path(folder) / "a.marionette", Path(folder) / "floor"
        times = {}

        def timed(name, work):
            begun = time.perf_counter()
            result = work()
            times[name] = time.perf_counter() - begun
            return result

        stamp = timed("first", lambda: storage.save(path, state))
        size = path.stat().st_size
        stamp = timed("again", lambda: storage.save(path, edited, known=stamp))
        timed("again", lambda: storage.save(path, state, known=stamp))
        recovery = Recovery(Path(folder) / "kept")
        recovery.keep(state, None)
        timed("kept", lambda: recovery.keep(edited, None))
        recovery.close()
        data = path.read_bytes()

        def floor():
            with open(floor_path, "wb") as file:
                file.write(data)
                file.flush()
                os.fsync(file.fileno())

        timed("floor", floor)
        timed("read floor", floor_path.read_bytes)
        timed("load", lambda: storage.load(path))
    yield row(
        f"save, first time, {size / 1e6:.0f} MB", times["first"], times["floor"], None, "floor: its bytes, synced"
    )
    yield plain("save, first time", times["first"], 0.6)
    yield row("save after one edit", times["again"], times["floor"], None, "floor: as above")
    yield plain("save after one edit", times["again"], 0.1)
    yield plain("keep after one edit", times["kept"], 0.1)
    yield row("open", times["load"], times["read floor"], None, "floor: its bytes")


BENCHMARKS = [saving]
