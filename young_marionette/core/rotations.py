"""Rotations as arrays of unit quaternions ``(..., 4)`` in the order ``x, y, z, w``.

Every function works on whole arrays and broadcasts. Hot loops use *rows*, ``(4, frames)``: each
component contiguous over the frames, which NumPy handles three to five times as fast.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np

IDENTITY = np.array([0.0, 0.0, 0.0, 1.0])
AXES = {"X": np.array([1.0, 0, 0]), "Y": np.array([0, 1.0, 0]), "Z": np.array([0, 0, 1.0])}


def product_rows(a: Any, b: Any, out: Any = None) -> np.ndarray:
    """Hamilton product ``a * b`` (first b, then a) of component-first arrays ``(4, ...)``, or of lists of components."""
    if getattr(a, "shape", None) == (4, 1) == getattr(b, "shape", None):
        # One frame only: plain floats take a fifth of the time that tiny arrays do.
        single = product_one(a[:, 0].tolist(), b[:, 0].tolist())
        if out is None:
            return np.array(single)[:, None]
        out[:, 0] = single
        return out
    ax, ay, az, aw = a
    bx, by, bz, bw = b
    if out is None:
        out = np.empty((4, *np.broadcast_shapes(np.shape(ax), np.shape(bx))))
    times, part = np.multiply, np.empty_like(out[0])  # a fifth quicker than sums of products, each with rows of its own
    for row, first, terms in (
        (out[0], (aw, bx), ((ax, bw, np.add), (ay, bz, np.add), (az, by, np.subtract))),
        (out[1], (aw, by), ((ax, bz, np.subtract), (ay, bw, np.add), (az, bx, np.add))),
        (out[2], (aw, bz), ((ax, by, np.add), (ay, bx, np.subtract), (az, bw, np.add))),
        (out[3], (aw, bw), ((ax, bx, np.subtract), (ay, by, np.subtract), (az, bz, np.subtract))),
    ):
        times(*first, out=row)
        for one, other, onto in terms:
            times(one, other, out=part)
            onto(row, part, out=row)
    return out


def rotate_rows(q: Any, v: Any, out: Any = None) -> np.ndarray:
    """Rotate component-first vectors ``(3, ...)`` by component-first quaternions ``(4, ...)``."""
    if getattr(q, "shape", None) == (4, 1) and getattr(v, "shape", None) == (3, 1):
        single = rotate_one(q[:, 0].tolist(), v[:, 0].tolist())
        if out is None:
            return np.array(single)[:, None]
        out[:, 0] = single
        return out
    x, y, z, w = q
    vx, vy, vz = v
    tx, ty, tz = y * vz, z * vx, x * vy
    if out is None:
        out = np.empty((3, *np.shape(tx)))
    times, part, other_part = np.multiply, np.empty_like(tx), np.empty_like(tx)
    for row, one, other in ((tx, z, vy), (ty, x, vz), (tz, y, vx)):
        row -= times(one, other, out=part)
        row += row
    for row, v, t, one, up, two, down in (
        (out[0], vx, tx, y, tz, z, ty),
        (out[1], vy, ty, z, tx, x, tz),
        (out[2], vz, tz, x, ty, y, tx),
    ):
        times(w, t, out=part)
        part += v
        part += times(one, up, out=other_part)
        np.subtract(part, times(two, down, out=other_part), out=row)
    return out


def product_one(a: Sequence[float], b: Sequence[float]) -> tuple[float, float, float, float]:
    """Hamilton product of two quaternions in plain floats: for single ones, quicker than arrays."""
    ax, ay, az, aw = a
    bx, by, bz, bw = b
    return (
        aw * bx + ax * bw + ay * bz - az * by,
        aw * by - ax * bz + ay * bw + az * bx,
        aw * bz + ax * by - ay * bx + az * bw,
        aw * bw - ax * bx - ay * by - az * bz,
    )


def rotate_one(q: Sequence[float], v: Sequence[float]) -> tuple[float, float, float]:
    """Rotate one vector by one quaternion in plain floats."""
    x, y, z, w = q
    vx, vy, vz = v
    tx, ty, tz = 2 * (y * vz - z * vy), 2 * (z * vx - x * vz), 2 * (x * vy - y * vx)
    return vx + w * tx + y * tz - z * ty, vy + w * ty + z * tx - x * tz, vz + w * tz + x * ty - y * tx


def multiply(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """Hamilton product of ``(..., 4)`` arrays: the rotation that does ``b`` first, then ``a``."""
    a, b = np.asarray(a, float), np.asarray(b, float)
    if a.ndim == b.ndim == 1:
        return np.array(product_one(a.tolist(), b.tolist()))
    out = _empty(np.broadcast_shapes(a.shape[:-1], b.shape[:-1]), 4)
    product_rows(_parts(a), _parts(b), _parts(out))
    return out


def _empty(shape: tuple[int, ...], parts: int) -> np.ndarray:
    """An array ``(*shape, parts)``; of plain lists each component lies together in memory, where what follows is quicker."""
    return np.empty((*shape, parts), order="F" if len(shape) == 1 else "C")


def _joined(parts: Sequence[np.ndarray]) -> np.ndarray:
    """Components ``(...)`` along a new last axis, laid out as ``_empty`` does."""
    out = _empty(np.broadcast_shapes(*(part.shape for part in parts)), len(parts))
    for i, part in enumerate(parts):
        out[..., i] = part
    return out


def _squares(v: np.ndarray) -> np.ndarray:
    """The sums of squares along the last axis ``(...)``."""
    if v.ndim != 2 or not v.flags.f_contiguous:
        return np.einsum("...i,...i->...", v, v)
    out = v[:, 0] * v[:, 0]
    for i in range(1, v.shape[1]):
        out += v[:, i] * v[:, i]
    return out


def _parts(array: np.ndarray) -> list[np.ndarray]:
    """Views of the components along the last axis."""
    return [array[..., i] for i in range(array.shape[-1])]


def rotate(q: np.ndarray, v: np.ndarray) -> np.ndarray:
    """Rotate vectors ``(..., 3)`` by quaternions ``(..., 4)``."""
    q, v = np.asarray(q, float), np.asarray(v, float)
    if q.ndim == v.ndim == 1:
        return np.array(rotate_one(q.tolist(), v.tolist()))
    out = _empty(np.broadcast_shapes(q.shape[:-1], v.shape[:-1]), 3)
    rotate_rows(_parts(q), _parts(v), _parts(out))
    return out


def conjugate(q: np.ndarray) -> np.ndarray:
    """The inverse of unit quaternions ``(..., 4)``."""
    return np.asarray(q, float) * np.array([-1.0, -1.0, -1.0, 1.0])


def normalise(v: np.ndarray) -> np.ndarray:
    """Scale vectors or quaternions ``(..., n)`` along the last axis to length one; zero stays zero."""
    v = np.asarray(v, float)
    if v.ndim == 1:
        length = math.sqrt(float(v @ v))
        return v / length if length > 1e-300 else np.zeros_like(v)
    return v * (1 / np.maximum(np.sqrt(_squares(v)), 1e-150))[..., None]


def cross(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """Cross products of vectors ``(..., 3)``; on few of them many times quicker than NumPy's own."""
    (ax, ay, az), (bx, by, bz) = _parts(np.asarray(a, float)), _parts(np.asarray(b, float))
    return _joined([ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx])


