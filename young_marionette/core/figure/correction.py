"""What the user knows better than a file or the guesses about it, and the corrections that change a placed clip."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from ..contacts.points import FEET, contact_points, point_rows
from ..keys.channel import Channel, Joint, Kind
from ..keys.keyed import KeyedClip
from ..keys.sampler import still
from ..kinematics import forward_rows

if TYPE_CHECKING:
    from ..clip import Clip
    from ..humanoid.reading import Body


BIND = -1


@dataclass(frozen=True)
class Correction:
    """What the user knows better than the file or the guesses; None leaves them. Axes as in ``"-Z"``.

    ``rate``: frames per second that the frames were meant for. ``lift``: metres that the motion is moved
    up. ``centred``: the first frame stands over the ``"origin"``, or on the grid ``"line"`` that runs ahead
    through it. ``in_place``: the hips stay over their first spot. ``prefix``: what all bone names begin with.
    ``family``: the fingerprint of the skeleton family that it is to count with. ``rest``: the frame of the
    file that holds the true rest pose, or BIND for the pose that the skin was bound in. ``level``: of detail.
    ``grounded``: frames in which the lowest sole is put on the floor; between them the motion is moved with ease.
    """

    scale: float | None = None
    up: str | None = None
    facing: str | None = None
    rate: float | None = None
    lift: float | None = None
    centred: str | None = None
    in_place: bool | None = None
    prefix: str | None = None
    family: str | None = None
    rest: int | None = None
    level: int | None = None
    grounded: tuple[int, ...] | None = None

    @property
    def of_the_figure(self) -> tuple[float | str | int | None, ...]:
        """What changes how the skeleton is seen; all else is of its motion, its body or the library."""
        return self.scale, self.up, self.facing, self.prefix, self.rest


def put_down(clip: Clip | KeyedClip, body: Body | None, correction: Correction) -> Clip | KeyedClip:
    """A placed clip with the corrections of its motion: rate, height over the floor, start, travel.

    A keyed one keeps its keys, but where it is held in place, which needs frames.
    """
    if correction.rate:
        if isinstance(clip, KeyedClip):
            clip = clip.at_rate(correction.rate)
        else:
            start = clip.start * clip.rate / correction.rate
            clip = replace(clip, rate=correction.rate, start=start)
    if (correction.in_place or correction.grounded) and isinstance(clip, KeyedClip):
        clip = clip.sample()
    shift = np.array([0.0, correction.lift or 0.0, 0.0])
    if correction.grounded and body is not None and not isinstance(clip, KeyedClip):
        shift = _grounding(clip, body, correction.grounded)[:, None] * [0.0, 1.0, 0.0]
    if correction.centred or correction.in_place:
        path = _hips_path(clip.at([clip.start]) if isinstance(clip, KeyedClip) else clip, body)
        if correction.centred:
            shift -= path[0] * ([1, 0, 1] if correction.centred == "origin" else [1, 0, 0])
        if correction.in_place:
            shift = shift - (path - path[0]) * [1, 0, 1]
    if not shift.any():
        return clip
    if isinstance(clip, KeyedClip):
        return _shifted_keys(clip, shift)
    roots = np.flatnonzero(clip.skeleton.parents < 0).tolist()
    return clip.with_moves(clip.moves | {root: clip.move_of(root) + shift for root in roots})


def _grounding(clip: Clip, body: Body, frames: tuple[int, ...]) -> np.ndarray:
    """How much higher a clip has to be ``(frames,)`` for its soles to be on the floor in some frames, eased between."""
    points = [p for p in contact_points(clip.skeleton, body) if p.name in FEET]
    at = np.array(sorted({min(max(f, 0), clip.frames - 1) for f in frames}))
    if not points:
        return np.zeros(clip.frames)
    lowest = np.concatenate([point_rows(clip.cut(f, f), points)[:, 1].min(0) for f in at.tolist()])
    every = np.arange(clip.frames)
    after = np.clip(np.searchsorted(at, every, side="right"), 1, max(len(at) - 1, 1))
    if len(at) == 1:
        return np.full(clip.frames, -lowest[0])
    share = np.clip((every - at[after - 1]) / (at[after] - at[after - 1]), 0, 1)
    eased = share * share * (3 - 2 * share)
    return -(lowest[after - 1] + eased * (lowest[after] - lowest[after - 1]))


def _shifted_keys(clip: KeyedClip, shift: np.ndarray) -> KeyedClip:
    samplers = dict(clip.samplers)
    for root in map(int, np.flatnonzero(clip.skeleton.parents < 0)):
        channel = Channel(Joint(root), Kind.TRANSLATION)
        own = samplers.get(channel) or still(clip.skeleton.offsets[root], clip.start)
        samplers[channel] = own.moved(np.eye(3), shift)
    return replace(clip, samplers=samplers)


def _hips_path(clip: Clip, body: Body | None) -> np.ndarray:
    """World places of the hips ``(frames, 3)``, or of the first joint where there is no body."""
    hips = body.parts["hips"][0] if body else 0
    return forward_rows(clip, [hips])[0][hips].T
