"""Loops of baked clips: the gap that a loop pass closes, its ghost on the stage, and the best stretches."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ..core.evaluator import EVALUATOR
from ..core.passes.loop import Loop
from ..core.travel.loops import LEAST, Gap, Stretch, best_stretches, gap_of, ghost_places

if TYPE_CHECKING:
    import numpy as np

    from ..core.clip import Clip
    from .bakes import Bake


def _before(bake: Bake, identifier: str | None) -> tuple[Clip, Loop, int] | None:
    """``(clip, loop, hips)``: what lies beneath a loop pass that is on, where that is known; None for any other pass."""
    passed = bake.passed
    ids = [one.id for one in passed.passes]
    at = ids.index(identifier) if identifier in ids else -1
    if at < 0 or not isinstance(passed.passes[at].method, Loop) or passed.known()[1] < at:
        return None
    clip, loop = passed.bones(passed.stage(at).clip), passed.passes[at].method
    assert isinstance(loop, Loop)  # as was looked at
    return (clip, loop, passed.limbs.hips) if clip.frames > LEAST else None


def loop_gap(bake: Bake, identifier: str | None) -> Gap | None:
    """What a loop pass has to close; None where that is not known, or it is none."""
    found = _before(bake, identifier)
    if found is None:
        return None
    clip, loop, hips = found
    span = loop.span(clip.frames)
    return EVALUATOR.of("gap of a loop", (clip, *span, hips), lambda: gap_of(clip, hips, *span))


def loop_ghost(bake: Bake, identifier: str | None) -> tuple[np.ndarray, np.ndarray] | None:
    """World places and rotations of the first pose of a loop, put where its last frame stands."""
    found = _before(bake, identifier)
    if found is None:
        return None
    clip, loop, hips = found
    span = loop.span(clip.frames)
    return EVALUATOR.of("ghost of a loop", (clip, *span, hips), lambda: ghost_places(clip, hips, *span))


def loop_stretches(bake: Bake, identifier: str, shortest: float = 0.5) -> list[Stretch]:
    """The best stretches for a loop pass, best first; takes a moment. InputError where the clip is too short."""
    passed = bake.passed
    at = [one.id for one in passed.passes].index(identifier)
    clip = passed.bones(passed.stage(at).clip)
    return best_stretches(clip, passed.limbs.hips, shortest)
