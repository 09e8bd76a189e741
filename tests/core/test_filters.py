"""Filters: spikes found, jitter smoothed as well as somebody who knows the truth could, and nothing else touched."""

from dataclasses import replace

import numpy as np

from tests.acting import acted, damaged
from tests.support import Case
from young_marionette.core import rotations as rot
from young_marionette.core.clip import Clip, as_rows
from young_marionette.core.contacts.finding import find_contacts
from young_marionette.core.filters.hampel import median_of_seven
from young_marionette.core.filters.lowpass import butterworth, suggestions
from young_marionette.core.filters.methods import FILTERS, Adaptive, Gaussian, LowPass, Median, SavitzkyGolay, Spikes
from young_marionette.core.filters.motion import Scope, filtered, measured
from young_marionette.core.filters.noise import steady, white
from young_marionette.core.filters.spikes import despiked
from young_marionette.core.passes.keeping import Limbs, moved_contacts
from young_marionette.core.passes.stack import Pass, Stage, run
from young_marionette.demo.figures import Build, make_figure

TURNS = Scope(("rotation",))
SMOOTHERS = (LowPass(5.0), LowPass(), LowPass(6.0, 4), SavitzkyGolay(), Gaussian(), Median(), Adaptive())
NAMES = ("carry_bucket", "haul_rope", "light_lamp")


def apart(a, b):
    """Angles between rotations, degrees."""
    return np.degrees(rot.angle(rot.multiply(rot.conjugate(a), b)))


def rms(a, b):
    return float(np.sqrt(np.mean(apart(a, b) ** 2)))


def cleaned(clip, *methods, scope=TURNS):
    """``(clip after some filters, reports)``."""
    reports = []
    for method in methods:
        clip, report = filtered(clip, method, scope)
        reports.append(report)
    return clip, reports


