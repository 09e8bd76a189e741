"""Skeletons whose limbs and neck end early: arms without hands, legs without feet, a neck without a head.

A bone has no joint at its far end there. The body is read with a joint put at each end, which is taken out of the reading again.
"""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..clip import Clip
from ..skeleton import Skeleton
from .words import shared_prefix

if TYPE_CHECKING:
    from .reading import Body

_NEXT = 0.9  # a bone to the one before it, where nothing tells its length


def with_ends(skeleton: Skeleton, prefix: str | None = None) -> Skeleton:
    """The skeleton with a joint at the end of every last bone: at its tip, or straight on where the file tells none."""
    points, turns = skeleton.rest_world
    leaves = [j for j, below in enumerate(skeleton.children) if not below and skeleton.parents[j] >= 0]
    offsets = []
    for joint in leaves:
        tip = skeleton.tips[joint]
        if not np.isfinite(tip[0]) or np.linalg.norm(tip) < 1e-9:
            tip = rot.rotate(rot.conjugate(turns[joint]), _NEXT * (points[joint] - points[skeleton.parents[joint]]))
        offsets.append(tip)
    shared = shared_prefix(skeleton.names) if prefix is None else prefix
    names, taken = [], set(skeleton.names)
    for joint in leaves:
        name = f"{shared}{joint}"
        while name in taken:
            name += "."
        taken.add(name)
        names.append(name)
    count = len(leaves)
    return Skeleton(
        (*skeleton.names, *names),
        np.concatenate([skeleton.parents, np.array(leaves, int)]),
        np.concatenate([skeleton.offsets, np.array(offsets).reshape(-1, 3)]),
        np.concatenate([skeleton.rest, np.tile(rot.IDENTITY, (count, 1))]),
        np.concatenate([skeleton.tips, np.full((count, 3), np.nan)]),
        np.concatenate([skeleton.scales, np.ones((count, 3))]),
    )


def clip_with_ends(clip: Clip, skeleton: Skeleton) -> Clip:
    """A clip on the skeleton that ``with_ends`` gave."""
    more = np.tile(rot.IDENTITY, (clip.frames, len(skeleton) - len(clip.skeleton), 1))
    return replace(
        clip,
        skeleton=skeleton,
        rotations=np.concatenate([clip.rotations, more], 1),
        scaled=np.zeros(0, int),
        scales=None,
    )


def without_ends(body: Body, skeleton: Skeleton, plain: Body | None, prefix: str | None = None) -> Body:
    """A body that was read with ends, on the joints that are there; ``plain``: read without them."""
    from .words import NameEvidence

    count = len(skeleton)

    def real(groups: dict[str, tuple[int, ...]]) -> dict[str, tuple[int, ...]]:
        kept = {name: tuple(j for j in run if j < count) for name, run in groups.items()}
        return {name: run for name, run in kept.items() if run}

    parts = real(body.parts)
    names = plain.names if plain is not None else NameEvidence(skeleton.names, prefix)
    return replace(
        body,
        parts=parts,
        certainty={part: body.certainty[part] for part in parts},
        named={part: body.named[part] for part in parts},
        beside=real(body.beside),
        names=names,
    )
