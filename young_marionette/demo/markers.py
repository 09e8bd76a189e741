"""Marker recordings of the quay performer: the show's motion with markers on, and the faults that real recordings have."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..core import rotations as rot
from ..core.kinematics import forward
from ..core.markers.recording import Recording
from ..core.resample import resample
from ..formats.registry import write_markers
from .cast import QUAY

RATE = 100.0  # frames per second
_NOISE = 0.001  # metres
_IDLE = 3.0  # seconds before and after
# Label: joint, and where the marker sits from it in a T-pose: to the performer's left, up and ahead, metres. Of the left side
# or the middle; with LEFT in front both sides have one.
MIDDLE = {
    "C7": ("spine 3", (0.005, 0.21, -0.075)), "T10": ("spine 3", (-0.004, -0.02, -0.115)),
    "CLAV": ("spine 3", (0.0, 0.17, 0.075)), "STRN": ("spine 3", (0.008, 0.03, 0.12)),
    "RBAK": ("spine 3", (-0.1, 0.1, -0.1)),
}  # fmt: skip
BOTH = {
    "FHD": ("head", (0.072, 0.14, 0.085)), "BHD": ("head", (0.07, 0.13, -0.085)),
    "SHO": ("collarbone", (0.15, 0.06, -0.01)), "UPA": ("upper arm", (0.13, 0.05, -0.015)),
    "ELB": ("upper arm", (0.292, 0.042, 0.0)), "FRM": ("forearm", (0.12, 0.035, 0.01)),
    "WRA": ("forearm", (0.262, 0.0, 0.036)), "WRB": ("forearm", (0.264, 0.0, -0.034)), "FIN": ("hand", (0.085, 0.02, 0.006)),
    "ASI": ("hips", (0.125, 0.035, 0.1)), "PSI": ("hips", (0.05, 0.05, -0.105)),
    "THI": ("thigh", (0.08, -0.22, 0.01)), "KNE": ("thigh", (0.056, -0.43, 0.005)), "TIB": ("shin", (0.052, -0.21, 0.0)),
    "ANK": ("shin", (0.037, -0.425, -0.008)), "HEE": ("foot", (0.002, -0.04, -0.062)), "TOE": ("foot", (0.012, -0.045, 0.14)),
}  # fmt: skip
MORE = {
    "ELM": ("upper arm", (0.294, -0.04, 0.002)), "KNM": ("thigh", (-0.052, -0.432, 0.0)), "MED": ("shin", (-0.035, -0.42, -0.003)),
    "SHN": ("shin", (0.008, -0.13, 0.06)), "THF": ("thigh", (0.012, -0.2, 0.09)), "MT5": ("foot", (0.045, -0.055, 0.11)),
    "FIP": ("hand", (0.08, 0.012, -0.034)),
}  # fmt: skip


def worn(clip, more=False):
    """``(labels, points (frames, markers, 3))`` of a clip in a T-pose skeleton in our world, without noise."""
    places, turns = forward(clip)
    index = clip.skeleton.index
    made = {}

    def put(label, joint, away):
        made[label] = places[:, index[joint]] + rot.rotate(turns[:, index[joint]], np.array(away))

    for label, (joint, away) in MIDDLE.items():
        put(label, joint, away)
    for label, (part, (x, y, z)) in (BOTH | (MORE if more else {})).items():
        for side, sign in (("left", 1.0), ("right", -1.0)):
            joint = part if part in index else f"{side} {part}"
            put(side[0].upper() + label, joint, (sign * x, y, z))
    return tuple(made), np.stack(list(made.values()), 1)


def recording(clip, seed, more=False):
    """A recording of a clip as it comes from a stage: idle ends, noise, gaps, strays, an exchange, a marker left behind."""
    rng = np.random.default_rng(seed)
    clip = resample(clip, RATE)
    labels, points = worn(clip, more)
    idle = round(_IDLE * RATE)
    points = np.concatenate([_waiting(points[0], idle, rng)[::-1], points, _waiting(points[-1], idle, rng)])
    points = points + rng.normal(0, _NOISE, points.shape)
    frames, count = points.shape[:2]
    at = {label: i for i, label in enumerate(labels)}
    for _ in range(14):
        first, marker = int(rng.integers(20, frames - 80)), int(rng.integers(count))
        points[first : first + int(rng.integers(4, 40)), marker] = np.nan
    # Two markers of one wrist change places for a second; a marker comes off and stays where it was.
    first = idle + 200
    pair = [at["RWRA"], at["RWRB"]]
    points[first : first + 100, pair] = points[first : first + 100, pair[::-1]]
    marker, first = at["LTHI"], idle + 330
    points[first : first + 170, marker] = points[first, marker] + rng.normal(0, _NOISE, (170, 3))
    strays = np.full((frames, 2, 3), np.nan)
    for n, (start, long) in enumerate(((idle - 60, 140), (idle + 380, 90))):
        place = np.array([0.7 - 1.6 * n, 0.4 + 0.9 * n, 0.5])
        strays[start : start + long, n] = place + np.cumsum(rng.normal(0, 0.002, (long, 3)), axis=0)
    names = (*(f"quay:{label}" for label in labels), "*40", "*41")
    return Recording(clip.name, names, np.concatenate([points, strays], 1), RATE)


def t_pose_recording(still, seed):
    """A recording of the performer in a T-pose, as people stand in it: shoulders a little up, elbows a little back."""
    rng = np.random.default_rng(seed)
    turns = still.rotations.copy()
    for side, sign in (("left", 1.0), ("right", -1.0)):
        for part, axis, degrees in (("collarbone", "Z", 5.0), ("forearm", "Y", 11.0), ("upper arm", "Z", -3.0)):
            joint = still.skeleton.index[f"{side} {part}"]
            touch = rot.from_axis_angle(rot.AXES[axis], np.radians(sign * degrees))
            turns[:, joint] = rot.multiply(turns[:, joint], touch)
    labels, points = worn(resample(replace(still, rotations=turns), RATE), more=True)
    points = _waiting(points[0], len(points), rng)
    points = points + rng.normal(0, _NOISE, points.shape)
    return Recording("quay_t_pose", tuple(f"quay:{label}" for label in labels), points, RATE)


def _waiting(points, frames, rng):
    """Markers of somebody who waits and hardly sways, from a pose on."""
    times = np.arange(1, frames + 1) / RATE
    sway = 0.006 * (1 - np.exp(-times)) * np.sin(times * rng.uniform(1.2, 1.6))
    height = points[:, 1] / points[:, 1].max()
    return points + sway[:, None, None] * height[None, :, None] * np.array([1.0, 0.0, 0.6])


def write_recordings(folder, performance, reference):
    """Write the recordings under ``folder``; ``performance(name, role)`` gives the show's clips, ``reference(role)`` a role's
    T-pose. Returns their paths."""
    folder = folder / "markers"
    folder.mkdir(parents=True, exist_ok=True)
    walk = recording(performance("walk_the_wall", QUAY), 31)
    lamp = recording(performance("light_lamp", QUAY), 32, more=True)
    still = t_pose_recording(reference(QUAY), 33)
    # The stage's own world: millimetres, Z up, and the performer comes towards -X.
    turn = rot.from_matrix(np.array([[0.0, 0, -1], [-1, 0, 0], [0, 1, 0]]))
    walk, still = (replace(one, points=rot.rotate(turn, one.points) * 1000) for one in (walk, still))
    lamp = replace(lamp, points=lamp.points * 1000)
    paths = [folder / "walk_the_wall.c3d", folder / "light_lamp.trc", folder / "quay_t_pose.c3d"]
    write_markers(paths[0], walk, "mm", "+Z", overwrite=True)
    write_markers(paths[1], lamp, "mm", "+Y", overwrite=True)
    write_markers(paths[2], still, "mm", "+Z", overwrite=True)
    return paths