class FindingSpikes(Case):
    def test_the_network_gives_the_median(self):
        values = np.random.default_rng(0).normal(size=(7, 500))
        self.close(median_of_seven(list(values)), np.median(values, axis=0), 0)

    def test_single_frames_and_short_runs(self):
        """Of one, two and three frames, close to each other, and at both ends; in every channel by itself."""
        t = np.arange(300) / 60
        rng = np.random.default_rng(1)
        curve = np.stack([np.sin(3 * t), np.cos(2 * t)]) * 0.3 + rng.normal(0, 0.002, (2, 300))
        hurt, wanted = np.stack([curve] * 3), np.zeros((3, 300), bool)
        for channel, first, last in (
            (0, 20, 20), (0, 77, 78), (0, 150, 150), (0, 152, 152), (0, 298, 298), (1, 0, 0), (1, 201, 203), (1, 299, 299),
        ):  # fmt: skip
            hurt[channel, :, first : last + 1] += 0.3
            wanted[channel, first : last + 1] = True
        mended, found = despiked(hurt, 60, 0.03, longest=3)
        self.assertEqual(np.argwhere(found).tolist(), np.argwhere(wanted).tolist())
        self.close(mended[:, :, 3:-3], np.stack([curve] * 3)[:, :, 3:-3], 0.03)

    def test_quick_motion_is_no_spike(self):
        """Turning points of a quick swing are far from a median, and are left alone; so is a step that stays."""
        t = np.arange(200) / 30
        swing = np.stack([np.sin(2 * np.pi * 2.5 * t), np.cos(2 * np.pi * 2.5 * t)]) * 0.5
        step = np.stack([(t > 3.0) * 0.4, (t > 4.1) * -0.2])
        rows = np.stack([swing, step])
        mended, found = despiked(rows, 30, 0.035)
        self.assertFalse(found.any())
        self.assertIs(mended, rows)

    def test_spikes_in_quick_motion(self):
        """A swing as quick as a median hides all spikes in: they are found, one close to another too, and nothing else."""
        t = np.arange(240) / 30
        swing = np.stack([np.sin(7.5 * t), np.cos(7.5 * t), 0.3 * np.sin(15 * t + 0.3)]) * 0.35
        for seed in range(4):
            rng = np.random.default_rng(seed)
            noisy = swing + rng.normal(0, 0.008, swing.shape)
            hurt, at = noisy.copy(), [20, 61, 64, 100, 140, 161, 200]
            hurt[:, at] += 0.22 * rot.normalise(rng.normal(size=(len(at), 3))).T
            mended, found = despiked(np.stack([noisy, hurt]), 30, 0.035)
            self.assertEqual(np.argwhere(found).tolist(), [[1, k] for k in at])
            self.close(mended[1], swing, 0.06)

    def test_what_goes_off_at_an_end_is_motion(self):
        """Two frames that go off one way may be its beginning; a single one, and two that go different ways, are spikes."""
        t = np.arange(90) / 30
        curve = np.stack([np.sin(2 * t), np.cos(3 * t), 0.2 * t]) * 0.2
        rows = np.stack([curve] * 4)
        rows[0, 0, -2:] += 0.15, 0.29
        rows[1, 1, :2] += 0.29, 0.15
        rows[2, 2, -1] += 0.25
        rows[3, :, 0], rows[3, :, 1] = rows[3, :, 0] + (0.2, 0, 0), rows[3, :, 1] + (0, 0.2, 0)
        _, found = despiked(rows, 30, 0.035)
        self.assertEqual(np.argwhere(found).tolist(), [[2, 89], [3, 0], [3, 1]])

    def test_spikes_that_hide_each_other(self):
        """In a short clip, four of them lie in most places that tell what is usual: the other channels tell it as well."""
        t = np.arange(39) / 30
        curve = np.stack([np.sin(4 * t), np.cos(5 * t), np.sin(3 * t)]) * 0.15
        for seed in range(6):
            rng = np.random.default_rng(seed)
            rows = curve + rng.normal(0, 0.013, (12, 3, 39))
            at = [4, 12, 21, 30]
            rows[5][:, at] += 0.17 * rot.normalise(rng.normal(size=(4, 3))).T
            self.assertEqual(np.argwhere(despiked(rows, 30, 0.035)[1]).tolist(), [[5, k] for k in at], seed)

    def test_a_joint_that_flips_all_the_time_is_left(self):
        """No frame of it is better than another one; a single one among calm frames is taken out."""
        skeleton = make_figure(Build())
        local = np.tile(skeleton.rest, (200, 1, 1))
        turn = rot.from_axis_angle(rot.AXES["X"], np.radians(170.0))
        for frame in (100, 102, 103, 106, 107, 108, 111):
            local[frame, 4] = rot.multiply(local[frame, 4], turn)
        local[50, 7] = rot.multiply(local[50, 7], turn)
        clip = Clip("flips", skeleton, 60.0, local)
        out, reports = cleaned(clip, Spikes())
        self.assertEqual(reports[0].spikes, {skeleton.names[7]: [50]})
        self.close(apart(out.rotations[50, 7], skeleton.rest[7]), 0, 1e-3)

    def test_what_is_kept_stays(self):
        clip, _, _, _ = acted("carry_bucket")
        hurt, struck = damaged(clip, np.random.default_rng(5))
        _, reports = cleaned(hurt, Spikes())
        name, frames = next(iter(reports[0].spikes.items()))
        joint = clip.skeleton.index[name]
        kept, more = cleaned(hurt, Spikes(kept=((name, frames[0]),)))
        self.assertNotIn(frames[0], more[0].spikes.get(name, []))
        self.close(apart(kept.rotations[frames[0], joint], hurt.rotations[frames[0], joint]), 0, 1e-5)
        self.assertTrue(struck.any())

    def test_short_curves_are_left(self):
        for frames in (1, 2, 6):
            self.assertFalse(despiked(np.ones((2, 3, frames)), 30, 0.1)[1].any())


