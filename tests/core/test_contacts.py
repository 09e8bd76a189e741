"""Contacts: found where the plans of the demo's clips put them, to the frame, and nowhere else."""

from dataclasses import replace

import numpy as np

from tests.acting import acted, damaged, mask_of, planned
from tests.support import Case, figure, wild_motion
from young_marionette.core import rotations as rot
from young_marionette.core.clip import Clip
from young_marionette.core.contacts.choices import Adjusted, ContactChoices
from young_marionette.core.contacts.finding import find_contacts
from young_marionette.core.contacts.points import FEET, HANDS, contact_points, point_rows
from young_marionette.core.humanoid.reading import read_body
from young_marionette.core.kinematics import forward
from young_marionette.demo import clips as acts
from young_marionette.demo.figures import Build, make_figure


def adjusted(**changes):
    return ContactChoices((Adjusted(tuple(changes.items())),))


def longest(mask, rate):
    """Seconds of the longest run of true values."""
    edges = np.flatnonzero(np.diff(np.concatenate([[0], mask, [0]])))
    return max((b - a for a, b in zip(edges[::2], edges[1::2])), default=0) / rate


class Planned(Case):
    def check(self, names, rate, jitter=0.0, build=None):
        right = frames = 0
        for name in names:
            clip, body, feet, plan = acted(name, rate, build, jitter)
            contacts = find_contacts(clip, body)
            for side, (holds, roll) in zip(("left", "right"), feet):
                for end, mask in zip(("heel", "toe"), planned(holds, roll, plan.times)):
                    got = mask_of(contacts, f"{side} {end}", clip.frames)
                    right, frames = right + (got == mask).sum(), frames + len(mask)
                    # A foot that hardly rolls is still before its plan says so; one that rolls tells to the frame.
                    most = max(0.11, 3.5 / rate) if roll > 0.6 else 0.25
                    self.assertLess(longest(got & ~mask, rate), most, f"{name}: {side} {end}, {rate} fps")
        self.assertGreater(right / frames, 0.965, (rate, jitter))

    def test_steps_are_found_to_the_frame(self):
        for rate in (24, 30, 100):
            self.check(acts.CLIPS, rate)

    def test_through_jitter_and_on_other_figures(self):
        self.check(acts.CLIPS, 60, 0.003)
        self.check(acts.CLIPS, 30, 0.002, replace(Build(), height=1.5))

    def test_steps_are_found_under_spikes_and_heavy_jitter(self):
        """Feet that jitter by centimetres: most of what stands is found, and hardly anything that does not."""
        right = false = frames = 0
        for name in ("haul_rope", "light_lamp", "sweep_quay", "wave_to_ship"):
            clip, body, _, _ = acted(name, 60)
            hurt, _ = damaged(clip, np.random.default_rng(5))
            known, found = find_contacts(clip, body), find_contacts(hurt, body)
            for point in FEET:
                stands, got = (mask_of(c, point, clip.frames) for c in (known, found))
                right, false, frames = right + (stands == got).sum(), false + (got & ~stands).sum(), frames + len(got)
        self.assertGreater(right / frames, 0.88)
        self.assertLess(false / frames, 0.01)

    def test_rungs_count_at_their_heights(self):
        clip, body, feet, _ = acted("climb_ladder")
        contacts = find_contacts(clip, body)
        for side, (holds, _) in zip(("left", "right"), feet):
            heights = [c.height for c in contacts.of(f"{side} heel")]
            self.close(heights, [h.place[1] for h in holds if h.end > h.start], 0.01)
            self.assertEqual([c.held for c in contacts.of(f"{side} heel")], [h > 0.1 for h in heights])
        for hand in HANDS:
            self.assertEqual(len(contacts.of(hand)), 3)
            self.assertTrue(all(c.height > 1.3 for c in contacts.of(hand)))

    def test_who_sits_rests_the_feet_on_a_board(self):
        clip, body, _, _ = acted("row_boat")
        contacts = find_contacts(clip, body)
        self.assertEqual(contacts.floor, 0.0)
        for point in FEET:
            [contact] = contacts.of(point)
            self.assertTrue(contact.held)
            self.close(contact.height, 0.06, 0.005)
        [seat] = contacts.of("seat")
        self.assertEqual((seat.first, seat.last), (0, clip.frames - 1))

    def test_hands_that_only_hang_hold_nothing(self):
        for name in ("walk_the_wall", "ring_bell", "sweep_quay", "haul_rope", "light_lamp", "wave_to_ship"):
            clip, body, _, _ = acted(name)
            self.assertEqual([c.point for c in find_contacts(clip, body).found if c.point not in FEET], [])


