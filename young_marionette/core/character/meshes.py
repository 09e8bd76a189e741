"""Bodies over skeletons: meshes with skins and morphs, their materials, and where a pose puts their vertices."""

from __future__ import annotations

import re
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot

if TYPE_CHECKING:
    from ..figure.placement import Placement
    from ..skeleton import Skeleton


_LEVEL = re.compile(r"(?:^|[_\-. ])lod[_\-. ]?(\d+)$", re.I)


def level_in(*names: str) -> int:
    """The level of detail that a name tells, such as ``coat_LOD2``; 0 where none of the names tells one."""
    return next((int(match.group(1)) for match in map(_LEVEL.search, names) if match), 0)


@dataclass(frozen=True, eq=False)
class Morph:
    """A shape that a mesh can be blended towards: ``points (v, 3)`` are added to the mesh's, times its weight.

    ``normals (v, 3)``: the same for normals; None where they are not told.
    """

    name: str
    points: np.ndarray
    normals: np.ndarray | None = None


@dataclass(frozen=True, eq=False)
class Material:
    """``colour``: red, green, blue and opacity, linear, 0 to 1. ``texture``: an image file's bytes, or None."""

    name: str = ""
    colour: tuple[float, float, float, float] = (0.8, 0.8, 0.8, 1.0)
    texture: bytes | None = None
    double_sided: bool = False


@dataclass(frozen=True, eq=False)
class Mesh:
    """Triangles of one material, bound to joints.

    ``points (v, 3)``, ``normals (v, 3)``, ``texcoords (v, 2)`` or None, from the upper left. ``triangles (t, 3)``.
    ``joints (v, k)`` and ``weights (v, k)``: which joints carry a vertex, how much each. ``binds (joints, 4, 4)``:
    takes a point into a joint's own axes (the inverse of the bind pose). ``material`` counts in the character's
    list. ``level``: of detail, 0 is the finest.
    """

    name: str
    points: np.ndarray
    normals: np.ndarray
    triangles: np.ndarray
    joints: np.ndarray
    weights: np.ndarray
    binds: np.ndarray
    texcoords: np.ndarray | None = None
    material: int = 0
    morphs: tuple[Morph, ...] = ()
    level: int = 0


@dataclass(frozen=True, eq=False)
class Character:
    """All meshes over one skeleton."""

    meshes: tuple[Mesh, ...]
    materials: tuple[Material, ...] = field(default_factory=lambda: (Material(),))

    @property
    def levels(self) -> tuple[int, ...]:
        """The levels of detail that there are, finest first."""
        return tuple(sorted({m.level for m in self.meshes}))

    def at_level(self, level: int) -> tuple[Mesh, ...]:
        """The meshes of one level of detail."""
        return tuple(m for m in self.meshes if m.level == level)

    @property
    def morphs(self) -> tuple[str, ...]:
        """Names of all morphs, each once."""
        return tuple(dict.fromkeys(morph.name for mesh in self.meshes for morph in mesh.morphs))


def strongest(mesh: Mesh, count: int = 4) -> tuple[np.ndarray, np.ndarray]:
    """``(joints (v, count), weights (v, count))``: what carries each vertex most, strongest first; weights sum to one.

    A place without weight names joint 0.
    """
    joints, weights = mesh.joints, mesh.weights
    if weights.shape[1] > count or (weights[:, :-1] < weights[:, 1:]).any():
        order = np.argsort(-weights, axis=1, kind="stable")[:, :count]
        joints, weights = np.take_along_axis(joints, order, 1), np.take_along_axis(weights, order, 1)
    spare = ((0, 0), (0, count - weights.shape[1]))
    joints, weights = np.pad(joints, spare), np.pad(weights, spare)
    total = weights.sum(1, keepdims=True)
    weights = np.where(total > 1e-9, weights / np.maximum(total, 1e-12), np.eye(1, count))
    return np.where(weights > 0, joints, 0), weights


def smooth_normals(points: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """Normals ``(v, 3)`` that are the mean of the faces around each vertex, by their size."""
    corners = points[triangles]
    faces = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normals = np.zeros((len(points), 3), np.float32)
    for axis in range(3):
        for corner in range(3):
            normals[:, axis] += np.bincount(triangles[:, corner], faces[:, axis], len(points))
    return normals / np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-12)


def joint_matrices(
    skeleton: Skeleton, positions: np.ndarray, rotations: np.ndarray, factors: np.ndarray | None = None
) -> np.ndarray:
    """``(joints, 4, 4)`` from joints' axes, scale included, to the world, in one pose.

    ``factors (joints, 3)``: how much larger than at rest the axes are (see scaling.factors_of_pose).
    """
    matrices = np.zeros((len(skeleton), 4, 4))
    scales = skeleton.scales if factors is None else skeleton.scales * factors
    matrices[:, :3, :3] = rot.to_matrix(rotations) * scales[:, None, :]
    matrices[:, :3, 3] = positions
    matrices[:, 3, 3] = 1
    return matrices


