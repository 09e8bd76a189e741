"""Thinning: the promise on every frame, few keys, near the fewest that there can be, and what it is asked for."""

from dataclasses import replace
from itertools import combinations

import numpy as np

from tests.acting import acted
from tests.support import Case, wild_motion
from young_marionette.core import rotations as rot
from young_marionette.core.clip import Clip
from young_marionette.core.contacts.finding import find_contacts
from young_marionette.core.contacts.points import contact_points
from young_marionette.core.errors import Cancelled
from young_marionette.core.humanoid.reading import read_body
from young_marionette.core.keys.channel import Kind
from young_marionette.core.keys.editing import key_frames
from young_marionette.core.keys.sampler import Interpolation
from young_marionette.core.skeleton import Skeleton
from young_marionette.core.thinning.deviation import deviation
from young_marionette.core.thinning.motion import motion_of
from young_marionette.core.thinning.settings import CONTACTS, JOINTS, KEYS, Thin
from young_marionette.core.thinning.spans import Betweens, Spans, over
from young_marionette.core.thinning.thinning import CONTACT, HAND, Subject, Thinner
from young_marionette.core.thinning.tolerances import Emphasis
from young_marionette.demo.figures import Build, make_figure

WHOLE = Thin(stages=(KEYS,), planted=None)


def off(before, after):
    """``(farthest that a joint or tip is off in cm, largest turn in degrees)``, worked out here, joint by joint."""
    worst, turned = 0.0, 0.0
    states = []
    for clip in (before, after):
        places, turns = [], []
        moves = {int(j): clip.translations[:, i] for i, j in enumerate(clip.moving)}
        for joint, parent in enumerate(clip.skeleton.parents):
            step = moves.get(joint, np.repeat(clip.skeleton.offsets[joint][None], clip.frames, 0))
            own = clip.rotations[:, joint]
            if parent < 0:
                places.append(step)
                turns.append(own)
            else:
                places.append(places[parent] + rot.rotate(turns[parent], step))
                turns.append(rot.multiply(turns[parent], own))
        states.append((places, turns))
    for joint, tip in enumerate(before.skeleton.tips):
        (a, p), (b, q) = ((places[joint], turns[joint]) for places, turns in states)
        worst = max(worst, float(np.linalg.norm(a - b, axis=1).max()))
        if np.isfinite(tip).all():
            away = a + rot.rotate(p, tip) - b - rot.rotate(q, tip)
            worst = max(worst, float(np.linalg.norm(away, axis=1).max()))
        turned = max(turned, float(np.degrees(rot.angle(rot.multiply(rot.conjugate(p), q)).max())))
    return worst * 100, turned


def subject(clip, **more):
    """With what the clip touches."""
    body = read_body(clip.skeleton)
    points = {p.name: p for p in contact_points(clip.skeleton, body)}
    return Subject(clip, find_contacts(clip, body), points, **more)


def keys_of(thinned):
    return sum(len(s) for s in thinned.keyed.samplers.values())


class Promise(Case):
    def test_it_is_kept_on_every_frame(self):
        for name in ("carry_bucket", "haul_rope"):
            clip = acted(name)[0].cut(0, 100)
            thinner = Thinner(subject(clip))
            before = None
            for cm in (0.5, 1, 5):
                made = thinner.thin(Thin(cm / 100))
                result = made.keyed.sample()
                self.assertEqual(result.frames, clip.frames)
                places, turned = off(clip, result)
                self.assertLessEqual(places, cm, f"{name}, {cm} cm")
                self.assertLessEqual(turned, 5.0, f"{name}, {cm} cm")
                planted = deviation(clip, result, thinner.subject.points, thinner.subject.contacts).planted
                self.assertLessEqual(planted.largest, 0.003)
                self.assertTrue(before is None or made.keyed.keys <= before + 1, "a wider tolerance needs more keys")
                before = made.keyed.keys

    def test_it_is_kept_on_wild_motion_and_jumps(self):
        rng = np.random.default_rng(3)
        figure = make_figure(Build(fingers=True))
        wild = wild_motion(figure, rng, frames=70)
        jumps = np.array(wild.rotations)
        jumps[30:34, 5] = rot.multiply(jumps[30:34, 5], rot.from_vector(np.array([1.4, 0, 0.3])))
        jumps[50, 7] *= -1  # the same rotation by another sign
        for clip in (wild, replace(wild, rotations=jumps), wild.cut(0, 0), wild.cut(0, 1), wild.cut(5, 7)):
            result = Thinner(Subject(clip)).thin(WHOLE).keyed.sample()
            self.assertEqual(result.frames, clip.frames)
            self.assertLessEqual(off(clip, result)[0], 1.0)

    def test_morphs_have_a_tolerance_of_their_own(self):
        clip = acted("light_lamp")[0].cut(0, 120)
        times = np.arange(clip.frames) / clip.rate
        weights = np.stack([np.clip(np.sin(3 * times), 0, 1), 0 * times], 1)
        made = Thinner(Subject(replace(clip, morphs=("smile", "blink"), weights=weights))).thin(Thin(weights=0.05))
        result = made.keyed.sample()
        self.assertLessEqual(float(np.abs(result.weights - weights).max()), 0.05)
        sizes = {c.node.name: len(s) for c, s in made.keyed.samplers.items() if c.kind is Kind.WEIGHT}
        self.assertLess(sizes["smile"], 30)
        self.assertEqual(sizes["blink"], 1)

    def test_what_stands_still_is_held(self):
        clip = acted("light_lamp")[0].cut(20, 20)
        still = replace(
            clip, rotations=np.repeat(clip.rotations, 90, 0), translations=np.repeat(clip.translations, 90, 0)
        )
        made = Thinner(Subject(still)).thin(Thin())
        self.assertEqual(keys_of(made), len(made.keyed.samplers) + 1)  # what says how long it is
        self.assertEqual(made.keyed.sample().frames, 90)


