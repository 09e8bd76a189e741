"""Filters: spikes found, jitter smoothed as well as somebody who knows the truth could, and nothing else touched."""

from dataclasses import replace

import numpy as np

from tests.acting import acted
from tests.support import Case
from young_marionette.core import rotations as rot
from young_marionette.core.clip import Clip
from young_marionette.core.filters.lowpass import butterworth, suggested
from young_marionette.core.filters.motion import AUTO, Cleaning, cleaned
from young_marionette.core.filters.spikes import _median_of_seven, confirmed, hampel
from young_marionette.demo.figures import Build, make_figure

NAMES = ("carry_bucket", "haul_rope", "light_lamp")


def apart(a, b):
    """Angles between rotations, degrees."""
    return np.degrees(rot.angle(rot.multiply(rot.conjugate(a), b)))


def damaged(clip, rng, jitter=1.5, share=0.01):
    """``(clip with white jitter in degrees and spikes of 15 to 35 degrees, mask of the spikes)``."""
    shape = clip.rotations.shape[:2]
    shaken = rot.from_vector(rng.normal(0, np.radians(jitter), (*shape, 3)))
    spikes = rng.random(shape) < share
    axes = rot.normalise(rng.normal(size=(*shape, 3)))
    struck = np.where(spikes, np.radians(rng.uniform(15, 35, shape)), 0.0)[..., None] * axes
    return replace(clip, rotations=rot.multiply(rot.multiply(clip.rotations, shaken), rot.from_vector(struck))), spikes


class Spikes(Case):
    def test_the_network_gives_the_median(self):
        values = np.random.default_rng(0).normal(size=(7, 500))
        self.close(_median_of_seven(list(values)), np.median(values, axis=0), 0)

    def test_single_frames_and_runs_of_two(self):
        t = np.arange(300) / 60
        rng = np.random.default_rng(1)
        curve = np.stack([np.sin(3 * t), np.cos(2 * t)]) * 0.3 + rng.normal(0, 0.002, (2, 300))
        hurt, wanted = curve.copy(), np.zeros(300, bool)
        for first, last in ((20, 20), (77, 78), (150, 150), (152, 152), (298, 298)):
            hurt[:, first : last + 1] += 0.3
            wanted[first : last + 1] = True
        found, mended = confirmed(hurt, hampel(hurt, 60, 0.03), 0.03)
        self.assertEqual(np.flatnonzero(found).tolist(), np.flatnonzero(wanted).tolist())
        self.close(mended, curve, 0.03)

    def test_quick_motion_is_no_spike(self):
        """Turning points of a quick swing are far from a median, and are left alone."""
        t = np.arange(200) / 30
        swing = np.stack([np.sin(2 * np.pi * 2.5 * t), np.cos(2 * np.pi * 2.5 * t)]) * 0.5
        self.assertFalse(confirmed(swing, hampel(swing, 30, 0.035), 0.035)[0].any())

    def test_short_curves_are_left(self):
        for frames in (1, 2, 6):
            self.assertFalse(hampel(np.ones((3, frames)), 30, 0.1).any())


class LowPass(Case):
    def test_the_cut_off_is_that_of_what_comes_out(self):
        """A wave of just that many hertz is left with the root of a half of its size, for either order."""
        t = np.arange(2000) / 100
        for order in (2, 4):
            for hertz in (3.0, 8.0):
                out = butterworth(np.sin(2 * np.pi * hertz * t)[None], 100, hertz, order)[0]
                self.close(np.abs(out[500:1500]).max(), 0.5**0.5, 0.01)

    def test_no_shift_in_time(self):
        rng = np.random.default_rng(2)
        curve = butterworth(rng.normal(size=(1, 3000)), 100, 4.0)[0]
        out = butterworth(curve[None], 100, 6.0)[0]
        lags = np.arange(-10, 11)
        match = [np.dot(curve[50:-50], np.roll(out, -lag)[50:-50]) for lag in lags]
        self.assertEqual(int(lags[np.argmax(match)]), 0)
        self.close(match[9], match[11], 0.002 * match[10])

    def test_ends_are_not_bent(self):
        ramp = np.linspace(0, 5, 200)[None]
        self.close(butterworth(ramp, 60, 3.0), ramp, 1e-6)

    def test_what_is_clean_asks_for_nothing_and_what_is_noise_for_much(self):
        t = np.arange(1200) / 120
        curve = np.stack([np.sin(t), np.cos(2 * t), np.sin(3 * t)]) * 0.3
        noise = np.random.default_rng(3).normal(0, 0.02, curve.shape)
        self.assertLess(suggested(curve + noise, 120), 6.0)
        self.assertGreater(suggested(curve + noise, 120), 0.7)
        self.assertGreater(suggested(curve + 1e-6 * noise, 120), 2 * suggested(curve + noise, 120))


