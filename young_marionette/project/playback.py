"""Motion as a stage needs it: any frame's joints in the world, worked out in blocks when first asked for."""

from __future__ import annotations

import numpy as np

from ..core.clip import Clip
from ..core.evaluator import EVALUATOR
from ..core.kinematics import forward_rows
from .pairing import Pairing

_BLOCK = 48


class Motion:
    """World joints of a placed clip, or of what a pairing makes of it on its rig. Keeps nothing itself."""

    def __init__(self, clip: Clip, pairing: Pairing | None = None) -> None:
        self.clip, self.pairing = clip, pairing

    @property
    def frames(self) -> int:
        return self.clip.frames

    @property
    def rate(self) -> float:
        return self.clip.rate

    def _worked_out(self, first: int, last: int) -> tuple[np.ndarray, np.ndarray]:
        part = self.clip.cut(first, last)
        if self.pairing is not None:
            part = self.pairing.transfer.run(part)
        return forward_rows(part)

    def _block(self, frame: int) -> tuple[np.ndarray, np.ndarray, int]:
        """``(positions, rotations, column)``: rows of some frames, and which of them is ``frame``."""
        of = self.clip, self.pairing
        # While something is dragged, each new motion is asked for one frame only: that one is to come quickly.
        first, rows = EVALUATOR.of("first frame", of, lambda: (frame, self._worked_out(frame, frame)))
        if frame == first:
            return *rows, 0
        number = frame // _BLOCK
        start = number * _BLOCK
        rows = EVALUATOR.of("frames", (*of, number), lambda: self._worked_out(start, start + _BLOCK - 1))
        return *rows, frame - start

    def at(self, frame: int) -> tuple[np.ndarray, np.ndarray]:
        """``(positions (joints, 3), rotations (joints, 4))`` at a frame, the nearest one that there is."""
        places, world, column = self._block(int(np.clip(frame, 0, self.frames - 1)))
        return places[:, :, column], world[:, :, column]

    def path(self, joint: int, first: int, last: int) -> np.ndarray:
        """World places ``(n, 3)`` of a joint over frames, both included."""
        return np.array([self.at(f)[0][joint] for f in range(max(first, 0), min(last, self.frames - 1) + 1)])