def from_axis_angle(axis: np.ndarray, angle: np.ndarray) -> np.ndarray:
    """Quaternions ``(..., 4)`` turning by ``angle`` (radians) about ``axis`` (any length)."""
    return from_vector(normalise(axis) * np.asarray(angle, float)[..., None])


def from_vector(v: np.ndarray) -> np.ndarray:
    """Quaternions of rotation vectors ``(..., 3)`` (axis times angle in radians)."""
    v = np.asarray(v, float)
    half = np.maximum(0.5 * np.sqrt(_squares(v)), 1e-12)
    out = _empty(v.shape[:-1], 4)
    factor = 0.5 * np.sin(half) / half  # half the cardinal sine of the half angle; one half where there is no turn
    np.multiply(v, factor[..., None], out=out[..., :3])
    out[..., 3] = np.cos(half)
    return out


def to_vector(q: np.ndarray) -> np.ndarray:
    """Rotation vectors ``(..., 3)`` of quaternions, with angles of at most pi (radians)."""
    q = np.asarray(q, float)
    q = np.where(q[..., 3:] < 0, -q, q)
    sine = np.linalg.norm(q[..., :3], axis=-1, keepdims=True)
    angle = 2 * np.arctan2(sine, q[..., 3:])
    return q[..., :3] * np.divide(angle, sine, out=np.full_like(sine, 2.0), where=sine > 1e-12)


