"""Turns of single bones: one space for all rigs, exact both ways, and mirrored exactly."""

import numpy as np

from tests.support import Case, figure
from young_marionette.core import rotations as rot
from young_marionette.core.matching import posing
from young_marionette.core.rebase import rebase
from young_marionette.core.skeleton import pose_world


def rigs():
    """One figure with its own axes, with bones along X, and with axes drawn at random: ``(skeleton, name)``."""
    plain = figure(fingers=True, root=True)
    yield plain, "plain"
    points, _ = plain.rest_world
    along = np.tile(rot.IDENTITY, (len(plain), 1))
    for joint, children in enumerate(plain.children):
        if children:
            along[joint] = rot.between(rot.AXES["X"], points[children[0]] - points[joint])
    yield rebase(plain, axes=along)[0], "bones along X"
    rng = np.random.default_rng(3)
    yield rebase(plain, axes=rot.normalise(rng.normal(size=(len(plain), 4))))[0], "random axes"


class Turns(Case):
    def test_what_is_set_is_what_is_read(self):
        rng = np.random.default_rng(0)
        for rig, name in rigs():
            pose = np.array(rig.rest)
            for joint in rng.permutation(len(rig))[:12]:
                for vector in (np.radians([-30, 0, 0]), rng.normal(size=3) * 0.8, np.zeros(3)):
                    pose = posing.with_own_turn(rig, pose, joint, vector)
                    self.close(posing.own_turn(rig, pose, joint), vector, 1e-9, name)

    def test_a_number_moves_the_same_way_on_every_rig(self):
        """A thigh at -30 degrees about X swings ahead, whatever the local axes; so do two bones in a row."""
        wanted = None
        for rig, name in rigs():
            pose = np.array(rig.rest)
            for bone, degrees in (("left thigh", (-30, 0, 0)), ("left shin", (50, 10, 0)), ("spine 1", (0, 20, 5))):
                pose = posing.with_own_turn(rig, pose, rig.index[bone], np.radians(degrees))
            points, _ = pose_world(rig, pose)
            wanted = points if wanted is None else wanted
            self.close(points, wanted, 1e-9, name)
        plain = next(rigs())[0]
        turned = posing.with_own_turn(plain, plain.rest, plain.index["left thigh"], np.radians([-30, 0, 0]))
        angles = []
        for pose in (plain.rest, turned):
            points, _ = pose_world(plain, pose)
            knee = points[plain.index["left shin"]] - points[plain.index["left thigh"]]
            angles.append(np.degrees(np.arctan2(knee[2], -knee[1])))
        self.close(angles[1] - angles[0], 30, 1e-6)

    def test_the_mirror_is_exact(self):
        """Every joint of one side stands where the other side's does, seen in a mirror."""
        rng = np.random.default_rng(1)
        for rig, name in rigs():
            pose = np.array(rig.rest)
            for bone in ("thigh", "shin", "foot", "collarbone", "upper arm", "forearm", "hand"):
                left, right = rig.index[f"left {bone}"], rig.index[f"right {bone}"]
                pose = posing.with_own_turn(rig, pose, left, rng.normal(size=3) * 0.7)
                pose = posing.mirrored(rig, pose, left, right)
            points, _ = pose_world(rig, pose)
            for bone in (n for n in rig.names if n.startswith("left ")):
                a, b = points[rig.index[bone]], points[rig.index[bone.replace("left", "right", 1)]]
                self.close(a * [-1, 1, 1], b, 1e-9, f"{bone} of {name}")

    def test_a_turn_in_the_world_takes_along_what_hangs_on_it(self):
        for rig, name in rigs():
            joint, vector = rig.index["left upper arm"], np.array([0.3, -0.2, 0.4])
            before, after = (
                pose_world(rig, p)[0] for p in (rig.rest, posing.turned_in_world(rig, rig.rest, joint, vector))
            )
            for bone in ("left forearm", "left hand", "left middle 2"):
                wanted = before[joint] + rot.rotate(rot.from_vector(vector), before[rig.index[bone]] - before[joint])
                self.close(after[rig.index[bone]], wanted, 1e-9, name)
