"""The segments of the body figure: a skeleton with the bone names of VRM 1.0, and what is usual of each segment.

Lengths are shares of the stature (Drillis and Contini 1966, as in Winter 2009, Biomechanics and Motor Control of Human
Movement, chapter 4; joint centres of the hips after Harrington 2007), rounded. In its rest pose, the T-pose, all axes of
all joints are those of the world: X to the figure's left, Y up, Z ahead.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from ..evaluator import EVALUATOR

SIDES = ("left", "right")
BALL, EULER = "ball", "euler"


@dataclass(frozen=True)
class Segment:
    """One joint of the figure and the bone that it turns.

    ``offset (3)``: of the joint from its parent, as shares of the stature, in a T-pose. ``free``: which components of it are
    the performer's own; ``spread``: how far they usually are from these shares (one standard deviation). ``tip``: where the bone
    ends. ``radius``: of the flesh around the bone; ``wide``: half the breadth that comes on top of it to both sides; ``start``:
    where the flesh begins, seen from the joint; ``taper``: by what share of ``radius`` it is thinner at the tip.
    ``order``: the turns that the joint's rotation is told in (about X, Y, Z); ``middle``, ``sigma``: usual angles in
    degrees and how far they usually are from them; ``low``, ``high``: the limits of a human body.
    """

    name: str
    parent: str | None
    offset: tuple[float, float, float]
    tip: tuple[float, float, float]
    free: str = ""
    spread: float = 0.012
    radius: float = 0.03
    wide: float = 0.0
    start: tuple[float, float, float] = (0, 0, 0)
    taper: float = 0.0
    kind: str = BALL
    order: str = "XYZ"
    middle: tuple[float, float, float] = (0, 0, 0)
    sigma: tuple[float, float, float] = (25, 25, 25)
    low: tuple[float, float, float] = (-180, -180, -180)
    high: tuple[float, float, float] = (180, 180, 180)


_TRUNK = (
    Segment("hips", None, (0, 0.53, 0), (0, 0.07, 0), radius=0.06, wide=0.045, start=(0, -0.01, 0)),
    Segment("spine", "hips", (0, 0.065, -0.005), (0, 0.075, 0), "yz", 0.02, 0.062, 0.035, sigma=(16, 14, 12)),
    Segment("chest", "spine", (0, 0.075, -0.012), (0, 0.155, 0), "yz", 0.025, 0.066, 0.045, sigma=(16, 14, 12)),
    Segment("neck", "chest", (0, 0.158, 0.0), (0, 0.055, 0.01), "yz", 0.02, 0.032, sigma=(18, 22, 15)),
    Segment("head", "neck", (0, 0.055, 0.012), (0, 0.13, 0), "yz", 0.02, 0.055, start=(0, 0.03, 0), sigma=(20, 28, 16)),
)
_LEFT = (
    Segment("Shoulder", "chest", (0.018, 0.125, 0.005), (0.085, 0, 0), "xyz", 0.012, 0.03, sigma=(8, 14, 14)),
    Segment(
        "UpperArm", "Shoulder", (0.088, 0.0, -0.01), (0.17, 0, 0), "x", 0.012, 0.028,
        middle=(0, -20, -50), sigma=(50, 60, 60),
    ),
    Segment(
        "LowerArm", "UpperArm", (0.17, 0, 0), (0.145, 0, 0), "x", 0.012, 0.024, taper=0.4,
        kind=EULER, order="YZX",
        middle=(-40, 0, 0), sigma=(70, 6, 55), low=(-155, -20, -110), high=(6, 20, 110),
    ),
    Segment(
        "Hand", "LowerArm", (0.145, 0, 0), (0.1, 0, 0), "x", 0.01, 0.018, 0.015, kind=EULER, order="ZYX",
        sigma=(35, 22, 25), low=(-90, -50, -80), high=(90, 50, 80),
    ),
    Segment(
        "UpperLeg", "hips", (0.052, -0.01, 0.0), (0, -0.245, 0), "xyz", 0.012, 0.044,
        middle=(-15, 0, 0), sigma=(50, 25, 25),
    ),
    Segment(
        "LowerLeg", "UpperLeg", (0, -0.245, 0), (0, -0.246, 0), "y", 0.012, 0.03, taper=0.45,
        kind=EULER, order="XZY",
        middle=(30, 0, 0), sigma=(60, 4, 8), low=(-8, -12, -35), high=(158, 12, 35),
    ),
    Segment(
        "Foot", "LowerLeg", (0, -0.246, 0), (0, -0.035, 0.08), "y", 0.012, 0.02, 0.01, (0, -0.02, -0.03),
        kind=EULER, order="XZY", sigma=(25, 14, 14), low=(-50, -35, -35), high=(65, 35, 35),
    ),
    Segment(
        "Toes", "Foot", (0, -0.03, 0.075), (0, -0.006, 0.04), "yz", 0.012, 0.012, 0.015, kind=EULER, order="XZY",
        sigma=(12, 2, 2), low=(-70, -5, -5), high=(30, 5, 5),
    ),
)  # fmt: skip


def _sided(segment: Segment, side: str) -> Segment:
    def own(name: str) -> str:
        return name if name in ("hips", "chest") else side + name

    if side == "left":
        flip, turn = np.ones(3), np.ones(3)
    else:
        # Mirrored at X: turns about Y and Z go the other way.
        flip, turn = np.array([-1, 1, 1]), np.array([1.0 if axis == "X" else -1.0 for axis in segment.order])
    ends = np.sort(np.stack([np.multiply(segment.low, turn), np.multiply(segment.high, turn)]), axis=0)
    return Segment(
        own(segment.name), own(segment.parent or ""), tuple(flip * segment.offset), tuple(flip * segment.tip),
        segment.free, segment.spread, segment.radius, segment.wide, segment.start, segment.taper, segment.kind, segment.order,
        tuple(turn * segment.middle), segment.sigma, tuple(ends[0]), tuple(ends[1]),
    )  # fmt: skip


SEGMENTS: tuple[Segment, ...] = (*_TRUNK, *(_sided(s, side) for side in SIDES for s in _LEFT))
STATURE = 1.72  # metres, where nothing tells it
_TRUNK_JOINTS = ("hips", "spine", "chest")


def mirrored(name: str) -> str:
    """The other side's segment; the same for those of the trunk."""
    for side, other in (SIDES, SIDES[::-1]):
        if name.startswith(side):
            return other + name.removeprefix(side)
    return name


