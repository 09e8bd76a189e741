"""Between a file's world and ours: unit, up axis and facing, applied at the roots of a skeleton.

Local axes below the roots stay the file's own, so that what is written later is what was read.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, TypeVar, cast

import numpy as np

from .. import rotations as rot
from ..errors import InputError
from ..keys.channel import Channel, Joint, Kind
from ..keys.keyed import KeyedClip

if TYPE_CHECKING:
    from ..clip import Clip
    from ..keys.channel import Channel
    from ..keys.sampler import Sampler
    from ..skeleton import Skeleton


AXIS_NAMES = ("+X", "-X", "+Y", "-Y", "+Z", "-Z")


def axis_vector(name: str) -> np.ndarray:
    """The unit vector ``(3,)`` of an axis name such as ``"Y"`` or ``"-Z"``; InputError for anything else."""
    text = name.strip().upper()
    text = text if text[:1] in "+-" else "+" + text
    if text not in AXIS_NAMES:
        raise InputError(f"'{name}' is not an axis; use one of X, Y, Z, -X, -Y or -Z.")
    return rot.AXES[text[1]] * (1.0 if text[0] == "+" else -1.0)


def axis_name(vector: np.ndarray) -> str:
    """The nearest axis of a direction ``(3,)``, such as ``"-Y"``."""
    vector = np.asarray(vector, float)
    axis = int(np.argmax(np.abs(vector)))
    return ("+" if vector[axis] > 0 else "-") + "XYZ"[axis]


def plain_forward(up: np.ndarray) -> np.ndarray:
    """The axis ``(3,)`` that becomes +Z where ``up``, an axis, becomes +Y by one quarter turn, or none."""
    if up[1] < -0.5:
        return -rot.AXES["Z"]  # by half a turn about X
    return axis_vector(axis_name(rot.rotate(rot.conjugate(rot.between(up, rot.AXES["Y"])), rot.AXES["Z"])))


@dataclass(frozen=True, eq=False)
class Placement:
    """``scale``: metres per file unit; ``turn (4,)``: the rotation from the file's world into ours."""

    scale: float = 1.0
    turn: np.ndarray = None  # type: ignore[assignment]  # filled in below

    def __post_init__(self) -> None:
        object.__setattr__(self, "turn", np.array(rot.IDENTITY if self.turn is None else self.turn, float))

    @classmethod
    def from_axes(cls, scale: float, up: np.ndarray, forward: np.ndarray) -> Placement:
        """The placement that brings ``up (3,)`` onto +Y and ``forward (3,)`` (square to it) onto +Z."""
        up = rot.normalise(up)
        forward = rot.normalise(forward - (np.asarray(forward) @ up) * up)
        return cls(float(scale), rot.from_matrix(np.stack([np.cross(up, forward), up, forward])))

    @property
    def inverse(self) -> Placement:
        return Placement(1 / self.scale, rot.conjugate(self.turn))


def place_skeleton(skeleton: Skeleton, placement: Placement) -> Skeleton:
    """The skeleton in our world: every offset scaled, each root turned."""
    roots = skeleton.parents < 0
    offsets, rest = skeleton.offsets * placement.scale, skeleton.rest.copy()
    offsets[roots] = rot.rotate(placement.turn, offsets[roots])
    rest[roots] = rot.multiply(placement.turn, rest[roots])
    scaled = skeleton.tips * placement.scale, skeleton.scales * placement.scale
    return replace(skeleton, offsets=offsets, rest=rest, tips=scaled[0], scales=scaled[1])


Motion = TypeVar("Motion", bound="Clip | KeyedClip")


def place_clip(clip: Motion, placement: Placement, skeleton: Skeleton | None = None) -> Motion:
    """The clip, dense or keyed, in our world. Pass the already placed ``skeleton`` to share it among clips."""
    skeleton = skeleton or place_skeleton(clip.skeleton, placement)
    if isinstance(clip, KeyedClip):
        return cast(Motion, _place_keys(clip, placement, skeleton))
    turns, moves = clip.rotations.copy(), clip.translations * placement.scale
    for root in np.flatnonzero(clip.skeleton.parents < 0):
        turns[:, root] = rot.multiply(placement.turn, turns[:, root])
    for i, joint in enumerate(clip.moving):
        if clip.skeleton.parents[joint] < 0:
            moves[:, i] = rot.rotate(placement.turn, moves[:, i])
    return cast(Motion, replace(clip, skeleton=skeleton, rotations=turns, translations=moves))


def _place_keys(clip: KeyedClip, placement: Placement, skeleton: Skeleton) -> KeyedClip:
    roots = clip.skeleton.parents < 0
    turn, scaled = rot.left_matrix(placement.turn), np.eye(3) * placement.scale
    place = rot.to_matrix(placement.turn) * placement.scale

    def change(channel: Channel, sampler: Sampler) -> Sampler:
        root = isinstance(channel.node, Joint) and roots[channel.node.number]
        if channel.kind is Kind.TRANSLATION:
            return sampler.moved(place if root else scaled)
        if channel.kind is Kind.ROTATION and root:
            return sampler.moved(turn)
        return sampler

    return clip.mapped(change, skeleton)
