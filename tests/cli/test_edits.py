"""Clips adjusted, mirrored and retimed on the command line, checked by reading the files anew."""

import json

import numpy as np

from tests.cli.test_cli import Line
from tests.support import joints_at
from young_marionette.core.humanoid.reading import read_body
from young_marionette.formats import read


class Edits(Line):
    def setUp(self):
        super().setUp()
        self.sweep = self.show / "loft/sweep_quay.bvh"

    def clip(self, path):
        return read(path).skeletons[0].clips[0]

    def told(self, *words):
        return json.loads(self.ok(*words, "--json"))

    def test_adjust(self):
        words = "adjust", self.sweep, "--out", self.out
        told = self.told(*words, "--hips-up", 4, "--look-up", 10, "--range", "60:120", "--ease", 0.25)
        self.assertEqual((told["hips_cm"]["asked"], round(told["hips_cm"]["reached"], 2)), (4, 4))
        before, after = self.clip(self.sweep), self.clip(self.out)
        self.assertEqual((after.frames, after.rate), (before.frames, before.rate))
        body = read_body(before.skeleton)
        places = joints_at(before), joints_at(after)
        feet = [body.parts[f"{side} foot"][0] for side in ("left", "right")]
        self.close(places[1][:, feet], places[0][:, feet], 1e-3)
        rise = (places[1] - places[0])[:, body.parts["hips"][0]] @ body.up
        self.close(rise[60:121], 0.04, 1e-4)
        self.close(rise[[*range(50), *range(131, before.frames)]], 0.0, 1e-6)
        told = self.told(*words, "--overwrite", "--hips-up", 4, "--free")
        rise = (joints_at(self.clip(self.out)) - places[0]) @ body.up
        self.close(rise[:, 1:], 0.04, 1e-4)  # all but the root bone on the floor
        self.assertAlmostEqual(told["changed_cm"]["feet"], 4, 1)
        self.assertIn("no farther", self.ok(*words, "--overwrite", "--hips-up", 60))
        name = before.skeleton.names[body.parts["left hand"][0]]
        self.ok(*words, "--overwrite", "--turn", f"{name}=0,25,0")
        for more, says in (
            ((), "Say what to adjust"),
            (("--turn", "nothing"), "is no turn of a bone"),
            (("--turn", "tail=1,2,3"), "There is no bone tail"),
            (("--hips-up", 1, "--ease", -1), "--ease is a time"),
            (("--hips-up", 1, "--range", "5:9999"), "does not lie in"),
        ):
            self.refused(*words, "--overwrite", *more, says=says)
        self.refused(*words, "--hips-up", 1, says="exists")

    def test_what_was_odd_about_a_file_is_told(self):
        """A file that is cut off is worked on as far as it goes, and whoever does so is told, each time."""
        whole = self.sweep.read_text()
        cut = self.folder / "cut.bvh"
        cut.write_text(whole[: len(whole) // 5])
        says = f"announces {self.clip(self.sweep).frames} frames"
        for words in (
            ("filter", cut, "--spikes"), ("thin", cut), ("adjust", cut, "--hips-up", 1), ("mirror", cut), ("convert", cut),
            ("retime", cut, "--speed", 1.5), ("join", cut, self.sweep), ("rename", cut, "--names", "vrm"), ("contacts", cut),
        ):  # fmt: skip
            made = self.folder / f"{words[0]}.bvh"
            out = {"contacts": (), "convert": (made,)}.get(words[0], ("--out", made))
            self.assertIn(says, self.ok(*words, *out))
            (note,) = self.told(*words, *out, *("--overwrite",) * bool(out))["notes"]
            self.assertIn(says, note)
        self.assertEqual(self.told("contacts", self.sweep)["notes"], [])

    def test_mirror(self):
        once, twice = self.folder / "once.bvh", self.folder / "twice.bvh"
        self.ok("mirror", self.sweep, "--out", once)
        self.ok("mirror", once, "--out", twice)
        before, after = joints_at(self.clip(self.sweep)), joints_at(self.clip(twice))
        self.close(after, before, 2e-5)
        self.assertGreater(np.abs(joints_at(self.clip(once)) - before).max(), 0.1)
        pole = self.folder / "pole.bvh"
        pole.write_text(
            "HIERARCHY\nROOT a\n{\nOFFSET 0 0 0\nCHANNELS 3 Zrotation Xrotation Yrotation\nJOINT b\n{\nOFFSET 0 1 0\n"
            "CHANNELS 3 Zrotation Xrotation Yrotation\nEnd Site\n{\nOFFSET 0 1 0\n}\n}\n}\nMOTION\nFrames: 2\n"
            "Frame Time: 0.04\n0 0 0 0 0 0\n1 0 0 0 2 0\n"
        )
        self.refused("mirror", pole, "--out", self.out, says="left and right can't be told")

    def test_retime(self):
        told = self.told("retime", self.sweep, "--out", self.out, "--speed", 2)
        before, after = self.clip(self.sweep), self.clip(self.out)
        self.assertEqual((told["frames"], told["rate"]), (after.frames, before.rate))
        self.assertAlmostEqual(after.frames, before.frames / 2, delta=1)
        self.close(joints_at(after)[-1], joints_at(before)[-1], 1e-3)
        self.refused("retime", self.sweep, "--out", self.out, "--speed", 0, "--overwrite", says="can't be used")

    def test_join(self):
        bucket, walk = self.show / "quay/carry_bucket.bvh", self.show / "quay/walk_the_wall.bvh"
        told = self.told("join", bucket, walk, "--out", self.out, "--blend", 0.5)
        first, second = told["change"]["first"], told["change"]["second"]
        a, made = self.clip(bucket), self.clip(self.out)
        self.assertEqual((made.frames, made.rate), (told["frames"], a.rate))
        rate = a.rate
        length = self.clip(walk).frames / self.clip(walk).rate
        self.assertAlmostEqual(made.frames / rate, first / rate + length - second / rate, delta=0.1)
        self.close(joints_at(made)[: first - 60], joints_at(a)[: first - 60], 1e-4)
        words = "join", bucket, self.sweep, "--out", self.out, "--overwrite"
        self.refused(*words, says="are not of one rig")
        self.refused(*words[:2], walk, *words[3:], "--at", "3", says="is no pair of frames")
        self.refused(*words[:2], walk, *words[3:], "--at", "5:99999", says="the clips end before")
        self.refused("join", bucket, walk, "--out", walk, "--overwrite", says="")
