"""What a motion tells of a body: which joints bend and which only roll, and which way knees bend and the figure goes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..clip import as_rows
from ..kinematics import forward_rows

if TYPE_CHECKING:
    from ..clip import Clip
    from .tree import Tree

_FRAMES = 48  # that are looked at
_FEWEST = 6
_STILL = np.radians(3)  # where no joint bends more, nothing is told


@dataclass(frozen=True, eq=False)
class Moving:
    """A motion on some frames of a clip.

    ``bends (joints,)`` and ``rolls (joints,)``: how far (radians, root mean square) a joint turns its bone, and turns
    about it. ``ways (joints,)``: bends added up from the root. ``places (joints, 3, frames)``.
    """

    bends: np.ndarray
    rolls: np.ndarray
    ways: np.ndarray
    places: np.ndarray


def moving(tree: Tree, clip: Clip) -> Moving | None:
    """What moves in a clip (Moving) on the skeleton of ``tree``; None where too little does."""
    step = max(clip.frames // _FRAMES, 1)
    turns = np.moveaxis(as_rows(clip.rotations)[:, :, ::step], 1, 2)  # (joints, frames, 4)
    if turns.shape[1] < _FEWEST:
        return None
    turns = turns * np.where(np.sum(turns * turns[:, :1], -1, keepdims=True) < 0, -1.0, 1.0)
    usual = rot.normalise(turns.mean(1))[:, None]
    away = rot.to_vector(rot.multiply(rot.conjugate(usual), turns))
    bones = tree.skeleton.offsets[np.maximum(tree.next, 0)] * (tree.next >= 0)[:, None]
    long = np.linalg.norm(bones, axis=1, keepdims=True)
    bones = np.divide(bones, long, out=np.zeros_like(bones), where=long > 0)[:, None]
    along = np.sum(away * bones, -1, keepdims=True)
    rolls, bends = (np.sqrt(np.mean(np.sum(v * v, -1), axis=1)) for v in (along, away - along * bones))
    if bends.max(initial=0.0) < _STILL:
        return None
    ways = np.zeros(len(bends))
    for j, parent in enumerate(tree.skeleton.parents.tolist()):
        ways[j] = bends[j] + (ways[parent] if parent >= 0 else 0.0)
    return Moving(bends, rolls, ways, forward_rows(clip, step=step)[0])
