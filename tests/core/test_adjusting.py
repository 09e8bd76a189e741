"""Whole clips adjusted and mirrored: exact where the answer is known, and to the last bit where nothing is asked."""

from dataclasses import replace

import numpy as np

from tests.acting import acted
from tests.support import Case, figure
from young_marionette.core import rotations as rot
from young_marionette.core.clip import Clip
from young_marionette.core.contacts.contact import Contact, Contacts
from young_marionette.core.humanoid.reading import read_body
from young_marionette.core.kinematics import forward
from young_marionette.core.passes.adjusting import Adjust
from young_marionette.core.passes.keeping import Limbs, kept
from young_marionette.core.passes.mirroring import Mirror, mirrored, partners
from young_marionette.core.passes.stack import Pass, Stage, applied


def angles(a, b):
    return np.degrees(np.abs(rot.angle(rot.multiply(rot.conjugate(a), b))))


class Adjusting(Case):
    def setUp(self):
        self.clip = acted("sweep_quay")[0].cut(0, 150)
        self.body = read_body(self.clip.skeleton)
        self.limbs = Limbs.of(self.clip.skeleton, self.body, None)
        self.feet = [leg.limb.end for leg in self.limbs.legs]

    def run_(self, frames=None, keep=True, **values):
        return Adjust(**values).run(self.clip, self.limbs, frames, keep)

    def test_hips_go_up_over_feet_that_stay(self):
        made = self.run_((60, 90), hips=0.04)
        before, after = forward(self.clip)[0], forward(made)[0]
        self.close((after - before)[65:85, self.limbs.hips], np.tile([0, 0.04, 0], (20, 1)), 1e-9)
        self.close(after[:, self.feet], before[:, self.feet], 1e-9)
        turns = forward(self.clip)[1][:, self.feet], forward(made)[1][:, self.feet]
        self.assertLess(angles(*turns).max(), 1e-6)
        ease = round(0.3 * self.clip.rate) + 1
        for part in (slice(0, 60 - ease), slice(90 + ease + 1, None)):
            self.assertTrue((made.rotations[part] == self.clip.rotations[part]).all())
            self.assertTrue((made.translations[part] == self.clip.translations[part]).all())
        # Knees go on smoothly: nothing is much rougher than it was.
        knees = [leg.limb.second for leg in self.limbs.legs]
        rough = [np.abs(np.diff(p[:, knees], 2, axis=0)).max() for p in (before, after)]
        self.assertLess(rough[1], 1.5 * rough[0])

    def test_hips_give_way_to_legs_that_are_straight(self):
        made = self.run_(hips=0.5)
        before, after = forward(self.clip)[0], forward(made)[0]
        self.close(after[:, self.feet], before[:, self.feet], 1e-6)
        rise = (after - before)[:, self.limbs.hips, 1]
        self.assertTrue((rise >= -1e-9).all() and 0.01 < rise.max() < 0.4)
        self.assertLess(np.abs(np.diff(rise, 2)).max(), 0.006)
        free = self.run_(hips=0.5, keep=False)
        self.close((forward(free)[0] - before)[..., 1], 0.5, 1e-9)

    def test_what_stands_is_left_alone_where_nothing_moved_it(self):
        made = self.run_((60, 90), hips=0.02)
        contact = Contact("left heel", 5, 140, 0.0, 0.001)
        contacts = Contacts((contact,), 0.0, self.clip.rate)
        self.assertIs(kept(self.clip, made, self.limbs, contacts), made)

    def test_a_foot_that_drifts_by_itself_goes_on_drifting(self):
        """Its heel stood and is put back; its ball went on turning, as part of the same stand, and is not."""
        leg = next(leg for leg in self.limbs.legs if leg.side == "left")
        turns = np.repeat(self.clip.rotations[:1], 150, axis=0)
        swivel = np.radians(25) * np.clip((np.arange(150) - 60) / 80, 0, 1)[:, None] * leg.up
        turns[:, leg.foot] = rot.multiply(turns[:, leg.foot], rot.from_vector(swivel))
        before = replace(self.clip, rotations=turns, translations=np.repeat(self.clip.translations[:1], 150, axis=0))
        moves = before.translations.copy()
        moves[:, 0, 0] += 0.004 * np.sin(np.arange(150) / 4)
        after = replace(before, translations=moves)
        found = Contact("left heel", 0, 49, 0.0, 0.001), Contact("left toe", 0, 149, 0.0, 0.05)
        made = kept(before, after, self.limbs, Contacts(found, 0.0, self.clip.rate))
        ankles = [forward(clip)[0][:, leg.foot] for clip in (before, made)]
        self.close(ankles[1][:50], np.tile(ankles[1][0], (50, 1)), 1e-6)
        self.close(ankles[1], ankles[0], 0.006)

    def test_head_arms_lean_and_bones(self):
        parts = self.body.parts
        places = forward(self.clip)[0]
        for values, joint in (
            ({"look": 20}, "head"), ({"wider": 15}, "left upper arm"), ({"lean": 12}, "head"),
        ):  # fmt: skip
            with self.subTest(values):
                made = self.run_(**values)
                turned = angles(forward(self.clip)[1][:, parts[joint][0]], forward(made)[1][:, parts[joint][0]])
                self.close(turned, float(next(iter(values.values()))), 0.6)
        looking = forward(self.run_(look=20))
        head = parts["head"][0]
        ahead = rot.rotate(rot.conjugate(self.clip.skeleton.rest_world[1][head]), self.body.forward)
        nose = [rot.rotate(turns[:, head], ahead)[:, 1] for _, turns in (forward(self.clip), looking)]
        self.assertTrue((nose[1] > nose[0] + 0.2).all())
        hands = [parts[f"{side} hand"][0] for side in ("left", "right")]
        apart = [
            np.linalg.norm(p[:, hands[0]] - p[:, hands[1]], axis=-1) for p in (places, forward(self.run_(wider=15))[0])
        ]
        self.assertGreater(np.mean(apart[1] - apart[0]), 0.05)
        leaning = forward(self.run_(lean=12))[0]
        facing = rot.rotate(
            rot.multiply(
                forward(self.clip)[1][:, self.limbs.hips],
                rot.conjugate(self.clip.skeleton.rest_world[1][self.limbs.hips]),
            ),
            self.body.forward,
        )
        self.assertTrue((np.sum((leaning - places)[:, head] * facing, 1) > 0.05).all())
        name = self.clip.skeleton.names[hands[0]]
        one = self.run_(turns=((name, (0.0, 30.0, 0.0)),), strength=0.5)
        self.close(angles(one.rotations[:, hands[0]], self.clip.rotations[:, hands[0]]), 15, 1e-6)
        others = [j for j in range(len(self.clip.skeleton)) if j != hands[0]]
        self.assertTrue((one.rotations[:, others] == self.clip.rotations[:, others]).all())

    def test_a_part_of_a_clip_is_as_in_the_whole(self):
        one = Pass("a", Adjust(hips=0.02, look=5), frames=(60, 90))
        whole = applied(one, Stage(self.clip, Contacts()), self.limbs).clip
        part = applied(one, Stage(self.clip.cut(40, 100), Contacts()), self.limbs, None, 40, self.clip.frames).clip
        self.close(part.rotations, whole.rotations[40:101], 1e-6)

    def test_what_a_rig_lacks_is_told(self):
        self.refuses(lambda: Adjust(turns=(("tail", (1.0, 0.0, 0.0)),)).check(self.clip, self.limbs), "no bone tail")
        bare = replace(self.limbs, body=None)
        self.refuses(lambda: Adjust(hips=0.1).check(self.clip, bare), "Nothing was read")
        self.refuses(lambda: Mirror().check(self.clip, bare), "can't be told")


