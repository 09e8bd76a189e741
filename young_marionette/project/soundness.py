"""Stored arrays as skeletons and clips: checked completely, so that all that loads can also be saved and delivered."""

from __future__ import annotations

import zipfile
import zlib
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from ..core.clip import Clip
from ..core.keys.arrays import from_arrays
from ..core.keys.channel import Kind
from ..core.keys.keyed import KeyedClip
from ..core.keys.sampler import Interpolation
from ..core.skeleton import Skeleton
from ..formats.sampling import check_size
from ..formats.source_file import FileLayout

if TYPE_CHECKING:
    pass


# What unsound data bring up, wherever they do.
UNSOUND = (
    ValueError, KeyError, OSError, TypeError, IndexError, MemoryError, EOFError, AttributeError, OverflowError,
    RuntimeError, NotImplementedError, zlib.error, zipfile.BadZipFile, zipfile.LargeZipFile,
)  # fmt: skip


def sound_skeleton(joints: list[str], arrays: dict[str, np.ndarray]) -> Skeleton:
    """A Skeleton of stored arrays; ValueError for what no reader would give."""
    tips, scales = arrays["tips"], arrays.get("scales")
    parents = np.asarray(arrays["parents"])
    if parents.dtype.kind not in "iu" or (parents < -1).any():
        raise ValueError("parents that are none")
    skeleton = Skeleton(tuple(joints), parents, arrays["offsets"], arrays["rest"], tips, scales)
    if np.isnan(skeleton.tips).any(1).tolist() != np.isnan(skeleton.tips).all(1).tolist():
        raise ValueError("half a tip")
    _finite(skeleton.offsets, skeleton.scales, skeleton.tips[~np.isnan(skeleton.tips)])
    _turns(skeleton.rest)
    if not all(skeleton.names) or (skeleton.scales == 0).any():
        raise ValueError("names or scales that are none")
    return skeleton


def sound_clip(
    name: str, skeleton: Skeleton, rate: float, morphs: Sequence[str], arrays: dict[str, np.ndarray], start: float = 0.0
) -> Clip:
    """A Clip of stored arrays; ValueError for what no reader would give."""
    rotations = np.moveaxis(arrays["rotations"], -1, 0)
    # Projects of version 3 and before have no scales, or have them as curves with a name.
    translations, scales = (
        np.moveaxis(arrays[key], -1, 0) if key in arrays else None for key in ("translations", "factors")
    )
    moving, scaled = (np.asarray(arrays.get(key, np.zeros(0, int))) for key in ("moving", "scaled"))
    clip = Clip(
        name,
        skeleton,
        rate,
        rotations,
        moving,
        translations,
        tuple(morphs),
        arrays.get("values"),
        scaled,
        scales,
        start,
    )
    if clip.frames < 1:
        raise ValueError("no frames")
    for joints in (moving, scaled):
        if joints.size and (
            joints.dtype.kind not in "iu"
            or len(set(joints.tolist())) != len(joints)
            or not 0 <= joints.min() <= joints.max() < len(skeleton)
        ):
            raise ValueError("joints that are none")
    _finite(clip.translations, clip.weights, clip.scales)
    _turns(clip.rotations)
    return clip


def sound_keys(
    name: str, skeleton: Skeleton, rate: float, morphs: list[Any], arrays: dict[str, np.ndarray]
) -> KeyedClip:
    """A KeyedClip of stored arrays; ValueError for what no reader would give."""
    _finite(*(arrays[key] for key in ("times", "values", "tangents") if key in arrays))
    ways = np.asarray(arrays.get("interpolation", ()))
    if ways.size and not 0 <= ways.min() <= ways.max() <= max(Interpolation):
        raise ValueError("interpolations that are none")
    clip = from_arrays(name, skeleton, rate, morphs, arrays)
    check_size(name, name, clip.frames, len(skeleton))
    for channel, sampler in clip.samplers.items():
        if channel.kind is Kind.ROTATION and not (np.abs(sampler.values).max(1) > 0.1).all():
            raise ValueError("rotations that are none")
    return clip


def sound_layout(layout: FileLayout, skeleton: Skeleton) -> FileLayout:
    """A layout that fits a skeleton; ValueError for any other."""
    if len(layout.names) != len(skeleton):
        raise ValueError("a layout of another skeleton")
    return layout


def _finite(*arrays: np.ndarray) -> None:
    for array in arrays:
        if array.size and not np.abs(array).max() < 1e12:  # also false for NaN
            raise ValueError("numbers that are none")


def _turns(array: np.ndarray) -> None:
    length = np.einsum("...i,...i->...", array, array)
    if length.size and not (length.min() > 0.9 and length.max() < 1.1):
        raise ValueError("rotations that are none")