def angle(q: np.ndarray) -> Any:
    """The angles ``(...)`` (radians, 0 to pi) that quaternions ``(..., 4)`` turn by."""
    q = np.asarray(q, float)
    return 2 * np.arctan2(np.linalg.norm(q[..., :3], axis=-1), np.abs(q[..., 3]))


def angle_between(u: np.ndarray, v: np.ndarray) -> Any:
    """The angle (radians) between vectors ``(..., 3)``; exact for small and large angles.

    Source: W. Kahan, *How futile are mindless assessments of roundoff*, section 12.
    """
    u, v = normalise(u), normalise(v)
    return 2 * np.arctan2(np.linalg.norm(u - v, axis=-1), np.linalg.norm(u + v, axis=-1))


def between(u: np.ndarray, v: np.ndarray) -> np.ndarray:
    """The smallest turn that brings direction ``u`` onto ``v`` (``(..., 3)`` each)."""
    u, v = np.asarray(u, float), np.asarray(v, float)
    if u.ndim == v.ndim == 1:
        return np.array(_between_one(u.tolist(), v.tolist()))
    u, v = normalise(u), normalise(v)
    if u.shape != v.shape:
        u, v = np.broadcast_arrays(u, v)
    (ux, uy, uz), (vx, vy, vz) = _parts(u), _parts(v)
    dot = (ux * vx + uy * vy + uz * vz)[..., None]
    q = _joined([uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx, 1 + dot[..., 0]])
    if (dot >= -1 + 1e-12).all():
        return normalise(q)
    # Opposite directions have no smallest turn: take half a turn about any axis across.
    spare = np.where(np.abs(u[..., :1]) < 0.9, AXES["X"], AXES["Y"])
    half = np.concatenate([normalise(np.cross(u, spare)), np.zeros_like(dot)], -1)
    return normalise(np.where(dot < -1 + 1e-12, half, q))


def _between_one(u: list[float], v: list[float]) -> tuple[float, float, float, float]:
    """``between`` for one pair of directions, in plain floats: many times quicker than tiny arrays."""
    (ux, uy, uz), (vx, vy, vz) = u, v
    size = math.sqrt((ux * ux + uy * uy + uz * uz) * (vx * vx + vy * vy + vz * vz))
    if size < 1e-300:
        return 0.0, 0.0, 0.0, 1.0
    x, y, z = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    w = size + ux * vx + uy * vy + uz * vz
    if w < 1e-12 * size:
        # Opposite directions have no smallest turn: take half a turn about any axis across.
        w = 0.0
        x, y, z = (0.0, uz, -uy) if abs(ux) < 0.9 * math.sqrt(ux * ux + uy * uy + uz * uz) else (-uz, 0.0, ux)
    length = math.sqrt(x * x + y * y + z * z + w * w)
    return x / length, y / length, z / length, w / length


def slerp(a: np.ndarray, b: np.ndarray, share: np.ndarray) -> np.ndarray:
    """Spherical interpolation from ``a (..., 4)`` to ``b (..., 4)``, the short way (Shoemake 1985).

    ``share`` has the shape of the leading axes, 0 gives ``a``, 1 gives ``b``.
    """
    a, b = np.asarray(a, float), np.asarray(b, float)
    share = np.asarray(share, float)[..., None]
    dot = np.sum(a * b, -1, keepdims=True)
    b = np.where(dot < 0, -b, b)
    theta = np.arccos(np.clip(np.abs(dot), 0, 1))
    sine = np.sin(theta)
    near = sine < 1e-6
    safe = np.where(near, 1.0, sine)
    wa = np.where(near, 1 - share, np.sin((1 - share) * theta) / safe)
    wb = np.where(near, share, np.sin(share * theta) / safe)
    return normalise(wa * a + wb * b)


