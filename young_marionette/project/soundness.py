"""Stored arrays as skeletons and clips: checked completely, so that all that loads can also be saved and delivered."""

from __future__ import annotations

import zipfile
import zlib

import numpy as np

from ..core.clip import Clip
from ..core.skeleton import Skeleton

# What unsound data bring up, wherever they do.
UNSOUND = (
    ValueError, KeyError, OSError, TypeError, IndexError, MemoryError, EOFError, AttributeError, OverflowError,
    RuntimeError, NotImplementedError, zlib.error, zipfile.BadZipFile, zipfile.LargeZipFile,
)  # fmt: skip


def sound_skeleton(joints, arrays) -> Skeleton:
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


def sound_clip(name, skeleton, rate, curves, arrays) -> Clip:
    """A Clip of stored arrays; ValueError for what no reader would give."""
    rotations, translations = (np.moveaxis(arrays[key], -1, 0) for key in ("rotations", "translations"))
    moving, values = np.asarray(arrays["moving"]), arrays.get("values")
    clip = Clip(name, skeleton, rate, rotations, moving, translations, tuple(curves), values)
    if clip.frames < 1 or (moving.size and moving.dtype.kind not in "iu"):
        raise ValueError("no frames, or joints that are none")
    if len(set(moving.tolist())) != len(moving) or (
        moving.size and not (0 <= moving.min() <= moving.max() < len(skeleton))
    ):
        raise ValueError("joints that are none")
    _finite(clip.translations, clip.values)
    _turns(clip.rotations)
    return clip


def sound_layout(layout, skeleton):
    """A layout that fits a skeleton; ValueError for any other."""
    if len(layout.names) != len(skeleton):
        raise ValueError("a layout of another skeleton")
    return layout


def _finite(*arrays):
    for array in arrays:
        if array.size and not np.abs(array).max() < 1e12:  # also false for NaN
            raise ValueError("numbers that are none")


def _turns(array):
    length = np.einsum("...i,...i->...", array, array)
    if length.size and not (length.min() > 0.9 and length.max() < 1.1):
        raise ValueError("rotations that are none")
