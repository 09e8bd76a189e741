"""Columns of a recording that are no markers: angles, forces, moments, powers and axes that a program worked out from them.

C3D files keep such outputs beside the markers, in the same arrays. Their own parameters list most of them; what the labels
and the values show tells the rest.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence
from itertools import combinations

import numpy as np

# Words that end the names of what is worked out, in the spellings that laboratories use.
_WORDS = re.compile(
    r"(angles?|moments?|torques?|forces?|powers?|grf|cop|velocity|acceleration|work|energy|momentum|progression|progress"
    r"|cent(re|er)ofmass(floor)?|cent(re|er)ofgravity|com(floor)?)\d*$",
    re.I,
)
_SQUARE, _EVEN = 0.02, 0.02  # cosines between the axes of a computed frame, and by how much they change in length
_FRAMES = 60
_FLAT = 1e-9


def computed_outputs(labels: Sequence[str], points: np.ndarray, listed: Collection[str] = ()) -> np.ndarray:
    """Which columns are no markers ``(markers,)``, as a mask.

    ``points (frames, markers, 3)``: NaN where nothing was seen; in any unit. ``listed``: labels that the file's own
    parameters list as angles, forces and the like.
    """
    bare = [label.rpartition(":")[2].strip() for label in labels]
    known = {label.strip() for label in listed} | {label.rpartition(":")[2].strip() for label in listed}
    mask = np.array([a.strip() in known or b in known or bool(_WORDS.search(b)) for a, b in zip(labels, bare)], bool)
    return mask | _scalars(points) | _axes(bare, points)


def _scalars(points: np.ndarray) -> np.ndarray:
    """Columns of a single number: both other coordinates are zero whenever there is one."""
    seen = np.isfinite(points).all(-1)
    zero = (np.abs(points) <= _FLAT) | ~seen[..., None]
    return (zero.all(0).sum(-1) >= 2) & seen.any(0)  # type: ignore[no-any-return]


def _axes(labels: list[str], points: np.ndarray) -> np.ndarray:
    """Columns that draw the axes of a segment: four whose labels differ in the last letter alone, three of them square about the fourth."""
    stems: dict[str, list[int]] = {}
    for marker, label in enumerate(labels):
        if len(label) > 1:
            stems.setdefault(label[:-1], []).append(marker)
    mask = np.zeros(len(labels), bool)
    few = points[:: max(len(points) // _FRAMES, 1)]
    for own in stems.values():
        if not 4 <= len(own) <= 12:
            continue
        for middle in own:
            for three in combinations([m for m in own if m != middle], 3):
                if _is_frame(few[:, three] - few[:, [middle]]):
                    mask[[middle, *three]] = True
    return mask


def _is_frame(arms: np.ndarray) -> bool:
    """Whether three directions ``(frames, 3, 3)`` are square to each other and keep their lengths, as no three markers do."""
    arms = arms[np.isfinite(arms).all((1, 2))]
    if len(arms) < 3:
        return False
    lengths = np.linalg.norm(arms, axis=-1)
    if lengths.min() <= _FLAT or (np.ptp(lengths, axis=0) > _EVEN * lengths.mean(0)).any():
        return False
    unit = arms / lengths[..., None]
    square = np.abs(np.einsum("fic,fjc->fij", unit, unit) - np.eye(3)).max()
    return bool(square < _SQUARE)
