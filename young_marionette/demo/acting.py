"""From plans to poses: balance over the feet, and limbs solved to hand and foot paths."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from scipy.ndimage import minimum_filter1d

from ..core import rotations as rot
from ..core.clip import Clip, from_rows
from ..core.kinematics import local_rotation_rows
from .steps import support
from .tracks import breath, late, smooth, wander

X, Y, Z = (rot.AXES[a] for a in "XYZ")


def turn(pitch=0.0, yaw=0.0, roll=0.0):
    """World rotations from pitch (bow forward), yaw (turn to the own left) and roll (lean to the own right), radians."""
    pitch, yaw, roll = np.broadcast_arrays(pitch, yaw, roll)
    return rot.multiply(
        rot.from_axis_angle(Y, yaw), rot.multiply(rot.from_axis_angle(X, pitch), rot.from_axis_angle(Z, roll))
    )


@dataclass(eq=False)
class Hand:
    """A hand's path: ``place (frames, 3)``; ``elbow``: where the elbow points; ``in_chest``: the path is
    given from the shoulder in the chest's axes, else in the world. ``palm``: turn of the hand about its length."""

    place: np.ndarray
    elbow: tuple = (0.25, -0.4, -1.0)
    in_chest: bool = False
    palm: float = 0.0


@dataclass(eq=False)
class Plan:
    """All that a performance needs: feet, hands, and angles (radians, ``(frames,)``) over the basic balance."""

    times: np.ndarray
    left_foot: object
    right_foot: object
    left_hand: Hand
    right_hand: Hand
    seed: int
    sink: np.ndarray = 0.0
    shift: np.ndarray = field(default_factory=lambda: np.zeros(3))
    hips: np.ndarray | None = None
    bow: np.ndarray = 0.0
    twist: np.ndarray = 0.0
    lean: np.ndarray = 0.0
    pelvis: np.ndarray = 0.0
    heading: np.ndarray = 0.0
    look_up: np.ndarray = 0.0
    look_left: np.ndarray = 0.0
    nod: np.ndarray = 0.0
    sway: float = 0.6
    curl: float = 0.35

    @property
    def rate(self):
        return 1 / (self.times[1] - self.times[0])


def free_hand(side, times, swing, out, bend, seconds_late=0.06):
    """A hand that hangs: swing forward and out to the side (radians), elbow bend; in the chest's axes."""
    sign = 1.0 if side == "left" else -1.0
    rate = 1 / (times[1] - times[0])
    swing, out, bend = (np.broadcast_to(np.asarray(v, float), times.shape) for v in (swing, out, bend))
    swing = late(swing[:, None], seconds_late, rate)[:, 0]
    bend = late(bend[:, None], seconds_late + 0.05, rate)[:, 0]
    upper = np.stack([sign * np.sin(out), -np.cos(out) * np.cos(swing), np.sin(swing) * np.cos(out)], -1)
    fore_swing = swing + bend
    fore = np.stack([sign * np.sin(out) * 0.6, -np.cos(fore_swing), np.sin(fore_swing)], -1)
    return Hand(upper * 0.5 + rot.normalise(fore) * 0.46, (sign * 0.35, 0.0, -1.0), True)


def perform(plan, figure, build):
    """The performance of a plan by a figure of ``demo.figures`` (a Clip in a T-pose skeleton's axes)."""
    rng = np.random.default_rng(plan.seed)
    rate, times = plan.rate, plan.times
    air = breath(times, rng)
    small = wander(rng, times, 0.010, 0.7)
    hips = _balance(plan, build, rng) if plan.hips is None else plan.hips + 0.4 * wander(rng, times, 0.006, 0.8)
    stride = _stride(plan)
    pelvis = turn(
        0.04 + plan.pelvis + 0.4 * np.asarray(plan.bow) + small[:, 0],
        plan.heading + 0.35 * plan.twist + stride,
        0.25 * np.asarray(plan.lean) + _drop(plan) + small[:, 1],
    )
    bow = late(np.broadcast_to(plan.bow, times.shape)[:, None], 0.05, rate)[:, 0]
    chest = turn(
        0.02 + bow + 0.012 * air + plan.pelvis * 0.3,
        plan.heading + plan.twist - 0.6 * stride,
        plan.lean - 0.6 * _drop(plan),
    )
    chest = rot.multiply(chest, rot.from_vector(wander(rng, times, 0.012, 0.9)))
    gaze = turn(
        0.35 * bow + plan.nod - plan.look_up,
        plan.heading + 0.5 * np.asarray(plan.twist) + plan.look_left,
        0.25 * np.asarray(plan.lean),
    )
    gaze = rot.multiply(_late_turn(gaze, 0.08, rate), rot.from_vector(wander(rng, times, 0.016, 1.1)))
    return _solve(plan, figure, build, hips, pelvis, chest, gaze, air, rng)


