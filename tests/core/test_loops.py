"""Loops against known answers: motion of a known period, gaps of a known size, ends that meet."""

from dataclasses import replace

import numpy as np

from tests.acting import acted
from tests.support import Case, joints_at
from young_marionette.core import rotations as rot
from young_marionette.core.clip import Clip
from young_marionette.core.contacts.finding import find_contacts
from young_marionette.core.contacts.points import point_rows
from young_marionette.core.errors import InputError
from young_marionette.core.kinematics import forward
from young_marionette.core.passes.keeping import Limbs
from young_marionette.core.passes.loop import Loop
from young_marionette.core.passes.stack import Pass, Stage, applied, length
from young_marionette.core.travel.loops import best_stretches, closed, gap_of, ghost_places
from young_marionette.core.travel.path import path_of
from young_marionette.demo.figures import Build, make_figure

RATE, PERIOD = 30.0, 1.2  # seconds


def periodic(seconds=6.0, turning=0.3, noise=0.0, seed=1):
    """A figure whose joints swing with a period of 1.2 s while it goes ahead at 1 m/s and turns."""
    rig = make_figure(Build())
    rng = np.random.default_rng(seed)
    t = np.arange(round(seconds * RATE)) / RATE
    size, phase = rng.uniform(0.1, 0.5, (len(rig), 3)), rng.uniform(0, 6, (len(rig), 3))
    swing = size * np.sin(2 * np.pi * t[:, None, None] / PERIOD + phase)
    turns = rot.from_vector(swing + rng.normal(0, noise, swing.shape))
    hips, angle = rig.index["hips"], turning * t
    about = rot.from_axis_angle(np.tile([0.0, 1, 0], (len(t), 1)), angle)
    turns[:, hips] = rot.multiply(about, rot.from_vector(0.1 * swing[:, hips] * [1, 0, 1]))
    step = rot.rotate(about, np.array([0.0, 0, 1 / RATE]))
    places = np.cumsum(step, 0) + np.stack([0 * t, 1 + 0.03 * np.sin(4 * np.pi * t / PERIOD), 0 * t], 1)
    return Clip("x", rig, RATE, turns, [hips], places[:, None]), hips


class Gaps(Case):
    def test_a_gap_is_told_in_place_height_heading_and_pose(self):
        clip, hips = periodic()
        first = clip.cut(10, 10)
        turn = rot.from_axis_angle(rot.AXES["Y"], np.array(0.7))
        elbow = clip.skeleton.index["left forearm"]
        turns = np.array(first.rotations)
        turns[:, hips] = rot.multiply(turn, turns[:, hips])
        turns[:, elbow] = rot.multiply(turns[:, elbow], rot.from_vector(np.array([0.0, 0.4, 0.0])))
        places = rot.rotate(turn, np.array(first.translations)) + [0.0, 0.05, 0.0]
        both = replace(
            clip.cut(0, 1),
            rotations=np.concatenate([first.rotations, turns]),
            translations=np.concatenate([first.translations, places]),
        )
        gap = gap_of(both, hips, 0, 1)
        self.close(gap.height, 0.05, 1e-9)
        self.close(gap.heading, 0.7, 1e-9)
        self.close(gap.turn, 0.4, 1e-9)
        self.close(gap.place, (places - first.translations)[0, 0, [0, 2]], 1e-9)
        arms = joints_at(both)
        self.assertGreater(gap.pose, 0.05)
        self.assertIn(gap.joint.split()[0], ("left",))
        self.assertEqual(arms.shape[0], 2)

    def test_the_ghost_stands_where_the_next_round_begins(self):
        clip, hips = periodic()
        places, turns = ghost_places(clip, hips, 4, 60)
        path = path_of(clip, hips)
        self.close(places[hips, [0, 2]], path.places[[0, 2], 60], 1e-9)
        own, world = forward(clip)
        self.close(np.linalg.norm(places - places[hips], axis=1), np.linalg.norm(own[4] - own[4, hips], axis=1), 1e-9)
        self.close(places[:, 1], own[4][:, 1], 1e-9)
        self.assertEqual(turns.shape, world[4].shape)