class Smoothing(Case):
    def test_the_cut_off_is_that_of_what_comes_out(self):
        """A wave of just that many hertz is left with the root of a half of its size, for either order."""
        t = np.arange(2000) / 100
        for order in (2, 4):
            for hertz in (3.0, 8.0):
                out = butterworth(np.sin(2 * np.pi * hertz * t)[None, None], 100, hertz, order)[0, 0]
                self.close(np.abs(out[500:1500]).max(), 0.5**0.5, 0.01)

    def test_no_shift_in_time(self):
        """How much later what comes out is than the truth, by least squares: less than a tenth of a frame, for all of them."""
        clip, _, _, _ = acted("haul_rope", 60)
        hurt, _ = damaged(clip, np.random.default_rng(2), 0.5, 0.0)
        truth = as_rows(clip.rotations)[4:]
        speed = np.gradient(truth, axis=-1)
        for method in SMOOTHERS:
            out, _ = cleaned(hurt, method)
            rows = as_rows(out.rotations)[4:]
            rows = rows * np.sign(np.einsum("jcf,jcf->jf", rows, truth))[:, None]
            self.assertLess(abs(np.sum((truth - rows) * speed) / np.sum(speed**2)), 0.1, method)
        late = np.roll(truth, 1, axis=-1)
        self.close(np.sum((truth - late)[..., 1:] * speed[..., 1:]) / np.sum(speed**2), 1, 0.1)

    def test_ends_are_not_bent(self):
        ramp = np.stack([np.linspace(0, 5, 200), np.linspace(3, -1, 200)])[None]
        for method in SMOOTHERS:
            measures = method.measure(ramp, 60)
            self.close(method.run(ramp, 60, measures), ramp, 1e-4, str(method))

    def test_a_loop_stays_one(self):
        """With ``seamless`` the last frame is what the first one is, and goes on with its speed, also while it turns on."""
        rng = np.random.default_rng(8)
        frames, skeleton = 121, make_figure(Build())
        noise = rng.normal(0, 0.03, (frames, 3))
        noise[-1] = noise[0]
        turning = rot.from_axis_angle(rot.AXES["Y"], np.linspace(0, np.pi / 2, frames))
        local = np.tile(skeleton.rest, (frames, 1, 1))
        local[:, 0] = rot.multiply(turning, rot.from_vector(noise))
        local[:, 5] = rot.from_vector(noise[:, ::-1])
        moves = np.stack([np.linspace(0, 2, frames), noise[:, 0], noise[:, 1]], -1)[:, None]
        clip = Clip("loop", skeleton, 60.0, local, np.array([0]), moves)

        def seam(made):
            """How much another speed the next round begins with than this one ends with."""
            first, last = (np.diff(made.translations[part, 0], axis=0) for part in (slice(0, 2), slice(-2, None)))
            return np.abs(first - last).max()

        for method in (
            LowPass(4.0, seamless=True),
            Gaussian(0.2, True),
            SavitzkyGolay(0.3, seamless=True),
            Adaptive(seamless=True),
        ):
            out, _ = filtered(clip, method)
            self.close(apart(out.rotations[0, 5], out.rotations[-1, 5]), 0, 0.02, str(method))
            quarter = rot.multiply(out.rotations[-1, 0], rot.conjugate(out.rotations[0, 0]))
            self.close(apart(quarter, turning[-1]), 0, 0.06)
            self.close(out.translations[-1, 0] - out.translations[0, 0], [2, 0, 0], 1e-4)
            self.assertLess(seam(out), 0.6 * seam(filtered(clip, replace(method, seamless=False))[0]), method)

    def test_what_is_clean_asks_for_nothing_and_what_is_noise_for_much(self):
        t = np.arange(1200) / 120
        curve = np.stack([np.sin(t), np.cos(2 * t), np.sin(3 * t)]) * 0.3
        noise = np.random.default_rng(3).normal(0, 0.02, curve.shape)
        cutoffs = suggestions(np.stack([curve + noise, curve + 1e-6 * noise, 0 * curve]), 120).cutoffs
        self.assertTrue(0.7 < cutoffs[0] < 6.0)
        self.assertGreater(cutoffs[1], 2 * cutoffs[0])
        self.assertEqual(cutoffs[2], np.inf)
        self.close(steady((curve + noise)[None])[0], 3 * 0.02**2, 0.2 * 3 * 0.02**2)

    def test_what_falls_to_the_end_of_the_band_is_no_noise(self):
        """Quick motion at a low rate, whose spectrum goes on falling, is left alone; noise of the same strength is not."""
        rng = np.random.default_rng(5)
        hertz = np.fft.rfftfreq(1200, 1 / 30)
        lines = rng.normal(size=(3, 601)) + 1j * rng.normal(size=(3, 601))
        quick = np.fft.irfft(lines / (1 + (hertz / 2.0) ** 3), axis=-1)[:, 200:1000]
        quick /= quick.std()
        noise = rng.normal(0, 0.05, quick.shape)
        cutoffs = suggestions(np.stack([quick, quick + noise]), 30).cutoffs
        self.assertEqual(cutoffs[0], np.inf)
        self.assertTrue(3.0 < cutoffs[1] < 12.0, cutoffs)

    def test_quick_motion_that_comes_and_goes_is_no_noise(self):
        """Short bursts up to the end of the band are left alone; the same with noise all over is filtered, and hardly worse
        than with the best cut-off of each curve.
        """
        rng = np.random.default_rng(12)
        t = np.arange(48) / 30
        bursts = [0.35 * np.exp(-(((t - at) / 0.03) ** 2)) for at in rng.uniform(0.3, 1.3, 30)]
        slow = [0.3 * np.sin(2 * np.pi * hertz * t + phase) for hertz, phase in rng.uniform(0.3, 1.2, (30, 2))]
        clean = (np.stack(bursts) + np.stack(slow)).reshape(10, 3, 48)
        self.assertTrue(np.isinf(suggestions(clean, 30).cutoffs).all())
        noisy = clean + rng.normal(0, 0.06, clean.shape)
        cutoffs = suggestions(noisy, 30).cutoffs
        tried = [butterworth(noisy, 30, hertz) for hertz in np.geomspace(0.7, 13, 30)]
        best = np.min([np.mean((one - clean) ** 2, axis=(1, 2)) for one in tried], axis=0)
        made = [butterworth(noisy[i : i + 1], 30, min(c, 15.0)) for i, c in enumerate(cutoffs)]
        left = np.mean((np.concatenate(made) - clean) ** 2, axis=(1, 2))
        self.assertLess((left.mean() / best.mean()) ** 0.5, 1.08)

    def test_noise_of_single_values(self):
        """Of weights and of places, as of rotations: the variance of all values of a channel together."""
        noise = np.random.default_rng(2).normal(0, 0.1, (1, 3, 4000))
        for n in (1, 2, 3):
            rows = noise[:, :n] + np.sin(np.arange(4000) / 60)
            for told in (white(rows), steady(rows)):
                self.close(told[0] / (n * 0.01), 1, 0.2)