def left_matrix(q: np.ndarray) -> np.ndarray:
    """The matrix ``(4, 4)`` that multiplies any quaternion by ``q (4,)`` from the left."""
    return multiply(q, np.eye(4)).T


def twist_about(q: np.ndarray, axis: np.ndarray) -> np.ndarray:
    """The part ``(..., 4)`` of ``q (..., 4)`` that turns about ``axis (3,)`` (swing-twist decomposition, Dobrowolski 2015)."""
    q, axis = np.asarray(q, float), normalise(axis)
    along = np.sum(q[..., :3] * axis, -1, keepdims=True) * axis
    twist = np.concatenate([along, q[..., 3:]], -1)
    length = np.linalg.norm(twist, axis=-1, keepdims=True)
    return np.where(length < 1e-9, IDENTITY, twist / np.where(length < 1e-9, 1, length))


def continuous(q: np.ndarray) -> np.ndarray:
    """``q (frames, ..., 4)`` with signs flipped along the first axis so that neighbours lie on the same half of the sphere."""
    q = np.array(q, float)
    if len(q) > 1:
        flips = np.sum(q[1:] * q[:-1], -1) < 0
        q[1:][np.logical_xor.accumulate(flips, axis=0)] *= -1
    return q


def from_matrix(m: np.ndarray) -> np.ndarray:
    """Quaternions of rotation matrices ``(..., 3, 3)`` (Bar-Itzhack 2000, largest component)."""
    m = np.asarray(m, float)
    xx, yy, zz = m[..., 0, 0], m[..., 1, 1], m[..., 2, 2]
    four = np.stack([1 + xx - yy - zz, 1 - xx + yy - zz, 1 - xx - yy + zz, 1 + xx + yy + zz], -1)
    yx, zx, zy = m[..., 1, 0], m[..., 2, 0], m[..., 2, 1]
    xy, xz, yz = m[..., 0, 1], m[..., 0, 2], m[..., 1, 2]
    rows = np.stack(
        [
            np.stack([four[..., 0], yx + xy, zx + xz, zy - yz], -1),
            np.stack([yx + xy, four[..., 1], zy + yz, xz - zx], -1),
            np.stack([zx + xz, zy + yz, four[..., 2], yx - xy], -1),
            np.stack([zy - yz, xz - zx, yx - xy, four[..., 3]], -1),
        ],
        -2,
    )
    best = np.argmax(four, -1)[..., None, None]
    return normalise(np.take_along_axis(rows, best, -2)[..., 0, :])


def to_matrix(q: np.ndarray) -> np.ndarray:
    """Rotation matrices ``(..., 3, 3)`` of quaternions."""
    x, y, z, w = np.moveaxis(np.asarray(q, float), -1, 0)
    x2, y2, z2 = 2 * x, 2 * y, 2 * z
    xx, yy, zz, xy, xz, yz = x * x2, y * y2, z * z2, x * y2, x * z2, y * z2
    wx, wy, wz = w * x2, w * y2, w * z2
    rows = (1 - (yy + zz), xy - wz, xz + wy), (xy + wz, 1 - (xx + zz), yz - wx), (xz - wy, yz + wx, 1 - (xx + yy))
    return np.moveaxis(np.array(rows), (0, 1), (-2, -1))


def best_turn(u: np.ndarray, v: np.ndarray) -> np.ndarray:
    """The turn that brings vectors ``u (n, 3)`` nearest to ``v`` in the least squares (Kabsch 1976).

    With one direction only, or all on a line, it is the smallest turn between them.
    """
    u, v = np.atleast_2d(u), np.atleast_2d(v)
    left, sizes, right = np.linalg.svd(u.T @ v)
    if len(u) == 1 or sizes[1] < 1e-6 * max(sizes[0], 1e-300):
        longest = int(np.argmax(np.linalg.norm(u, axis=1)))
        return between(u[longest], v[longest])
    sign = np.sign(np.linalg.det(right.T @ left.T))
    return from_matrix(right.T @ np.diag([1, 1, sign]) @ left.T)


