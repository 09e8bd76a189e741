"""Passes over clips of controls: what is about a body is done to the bones that they drive, and carried back onto the controls."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..controls.motion import invert, solve
from ..evaluator import EVALUATOR

if TYPE_CHECKING:
    from collections.abc import Callable

    from ..clip import Clip
    from .keeping import Limbs


def bones_of(clip: Clip, limbs: Limbs) -> Clip:
    """The motion of the bones: of a clip of controls what those give, else the clip itself."""
    rig = limbs.rig
    if rig is None or clip.skeleton is rig.bones:
        return clip
    return EVALUATOR.of("bones under controls", (rig, clip), lambda: solve(rig, clip))


def through_bones(clip: Clip, limbs: Limbs, change: Callable[[Clip], Clip]) -> Clip:
    """A clip whose bones are changed; controls stay to the last bit on the frames where no bone was."""
    before = bones_of(clip, limbs)
    return onto_controls(clip, before, change(before), limbs)


def onto_controls(clip: Clip, before: Clip, after: Clip, limbs: Limbs) -> Clip:
    """A clip of controls, which gives the bones ``before``, as it gives ``after``: changed on the frames where those differ, if
    there are as many. Without controls, ``after``.
    """
    rig = limbs.rig
    if rig is None:
        return after
    if after is before:
        return clip
    if after.frames != before.frames:
        return invert(rig, after)
    moved = (after.rotations != before.rotations).any((1, 2)) | _moved(before, after)
    at = np.flatnonzero(moved)
    if not len(at):
        return clip
    part = invert(rig, after.picked(at), clip.picked(at))
    turns = clip.rotations.copy()
    old, new = turns[at], part.rotations
    turns[at] = np.where(np.sum(old * new, -1, keepdims=True) < 0, -new, new)
    moves = {}
    for joint in {*clip.moves, *part.moves}:
        rows = np.array(clip.move_of(joint))
        rows[at] = part.move_of(joint)
        moves[joint] = rows
    return replace(clip.with_moves(moves), rotations=rot.continuous(turns) if len(at) == clip.frames else turns)


def _moved(before: Clip, after: Clip) -> np.ndarray:
    """The frames ``(frames,)`` on which some joint has another position."""
    moved = np.zeros(before.frames, bool)
    for joint in {*before.moves, *after.moves}:
        moved |= (before.move_of(joint) != after.move_of(joint)).any(1)
    return moved