class Motion(Case):
    def test_close_to_what_is_possible(self):
        """Hardly worse than one who knows the spikes and tries all cut-offs of each joint against the truth."""
        rng = np.random.default_rng(4)
        ratios = {"low": [], "adaptive": [], "planted": []}
        for name in NAMES:
            clip, body, _, _ = acted(name, 60)
            hurt, struck = damaged(clip, rng)
            best, frames = [], np.arange(clip.frames)
            for joint in range(len(clip.skeleton)):
                good = np.flatnonzero(~struck[:, joint])
                rows = np.stack([np.interp(frames, good, r[good]) for r in rot.continuous(hurt.rotations[:, joint]).T])
                tried = (rot.normalise(butterworth(rows[None], 60, hz)[0].T) for hz in np.geomspace(0.7, 20, 16))
                best.append(min(np.mean(apart(clip.rotations[:, joint], q) ** 2) for q in tried))
            low, reports = cleaned(hurt, Spikes(), LowPass())
            adaptive, _ = cleaned(hurt, Spikes(), Adaptive())
            passes = (Pass("a", Spikes(), TURNS.channels), Pass("b", LowPass(), TURNS.channels))
            stage = run(passes, Stage(hurt, find_contacts(hurt, body)), Limbs.of(clip.skeleton, body, None))
            for kind, out in (("low", low), ("adaptive", adaptive), ("planted", stage.clip)):
                ratios[kind].append(rms(clip.rotations, out.rotations) / np.sqrt(np.mean(best)))
            names = clip.skeleton.index
            found = sum(sum(struck[f, names[n]] for f in told) for n, told in reports[0].spikes.items())
            self.assertGreater(found, 0.93 * struck.sum(), name)
        self.assertLess(max(ratios["low"]), 1.12, ratios)
        self.assertLess(np.mean(ratios["adaptive"]), 1.05, ratios)
        self.assertLess(max(ratios["planted"]), 1.2, ratios)

    def test_what_is_clean_hardly_changes(self):
        for name in NAMES:
            clip, _, _, _ = acted(name, 60)
            for method in (LowPass(), Adaptive()):
                out, _ = cleaned(clip, Spikes(), method)
                self.assertLess(rms(clip.rotations, out.rotations), 0.3, name)

    def test_a_foot_that_turns_on_the_spot_goes_on_turning(self):
        """In jitter, too: what turns about the heel is no stand of the ball, and is not put back to where it is on the whole."""
        clip, body, _, _ = acted("carry_bucket", 60)
        limbs, contacts = Limbs.of(clip.skeleton, body, None), find_contacts(clip, body)
        heel = max(contacts.of("left heel"), key=lambda c: c.last - c.first)
        (ball,) = [c for c in contacts.of("left toe") if c.first <= heel.last and c.last >= heel.first]
        turning = clip.rotations.copy()
        turn = rot.from_axis_angle(
            rot.AXES["Y"], np.interp(np.arange(clip.frames), (heel.first, heel.last), (-0.2, 0.2))
        )
        foot = limbs.legs[0].foot
        turning[:, foot] = rot.multiply(turning[:, foot], turn)
        for rotations, stands in ((clip.rotations, {heel, ball}), (turning, {heel})):
            hurt, _ = damaged(replace(clip, rotations=rotations), np.random.default_rng(1), 0.5, 0.0)
            out, _ = cleaned(hurt, LowPass(4.0))
            self.assertEqual({heel, ball} & set(moved_contacts(hurt, out, limbs, contacts, True).found), stands)

    def test_nothing_flips(self):
        """Through half a turn and over the poles of Euler angles, with signs that jump from frame to frame."""
        skeleton = make_figure(Build())
        angle = np.linspace(0, 3 * np.pi, 240)
        for axis in ("X", "Y", "Z"):
            local = np.tile(skeleton.rest, (240, 1, 1))
            local[:, 3] = rot.from_axis_angle(rot.AXES[axis], angle)
            local[::3] *= -1
            clip = Clip("round", skeleton, 60.0, local)
            for method in (Spikes(), *SMOOTHERS):
                out, _ = filtered(clip, method)
                self.assertLess(apart(clip.rotations, out.rotations).max(), 0.5, method)
                self.close(np.linalg.norm(out.rotations, axis=-1), 1, 1e-9)

    def test_a_reference_pose_before_the_motion_is_not_smeared(self):
        """A first frame with arms straight out is neither a spike nor mixed into the frames after it."""
        clip, _, _, _ = acted("light_lamp", 60)
        local = clip.rotations.copy()
        local[0] = clip.skeleton.rest
        posed = replace(clip, rotations=local)
        hurt, _ = damaged(posed, np.random.default_rng(9), 0.3, 0.0)
        for one in (posed, hurt):
            out, reports = cleaned(one, Spikes(), LowPass(4.0))
            self.assertEqual(reports[0].breaks, [1])
            self.assertLess(rms(out.rotations[0], posed.rotations[0]), 0.8)
            self.assertLess(rms(out.rotations[1:6], clip.rotations[1:6]), 1.0)
        plain, _ = cleaned(clip, Spikes())
        self.assertFalse(np.isnan(plain.rotations).any())

    def test_only_what_is_asked_for(self):
        clip, _, _, _ = acted("carry_bucket")
        hurt, _ = damaged(clip, np.random.default_rng(5))
        joint = clip.skeleton.index["left forearm"]
        scope = Scope(names=frozenset(["left forearm"]), frames=(40, 100))
        out, reports = cleaned(hurt, Spikes(), LowPass(4.0), scope=scope)
        self.assertEqual({*reports[0].spikes, *reports[1].cutoffs}, {"left forearm"})
        others = [j for j in range(len(clip.skeleton)) if j != joint]
        self.close(out.rotations[:, others], hurt.rotations[:, others], 0)
        outside = np.r_[0:40, 101 : clip.frames]
        self.close(apart(out.rotations[outside, joint], hurt.rotations[outside, joint]), 0, 1e-5)
        self.assertGreater(apart(out.rotations[60:80, joint], hurt.rotations[60:80, joint]).max(), 0.5)
        self.close(out.translations, hurt.translations, 0)
        beyond, _ = filtered(hurt, LowPass(4.0), Scope(frames=(5000, 6000)))
        self.close(beyond.rotations, hurt.rotations, 0)

    def test_a_part_of_a_clip_is_filtered_as_the_whole_is(self):
        clip, _, _, _ = acted("haul_rope", 60)
        hurt, _ = damaged(clip, np.random.default_rng(10))
        scope = Scope(frames=(30, 400))
        for method in (Spikes(), *SMOOTHERS):
            whole, _ = filtered(hurt, method, scope)
            first, last = 150, 170
            around = round(method.halo * 60) + 2
            a, b = max(first - around, 0), min(last + around, hurt.frames - 1)
            measures = measured(hurt, method, scope)
            part, _ = filtered(hurt.cut(a, b), method, scope, {}, measures, a, hurt.frames)
            off = apart(part.rotations[first - a : last - a + 1], whole.rotations[first : last + 1]).max()
            self.assertLess(off, 0.05, method)

    def test_the_clip_itself_is_never_touched(self):
        clip, _, _, _ = acted("carry_bucket")
        before = clip.rotations.copy(), clip.translations.copy()
        for method in (Spikes(), LowPass(1000.0), *SMOOTHERS):
            filtered(clip, method)
        self.close(clip.rotations, before[0], 0)
        self.close(clip.translations, before[1], 0)

    def test_weights_stay_weights(self):
        clip, _, _, _ = acted("carry_bucket")
        square = (np.arange(clip.frames) // 12 % 2).astype(float)[:, None]
        with_face = replace(clip, morphs=("blink",), weights=square)
        out, _ = filtered(with_face, LowPass(4.0))
        self.assertGreaterEqual(out.weights.min(), 0)
        self.assertLessEqual(out.weights.max(), 1)
        self.assertGreater(np.abs(out.weights - square).max(), 0.1)
        out, _ = filtered(with_face, LowPass(4.0), Scope(names=frozenset(["blink"])))
        self.close(out.rotations, clip.rotations, 0)

    def test_any_clip(self):
        rng = np.random.default_rng(6)
        skeleton = make_figure(Build())
        for frames in (1, 2, 3, 5, 8, 17):
            local = rot.from_vector(rng.normal(size=(frames, len(skeleton), 3)) * 2)
            clip = Clip("wild", skeleton, 30.0, local, np.array([0]), rng.normal(size=(frames, 1, 3)))
            for kind in FILTERS.values():
                out, _ = filtered(clip, kind())
                self.assertTrue(np.isfinite(out.rotations).all() and np.isfinite(out.translations).all(), kind)
