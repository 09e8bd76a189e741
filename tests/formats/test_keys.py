"""Files with sparse keys: read as keys, made frames only when needed, written back as they were; start times stay."""

import unittest
from dataclasses import replace

import numpy as np

from tests.formats.test_gltf import Document
from tests.support import Case, joints_at, onto, show_folder
from young_marionette.core import rotations as rot
from young_marionette.core.keys.channel import Channel, Joint, Kind, Morph
from young_marionette.core.keys.keyed import KeyedClip
from young_marionette.core.keys.sampler import Interpolation, Sampler
from young_marionette.formats import read, write
from young_marionette.formats.keys_out import weights_together
from young_marionette.project import commands as do
from young_marionette.project import delivery, opening, storage
from young_marionette.project.document import Document as Work
from young_marionette.project.document import State
from young_marionette.project.entry import entries_of

TIMES = np.array([2.0, 2.5, 3.25, 4.0])
STAGE = """#usda 1.0
(
    metersPerUnit = 0.01
    upAxis = "Z"
    timeCodesPerSecond = 30
    startTimeCode = 15
    endTimeCode = 75
)
def SkelRoot "Rig" {
    def Skeleton "Skel" {
        uniform token[] joints = ["a", "a/b", "a/b/c"]
        uniform matrix4d[] restTransforms = [%(eye)s, %(up)s, %(up)s]
        uniform matrix4d[] bindTransforms = [%(eye)s, %(up)s, %(up)s]
        rel skel:animationSource = </Rig/Anim>
    }
    def SkelAnimation "Anim" {
        uniform token[] joints = ["a", "a/b", "a/b/c"]
        half3[] scales = [(1,1,1), (1,1,1), (1,1,1)]
        quatf[] rotations.timeSamples = {
            15: [(1,0,0,0), (1,0,0,0), (1,0,0,0)],
            40: [(0.8,0.6,0,0), (1,0,0,0), (0.6,0,0.8,0)],
            75: [(1,0,0,0), (0.8,0,0,0.6), (1,0,0,0)],
        }
        float3[] translations.timeSamples = {
            15: [(0,0,80), (0,0,20), (0,0,20)],
            75: [(50,0,80), (0,0,20), (0,0,20)],
        }
    }
}
"""
EYE, UP = "((1,0,0,0),(0,1,0,0),(0,0,1,0),(0,0,0,1))", "((1,0,0,0),(0,1,0,0),(0,0,1,0),(0,0,20,1))"


def some_turns(count, seed):
    return rot.continuous(rot.from_vector(np.random.default_rng(seed).normal(0, 0.6, (count, 3))))


