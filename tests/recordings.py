"""Recordings of markers made from known motion, with every fault known. Nothing here knows how a body is found.

``MARKERS`` is a usual set for whole bodies; ``recorded`` puts it on any skeleton whose parts are known, each marker moved
from its place by chance, and plays the motion.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from young_marionette.core import rotations as rot
from young_marionette.core.kinematics import forward
from young_marionette.core.markers.recording import Recording
from young_marionette.core.resample import resample

# Label: part of the body, along its bone (share of the bone), and away from it as shares of the stature: to the figure's
# left, up and ahead, standing in a T-pose. Markers of the left side; those of the right are mirrored.
TRUNK = {
    "C7": ("chest", 0.95, (0, 0, -0.045)), "T10": ("chest", 0.1, (0, 0, -0.07)), "CLAV": ("chest", 0.8, (0, 0, 0.05)),
    "STRN": ("chest", 0.3, (0, 0, 0.065)), "RBAK": ("chest", 0.6, (-0.05, 0, -0.06)),
}  # fmt: skip
SIDE = {
    "FHD": ("head", 0.5, (0.04, 0, 0.05)), "BHD": ("head", 0.5, (0.04, 0, -0.05)),
    "ASI": ("hips", 0.3, (0.07, 0, 0.055)), "PSI": ("hips", 0.4, (0.028, 0, -0.055)),
    "SHO": ("collarbone", 0.9, (0, 0.035, 0)), "UPA": ("upper arm", 0.45, (0, 0.03, -0.01)),
    "ELB": ("upper arm", 1.0, (0, 0.025, 0)), "FRM": ("forearm", 0.5, (0, 0.02, 0.005)),
    "WRA": ("forearm", 1.0, (0, 0, 0.02)), "WRB": ("forearm", 1.0, (0, 0, -0.02)), "FIN": ("hand", 0.5, (0, 0.014, 0)),
    "THI": ("thigh", 0.55, (0.045, 0, 0)), "KNE": ("thigh", 1.0, (0.03, 0, 0)), "TIB": ("shin", 0.5, (0.03, 0, 0)),
    "ANK": ("shin", 1.0, (0.022, 0, 0)), "HEE": ("foot", 0.0, (0, -0.025, -0.035)), "TOE": ("foot", 1.0, (0, 0.015, 0)),
}  # fmt: skip
MORE = {
    "KNM": ("thigh", 1.0, (-0.028, 0, 0)), "MED": ("shin", 1.0, (-0.02, 0, 0)), "ELM": ("upper arm", 1.0, (0, -0.022, 0)),
    "SHN": ("shin", 0.3, (0.005, 0, 0.03)), "THF": ("thigh", 0.4, (0.01, 0, 0.05)), "MT5": ("foot", 0.9, (0.02, -0.005, 0)),
    "FIP": ("hand", 0.5, (0, 0.005, -0.025)),
}  # fmt: skip
PARTS = {
    "hips": "hips", "chest": "chest", "head": "head", "collarbone": "Shoulder", "upper arm": "UpperArm",
    "forearm": "LowerArm", "hand": "Hand", "thigh": "UpperLeg", "shin": "LowerLeg", "foot": "Foot",
}  # fmt: skip
LIMBS = ("upper arm", "forearm", "hand", "thigh", "shin", "foot")


@dataclass
class Known:
    """What is true of a recording: ``segments``: label to the name of the figure's segment; ``centres``: name to ``(frames, 3)``
    in metres in the placed world; ``faults``: (kind, labels, first, last)."""

    segments: dict[str, str]
    centres: dict[str, np.ndarray]
    faults: list[tuple[str, tuple[str, ...], int, int]] = field(default_factory=list)
    clean: np.ndarray | None = None


def name_of(part: str, side: str | None) -> str:
    """The figure's name of a part of the body."""
    word = PARTS[part]
    return side + word if side and part not in ("hips", "chest", "head") else word


