"""The controls of a rig as a puppet theatre's tackle: a crossbar over the head, rings round the trunk, toggles and tassels on strings at
hands and feet, beads on threads before elbows and knees. Lines and dots in the world, for whoever draws them.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from .. import rotations as rot
from ..controls.sets import BODY, CURL
from ..evaluator import EVALUATOR
from .camera import project
from .picking import NEAREST, away_from

if TYPE_CHECKING:
    from collections.abc import Collection, Iterable, Iterator

    from ..controls.rig import ControlRig, ReachingLimb
    from ..controls.sets import Control, ControlSet

_ROUND = 28  # corners of a ring
_TRUNK = {"hips": 0.105, "spine": 0.082, "neck and head": 0.05}  # rings, shares of the stature
_HEAD, _LIMB, _SMALL, _FINGER = 0.062, 0.034, 0.02, 0.011
_OVER_HEAD = 0.13  # of the stature: how far over the head the crossbar hangs
_STRING = 0.055
_ANGLES = np.linspace(0, 2 * np.pi, _ROUND + 1)
_CIRCLE = np.stack([np.cos(_ANGLES), np.sin(_ANGLES)], 1)
THREAD, LINE, DOT = range(3)  # kinds of what is drawn
_Lines = list[np.ndarray]
_Drawn = tuple[np.ndarray, list[Any], _Lines, _Lines]  # see _Maker.drawn


@dataclass(frozen=True, eq=False)
class Tackle:
    """A control as it is drawn. ``joint``: of the controls' skeleton; ``place (3,)``: what it is taken hold of at. ``lines``: each
    ``(n, 3)``, of its own; ``threads``: thin ones to what it moves; ``dots (m, 3)``.
    """

    name: str
    joint: int
    place: np.ndarray
    lines: tuple[np.ndarray, ...]
    threads: tuple[np.ndarray, ...]
    dots: np.ndarray
    colour: str


@dataclass(frozen=True, eq=False)
class Pose:
    """One moment: where the controls are ``(controls, 3)`` and how they are turned, likewise the bones ``(bones, 3)``, in the world."""

    places: np.ndarray
    turns: np.ndarray
    bones: np.ndarray
    bone_turns: np.ndarray


def tackle_of(
    rig: ControlRig,
    controls: ControlSet,
    pose: Pose,
    stature: float,
    hidden: Collection[str] = (),
    shift: np.ndarray | None = None,
) -> list[Tackle]:
    """What is drawn of those of ``controls``, which ``rig`` was made from, that are shown, those of the parts ``hidden`` left out; moved by ``shift (3,)``."""
    if shift is not None:
        pose = replace(pose, places=pose.places + shift, bones=pose.bones + shift)
    maker = _Maker(rig, pose, stature)
    made = [
        (control, joint, *maker.drawn(control, joint))
        for control, joint in rig.shown_of(controls)
        if control.shown and control.part not in hidden and not maker.is_idle(control)
    ]
    rings = maker.rings()
    return [
        Tackle(
            control.name,
            joint,
            place,
            tuple(rings[line] if isinstance(line, int) else line for line in lines),
            tuple(threads),
            np.array(dots).reshape(-1, 3),
            control.colour,
        )
        for control, joint, place, lines, threads, dots in made
    ]


@dataclass(frozen=True, eq=False)
class _Facts:
    """Of a rig, whatever its pose: the bone of each control, the way ``(3,)`` along each bone in its axes and how long it is, hips
    that legs hang on, and bones of the head with none above. Limbs by their controls: of the end's place, of where the middle
    points, of the roll; and ``inner`` controls, which only add a twist.
    """

    bone_of: dict[int, int]
    ways: np.ndarray
    lengths: np.ndarray
    hips: frozenset[int]
    tops: frozenset[int]
    limbs: dict[int, ReachingLimb]
    points: dict[int, ReachingLimb]
    rolls: dict[int, ReachingLimb]
    inner: frozenset[int]

    @staticmethod
    def of(rig: ControlRig) -> _Facts:
        bones = rig.bones
        children = [list(c) for c in bones.children]
        hips = frozenset(b for b, c in enumerate(children) if rig.placed[b] and len(c) > 2)
        ways = np.array(
            [bones.offsets[c].mean(0) if c else np.nan_to_num(bones.tips[b]) for b, c in enumerate(children)]
        )
        for bone in hips:  # legs hang down from hips as the spine goes up
            highest = max(children[bone], key=lambda c: float(bones.rest_world[0][c, 1]))
            ways[bone] = bones.offsets[highest]
        lengths = np.array([np.linalg.norm(bones.offsets[c[0]]) if c else 0.0 for c in children])
        head = {j for one, j in rig.shown if one.part == "neck and head"}
        tops = frozenset(b for b in range(len(bones)) if not head & {int(rig.driver[j]) for j in bones.subtree(b)[1:]})
        return _Facts(
            {int(c): b for b, c in enumerate(rig.driver) if c >= 0},
            ways,
            lengths,
            hips,
            tops,
            {limb.place: limb for limb in rig.limbs},
            {limb.points: limb for limb in rig.limbs},
            {limb.roll: limb for limb in rig.limbs if limb.roll is not None},
            frozenset(int(rig.driver[bone]) for limb in rig.limbs for bone in (limb.upper, limb.lower)),
        )


class _Maker:
    def __init__(self, rig: ControlRig, pose: Pose, stature: float) -> None:
        self.facts = EVALUATOR.of("tackle of a rig", (rig,), lambda: _Facts.of(rig))
        self.rig, self.pose, self.stature = rig, pose, stature
        self._along = _directions(pose, self.facts.ways)
        self._rings: list[tuple[np.ndarray, np.ndarray, float]] = []

    def is_idle(self, control: Control) -> bool:
        """Whether a control only adds a twist to a limb that follows its end."""
        return self.rig.joints[control.name] in self.facts.inner

    def drawn(self, control: Control, joint: int) -> _Drawn:
        """``(where it is taken hold of, lines, threads, dots)``; a line may be the number of one of ``rings``."""
        size = control.size * self.stature
        if control.kind == BODY:
            return self._crossbar(joint, size)
        if joint in self.facts.points:
            return self._bead(self.facts.points[joint], joint)
        if joint in self.facts.limbs:
            return self._on_string(self.facts.limbs[joint], joint, size, control.shape == "tassel")
        if joint in self.facts.rolls:
            return self._rocker(self.facts.rolls[joint].end, joint, size)
        if control.kind == CURL:
            hand = self.rig.bones.index[control.bone]
            return self._rocker(hand, joint, 0.7 * size, hand)
        return self._round(control, joint, size)

    def _crossbar(self, joint: int, size: float) -> _Drawn:
        bones, turn = self.pose.bones, self.pose.turns[joint]
        top = bones[:, 1].max() + _OVER_HEAD * self.stature
        low = bones[:, [0, 2]].min(0) + np.ptp(bones[:, [0, 2]], axis=0) / 2
        middle = np.array([low[0], top, low[1]])
        across, along, rise = rot.rotate(turn, np.array([[0.11, 0, 0], [0, 0, 0.085], [0, 0.012, 0]]) * size)
        bars = [
            np.array([middle + up - way, middle + up + way])
            for up, way in ((0 * rise, across), (rise, across), (rise, along))
        ]
        threads = [np.array([middle, bones[int(np.argmax(bones[:, 1]))]])]
        for limb in self.rig.limbs:
            if limb.name.endswith("arm"):
                end = middle + across * (1 if limb.name.startswith("left") else -1)
                threads.append(np.array([end, bones[limb.end]]))
        return middle, bars, threads, [middle - across, middle + across]

    def _bead(self, limb: ReachingLimb, joint: int) -> _Drawn:
        place, bend = self.pose.places[joint], self.pose.bones[limb.lower]
        way = place - bend
        long = float(np.linalg.norm(way))
        # Where the limb is out of the plane it points from, the bead is drawn before the joint all the same.
        place = bend + way * (min(long, 0.16 * self.stature) / max(long, 1e-9))
        return place, [], [np.array([bend, place])], [place]

    def _on_string(self, limb: ReachingLimb, joint: int, size: float, tassel: bool) -> _Drawn:
        start, turn = self.pose.places[joint], self.pose.turns[joint]
        if tassel:
            back, up = rot.rotate(turn, np.array([[0.0, 0.0, -1.0], [0.0, 1.0, 0.0]]))
            knob = start + size * (_STRING * back + 0.012 * up)
            lines = [
                np.array([knob, knob + size * (0.052 * back - 0.012 * up + side)])
                for side in rot.rotate(turn, np.array([[-0.017, 0, 0], [0, -0.012, 0], [0.017, 0, 0]]))
            ]
            collar = self._ring(knob, back, 0.011 * size)
            return knob, [*lines, collar], [np.array([start, knob])], [knob]
        elbow = self.pose.bones[limb.lower]
        out = rot.normalise(self.pose.bones[limb.end] - elbow)
        knob = start + size * (0.075 + _STRING) * out
        bar = 0.034 * size * rot.normalise(np.cross(out, rot.rotate(turn, np.array([0.0, 1.0, 0.0])) + [1e-6, 0, 0]))
        lines = [
            np.array([knob - bar, knob + bar]),
            np.array([knob - bar + 0.007 * size * out, knob + bar + 0.007 * size * out]),
        ]
        return knob, lines, [np.array([start, knob])], [knob - bar, knob + bar]

    def _rocker(self, bone: int, joint: int, size: float, hand: int | None = None) -> _Drawn:
        """An arc beside a foot's ball, or under the fingers."""
        turn = self.pose.turns[joint]
        start = self.pose.bones[bone]
        children = list(self.rig.bones.children[bone])
        ahead = self.pose.bones[children].mean(0) - start if children else rot.rotate(turn, np.array([0.0, 0.0, 0.1]))
        side = rot.normalise(rot.rotate(turn, np.array([1.0, 0.0, 0.0])))
        along = rot.normalise(ahead - (ahead @ side) * side)
        up = np.cross(along, side)
        if hand is not None:
            up = -np.abs(up[1]) * np.array([0, 1.0, 0]) + 1e-9
            up = rot.normalise(up - (up @ along) * along)
        else:
            up = up if up[1] > 0 else -up
        outward = side * (1 if start[0] >= self.pose.bones[:, 0].mean() else -1)
        middle = (
            start
            + ahead * (0.75 if hand is None else 0.6)
            + outward * (0.035 * size if hand is None else 0)
            + up * 0.03 * size
        )
        angles = np.radians(np.linspace(-60, 60, 11))[:, None]
        arc = middle + 0.032 * size * (np.sin(angles) * along - (np.cos(angles) - 0.6) * up)
        return middle, [arc], [], [arc[0], arc[-1]]

    def _round(self, control: Control, joint: int, size: float) -> _Drawn:
        """A ring round the bone, or a peg at a small one."""
        bone = self.facts.bone_of[joint]
        start, along = self.pose.bones[bone], self._along[bone]
        if control.part.endswith("fingers"):
            across = rot.normalise(np.cross(along, [0.3, 0.2, 0.9]))
            return start, [start + _FINGER * size * np.array([across, along, -across, -along, across])], [], []
        if control.kind == "placed" and control.part == "hips" and bone not in self.facts.hips:
            along = np.array([0.0, 1.0, 0.0])
            return start, [self._ring(start + [0, 0.004, 0], along, 0.14 * size)], [], []
        share = _TRUNK.get(control.part) or (_LIMB if float(self.facts.lengths[bone]) > 0.05 * self.stature else _SMALL)
        if control.shape == "ring" and control.part == "neck and head" and bone in self.facts.tops:
            return start, [self._ring(start + along * 0.09 * size, along, _HEAD * size)], [], []
        if control.part not in _TRUNK:
            start = start + along * 0.35 * float(self.facts.lengths[bone])
        rings = [self._ring(start, along, share * size)]
        if control.part == "hips" or control.name == "chest":
            rings.append(self._ring(start + along * 0.008 * size, along, share * size))
        return start, rings, [], []

    def _ring(self, middle: np.ndarray, along: np.ndarray, radius: float) -> int:
        """The number of another one of ``rings``."""
        self._rings.append((middle, along, radius))
        return len(self._rings) - 1

    def rings(self) -> np.ndarray:
        """All that were asked for, at once ``(rings, corners, 3)``."""
        if not self._rings:
            return np.zeros((0, len(_CIRCLE), 3))
        middles, along, radii = (np.array(part) for part in zip(*self._rings))
        x, y, z = along.T
        none, steep = np.zeros_like(x), np.abs(x) >= 0.8
        one = rot.normalise(np.where(steep[:, None], np.stack([y, -x, none], 1), np.stack([none, z, -y], 1)))
        corners = _CIRCLE @ np.stack([one, rot.cross(along, one)], 1)
        return np.asarray(middles[:, None] + radii[:, None, None] * corners)


