"""Samplers and keyed clips against SciPy's interpolations, and what may be done with keys without making frames."""

import unittest
from dataclasses import replace

import numpy as np
from scipy.interpolate import CubicHermiteSpline
from scipy.spatial.transform import Rotation, Slerp

from tests.support import FULL, Case, joints_at
from young_marionette.core import rotations as rot
from young_marionette.core.figure.correction import Correction, put_down
from young_marionette.core.figure.placement import Placement, place_clip
from young_marionette.core.keys.arrays import from_arrays, to_arrays
from young_marionette.core.keys.channel import Channel, Joint, Kind, Morph
from young_marionette.core.keys.keyed import KeyedClip
from young_marionette.core.keys.sampler import Interpolation, Sampler, still
from young_marionette.demo.figures import make_figure

STEP, LINEAR, SMOOTH = Interpolation.STEP, Interpolation.LINEAR, Interpolation.CUBICSPLINE
RNG = np.random.default_rng(20)
TIMES = np.array([0.4, 0.9, 1.0, 2.3, 2.75])


def some_turns(count):
    return rot.continuous(rot.from_vector(RNG.normal(0, 0.7, (count, 3))))


def some_clip(rate=24.0, start=0.4):
    """A keyed clip with every kind of channel and interpolation."""
    skeleton, times = make_figure(FULL), TIMES - 0.4 + start
    tangents = RNG.normal(0, 0.5, (2, 5, 4))
    samplers = {
        Channel(Joint(0), Kind.TRANSLATION): Sampler(times, RNG.normal(0, 1, (5, 3)), LINEAR),
        Channel(Joint(1), Kind.ROTATION): Sampler(times, some_turns(5), SMOOTH, *tangents),
        Channel(Joint(2), Kind.ROTATION): Sampler(times[1:4], some_turns(3), [STEP, LINEAR]),
        Channel(Joint(3), Kind.SCALE): Sampler(times[:2], [[1, 1, 1], [2, 1.5, 1]], LINEAR),
        Channel(Morph("smile"), Kind.WEIGHT): Sampler(times, RNG.uniform(0, 1, (5, 1)), SMOOTH, *tangents[:, :, :1]),
    }
    return KeyedClip("some", skeleton, rate, samplers)


class Samplers(Case):
    def test_each_in_between_goes_its_own_way(self):
        values, inner, outer = RNG.normal(0, 1, (3, 5, 3))
        sampler = Sampler(TIMES, values, [SMOOTH, STEP, LINEAR, SMOOTH], inner, outer)
        at = np.linspace(0, 3, 301)
        got = sampler.at(at)
        for i, way in enumerate(sampler.interpolation):
            t0, t1 = TIMES[i : i + 2]
            inside = (at > t0 + 1e-9) & (at < t1 - 1e-9)
            if way == SMOOTH:
                # SciPy's spline with the slopes behind the first key and before the second.
                want = CubicHermiteSpline([t0, t1], values[i : i + 2], [outer[i], inner[i + 1]])(at[inside])
            elif way == LINEAR:
                want = values[i] + (values[i + 1] - values[i]) * ((at[inside] - t0) / (t1 - t0))[:, None]
            else:
                want = np.repeat(values[i][None], inside.sum(), 0)
            self.close(got[inside], want, 1e-12, f"in-between {i}")
        self.close(got[at < TIMES[0]], np.repeat(values[:1], (at < TIMES[0]).sum(), 0), 0)
        self.close(got[at > TIMES[-1]], np.repeat(values[-1:], (at > TIMES[-1]).sum(), 0), 0)
        self.close(sampler.at(TIMES), values, 1e-12)
        self.close(sampler.at(TIMES[:3]), values[:3], 1e-12)

    def test_turns_go_the_shorter_way_at_even_speed(self):
        turns = some_turns(5) * np.array([1, -1, -1, 1, -1])[:, None]
        at = np.linspace(TIMES[0], TIMES[-1], 77)
        got = Rotation.from_quat(Sampler(TIMES, turns, LINEAR).at(at, True))
        want = Slerp(TIMES, Rotation.from_quat(turns))(at)
        self.assertLess((got * want.inv()).magnitude().max(), 1e-9)

    def test_smooth_turns_are_splines_made_unit(self):
        turns, (inner, outer) = some_turns(5), RNG.normal(0, 0.4, (2, 5, 4))
        at = np.linspace(0.91, 0.99, 9)
        raw = CubicHermiteSpline(TIMES[1:3], turns[1:3], [outer[1], inner[2]])(at)
        want = raw / np.linalg.norm(raw, axis=1, keepdims=True)
        self.close(Sampler(TIMES, turns, SMOOTH, inner, outer).at(at, True), want, 1e-12)

    def test_two_keys_at_one_time_are_a_jump(self):
        sampler = Sampler([0, 1, 1, 2], [[0.0], [1.0], [5.0], [6.0]], LINEAR)
        self.close(sampler.at([0.5, 0.999999, 1.0, 1.5])[:, 0], [0.5, 0.999999, 5.0, 5.5], 1e-9)

    def test_what_does_not_fit_is_refused(self):
        for arguments in (
            ([0.0, 1.0], [[1.0]], LINEAR),
            ([1.0, 0.0], [[1.0], [2.0]], LINEAR),
            ([0.0, 1.0], [[1.0], [2.0]], SMOOTH),
            ([0.0, 1.0], [[1.0], [2.0]], [STEP, STEP]),
            ([0.0, 1.0], [[1.0], [2.0]], SMOOTH, [[1.0]], [[1.0], [1.0]]),
            ([], np.zeros((0, 1)), LINEAR),
        ):
            with self.assertRaises(ValueError, msg=arguments):
                Sampler(*arguments)

    def test_stillness(self):
        self.assertTrue(still([1.0, 2.0]).is_still)
        self.assertTrue(Sampler([0, 1], [[1.0], [1.0]], SMOOTH, [[3.0], [0.0]], [[0.0], [0.0]]).is_still is False)
        self.assertFalse(Sampler([0, 1], [[1.0], [1.1]], STEP).is_still)


