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


def large_characters():
    """Reading a character of about 100 MB against copying the arrays that are read."""
    from dataclasses import replace

    from young_marionette.core.character.meshes import Mesh
    from young_marionette.demo.puppets import puppet
    from young_marionette.project.delivery import Placement  # noqa: F401 - loads what reading needs

    motion, character = puppet("Gull")
    rng = np.random.default_rng(2)
    count = 1_100_000
    base = character.meshes[0]
    mesh = Mesh(
        "cloak",
        rng.normal(size=(count, 3)).astype("f4"),
        np.tile(np.array([[0, 1, 0]], "f4"), (count, 1)),
        rng.integers(0, count, (count, 3)).astype("i4"),
        rng.integers(0, 20, (count, 4)).astype("i4"),
        np.full((count, 4), 0.25, "f4"),
        base.binds,
        rng.random((count, 2)).astype("f4"),
    )
    character = replace(character, meshes=(mesh,))
    with tempfile.TemporaryDirectory() as folder:
        for ending, goal in ((".glb", 2), (".usdc", 2)):
            path = Path(folder) / f"large{ending}"
            write(path, motion, None, body=True, character=character)
            size = path.stat().st_size
            read(path)
            raw = [mesh.points, mesh.normals, mesh.triangles, mesh.joints, mesh.weights, mesh.texcoords]
            whole = np.concatenate([np.ascontiguousarray(a).view(np.uint8).ravel() for a in raw])

            def copied(path=path, whole=whole):
                path.read_bytes()
                return whole.copy()

            took, floor = best(lambda p=path: read(p).skeletons[0].layout.character, copied, times=3)
            told = f"{size / 1e6:.0f} MB; floor: reading the bytes and copying the arrays once"
            yield row(f"{ending} read", took, floor, goal, told)
        took, floor = best(lambda: read(path).skeletons[0].layout.character, lambda: _unpacked(path), times=3)
        told = "floor: the USD library alone opens it, unpacks every array and copies it once"
        yield row(f"{ending} read, library", took, floor, goal, told)


def _unpacked(path):
    """The bytes of a USD file and a copy of every array in it, by the library in this process."""
    from pxr import Usd, UsdGeom

    stage = Usd.Stage.Open(str(path))
    mesh = next(p for p in stage.Traverse() if p.IsA(UsdGeom.Mesh))
    values = [a.Get() for a in mesh.GetAttributes() if a.HasAuthoredValue() and a.GetTypeName().isArray]
    return path.read_bytes(), [np.array(v) for v in values]


BENCHMARKS = (bvh, large_characters)
