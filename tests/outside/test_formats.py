"""Doors: what any writer writes, another's reader evaluates to the same world positions, whatever the order of joints."""

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from tests.support import Case

from . import makers
from .judging import TEXT, UP, command, examples, extent, farthest, folder, with_y_up
from .readers import seen

INTO = (".bvh", ".glb", ".gltf", ".usda", ".usdc")


class EveryPairOfFormats(Case):
    def judge(self, path, wanted, made, ending):
        """``wanted``: in metres with Y up."""
        out = path.with_name(f"out{ending}")
        command("convert", path, out)
        result = seen(out, made.frames, made.rate)
        self.assertAlmostEqual(result.rate, made.rate, delta=1e-4 * made.rate)
        long = float(np.linalg.norm(made.offsets, axis=1).sum())  # along a chain, 32-bit rotations add up
        within = (TEXT if ending == ".bvh" else 1e-7) + 4e-6 * (extent(wanted) + long)
        self.assertLessEqual(farthest(with_y_up(result), wanted), within, f"{path.suffix} as {ending}")

    @examples(25)
    @given(makers.skeletons(), st.sampled_from(INTO))
    def test_from_gltf(self, made, ending):
        with folder() as place:
            path = place / "source.glb"
            makers.write_gltf(made, path)
            self.judge(path, made.places(), made, ending)

    @examples(12)
    @given(makers.skeletons(), st.sampled_from(INTO), st.sampled_from("YZ"), st.sampled_from((1.0, 0.01, 0.001)))
    def test_from_usd(self, made, ending, up, metres):
        with folder() as place:
            path = place / "source.usda"
            made.names = [n.replace(" ", "_") for n in made.names]
            makers.write_usd(made, path, metres, up)
            wanted = {n: p * metres @ UP[up].T for n, p in made.places().items()}
            self.judge(path, wanted, made, ending)

    @examples(20)
    @given(makers.skeletons(), st.sampled_from(INTO))
    def test_from_bvh(self, made, ending):
        made.rest = np.tile([0, 0, 0, 1.0], (len(made.names), 1))
        with folder() as place:
            path = place / "source.bvh"
            makers.write_bvh(made, path)
            wanted = made.places()
            out = place / f"out{ending}"
            command("convert", path, out)
            result = seen(out, made.frames, made.rate)
            own = {name: with_y_up(result)[name] for name in wanted}
            # The unit of a BVH file is a guess: what is written is the motion at one scale.
            a, b = (np.concatenate([p.ravel() for p in side.values()]) for side in (own, wanted))
            scale = float(a @ b / max(b @ b, 1e-30))
            self.assertGreater(scale, 0)
            within = (TEXT if ending == ".bvh" else 0) + 1e-5 * extent(wanted)
            self.assertLessEqual(float(np.abs(a / scale - b).max()), within, ending)
