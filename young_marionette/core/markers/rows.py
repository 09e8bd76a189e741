"""Small matrices and quaternions of many frames at once, the frames last: each component lies as one run in memory."""

from __future__ import annotations

import numpy as np


def matrices(q: np.ndarray) -> np.ndarray:
    """Rotation matrices ``(..., 3, 3, frames)`` of unit quaternions ``(..., 4, frames)``."""
    x, y, z, w = (q[..., i, :] for i in range(4))
    m = np.empty((*q.shape[:-2], 3, 3, q.shape[-1]))
    xx, yy, zz = x * x, y * y, z * z
    xy, xz, yz, wx, wy, wz = x * y, x * z, y * z, w * x, w * y, w * z
    m[..., 0, 0, :], m[..., 1, 1, :], m[..., 2, 2, :] = 1 - 2 * (yy + zz), 1 - 2 * (xx + zz), 1 - 2 * (xx + yy)
    m[..., 0, 1, :], m[..., 1, 0, :] = 2 * (xy - wz), 2 * (xy + wz)
    m[..., 0, 2, :], m[..., 2, 0, :] = 2 * (xz + wy), 2 * (xz - wy)
    m[..., 1, 2, :], m[..., 2, 1, :] = 2 * (yz - wx), 2 * (yz + wx)
    return m


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
    q = np.where(q[..., 3:, :] < 0, -q, q)
    size = np.sqrt(np.sum(q[..., :3, :] ** 2, axis=-2, keepdims=True))
    angle = 2 * np.arctan2(size, q[..., 3:, :])
    share = np.where(size > 1e-9, angle / np.maximum(size, 1e-12), 2.0)
    vectors: np.ndarray = q[..., :3, :] * share
    return vectors


def from_vectors(v: np.ndarray) -> np.ndarray:
    """Quaternions ``(..., 4, frames)`` of rotation vectors ``(..., 3, frames)``."""
    angle = np.sqrt(np.sum(v * v, axis=-2, keepdims=True))
    share = np.where(angle > 1e-9, np.sin(angle / 2) / np.maximum(angle, 1e-12), 0.5)
    return np.concatenate([v * share, np.cos(angle / 2)], axis=-2)


def products(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """Hamilton products of ``(..., 4, frames)``: first ``b``, then ``a``."""
    ax, ay, az, aw = (a[..., i, :] for i in range(4))
    bx, by, bz, bw = (b[..., i, :] for i in range(4))
    return np.stack(
        [
            aw * bx + ax * bw + ay * bz - az * by,
            aw * by - ax * bz + ay * bw + az * bx,
            aw * bz + ax * by - ay * bx + az * bw,
            aw * bw - ax * bx - ay * by - az * bz,
        ],
        axis=-2,
    )


def normalised(q: np.ndarray) -> np.ndarray:
    """Quaternions ``(..., 4, frames)`` of length one."""
    unit: np.ndarray = q / np.sqrt(np.sum(q * q, axis=-2, keepdims=True))
    return unit