def from_euler_rows(order: list[str] | str, angles: np.ndarray) -> np.ndarray:
    """Quaternions ``(4, frames)`` of intrinsic turns about ``order`` (such as ``"ZXY"``).

    ``angles`` is ``(len(order), frames)`` in radians; the first letter is the outermost turn, as
    in BVH channels.
    """
    if len(order) == 3 == len(set(order)):
        return _from_three(order, 0.5 * np.asarray(angles, float))
    result = None
    for axis, row in zip(order, angles):
        turn = np.zeros((4, row.shape[-1]))
        turn["XYZ".index(axis)] = np.sin(row / 2)
        turn[3] = np.cos(row / 2)
        result = turn if result is None else product_rows(result, turn)
    if result is None:
        raise ValueError("an Euler order needs at least one axis")
    return result


def _from_three(order: list[str] | str, halves: np.ndarray) -> np.ndarray:
    """Quaternions ``(4, frames)`` of turns about three different axes by half angles ``(3, frames)``, multiplied out."""
    i, j, k = ("XYZ".index(a) for a in order)
    sign = 1.0 if (j - i) % 3 == 1 else -1.0
    (s1, s2, s3), (c1, c2, c3) = np.sin(halves), np.cos(halves)
    s3 = s3 * sign  # so that the rest reads alike for both senses
    cc, ss, sc, cs = c1 * c2, s1 * s2, s1 * c2, c1 * s2
    out = np.empty((4, halves.shape[1]))
    out[3] = cc * c3 - ss * s3
    out[i] = sc * c3 + cs * s3
    out[j] = cs * c3 - sc * s3
    out[k] = (cc * s3 + ss * c3) * sign
    return out


def from_euler(order: str, angles: np.ndarray) -> np.ndarray:
    """As ``from_euler_rows`` for angles ``(..., len(order))``, giving ``(..., 4)``."""
    angles = np.asarray(angles, float)
    flat = angles.reshape(-1, angles.shape[-1]).T
    return from_euler_rows(order, flat).T.reshape(*angles.shape[:-1], 4)


def to_euler_rows(order: str, q: np.ndarray) -> np.ndarray:
    """Intrinsic angles ``(3, frames)`` in radians, unwrapped so that no frame jumps needlessly.

    ``order`` holds three different axes. Of the two triples that give the same rotation, the one
    nearer to the frame before is kept. Source: Diebel, *Representing Attitude*, 2006.
    """
    i, j, k = ("XYZ".index(a) for a in order)
    sign = 1.0 if (j - i) % 3 == 1 else -1.0
    w, a, b, c = q[3], q[i], q[j], sign * q[k]
    middle = np.arcsin(np.clip(2 * (w * b + a * c), -1, 1))
    first = np.arctan2(2 * (w * a - b * c), 1 - 2 * (a * a + b * b))
    last = np.arctan2(2 * (w * c - a * b), 1 - 2 * (b * b + c * c))
    # Looking straight along the middle axis only the sum of the outer two is known.
    locked = np.abs(np.cos(middle)) < 1e-7
    if locked.any():
        first = np.where(locked, 2 * np.arctan2(a, w), first)
        last = np.where(locked, 0.0, last)
    angles = np.stack([first, middle, sign * last])
    if angles.shape[1] < 2:
        return angles
    other = np.stack([angles[0] + np.pi, np.pi - angles[1], angles[2] + np.pi])

    def step(now: np.ndarray, before: np.ndarray) -> np.ndarray:
        return np.abs((now - before + np.pi) % (2 * np.pi) - np.pi).sum(0)

    cross = step(other[:, 1:], angles[:, :-1]) < step(angles[:, 1:], angles[:, :-1])
    swapped = np.concatenate([[False], np.logical_xor.accumulate(cross)])
    return np.unwrap(np.where(swapped, other, angles), axis=1)


def to_euler(order: str, q: np.ndarray) -> np.ndarray:
    """As ``to_euler_rows`` for one joint over its frames: ``(frames, 4)`` gives ``(frames, 3)``."""
    return to_euler_rows(order, np.asarray(q, float).T).T
