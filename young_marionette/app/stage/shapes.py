"""Turned shapes: profiles spun around the +Y axis, as triangles with normals."""

from __future__ import annotations

import numpy as np

# Radius along the length, as a turner would cut it: the marionette's limbs are balusters with beads,
# the performer's are plain slender spindles, so that shape alone tells the two apart.
BALUSTER = (
    (0.0, 0.10),
    (0.03, 0.5),
    (0.07, 0.62),
    (0.11, 0.5),
    (0.14, 0.72),
    (0.24, 1.0),
    (0.38, 0.92),
    (0.6, 0.66),
    (0.8, 0.52),
    (0.88, 0.5),
    (0.91, 0.66),
    (0.95, 0.62),
    (0.98, 0.42),
    (1.0, 0.10),
)
SPINDLE = ((0.0, 0.05), (0.02, 0.28), (0.3, 0.62), (0.5, 0.66), (0.7, 0.58), (0.98, 0.26), (1.0, 0.05))
EGG = ((0.0, 0.28), (0.06, 0.5), (0.2, 0.82), (0.42, 1.0), (0.66, 0.98), (0.84, 0.76), (0.95, 0.42), (1.0, 0.04))
# What a shadow needs of a limb.
PLAIN = ((0.0, 0.35), (0.25, 0.85), (0.7, 0.7), (1.0, 0.35))
BEAD = tuple((-np.cos(a), np.sin(a)) for a in np.linspace(0.02, np.pi - 0.02, 5))
BALL = tuple((-np.cos(a), np.sin(a)) for a in np.linspace(0.02, np.pi - 0.02, 8))


def turned(profile, sides=10):
    """``(vertices (n, 6), indices (m,))`` of a profile of ``(height, radius)`` spun in ``sides`` steps: places and normals."""
    heights, radii = np.array(profile).T
    slope = np.gradient(radii, heights)
    angles = np.linspace(0, 2 * np.pi, sides + 1)
    rings = np.stack(
        [
            np.stack(
                [
                    r * np.cos(angles),
                    np.full_like(angles, h),
                    r * np.sin(angles),
                    np.cos(angles),
                    np.full_like(angles, -s),
                    np.sin(angles),
                ],
                -1,
            )
            for h, r, s in zip(heights, radii, slope)
        ]
    )
    rings[..., 3:] /= np.linalg.norm(rings[..., 3:], axis=-1, keepdims=True)
    number = np.arange(len(heights) * (sides + 1)).reshape(len(heights), sides + 1)
    a, b, c, d = number[:-1, :-1], number[1:, :-1], number[1:, 1:], number[:-1, 1:]
    return rings.reshape(-1, 6).astype("f4"), np.stack([a, b, c, a, c, d], 2).ravel().astype("i4")
