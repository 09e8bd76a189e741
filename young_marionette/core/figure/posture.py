"""How a body holds itself in a motion: which way is up there, and which frame may stand for a rest pose that is none."""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..humanoid.facing import nearest_axis
from ..humanoid.parts import PERSON, SIDES
from ..humanoid.reading import Body, read_shape
from ..kinematics import forward_rows

if TYPE_CHECKING:
    from ..clip import Clip
    from ..skeleton import Skeleton

_FRAMES = 240  # of a motion that are looked at, at most
_STRAIGHT = 0.7  # cosine between trunk and legs of a figure that stands
_NEARLY_ALWAYS, _MOSTLY = 0.9, 0.6
_FOLDED = -0.3  # cosine between trunk and legs from which on a rest pose is none that a person takes
_FEWEST = 3
_ON_THE_FLOOR = 0.05  # of a leg's length


@dataclass(frozen=True, eq=False)
class Upright:
    """Which way a motion stands. ``axis (3,)``: in the file's world; ``share``: of its frames that stand along it."""

    axis: np.ndarray
    share: float


def _marks(body: Body) -> tuple[list[int], list[int], int] | None:
    """``(tops of the legs, feet, top of the trunk)``; None where a body lacks any of them."""
    parts = body.parts
    tops = [parts[f"{s} thigh"][0] for s in SIDES if f"{s} thigh" in parts]
    feet = [parts[f"{s} foot"][0] for s in SIDES if f"{s} foot" in parts]
    top = next((parts[p][0] for p in ("head", "neck") if p in parts), None)
    top = parts["spine"][-1] if top is None and "spine" in parts else top
    return (tops, feet, top) if tops and feet and top is not None else None


def _lines(body: Body, points: np.ndarray) -> tuple[np.ndarray, np.ndarray] | None:
    """Unit directions ``(3, frames)`` from the hips to the top of the trunk, and from the feet to the hips."""
    marks = _marks(body)
    if marks is None:
        return None
    tops, feet, top = marks
    hips = points[tops].mean(0)
    lines = points[top] - hips, hips - points[feet].mean(0)
    return tuple(v / np.maximum(np.linalg.norm(v, axis=0), 1e-12) for v in lines)  # type: ignore[return-value]


def is_folded(skeleton: Skeleton, body: Body) -> bool:
    """Whether the legs lie along the trunk at rest: all bones run along one axis, and the motion alone shows the pose."""
    if body.kind != PERSON:
        return False
    lines = _lines(body, skeleton.rest_world[0][:, :, None])
    return lines is not None and float(lines[0][:, 0] @ lines[1][:, 0]) < _FOLDED


def sampled(clip: Clip) -> np.ndarray:
    """Numbers of the frames of a clip that are looked at."""
    return np.unique(np.linspace(0, clip.frames - 1, min(clip.frames, _FRAMES)).astype(int))


def upright(clip: Clip, body: Body) -> Upright | None:
    """Which way a motion stands (Upright), in the clip's own world; None where it tells no one way.

    A frame stands where trunk and legs are in one line, which tells standing and walking from sitting and crawling.
    """
    if body.kind != PERSON or clip.frames < _FEWEST or _marks(body) is None:
        return None
    places, _ = forward_rows(clip.picked(sampled(clip)))
    lines = _lines(body, places)
    assert lines is not None  # see _marks
    trunk, legs = lines
    stands = np.einsum("cf,cf->f", trunk, legs) > _STRAIGHT
    if stands.mean() < _MOSTLY:
        return None
    axis = nearest_axis((trunk + legs)[:, stands].mean(1))
    share = float(np.mean(stands & (axis @ trunk > _STRAIGHT) & (axis @ legs > _STRAIGHT)))
    return Upright(axis, share) if share >= _MOSTLY else None


def motion_wins(clip: Clip, body: Body, rest_up: np.ndarray, stands: Upright) -> bool:
    """Whether a motion is believed that stands along another axis than the rest pose.

    Somebody who lies all the time moves along what the rest calls the floor; somebody who stands, away from it.
    """
    if stands.share < _NEARLY_ALWAYS:
        return False
    marks = _marks(body)
    assert marks is not None  # see upright
    tops, _, _ = marks
    places, _ = forward_rows(clip.picked(sampled(clip)))
    hips = places[tops].mean(0)
    along, across = (float(np.ptp(axis @ hips)) for axis in (stands.axis, rest_up))
    leg = max(body.stature / 2, 1e-9)
    if max(along, across) > 0.3 * leg and abs(along - across) > 0.15 * leg:
        return across > along
    # Somebody who stays where he is: the floor is at height zero as a rule, under the feet or under the back.
    low = [float(np.min(np.einsum("c,jcf->jf", axis, places), axis=0).mean()) for axis in (stands.axis, rest_up)]
    return abs(low[0]) < 2 * _ON_THE_FLOOR * leg or abs(low[1]) > _ON_THE_FLOOR * leg


def pose_for_rest(skeleton: Skeleton, clip: Clip, prefix: str | None = None) -> int | None:
    """The frame of a clip that shows a body's build best, for a skeleton whose rest pose does not; None where none does.

    Legs and arms are straight there, and the trunk is in line with the legs.
    """
    from dataclasses import replace

    frames = sampled(clip)
    places, _ = forward_rows(clip.picked(frames))
    spread = np.linalg.norm(places - places.mean(0), axis=1).max(0)
    tries = dict.fromkeys([0, int(frames[int(np.argmax(spread))]), int(frames[len(frames) // 2])])
    bodies = [read_shape(replace(skeleton, rest=clip.rotations[frame]), prefix, clip) for frame in tries]
    read = [b for b in bodies if isinstance(b, Body) and b.kind == PERSON and _marks(b) is not None]
    if not read:
        return None
    body = max(read, key=lambda b: float(np.mean(list(b.certainty.values()))))
    lines = _lines(body, places)
    assert lines is not None  # see above
    score = np.einsum("cf,cf->f", *lines)
    for side in SIDES:
        for limb, weight in ((("thigh", "shin", "foot"), 1.0), (("upper arm", "forearm", "hand"), 0.5)):
            joints = [body.parts[f"{side} {part}"][0] for part in limb if f"{side} {part}" in body.parts]
            if len(joints) == 3:
                first, second = (rot.normalise((places[b] - places[a]).T) for a, b in itertools.pairwise(joints))
                score = score + weight * np.einsum("fc,fc->f", first, second)
    return int(frames[int(np.argmax(score))])