def _late_turn(q, seconds, rate):
    return rot.normalise(late(rot.continuous(q), seconds, rate))


def _stride(plan):
    """Yaw of the pelvis: the side of the foot in front goes forward."""
    heading = np.broadcast_to(plan.heading, plan.times.shape)
    ahead = (
        (plan.left_foot.ankle - plan.right_foot.ankle) * np.stack([np.sin(heading), 0 * heading, np.cos(heading)], -1)
    ).sum(-1)
    return -0.22 * smooth(np.clip(ahead, -0.5, 0.5), 0.06, plan.rate)


def _drop(plan):
    """Roll of the pelvis: it drops on the side whose foot is in the air."""
    return 0.07 * smooth(plan.left_foot.stands - plan.right_foot.stands, 0.08, plan.rate)


def _balance(plan, build, rng):
    """Hips over the feet: weight moves to the standing foot first; legs never reach further than they can."""
    left, right, rate = plan.left_foot, plan.right_foot, plan.rate
    share = support(left, right, rate)[:, None]
    middle = (left.ankle + right.ankle) / 2
    over = share * left.ankle + (1 - share) * right.ankle
    place = smooth(middle + plan.sway * (over - middle), 0.16, rate) + plan.shift
    place += wander(rng, plan.times, 0.004, 0.8)
    place[:, 2] += 0.02
    reach, limit = 0.992 * build.leg, np.full(len(place), np.inf)
    for foot, side in ((left, 1), (right, -1)):
        across = place + np.array([side * build.hips / 2, 0, 0]) - foot.ankle
        room = np.sqrt(np.maximum(reach**2 - across[:, 0] ** 2 - across[:, 2] ** 2, 0.05))
        limit = np.minimum(limit, np.where(foot.stands > 0, foot.ankle[:, 1] + room, np.inf))
    lowest = np.minimum(
        smooth(np.minimum(left.ankle, right.ankle)[:, 1:2], 0.25, rate)[:, 0] + 0.975 * build.leg,
        np.where(np.isfinite(limit), limit, 10),
    )
    window = max(3, int(0.12 * rate))
    place[:, 1] = smooth(minimum_filter1d(lowest, window), 0.05, rate) - plan.sink + 0.04 * (build.height - build.leg)
    return place


def _solve(plan, figure, build, hips, pelvis, chest, gaze, air, rng):
    index, frames = figure.index, len(plan.times)
    body = _Body(figure, hips, build)
    spine = [n for n in figure.names if n.startswith("spine")]
    necks = [n for n in figure.names if n.startswith("neck")]
    body.turns.update({"hips": pelvis, "head": gaze})
    body.turns.update({n: rot.slerp(pelvis, chest, np.full(frames, (i + 1) / len(spine))) for i, n in enumerate(spine)})
    body.turns.update(
        {n: rot.slerp(chest, gaze, np.full(frames, 0.45 * (i + 1) / len(necks))) for i, n in enumerate(necks)}
    )
    for side, sign, hand, foot in (
        ("left", 1.0, plan.left_hand, plan.left_foot),
        ("right", -1.0, plan.right_hand, plan.right_foot),
    ):
        body.arm(side, sign, hand, chest, air, wander(rng, plan.times, 0.005, 0.5), plan.curl)
        knee = rot.rotate(rot.slerp(pelvis, foot.turn, np.full(frames, 0.4)), Z + 0.08 * sign * X)
        body.limb([f"{side} {p}" for p in ("thigh", "shin", "foot")], X, foot.ankle, knee)
        body.turns[f"{side} foot"] = foot.turn
        body.turns[f"{side} toes"] = rot.multiply(foot.turn, rot.from_axis_angle(X, foot.toe))
    world = np.zeros((len(figure), 4, frames))
    for joint, name in enumerate(figure.names):
        parent = figure.parents[joint]
        world[joint] = (
            body.turns[name].T if name in body.turns else world[parent] if parent >= 0 else rot.IDENTITY[:, None]
        )
    moving, moves = [index["hips"]], hips[:, None]
    if "root" in index:
        ground = smooth(hips, 0.25, plan.rate) * np.array([1, 0, 1])
        moving, moves = [index["root"], *moving], np.stack([ground, hips - ground], 1)
    return Clip("clip", figure, plan.rate, from_rows(local_rotation_rows(figure, world)), moving, moves)


