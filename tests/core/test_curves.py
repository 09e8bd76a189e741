"""Curves as people read them: known angles, swing and twist put together again, waves found in a spectrum."""

from dataclasses import replace

import numpy as np

from tests.acting import acted
from tests.support import Case
from young_marionette.core import rotations as rot
from young_marionette.core.clip import Clip
from young_marionette.core.humanoid.groups import FACE, GROUPS, group_of, groups
from young_marionette.core.keys.curves import (
    ANGLES,
    ORDERS,
    PLACE,
    SWING,
    WEIGHT,
    _axes,
    curves,
    own_order,
    spectra,
    speed_of,
)
from young_marionette.core.scene.plotting import outline
from young_marionette.core.scene.scales import nice_steps
from young_marionette.demo.figures import Build, make_figure
from young_marionette.formats.bvh.layout import Layout


def spinning(turns, frames=200):
    """A figure whose left forearm turns as told, the first frame at rest."""
    skeleton = make_figure(Build())
    local = np.tile(skeleton.rest, (frames, 1, 1))
    joint = skeleton.index["left forearm"]
    local[:, joint] = rot.multiply(skeleton.rest[joint], turns)
    return Clip("spin", skeleton, 50.0, local, np.array([0]), np.zeros((frames, 1, 3))), joint


class Readings(Case):
    def test_angles_are_unwrapped_in_any_order(self):
        angles = np.radians(np.stack([np.linspace(0, 800, 200), np.linspace(0, 70, 200), np.linspace(0, -500, 200)], 1))
        for order in ORDERS:
            turns = rot.from_euler(order, angles)
            clip, joint = spinning(turns)
            clip = replace(
                clip,
                rotations=np.where(np.arange(len(clip.skeleton))[:, None] == joint, turns[:, None], clip.rotations),
            )
            for curve, wanted in zip(curves(clip, ["left forearm"], ANGLES, order), np.degrees(angles).T):
                self.close(curve.values, wanted, 1e-6, order)
            self.assertEqual([c.axis for c in curves(clip, ["left forearm"], ANGLES, order)], list(order))

    def test_twist_is_about_the_bone_and_swing_across_it(self):
        clip, joint = spinning(np.tile(rot.IDENTITY, (200, 1)))
        along, across = _axes(clip.skeleton, joint)
        self.close(np.stack([along, *across]) @ np.stack([along, *across]).T, np.eye(3), 1e-12)
        twist, lean = np.radians(np.linspace(0, 400, 200)), np.radians(np.linspace(0, 60, 200))
        clip, _ = spinning(rot.multiply(rot.from_axis_angle(across[1], lean), rot.from_axis_angle(along, twist)))
        told = {c.axis: c.values for c in curves(clip, ["left forearm"], SWING)}
        self.close(told["twist"], np.degrees(twist), 1e-6)
        self.close(told["swing 2"], np.degrees(lean), 1e-6)
        self.close(told["swing 1"], 0, 1e-6)

    def test_positions_and_morphs(self):
        clip, _, _, _ = acted("carry_bucket")
        hips = curves(clip, ["hips", "head"], PLACE)
        self.close(np.stack([c.values for c in hips]), clip.translations[:, 0].T * 100, 1e-9)
        face = replace(clip, morphs=("blink",), weights=np.linspace(0, 1, clip.frames)[:, None])
        self.close(curves(face, ["head", "blink"], WEIGHT)[0].values, face.weights[:, 0])
        self.assertEqual(curves(clip, ["nobody"], ANGLES), [])

    def test_speed_and_spectrum_of_a_known_wave(self):
        t = np.arange(500) / 50
        clip, _ = spinning(rot.from_axis_angle(rot.AXES["X"], np.radians(12 * np.sin(2 * np.pi * 4 * t))), 500)
        (curve,) = [c for c in curves(clip, ["left forearm"], ANGLES, "XYZ") if c.axis == "X"]
        speed = speed_of(curve, 50)
        self.assertEqual(speed.unit, "°/s")
        self.close(np.abs(speed.values).max(), 12 * 2 * np.pi * 4, 15)
        lines = spectra([curve], 50)[0].values
        peak = int(lines.argmax())
        self.close(peak * 25 / (len(lines) - 1), 4.0, 0.1)
        self.close(lines[peak], 12, 0.3)

    def test_the_order_of_a_file(self):
        layout = Layout(("a", "b"), (("Xposition", "Yrotation", "Xrotation", "Zrotation"), ("Zrotation",)))
        self.assertEqual([own_order(layout, j) for j in (0, 1, 5)], ["YXZ", "ZXY", "ZXY"])
        self.assertEqual(own_order(None, 0), "ZXY")


class Drawing(Case):
    def test_no_spike_is_lost_however_small_the_picture(self):
        values = np.zeros(10_000)
        values[7_321], values[12] = 5.0, -3.0
        for columns in (40, 400, 9_000):
            xs, ys = outline(values, 0, 9_999, columns, (10, 0.1), (0, 1))
            self.assertLessEqual(len(xs), max(2 * columns, 10_000))
            self.assertEqual((ys.max(), ys.min()), (5, -3))
            self.close(xs[ys.argmax()], 10 + 732.1, 0.1 * 10_000 / columns + 0.01)
        self.assertEqual(len(outline(values, 20_000, 30_000, 40, (0, 1), (0, 1))[0]), 0)

    def test_round_numbers(self):
        self.assertEqual(nice_steps(0, 200, 5), [0, 50, 100, 150, 200])
        self.assertEqual(nice_steps(-0.03, 0.031, 4), [-0.02, 0.0, 0.02])
        for low, high in ((0, 0), (1, -1), (0, float("nan"))):
            self.assertEqual(nice_steps(low, high, 5), [])


class Groups(Case):
    def test_every_bone_has_its_group(self):
        clip, body, _, _ = acted("carry_bucket", build=Build(fingers=True, twist=True, root=True))
        found = groups(clip.skeleton, body, ("blink",))
        self.assertEqual(sum(map(len, found.values())), len(clip.skeleton) + 1)
        self.assertIn("left index 2", found["left fingers"])
        self.assertIn("right forearm twist", found["right arm"])
        self.assertIn("left toes", found["left leg"])
        self.assertEqual(found[FACE], ("blink",))
        self.assertTrue(set(found) <= set(GROUPS))
        self.assertIsNone(group_of("tail"))
        bare = groups(clip.skeleton, None)
        self.assertEqual(list(bare), ["other bones"])