class Structure:
    """Some segments as arrays; parents come before their children, and the first is the hips.

    ``parents (joints,)``, ``mirror (joints,)``: numbers of joints. ``chains``: for each joint its own number and those of all
    above it, nearest first. ``branches``: the joints of each limb and of the neck, apart from ``trunk``.
    """

    def __init__(self, segments: Sequence[Segment]) -> None:
        self.segments = tuple(segments)
        self.names = tuple(s.name for s in segments)
        self.index = {name: i for i, name in enumerate(self.names)}
        self.parents = np.array([self.index[s.parent] if s.parent else -1 for s in segments])
        self.mirror = np.array([self.index.get(mirrored(name), i) for i, name in enumerate(self.names)])
        self.chains = tuple(self._chain(joint) for joint in range(len(segments)))
        self.trunk = [self.index[name] for name in _TRUNK_JOINTS]
        tops = [j for j, parent in enumerate(self.parents) if parent in self.trunk and j not in self.trunk]
        self.branches = [[j for j in range(len(segments)) if top in self.chains[j]] for top in tops]
        self.shares = np.array([s.offset for s in segments])
        self.tip_shares = np.array([s.tip for s in segments])
        self.free = [(j, "xyz".index(axis)) for j, s in enumerate(segments) for axis in s.free]
        self.spread = np.array([segments[j].spread for j, _ in self.free])

    def __len__(self) -> int:
        return len(self.names)

    def next_joint(self, segment: int, left: bool | None = None) -> int:
        """The joint at the other end of a segment's bone, by which its markers are placed; itself where there is none.

        Of the hips it is the hip joint of the side that is asked for.
        """
        name = self.names[segment]
        if name == "hips":
            return segment if left is None else self.index["leftUpperLeg" if left else "rightUpperLeg"]
        wanted = {"chest": "neck"}.get(name)
        below = [j for j, parent in enumerate(self.parents) if parent == segment]
        return self.index[wanted] if wanted else below[0] if len(below) == 1 else segment

    def limb(self, segment: int) -> int:
        """Which limb a segment belongs to: 1 the left arm, 2 the left leg, negative on the right; 0 none."""
        name = self.names[segment]
        if name in ("leftShoulder", "rightShoulder") or not name.startswith(SIDES):
            return 0
        leg = any(self.names[j].endswith("UpperLeg") for j in self.chains[segment])
        return (2 if leg else 1) * (1 if name.startswith("left") else -1)

    def _chain(self, joint: int) -> tuple[int, ...]:
        chain = []
        while joint >= 0:
            chain.append(joint)
            joint = int(self.parents[joint])
        return tuple(chain)


