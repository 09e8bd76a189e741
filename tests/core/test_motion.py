"""Skeletons, clips, forward kinematics, resampling, placement and rebasing."""

from dataclasses import replace

import numpy as np

from tests.support import FULL, UPS, Case, figure, joints_at, wild_motion
from young_marionette.core import rotations as rot
from young_marionette.core.clip import Clip, as_rows
from young_marionette.core.errors import InputError
from young_marionette.core.figure.placement import Placement, axis_name, axis_vector, place_clip, place_skeleton
from young_marionette.core.kinematics import forward, local_rotation_rows, world_rotation_rows
from young_marionette.core.rebase import rebase, rebase_clip, rename
from young_marionette.core.resample import resample
from young_marionette.core.skeleton import Skeleton, pose_world
from young_marionette.demo.figures import make_figure


class Skeletons(Case):
    def test_parents_must_come_first(self):
        for parents in ([1, -1], [0, -1], [-1, 1]):
            with self.assertRaises(ValueError):
                Skeleton(("a", "b"), np.array(parents), np.zeros((2, 3)))

    def test_names_must_differ(self):
        with self.assertRaises(ValueError):
            Skeleton(("a", "a"), np.array([-1, 0]), np.zeros((2, 3)))

    def test_family_questions(self):
        s = Skeleton(tuple("abcd"), np.array([-1, 0, 1, 0]), np.ones((4, 3)))
        self.assertEqual(s.children, ((1, 3), (2,), (), ()))
        self.assertEqual(s.ancestors(2), [1, 0])
        self.assertEqual(sorted(s.subtree(1)), [1, 2])

    def test_rest_pose_by_hand(self):
        quarter = rot.from_axis_angle(rot.AXES["Z"], np.array(np.pi / 2))
        s = Skeleton(
            ("a", "b", "c"),
            np.array([-1, 0, 1]),
            np.array([[1.0, 0, 0], [1, 0, 0], [1, 0, 0]]),
            np.array([quarter, rot.IDENTITY, quarter]),
            np.array([[np.nan] * 3, [np.nan] * 3, [0.5, 0, 0]]),
        )
        self.close(s.rest_world[0], [[1, 0, 0], [1, 1, 0], [1, 2, 0]], 1e-12)
        self.close(s.ends[2], [0.5, 2, 0], 1e-12)

    def test_clip_shapes_are_checked(self):
        s = figure()
        good = np.tile(rot.IDENTITY, (3, len(s), 1))
        for bad in (
            {"rotations": good[:, :-1]},
            {"rate": 0},
            {"moving": [0]},
            {"moving": [0], "translations": np.zeros((2, 1, 3))},
        ):
            with self.assertRaises(ValueError):
                Clip(**{"name": "x", "skeleton": s, "rate": 30, "rotations": good, **bad})

    def test_cut_includes_both_ends(self):
        clip = wild_motion(figure(), np.random.default_rng(0), 20)
        part = clip.cut(3, 7)
        self.assertEqual(part.frames, 5)
        self.close(part.rotations[0], clip.rotations[3])
        self.close(part.translations[-1], clip.translations[7])


class Kinematics(Case):
    def test_every_frame_is_the_pose_by_itself(self):
        clip = wild_motion(make_figure(FULL), np.random.default_rng(3), 6)
        places, turns = forward(clip)
        for f in range(clip.frames):
            p, q = pose_world(
                clip.skeleton, clip.rotations[f], {int(j): clip.translations[f, i] for i, j in enumerate(clip.moving)}
            )
            self.close(places[f], p, 1e-12)
            self.same_turn(turns[f], q)

    def test_local_undoes_world(self):
        clip = wild_motion(make_figure(FULL), np.random.default_rng(4), 6)
        rows = as_rows(clip.rotations)
        self.close(local_rotation_rows(clip.skeleton, world_rotation_rows(clip.skeleton, rows)), rows, 1e-12)

    def test_only_needed_joints(self):
        clip = wild_motion(figure(), np.random.default_rng(5), 4)
        hand = clip.skeleton.index["left hand"]
        rows = as_rows(clip.rotations)
        self.close(
            world_rotation_rows(clip.skeleton, rows, [hand])[hand], world_rotation_rows(clip.skeleton, rows)[hand]
        )


