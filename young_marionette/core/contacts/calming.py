"""Takes whose noise hides their steps, as filters leave them."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ..filters.methods import LowPass, Spikes
from ..filters.motion import POSITION, ROTATION, Scope, filtered

if TYPE_CHECKING:
    from ..clip import Clip


def calmed(clip: Clip, joints: set[int]) -> Clip:
    """``clip`` without spikes and jitter in all that some ``joints`` hang on.

    For looking for contacts where points jitter too much to be steadied (see ``is_restless``): paths can only be steadied so far
    before a step's ends blur; rotations tell more, since each has a cut-off of its own.
    """
    names = frozenset(clip.skeleton.names[j] for joint in joints for j in (joint, *clip.skeleton.ancestors(joint)))
    scope = Scope((ROTATION, POSITION), names)
    return filtered(filtered(clip, Spikes(), scope)[0], LowPass(), scope)[0]
