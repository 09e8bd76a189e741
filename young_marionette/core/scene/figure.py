"""A figure for drawing: which bones it has, how thick they are, and the matrices of a pose's spindles."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..character.meshes import Character, joint_matrices, skinned
from ..scaling import factors_of_pose
from ..skeleton import Skeleton

if TYPE_CHECKING:
    from ..humanoid.reading import Body


_BESIDE = 0.005  # of the height: what is no part of the body hides none of it

PERFORMER, MARIONETTE, BAKED = "performer", "marionette", "baked"


@dataclass(frozen=True, eq=False)
class Bones:
    """Bones of a skeleton: ``start`` and ``end`` joints, or with ``end`` -1 a tip in the joint's axes.

    ``reach``: how high the figure can reach, in metres.
    """

    start: np.ndarray
    end: np.ndarray
    tips: np.ndarray
    radius: np.ndarray
    joint_radius: np.ndarray
    head: int
    reach: float = 0.0

    @cached_property
    def balls(self) -> np.ndarray:
        """The joints ``(n,)`` that are drawn."""
        return np.flatnonzero(self.joint_radius > 0)

    @cached_property
    def heads(self) -> np.ndarray:
        """Which of the bones is the head's tip (a mask)."""
        return (self.start == self.head) & (self.end < 0)

    @classmethod
    def of(cls, skeleton: Skeleton, body: Body | None, height: float) -> Bones:
        """The bones worth drawing of a figure ``height`` metres tall: not those without length, nor the
        ones that lead up from roots on the floor."""
        hidden = set(skeleton.ancestors(body.parts["hips"][0])) if body else set()
        trunk = {j for part in ("hips", "spine") for j in body.parts.get(part, ())} if body else set()
        beside = {j for joints in body.beside.values() for j in joints} if body else set()
        start, end, tips, radius = [], [], [], []
        thickness = _thickness(skeleton, body)
        for joint, parent in enumerate(skeleton.parents):
            length = np.linalg.norm(skeleton.offsets[joint])
            if parent >= 0 and parent not in hidden and length > 0.004 * height:
                start.append(parent)
                end.append(joint)
                tips.append(np.zeros(3))
                thick = min(thickness[parent], thickness[joint]) if joint in beside else thickness[parent]
                radius.append(min(thick * height, (0.42 if parent in trunk else 0.22) * length))
            tip = skeleton.tips[joint]
            if np.isfinite(tip[0]) and np.linalg.norm(tip) > 0.004 * height:
                start.append(joint)
                end.append(-1)
                tips.append(tip)
                radius.append(min(thickness[joint] * height, 0.3 * np.linalg.norm(tip)))
        head = body.parts["head"][0] if body and "head" in body.parts else -1
        balls = np.array([0.0 if j in hidden else t * height * 0.62 for j, t in enumerate(thickness)])
        return cls(
            np.array(start, int),
            np.array(end, int),
            np.array(tips).reshape(-1, 3),
            np.array(radius),
            balls,
            head,
            1.28 * height,
        )


def _thickness(skeleton: Skeleton, body: Body | None) -> np.ndarray:
    """Radius of the spindle from each joint, as a share of the figure's height."""
    shares = {
        "thigh": 0.034,
        "shin": 0.027,
        "foot": 0.022,
        "toes": 0.018,
        "upper arm": 0.025,
        "forearm": 0.021,
        "hand": 0.018,
        "spine": 0.044,
        "hips": 0.036,
        "neck": 0.02,
        "head": 0.05,
        "collarbone": 0.02,
    }
    result = np.full(len(skeleton), 0.018)
    for part, run in (body.parts if body else {}).items():
        plain = part.split(" ", 1)[1] if part.startswith(("left ", "right ")) else part
        for joint in run:
            result[joint] = shares.get(plain, 0.0085)
    for joints in (body.beside if body else {}).values():
        for joint in joints:
            result[joint] = min(result[joint], _BESIDE)
    return result


