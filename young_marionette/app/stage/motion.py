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
        self._blocks = {}

    @property
    def frames(self):
        return self.clip.frames

    @property
    def rate(self):
        return self.clip.rate

    def _cut(self, first, last):
        return self.clip.cut(first, last)

    def _block(self, number):
        if number not in self._blocks:
            part = self._cut(number * _BLOCK, (number + 1) * _BLOCK - 1)
            world = world_rotation_rows(part.skeleton, as_rows(part.rotations))
            places = position_rows(part.skeleton, world, part.moving, as_rows(part.translations))
            self._blocks[number] = places, world
        return self._blocks[number]

    def at(self, frame):
        """``(positions (joints, 3), rotations (joints, 4))`` at a frame, the nearest one that there is."""
        frame = int(np.clip(frame, 0, self.frames - 1))
        places, world = self._block(frame // _BLOCK)
        return places[:, :, frame % _BLOCK], world[:, :, frame % _BLOCK]

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
