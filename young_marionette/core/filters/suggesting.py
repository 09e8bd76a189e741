"""The cut-offs that the parts of a body ask for."""

from __future__ import annotations

import itertools
from collections.abc import Collection, Mapping
from typing import TYPE_CHECKING

import numpy as np

from ..clip import as_rows
from .breaks import breaks
from .lowpass import Suggestions, suggestions
from .motion import continuous
from .noise import white

if TYPE_CHECKING:
    from ..clip import Clip


def suggested_for(clip: Clip, groups: Mapping[str, Collection[str]], order: int = 2) -> dict[str, Suggestions]:
    """``{group: what its joints' rotations (or its morphs) ask for together}``: one channel each; see lowpass.suggestions.

    Of the longest stretch without a break. Groups that stand still ask for nothing.
    """
    rows, cosines = continuous(as_rows(clip.rotations))
    edges = [0, *breaks(rows, cosines), clip.frames]
    first, end = max(itertools.pairwise(edges), key=lambda pair: pair[1] - pair[0])
    rows, weights = rows[..., first:end], np.ascontiguousarray(clip.weights.T[:, None, first:end])
    noise, of_morphs = white(np.ascontiguousarray(rows)), white(weights)
    found = {}
    for group, names in groups.items():
        joints = [clip.skeleton.index[n] for n in names if n in clip.skeleton.index]
        morphs = [clip.morphs.index(n) for n in names if n in clip.morphs]
        parts, own = (rows[joints], noise[joints]) if joints else (weights[morphs], of_morphs[morphs])
        if len(parts):
            together = parts.reshape(1, -1, end - first)
            found[group] = suggestions(together, clip.rate, order, own.sum(keepdims=True))
    return found
