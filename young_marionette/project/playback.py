"""Motion as a stage needs it: any frame's joints in the world, worked out in blocks when first asked for."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from ..core.controls.motion import solve, solved_rows
from ..core.evaluator import EVALUATOR
from ..core.kinematics import forward_rows
from .bakes import Bake
from .entry import Entry
from .planting import adapts, carry, known_result, travel

if TYPE_CHECKING:
    from ..core.clip import Clip
    from .pairing import Pairing
    from .passes import Passed

_BLOCK = 48
_SAMPLED = 48  # frames of a clip by which its reach is told
_AROUND = 0.8  # seconds of motion that planting looks at on each side before the whole clip is worked out


def aside(entry: Entry | Bake, resting: bool = False) -> float:
    """How far an entry's figure reaches aside of its hips along X, in its clip or at rest, as a share of its height."""
    clip, body = entry.placed_clip, entry.figure.body
    skeleton = clip.skeleton
    hips = body.parts["hips"][0] if body is not None else 0

    def reach() -> float:
        if resting or clip.frames < 2:
            places = skeleton.rest_world[0][:, 0]
        else:
            places = forward_rows(clip, step=max(clip.frames // _SAMPLED, 1))[0][:, 0]
        return float(np.abs(places - places[hips]).max()) / max(entry.figure.height, 1e-9)

    return EVALUATOR.of("reach aside", (clip, hips, resting), reach)


class Motion:
    """World joints of a placed clip, or of what a pairing makes of it on its rig. Keeps nothing itself.

    Where feet are planted, what is not worked out yet is planted by what lies around the frame.
    """

    def __init__(
        self,
        source: Entry | Bake,
        pairing: Pairing | None = None,
        rig: Entry | None = None,
        passed: Passed | None = None,
    ) -> None:
        """``passed``: of a bake with other passes than its own."""
        self.source, self.pairing, self.rig = source, pairing, rig
        self.whole: Clip | None = None
        self.passed: Passed | None = None
        self.adapted, self._contacts = False, None
        self.control_rig = source.control_rig if isinstance(source, Bake) else None
        self.clip: Clip = source.dense if isinstance(source, Bake) else source.placed_clip
        self.frames, self.rate = self.clip.frames, self.clip.rate
        if isinstance(source, Bake):
            self.passed = passed if passed is not None else source.passed
            if not self.passed.passes:
                self.passed = None
                return
            self.frames, self.rate = self.passed.length
            known = self.passed.result
            self.whole = known.clip if known is not None else None
        elif pairing is not None and rig is not None and adapts(pairing, rig):
            self.adapted = True
            self.whole = known_result(pairing, source, rig)
            if self.whole is None and source.knows_contacts:
                self._contacts = source.contacts

    @property
    def lags(self) -> bool:
        """Whether the whole clip has to be worked out before what is shown is exact."""
        return (self.adapted or self.passed is not None) and self.whole is None

    def _worked_out(self, first: int, last: int) -> tuple[np.ndarray, np.ndarray]:
        if self.control_rig is not None:
            return solved_rows(self.control_rig, self.controls(first, last), self._tackle(first, last))
        if self.whole is not None:
            return forward_rows(self.whole.cut(first, last))
        if self.passed is not None:
            return forward_rows(self.passed.part(first, last))
        if self.pairing is None or self.rig is None:
            return forward_rows(self.clip.cut(first, last))
        if self._contacts is None:
            return forward_rows(travel(self.pairing.transfer.run(self.clip.cut(first, last)), self.pairing))
        around = round(_AROUND * self.rate)
        start, end = max(first - around, 0), min(last + around, self.frames - 1)
        contacts = self._contacts.in_frames(start, end, self.rate)
        assert isinstance(self.source, Entry)  # bakes are not carried over again
        part = carry(self.pairing, self.source, self.rig, self.clip.cut(start, end), contacts, quick=True)
        return forward_rows(travel(part.cut(first - start, last - start), self.pairing))

    def controls(self, first: int, last: int) -> Clip:
        """The motion of the controls on frames, both included, of a bake that is on controls."""
        if self.whole is not None or self.passed is None:
            return (self.whole or self.clip).cut(first, last)
        passed = self.passed
        # Figure and controls of a picture ask for the same frame.
        key = self.clip, passed.passes, first, last
        return EVALUATOR.of("controls of frames", key, lambda: passed.part(first, last))

    def pose_at(self, frame: int) -> Clip:
        """The clip itself (of one frame, as it is without its passes where their result is not known) with morphs and scales."""
        clip = self.whole or self.clip
        nearest = min(max(frame, 0), clip.frames - 1)
        pose = clip.cut(nearest, nearest)
        return pose if self.control_rig is None else solve(self.control_rig, pose)

    def tackle_at(self, frame: int) -> tuple[np.ndarray, np.ndarray]:
        """``(places (controls, 3), rotations (controls, 4))`` of the controls at a frame, of a bake that is on controls."""
        frame = int(np.clip(frame, 0, self.frames - 1))
        places, turns = self._tackle(frame, frame)
        return places[:, :, 0], turns[:, :, 0]

    def _tackle(self, first: int, last: int) -> tuple[np.ndarray, np.ndarray]:
        """Rows of the controls in the world."""
        key = self.clip, self.whole, self.passed.passes if self.passed else None, first, last
        return EVALUATOR.of("controls in the world", key, lambda: forward_rows(self.controls(first, last)))

    def _block(self, frame: int) -> tuple[np.ndarray, np.ndarray, int]:
        """``(positions, rotations, column)``: rows of some frames, and which of them is ``frame``."""
        of: tuple[Any, ...] = (self.clip, self.pairing, self._contacts)
        if self.whole is not None:
            of = (self.whole,)
        elif self.passed is not None:
            of = self.clip, self.passed.passes
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
        frames = range(max(first, 0), min(last, self.frames - 1) + 1)
        return np.array([self.at(f)[0][joint] for f in frames]).reshape(-1, 3)
