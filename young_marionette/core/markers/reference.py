"""Reference poses: frames in which a performer stands in a T-pose, and what they tell when a figure is fitted."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .. import rotations as rot
from ..stretches import ends_of
from . import seen as reduce
from .posing import Aims, Poses
from .recording import Recording
from .segments import Structure

_STILL = 0.12  # metres per second
_SPAN = 0.72, 1.1  # from hand to hand, as shares of the height
_ARM = 0.22  # from where on markers to the side are on an arm, as a share of the height
_FRAMES = 6  # that are taken of one


@dataclass(frozen=True)
class _Shape:
    """What is taken for a T-pose: the ``height`` of arms over the floor, how far from ``level``, and for how many ``seconds``."""

    height: tuple[float, float]
    level: float
    seconds: float


# Who stands so through half of a take is there for that; in the middle of a motion arms may be held out for balance.
_TAKE, _PART, _HALF = _Shape((0.62, 1.02), 0.22, 0.25), _Shape((0.68, 0.93), 0.12, 1.0), 0.5
# How far joints may be from the T-pose, degrees; others may be as they like.
_SIGMA = {
    "spine": 8, "chest": 8, "neck": 12, "head": 12, "Shoulder": 12, "UpperArm": 14, "LowerArm": 12, "Hand": 12,
    "UpperLeg": 10, "LowerLeg": 6, "Foot": 12, "Toes": 10,
}  # fmt: skip
_TOUCHED = 4  # degrees, where it is told how they stand
Touches = tuple[float, float]  # degrees by which shoulders stand up, and elbows back, in somebody's T-pose


@dataclass(frozen=True, eq=False)
class Reference:
    """A performer's T-pose. ``name``: of the recording that it is from; ``points (frames, markers, 3)``: metres, Y up."""

    name: str
    labels: tuple[str, ...]
    points: np.ndarray

    def on(self, labels: tuple[str, ...]) -> np.ndarray:
        """The points of some markers ``(frames, len(labels), 3)``; NaN for those that it does not have."""
        index = {label: n for n, label in enumerate(self.labels)}
        points = np.full((len(self.points), len(labels), 3), np.nan)
        for n, label in enumerate(labels):
            if label in index:
                points[:, n] = self.points[:, index[label]]
        return points


def t_pose(recording: Recording) -> tuple[int, int] | None:
    """The first and the last frame of the longest T-pose that is held in a placed recording (metres, Y up); None without one.

    It is told by the shape of all markers alone: as wide as high, with level arms at the height of the shoulders, and still.
    """
    whole = _held(recording, _TAKE)
    if whole is not None and whole[1] - whole[0] + 1 >= _HALF * recording.frames:
        return whole
    return _held(recording, _PART)


def _held(recording: Recording, shape: _Shape) -> tuple[int, int] | None:
    points = recording.points
    seen = np.isfinite(points).all(-1)
    if len(points) < 3 or not seen.any():
        return None
    floor = float(np.nanpercentile(points[..., 1], 1))
    high = np.nanmax(np.where(seen, points[..., 1], -np.inf), axis=1) - floor
    tall = float(np.median(high[np.isfinite(high)]))
    if tall <= 0:
        return None
    flat = points[..., [0, 2]] - reduce.median(points[..., [0, 2]], axis=1)[:, None]
    x, z = np.nan_to_num(flat[..., 0]), np.nan_to_num(flat[..., 1])
    # The direction across: that of the largest spread.
    angle = 0.5 * np.arctan2(2 * (x * z).sum(1), (x * x - z * z).sum(1))
    across = np.where(seen, x * np.cos(angle)[:, None] + z * np.sin(angle)[:, None], 0.0)
    over = np.where(seen, points[..., 1] - floor, np.nan) / tall
    span = (across.max(1) - across.min(1)) / tall
    left, right = across > _ARM * tall, across < -_ARM * tall
    arms = np.where(left | right, over, np.nan)
    low, top = reduce.least(arms, axis=1), reduce.most(arms, axis=1)
    # Over a tenth of a second: from frame to frame noise alone is fast.
    reach = max(round(0.05 * recording.rate), 1)
    frames = np.arange(len(points))
    before, after = np.maximum(frames - reach, 0), np.minimum(frames + reach, len(points) - 1)
    way = reduce.median(np.linalg.norm(points[after] - points[before], axis=-1), axis=1)
    speed = way * recording.rate / np.maximum(after - before, 1)
    with np.errstate(invalid="ignore"):
        held = (span > _SPAN[0]) & (span < _SPAN[1]) & (high > 0.9 * tall) & (speed < _STILL)
        held &= (left.sum(1) >= 2) & (right.sum(1) >= 2)
        held &= (low > shape.height[0]) & (top < shape.height[1]) & (top - low < shape.level)
    stretches = [(int(a), int(b)) for a, b in zip(*ends_of(held)) if b - a + 1 >= shape.seconds * recording.rate]
    return max(stretches, key=lambda span: span[1] - span[0], default=None)


def reference_of(recording: Recording) -> Reference | None:
    """The T-pose of a placed recording, where there is one."""
    span = t_pose(recording)
    if span is None:
        return None
    frames = np.unique(np.linspace(*span, _FRAMES).astype(int))
    return Reference(recording.name, recording.labels, recording.points[frames])


def aims_at(structure: Structure, frames: int, reference: int, touches: Touches = (0.0, 0.0)) -> Aims:
    """What draws the last ``reference`` of some frames to the T-pose."""
    pose = np.tile(rot.IDENTITY[:, None], (len(structure), 1, frames))
    pull = np.zeros((len(structure), frames))
    for joint, name in enumerate(structure.names):
        degrees = next((s for key, s in _SIGMA.items() if name.endswith(key)), None)
        if degrees is None:
            continue
        for part, axis, touch in (("Shoulder", "Z", touches[0]), ("LowerArm", "Y", touches[1])):
            if name.endswith(part) and touch:
                side = 1.0 if name.startswith("left") else -1.0
                pose[joint] = rot.from_axis_angle(rot.AXES[axis], np.radians(side * touch))[:, None]
                degrees = _TOUCHED
        # All its frames are one pose: together they count once.
        pull[joint, frames - reference :] = 1 / (np.radians(degrees) ** 2 * reference)
    return Aims(Poses(pose, np.zeros((3, frames))), pull, np.zeros(frames))