class Motion(Case):
    def test_close_to_what_is_possible(self):
        """Not much worse than one who knows the spikes and tries all cut-offs of each joint against the truth."""
        rng = np.random.default_rng(4)
        for name in NAMES:
            clip, _, _, _ = acted(name, 60)
            hurt, spikes = damaged(clip, rng)
            out, report = cleaned(hurt, Cleaning(True, AUTO, channels=("rotation",)))
            ours = np.sqrt(np.mean(apart(clip.rotations, out.rotations) ** 2))
            best, frames = [], np.arange(clip.frames)
            for joint in range(len(clip.skeleton)):
                good = np.flatnonzero(~spikes[:, joint])
                rows = np.stack([np.interp(frames, good, r[good]) for r in rot.continuous(hurt.rotations[:, joint]).T])
                tried = (rot.normalise(butterworth(rows, 60, hz).T) for hz in np.geomspace(0.7, 20, 16))
                best.append(min(np.mean(apart(clip.rotations[:, joint], q) ** 2) for q in tried))
            self.assertLess(ours, 1.15 * np.sqrt(np.mean(best)), name)
            found = sum(len([f for f in frames_ if spikes[f, j]]) for j, frames_ in report.spikes.items())
            self.assertGreater(found, 0.85 * spikes.sum(), name)

    def test_what_is_clean_hardly_changes(self):
        for name in NAMES:
            clip, _, _, _ = acted(name, 60)
            out, _ = cleaned(clip, Cleaning(True, AUTO))
            self.assertLess(np.sqrt(np.mean(apart(clip.rotations, out.rotations) ** 2)), 0.3, name)

    def test_nothing_flips(self):
        """Through half a turn and over the poles of Euler angles, with signs that jump from frame to frame."""
        skeleton = make_figure(Build())
        angle = np.linspace(0, 3 * np.pi, 240)
        for axis in ("X", "Y", "Z"):
            local = np.tile(skeleton.rest, (240, 1, 1))
            local[:, 3] = rot.from_axis_angle(rot.AXES[axis], angle)
            local[::3] *= -1
            clip = Clip("round", skeleton, 60.0, local)
            out, _ = cleaned(clip, Cleaning(True, 5.0))
            self.assertLess(apart(clip.rotations, out.rotations).max(), 0.5)
            self.close(np.linalg.norm(out.rotations, axis=-1), 1, 1e-9)

    def test_only_what_is_asked_for(self):
        clip, _, _, _ = acted("carry_bucket")
        hurt, _ = damaged(clip, np.random.default_rng(5))
        joint = clip.skeleton.index["left forearm"]
        out, report = cleaned(hurt, Cleaning(True, 4.0, joints=frozenset([joint]), frames=(40, 100)))
        self.assertEqual({*report.spikes, *report.cutoffs}, {joint})
        others = [j for j in range(len(clip.skeleton)) if j != joint]
        self.close(out.rotations[:, others], hurt.rotations[:, others], 0)
        outside = np.r_[0:40, 101 : clip.frames]
        self.close(apart(out.rotations[outside, joint], hurt.rotations[outside, joint]), 0, 1e-5)
        self.assertGreater(apart(out.rotations[60:80, joint], hurt.rotations[60:80, joint]).max(), 0.5)
        self.close(out.translations, hurt.translations, 0)

    def test_weights_stay_weights(self):
        clip, _, _, _ = acted("carry_bucket")
        square = (np.arange(clip.frames) // 12 % 2).astype(float)[:, None]
        with_face = replace(clip, morphs=("blink",), weights=square)
        out, _ = cleaned(with_face, Cleaning(low_pass=4.0))
        self.assertGreaterEqual(out.weights.min(), 0)
        self.assertLessEqual(out.weights.max(), 1)
        self.assertGreater(np.abs(out.weights - square).max(), 0.1)

    def test_any_clip(self):
        rng = np.random.default_rng(6)
        skeleton = make_figure(Build())
        for frames in (1, 2, 3, 5, 8, 17):
            local = rot.from_vector(rng.normal(size=(frames, len(skeleton), 3)) * 2)
            clip = Clip("wild", skeleton, 30.0, local, np.array([0]), rng.normal(size=(frames, 1, 3)))
            for what in (Cleaning(True), Cleaning(low_pass=5.0), Cleaning(True, AUTO, 4)):
                out, _ = cleaned(clip, what)
                self.assertTrue(np.isfinite(out.rotations).all() and np.isfinite(out.translations).all())
