"""The show: the same files every time, motion that stands and moves as planned, and its flaws as announced."""

import hashlib

import numpy as np

from tests.support import Case, joints_at, show_folder, show_state
from young_marionette.core import rotations as rot
from young_marionette.demo.acting import perform
from young_marionette.demo.cast import LOFT, PUPPETS, QUAY
from young_marionette.demo.clips import CLIPS
from young_marionette.demo.show import write_show
from young_marionette.demo.tracks import ease, keyed, late, smooth


class Show(Case):
    def entry(self, name):
        return next(e for e in show_state().entries if e.name == name)

    def test_same_files_every_time(self):
        again = self.folder / "again"
        write_show(again)
        for path in sorted(show_folder().rglob("*.bvh")):
            other = again / path.relative_to(show_folder())
            self.assertEqual(*(hashlib.sha256(p.read_bytes()).hexdigest() for p in (path, other)), path.name)

    def test_flaws(self):
        self.assertEqual(self.entry("walk_the_wall").clip.rate, 100)
        self.assertAlmostEqual(self.entry("carry_bucket").figure.placement.scale, 1e-4)
        self.assertEqual(self.entry("haul_rope").figure.facing, "-Z")
        self.assertEqual(self.entry("row_boat").figure.up, "-Z")
        self.assertNotEqual(self.entry("climb_ladder").family, self.entry("light_lamp").family)
        self.assertEqual(len(self.entry("climb_ladder").skeleton), len(self.entry("light_lamp").skeleton) + 2)
        self.assertEqual(self.entry("loft_take_000").clip.frames, 1)
        self.assertAlmostEqual(
            next(o for o in self.entry("ring_bell").oddities if o.code == "floor")["metres"], 0.04, delta=0.01
        )
        speeds = np.linalg.norm(np.diff(joints_at(self.entry("wave_to_ship").placed_clip), 2, axis=0), axis=-1).max(1)
        self.assertGreater(speeds.max(), 8 * np.median(speeds))

    def test_all_are_three_to_twelve_seconds(self):
        for entry in show_state().of_role("clip"):
            if "reference" not in entry.name and entry.clip.frames > 1:
                self.assertTrue(3 <= entry.clip.seconds <= 12, entry.name)

    def test_cast_has_what_was_asked(self):
        rests = {
            role.name: next(e for e in show_state().entries if e.name == role.name).figure.rest_pose.arms
            for role in PUPPETS
        }
        self.assertEqual(rests, {"Heron": "A-pose", "Puffin": "T-pose", "Gull": "T-pose"})
        names = PUPPETS[2].figure.names
        self.assertTrue("root" in names and "left forearm twist" in names and "left little 3" in names)


class Motion(Case):
    def performed(self, name, role=QUAY, rate=60):
        plan = CLIPS[name](role.build, rate)
        return plan, perform(plan, role.figure, role.build)

    def test_planted_feet_do_not_slide(self):
        for name in CLIPS:
            for role in (QUAY, LOFT):
                plan, clip = self.performed(name, role)
                places = joints_at(clip)
                for side, track in (("left", plan.left_foot), ("right", plan.right_foot)):
                    self.close(places[:, clip.skeleton.index[f"{side} foot"]], track.ankle, 2e-3, f"{name} {side}")
                    # While the heel still comes down, the toes move about it; from then on they stay.
                    flat = (track.stands > 0) & (rot.rotate(track.turn, rot.AXES["Z"])[:, 1] < 0.005)
                    toes = places[:, clip.skeleton.index[f"{side} toes"]]
                    both = flat[1:] & flat[:-1]
                    self.assertLess(
                        np.linalg.norm(np.diff(toes, axis=0), axis=-1)[both].max(initial=0), 4e-3, f"{name} {side}"
                    )

    def test_nothing_goes_through_the_floor(self):
        for name in CLIPS:
            _, clip = self.performed(name)
            self.assertGreater(joints_at(clip)[..., 1].min(), 0.01, name)

    def test_nothing_snaps(self):
        """No joint is thrown about: accelerations stay those of a person at work."""
        for name in CLIPS:
            _, clip = self.performed(name, rate=30)
            speed = np.diff(joints_at(clip), axis=0) * 30
            self.assertLess(np.linalg.norm(np.diff(speed, axis=0) * 30, axis=-1).max(), 75, name)

    def test_weight_goes_over_before_a_foot_lifts(self):
        plan, clip = self.performed("carry_bucket")
        hips = joints_at(clip)[:, 0, 0]
        lifts = np.flatnonzero((plan.left_foot.stands[:-1] > 0) & (plan.left_foot.stands[1:] == 0))
        middle = (plan.left_foot.ankle[:, 0] + plan.right_foot.ankle[:, 0]) / 2
        for lift in lifts:
            self.assertLess(hips[lift] - plan.shift[0], middle[lift] + 0.01)

    def test_no_two_strides_are_alike(self):
        _, clip = self.performed("walk_the_wall")
        turns = rot.to_vector(clip.rotations[:, clip.skeleton.index["head"]])
        period = int(2 * 0.78 * 60)
        self.assertGreater(np.abs(turns[120 : 120 + period] - turns[120 + period : 120 + 2 * period]).max(), 0.005)

    def test_frame_rate_does_not_change_the_performance(self):
        _, slow = self.performed("light_lamp", rate=30)
        _, quick = self.performed("light_lamp", rate=60)
        self.close(joints_at(quick)[::2], joints_at(slow), 0.035)


class Tracks(Case):
    def test_keys_are_met_without_overshoot(self):
        t = np.linspace(0, 3, 200)
        values = keyed(t, {0: 0, 1: 1, 2: 1, 3: 0})[:, 0]
        self.assertLessEqual(values.max(), 1 + 1e-12)
        self.close(values[[0, -1]], 0)

    def test_ease_rests_at_both_ends(self):
        x = np.array([-1, 0, 0.5, 1, 2])
        self.close(ease(x), [0, 0, 0.5, 1, 1])

    def test_late_is_late(self):
        ramp = np.arange(100.0)[:, None]
        self.close(late(ramp, 0.2, 50, 0.01)[50], 40, 1e-6)

    def test_smoothing_holds_ends(self):
        self.close(smooth(np.ones((30, 2)), 0.2, 30), 1)
