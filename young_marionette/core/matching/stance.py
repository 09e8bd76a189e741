"""Stance: bring the target's reference pose onto the source's, limb by limb.

The target is turned, the source keeps its rest pose or the pose that was adopted for it. Parents come
before children. A limb gets the smallest turn that lines up its direction, and where elbow or knee are
bent on both sides a turn about the bone that lines up the planes that they bend in; a hand lines up its
palm; a foot that rests flat stays flat and only takes over where the toes point. Trunk, head and
collarbones keep the rig's own build, unless both skeletons turn out to be one body in two poses: then
every bone is fitted to all that hangs on it (least squares over the directions, Kabsch 1976).
"""

from __future__ import annotations

import itertools
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from .. import rotations as rot
from ..evaluator import EVALUATOR
from ..humanoid.parts import LEG, NEXT
from ..humanoid.words import FINGERS
from ..skeleton import pose_world
from .heading import stood_alike
from .own_body import body_pairs, is_same_body, tied_children

if TYPE_CHECKING:
    from ..skeleton import Skeleton
    from .tying import String


FLAT_WITHIN = np.radians(35)
BENT = np.radians(8)
_SHORT = 1e-6  # metres
_ALONG = np.cos(np.radians(60))  # between a forearm and the only finger that tells where its hand points


@dataclass(frozen=True, eq=False)
class Stance:
    """Local rotations of both reference poses: ``source (joints, 4)`` and ``target (joints, 4)``."""

    source: np.ndarray
    target: np.ndarray

    def __post_init__(self) -> None:
        for side in ("source", "target"):
            pose = getattr(self, side)
            if pose.flags.writeable:
                pose = np.array(pose, float)
                pose.flags.writeable = False
                object.__setattr__(self, side, pose)


@dataclass(frozen=True)
class Limb:
    """One limb bone in the stance: the angle (degrees) that is left between both sides."""

    part: str
    source: str
    target: str
    angle: float


def leg_scale(strings: tuple[String, ...], source: Skeleton, target: Skeleton) -> float:
    """Target leg length over source leg length (thigh and shin along the bones); 1 without legs."""
    # Asked for at each step of a drag.
    key = tuple(strings), source, target
    return EVALUATOR.of("leg scale", key, lambda: _leg_scale(*key))


def _leg_scale(strings: tuple[String, ...], source: Skeleton, target: Skeleton) -> float:
    lengths = []
    for skeleton, side in ((source, "source"), (target, "target")):
        points, total = skeleton.rest_world[0], 0.0
        firsts = {s.part: skeleton.index[getattr(s, side)[0]] for s in strings}
        for leg in ("left ", "right "):
            chain = [firsts.get(leg + part) for part in LEG]
            if None not in chain:
                total += float(sum(np.linalg.norm(points[b] - points[a]) for a, b in itertools.pairwise(chain)))
        lengths.append(total)
    return lengths[1] / lengths[0] if min(lengths) > 0 else 1.0


def same_body(strings: tuple[String, ...], source: Skeleton, target: Skeleton) -> bool:
    """Whether both skeletons have the same body, up to one common scale; see ``core.matching.own_body``."""
    key = tuple(strings), source, target
    return EVALUATOR.of("same body", key, lambda: is_same_body(*key, leg_scale(*key)))


def match(
    strings: tuple[String, ...], source: Skeleton, target: Skeleton, source_pose: np.ndarray | None = None
) -> Stance:
    """Match the stance automatically (a Stance). ``source_pose (joints, 4)`` replaces the source's rest.

    A source that faces elsewhere in it, or lies, is turned as a whole first (see ``stood_alike``).
    """
    source_pose = source.rest if source_pose is None else np.asarray(source_pose, float)
    source_pose = stood_alike(strings, source, target, source_pose)
    if same_body(strings, source, target):
        pairs = body_pairs(strings, source, target, leg_scale(strings, source, target))
        return Stance(source_pose, fitted_pose(source, target, pairs, source_pose))
    wanted = _limb_fits(strings, _Posed.of(source, source_pose), _Posed.of(target, target.rest))
    return Stance(source_pose, _posed(target, wanted))


def _posed(target: Skeleton, wanted: dict[int, Callable[..., Any]]) -> np.ndarray:
    """Local rotations ``(joints, 4)`` of joints turned as ``wanted`` says, parents first; others ride along."""
    # turned[j]: how far joint j has been turned in the world, away from the rest pose
    turned = np.tile(rot.IDENTITY, (len(target), 1))
    for joint, parent in enumerate(target.parents):
        over = turned[parent] if parent >= 0 else rot.IDENTITY
        turned[joint] = wanted[joint](over) if joint in wanted else over
    world = rot.multiply(turned, target.rest_world[1])
    above = np.where(target.parents[:, None] >= 0, world[target.parents], rot.IDENTITY)
    return rot.multiply(rot.conjugate(above), world)


