"""Edits of keys and poses: only what is meant changes, and all else stays to the last bit."""

from dataclasses import replace

import numpy as np

from tests.acting import acted
from tests.support import Case
from young_marionette.core import rotations as rot
from young_marionette.core.errors import InputError
from young_marionette.core.humanoid.reading import read_body
from young_marionette.core.keys import editing
from young_marionette.core.keys.channel import Channel, Joint, Kind
from young_marionette.core.keys.curves import ANGLES, PLACE, curves
from young_marionette.core.keys.handles import handles
from young_marionette.core.keys.sampler import Interpolation
from young_marionette.core.kinematics import forward
from young_marionette.core.passes import posing
from young_marionette.core.passes.correction import Correction, corrected_by
from young_marionette.core.passes.keeping import Limbs
from young_marionette.core.passes.keys import Keys
from young_marionette.core.passes.mirroring import mirrored
from young_marionette.core.thinning.deviation import deviation
from young_marionette.core.thinning.settings import KEYS, Thin
from young_marionette.core.thinning.thinning import Subject, Thinner
from young_marionette.project import keying


def changed(a, b):
    """The frames in which anything differs, in any bit."""
    turns, moves = (getattr(a, n) != getattr(b, n) for n in ("rotations", "translations"))
    return np.flatnonzero(turns.any((1, 2)) | moves.any((1, 2)))


class KeysCase(Case):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.clip = acted("light_lamp")[0].cut(0, 160)
        made = Thinner(Subject(cls.clip)).thin(Thin(stages=(KEYS,), planted=None))
        cls.keys = Keys(made.keyed, tuple(made.marks.items()))
        cls.poses = editing.key_frames(made.keyed)
        cls.dense = made.keyed.sample()

    def around(self, made, first, last):
        """Nothing but the frames between two poses changed."""
        frames = changed(self.dense, made.keyed.sample())
        self.assertTrue(len(frames))
        self.assertGreater(frames.min(), first)
        self.assertLess(frames.max(), last)


