"""Turned shapes: profiles spun around the +Y axis, as triangles with normals."""

from __future__ import annotations

import numpy as np


def turned(profile: tuple[tuple[float, float], ...], sides: int = 10) -> tuple[np.ndarray, np.ndarray]:
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
