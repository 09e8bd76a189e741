"""Markers on the command line: from a recording to a take, to a rig, and back to the same figure."""

import json

import numpy as np

from tests.cli.test_cli import Line
from tests.support import joints_at
from young_marionette.core.markers.segments import BODY
from young_marionette.formats import read
from young_marionette.formats.registry import write_markers
from young_marionette.project.markers import files


class Solve(Line):
    def setUp(self):
        super().setUp()
        self.walk = self.show / "markers/walk_the_wall.c3d"
        self.dots = self.show / "markers/light_lamp.trc"

    def told(self, *words):
        return json.loads(self.ok(*words, "--json"))

    def test_a_take_its_figure_and_its_faults(self):
        out, kept = self.folder / "take.bvh", self.folder / "quay.figure"
        told = self.told("solve", self.walk, "--out", out, "--save-figure", kept, "--range", "330:929")
        clip = read(out).skeletons[0].clips[0]
        self.assertEqual((clip.frames, clip.rate, told["frames"]), (600, 100.0, 600))
        self.assertEqual({*clip.skeleton.names}, {*BODY.names})
        self.assertLess(told["residual_mm"], 2)
        faults = {(f["kind"], f["marker"]): (f["first"], f["last"]) for f in told["faults"] if f["kind"] != "gap"}
        self.assertEqual(
            set(faults),
            {("exchanged", "quay:RWRA"), ("exchanged", "quay:RWRB"), ("left behind", "quay:LTHI"), ("stray", "*40"), ("stray", "*41")},
        )  # fmt: skip
        self.assertEqual(faults["exchanged", "quay:RWRA"], (500, 599))
        for mine, true in zip(faults["left behind", "quay:LTHI"], (630, 799)):
            self.assertLessEqual(abs(mine - true), 3)
        self.assertEqual(told["unknown"], ["leftToes", "rightToes"])
        joints = [clip.skeleton.index[name] for name in ("leftUpperLeg", "leftLowerLeg")]
        lengths = np.linalg.norm(np.diff(joints_at(clip)[:, joints], axis=1), axis=-1)
        self.assertLess(np.ptp(lengths), 1e-5)
        figure = files.load_figure(kept)
        self.assertAlmostEqual(figure.stature, told["figure"]["stature"], 3)
        # The figure that was kept goes with another stretch, at another rate.
        other = self.folder / "other.glb"
        again = self.told("solve", self.walk, "--figure", kept, "--out", other, "--range", "400:470", "--fps", "30")
        self.assertEqual(again["figure"]["offsets"], told["figure"]["offsets"])
        self.assertEqual(read(other).skeletons[0].clips[0].rate, 30.0)
        # What is there is not overwritten, and nothing is half written.
        before = kept.read_bytes()
        self.refused("solve", self.walk, "--out", self.folder / "third.bvh", "--save-figure", kept)
        self.assertEqual(kept.read_bytes(), before)
        self.assertFalse((self.folder / "third.bvh").exists())

    def test_a_t_pose_goes_along(self):
        words = "solve", self.walk, "--range", "420:480", "--out"
        plain = self.told(*words, self.folder / "a.bvh")
        posed = self.told(*words, self.folder / "b.bvh", "--reference", self.show / "markers/quay_t_pose.c3d")
        self.assertNotEqual(plain["figure"]["offsets"], posed["figure"]["offsets"])
        self.assertEqual((plain["reference"], posed["reference"]), (None, "quay_t_pose"))
        self.refused(*words, self.folder / "c.bvh", "--reference", self.dots, says="holds no T-pose")
        self.assertFalse((self.folder / "c.bvh").exists())

    def test_a_labelling_stands_over_labels(self):
        labels = self.folder / "mine.labelling"
        labels.write_text(json.dumps({"format": "young-marionette labelling", "version": 1, "markers": {"quay:LFIN": None, "quay:LWRA": "leftHand"}}))  # fmt: skip
        told = self.told("solve", self.dots, "--labels", labels, "--out", self.folder / "x.bvh", "--range", "400:480")
        segments = {m["marker"]: (m["segment"], m["why"]) for m in told["markers"]}
        self.assertEqual(segments["quay:LFIN"], (None, "hand"))
        self.assertEqual(segments["quay:LWRA"], ("leftHand", "hand"))
        self.assertEqual(segments["quay:RWRA"], ("rightLowerArm", "label"))
        labels.write_text(labels.read_text().replace("leftHand", "leftWing"))
        self.assertIn("leftWing", self.refused("solve", self.dots, "--labels", labels, "--out", self.folder / "y.bvh"))

    def test_info_tells_of_recordings(self):
        told = self.told("info", self.walk)
        self.assertEqual(
            (told["kind"], told["up"], told["metres_per_unit"], told["rate"]), ("markers", "+Z", 0.001, 100.0)
        )
        self.assertTrue(200 < told["in_use"][0] < 420 and told["in_use"][1] < 1300, told["in_use"])
        self.assertEqual(told["unlabelled"], ["*40", "*41"])
        self.assertIn("Markers", self.ok("info", self.dots))

    def test_markers_are_converted(self):
        out = self.folder / "walk.trc"
        self.ok("convert", self.walk, out, "--unit", "m", "--up", "Y", "--range", "100:160")
        old, new = read(self.walk).markers[0].recording, read(out).markers[0]
        self.assertEqual((new.recording.frames, new.recording.first, new.declared.unit), (61, 100, 1.0))
        x, y, z = np.moveaxis(old.points[100:161] / 1000, -1, 0)
        self.close(np.nan_to_num(new.recording.points), np.nan_to_num(np.stack([x, z, -y], -1)), 1e-5)
        self.refused("convert", self.walk, out, says="exists")
        self.refused("convert", self.walk, self.folder / "x.c3d", "--fps", "30", says="rate")

    def test_markers_onto_a_rig_in_one_call(self):
        out, short = self.folder / "heron.bvh", self.folder / "short.c3d"
        part = read(self.walk).markers[0]
        write_markers(short, part.recording.cut(430, 640), "mm", "+Z")
        self.ok("retarget", short, self.heron, "--out", out)
        clip = read(out).skeletons[0].clips[0]
        self.assertEqual((clip.frames, clip.rate), (211, 100.0))
        # The walk goes on: the hips travel, and the feet stand on the floor.
        places = joints_at(clip)
        self.assertGreater(np.linalg.norm(np.ptp(places[:, 0], axis=0)[[0, 2]]), 0.4)

    def test_what_can_not_be_solved_is_told(self):
        self.assertIn(
            "no recording", self.refused("solve", self.show / "quay/light_lamp.bvh", "--out", self.folder / "x.bvh")
        )
        self.assertIn("markers, not a skeleton", self.refused("match", self.walk, self.heron))
        self.assertIn("1500", self.refused("solve", self.walk, "--out", self.folder / "x.bvh", "--range", "0:99999"))
        few = self.folder / "few.csv"
        few.write_text("LKNE_X,LKNE_Y,LKNE_Z\n" + "0.1,0.5,0.2\n" * 20)
        self.assertIn("at least 6", self.refused("solve", few, "--out", self.folder / "x.bvh"))
        self.assertFalse((self.folder / "x.bvh").exists())
