"""What a human body is likely to do with its joints, as weak residuals: usual angles, and soft limits.

A ball joint is guarded by the rotation vector from its usual pose, a hinge by its angles in a fixed order, so that an
elbow may turn far about one axis and hardly about the next. Frames lie last in all arrays (see rows).
"""

from __future__ import annotations

import numpy as np

from .. import rotations as rot
from .rows import cross_matrices, matrices, products, to_vectors
from .segments import BALL, Structure

_BEYOND = np.radians(3.0)  # one standard deviation past a limit
_POLE = 0.15  # cosine of the middle angle below which the slopes of the outer ones are held back


class Guards:
    """The guards of a structure's joints, apart from the root's; see ``residuals``. ``joints``: what each row speaks of."""

    def __init__(self, structure: Structure) -> None:
        joints = range(1, len(structure))
        segments = structure.segments
        self.balls = np.array([j for j in joints if segments[j].kind == BALL], int)
        self.hinges = np.array([j for j in joints if segments[j].kind != BALL], int)
        self.joints = np.concatenate([self.balls, self.hinges])
        radians = lambda name, of: np.radians([getattr(segments[j], name) for j in of]).reshape(-1, 3)  # noqa: E731
        self._usual = rot.conjugate(rot.from_vector(radians("middle", self.balls)))[..., None]
        self._ball_sigma = radians("sigma", self.balls)[..., None]
        self._middle, self._sigma = radians("middle", self.hinges)[..., None], radians("sigma", self.hinges)[..., None]
        self._low, self._high = radians("low", self.hinges)[..., None], radians("high", self.hinges)[..., None]
        order = np.array([["XYZ".index(a) for a in segments[j].order] for j in self.hinges]).reshape(-1, 3)
        self._i, self._j, self._k = order.T
        self._sign = np.where((self._j - self._i) % 3 == 1, 1.0, -1.0)[:, None]

    def terms(self, q: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """``(squares (n, 3, 3, frames), pulls (n, 3, frames), cost (frames,))`` of local rotations ``(joints, 4, frames)``.

        The squares belong on the diagonal of normal equations, the pulls in their gradient; row by row of ``joints``.
        """
        vectors = to_vectors(products(self._usual, q[self.balls]))
        slopes = right_jacobian_inverse(vectors) / self._ball_sigma[:, :, None]
        r = vectors / self._ball_sigma
        angles, bent = self.angles(q)
        usual = (angles - self._middle) / self._sigma
        past = (angles - np.clip(angles, self._low, self._high)) / _BEYOND
        # Both rows of a hinge have the same slopes but for their scales.
        scale = 1 / self._sigma**2 + np.where(past != 0, 1 / _BEYOND**2, 0.0)
        pull = usual / self._sigma + past / _BEYOND
        squares = np.concatenate(
            [
                np.einsum("niaf,nibf->nabf", slopes, slopes),
                np.einsum("niaf,nif,nibf->nabf", bent, scale, bent),
            ]
        )
        pulls = np.concatenate([np.einsum("niaf,nif->naf", slopes, r), np.einsum("niaf,nif->naf", bent, pull)])
        return squares, -pulls, np.sum(r * r, (0, 1)) + np.sum(usual * usual + past * past, (0, 1))

    def angles(self, q: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Angles ``(hinges, 3, frames)`` (radians), each in its joint's order, and their slopes ``(hinges, 3, 3, frames)`` by small
        turns that come after the joint's rotation, about its own axes."""
        m = matrices(q[self.hinges])
        n = np.arange(len(self.hinges))
        i, j, k, s = self._i, self._j, self._k, self._sign
        sin_b = np.clip(s * m[n, i, k], -1, 1)
        a = np.arctan2(-s * m[n, j, k], m[n, k, k])
        c = np.arctan2(-s * m[n, i, j], m[n, i, i])
        # Seen from the axes after all three turns, turning by the first looks as the first row of the matrix does, by the
        # second as its axis turned back by the third; the rates follow by solving for them.
        cos_b = np.maximum(np.sqrt(1 - sin_b**2), _POLE)
        sin_c, cos_c = np.sin(c), np.cos(c)
        slopes = np.zeros((len(n), 3, 3, q.shape[-1]))
        slopes[n, 0, i], slopes[n, 0, j] = cos_c / cos_b, -s * sin_c / cos_b
        slopes[n, 1, i], slopes[n, 1, j] = s * sin_c, cos_c
        slopes[n, 2, i], slopes[n, 2, j] = -s * sin_b * cos_c / cos_b, sin_b * sin_c / cos_b
        slopes[n, 2, k] = 1.0
        return np.stack([a, np.arcsin(sin_b), c], 1), slopes


def right_jacobian_inverse(v: np.ndarray) -> np.ndarray:
    """How rotation vectors ``(..., 3, frames)`` change by small turns that come after them (Chirikjian 2012)."""
    angle = np.sqrt(np.sum(v * v, -2))
    small = angle < 1e-4
    safe = np.where(small, 1.0, angle)
    share = np.where(small, 1 / 12, 1 / safe**2 - (1 + np.cos(safe)) / (2 * safe * np.maximum(np.sin(safe), 1e-9)))
    k = cross_matrices(v)
    return np.eye(3)[..., None] + 0.5 * k + share[..., None, None, :] * np.einsum("...ijf,...jkf->...ikf", k, k)
