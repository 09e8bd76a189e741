"""The pass that lays the difference of one clip over another: what moves there against one of its poses is added here."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, ClassVar

import numpy as np

from .. import rotations as rot
from ..clip import as_rows, from_rows
from ..errors import InputError
from ..smoothing import eased
from .strength import Strengths, strength_over

if TYPE_CHECKING:
    from ..clip import Clip
    from ..filters.motion import Scope


@dataclass(frozen=True)
class Difference:
    """``clip``: the other one, on the same joints and at the same rate. ``reference``: the frame of it that counts as nothing.
    ``at``: the frame here that its first one comes on. ``seconds``: at both of its ends, over which it comes and goes. ``strength``
    and ``strengths``: how much of it, here.
    """

    clip: Clip
    reference: int = 0
    at: int = 0
    seconds: float = 0.3
    strength: float = 1.0
    strengths: Strengths = ()

    code: ClassVar[str] = "difference"
    halo: ClassVar[float] = 0.0

    def check(self, clip: Clip) -> None:
        """InputError for clips of which one can't be laid over the other."""
        if clip.skeleton.names != self.clip.skeleton.names:
            raise InputError(f"{self.clip.name} and {clip.name} are not of one rig, or not on the same controls.")
        if abs(clip.rate - self.clip.rate) > 1e-6:
            raise InputError(f"{self.clip.name} has {self.clip.rate:g} fps and {clip.name} {clip.rate:g}.")

    def run(self, clip: Clip, scope: Scope, first: int = 0) -> Clip:
        """``clip`` (from frame ``first`` of a longer one) with the difference on the joints of ``scope``; where there is none of it, to
        the last bit as it was.
        """
        other, frames = self.clip, np.arange(first, first + clip.frames)
        own = frames - self.at
        share = self._share(own) * self.strength * strength_over(frames, self.strengths)
        on = np.flatnonzero(share)
        names = clip.skeleton.names
        joints = [j for j, name in enumerate(names) if scope.has(name)] if names == other.skeleton.names else []
        if not len(on) or not joints:
            return clip
        reference = min(max(self.reference, 0), other.frames - 1)
        at, amount = own[on], share[on][:, None]
        local = as_rows(clip.rotations).copy()
        for joint in joints:
            base = other.rotations[reference, joint]
            away = rot.to_vector(rot.multiply(rot.conjugate(base), other.rotations[at, joint]))
            turn = rot.from_vector(amount * away).T
            local[joint][:, on] = rot.product_rows(local[joint][:, on], turn)
        moves = dict(clip.moves)
        for joint in joints:
            if joint in other.moves:
                way = other.moves[joint][at] - other.moves[joint][reference]
                moved = np.array(clip.move_of(joint))
                moved[on] += amount * way
                moves[joint] = moved
        return replace(clip.with_moves(moves), rotations=from_rows(local))

    def _share(self, own: np.ndarray) -> np.ndarray:
        """How far the other clip has come in ``(n,)`` at its frames ``own (n,)``: nothing outside of it."""
        last = self.clip.frames - 1
        inside = (own >= 0) & (own <= last)
        ease = max(self.seconds * self.clip.rate, 1e-9)
        return np.where(inside, eased(np.clip((np.minimum(own, last - own) + 1e-9) / ease, 0, 1)), 0.0)