class Edits(KeysCase):
    def test_inserting_leaves_the_motion(self):
        fewer = Thinner(Subject(self.clip)).thin(Thin(0.02))
        before = fewer.keyed.sample()
        for frame in range(2, 158, 7):
            made = editing.inserted(fewer.keyed, [frame])
            away = deviation(before, made.sample())
            self.assertLess(away.places.largest, 1e-4, frame)
            # The new key is made to have length one, which the curve has not quite there.
            self.assertLess(np.degrees(away.turns.largest), 0.02, frame)
        self.assertIn(80, editing.key_frames(keying.insert(self.keys, 80).keyed))

    def test_a_moved_key_changes_its_two_in_betweens(self):
        a, b, c = self.poses[3:6]
        made, frames = keying.move(self.keys, [b], 2)
        self.assertEqual(frames, (b + 2,))
        self.around(made, a, c)
        self.assertIn(b + 2, dict(made.marks))
        self.close(made.keyed.sample().rotations[b + 2], self.dense.rotations[b], 1e-12)
        far, frames = keying.move(self.keys, [b], 500)  # no key passes another one
        self.assertEqual(frames, (c - 1,))
        self.assertEqual(len(editing.key_frames(far.keyed)), len(self.poses))
        still, _ = keying.move(self.keys, [0, 160], 5)
        self.assertEqual(editing.key_frames(still.keyed), self.poses)

    def test_stretched_keys_keep_their_motion(self):
        chosen = self.poses[3:6]
        before, after = self.poses[2], self.poses[6]
        first, last = chosen[0], min(chosen[-1] + 2, after - 1)
        made, frames = keying.stretch(self.keys, chosen, first, last)
        self.assertEqual((frames[0], frames[-1], len(frames)), (first, last, 3))
        self.around(made, before, after)
        self.assertRaises(InputError, keying.stretch, self.keys, chosen, first, first + 1)

    def test_deleted_keys(self):
        a, b, c = self.poses[3:6]
        made = keying.delete(self.keys, [b])
        self.around(made, a, c)
        self.assertNotIn(b, editing.key_frames(made.keyed))
        self.assertRaises(InputError, keying.delete, self.keys, [0])

    def test_in_betweens_and_tangents(self):
        a, b, c = self.poses[3:6]
        held = keying.interpolate(self.keys, [a], Interpolation.STEP).keyed.sample()
        for frame in range(a, b):
            self.close(held.rotations[frame], self.dense.rotations[a], 1e-12)
        straight = keying.interpolate(self.keys, [a], Interpolation.LINEAR)
        self.around(straight, a, b)
        flat = keying.tangents(self.keys, [b], editing.FLAT)
        self.around(flat, a, c)
        for kind in editing.TANGENTS:
            for sampler in keying.tangents(self.keys, [b], kind).keyed.samplers.values():
                at = np.flatnonzero(np.isclose(sampler.times * self.clip.rate, b))
                if len(at) and sampler.tangents_in is not None:
                    self.close(sampler.tangents_in[at], sampler.tangents_out[at], 1e-12)

    def test_poses_are_copied_held_and_made_dense(self):
        a, b, c = self.poses[3:6]
        copied = keying.copied(self.keys, [a])
        made = keying.paste(self.keys, copied, b)
        self.around(made, a, c)
        self.close(made.keyed.sample().rotations[b], self.dense.rotations[a], 1e-9)
        held = keying.hold(self.keys, a, 3).keyed.sample()
        for frame in range(a, min(a + 3, b - 1) + 1):
            self.close(held.rotations[frame], self.dense.rotations[a], 1e-9)
        dense = keying.make_dense(self.keys, (a, b))
        self.assertLessEqual(set(range(a, b + 1)), set(editing.key_frames(dense.keyed)))
        self.assertLess(deviation(self.dense, dense.keyed.sample()).places.largest, 2e-4)

    def test_a_pose_changes_its_two_in_betweens(self):
        a, b, c = self.poses[3:6]
        turn = np.array([0.2, 0.1, 0.3, 0.9])
        made = keying.pose(self.keys, b, {Channel(Joint(4), Kind.ROTATION): turn})
        self.around(made, a, c)
        self.close(made.keyed.sample().rotations[b, 4], rot.normalise(turn), 1e-12)
        between = (a + b) // 2
        made = keying.pose(self.keys, between, {Channel(Joint(4), Kind.ROTATION): turn})
        self.around(made, a, b)
        self.assertEqual(dict(made.marks)[between], "hand-made")