class _Body:
    """World turns of the joints that are solved so far, and paths of joints through them."""

    def __init__(self, figure, hips, build):
        self.figure, self.hips, self.reach, self.turns = figure, hips, build.arm, {}

    def at(self, name):
        """World path ``(frames, 3)`` of a joint whose parents are solved."""
        if name == "hips":
            return self.hips
        joint = self.figure.index[name]
        parent = self.figure.names[self.figure.parents[joint]]
        return self.at(parent) + rot.rotate(self.turns[parent], self.figure.offsets[joint])

    def arm(self, side, sign, hand, chest, air, wobble, curl):
        """Collarbone, arm, hand and fingers; the shoulder goes along when a hand reaches up or forward."""
        names = [f"{side} {p}" for p in ("upper arm", "forearm", "hand")]
        rest = rot.multiply(chest, rot.from_axis_angle(Z, sign * 0.015 * air))
        self.turns[f"{side} collarbone"] = rest
        target = (
            hand.place + wobble
            if not hand.in_chest
            else self.at(names[0]) + rot.rotate(chest, hand.place * self.reach + wobble)
        )
        aim = rot.rotate(rot.conjugate(chest), target - self.at(names[0])) / self.reach
        lift = rot.multiply(
            rot.from_axis_angle(Z, sign * 0.28 * np.clip(aim[:, 1], 0, 1)),
            rot.from_axis_angle(Y, -sign * 0.12 * np.clip(aim[:, 2], -0.5, 1)),
        )
        self.turns[f"{side} collarbone"] = rot.multiply(rest, lift)
        elbow = rot.rotate(chest, np.array([sign * hand.elbow[0], hand.elbow[1], hand.elbow[2]]))
        self.limb(names, -sign * Y, self._within_reach(names[0], target), elbow)
        self.turns[names[2]] = rot.multiply(self.turns[names[1]], rot.from_axis_angle(X, np.array(sign * hand.palm)))
        for finger, share in (("thumb", 0.5), ("index", 0.8), ("middle", 1.0), ("ring", 1.05), ("little", 1.1)):
            above = self.turns[names[2]]
            for i in range(3 if f"{side} {finger} 1" in self.figure.index else 0):
                bend = rot.from_axis_angle(Z, np.array(-sign * curl * share * (0.8, 1.0, 0.7)[i]))
                above = self.turns[f"{side} {finger} {i + 1}"] = rot.multiply(above, bend)

    def _within_reach(self, shoulder, target):
        """The target drawn in softly where it is too far, so that no elbow snaps straight (Kovar et al. 2002)."""
        start = self.at(shoulder)
        way = target - start
        far = np.linalg.norm(way, axis=-1, keepdims=True) / self.reach
        soft = np.where(far > 0.86, 0.86 + 0.12 * (1 - np.exp(-(far - 0.86) / 0.12)), far)
        return start + way * soft / np.maximum(far, 1e-9)

    def limb(self, names, hinge, target, middle):
        """Two-bone limb by the law of cosines; ``middle`` is where knee or elbow points, ``hinge`` its axis at rest."""
        start, own = self.at(names[0]), [self.figure.offsets[self.figure.index[n]] for n in names[1:]]
        upper, lower = np.linalg.norm(own, axis=1)
        reach = target - start
        length = np.clip(np.linalg.norm(reach, axis=-1), abs(upper - lower) + 1e-3, (upper + lower) * 0.9995)
        aim = rot.normalise(reach)
        normal = rot.normalise(np.cross(aim, rot.normalise(middle)))
        inside = np.arccos(np.clip((upper**2 + length**2 - lower**2) / (2 * upper * length), -1, 1))
        first = rot.rotate(rot.from_vector(normal * inside[:, None]), aim)
        second = rot.normalise(aim * length[:, None] - first * upper)
        for name, direction, bone in zip(names, (first, second), own):
            self.turns[name] = _frame(direction, -normal, rot.normalise(bone), hinge)


def _frame(direction, normal, own, hinge):
    """Rotations that take the bone's own direction and hinge axis onto the given ones."""

    def axes(d, h):
        h = rot.normalise(h - np.sum(h * d, -1, keepdims=True) * d)
        return np.stack([d, h, np.cross(d, h)], -1)

    rest_axes = axes(own[None], np.broadcast_to(hinge, own[None].shape))
    limb_axes = axes(direction, normal)
    return rot.from_matrix(limb_axes @ np.swapaxes(rest_axes, -1, -2))