def fitted_pose(source: Skeleton, target: Skeleton, pairs: dict[int, int], source_pose: np.ndarray) -> np.ndarray:
    """Local rotations ``(joints, 4)`` that point every bone of the target as ``source_pose`` points the source's.

    ``pairs``: ``{target joint: source joint}``.
    """
    source_points, _ = pose_world(source, source_pose)
    wanted = {
        t: _whole_fit(source_points, target.rest_world[0], pairs, t, below)
        for t, below in tied_children(target, pairs).items()
        if below
    }
    return _posed(target, wanted)


def _whole_fit(
    source_points: np.ndarray, target_points: np.ndarray, pairs: dict[int, int], joint: int, below: list[int]
) -> Callable[..., Any]:
    aims = np.array([source_points[pairs[c]] - source_points[pairs[joint]] for c in below])
    own = np.array([target_points[c] - target_points[joint] for c in below])

    def fit(over: np.ndarray) -> np.ndarray:
        return rot.multiply(rot.best_turn(rot.rotate(over, own), aims), over)

    return fit


@dataclass(frozen=True, eq=False)
class _Posed:
    """A skeleton in a reference pose: world ``points (joints, 3)`` and ``turns (joints, 4)``."""

    skeleton: Skeleton
    points: np.ndarray
    turns: np.ndarray

    @classmethod
    def of(cls, skeleton: Skeleton, pose: np.ndarray) -> _Posed:
        return cls(skeleton, *pose_world(skeleton, pose))

    def end(self, joint: int) -> np.ndarray:
        """Where the bone of a joint ends ``(3,)``: at its farthest child, else at its tip; NaN where nothing tells."""
        below = self.points[list(self.skeleton.children[joint])]
        if len(below):
            return below[int(np.argmax(np.linalg.norm(below - self.points[joint], axis=1)))]
        return self.points[joint] + rot.rotate(self.turns[joint], self.skeleton.tips[joint])


def _limb_fits(
    strings: tuple[String, ...],
    source: _Posed,
    target: _Posed,
) -> dict[int, Callable[..., Any]]:
    """``{target joint: function from the turn above it to its own turn}`` for limbs, hands, feet, fingers."""
    ties = {s.part: s for s in strings}
    fits = {}
    for side in ("left ", "right "):
        for part in NEXT:
            joints = _limb_aims(ties, source, target, side, part)
            if joints:
                lower = NEXT[part]
                below = _limb_aims(ties, source, target, side, lower) if lower in NEXT else None
                # A limb that is all but straight on one side tells nothing of the plane that it bends in.
                if below and _bent(joints[1], below[1]) and _bent(joints[2], below[2]):
                    fits[joints[0]] = _frame_fit((joints[2], below[2]), (joints[1], below[1]))
                else:
                    fits[joints[0]] = _aim(joints[2], joints[1])
        hand = _hand_frames(ties, source, target, side)
        if hand:
            fits[hand[0]] = _frame_fit(hand[2], hand[1])
        foot = _next_aims(ties, source, target, side + "foot", side + "toes")
        if foot:
            fits[foot[0]] = _sole(foot[2], foot[1])
        for finger in FINGERS:
            fits.update(_finger_fits(ties.get(side + finger), source, target))
    return fits


def _bent(a: np.ndarray, b: np.ndarray) -> bool:
    """Whether two directions differ by more than BENT."""
    return float(a @ b) < np.cos(BENT) * np.sqrt(float(a @ a) * float(b @ b))


def _next_aims(
    ties: dict[str, String],
    source: _Posed,
    target: _Posed,
    part: str,
    following: str,
) -> tuple[int, np.ndarray, np.ndarray] | None:
    """``(target joint, source direction, target direction)`` from one part to the next, or None."""
    a, b = ties.get(part), ties.get(following)
    if a is None or b is None:
        return None
    s0, s1, t0, t1 = (
        source.skeleton.index[a.source[0]],
        source.skeleton.index[b.source[0]],
        target.skeleton.index[a.target[0]],
        target.skeleton.index[b.target[0]],
    )
    return t0, source.points[s1] - source.points[s0], target.points[t1] - target.points[t0]


def _limb_aims(
    ties: dict[str, String],
    source: _Posed,
    target: _Posed,
    side: str,
    part: str,
) -> tuple[int, np.ndarray, np.ndarray] | None:
    return _next_aims(ties, source, target, side + part, side + NEXT[part]) or _end_aims(
        ties, source, target, side + part
    )


def _end_aims(
    ties: dict[str, String], source: _Posed, target: _Posed, part: str
) -> tuple[int, np.ndarray, np.ndarray] | None:
    """As ``_next_aims``, to where bones end, of the last part of a limb that ends there on one side or both."""
    tie = ties.get(part)
    if tie is None:
        return None
    runs = [[posed.skeleton.index[n] for n in names] for posed, names in ((source, tie.source), (target, tie.target))]
    bones = [posed.end(run[-1]) - posed.points[run[0]] for posed, run in zip((source, target), runs)]
    return (runs[1][0], *bones) if all(np.linalg.norm(b) > 1e-9 for b in bones) else None  # also none where one is NaN