class Gltf(Case):
    def file(self, name="a.glb", over=False):
        doc = Document()
        smooth = np.stack([np.zeros((4, 4)), some_turns(4, 1), np.full((4, 4), 0.2)], 1).reshape(-1, 4)
        doc.animate(1, "rotation", TIMES, smooth, "CUBICSPLINE")
        doc.animate(0, "translation", TIMES[:2], [[0, 1, 0], [1, 1, 0]], "LINEAR")
        doc.animate(2, "rotation", TIMES, some_turns(4, 2), "STEP")
        animation = {"name": "keys", "channels": [], "samplers": []}
        for number, one in enumerate(doc.tree["animations"]):
            animation["samplers"] += one["samplers"]
            animation["channels"] += [{**one["channels"][0], "sampler": number}]
        doc.tree["animations"] = [animation]
        if over:
            turn = [float(v) for v in rot.from_vector(np.array([0.3, 0.2, -1.0]))]
            doc.tree["nodes"].append({"name": "over", "children": [0], "rotation": turn, "scale": [2, 2, 2]})
            doc.tree["scenes"] = [{"nodes": [3]}]
        return doc.save(self.folder / name)

    def samplers(self, path):
        """``{(node name, path): (times, values, interpolation)}`` as pygltflib reads them."""
        from pygltflib import GLTF2

        from tests.formats.independent import _accessor

        g, found = GLTF2().load(str(path)), {}
        for channel in g.animations[0].channels:
            sampler = g.animations[0].samplers[channel.sampler]
            found[g.nodes[channel.target.node].name, channel.target.path] = (
                _accessor(g, sampler.input)[:, 0], _accessor(g, sampler.output), sampler.interpolation,
            )  # fmt: skip
        return found

    def test_keys_are_read_as_keys(self):
        clip = read(self.file()).skeletons[0].clips[0]
        self.assertIsInstance(clip, KeyedClip)
        self.assertEqual((clip.keys, clip.start, clip.frames, clip.rate), (4, 2.0, 49, 24.0))
        ways = {c.node.number: s.uniform for c, s in clip.samplers.items() if c.kind is Kind.ROTATION}
        self.assertEqual(ways, {1: Interpolation.CUBICSPLINE, 2: Interpolation.STEP})

    def test_written_back_as_they_were(self):
        """Times, values and interpolations bit for bit; under a turned and scaled node within rounding."""
        for over, most in ((False, 0), (True, 4e-7)):
            first = self.file(over=over)
            for entry in entries_of(read(first)):
                out = self.folder / "out.glb"
                delivery.convert(entry, out, overwrite=True)
                told, again = self.samplers(first), self.samplers(out)
                self.assertEqual(set(told), set(again))
                for key, (times, values, way) in told.items():
                    self.close(again[key][0], times, 0)
                    self.close(again[key][1], values, most, key)
                    self.assertEqual(again[key][2], way)
                self.close(joints_at(opening.open_source(out).placed_clip), joints_at(entry.placed_clip), 1e-6)

    def test_a_rate_or_range_that_is_asked_for_makes_frames(self):
        entry = opening.open_source(self.file())
        delivery.convert(entry, self.folder / "r.glb", fps=30)
        delivery.convert(entry, self.folder / "f.glb", frames=(12, 24))
        rated, cut = (opening.open_source(self.folder / f"{n}.glb").take for n in "rf")
        self.assertEqual((rated.frames, rated.rate, rated.start), (61, 30, 2))
        self.assertEqual((cut.frames, cut.start), (13, 0))
        self.close(joints_at(cut), joints_at(entry.clip)[12:25], 1e-5)

    def test_in_betweens_of_different_kinds(self):
        """Held, straight and smooth ones in one channel are one motion for others, and the same keys when read again."""
        from tests.formats.independent import Gltf, gltf_complaints

        entry = opening.open_source(self.file())
        keyed = entry.take
        times = 1 + np.array([0, 5, 9, 16, 18, 24]) / 24
        turns = rot.continuous(some_turns(6, 5))
        ways = np.array([Interpolation[w] for w in ("STEP", "LINEAR", "CUBICSPLINE", "STEP", "LINEAR")])
        slopes = np.random.default_rng(2).normal(size=(2, 6, 4))
        mixed = {Channel(Joint(1), Kind.ROTATION): Sampler(times, turns, ways, *slopes)}
        mixed[Channel(Joint(0), Kind.TRANSLATION)] = Sampler(times, turns[:, :3], ways, *slopes[..., :3])
        clip = KeyedClip("mixed", keyed.skeleton, 24.0, mixed)
        write(self.folder / "mixed.glb", clip)
        self.assertIn(gltf_complaints(self.folder / "mixed.glb"), (None, []))
        dense, other = clip.sample(), Gltf(self.folder / "mixed.glb")
        places = joints_at(dense)
        for frame in range(0, dense.frames, 3):
            world = other.world(np.float32(dense.start + frame / 24))
            for joint, name in enumerate(dense.skeleton.names):
                self.close(world[name][:3, 3], places[frame, joint], 2e-4, f"frame {frame}, {name}")
        again = read(self.folder / "mixed.glb").skeletons[0].clips[0]
        self.assertEqual((again.rate, again.keys), (24.0, 6))
        for channel, sampler in clip.samplers.items():
            told = again.samplers[channel]
            self.assertEqual(told.interpolation.tolist(), ways.tolist())
            self.close(told.times, times, 1e-6)
            self.close(told.values, sampler.values, 1e-6)

    def test_morphs_of_one_mesh_keep_their_keys(self):
        """Each with keys of its own: all are given those of the others, and stay curves."""
        times = (np.array([0.0, 0.5, 1.0]), np.array([0.25, 1.0]))
        keyed = opening.open_source(self.file()).take
        one = Sampler(times[0], [[0.0], [1.0], [0.0]], Interpolation.CUBICSPLINE, np.zeros((3, 1)), np.zeros((3, 1)))
        two = Sampler(times[1], [[0.2], [0.8]], Interpolation.LINEAR)
        channels = {Channel(Morph(n), Kind.WEIGHT): s for n, s in (("a", one), ("b", two))}
        clip = KeyedClip("faces", keyed.skeleton, 24.0, channels)
        together = weights_together(clip, ["a", "b"])
        self.close(together.times, [0, 0.25, 0.5, 1.0], 1e-12)
        self.assertIs(together.uniform, Interpolation.CUBICSPLINE)
        at = np.linspace(0, 1, 33)
        self.close(together.at(at), np.concatenate([one.at(at), two.at(at)], 1), 1e-12)

    def test_lowered_or_centred_keys_stay_keys(self):
        entry = opening.open_source(self.file()).corrected(lift=0.5, centred="origin")
        delivery.convert(entry, self.folder / "l.glb")
        again = opening.open_source(self.folder / "l.glb")
        self.assertIsInstance(again.take, KeyedClip)
        self.close(joints_at(again.clip), joints_at(entry.placed_clip), 1e-5)

    def test_other_formats(self):
        """USD holds no smooth in-betweens and BVH no keys: frames; the start stays where the format has one."""
        entry = opening.open_source(self.file())
        for ending, start in ((".usdc", 2.0), (".bvh", 0.0), (".vrma", None)):
            out = self.folder / f"o{ending}"
            if start is None:
                self.refuses(lambda out=out: delivery.convert(entry, out), "humanoid bones")
                continue
            delivery.convert(entry, out)
            again = opening.open_source(out)
            self.assertEqual((again.clip.frames, again.clip.start, again.clip.rate), (49, start, 24), ending)
            if ending == ".usdc":  # in BVH nothing tells the unit of three joints
                self.close(joints_at(again.placed_clip), joints_at(entry.placed_clip), 1e-4)

    def test_a_project_keeps_keys(self):
        path = self.file(over=True)
        work = Work(State())
        work.do(do.AddEntries(tuple(entries_of(read(path)))))
        storage.save(self.folder / "p.marionette", work.state)
        (entry,) = storage.load(self.folder / "p.marionette").entries
        self.assertIsInstance(entry.take, KeyedClip)
        self.assertEqual(entry.take.digest, work.state.entries[0].take.digest)
        self.assertEqual({f.code: f.values for f in entry.facts}["keys"], {"keys": 4})

    def test_the_same_rig_moves_by_keys_as_by_frames(self):
        """A take of the show with keys left out is tied, baked and delivered like any other."""
        delivery.convert(opening.open_source(show_folder() / "quay/light_lamp.bvh"), self.folder / "dense.glb")
        dense = opening.open_source(self.folder / "dense.glb")

        clip = dense.take
        kept = np.unique(np.append(np.arange(0, clip.frames, 7), clip.frames - 1))
        samplers = {
            Channel(Joint(j), Kind.ROTATION): Sampler(
                clip.times[kept], rot.continuous(clip.rotations[kept, j]), Interpolation.LINEAR
            )
            for j in range(len(clip.skeleton))
        }
        hips = Channel(Joint(int(clip.moving[0])), Kind.TRANSLATION)
        samplers[hips] = Sampler(clip.times[kept], clip.translations[kept, 0], Interpolation.LINEAR)
        sparse = KeyedClip("sparse", clip.skeleton, clip.rate, samplers)
        write(self.folder / "sparse.glb", sparse)
        source, rig = (
            opening.open_source(self.folder / "sparse.glb"),
            opening.open_rig(show_folder() / "puppets/Heron.bvh"),
        )
        self.assertIsInstance(source.take, KeyedClip)
        pairing = delivery.pair_files(source, rig)
        # What the frames between the keys do is not the same motion: other feet stand still.
        pairing = replace(pairing, settings=replace(pairing.settings, feet="free"))
        baked = onto(source, rig, pairing, self.folder / "x.glb")
        self.assertEqual(baked.frames, clip.frames)
        want = onto(dense, rig, pairing, self.folder / "y.glb")
        self.close(joints_at(baked)[kept], joints_at(want)[kept], 1e-4)


