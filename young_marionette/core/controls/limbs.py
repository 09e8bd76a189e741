"""A limb of two bones by where its end is and where its elbow or knee points, in closed form, and the other way round.

A limb has six degrees of freedom: three of its end's place, one of where the middle joint points, and a twist of either bone
about itself. Where it points is told by the axis that its upper bone bends about, which is sure also where the limb is straight;
how far the middle joint lies beside that plane (``lean``) is told beside it, so that any pose of both bones can be said.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot

if TYPE_CHECKING:
    from collections.abc import Sequence

_SHORT, _NONE = 1e-9, 1e-6  # metres: of a way that tells no direction, and of a bone that is none
_SOFT = 0.005  # metres: how far from the limb's line a middle joint is that its lean counts in full
DISTANCE = 0.35  # of a limb's length: how far before the elbow or the knee its direction's control hangs


@dataclass(frozen=True, eq=False)
class Straight:
    """What a limb would be without lean and twists: ``upper`` and ``lower (frames, 4)``, in the world."""

    upper: np.ndarray
    lower: np.ndarray


@dataclass(frozen=True, eq=False)
class Bones:
    """Of a limb on all frames: the ways ``(frames, 3)`` along its two bones, each in that bone's own axes (metres), and the axes
    ``(3,)`` or ``(frames, 3)``, likewise, that they bend about.
    """

    upper: np.ndarray
    lower: np.ndarray
    upper_hinge: np.ndarray
    lower_hinge: np.ndarray

    @staticmethod
    def together(bones: Sequence[Bones]) -> Bones:
        """Of several limbs, one after the other as if they were frames."""
        ways = (np.concatenate([getattr(one, name) for one in bones]) for name in ("upper", "lower"))
        hinges = (
            np.concatenate([np.broadcast_to(getattr(one, f"{name}_hinge"), one.upper.shape) for one in bones])
            for name in ("upper", "lower")
        )
        return Bones(*ways, *hinges)

    @property
    def gone(self) -> np.ndarray:
        """The frames ``(frames, 1)`` on which a bone has no length: there is no limb then, and each bone is turned by itself."""
        return (np.minimum(*self.lengths) < _NONE)[:, None]

    @property
    def lengths(self) -> tuple[np.ndarray, np.ndarray]:
        one, two = (np.sqrt(np.einsum("fx,fx->f", way, way)) for way in (self.upper, self.lower))
        return one, two


@dataclass(frozen=True, eq=False)
class Told:
    """``points (frames, 3)``: a place that the elbow or knee points to. ``lean (frames, 2)``. ``upper`` and ``lower (frames, 4)``:
    twists about the bones.
    """

    points: np.ndarray
    lean: np.ndarray
    upper: np.ndarray
    lower: np.ndarray


def limb_turns(bones: Bones, start: np.ndarray, end: np.ndarray, told: Told) -> tuple[np.ndarray, np.ndarray]:
    """How both bones are turned in the world ``(frames, 4)`` so that the limb, which hangs at ``start (frames, 3)``, ends at ``end``.

    By the law of cosines; what is out of reach is pointed at.
    """
    line, long = _line(bones, start, end)
    ahead = _across(told.points - start, line)
    straight = _straight(bones, line, long, ahead, told.lean)
    twists = [
        np.where(bones.gone, turn, rot.twist_about(turn, axis))
        for turn, axis in ((told.upper, bones.upper), (told.lower, bones.lower))
    ]
    return rot.multiply(straight.upper, twists[0]), rot.multiply(straight.lower, twists[1])


def limb_told(bones: Bones, start: np.ndarray, upper: np.ndarray, lower: np.ndarray) -> tuple[np.ndarray, Told]:
    """``(where the limb ends (frames, 3), what is told of it)``, of bones that are turned as ``upper`` and ``lower (frames, 4)`` in
    the world; ``limb_turns`` gives them back.
    """
    middle = rot.rotate(upper, bones.upper)
    end = start + middle + rot.rotate(lower, bones.lower)
    line, long = _line(bones, start, end)
    hinge = _across(rot.rotate(upper, _square(bones.upper_hinge, bones.upper)), line)
    ahead = rot.cross(hinge, line)
    aside = middle - np.sum(middle * line, 1, keepdims=True) * line
    lean = np.stack([np.sum(aside * ahead, 1), np.sum(aside * hinge, 1)], -1)
    lean /= np.sqrt(np.sum(lean * lean, 1) + _SOFT**2)[:, None]
    straight = _straight(bones, line, long, ahead, lean)
    twists = (rot.multiply(rot.conjugate(s), t) for s, t in zip((straight.upper, straight.lower), (upper, lower)))
    along, off = _triangle(bones, long)
    far = off + DISTANCE * float(np.median(sum(bones.lengths)))
    return end, Told(start + along[:, None] * line + far[:, None] * ahead, lean, *twists)


def _line(bones: Bones, start: np.ndarray, end: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The direction ``(frames, 3)`` from start to end, and how far ``(frames,)`` the limb goes along it."""
    a, b = bones.lengths
    way = end - start
    long = np.sqrt(np.einsum("fx,fx->f", way, way))
    line = np.where(long[:, None] > _SHORT, way / np.maximum(long, _SHORT)[:, None], [0.0, -1.0, 0.0])
    return line, np.maximum(np.clip(long, np.abs(a - b), a + b), _SHORT)