BODY = Structure(SEGMENTS)


def _fingers(names: Iterable[str]) -> Iterator[Segment]:
    """Segments of fingers, by their VRM 1.0 names, with all that they hang on; the thumb leads ahead and down."""
    wanted = {name for name in names if _finger(name)}
    for side in SIDES:
        sign = 1.0 if side == "left" else -1.0
        for finger, ahead in _FINGERS.items():
            steps = _THUMB if finger == "Thumb" else _STEPS
            own = [n for n, step in enumerate(steps) if f"{side}{finger}{step}" in wanted]
            for n, step in enumerate(steps[: max(own, default=-1) + 1]):
                thumb = finger == "Thumb"
                above = f"{side}Hand" if n == 0 else f"{side}{finger}{steps[n - 1]}"
                long = (0.026, 0.016, 0.014)[n]
                way = np.array([0.75 * sign, -0.15, 0.65]) if thumb else np.array([sign, 0.0, 0.0])
                start = np.array([0.016 * sign, -0.005, 0.012] if thumb else [0.053 * sign, 0.0, ahead])
                offset = start if n == 0 else way * (0.026, 0.016)[n - 1]
                turns = np.array([1.0, 1.0]) if sign > 0 else np.array([-1.0, -1.0])
                low, high = np.sort(np.array([[-95, 20], [-30, 30]]) * turns[:, None], axis=1)
                yield Segment(
                    f"{side}{finger}{step}", above, tuple(offset), tuple(way * long), "", 0.006, 0.006, kind=EULER,
                    order="ZYX", middle=(-15 * sign, 0, 0), sigma=(40, 8, 8), low=(low[0], high[0], -20),
                    high=(low[1], high[1], 20),
                )  # fmt: skip


_STEPS, _THUMB = ("Proximal", "Intermediate", "Distal"), ("Metacarpal", "Proximal", "Distal")
_FINGERS = {"Thumb": 0.02, "Index": 0.018, "Middle": 0.004, "Ring": -0.008, "Little": -0.019}


def finger_segment(side: str, finger: str, step: int) -> str:
    """The bone of a finger by its VRM 1.0 name; ``step`` from 1 at the palm, those past the tip are the last."""
    steps = _THUMB if finger == "Thumb" else _STEPS
    return f"{side}{finger}{steps[min(step, len(steps)) - 1]}"


def _finger(name: str) -> bool:
    return any(f in name and name.startswith(SIDES) and name.endswith((*_STEPS, *_THUMB)) for f in _FINGERS)


def structure_with(names: Iterable[str | None]) -> Structure:
    """The figure's structure, with the fingers that ``names`` ask for (VRM 1.0 names; all others are passed over)."""
    extra = frozenset(name for name in names if name is not None and _finger(name))
    if not extra:
        return BODY
    return EVALUATOR.of("structure with fingers", (extra,), lambda: Structure((*SEGMENTS, *_fingers(extra))))
