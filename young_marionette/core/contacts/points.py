"""The points of a body that touch things: heels, toes, hands, knees and the seat."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..evaluator import EVALUATOR
from ..kinematics import forward_rows

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from ..character.meshes import Character
    from ..clip import Clip
    from ..humanoid.reading import Body
    from ..skeleton import Skeleton

SIDES = ("left", "right")
FEET = tuple(f"{side} {end}" for side in SIDES for end in ("heel", "toe"))
HANDS = tuple(f"{side} hand" for side in SIDES)
POINTS = (*FEET, *HANDS, *(f"{side} knee" for side in SIDES), "seat")
# Shares of the stature, from bone to skin, where there is no skin (Drillis and Contini 1966, rounded).
_KNEE, _SEAT, _SOLE = 0.03, 0.06, 0.039
_HEEL_BEHIND = 0.35  # of the way from ankle to ball
_HEEL_BAND = 0.02  # of the stature: what counts as the sole's lowest skin


@dataclass(frozen=True, eq=False)
class ContactPoint:
    """``joint`` carries the point; ``offset (3,)``: from that joint, in its own axes (metres)."""

    name: str
    joint: int
    offset: np.ndarray


def contact_points(
    skeleton: Skeleton, body: Body | None, character: Character | None = None
) -> tuple[ContactPoint, ...]:
    """The points of a body that stands upright in our world at rest, in the order of POINTS; what it lacks is left out.

    Heels and toes are on the sole of the skin of ``character`` where that is bound to the feet, else below the ankle and
    the ball of the foot. A toe is the ball: what stays on the floor while the heel rises.
    """
    if body is None:
        return ()
    return EVALUATOR.of(
        "contact points", (skeleton, body, character), lambda: tuple(_points(skeleton, body, character))
    )


def _points(skeleton: Skeleton, body: Body, character: Character | None) -> Iterator[ContactPoint]:
    places, turns = skeleton.rest_world

    def fixed(name: str, joint: int, place: np.ndarray) -> ContactPoint:
        return ContactPoint(name, joint, rot.rotate(rot.conjugate(turns[joint]), place - places[joint]))

    for side in SIDES:
        if f"{side} foot" in body.parts:
            foot = body.parts[f"{side} foot"][0]
            heel, toe = _sole(skeleton, body, side, character)
            yield fixed(f"{side} heel", foot, heel)
            yield fixed(f"{side} toe", foot, toe)
    for side in SIDES:
        if f"{side} hand" in body.parts:
            hand = body.parts[f"{side} hand"][0]
            yield fixed(f"{side} hand", hand, _palm(skeleton, body, side, hand))
    for side in SIDES:
        if f"{side} shin" in body.parts:
            shin = body.parts[f"{side} shin"][0]
            yield fixed(f"{side} knee", shin, places[shin] + _KNEE * body.stature * body.forward)
    hips = body.parts["hips"][0]
    thighs = [body.parts[f"{side} thigh"][0] for side in SIDES if f"{side} thigh" in body.parts] or [hips]
    yield fixed("seat", hips, places[thighs].mean(0) - _SEAT * body.stature * body.up)


def _sole(skeleton: Skeleton, body: Body, side: str, character: Character | None) -> tuple[np.ndarray, np.ndarray]:
    """``(heel (3,), ball (3,))`` on the sole at rest, in the world."""
    places = skeleton.rest_world[0]
    foot = body.parts[f"{side} foot"][0]
    ankle, ball = places[foot], _ball(skeleton, body, side, foot)
    up = body.up
    ahead = (ball - ankle) - (ball - ankle) @ up * up
    if np.linalg.norm(ahead) < 0.02 * body.stature:  # nothing tells where the foot ends
        ahead = body.forward * 0.09 * body.stature
    skin = _skin_of(character, skeleton, foot)
    if skin is not None:
        height = skin @ up
        sole = skin[height < height.min() + _HEEL_BAND * body.stature]
        along = (sole - ankle) @ rot.normalise(ahead)
        level, back = float(height.min()), float(along.min())
    else:
        under = skeleton.subtree(foot)
        ends = skeleton.ends[under]
        known = np.concatenate([places[under[1:]], ends[np.isfinite(ends[:, 1])]]) @ up
        level = min(float(known.min()) if len(known) else np.inf, float(ankle @ up))
        if level > ankle @ up - 0.4 * _SOLE * body.stature:
            level = float(ankle @ up) - _SOLE * body.stature  # the ankle alone is never the sole
        back = -_HEEL_BEHIND * float(np.linalg.norm(ahead))
    heel = ankle + rot.normalise(ahead) * back
    toe = ankle + ahead
    return heel + (level - heel @ up) * up, toe + (level - toe @ up) * up


def _ball(skeleton: Skeleton, body: Body, side: str, foot: int) -> np.ndarray:
    places = skeleton.rest_world[0]
    if f"{side} toes" in body.parts:
        return places[body.parts[f"{side} toes"][0]]
    if skeleton.children[foot]:
        return places[skeleton.children[foot][0]]
    end = skeleton.ends[foot]
    return places[foot] + 0.75 * (end - places[foot]) if np.isfinite(end[1]) else places[foot]


def _skin_of(character: Character | None, skeleton: Skeleton, foot: int) -> np.ndarray | None:
    """Points ``(n, 3)`` of the skin that mostly follows a foot, in the rest pose; None where there is none."""
    if character is None:
        return None
    from ..character.meshes import joint_matrices, skinned

    matrices = joint_matrices(skeleton, *skeleton.rest_world)
    under = np.zeros(len(skeleton), bool)
    under[skeleton.subtree(foot)] = True
    points = []
    for mesh in character.at_level(0):
        share = (under[mesh.joints] * mesh.weights).sum(1)
        if (share > 0.6).any():
            points.append(skinned(mesh, matrices)[share > 0.6])
    return np.concatenate(points) if points else None


def _palm(skeleton: Skeleton, body: Body, side: str, hand: int) -> np.ndarray:
    """The middle of a hand at rest, in the world."""
    places = skeleton.rest_world[0]
    knuckles = [
        run[0] for part, run in body.parts.items() if part.startswith(f"{side} ") and run[0] in skeleton.children[hand]
    ]
    if knuckles:
        return (places[hand] + places[knuckles].mean(0)) / 2
    end = skeleton.ends[hand]
    if np.isfinite(end[0]):
        return (places[hand] + end) / 2
    return places[hand]


def point_rows(clip: Clip, points: Sequence[ContactPoint]) -> np.ndarray:
    """World positions ``(points, 3, frames)`` of contact points, in metres."""
    return points_of(points, *forward_rows(clip, sorted({p.joint for p in points})))


def points_of(points: Sequence[ContactPoint], places: np.ndarray, turns: np.ndarray) -> np.ndarray:
    """As ``point_rows``, of what ``forward_rows`` gives for at least their joints."""
    return np.stack([places[p.joint] + rot.rotate_rows(turns[p.joint], p.offset[:, None]) for p in points])
