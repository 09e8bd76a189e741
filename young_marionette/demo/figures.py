"""Bodies of the show: a figure's proportions become a skeleton in a T-pose, facing +Z, in metres."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..core.skeleton import Skeleton

SIDES = (("left", 1.0), ("right", -1.0))
FINGERS = {
    "thumb": (-0.35, 0.55, 0.034),
    "index": (0.92, 0.32, 0.030),
    "middle": (1.0, 0.05, 0.033),
    "ring": (0.95, -0.2, 0.030),
    "little": (0.85, -0.42, 0.024),
}


@dataclass(frozen=True)
class Build:
    """Proportions (metres) and which optional bones a figure has."""

    height: float = 1.76
    leg: float = 0.86  # hip joint to ankle
    arm: float = 0.56  # shoulder to wrist
    shoulders: float = 0.36  # between the shoulder joints
    hips: float = 0.19  # between the hip joints
    ankle: float = 0.085
    foot: float = 0.15  # ankle to the ball of the foot, level
    head: float = 0.23
    spine: int = 3
    neck: int = 1
    fingers: bool = False
    twist: bool = False
    root: bool = False
    collarbones: bool = True


class _Maker:
    def __init__(self):
        self.names, self.parents, self.points, self.tips = [], [], [], []

    def add(self, name, parent, point, tip=None):
        self.names.append(name)
        self.parents.append(-1 if parent is None else self.names.index(parent))
        self.points.append(np.array(point, float))
        self.tips.append(np.full(3, np.nan) if tip is None else np.array(tip, float))
        return name

    def skeleton(self):
        points = np.array(self.points)
        offsets = np.array([p - points[q] if q >= 0 else p for p, q in zip(points, self.parents)])
        return Skeleton(tuple(self.names), np.array(self.parents), offsets, tips=np.array(self.tips))


def make_figure(build):
    """The skeleton of a build, its joints named by body part (``"left forearm"``, ``"spine 2"``)."""
    m = _Maker()
    hip_height = build.leg + build.ankle
    over = build.height - hip_height
    neck_base = hip_height + 0.06 * over + (over - build.head) * 0.84
    head_base = build.height - build.head
    top = m.add("root", None, (0, 0, 0)) if build.root else None
    m.add("hips", top, (0, hip_height + 0.04 * over, 0))
    below = "hips"
    for i in range(build.spine):
        share = (i + 0.55) / (build.spine + 0.4)
        height = hip_height + 0.06 * over + (neck_base - hip_height - 0.06 * over) * share
        below = m.add(f"spine {i + 1}", below, (0, height, -0.035 * np.sin(np.pi * share)))
    chest = below
    for i in range(build.neck):
        share = i / build.neck
        below = m.add(f"neck {i + 1}", below, (0, neck_base + (head_base - neck_base) * share, -0.02 + 0.02 * share))
    m.add("head", below, (0, head_base, 0.012), (0, build.head, 0.0))
    for side, sign in SIDES:
        _arm(m, build, chest, side, sign, neck_base - 0.055 * over)
    for side, sign in SIDES:
        _leg(m, build, side, sign, hip_height)
    return m.skeleton()


def _arm(m, build, chest, side, sign, height):
    shoulder, upper = sign * build.shoulders / 2, build.arm * 0.525
    parent = chest
    if build.collarbones:
        parent = m.add(f"{side} collarbone", chest, (sign * 0.028, height + 0.012, 0.0))
    m.add(f"{side} upper arm", parent, (shoulder, height, -0.01))
    if build.twist:
        m.add(f"{side} upper arm twist", f"{side} upper arm", (shoulder + sign * upper * 0.5, height, -0.01))
    m.add(f"{side} forearm", f"{side} upper arm", (shoulder + sign * upper, height, -0.012))
    wrist = shoulder + sign * build.arm
    if build.twist:
        m.add(f"{side} forearm twist", f"{side} forearm", ((shoulder + sign * upper + wrist) / 2, height, -0.011))
    size = build.arm / 0.56
    m.add(
        f"{side} hand", f"{side} forearm", (wrist, height, -0.01), None if build.fingers else (sign * 0.17 * size, 0, 0)
    )
    if not build.fingers:
        return
    for finger, (along, across, bone) in FINGERS.items():
        if finger == "thumb":
            point, step = (
                np.array([wrist + sign * 0.028 * size, height - 0.01, 0.012]),
                np.array([sign * 0.8, -0.25, 0.6]),
            )
        else:
            point = np.array([wrist + sign * 0.092 * along * size, height, -0.01 + 0.075 * across * size])
            step = np.array([sign * 1.0, 0, 0.12 * across])
        step = step / np.linalg.norm(step) * bone * size
        above = f"{side} hand"
        for i in range(3):
            length = step * (1.25, 0.85, 0.7)[i]
            above = m.add(f"{side} {finger} {i + 1}", above, point, length if i == 2 else None)
            point = point + length


def _leg(m, build, side, sign, hip_height):
    x, half = sign * build.hips / 2, build.leg * 0.505
    m.add(f"{side} thigh", "hips", (x, hip_height, 0))
    if build.twist:
        m.add(f"{side} thigh twist", f"{side} thigh", (x, hip_height - half / 2, 0.003))
    m.add(f"{side} shin", f"{side} thigh", (x, hip_height - half, 0.006))
    if build.twist:
        m.add(f"{side} shin twist", f"{side} shin", (x, (hip_height - half + build.ankle) / 2, 0.0))
    m.add(f"{side} foot", f"{side} shin", (x, build.ankle, -0.01))
    m.add(f"{side} toes", f"{side} foot", (x + sign * 0.012, 0.018, build.foot - 0.01), (0, -0.018, 0.07))