class Clips(Case):
    def test_frames_are_the_keys_own_values(self):
        clip = some_clip()
        dense = clip.sample()
        self.assertEqual((clip.start, clip.frames, dense.start, dense.frames), (0.4, 58, 0.4, 58))
        self.close(dense.rotations[:, 1], clip.samplers[Channel(Joint(1), Kind.ROTATION)].at(dense.times, True), 0)
        self.close(dense.weights[:, 0], clip.samplers[Channel(Morph("smile"), Kind.WEIGHT)].at(dense.times)[:, 0], 0)
        self.close(dense.rotations[:, 5], np.repeat(clip.skeleton.rest[5][None], 58, 0), 0)
        # What is below a scaled joint is as much further away.
        for child in clip.skeleton.children[3]:
            place = dense.translations[:, list(dense.moving).index(child)]
            self.close(place, clip.skeleton.offsets[child] * dense.scale_factors[3], 1e-12)

    def test_any_rate_has_the_same_length(self):
        clip = some_clip()
        for rate in (24, 25, 60, 100, 23.976):
            dense = clip.sample(rate)
            self.assertGreaterEqual(dense.start + dense.seconds, clip.end - 0.02 / rate)
            self.assertLess(dense.seconds, clip.seconds + 1 / rate)

    def test_placing_keys_is_placing_frames(self):
        placement = Placement.from_axes(0.01, np.array([0, 0, 1.0]), np.array([0, -1.0, 0]))
        clip, body = some_clip(), None
        for correction in (
            Correction(),
            Correction(lift=0.3, centred="origin"),
            Correction(rate=30.0),
            Correction(in_place=True),
        ):
            keyed = put_down(place_clip(clip, placement), body, correction)
            dense = put_down(place_clip(clip.sample(), placement), body, correction)
            self.assertEqual(isinstance(keyed, KeyedClip), not correction.in_place)
            frames = keyed.sample() if isinstance(keyed, KeyedClip) else keyed
            self.assertEqual((frames.rate, frames.frames), (dense.rate, dense.frames))
            self.close(frames.start, dense.start, 1e-12)
            self.close(joints_at(frames), joints_at(dense), 1e-9)

    def test_there_and_back_as_arrays(self):
        clip = some_clip()
        arrays = to_arrays(clip)
        again = from_arrays(clip.name, clip.skeleton, clip.rate, clip.morphs, arrays)
        self.assertEqual(again.digest, clip.digest)
        self.assertNotEqual(replace(clip, rate=25.0).digest, clip.digest)
        for key, change in (
            ("times", lambda a: a[:-1]),
            ("values", lambda a: np.append(a, 1)),
            ("counts", lambda a: a + 1),
            ("kinds", lambda a: a * 0),
            ("nodes", lambda a: a + 900),
            ("nodes", lambda a: a * 0 - 1),
            ("kinds", lambda a: a + 7),
        ):
            broken = {**arrays, key: change(arrays[key])}
            with self.assertRaises((ValueError, IndexError), msg=key):
                from_arrays(clip.name, clip.skeleton, clip.rate, clip.morphs, broken)

    def test_stretching_in_time(self):
        sampler = some_clip().samplers[Channel(Morph("smile"), Kind.WEIGHT)]
        at = np.linspace(0, 3, 50)
        self.close(sampler.stretched(2.0).at(at * 2), sampler.at(at), 1e-12)


if __name__ == "__main__":
    unittest.main()