def skinned(mesh: Mesh, matrices: np.ndarray, weights: dict[str, float] | None = None) -> np.ndarray:
    """World places ``(v, 3)`` of a mesh's vertices: linear blending of ``matrices`` (see joint_matrices).

    ``weights``: ``{morph name: weight}``, added before the skin bends the mesh.
    """
    points = mesh.points
    for morph in mesh.morphs:
        if weights and weights.get(morph.name):
            points = points + morph.points * weights[morph.name]
    full = matrices @ mesh.binds
    blended = np.einsum("vk,vkij->vij", mesh.weights, full[mesh.joints])
    return np.einsum("vij,vj->vi", blended[:, :3, :3], points) + blended[:, :3, 3]


def inverted(matrix: np.ndarray) -> np.ndarray:
    """The inverse of a matrix ``(4, 4)``, or what comes nearest to one where it has none."""
    try:
        return np.linalg.inv(matrix)
    except np.linalg.LinAlgError:
        return np.linalg.pinv(matrix)


def bind_pose(skeleton: Skeleton, meshes: tuple[Mesh, ...]) -> tuple[np.ndarray, np.ndarray]:
    """Local rotations ``(joints, 4)`` of the pose that the skin was bound in, and which joints are bound (a mask).

    Joints that no skin lists keep their rest, and so does the first one that is bound: in which space a body was
    bound is the file's own affair, the pose is what the joints below make of it.
    """
    world, bound = np.array(skeleton.rest_world[1]), np.zeros(len(skeleton), bool)
    for mesh in meshes:
        used = np.unique(mesh.joints[mesh.weights > 0])
        for joint in used[~bound[used]]:
            basis = inverted(mesh.binds[joint])[:3, :3]
            if np.linalg.det(basis) < 0:
                basis = basis * np.sign(skeleton.scales[joint])
            u, _, v = np.linalg.svd(basis)
            turn = u @ np.diag([1, 1, np.linalg.det(u @ v)]) @ v
            world[joint], bound[joint] = rot.from_matrix(turn), True
    if bound.any():
        first = int(np.argmax(bound))
        back = rot.multiply(skeleton.rest_world[1][first], rot.conjugate(world[first]))
        world[bound] = rot.multiply(back, world[bound])
    local = np.array(skeleton.rest)
    for joint, parent in enumerate(skeleton.parents):
        if parent >= 0 and not bound[joint]:
            world[joint] = rot.multiply(world[parent], skeleton.rest[joint])
        above = world[parent] if parent >= 0 else rot.IDENTITY
        local[joint] = rot.multiply(rot.conjugate(above), world[joint])
    return local, bound


def skin_reach(character: Character) -> np.ndarray:
    """How far the skin that mostly rides on each joint is from it ``(joints,)``, in the unit of its vertices; 0 without any."""
    reach = np.zeros(len(character.meshes[0].binds) if character.meshes else 0)
    for mesh in character.meshes:
        rows = np.arange(len(mesh.points))
        joints = mesh.joints[rows, np.argmax(mesh.weights, axis=1)]
        binds = mesh.binds[joints]
        local = np.einsum("vij,vj->vi", binds[:, :3, :3], mesh.points) + binds[:, :3, 3]
        # Joints may be scaled: as long as in the mesh.
        size = np.cbrt(np.maximum(np.abs(np.linalg.det(mesh.binds[:, :3, :3])), 1e-30))[joints]
        np.maximum.at(reach, joints, np.linalg.norm(local, axis=1) / size)
    return reach


def placed_character(character: Character, placement: Placement) -> Character:
    """The character where ``placement`` (see core.figure.placement) brings its skeleton: vertices in our world."""
    turn = rot.to_matrix(placement.turn)
    back = np.eye(4)
    back[:3, :3] = turn.T / placement.scale

    def mesh(m: Mesh) -> Mesh:
        points = (m.points @ turn.T * placement.scale).astype(np.float32)
        return replace(
            m, points=points, normals=turned(m.normals), binds=m.binds @ back, morphs=tuple(map(morph, m.morphs))
        )

    def morph(m: Morph) -> Morph:
        points = (m.points @ turn.T * placement.scale).astype(np.float32)
        return replace(m, points=points, normals=None if m.normals is None else turned(m.normals))

    def turned(normals: np.ndarray) -> np.ndarray:
        return normals @ turn.T.astype(np.float32)

    return replace(character, meshes=tuple(map(mesh, character.meshes)))
