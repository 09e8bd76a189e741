"""Rotations against SciPy's, an independent implementation, and against what must hold for any rotation."""

from itertools import permutations

import numpy as np
from scipy.spatial.transform import Rotation

from tests.support import Case
from young_marionette.core import rotations as rot


class Rotations(Case):
    def setUp(self):
        self.rng = np.random.default_rng(1)
        self.q = rot.normalise(self.rng.normal(size=(200, 4)))
        self.p = rot.normalise(self.rng.normal(size=(200, 4)))

    def test_product_is_scipys(self):
        self.same_turn(
            rot.multiply(self.q, self.p), (Rotation.from_quat(self.q) * Rotation.from_quat(self.p)).as_quat()
        )

    def test_rotating_vectors_is_scipys(self):
        v = self.rng.normal(size=(200, 3))
        self.close(rot.rotate(self.q, v), Rotation.from_quat(self.q).apply(v), 1e-12)

    def test_broadcasting(self):
        self.assertEqual(rot.multiply(self.q[:, None], self.p[None]).shape, (200, 200, 4))
        self.assertEqual(rot.rotate(self.q[:5, None], np.ones(3)).shape, (5, 1, 3))

    def test_conjugate_undoes(self):
        self.same_turn(rot.multiply(self.q, rot.conjugate(self.q)), np.tile(rot.IDENTITY, (200, 1)))

    def test_vectors_there_and_back(self):
        v = rot.to_vector(self.q)
        self.assertLessEqual(np.linalg.norm(v, axis=-1).max(), np.pi + 1e-12)
        self.same_turn(rot.from_vector(v), self.q)
        self.close(v, Rotation.from_quat(self.q).as_rotvec(), 1e-9)

    def test_tiny_vectors_keep_their_precision(self):
        v = np.array([[1e-9, -2e-9, 3e-9], [0, 0, 0]])
        self.close(rot.to_vector(rot.from_vector(v)), v, 1e-20)

    def test_axis_and_angle(self):
        q = rot.from_axis_angle(np.array([0, 0, 5.0]), np.array([0.0, np.pi / 2]))
        self.close(rot.rotate(q, [1.0, 0, 0]), [[1, 0, 0], [0, 1, 0]], 1e-12)

    def test_angle(self):
        self.close(rot.angle(self.q), Rotation.from_quat(self.q).magnitude(), 1e-7)

    def test_angle_between_is_exact_when_small(self):
        for angle in (1e-8, 1e-4, 1.0, np.pi - 1e-8):
            v = np.array([np.cos(angle), np.sin(angle), 0])
            self.close(rot.angle_between(np.array([3.0, 0, 0]), v), angle, 1e-15 + 1e-9 * angle)

    def test_between_is_the_smallest_turn(self):
        u, v = self.rng.normal(size=(2, 100, 3))
        turn = rot.between(u, v)
        self.close(rot.rotate(turn, rot.normalise(u)), rot.normalise(v), 1e-9)
        self.close(rot.angle(turn), rot.angle_between(u, v), 1e-7)

    def test_between_opposites(self):
        for axis in np.eye(3):
            self.close(rot.rotate(rot.between(axis, -axis), axis), -axis, 1e-9)

    def test_slerp_ends_middle_and_short_way(self):
        self.same_turn(rot.slerp(self.q, self.p, np.zeros(200)), self.q)
        self.same_turn(rot.slerp(self.q, self.p, np.ones(200)), self.p)
        half = rot.slerp(self.q, self.p, np.full(200, 0.5))
        whole = rot.angle(rot.multiply(rot.conjugate(self.q), self.p))
        self.close(rot.angle(rot.multiply(rot.conjugate(self.q), half)), whole / 2, 1e-7)
        self.same_turn(rot.slerp(self.q, -self.q, np.full(200, 0.3)), self.q, 1e-6)

    def test_twist(self):
        axis = np.array([0.0, 1.0, 0.0])
        swing, angle = rot.from_axis_angle(np.array([1.0, 0, 0.3]), np.array(0.7)), 1.1
        q = rot.multiply(swing, rot.from_axis_angle(axis, np.array(angle)))
        self.same_turn(rot.twist_about(q, axis), rot.from_axis_angle(axis, np.array(angle)))

    def test_continuous_flips_no_rotation(self):
        path = rot.from_vector(np.linspace(0, 12, 300)[:, None] * np.array([0.2, 0.9, 0.1]))
        broken = path * self.rng.choice([-1, 1], size=(300, 1))
        mended = rot.continuous(broken)
        self.assertTrue((np.sum(mended[1:] * mended[:-1], -1) > 0).all())
        self.same_turn(mended, path)

    def test_matrices(self):
        self.close(rot.to_matrix(self.q), Rotation.from_quat(self.q).as_matrix(), 1e-12)
        self.same_turn(rot.from_matrix(rot.to_matrix(self.q)), self.q)

    def test_best_turn_recovers_a_rotation(self):
        u = self.rng.normal(size=(5, 3))
        self.same_turn(rot.best_turn(u, rot.rotate(self.q[0], u)), self.q[0])

    def test_best_turn_is_no_reflection(self):
        u = np.array([[1.0, 0, 0], [0, 1, 0], [0, 0, 1]])
        turn = rot.best_turn(u, u * [1, 1, -1])
        self.close(np.linalg.det(rot.to_matrix(turn)), 1.0, 1e-9)

    def test_best_turn_of_one_direction_is_the_smallest(self):
        u, v = np.array([[1.0, 0, 0]]), np.array([[0, 2.0, 0]])
        self.close(rot.angle(rot.best_turn(u, v)), np.pi / 2, 1e-9)


class EulerAngles(Case):
    def setUp(self):
        self.rng = np.random.default_rng(2)
        self.q = rot.normalise(self.rng.normal(size=(300, 4)))

    def test_all_orders_are_scipys(self):
        for order in map("".join, permutations("XYZ")):
            angles = self.rng.uniform(-3, 3, size=(100, 3))
            self.same_turn(rot.from_euler(order, angles), Rotation.from_euler(order, angles).as_quat())
            self.same_turn(Rotation.from_euler(order, rot.to_euler(order, self.q)).as_quat(), self.q)

    def test_fewer_than_three_axes(self):
        angles = self.rng.uniform(-3, 3, size=(50, 1))
        self.same_turn(rot.from_euler("Y", angles), Rotation.from_euler("Y", angles).as_quat())

    def test_no_frame_jumps(self):
        """A steady turn through poles and over half turns gives steady angles."""
        t = np.linspace(0, 9, 2000)
        for order in map("".join, permutations("XYZ")):
            angles = np.stack([0.8 * np.sin(t), 1.3 * np.sin(0.7 * t + 0.2), 1.5 * t], -1)
            found = rot.to_euler(order, rot.from_euler(order, angles))
            self.assertLess(np.abs(np.diff(found, axis=0)).max(), 0.05, order)

    def test_locked_axes_keep_the_rotation(self):
        for order in map("".join, permutations("XYZ")):
            angles = np.array([[0.4, np.pi / 2, 0.3], [0.4, -np.pi / 2, 0.3]])
            q = Rotation.from_euler(order, angles).as_quat()
            self.same_turn(Rotation.from_euler(order, rot.to_euler(order, q[:1])).as_quat(), q[:1], 1e-6)
            self.same_turn(Rotation.from_euler(order, rot.to_euler(order, q[1:])).as_quat(), q[1:], 1e-6)