class Handstand(Case):
    def cartwheel(self, rate=60):
        """A body that turns over its hands: each hand stands on the floor for a while known to the frame."""
        skeleton = make_figure(Build())
        body = read_body(skeleton)
        points = {p.name: p for p in contact_points(skeleton, body)}
        times = np.arange(int(2.4 * rate)) / rate
        # The arms straight up, the body turned about the palm that stands, first the left, then the right.
        local = np.tile(skeleton.rest, (len(times), 1, 1))
        for side, sign in (("left", 1), ("right", -1)):
            local[:, skeleton.index[f"{side} upper arm"]] = rot.from_axis_angle(rot.AXES["Z"], np.array(sign * 1.45))
        clip = Clip("turned over", skeleton, float(rate), local, np.array([0]), np.zeros((len(times), 1, 3)))
        palms = [point_rows(clip, [points[f"{s} hand"]])[0, :, 0] for s in ("left", "right")]
        angle = np.interp(times, [0.3, 2.1], [0.6, -0.6]) + np.pi
        turn = rot.from_axis_angle(rot.AXES["Z"], angle)
        stands = np.where(times < 1.2, 0, 1)
        pivots = np.array([[0.2, 0.0, 0.0], [-0.2, 0.0, 0.0]])
        shift = pivots[stands] - rot.rotate(turn, np.array(palms)[stands])
        # One path: where the second palm comes down is where the first one's turn has brought it.
        middle = int(1.2 * rate)
        jump = shift[middle] - (pivots[0] - rot.rotate(turn[middle], palms[0]))
        shift[middle:] -= jump
        local[:, 0] = rot.multiply(turn, skeleton.rest[0])
        clip = replace(clip, rotations=local, translations=shift[:, None])
        return clip, body, (times < 1.2, times >= 1.2)

    def test_hands_on_the_floor(self):
        clip, body, masks = self.cartwheel()
        contacts = find_contacts(clip, body)
        for hand, mask in zip(HANDS, masks):
            got = mask_of(contacts, hand, clip.frames)
            self.assertGreater((got == mask).mean(), 0.95, hand)


class Unkind(Case):
    def test_anything_is_looked_at_without_a_crash(self):
        rng = np.random.default_rng(41)
        for build in (Build(), Build(fingers=True, twist=True, root=True), replace(Build(), height=0.3)):
            skeleton = make_figure(build)
            for frames in (1, 2, 3, 40):
                clip = wild_motion(skeleton, rng, frames)
                for contact in find_contacts(clip, read_body(skeleton)).found:
                    self.assertLessEqual(0, contact.first)
                    self.assertLess(contact.last, frames)

    def test_without_a_body_nothing_touches(self):
        clip, _, _, _ = acted("light_lamp")
        self.assertEqual(find_contacts(clip, None).found, ())

    def test_what_slides_is_told(self):
        clip, body, _, _ = acted("haul_rope")
        slid = clip.translations + np.linspace(0, 0.1, clip.frames)[:, None, None] * np.array([1.0, 0, 0])
        contacts = find_contacts(replace(clip, translations=slid), body)
        [heel] = contacts.of("left heel")
        self.close(heel.slide, 0.05, 0.003)

    def test_thresholds_are_obeyed(self):
        clip, body, _, _ = acted("carry_bucket", jitter=0.002)
        strict = find_contacts(clip, body, choices=adjusted(speed=0.005, held_speed=0.005))
        loose = find_contacts(clip, body, choices=adjusted(speed=0.6, height=0.1))
        usual = find_contacts(clip, body)
        count = lambda c: sum(k.frames for k in c.found if k.point in FEET)  # noqa: E731
        self.assertLess(count(strict), 0.4 * count(usual))
        self.assertGreater(count(loose), count(usual))

    def test_points_are_where_heel_and_ball_are(self):
        skeleton = figure()
        body = read_body(skeleton)
        points = {p.name: p for p in contact_points(skeleton, body)}
        clip = Clip("still", skeleton, 30.0, skeleton.rest[None], np.array([0]), skeleton.offsets[None, :1])
        places = forward(clip)[0][0]
        for side in ("left", "right"):
            ankle, ball = (places[body.parts[f"{side} {part}"][0]] for part in ("foot", "toes"))
            heel, toe = (point_rows(clip, [points[f"{side} {end}"]])[0, :, 0] for end in ("heel", "toe"))
            self.assertLess(heel[2], ankle[2])
            self.close(toe[[0, 2]], ball[[0, 2]], 1e-9)
            self.close(heel[1], toe[1], 1e-9)
            self.assertLess(toe[1], ball[1] + 1e-9)