class Poses(KeysCase):
    def setUp(self):
        super().setUp()
        self.body = read_body(self.clip.skeleton)
        self.limbs = Limbs.of(self.clip.skeleton, self.body, None)
        self.pose = self.clip.cut(60, 60)

    def places(self, pose):
        return forward(pose)[0][0]

    def test_hands_and_feet_reach_and_the_rest_stays(self):
        for limb in (self.limbs.legs[0].limb, next(iter(self.limbs.arms.values())).limb):
            shift = np.array([0.02, 0.03, -0.02])
            made = posing.reached(self.pose, limb, shift)
            before, after = self.places(self.pose), self.places(made)
            self.close(after[limb.end] - before[limb.end], shift, 1e-6)
            self.close(forward(made)[1][0, limb.end], forward(self.pose)[1][0, limb.end], 1e-9)
            stays = [j for j in range(len(before)) if limb.first not in (j, *self.clip.skeleton.ancestors(j))]
            self.close(after[stays], before[stays], 0)
            self.assertLessEqual(len(posing.differences(self.pose, made)), 3)

    def test_hips_move_over_planted_feet(self):
        made = posing.hips_moved(self.pose, self.limbs, (0.02, -0.05, 0.01))
        before, after = self.places(self.pose), self.places(made)
        self.close(after[self.limbs.hips] - before[self.limbs.hips], [0.02, -0.05, 0.01], 1e-9)
        for leg in self.limbs.legs:
            self.close(after[leg.foot], before[leg.foot], 1e-6)

    def test_a_bone_turns_and_a_joint_is_pulled(self):
        joint = self.body.parts["head"][0]
        made = posing.turned(self.pose, joint, (0, 0.4, 0))
        change = rot.multiply(forward(made)[1][0, joint], rot.conjugate(forward(self.pose)[1][0, joint]))
        self.close(rot.to_vector(change), [0, 0.4, 0], 1e-9)
        self.assertEqual(list(posing.differences(self.pose, made)), [Channel(Joint(joint), Kind.ROTATION)])
        pulled = posing.pulled(self.pose, joint, (0.05, 0, 0))
        self.assertGreater(float((self.places(pulled) - self.places(self.pose))[joint] @ [1, 0, 0]), 0.03)

    def test_mirrored_twice_is_the_same(self):
        once = mirrored(self.pose, self.body)
        twice = mirrored(once, self.body)
        self.close(self.places(twice), self.places(self.pose), 1e-6)
        # What the left hand did, the right one does, on the other side of the plane that the hips face along.
        hips, parts = self.limbs.hips, self.body.parts
        facing = rot.rotate(
            rot.multiply(forward(self.pose)[1][0, hips], rot.conjugate(self.clip.skeleton.rest_world[1][hips])),
            self.body.forward,
        )
        facing[1] = 0
        side = rot.normalise(np.cross([0, 1, 0], facing))
        before, after = (self.places(p) - self.places(p)[hips] for p in (self.pose, once))
        for part in ("hand", "foot"):
            left, right = before[parts[f"left {part}"][0]], after[parts[f"right {part}"][0]]
            self.close(right, left - 2 * (left @ side) * side, 0.03)

    def test_a_correction_of_several_poses(self):
        """Each pose is as it was made; between them it goes over, and the first one is not changed by the next."""
        joint = self.body.parts["head"][0]
        layer = Correction(40, 0.4)
        for frame, vector in ((40, (0, 0.4, 0)), (80, (0.3, 0, 0)), (60, (0, 0, 0.2))):
            before = layer.run(self.clip).cut(frame, frame)
            after = posing.turned(before, joint, vector)
            layer = corrected_by(before, posing.differences(before, after), layer, frame)
            self.close(layer.run(self.clip).rotations[frame], after.rotations[0], 1e-9)
        self.assertEqual([key[0] for key in layer.keys], [40, 60, 80])
        first = corrected_by(
            self.clip.cut(40, 40), posing.differences(self.clip.cut(40, 40), posing.turned(self.clip.cut(40, 40), joint, (0, 0.4, 0))), Correction(40, 0.4)
        )  # fmt: skip
        self.close(layer.run(self.clip).rotations[:41], first.run(self.clip).rotations[:41], 1e-9)
        ease = round(0.4 * self.clip.rate)
        made = layer.run(self.clip)
        for part in (slice(0, 40 - ease), slice(80 + ease + 1, None)):
            self.assertTrue((made.rotations[part] == self.clip.rotations[part]).all())
        whole = replace(layer, whole=True, strength=0.5).run(self.clip)
        self.assertTrue((whole.rotations[0] != self.clip.rotations[0]).any())
        turn = rot.multiply(self.clip.rotations[40, joint], rot.conjugate(made.rotations[40, joint]))
        half = rot.multiply(self.clip.rotations[40, joint], rot.conjugate(whole.rotations[40, joint]))
        self.close(rot.angle(half), rot.angle(turn) / 2, 1e-9)
        # A part of the clip is corrected as the whole is.
        self.close(layer.run(self.clip.cut(50, 90), 50).rotations, made.rotations[50:91], 1e-12)
        self.assertEqual([k[0] for k in layer.with_keys(layer.keys[1:]).keys], [60, 80])

    def test_a_dense_clip_is_corrected_gently(self):
        frame, joint = 60, self.body.parts["head"][0]
        made = posing.turned(self.pose, joint, (0, 0.4, 0))
        one = corrected_by(self.pose, posing.differences(self.pose, made), Correction(frame, 0.5))
        result = one.run(self.clip)
        self.close(result.rotations[frame], made.rotations[0], 1e-9)
        frames = np.flatnonzero((result.rotations != self.clip.rotations).any((1, 2)))
        reach = 0.5 * self.clip.rate
        self.assertGreater(frames.min(), frame - reach)
        self.assertLess(frames.max(), frame + reach)
        away = rot.angle(rot.multiply(rot.conjugate(self.clip.rotations[:, joint]), result.rotations[:, joint]))
        self.assertLess(float(np.abs(np.diff(away)).max()), 0.4 * 2.2 / reach)


