"""Scales of joints over time, as factors of those at rest, and what they do to the joints below."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from .skeleton import Skeleton


def factors_above(skeleton: Skeleton, factors: Mapping[int, np.ndarray]) -> dict[int, np.ndarray]:
    """``{joint: (frames, 3)}``: how much longer than at rest the offsets are below joints whose scales change.

    ``factors``: ``{joint: (frames, 3)}`` of those that change by themselves.
    """
    above: dict[int, np.ndarray] = {}
    for joint, parent in enumerate(skeleton.parents.tolist()):
        parts = [f[parent] for f in (above, factors) if parent in f]
        if parts:
            above[joint] = np.prod(parts, 0)
    return above


def factors_of_pose(skeleton: Skeleton, factors: Mapping[int, np.ndarray]) -> np.ndarray | None:
    """``(joints, 3)``: how much larger than at rest the joints' own axes are in a pose, or None.

    ``factors``: ``{joint: (3,)}`` of those that change by themselves.
    """
    own = {joint: np.asarray(factor)[None] for joint, factor in factors.items() if joint < len(skeleton)}
    if not own:
        return None
    result = np.ones((len(skeleton), 3))
    for part in (own, factors_above(skeleton, own)):
        for joint, factor in part.items():
            result[joint] *= factor[0]
    return result