class Few(Case):
    def test_most_poses_go(self):
        gone = []
        for name in ("carry_bucket", "light_lamp"):
            clip = acted(name)[0]
            gone.append(1 - Thinner(subject(clip)).thin(Thin()).keyed.keys / clip.frames)
        self.assertGreater(float(np.mean(gone)), 0.85)

    def test_as_few_as_there_can_be_on_short_clips(self):
        """No other choice of frames, with in-betweens fitted as closely, keeps the promise with fewer keys."""
        for start in (0, 90):
            clip = acted("haul_rope")[0].cut(start, start + 18)
            made = Thinner(Subject(clip)).thin(WHOLE)
            betweens, tolerances = Betweens(motion_of(clip)), WHOLE.tolerances.all
            inside = range(1, clip.frames - 1)
            pairs = np.array(list(combinations(range(clip.frames), 2)))
            fits = betweens.of(pairs[:, 0], pairs[:, 1], tolerances)
            good = {(int(a), int(b)) for (a, b), f in zip(pairs, fits) if over(f.misses, tolerances) <= 1}
            for count in range(clip.frames):
                if any(
                    all(pair in good for pair in zip((0, *some), (*some, clip.frames - 1)))
                    for some in combinations(inside, count)
                ):
                    break
            self.assertEqual(made.keyed.keys, count + 2, f"from frame {start}")

    def test_joints_let_go_of_keys(self):
        clip = acted("carry_bucket")[0].cut(0, 150)
        thinner = Thinner(subject(clip))
        whole, few = (thinner.thin(Thin(stages=stages)) for stages in ((CONTACTS, KEYS), (CONTACTS, KEYS, JOINTS)))
        self.assertLess(keys_of(few), 0.85 * keys_of(whole))
        self.assertEqual(few.keyed.keys, whole.keyed.keys)
        self.assertLessEqual(off(clip, few.keyed.sample())[0], 1.0)

    def test_a_sketch_tells_about_the_same(self):
        clip = acted("carry_bucket")[0].cut(0, 90)
        thinner = Thinner(subject(clip))
        thinner.prepare(Thin(), lambda: None)
        for cm in (0.7, 2.5):
            sketch, made = thinner.sketch(Thin(cm / 100)), thinner.thin(Thin(cm / 100))
            self.assertLessEqual(sketch.places, cm / 100)
            self.assertLessEqual(made.keyed.keys, sketch.poses)
            self.assertLess(sketch.poses, 1.25 * made.keyed.keys + 2)


