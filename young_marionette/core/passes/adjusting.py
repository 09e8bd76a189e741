"""Mends of a whole clip, or of a stretch of it, by a number each: the hips higher, the head up, arms wider, a bone turned."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, ClassVar

import numpy as np

from .. import rotations as rot
from ..errors import InputError
from ..kinematics import forward_rows
from ..settings import check, number
from ..smoothing import eased, gaussian, largest_within
from .posing import feet_kept, shifted, turned, turned_in_own_axes
from .strength import Strengths, strength_over

if TYPE_CHECKING:
    from ..clip import Clip
    from .keeping import Limbs

_STRETCHED = 0.998  # of a leg's length: how far it gets
_GIVES = 0.08  # seconds over which the hips give way to a leg that is too short
Three = tuple[float, float, float]


@dataclass(frozen=True)
class Adjust:
    """``hips``: up, metres. ``look``: up, ``wider``: both arms, ``lean``: ahead, all degrees. ``turns``: pairs of a joint's name and
    degrees about its own X, Y and Z. ``seconds``: before and behind the frames of the pass, over which it comes and goes;
    ``strength``: 1 is all of it, times what ``strengths`` tell over time.
    """

    hips: float = number(0.0, least=-10.0, most=10.0)
    look: float = number(0.0, least=-360.0, most=360.0)
    wider: float = number(0.0, least=-360.0, most=360.0)
    lean: float = number(0.0, least=-360.0, most=360.0)
    turns: tuple[tuple[str, Three], ...] = ()
    seconds: float = number(0.3, least=0.0, most=600.0)
    strength: float = number(1.0, least=-10.0, most=10.0)
    strengths: Strengths = ()

    code: ClassVar[str] = "adjust"
    halo: ClassVar[float] = 0.0

    def __post_init__(self) -> None:
        check(self)

    def check(self, clip: Clip, limbs: Limbs) -> None:
        """InputError for what can't be done on a rig."""
        missing = [name for name, _ in self.turns if name not in clip.skeleton.index]
        if missing:
            raise InputError(f"There is no bone {missing[0]}.")
        if limbs.body is None and (self.hips or self.look or self.wider or self.lean):
            raise InputError("Nothing was read of a body here: only single bones can be turned.")
        if self.look and not (limbs.body and limbs.body.parts.get("head")):
            raise InputError("This rig has no head that could look up.")

    def run(
        self,
        clip: Clip,
        limbs: Limbs,
        frames: tuple[int, int] | None = None,
        keep: bool = True,
        first: int = 0,
    ) -> Clip:
        """``clip`` (from frame ``first`` of a longer one), adjusted on ``frames``; others than those and their eases stay to the last bit.

        ``keep``: feet stay where they are, whatever the hips do.
        """
        share = self.strength * _coming(first, clip.frames, frames, self.seconds * clip.rate)
        share = share * strength_over(np.arange(first, first + clip.frames), self.strengths)
        at = np.flatnonzero(share)
        if not len(at):
            return clip
        a, b = int(at[0]), int(at[-1])
        part = self._changed(clip.cut(a, b), limbs, share[a : b + 1], keep)
        return _put_into(clip, part, a)

    def _changed(self, clip: Clip, limbs: Limbs, share: np.ndarray, keep: bool) -> Clip:
        made = clip
        if limbs.body is not None:
            made = self._leaned(made, limbs, share)
            if self.hips:
                room = _room(clip, made, limbs, self.hips) if keep else 1.0
                made = shifted(made, limbs.hips, (share * room)[:, None] * limbs.body.up * self.hips)
            if keep and made is not clip:
                made = feet_kept(clip, made, limbs)
            made = self._widened(made, limbs, share)
            made = self._raised(made, limbs, share)
        for name, degrees in self.turns:
            joint = clip.skeleton.index.get(name)
            if joint is not None and any(degrees):
                made = turned_in_own_axes(made, joint, share[:, None] * _vector(degrees))
        return made

    def _leaned(self, clip: Clip, limbs: Limbs, share: np.ndarray) -> Clip:
        spine = [j for part in ("spine", "chest") for j in limbs.body.parts.get(part, ())] if limbs.body else []
        if not self.lean or not spine:
            return clip
        angle = np.radians(self.lean) / len(spine)
        for joint in spine:
            clip = turned(clip, joint, share[:, None] * angle * _axis(clip, limbs, limbs.hips, "left"))
        return clip

    def _widened(self, clip: Clip, limbs: Limbs, share: np.ndarray) -> Clip:
        if not self.wider or limbs.body is None:
            return clip
        chest = (limbs.body.parts.get("chest") or limbs.body.parts["hips"])[-1]
        for side, sign in (("left", 1.0), ("right", -1.0)):
            run = limbs.body.parts.get(f"{side} upper arm")
            if run:
                angle = sign * np.radians(self.wider)
                clip = turned(clip, run[0], share[:, None] * angle * _axis(clip, limbs, chest, "ahead"))
        return clip

    def _raised(self, clip: Clip, limbs: Limbs, share: np.ndarray) -> Clip:
        parts = limbs.body.parts if limbs.body is not None else {}
        head = parts.get("head")
        if not self.look or not head:
            return clip
        run = [*parts.get("neck", ())[:1], head[0]]
        angle = -np.radians(self.look) / len(run)
        for joint in run:
            clip = turned(clip, joint, share[:, None] * angle * _axis(clip, limbs, head[0], "left"))
        return clip


