"""Time of a clip changed: frames land where they should, contacts go along, speed has no steps."""

import numpy as np

from tests.acting import acted
from tests.support import Case
from young_marionette.core.contacts.contact import Contact, Contacts
from young_marionette.core.kinematics import forward
from young_marionette.core.passes.keeping import Limbs
from young_marionette.core.passes.stack import Pass, Stage, length, run
from young_marionette.core.passes.timing import Time


class Timing(Case):
    def setUp(self):
        self.clip = acted("carry_bucket")[0].cut(0, 120)
        found = Contact("left heel", 10, 40, 0.0, 0.0), Contact("right toe", 50, 118, 0.0, 0.0)
        self.contacts = Contacts(found, 0.0, self.clip.rate)

    def made(self, **values):
        method = Time(**values)
        method.check()
        clip, contacts = method.run(self.clip, self.contacts)
        self.assertEqual(clip.frames, method.length(self.clip.frames, self.clip.rate))
        one = Pass("t", method)
        self.assertEqual(length([one], self.clip.frames, self.clip.rate), (clip.frames, self.clip.rate))
        return clip, [(c.point, c.first, c.last) for c in contacts.found]

    def test_a_stretch_backwards_and_forwards(self):
        clip, contacts = self.made(first=20, last=100)
        self.close(clip.rotations, self.clip.rotations[20:101], 1e-12)
        self.assertEqual(contacts, [("left heel", 0, 20), ("right toe", 30, 80)])
        clip, contacts = self.made(first=20, last=100, backwards=True)
        self.close(np.abs(np.sum(clip.rotations * self.clip.rotations[100:19:-1], -1)), 1, 1e-12)
        self.assertEqual(contacts, [("left heel", 60, 80), ("right toe", 0, 50)])
        self.assertEqual(Time(first=500).length(121, 30.0), 121)

    def test_a_frame_is_held(self):
        rate = self.clip.rate
        clip, contacts = self.made(holds=((60, 1.0),))
        self.assertEqual(clip.frames, self.clip.frames + round(rate))
        still = clip.rotations[60 : 60 + round(rate) + 1]
        self.close(still, np.repeat(still[:1], len(still), 0), 1e-12)
        self.close(clip.rotations[-1], self.clip.rotations[-1], 1e-9)
        self.assertEqual(contacts[1], ("right toe", 50, 118 + round(rate)))

    def test_slower_here_and_quicker_there(self):
        clip, _ = self.made(speeds=((0, 0.5),))
        self.assertEqual(clip.frames, 241)
        self.close(clip.translations[::2], self.clip.translations, 1e-9)
        # Between frames it goes on smoothly: no steps in speed from frame to frame.
        hips = forward(clip)[0][:, 0]
        steps = np.linalg.norm(np.diff(hips, 2, axis=0), axis=-1)
        own = np.linalg.norm(np.diff(forward(self.clip)[0][:, 0], 2, axis=0), axis=-1)
        self.assertLess(steps.max(), 0.6 * own.max())
        clip, contacts = self.made(speeds=((30, 1.0), (60, 2.0)))
        self.assertLess(clip.frames, 95)
        self.close(clip.rotations[:31], self.clip.rotations[:31], 1e-12)
        method = Time(speeds=((30, 1.0), (60, 2.0)))
        self.assertEqual([method.comes_from(f, 121, self.clip.rate) for f in (10, clip.frames - 1)], [10, 120])
        self.assertGreater(contacts[1][1], 40)

    def test_what_can_not_be_is_told(self):
        self.refuses(Time(speeds=((3, 0.0),)).check, "at frame 3 can't be used")
        self.refuses(Time(holds=((3, 9999.0),)).check, "can't be held")

    def test_as_a_pass_among_others(self):
        limbs = Limbs((), {}, {}, 0, {})
        stage = run(
            [Pass("a", Time(first=10, last=50)), Pass("b", Time(backwards=True))],
            Stage(self.clip, self.contacts),
            limbs,
        )
        self.close(np.abs(np.sum(stage.clip.rotations * self.clip.rotations[50:9:-1], -1)), 1, 1e-12)
