"""Controls moved and turned by hand: what each kind of control lets a drag do, within its limits."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..kinematics import forward_rows
from ..transfer.limits import JointLimit, bone_axis, limited
from .sets import CURL, DIRECTION, ROLL, TURNED

if TYPE_CHECKING:
    from collections.abc import Sequence

    from ..clip import Clip
    from .rig import ControlRig
    from .sets import Control, ControlSet

_ROLLED = (ROLL, CURL)
_X = np.array([1.0, 0.0, 0.0])


@dataclass(frozen=True)
class Grip:
    """Takes hold of the controls of ``rig``, within the limits that the set ``controls`` gives them. Poses are Clips of one frame on
    ``rig.skeleton``.
    """

    rig: ControlRig
    controls: ControlSet

    def at(self, joint: int) -> Control | None:
        """The control that a joint of the controls' skeleton is of; None for what nobody takes hold of."""
        return next((one for one, j in self.rig.shown_of(self.controls) if j == joint), None)

    def moves(self, joint: int) -> bool:
        """Whether it can be dragged to another place, beside being turned."""
        control = self.at(joint)
        return control is not None and control.kind not in _ROLLED

    def turns(self, joint: int) -> bool:
        """Whether it can be turned: what only points somewhere can't."""
        control = self.at(joint)
        return control is not None and control.kind != DIRECTION

    def turned(self, pose: Clip, joint: int, vector: Sequence[float] | np.ndarray) -> Clip:
        """A pose with a control turned by a rotation vector in the world (radians). Rolls and curls turn about their own axis alone;
        where a limb points does not turn.
        """
        world = forward_rows(pose)[1][joint].T
        return self.turned_in_own_axes(pose, joint, rot.rotate(rot.conjugate(world), np.asarray(vector, float)))

    def turned_in_own_axes(self, pose: Clip, joint: int, vector: Sequence[float] | np.ndarray) -> Clip:
        """As ``turned``, by a rotation vector in the control's own axes."""
        control = self.at(joint)
        if control is None or control.kind == DIRECTION:
            return pose
        own = np.atleast_2d(np.asarray(vector, float))
        if control.kind in _ROLLED:
            own = own * _X
        local = np.array(pose.rotations)
        local[:, joint] = rot.multiply(local[:, joint], rot.from_vector(own))
        return self._limited(replace(pose, rotations=local), joint, control)

    def moved(self, pose: Clip, joint: int, shift: Sequence[float] | np.ndarray) -> Clip:
        """A pose with a control moved by ``shift (3,)`` (metres, world); one that is only turned swings its bone's end that way."""
        control = self.at(joint)
        if control is None or control.kind in _ROLLED:
            return pose
        skeleton = self.rig.skeleton
        parent = int(skeleton.parents[joint])
        turns = forward_rows(pose, [joint if control.kind == TURNED else parent])[1]
        if control.kind == TURNED:
            return self._swung(pose, joint, np.asarray(shift, float), turns)
        way = np.atleast_2d(np.asarray(shift, float))
        if parent >= 0:
            way = rot.rotate(rot.conjugate(turns[parent].T), way)
        moved = pose.move_of(joint) + way
        if control.reach is not None:
            away = moved - skeleton.offsets[joint]
            far = np.linalg.norm(away, axis=1, keepdims=True)
            moved = skeleton.offsets[joint] + away * np.minimum(1.0, control.reach / np.maximum(far, 1e-12))
        return pose.with_moves(pose.moves | {joint: moved})

    def _swung(self, pose: Clip, joint: int, shift: np.ndarray, turns: np.ndarray) -> Clip:
        """A turned control whose bone's end follows a shift."""
        skeleton = self.rig.skeleton
        children = list(skeleton.children[joint])
        own = skeleton.offsets[children].mean(0) if children else np.nan_to_num(skeleton.tips[joint])
        if np.linalg.norm(own) < 1e-6:
            return pose
        way = rot.rotate(turns[joint].T, own)[0]
        return self.turned(pose, joint, rot.to_vector(rot.between(way, way + shift)))

    def _limited(self, pose: Clip, joint: int, control: Control) -> Clip:
        if control.swing is None and control.twist is None:
            return pose
        rest = self.rig.skeleton.rest[joint]
        away = rot.multiply(rot.conjugate(rest), pose.rotations[:, joint])
        axis = _X if control.kind in _ROLLED else bone_axis(self.rig.skeleton, joint)
        local = np.array(pose.rotations)
        local[:, joint] = rot.multiply(
            rest, limited(away, axis, JointLimit(control.name, control.swing, control.twist))
        )
        return replace(pose, rotations=local)