def _directions(pose: Pose, ways: np.ndarray) -> np.ndarray:
    """The direction of each bone ``(bones, 3)``: to the mean of what hangs on it, else its tip; up where there is no way."""
    turned = rot.rotate(pose.bone_turns, ways)
    long = np.sqrt(np.sum(turned * turned, axis=1))[:, None]
    return np.where(long > 1e-9, turned / np.maximum(long, 1e-9), [0.0, 1.0, 0.0])


@dataclass(frozen=True, eq=False)
class Outline:
    """All that is drawn of some controls in one array ``points (n, 3)``, so that it is put onto a picture at once; ``parts``: of each
    line and dot the number of its control, its kind, and its first and last point.
    """

    parts: tuple[tuple[int, int, int, int], ...]
    points: np.ndarray

    @staticmethod
    def of(tackle: Iterable[Tackle]) -> Outline:
        """Of controls, in their order."""
        parts, points, count = [], [], 0
        for number, one in enumerate(tackle):
            for kind, some in ((THREAD, one.threads), (LINE, one.lines), (DOT, [dot[None] for dot in one.dots])):
                for line in some:
                    parts.append((number, kind, count, count + len(line)))
                    points.append(line)
                    count += len(line)
        return Outline(tuple(parts), np.concatenate(points) if points else np.zeros((0, 3)))

    def on(self, matrix: np.ndarray, width: int, height: int) -> Iterator[tuple[int, int, np.ndarray]]:
        """``(number, kind, places (n, 2) in pixels)`` of each line and dot before the eye; ``matrix (4, 4)``: projection times view."""
        if not self.parts:
            return
        places, depth = project(matrix, self.points, width, height)
        for number, kind, first, last in self.parts:
            if depth[first:last].min() > NEAREST:
                yield number, kind, places[first:last]


def picked_at(flat: Iterable[tuple[int, np.ndarray]], point: tuple[float, float], within: float) -> int | None:
    """Which control lies nearest to a ``point`` (pixels), within so many, or None. ``flat``: pairs of the number of one and a line or
    a dot of it on the picture ``(n, 2)``.
    """
    best, nearest = within, None
    at = np.array(point)
    for number, places in flat:
        # A dot is a line that ends where it begins.
        starts, ends = (places[:-1], places[1:]) if len(places) > 1 else (places, places)
        away = float(away_from(at, starts, ends).min())
        if away < best:
            best, nearest = away, number
    return nearest
