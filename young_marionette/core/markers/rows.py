"""Small matrices and quaternions of many frames at once, the frames last: each component lies as one run in memory."""

from __future__ import annotations

import numpy as np

from .. import rotations as rot


def matrices(q: np.ndarray) -> np.ndarray:
    """Rotation matrices ``(..., 3, 3, frames)`` of unit quaternions ``(..., 4, frames)``."""
    return np.moveaxis(rot.to_matrix(np.moveaxis(q, -2, -1)), -3, -1)


def cross_matrices(v: np.ndarray) -> np.ndarray:
    """The matrices ``(..., 3, 3, frames)`` of the cross product with ``v (..., 3, frames)``."""
    m = np.zeros((*v.shape[:-2], 3, 3, v.shape[-1]))
    x, y, z = (v[..., i, :] for i in range(3))
    m[..., 0, 1, :], m[..., 0, 2, :], m[..., 1, 2, :] = -z, y, -x
    m[..., 1, 0, :], m[..., 2, 0, :], m[..., 2, 1, :] = z, -y, x
    return m


def crossed(v: np.ndarray, m: np.ndarray) -> np.ndarray:
    """The cross product of ``v (..., 3, frames)`` with each column of ``m (..., 3, n, frames)``."""
    x, y, z = (v[..., i, None, :] for i in range(3))
    a, b, c = (m[..., i, :, :] for i in range(3))
    return np.stack([y * c - z * b, z * a - x * c, x * b - y * a], axis=-3)


def symmetric_inverse(m: np.ndarray) -> np.ndarray:
    """The inverses of symmetric positive matrices ``(3, 3, frames)``, in closed form."""
    a, b, c, d, e, f = m[0, 0], m[0, 1], m[0, 2], m[1, 1], m[1, 2], m[2, 2]
    out = np.empty_like(m)
    out[0, 0], out[0, 1], out[0, 2] = d * f - e * e, c * e - b * f, b * e - c * d
    out[1, 1], out[1, 2], out[2, 2] = a * f - c * c, b * c - a * e, a * d - b * b
    out[1, 0], out[2, 0], out[2, 1] = out[0, 1], out[0, 2], out[1, 2]
    out /= a * out[0, 0] + b * out[0, 1] + c * out[0, 2]
    return out


def to_vectors(q: np.ndarray) -> np.ndarray:
    """Rotation vectors ``(..., 3, frames)`` of quaternions ``(..., 4, frames)``, with angles of at most pi."""
    return np.moveaxis(rot.to_vector(np.moveaxis(q, -2, -1)), -1, -2)


def from_vectors(v: np.ndarray) -> np.ndarray:
    """Quaternions ``(..., 4, frames)`` of rotation vectors ``(..., 3, frames)``."""
    return np.ascontiguousarray(np.moveaxis(rot.from_vector(np.moveaxis(v, -2, -1)), -1, -2))


def products(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """Hamilton products of ``(..., 4, frames)``: first ``b``, then ``a``."""
    return np.moveaxis(rot.product_rows(np.moveaxis(a, -2, 0), np.moveaxis(b, -2, 0)), 0, -2)


def normalised(q: np.ndarray) -> np.ndarray:
    """Quaternions ``(..., 4, frames)`` of length one."""
    return np.moveaxis(rot.normalise(np.moveaxis(q, -2, -1)), -1, -2)


def rows_of(points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """``(points (markers, 3, frames), seen (markers, frames))`` of ``points (frames, markers, 3)``."""
    rows = np.ascontiguousarray(np.moveaxis(points, 0, -1))
    return rows, np.isfinite(rows).all(1)