def _triangle(bones: Bones, long: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """How far along the limb's line, and how far off it, its middle joint is ``(frames,)`` each."""
    a, b = bones.lengths
    along = np.clip((a * a + long * long - b * b) / (2 * long), -a, a)
    return along, np.sqrt(np.maximum((a - along) * (a + along), 0.0))


def _straight(bones: Bones, line: np.ndarray, long: np.ndarray, ahead: np.ndarray, lean: np.ndarray) -> Straight:
    """Both bones bent in the plane of ``line`` and ``ahead (frames, 3)``, then swung about the line by the lean."""
    along, off = (part[:, None] for part in _triangle(bones, long))
    hinge = rot.cross(line, ahead)
    size = np.sqrt(np.einsum("fx,fx->f", lean, lean))[:, None]
    unit = np.where(size > 1e-12, lean / np.maximum(size, 1e-12), [1.0, 0.0])
    turned = unit[:, :1] * ahead + unit[:, 1:] * hinge
    # Both bones at once: they differ in how far they go along the line, and back to it from its middle.
    plain, swung = (
        np.concatenate([along * line + off * side, (long[:, None] - along) * line - off * side])
        for side in (ahead, turned)
    )
    ways = np.concatenate([bones.upper, bones.lower])
    hinges = np.concatenate([np.broadcast_to(h, line.shape) for h in (bones.upper_hinge, bones.lower_hinge)])
    bent = _axes(plain, np.concatenate([hinge, hinge])) @ np.swapaxes(_axes(ways, hinges), -1, -2)
    turns = rot.multiply(rot.between(plain, swung), rot.from_matrix(bent))
    gone = bones.gone
    return Straight(*(np.where(gone, rot.IDENTITY, part) for part in (turns[: len(line)], turns[len(line) :])))


def _axes(way: np.ndarray, hinge: np.ndarray) -> np.ndarray:
    """The rotation matrices ``(frames, 3, 3)`` whose X runs along ``way`` and whose Y is ``hinge``, made square to it."""
    x = rot.normalise(way)
    y = _across(hinge, x)
    return np.stack([x, y, rot.cross(x, y)], -1)


def _square(vector: np.ndarray, way: np.ndarray) -> np.ndarray:
    """Unit vectors ``(frames, 3)``: ``vector`` made square to ``way``."""
    return _across(np.broadcast_to(vector, way.shape), rot.normalise(way))


def _across(vector: np.ndarray, line: np.ndarray) -> np.ndarray:
    """Unit vectors ``(frames, 3)``: what of ``vector`` is square to the unit vectors ``line``; some such vector where nothing is."""
    across = vector - np.sum(vector * line, 1, keepdims=True) * line
    size = np.sqrt(np.einsum("fx,fx->f", across, across))[:, None]
    if (size < 1e-9).any():
        spare = np.where(np.abs(line[:, :1]) < 0.9, [1.0, 0.0, 0.0], [0.0, 0.0, 1.0])
        across = np.where(size < 1e-9, spare - np.sum(spare * line, 1, keepdims=True) * line, across)
    return rot.normalise(across)