class Usd(Case):
    def setUp(self):
        self.path = self.folder / "a.usda"
        self.path.write_text(STAGE % {"eye": EYE, "up": UP})

    def codes(self, path):
        """``{attribute: time codes of its samples}`` by the USD library itself."""
        from pxr import Usd, UsdSkel

        stage = Usd.Stage.Open(str(path))
        (anim,) = [p for p in stage.TraverseAll() if p.IsA(UsdSkel.Animation)]
        told = UsdSkel.Animation(anim)
        rate = stage.GetTimeCodesPerSecond()
        self.assertEqual((stage.GetStartTimeCode() / rate, stage.GetEndTimeCode() / rate), (0.5, 2.5))
        named = {"rotations": told.GetRotationsAttr(), "translations": told.GetTranslationsAttr()}
        return {name: [t / rate for t in attribute.GetTimeSamples()] for name, attribute in named.items()}

    def test_samples_stay_samples(self):
        entry = opening.open_source(self.path)
        self.assertIsInstance(entry.take, KeyedClip)
        self.assertEqual((entry.take.start, entry.take.frames), (0.5, 61))
        want = {"rotations": [0.5, 4 / 3, 2.5], "translations": [0.5, 2.5]}
        for name in ("b.usda", "b.usdc", "b.usdz", "through.glb"):
            delivery.convert(entry, self.folder / name)
            again = opening.open_source(self.folder / name)
            self.assertIsInstance(again.take, KeyedClip, name)
            # glTF tells no rate, so that frames may be others there; the motion is the same at any time.
            times = np.linspace(0.5, 2.5, 41)
            self.close(joints_at(again.placed_take.at(times)), joints_at(entry.placed_take.at(times)), 1e-5, name)
            if name.endswith(".glb"):
                delivery.convert(again, self.folder / "back.usdc")
                name = "back.usdc"
            for key, times in self.codes(self.folder / name).items():
                self.close(times, want[key], 1e-6, f"{name} {key}")


if __name__ == "__main__":
    unittest.main()