def _hand_frames(
    ties: dict[str, String],
    source: _Posed,
    target: _Posed,
    side: str,
) -> tuple[int, np.ndarray, np.ndarray] | None:
    """Hand joint with ``(along, across)`` of the palm on both sides, from the knuckles of the fingers."""
    hand = ties.get(side + "hand")
    knuckles = [ties[side + f] for f in FINGERS[1:] if side + f in ties]
    if hand is None or not knuckles:
        return None
    s, t = source.skeleton.index[hand.source[0]], target.skeleton.index[hand.target[0]]
    a = np.array([source.points[source.skeleton.index[k.source[0]]] for k in knuckles])
    b = np.array([target.points[target.skeleton.index[k.target[0]]] for k in knuckles])
    first, second = (
        np.array([p.mean(0) - wrist, p[0] - p[-1]]) for p, wrist in ((a, source.points[s]), (b, target.points[t]))
    )
    if min(np.linalg.norm(first[0]), np.linalg.norm(second[0])) < _SHORT:
        return None
    if len(knuckles) == 1:
        # One finger, or what was read as one, may stick out like a thumb: then it says nothing of the hand.
        for posed, joint, frame in ((source, s, first), (target, t, second)):
            forearm = posed.points[joint] - posed.points[posed.skeleton.parents[joint]]
            if forearm @ frame[0] < _ALONG * np.linalg.norm(forearm) * np.linalg.norm(frame[0]):
                return None
    return t, first, second


def _finger_fits(tie: String | None, source: _Posed, target: _Posed) -> dict[int, Callable[..., Any]]:
    if tie is None or len(tie.source) != len(tie.target):
        return {}
    a, b = [source.skeleton.index[n] for n in tie.source], [target.skeleton.index[n] for n in tie.target]
    return {
        b[i]: _aim(target.points[b[i + 1]] - target.points[b[i]], source.points[a[i + 1]] - source.points[a[i]])
        for i in range(len(b) - 1)
    }


def _aim(own: np.ndarray, aim: np.ndarray) -> Callable[..., Any]:
    way = own.tolist()

    def fit(over: np.ndarray) -> np.ndarray:
        above = over.tolist()
        turn = rot.between(np.array(rot.rotate_one(above, way)), aim)
        return np.array(rot.product_one(turn.tolist(), above))

    return fit


def _frame_fit(own: Any, aim: Any) -> Callable[..., Any]:
    """Line up the first direction exactly, then the second as far as a turn about the first can."""

    def fit(over: np.ndarray) -> np.ndarray:
        turn = rot.multiply(rot.between(rot.rotate(over, own[0]), aim[0]), over)
        axis = rot.normalise(aim[0])
        a, b = (v - (v @ axis) * axis for v in (rot.rotate(turn, own[1]), aim[1]))
        if min(np.linalg.norm(a), np.linalg.norm(b)) < 1e-9:
            return turn
        return rot.multiply(rot.from_axis_angle(axis, np.arctan2(np.cross(a, b) @ axis, a @ b)), turn)

    return fit


def _sole(own: np.ndarray, aim: np.ndarray) -> Callable[..., Any]:
    """Feet: both flat (pitch nearly alike) turn about the vertical only; else the direction is lined up."""

    def pitch(v: np.ndarray) -> float:
        return np.arctan2(v[1], np.hypot(v[0], v[2]))

    if abs(pitch(own) - pitch(aim)) > FLAT_WITHIN:
        return _aim(own, aim)
    yaw = np.arctan2(aim[0], aim[2]) - np.arctan2(own[0], own[2])
    level = rot.from_axis_angle(rot.AXES["Y"], np.array(yaw))

    def fit(_over: np.ndarray) -> np.ndarray:
        return level

    return fit


def limbs_left(strings: tuple[String, ...], source: Skeleton, target: Skeleton, stance: Stance) -> list[Limb]:
    """The angle that is left per limb, hand and foot (list of Limb, degrees)."""
    ties = {s.part: s for s in strings}
    own, other = _Posed.of(source, stance.source), _Posed.of(target, stance.target)
    limbs = []

    def add(part: str, aims: tuple[int, np.ndarray, np.ndarray] | None) -> None:
        # A bone without length points nowhere.
        if aims is not None and min(np.linalg.norm(aims[1]), np.linalg.norm(aims[2])) > _SHORT:
            angle = float(np.degrees(rot.angle_between(aims[1], aims[2])))
            limbs.append(Limb(part, ties[part].source[0], target.names[aims[0]], angle))

    flat = np.array([1.0, 0.0, 1.0])
    for side in ("left ", "right "):
        for part in NEXT:
            add(side + part, _limb_aims(ties, own, other, side, part))
        hand = _hand_frames(ties, own, other, side)
        add(side + "hand", hand and (hand[0], hand[1][0], hand[2][0]))
        foot = _next_aims(ties, own, other, side + "foot", side + "toes")
        add(side + "foot", foot and (foot[0], foot[1] * flat, foot[2] * flat))
    return limbs