class Resampling(Case):
    def setUp(self):
        self.clip = wild_motion(figure(), np.random.default_rng(6), 301, 0.2)

    def test_seconds_stay(self):
        for rate in (12, 24, 25, 29.97, 30, 50, 59.94, 60, 100, 120, 240):
            again = resample(self.clip, rate)
            self.assertLessEqual(abs(again.seconds - self.clip.seconds), 0.5 / rate + 1e-9, rate)
            self.assertEqual(again.rate, rate)

    def test_shared_moments_are_kept(self):
        """At three times the rate every third frame is one of the old ones, to the last bit."""
        again = resample(self.clip, 90)
        self.close(again.rotations[::3], self.clip.rotations, 1e-12)
        self.close(again.translations[::3], self.clip.translations, 1e-12)

    def test_hundred_to_twenty_five(self):
        clip = replace(self.clip, rate=100.0)
        again = resample(clip, 25)
        self.assertEqual(again.frames, 76)
        self.close(again.rotations, clip.rotations[::4], 1e-12)

    def test_steady_turn_stays_steady(self):
        s = Skeleton(("a",), np.array([-1]), np.zeros((1, 3)))
        turns = rot.from_axis_angle(rot.AXES["Y"], np.linspace(0, 3, 31))[:, None]
        again = resample(Clip("t", s, 30, turns), 47)
        self.close(np.diff(rot.to_euler("YXZ", again.rotations[:, 0])[:, 0])[:-1], 3 / 47, 1e-9)

    def test_senseless_rates(self):
        for rate in (0, -5, 1e9, float("nan")):
            self.assertRaises(InputError, resample, self.clip, rate)

    def test_one_frame(self):
        self.assertEqual(resample(self.clip.cut(0, 0), 60).frames, 1)


class Placements(Case):
    def test_axis_words(self):
        for name in ("X", "+y", "-Z"):
            self.assertEqual(axis_name(axis_vector(name)).lower().lstrip("+"), name.lower().lstrip("+"))
        for bad in ("", "W", "XY", "--X"):
            self.refuses(lambda b=bad: axis_vector(b), "not an axis")

    def test_there_and_back(self):
        rng = np.random.default_rng(7)
        clip = wild_motion(figure(root=True), rng, 5)
        for turn in UPS.values():
            placement = Placement(0.0254, turn)
            there = place_clip(clip, placement)
            back = place_clip(there, placement.inverse, clip.skeleton)
            self.close(joints_at(back), joints_at(clip), 1e-12)
            self.close(joints_at(there), rot.rotate(turn, joints_at(clip)) * 0.0254, 1e-12)

    def test_from_axes(self):
        placement = Placement.from_axes(1.0, axis_vector("Z"), axis_vector("-Y"))
        self.close(rot.rotate(placement.turn, [[0, 0, 1.0], [0, -1.0, 0]]), [[0, 1, 0], [0, 0, 1]], 1e-12)

    def test_skeleton_is_the_clips(self):
        clip = wild_motion(figure(), np.random.default_rng(8), 2)
        placement = Placement(2.0, UPS["Z"])
        self.close(
            place_clip(clip, placement).skeleton.rest_world[0], place_skeleton(clip.skeleton, placement).rest_world[0]
        )


class Rebasing(Case):
    def test_motion_stays_for_any_rest_and_axes(self):
        rng = np.random.default_rng(9)
        clip = wild_motion(make_figure(FULL), rng, 6)
        pose = rot.multiply(clip.skeleton.rest, rot.from_vector(rng.normal(size=(len(clip.skeleton), 3)) * 0.5))
        skeleton, turns = rebase(clip.skeleton, pose, rot.normalise(rng.normal(size=(len(clip.skeleton), 4))))
        again = rebase_clip(clip, skeleton, turns)
        self.close(joints_at(again), joints_at(clip), 1e-12)
        self.close(skeleton.rest_world[0], pose_world(clip.skeleton, pose)[0], 1e-12)

    def test_tips_go_along(self):
        clip = wild_motion(figure(), np.random.default_rng(10), 1)
        skeleton, _ = rebase(
            clip.skeleton, axes=rot.normalise(np.random.default_rng(0).normal(size=(len(clip.skeleton), 4)))
        )
        tips = np.isfinite(clip.skeleton.ends)
        self.close(skeleton.ends[tips], clip.skeleton.ends[tips], 1e-12)

    def test_rename(self):
        s = rename(figure(), {"hips": "sacroiliac", "nobody": "x"})
        self.assertIn("sacroiliac", s.names)
        self.assertEqual(len(s), len(figure()))