def recorded(clip, parts, rng, rate=100.0, noise=0.001, full=False, moved=0.012, stature=None):
    """``(Recording, Known)`` of a clip in our world; ``parts``: part of the body to its joint's number (``"left thigh"``).

    ``moved``: how far each marker is from its usual place (metres); ``full``: 53 markers instead of 39.
    """
    clip = resample(clip, rate)
    skeleton = clip.skeleton
    places, turns = forward(clip)
    points_rest, turns_rest = skeleton.rest_world
    if stature is None:
        stature = 1.1 * np.ptp(points_rest[:, 1])
    made, segments = {}, {}

    def end(part, side):
        """Where the bone of a part ends at rest."""
        joint = parts[part if part in parts else f"{side} {part}"]
        then = {
            "upper arm": "forearm", "forearm": "hand", "thigh": "shin", "shin": "foot", "collarbone": "upper arm"
        }.get(part)  # fmt: skip
        if then:
            return points_rest[parts[f"{side} {then}"]]
        if part == "chest":
            return points_rest[parts["neck"]]
        tip = skeleton.ends[joint]
        if part == "head":
            return points_rest[joint] + stature * np.array([0, 0.13, 0])
        if part == "hips":
            return points_rest[joint] + stature * np.array([0, 0.07, 0])
        if part == "hand":
            return points_rest[joint] + rot.normalise(points_rest[joint] - points_rest[parts[f"{side} forearm"]]) * (
                0.1 * stature
            )
        children = [points_rest[c] for c in skeleton.children[joint]]
        return children[0] if children else tip if np.isfinite(tip).all() else points_rest[joint] + [0, 0, 0.1]

    usual = {"upper arm": 1, "forearm": 1, "hand": 1, "collarbone": 1, "thigh": 2, "shin": 2}

    def put(label, part, side, along, away):
        joint = parts[part if part in parts else f"{side} {part}"]
        sign = 1.0 if side == "left" else -1.0
        start, stop = points_rest[joint], end(part, side)
        bone = stop - start
        way = {1: np.array([sign, 0, 0]), 2: np.array([0, -1.0, 0])}.get(usual.get(part, 0))
        turn = rot.IDENTITY if way is None else rot.between(way, bone)
        away = np.array(away) * (sign if side else 1.0, 1, 1) * stature
        if part == "foot":
            turn = rot.IDENTITY
        at = start + along * bone + rot.rotate(turn, away) + rng.normal(0, moved, 3)
        own = rot.rotate(rot.conjugate(turns_rest[joint]), at - points_rest[joint])
        made[label] = places[:, joint] + rot.rotate(turns[:, joint], own)
        segments[label] = name_of(part, side)

    for label, what in TRUNK.items():
        put(label, what[0], None, *what[1:])
    for label, what in (SIDE | (MORE if full else {})).items():
        for side in ("left", "right"):
            put(side[0].upper() + label, what[0], side, *what[1:])
    labels = tuple(made)
    clean = np.stack([made[label] for label in labels], 1)
    points = clean + rng.normal(0, noise, clean.shape) if noise else clean.copy()
    centres = {name_of(part, side): places[:, parts[f"{side} {part}"]] for part in LIMBS for side in ("left", "right")}
    return Recording("recording", labels, points, rate), Known(segments, centres, [], clean)


def shown_parts(skeleton):
    """Parts of a figure of the show to its joints' numbers."""
    parts = {name: joint for joint, name in enumerate(skeleton.names)}
    spine = [name for name in skeleton.names if name.startswith("spine")]
    return parts | {"chest": parts[spine[-1]], "neck": parts["neck 1"]}


def spoiled(recording, known, rng):
    """The recording with gaps, an exchanged pair, a marker left behind and a stray; what was done is added to ``known.faults``."""
    points, (frames, count) = recording.points.copy(), recording.points.shape[:2]
    labels = recording.labels
    for _ in range(8):
        marker, first = int(rng.integers(count)), int(rng.integers(0, frames - 60))
        points[first : first + int(rng.integers(5, 50)), marker] = np.nan
    a, b = map(int, rng.choice(count, 2, replace=False))
    first = int(rng.integers(20, frames // 2))
    last = min(first + int(rng.integers(15, frames // 3)), frames - 10)
    points[first : last + 1, [a, b]] = points[first : last + 1, [b, a]]
    known.faults.append(("exchanged", (labels[a], labels[b]), first, last))
    first = int(rng.integers(20, frames // 2))
    last = min(first + int(rng.integers(40, frames // 2)), frames - 1)
    # One that moves meanwhile: a marker of a foot that stands is where it should be.
    way = np.linalg.norm(known.clean[first : last + 1] - known.clean[first], axis=-1)
    others = [m for m in np.argsort(-np.median(way, axis=0)) if m not in (a, b)]
    moving = [m for m in others if np.median(way[:, m]) > 0.05] or others[:1]
    left = int(rng.choice(moving))
    seen = np.flatnonzero(np.isfinite(points[:first, left]).all(-1))
    points[first : last + 1, left] = points[seen[-1], left] + rng.normal(0, 0.001, (last - first + 1, 3))
    known.faults.append(("left behind", (labels[left],), first, last))
    stray = np.full((frames, 1, 3), np.nan)
    first = int(rng.integers(10, frames - 100))
    stray[first : first + 70] = [0.9, 1.2, -0.4] + np.cumsum(rng.normal(0, 0.002, (70, 1, 3)), axis=0)
    known.faults.append(("stray", ("*90",), first, first + 69))
    return Recording(recording.name, (*labels, "*90"), np.concatenate([points, stray], 1), recording.rate)


def in_other_world(recording, rng):
    """The recording in millimetres, with another axis up, facing anywhere."""
    turn = rot.multiply(
        rot.from_axis_angle(rot.AXES["X"], np.array(np.pi / 2)),
        rot.from_axis_angle(rot.AXES["Y"], np.array(rng.uniform(0, 6.28))),
    )
    return Recording(recording.name, recording.labels, rot.rotate(turn, recording.points) * 1000, recording.rate)


def off_centres(clip, known):
    """Distances of the limbs' joints from the truth ``{name: (frames,)}``, metres, after one rigid placement."""
    places, _ = forward(clip)
    names = sorted(known.centres)
    mine = np.stack([places[:, clip.skeleton.index[name]] for name in names], 1)
    truth = np.stack([known.centres[name] for name in names], 1)
    flat, other = mine.reshape(-1, 3), truth.reshape(-1, 3)
    turn = rot.best_turn(flat - flat.mean(0), other - other.mean(0))
    placed = rot.rotate(turn, flat - flat.mean(0)) + other.mean(0)
    return dict(zip(names, np.linalg.norm(placed - other, axis=-1).reshape(len(mine), -1).T))
