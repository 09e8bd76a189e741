"""A mesh as arrays that a graphics card takes; worked out where files are read, since large ones take their time."""

from __future__ import annotations

from dataclasses import dataclass
from weakref import WeakKeyDictionary

import numpy as np

from ..core.character.meshes import strongest

_READY = WeakKeyDictionary()


@dataclass(frozen=True, eq=False)
class MeshArrays:
    """``shape (v, 6)``: places and normals. ``still (v, 10)``: texture coordinates, joints, weights.

    ``used (n,)``: the skeleton's joints that carry something; joints in ``still`` count in it. ``added``: for each morph
    that moves anything what it adds to ``shape`` from row ``first`` on.
    """

    shape: np.ndarray
    still: np.ndarray
    used: np.ndarray
    morphs: tuple[str, ...]
    first: int
    added: tuple[np.ndarray, ...]


def _together(shape):
    """Places and normals of a mesh, or what a morph adds to them, side by side."""
    normals = np.zeros_like(shape.points) if shape.normals is None else shape.normals
    return np.concatenate([shape.points, normals], 1).astype("f4")


def _worked_out(mesh):
    morphs = tuple(m for m in mesh.morphs if np.any(m.points))
    added = [_together(m) for m in morphs]
    # Morphs change few vertices, and mostly neighbours: only from the first to the last is ever written.
    touched = np.flatnonzero(sum((a != 0).any(1) for a in added)) if added else np.zeros(1, int)
    first, end = int(touched[0]), int(touched[-1]) + 1
    joints, weights = strongest(mesh)
    # Only joints that carry something take room where the card looks them up.
    joints = joints.astype(int)
    used = np.flatnonzero(np.bincount(joints.ravel(), minlength=1))
    local = np.zeros(used[-1] + 1, "f4")
    local[used] = np.arange(len(used))
    coords = np.zeros((len(mesh.points), 2)) if mesh.texcoords is None else mesh.texcoords
    still = np.concatenate([coords, local[joints], weights], 1).astype("f4")
    return MeshArrays(
        _together(mesh), still, used, tuple(m.name for m in morphs), first, tuple(a[first:end].copy() for a in added)
    )


def prepare(character):
    """Work out the arrays of all of a character's meshes, to be at hand when they are first drawn."""
    for mesh in character.meshes if character is not None else ():
        if mesh not in _READY and len(mesh.triangles):
            _READY[mesh] = _worked_out(mesh)


def arrays_of(mesh):
    """The MeshArrays of a mesh; whoever takes them keeps them."""
    return _READY.pop(mesh, None) or _worked_out(mesh)
