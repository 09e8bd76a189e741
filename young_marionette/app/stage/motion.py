"""Motion as the stage needs it: any frame's joints in the world, worked out in blocks when first asked for."""

from __future__ import annotations

import numpy as np

from ...core.kinematics import position_rows, world_rotation_rows
from ...core.skeleton import as_rows

_BLOCK = 48


class Motion:
    """World joints of a placed clip. A subclass may make the clip's frames on the way."""

    def __init__(self, clip):
        self.clip = clip
        self._blocks, self._first = {}, None

    @property
    def frames(self):
        return self.clip.frames

    @property
    def rate(self):
        return self.clip.rate

    def _cut(self, first, last):
        return self.clip.cut(first, last)

    def _worked_out(self, first, last):
        part = self._cut(first, last)
        world = world_rotation_rows(part.skeleton, as_rows(part.rotations))
        return position_rows(part.skeleton, world, part.moving, as_rows(part.translations)), world

    def at(self, frame):
        """``(positions (joints, 3), rotations (joints, 4))`` at a frame, the nearest one that there is."""
        frame = int(np.clip(frame, 0, self.frames - 1))
        number = frame // _BLOCK
        # While something is dragged, each new motion is asked for one frame only: that one is to come quickly.
        if self._first is None:
            self._first = frame, self._worked_out(frame, frame)
        if frame == self._first[0]:
            (places, world), column = self._first[1], 0
        else:
            if number not in self._blocks:
                self._blocks[number] = self._worked_out(number * _BLOCK, (number + 1) * _BLOCK - 1)
            (places, world), column = self._blocks[number], frame % _BLOCK
        return places[:, :, column], world[:, :, column]

    def path(self, joint, first, last):
        """World places ``(n, 3)`` of a joint over frames, both included."""
        return np.array([self.at(f)[0][joint] for f in range(max(first, 0), min(last, self.frames - 1) + 1)])


class LiveMotion(Motion):
    """The transfer of a source clip by a pairing, a block at a time."""

    def __init__(self, clip, pairing):
        super().__init__(clip)
        self.pairing = pairing

    def _cut(self, first, last):
        return self.pairing.transfer.run(self.clip.cut(first, last))


class MotionCache:
    """The last few motions, so that going back and forth costs nothing."""

    def __init__(self, size=12):
        self._size, self._kept = size, {}

    def get(self, clip, pairing=None):
        """The Motion of a clip, or of its transfer by a pairing."""
        key = (id(clip), id(pairing))
        hit = self._kept.pop(key, None)
        if hit is None or hit.clip is not clip or getattr(hit, "pairing", None) is not pairing:
            hit = Motion(clip) if pairing is None else LiveMotion(clip, pairing)
        self._kept[key] = hit
        while len(self._kept) > self._size:
            self._kept.pop(next(iter(self._kept)))
        return hit
