"""Scales over time as versions 1 to 3 kept them: three curves for each joint, told by their names."""

from __future__ import annotations

import re
from dataclasses import replace

import numpy as np

from ..core.clip import Clip

_NAME = re.compile(r"scale of joint (\d+) along ([XYZ])")


def with_typed_scales(clip: Clip) -> Clip:
    """The clip with what its curves tell of scales as scales; ValueError for a joint that is not there."""
    matches = [_NAME.fullmatch(name) for name in clip.morphs]
    if not any(matches):
        return clip
    joints = sorted({int(match[1]) for match in matches if match})
    if joints[-1] >= len(clip.skeleton):
        raise ValueError("scales of no joint")
    scales = np.ones((clip.frames, len(joints), 3))
    for column, match in enumerate(matches):
        if match:
            scales[:, joints.index(int(match[1])), "XYZ".index(match[2])] = clip.weights[:, column]
    kept = [i for i, match in enumerate(matches) if not match]
    names = tuple(clip.morphs[i] for i in kept)
    return replace(clip, morphs=names, weights=clip.weights[:, kept], scaled=np.array(joints), scales=scales)