class Mirroring(Case):
    def test_twice_is_the_same_on_any_rig(self):
        """Each bone's rotation comes back, and where the body goes."""
        for name in ("walk_the_wall", "climb_ladder", "haul_rope"):
            clip = acted(name)[0].cut(0, 120)
            body = read_body(clip.skeleton)
            twice = mirrored(mirrored(clip, body), body)
            self.assertLess(angles(twice.rotations, clip.rotations).max(), 1e-3)
            self.close(forward(twice)[0], forward(clip)[0], 1e-6)

    def test_sides_change_over(self):
        clip = acted("walk_the_wall")[0].cut(0, 120)
        body = read_body(clip.skeleton)
        made = mirrored(clip, body)
        before, after = forward(clip), forward(made)
        hips = body.parts["hips"][0]
        facing = rot.rotate(
            rot.multiply(before[1][0, hips], rot.conjugate(clip.skeleton.rest_world[1][hips])), body.forward
        )
        side = rot.normalise(np.cross([0, 1, 0], facing * [1, 0, 1]))
        start = before[0][0, hips]
        for part in ("hand", "foot", "forearm", "thigh"):
            left, right = before[0][:, body.parts[f"left {part}"][0]], after[0][:, body.parts[f"right {part}"][0]]
            seen = left - 2 * ((left - start) @ side)[:, None] * side
            self.close(right, seen, 1e-6)

    def test_uneven_bones_keep_their_lengths(self):
        skeleton = figure(fingers=True)
        offsets = skeleton.offsets.copy()
        for name in ("leftLowerArm", "leftLowerLeg"):
            if name in skeleton.index:
                offsets[skeleton.index[name]] *= 1.2
        uneven = replace(skeleton, offsets=offsets)
        rng = np.random.default_rng(1)
        q = rot.multiply(uneven.rest, rot.from_vector(rng.normal(0, 0.3, (40, len(uneven), 3))))
        clip = Clip("odd", uneven, 30.0, q)
        body = read_body(uneven)
        made = mirrored(clip, body)
        self.assertLess(angles(mirrored(made, body).rotations, clip.rotations).max(), 1e-3)
        lengths = [
            np.linalg.norm(p[:, 1:] - p[:, uneven.parents[1:]], axis=-1) for p in (forward(clip)[0], forward(made)[0])
        ]
        self.close(lengths[1], lengths[0], 1e-9)
        pairs = partners(clip, body)
        self.assertTrue((pairs[pairs[pairs >= 0]] == np.flatnonzero(pairs >= 0)).all())

    def test_contacts_change_over_too(self):
        clip = acted("sweep_quay")[0].cut(0, 60)
        limbs = Limbs.of(clip.skeleton, read_body(clip.skeleton), None)
        found = (
            Contact("left heel", 0, 20, 0.0, 0.0),
            Contact("right toe", 5, 30, 0.0, 0.0),
            Contact("seat", 1, 2, 0.4, 0.0),
        )
        _, contacts = Mirror().run(clip, Contacts(found, 0.0, clip.rate), limbs)
        self.assertEqual(
            {(c.point, c.first) for c in contacts.found}, {("right heel", 0), ("left toe", 5), ("seat", 1)}
        )
