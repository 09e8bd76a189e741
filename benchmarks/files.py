"""Reading and writing BVH against the bare handling of the same numbers."""

import tempfile
from pathlib import Path

import numpy as np

from young_marionette.formats import read, write

from .core import clip
from .measure import best, row


def bvh():
    """Reading against numpy.fromstring on the motion block; writing against formatting the same numbers."""
    long = clip()
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "long.bvh"
        write(path, long)
        block = path.read_bytes().split(b"Frame Time")[1].split(b"\n", 1)[1]
        numbers = np.fromstring(block, sep=" ").reshape(long.frames, -1)
        took, floor = best(lambda: read(path), lambda: np.fromstring(block, sep=" "), times=4)
        yield row(
            "BVH read", took, floor, 1.5, f"{len(block) / 1e6:.0f} MB; floor: numpy.fromstring on the motion block"
        )
        line = " ".join(["%.6f"] * numbers.shape[1]) + "\n"

        def rival():
            return "".join(
                (line * 100) % tuple(numbers[i : i + 100].ravel().tolist()) for i in range(0, len(numbers), 100)
            )

        took, floor = best(lambda: write(path, long, overwrite=True), rival, times=4)
        yield row("BVH write", took, floor, 2, "floor: one format string per hundred rows, to memory")


BENCHMARKS = (bvh,)