@dataclass(eq=False)
class Figure:
    """One figure on the stage, in one pose. ``chosen``: joints to point out. ``shift``: where it is put. ``ghost``: it is not there,
    such as another moment's; ``faint``: it is there, and seen through.

    ``character``: its body over ``skeleton``, or None; ``weights`` of its morphs; ``factors {joint: (3,)}``: how much its axes are scaled; ``size``: how much larger it is drawn; ``height``: its stature in metres.
    ``dress``: ``"body"``, ``"through"`` (the body seen through, over the bones) or ``"bones"``.
    """

    kind: str
    name: str
    bones: Bones
    positions: np.ndarray
    rotations: np.ndarray
    shift: np.ndarray = field(default_factory=lambda: np.zeros(3))
    chosen: tuple = ()
    hands: tuple = ()
    ghost: bool = False
    faint: bool = False
    character: Character | None = None
    skeleton: Skeleton | None = None
    weights: dict = field(default_factory=dict)
    factors: dict = field(default_factory=dict)
    size: float = 1.0
    height: float = 1.7
    dress: str = "bones"
    _segments: tuple | None = field(default=None, repr=False)

    @property
    def placed(self) -> np.ndarray:
        """Joint positions ``(joints, 3)`` where the figure stands on the stage, in metres."""
        return self.positions + self.shift

    @property
    def shows_body(self) -> bool:
        return self.character is not None and self.dress != "bones" and not self.ghost

    @property
    def shows_bones(self) -> bool:
        return not self.shows_body or self.dress == "through"

    @property
    def joint_matrices(self) -> np.ndarray:
        """``(joints, 4, 4)`` from the joints' axes to where the figure stands on the stage."""
        assert self.skeleton is not None  # of one with a body
        factors = factors_of_pose(self.skeleton, self.factors)
        matrices = joint_matrices(self.skeleton, self.placed, self.rotations, factors)
        matrices[:, :3, :3] *= self.size
        return matrices

    def skin(self) -> tuple[np.ndarray, np.ndarray]:
        """``(corners (t, 3, 3), joint of each triangle)``: the body's triangles on the stage, for picking."""
        assert self.character is not None  # of one with a body
        matrices, corners, joints = self.joint_matrices, [], []
        for mesh in self.character.meshes:
            places = skinned(mesh, matrices, self.weights)
            corners.append(places[mesh.triangles])
            lead = mesh.joints[np.arange(len(mesh.joints)), np.argmax(mesh.weights, 1)]
            joints.append(lead[mesh.triangles[:, 0]])
        return np.concatenate(corners), np.concatenate(joints)

    def segments(self) -> tuple[np.ndarray, np.ndarray]:
        """``(starts, ends)`` of all bones ``(bones, 3)``, in the world of the stage."""
        made_of = self.positions, self.rotations, self.shift, self.bones
        if self._segments is None or any(a is not b for a, b in zip(self._segments[0], made_of)):
            self._segments = made_of, self._worked_out()
        return self._segments[1]

    def _worked_out(self) -> tuple[np.ndarray, np.ndarray]:
        places, bones = self.placed, self.bones
        starts = places[bones.start]
        ends = places[bones.end]
        tips = bones.end < 0
        ends[tips] = starts[tips] + rot.rotate(self.rotations[bones.start[tips]], bones.tips[tips])
        return starts, ends

    @property
    def extent(self) -> np.ndarray:
        """Points ``(n, 3)`` that the figure reaches to, for framing."""
        starts, ends = self.segments()
        return np.concatenate([starts, ends]) if len(starts) else self.placed


def spindle_matrices(starts: np.ndarray, ends: np.ndarray, radius: np.ndarray) -> np.ndarray:
    """Matrices ``(n, 3, 4)`` that stretch a unit spindle (along +Y, radius 1) over each bone."""
    way = ends - starts
    x, y, z = way.T
    length = np.sqrt(x * x + y * y + z * z)
    long = length > 1e-9
    scale = np.divide(1.0, length, out=np.zeros_like(length), where=long)
    x, y, z = x * scale, np.where(long, y * scale, 1.0), z * scale
    # Across: square to the bone and to Z, or to X for bones along Z.
    steep = np.abs(z) >= 0.9
    flat = np.divide(1.0, np.sqrt(np.where(steep, y * y + z * z, x * x + y * y)))
    side = np.stack([np.where(steep, 0.0, y), np.where(steep, z, -x), np.where(steep, -y, 0.0)]) * flat
    front = np.stack([side[1] * z - side[2] * y, side[2] * x - side[0] * z, side[0] * y - side[1] * x])
    return np.stack([side.T * radius[:, None], way, front.T * radius[:, None], starts], -1)


def ball_matrices(centres: np.ndarray, radius: np.ndarray) -> np.ndarray:
    """Matrices ``(n, 3, 4)`` of balls."""
    matrices = np.zeros((len(centres), 3, 4))
    matrices[:, [0, 1, 2], [0, 1, 2]] = radius[:, None]
    matrices[:, :, 3] = centres
    return matrices