class Finding(Case):
    def test_the_period_is_found(self):
        for seconds, noise in ((6.0, 0.0), (6.0, 0.01), (70.0, 0.01)):
            clip, hips = periodic(seconds, noise=noise)
            found = best_stretches(clip, hips, 0.5, 5.0)
            self.assertEqual(len(found), 3)
            for stretch in found:
                rounds = (stretch.last - stretch.first) / RATE / PERIOD
                self.assertLess(abs(rounds - round(rounds)), 0.03, f"{seconds} s, {noise}: {stretch}")
            self.assertEqual(found, sorted(found, key=lambda s: s.cost))

    def test_limits(self):
        clip, hips = periodic()
        for stretch in best_stretches(clip, hips, 2.0, 2.9):
            self.assertTrue(60 <= stretch.last - stretch.first <= 87)
        self.assertRaises(InputError, best_stretches, clip.cut(0, 10), hips)


class Closing(Case):
    def test_the_last_pose_is_the_first_one(self):
        clip, _, _, _ = acted("carry_bucket")
        hips = clip.skeleton.index["hips"]
        for first, last in ((40, 90), (0, 60)):
            made = closed(clip, hips, first, last, 0.4)
            self.assertEqual(made.frames, last - first + 1)
            gap = gap_of(made, hips, 0, last - first)
            self.assertLess(max(abs(gap.height), gap.pose, gap.turn), 1e-6)
            before, after = gap_of(clip, hips, first, last), gap
            self.close(after.place, before.place, 1e-9, "it goes as far as it did")
            self.close(after.heading, before.heading, 1e-9)
            untouched = last - first - 12
            self.close(made.rotations[:untouched], clip.rotations[first : first + untouched], 0)

    def test_round_after_round_it_goes_on_without_a_jerk(self):
        """What leads to the first frame leads to the last one: speeds agree over the seam."""
        clip, hips = periodic(noise=0.0, turning=0.0)
        made = closed(clip, hips, 20, 80, 0.4)  # not a period
        places = joints_at(made)
        own = places - places[:, [hips]] * [1, 0, 1]
        seam = (own[1] - own[0]) - (own[-1] - own[-2])
        inside = np.abs(np.diff(own, 2, axis=0)).max()
        self.assertLess(np.abs(seam).max(), 1.5 * inside)

    def test_as_a_pass_what_stands_stays(self):
        clip, body, _, _ = acted("carry_bucket")
        limbs, contacts = Limbs.of(clip.skeleton, body, None), find_contacts(clip, body, None)
        one = Pass("l", Loop(30, 110, 0.5))
        stage = applied(one, Stage(clip, contacts), limbs)
        self.assertEqual((stage.clip.frames, *length([one], clip.frames, 30.0)), (81, 81, 30.0))
        gap = gap_of(stage.clip, limbs.hips, 0, 80)
        self.assertLess(max(abs(gap.height), gap.pose), 1e-3)
        for contact in stage.contacts.found:
            place = point_rows(stage.clip, [limbs.points[contact.point]])[0][:, contact.first : contact.last + 1]
            slide = np.linalg.norm(place - np.median(place, axis=1)[:, None], axis=0)[:-4].max(initial=0)
            self.assertLess(slide, contact.slide + 0.002, contact)
        for wrong in (Loop(500), Loop(10, 12), Loop(0, 10_000)):
            self.assertEqual(applied(Pass("l", wrong), Stage(clip, contacts), limbs).clip.frames, clip.frames)

    def test_what_is_too_short(self):
        clip, hips = periodic()
        for first, last in ((5, 8), (-1, 20), (10, 500), (20, 20)):
            self.assertRaises(InputError, closed, clip, hips, first, last, 0.3)
