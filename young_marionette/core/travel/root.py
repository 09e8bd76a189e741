"""Travel of a clip on a rig: where it starts, along which axes it stays in place, and what of it the root bone carries.

Whatever the root bone carries, all other joints stay where they are in the world.
"""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..clip import as_rows, from_rows
from .path import Path, path_of
from .settings import GROUND, LINE, TURN, X, Y, Z

if TYPE_CHECKING:
    from ..clip import Clip
    from .settings import Travel


def travelled(clip: Clip, hips: int, root: int | None, travel: Travel) -> Clip:
    """``clip``, which goes where it goes, as it is to travel; ``root``: the joint of the rig's root bone, if it has one."""
    clip = started(clip, hips, travel)
    if travel.in_place:
        away = path_of(clip, hips, travel.smooth).places - clip.skeleton.rest_world[0][hips][:, None]
        shift = np.stack(
            [-away[i] if part in travel.in_place else np.zeros(clip.frames) for i, part in enumerate((X, Y, Z))]
        )
        clip = moved(clip, shift)
    if root is None or (travel.root in (None, GROUND) and not travel.smooth):
        return clip  # as the transfer puts it
    return with_root(clip, hips, root, travel)


def started(clip: Clip, hips: int, travel: Travel) -> Clip:
    """``clip`` facing ahead in its first frame, and starting where it is to start."""
    if not (travel.start or travel.ahead):
        return clip
    first = path_of(clip.cut(0, 0), hips)
    spot = first.places[:, 0]
    if travel.ahead:
        clip = turned(clip, -float(first.headings[0]), spot)
    shift = -spot * ([1, 0, 0] if travel.start == LINE else [1, 0, 1])
    return moved(clip, shift[:, None]) if travel.start else clip


def moved(clip: Clip, shift: np.ndarray) -> Clip:
    """``clip`` with its roots moved by ``shift (3, frames)``, or ``(3, 1)``, metres in the world."""
    moves = _moves(clip)
    for root in map(int, np.flatnonzero(clip.skeleton.parents < 0)):
        moves[root] = moves.get(root, clip.skeleton.offsets[root][:, None]) + shift
    return _with_moves(clip, moves)


def turned(clip: Clip, angle: float, spot: np.ndarray) -> Clip:
    """``clip`` turned by ``angle`` (radians) about the vertical through ``spot (3,)``."""
    turn = rot.from_axis_angle(rot.AXES["Y"], np.array(angle))
    rows, moves = as_rows(clip.rotations).copy(), _moves(clip)
    for root in map(int, np.flatnonzero(clip.skeleton.parents < 0)):
        rot.product_rows(turn[:, None], rows[root].copy(), out=rows[root])
        away = moves.get(root, clip.skeleton.offsets[root][:, None]) - spot[:, None]
        moves[root] = rot.rotate_rows(turn[:, None], away) + spot[:, None]
    return replace(_with_moves(clip, moves), rotations=from_rows(rows))


def with_root(clip: Clip, hips: int, root: int, travel: Travel) -> Clip:
    """``clip`` with its root bone on the path of its hips, as far as it carries it, else where it rests."""
    return held_by(clip, root, *carried(clip, hips, root, travel))


def carried(clip: Clip, hips: int, root: int, travel: Travel) -> tuple[np.ndarray, np.ndarray]:
    """World places ``(3, frames)`` and rotations ``(4, frames)`` of a root bone that carries what ``travel`` says.

    Height is carried as what the hips are higher than at rest, so that the bone is on the floor where they stand upright.
    """
    parts = GROUND if travel.root is None else travel.root
    path: Path = path_of(clip, hips, travel.smooth)
    skeleton = clip.skeleton
    rest_place, rest_turn = skeleton.offsets[root], skeleton.rest[root]
    places = np.repeat(rest_place[:, None], clip.frames, 1)
    for axis, part in enumerate((X, Y, Z)):
        if part in parts:
            places[axis] = path.places[axis]
    if Y in parts:
        places[1] += rest_place[1] - skeleton.rest_world[0][hips][1]
    turns = np.repeat(rest_turn[:, None], clip.frames, 1)
    if TURN in parts:
        half = path.headings / 2
        none = np.zeros_like(half)
        turns = rot.product_rows(np.stack([none, np.sin(half), none, np.cos(half)]), turns)
    return places, turns


def held_by(clip: Clip, root: int, places: np.ndarray, turns: np.ndarray) -> Clip:
    """``clip`` with a bone that hangs on nothing at other world places and rotations; all that hangs on it stays in the world."""
    skeleton = clip.skeleton
    rows, moves = as_rows(clip.rotations).copy(), _moves(clip)
    old_place = moves.get(root, np.repeat(skeleton.offsets[root][:, None], clip.frames, 1))
    old_turn = rows[root].copy()
    back = turns * np.array([-1.0, -1, -1, 1])[:, None]
    same_turn = np.abs(turns - old_turn).max(initial=0) < 1e-15
    if same_turn and np.abs(places - old_place).max(initial=0) < 1e-15:
        return clip
    for child in skeleton.children[root]:
        own = moves.get(child, np.repeat(skeleton.offsets[child][:, None], clip.frames, 1))
        place = old_place + rot.rotate_rows(old_turn, own)
        if not same_turn:
            rows[child] = rot.product_rows(back, rot.product_rows(old_turn, rows[child]))
        moves[child] = rot.rotate_rows(back, place - places)
    moves[root], rows[root] = places, turns
    return replace(_with_moves(clip, moves), rotations=from_rows(rows))


def _moves(clip: Clip) -> dict[int, np.ndarray]:
    """``{joint: (3, frames)}`` of all joints that have places of their own."""
    rows = as_rows(clip.translations)
    return {int(joint): rows[i] for i, joint in enumerate(clip.moving)}


def _with_moves(clip: Clip, moves: dict[int, np.ndarray]) -> Clip:
    joints = sorted(moves)
    whole = [np.broadcast_to(moves[j], (3, clip.frames)) for j in joints]
    return replace(clip, moving=np.array(joints, int), translations=from_rows(np.stack(whole)))