class Asked(Case):
    def setUp(self):
        super().setUp()
        self.clip = acted("carry_bucket")[0].cut(0, 150)

    def test_contacts_alone(self):
        one = subject(self.clip)
        made = Thinner(one).thin(Thin(stages=(CONTACTS,)))
        changes = {f for c in one.contacts.found for f in (c.first, c.last) if 0 < f < 150}
        self.assertTrue(changes)
        near = round(0.067 * self.clip.rate)
        for change in changes:
            self.assertTrue(any(abs(change - f) <= near for f in key_frames(made.keyed)), change)
        self.assertLessEqual(set(made.marks.values()), {"end", CONTACT})
        self.assertLess(made.keyed.keys, Thinner(one).thin(Thin()).keyed.keys)

    def test_forced_and_barred_frames(self):
        free = Thinner(Subject(self.clip)).thin(WHOLE)
        key = sorted(free.marks)[4]
        made = Thinner(Subject(self.clip)).thin(replace(WHOLE, forced=(33,), barred=((key, key + 1),)))
        self.assertEqual(made.marks[33], HAND)
        self.assertFalse({key, key + 1} & set(made.marks))
        self.assertLessEqual(off(self.clip, made.keyed.sample())[0], 1.0)
        self.assertLessEqual(made.keyed.keys, free.keyed.keys + 2)
        # Where the promise can't do without, there are keys all the same.
        none = Thinner(Subject(self.clip)).thin(replace(WHOLE, barred=((1, 149),)))
        self.assertLessEqual(off(self.clip, none.keyed.sample())[0], 1.0)

    def test_other_tolerances_somewhere(self):
        closer = Emphasis(0.25, frames=(50, 100))
        made = Thinner(Subject(self.clip)).thin(replace(WHOLE, emphases=(closer,)))
        result = made.keyed.sample()
        self.assertLessEqual(off(self.clip.cut(50, 100), result.cut(50, 100))[0], 0.25)
        usual = Thinner(Subject(self.clip)).thin(WHOLE)
        self.assertGreater(sum(50 <= f <= 100 for f in made.marks), sum(50 <= f <= 100 for f in usual.marks))
        hand = next(n for n in self.clip.skeleton.names if "and" in n)
        held = Thinner(Subject(self.clip)).thin(replace(WHOLE, emphases=(Emphasis(0.1, names=(hand,)),)))
        joint = self.clip.skeleton.index[hand]
        self.assertGreater(held.keyed.keys, usual.keyed.keys)
        away = deviation(self.clip, held.keyed.sample())
        self.assertLessEqual(away.places.largest, 0.01)
        self.assertGreater(joint, 0)

    def test_a_range_and_some_bones(self):
        made = Thinner(Subject(self.clip, frames=(40, 90))).thin(WHOLE)
        frames = key_frames(made.keyed)
        self.assertLessEqual(set(range(41)) | set(range(90, 151)), set(frames))
        self.assertLess(sum(40 < f < 90 for f in frames), 25)
        result = made.keyed.sample()
        self.assertLess(off(self.clip.cut(0, 40), result.cut(0, 40))[0], 1e-6)
        name = self.clip.skeleton.names[-1]
        alone = Thinner(Subject(self.clip, names={name})).thin(WHOLE)
        sizes = {c.node.number: len(s) for c, s in alone.keyed.samplers.items() if c.kind is Kind.ROTATION}
        self.assertEqual(max(sizes.values()), 151)
        self.assertLess(sizes[self.clip.skeleton.index[name]], 40)

    def test_long_clips_come_in_blocks(self):
        turns = np.concatenate([self.clip.rotations, self.clip.rotations[::-1]] * 20)
        moves = np.concatenate([self.clip.translations, self.clip.translations[::-1]] * 20)
        long = replace(self.clip, rotations=turns, translations=moves)
        told = []
        made = Thinner(Subject(long)).thin(WHOLE, told.append)
        self.assertEqual(made.keyed.frames, long.frames)
        self.assertLessEqual(off(long, made.keyed.sample())[0], 1.0)
        self.assertEqual(told, sorted(told))

        def stop(_share):
            raise Cancelled

        self.assertRaises(Cancelled, Thinner(Subject(long)).thin, WHOLE, stop)

    def test_what_misses_is_let_go_early(self):
        """Within a bound nothing differs, and what is over it is told as over it; another bound asks anew."""
        spans = Spans(motion_of(self.clip).as_type(np.float32))
        known = Spans(spans.motion)
        rng = np.random.default_rng(2)
        first = rng.integers(0, self.clip.frames - 60, 400)
        last = first + rng.integers(2, 60, 400)
        for cm in (1.0, 4.0):
            bound = Thin(cm / 100, planted=None).tolerances.all
            right, got = over(known.misses(first, last), bound), over(spans.misses(first, last, bound), bound)
            within = right <= 0.999
            self.assertTrue(0.1 < within.mean() < 0.9, within.mean())
            self.close(got[within], right[within], 1e-4)
            self.assertTrue((got[right > 1.001] > 1).all())

    def test_in_betweens_are_as_plain_as_they_can_be(self):
        skeleton = Skeleton(("arm", "hand"), np.array([-1, 0]), np.array([[0, 0, 0], [0.3, 0, 0]]))
        angle = np.concatenate([np.zeros(20), np.linspace(0, 1.2, 20), np.full(20, 1.2)])
        turns = np.zeros((60, 2, 4))
        turns[:, 0] = rot.from_axis_angle(np.tile([0, 0, 1.0], (60, 1)), angle)
        turns[:, 1, 3] = 1
        made = Thinner(Subject(Clip("bend", skeleton, 30.0, turns))).thin(replace(WHOLE, places=0.002))
        ways = next(s.interpolation for c, s in made.keyed.samplers.items() if c.node.number == 0)
        self.assertIn(Interpolation.STEP, ways)
        self.assertLessEqual(len(ways), 6)
