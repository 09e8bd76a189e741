"""Takes whose noise hides their steps, as filters leave them."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ..filters.methods import LowPass, Spikes
from ..filters.motion import POSITION, ROTATION, Scope, filtered
from .steadying import is_restless

if TYPE_CHECKING:
    import numpy as np

    from ..clip import Clip


def calmed(clip: Clip, places: np.ndarray, joints: set[int]) -> Clip:
    """``clip`` to look for contacts in: without spikes and jitter where ``places`` of its points jitter too much to be steadied.

    ``places (points, 3, frames)``: of the body's points, ``joints``: that they hang on. Else the clip itself. Paths of points
    can only be steadied so far before a step's ends blur; rotations tell more, since each has a cut-off of its own.
    """
    if not is_restless(places, clip.rate):
        return clip
    names = frozenset(clip.skeleton.names[j] for joint in joints for j in (joint, *clip.skeleton.ancestors(joint)))
    scope = Scope((ROTATION, POSITION), names)
    return filtered(filtered(clip, Spikes(), scope)[0], LowPass(), scope)[0]