class Curves(KeysCase):
    """What is seen of keys in curves, and back."""

    def shown(self, keyed, name, reading):
        found = {c.axis: c.values for c in curves(keyed.sample(), [name], reading, "ZXY")}
        return found, handles(keyed, name, reading, "ZXY", found)

    def test_slopes_are_those_of_the_curves(self):
        name, keyed = self.clip.skeleton.names[4], self.keys.keyed
        _, found = self.shown(keyed, name, ANGLES)
        self.assertEqual(len(found), 3 * len(keyed.samplers[Channel(Joint(4), Kind.ROTATION)]))
        step = 1e-3
        for handle in found[3:-3]:
            for side, slope in zip((-1, 1), handle.slopes):
                if slope is None:
                    continue
                times = keyed.start + handle.frame / keyed.rate + np.array([0, side * step])
                turns = keyed.at(times).rotations[:, 4]
                angles = np.degrees(rot.to_euler("ZXY", turns))[:, "ZXY".index(handle.axis)]
                self.assertAlmostEqual(slope, side * float(np.diff(angles)[0]) / step, delta=0.02 * abs(slope) + 0.5)

    def test_a_slope_and_a_value_go_where_they_are_put(self):
        hips = int(self.clip.moving[0])
        for reading, joint in ((ANGLES, 4), (PLACE, hips)):
            name = self.clip.skeleton.names[joint]
            before, found = self.shown(self.keys.keyed, name, reading)
            handle = next(h for h in found if h.frame == self.poses[4] and h.axis == "X" and None not in h.slopes)
            made = keying.curve_slope(self.keys, handle, reading, "ZXY", 1, 40.0, False)
            self.around(made, self.poses[4], self.poses[5])
            _, again = self.shown(made.keyed, name, reading)
            now = {h.axis: h for h in again if h.frame == handle.frame}
            old = {h.axis: h for h in found if h.frame == handle.frame}
            self.assertAlmostEqual(now["X"].slopes[1], 40.0, delta=0.05)
            self.assertAlmostEqual(now["X"].slopes[0], old["X"].slopes[0], delta=1e-6)
            for axis in "YZ":
                self.assertAlmostEqual(now[axis].slopes[1], old[axis].slopes[1], delta=0.05)
            both = keying.curve_slope(self.keys, handle, reading, "ZXY", 1, 40.0, True)
            self.assertTrue(all(h.joined for h in self.shown(both.keyed, name, reading)[1] if h.frame == handle.frame))
            raised = keying.curve_value(self.keys, handle, reading, "ZXY", handle.value + 7)
            self.around(raised, self.poses[3], self.poses[5])
            values, _ = self.shown(raised.keyed, name, reading)
            for axis in "XYZ":
                wanted = before[axis][handle.frame] + (7 if axis == "X" else 0)
                self.assertAlmostEqual(values[axis][handle.frame], wanted, delta=1e-6)
