"""The usual surface of a figure, to judge by which segments markers may sit on."""

from __future__ import annotations

import numpy as np

from .segments import Structure


class Surface:
    """The usual surface of a figure: flat capsules around its bones."""

    def __init__(self, structure: Structure, offsets: np.ndarray, stature: float) -> None:
        self.structure, self.stature = structure, stature
        tips = structure.tip_shares * stature
        for joint in range(len(structure)):
            end = structure.next_joint(joint)
            tips[joint] = offsets[end] if end != joint else tips[joint]
        self.starts = np.array([s.start for s in structure.segments]) * stature
        self.tips = tips - self.starts
        tips = self.tips
        self.square = np.maximum(np.sum(tips * tips, -1), 1e-9)
        self.radius = np.array([s.radius for s in structure.segments]) * stature
        self.taper = np.array([s.taper for s in structure.segments])
        self.wide = np.array([s.wide for s in structure.segments]) * stature

    def nearest(self, local: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """``(nearest points of the surfaces (..., joints, 3, n), distances from them (..., joints, n))`` of points in the joints' axes
        ``(..., joints, 3, n)``; inside is negative."""
        local = local - self.starts[..., None]
        share = np.clip(np.einsum("...sif,si->...sf", local, self.tips) / self.square[:, None], 0, 1)
        axis = share[..., None, :] * self.tips[..., None]
        axis[..., 0, :] += np.clip(local[..., 0, :] - axis[..., 0, :], -self.wide[:, None], self.wide[:, None])
        off = local - axis
        far = np.sqrt(np.sum(off * off, -2))
        radius = self.radius[:, None] * (1 - self.taper[:, None] * share)
        near = axis + off * (radius / np.maximum(far, 1e-6))[..., None, :]
        return near + self.starts[..., None], far - radius

    def against(self, turns: np.ndarray, places: np.ndarray, points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """As ``nearest``, for joints and points in the world: ``turns (joints, 3, 3, frames)``, ``places (joints, 3, frames)``,
        ``points (markers, 3, frames)`` give ``(markers, joints, 3, frames)`` and ``(markers, joints, frames)``."""
        near, far = self.nearest(in_axes(turns, places, points))
        return places + np.einsum("sikf,mskf->msif", turns, near), far


def in_axes(turns: np.ndarray, places: np.ndarray, points: np.ndarray) -> np.ndarray:
    """Points ``(markers, 3, frames)`` of the world in the axes of all joints ``(markers, joints, 3, frames)``."""
    return np.einsum("skif,mskf->msif", turns, points[:, None] - places)
