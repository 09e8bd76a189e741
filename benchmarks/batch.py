"""Batches: two workers against one, a worker against its own parts alone, and memory over many clips.

Clips of five seconds on 56 joints, onto a rig of 61 joints with other proportions, so that feet are planted.
"""

import os
import tempfile
import threading
import time
from dataclasses import replace
from pathlib import Path

from young_marionette.demo.show import write_show
from young_marionette.formats import read, write
from young_marionette.formats.files import write_together
from young_marionette.project import bakes, delivery, opening, shaping
from young_marionette.project.batch.job import Order
from young_marionette.project.batch.plan import jobs_of, sources_of
from young_marionette.project.batch.recipe import Recipe
from young_marionette.project.batch.run import Delivery

from .measure import row

CLIPS = int(os.environ.get("BENCH_CLIPS", "300"))


def many(folder):
    """``(paths of many different clips, path of a rig)``."""
    write_show(folder / "show")
    entry = opening.open_source(folder / "show/loft/row_boat.bvh")
    (folder / "clips").mkdir()
    frames = round(5 * entry.clip.rate) + 1
    for number in range(CLIPS):
        first = number % (entry.clip.frames - frames)
        part = replace(entry.clip.cut(first, first + frames - 1), start=0.0)
        write(folder / f"clips/clip_{number:04}.bvh", part, entry.layout)
    return [str(folder / "clips")], str(folder / "show/puppets/Gull.bvh")


def memory(process):
    """Bytes of memory that a process has to itself."""
    try:
        lines = Path(f"/proc/{process}/smaps_rollup").read_text().splitlines()
    except OSError:
        return 0
    return sum(int(line.split()[1]) * 1024 for line in lines if line.startswith(("Private_Clean", "Private_Dirty")))


def run(sources, rig, folder, workers, sizes=None):
    """Seconds that a batch takes; ``sizes``: the largest memory of a worker, in quarters of the clips, is put in."""
    folder.mkdir()
    order = Order(Recipe(), str(folder))
    jobs = jobs_of(sources_of(sources), [rig], order)
    told, done = threading.Event(), []

    def watch():
        while not told.wait(0.2):
            children = Path(f"/proc/self/task/{os.getpid()}/children").read_text().split()
            sizes.append((len(done), max(map(memory, children), default=0)))

    if sizes is not None:
        threading.Thread(target=watch, daemon=True).start()
    start = time.perf_counter()
    items = Delivery(jobs, workers).run(lambda _job, items: done.append(1) if items else None)
    seconds = time.perf_counter() - start
    told.set()
    if bad := [item for item in items if item.state != "done"]:
        raise SystemExit(bad[0].why)
    return seconds


def alone(sources, rig, folder):
    """Seconds that reading, transferring and writing take, each clip by itself in this process."""
    folder.mkdir()
    target = opening.open_rig(rig)
    pairing = None
    start = time.perf_counter()
    for source in sources_of(sources):
        entry = opening.open_source(source.path)
        pairing = pairing or delivery.pair_files(entry, target)
        made, _ = bakes.baked(pairing, entry, target)
        write_together(shaping.shaped(folder / source.path.name, made, target))
    return time.perf_counter() - start


def batches():
    """One and two workers in turn, and the same work without any."""
    with tempfile.TemporaryDirectory(dir=os.environ.get("BENCH_FOLDER")) as name:
        folder = Path(name)
        sources, rig = many(folder)
        one, two, plain = [], [], []
        sizes = []
        for turn in range(3):
            one.append(run(sources, rig, folder / f"one{turn}", 1, sizes if turn == 0 else None))
            two.append(run(sources, rig, folder / f"two{turn}", 2))
            plain.append(alone(sources, rig, folder / f"plain{turn}"))
        first = read(folder / "one0/clip_0000_Gull.bvh").skeletons[0].clips[0]
        note = f"{CLIPS} clips of {first.frames} frames"
        yield row("batch, one worker against its parts", min(one), min(plain), 1.3, note)
        yield row(
            "batch, two workers against one", min(two), min(one), 1 / 1.8, f"{min(one) / min(two):.2f} times as fast"
        )
        quarters = [max((size for done, size in sizes if done >= CLIPS * q / 4), default=0) for q in range(4)]
        largest = max(quarters)
        early = max((size for done, size in sizes if done <= CLIPS / 2), default=1)
        yield (
            "batch, memory of a worker",
            f"{largest / 1e6:.0f} MB",
            f"{early / 1e6:.0f} MB",
            f"{largest / max(early, 1):.2f}",
            f"≤ 400 MB {'✓' if largest < 400e6 else '✗'}",
            "the most ever, against the most in the first half",
        )


BENCHMARKS = (batches,)