def _room(before: Clip, clip: Clip, limbs: Limbs, way: float) -> np.ndarray:
    """How much of a way up (metres) the hips can go ``(frames,)``, 0 to 1, without a leg that gets longer than it is; smooth in time."""
    assert limbs.body is not None
    up, lack = limbs.body.up, np.zeros(clip.frames)
    if way < 0:
        return np.ones(clip.frames)
    feet, places = forward_rows(before)[0], forward_rows(clip)[0]
    for leg in limbs.legs:
        away = places[leg.limb.first].T - feet[leg.limb.end].T
        long = np.maximum(_STRETCHED * sum(leg.limb.lengths(places)), np.linalg.norm(away, axis=1))
        along = away @ up
        most = np.sqrt(np.maximum(along**2 + long**2 - np.sum(away * away, 1), 0)) - along
        lack = np.maximum(lack, 1 - np.clip(most / way, 0, 1))
    width = _GIVES * clip.rate
    return 1 - gaussian(largest_within(lack, int(4 * width + 0.5)), width)


def _axis(clip: Clip, limbs: Limbs, joint: int, which: str) -> np.ndarray:
    """The body's own left, or ahead ``(frames, 3)``, as a joint carries it from the rest pose."""
    body = limbs.body
    assert body is not None
    own = body.forward if which == "ahead" else rot.normalise(np.cross(body.up, body.forward))
    turn = rot.multiply(forward_rows(clip)[1][joint].T, rot.conjugate(clip.skeleton.rest_world[1][joint]))
    return rot.rotate(turn, own)


def _vector(degrees: Three) -> np.ndarray:
    """The rotation vector of turns about X, then Y, then Z."""
    return np.asarray(rot.to_vector(rot.from_euler("ZYX", np.radians(degrees[::-1]))))


def _coming(first: int, count: int, frames: tuple[int, int] | None, ease: float) -> np.ndarray:
    """Shares ``(count,)`` of the frames from ``first`` on: 1 in ``frames``, falling to 0 outside of them."""
    if frames is None:
        return np.ones(count)
    at = np.arange(first, first + count)
    away = np.maximum(np.maximum(frames[0] - at, at - frames[1]), 0)
    return eased(np.clip(1 - away / (ease + 1.0), 0, 1))


def _put_into(clip: Clip, part: Clip, first: int) -> Clip:
    """A clip with some of its frames as in ``part``, whose joints may move more."""
    span = slice(first, first + part.frames)
    rotations = clip.rotations.copy()
    rotations[span] = part.rotations
    moves = dict(clip.moves)
    for joint, rows in part.moves.items():
        moves[joint] = clip.move_of(joint).copy()
        moves[joint][span] = rows
    return replace(clip.with_moves(moves), rotations=rotations)
