"""Joints with limits: kept everywhere, by no more than is needed, and what hangs on them stays turned."""

import numpy as np

from tests.core.test_planting import matrices
from tests.support import Case, wild_motion
from young_marionette.core import rotations as rot
from young_marionette.core.clip import Clip
from young_marionette.core.transfer.limits import JointLimit, bone_axis, within_limits
from young_marionette.demo.figures import Build, make_figure

ARM = ("left upper arm", "left forearm", "left hand")


class Limits(Case):
    def setUp(self):
        self.skeleton = make_figure(Build())
        self.joints = [self.skeleton.index[name] for name in ARM]

    def turned(self, vectors):
        """A clip whose named joints turn by rotation vectors ``(frames, 3)`` from rest."""
        frames = max(len(v) for v in vectors.values())
        local = np.tile(self.skeleton.rest, (frames, 1, 1))
        for name, vector in vectors.items():
            joint = self.skeleton.index[name]
            local[:, joint] = rot.multiply(local[:, joint], rot.from_vector(vector))
        return Clip("turned", self.skeleton, 30.0, local)

    def leans(self, clip, name):
        """How far a bone leans from its rest, and how far it is twisted, radians; from matrices."""
        joint = self.skeleton.index[name]
        world, still = matrices(clip), matrices(Clip("rest", self.skeleton, 30.0, self.skeleton.rest[None]))
        parent = int(self.skeleton.parents[joint])
        local, rest = (np.linalg.inv(w[:, parent]) @ w[:, joint] for w in (world, still))
        axis = bone_axis(self.skeleton, joint)
        rel = (np.linalg.inv(rest) @ local)[:, :3, :3]
        lean = np.arccos(np.clip((rel @ axis) @ axis, -1, 1))
        back = np.stack([rot.from_matrix(m[None])[0] for m in rel])
        return lean, rot.to_vector(rot.twist_about(back, axis)) @ axis

    def test_the_cone_and_the_range_are_kept(self):
        rng = np.random.default_rng(3)
        clip = wild_motion(self.skeleton, rng, 60)
        limits = [JointLimit(name, 0.5, (-0.3, 0.2)) for name in (*ARM, "left thigh", "head")]
        out = within_limits(clip, limits, self.joints)
        for limit in limits:
            lean, twist = self.leans(out, limit.joint)
            self.assertLess(lean.max(), 0.5 + 1e-6)
            self.assertLess(twist.max(), 0.2 + 1e-6)
            self.assertGreater(twist.min(), -0.3 - 1e-6)
        free = [j for j in range(len(self.skeleton)) if not self.skeleton.names[j].startswith(("left", "head"))]
        self.close(out.rotations[:, free], clip.rotations[:, free], 0)

    def test_what_is_within_stays(self):
        small = self.turned({"left upper arm": np.full((5, 3), 0.05)})
        self.assertIs(within_limits(small, [JointLimit("left upper arm", 0.5, (-0.3, 0.3))]), small)
        self.assertIs(within_limits(small, [JointLimit("nobody's", 0.0)]), small)
        self.assertIs(within_limits(small, []), small)

    def test_the_least_change(self):
        """A bone that leans too far is brought back along its own way."""
        far = np.array([[0.0, 0.0, 1.2]])
        out = within_limits(self.turned({"left thigh": far}), [JointLimit("left thigh", 0.7)])
        joint = self.skeleton.index["left thigh"]
        got = rot.to_vector(rot.multiply(rot.conjugate(self.skeleton.rest[joint]), out.rotations[0, joint]))
        self.close(self.leans(out, "left thigh")[0], 0.7, 1e-6)
        self.close(rot.normalise(got), [0, 0, 1], 0.02)

    def test_what_hangs_on_it_stays_turned_as_it_is(self):
        clip = self.turned({"left upper arm": np.array([[0.0, 0.9, 0.9]]), "left forearm": np.array([[0.0, 0.4, 0.0]])})
        out = within_limits(clip, [JointLimit("left upper arm", 0.4)], self.joints)
        for name in ARM[1:]:
            joint = self.skeleton.index[name]
            self.close(matrices(out)[:, joint, :3, :3], matrices(clip)[:, joint, :3, :3], 1e-6)
        loose = within_limits(clip, [JointLimit("left upper arm", 0.4)])
        self.close(loose.rotations[:, self.joints[1]], clip.rotations[:, self.joints[1]], 0)

    def test_a_limit_of_nothing_holds_still(self):
        clip = wild_motion(self.skeleton, np.random.default_rng(4), 20)
        out = within_limits(clip, [JointLimit("head", 0.0, (0.0, 0.0))])
        head = self.skeleton.index["head"]
        self.same_turn(out.rotations[:, head], np.broadcast_to(self.skeleton.rest[head], (20, 4)))
