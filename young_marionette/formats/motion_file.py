"""What every reader gives: a skeleton and its clips in the file's own unit and axes, and what was odd."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from ..core.declared import Declared
from ..core.skeleton import Clip, Skeleton


@dataclass(frozen=True, eq=False)
class MotionFile:
    """``layout`` holds what only the format's own writer needs to write the same kind of file again.

    ``declared``: what the file says of unit, axes and bones. ``name``: the file's, with the skeleton's where it has
    several; the others are in ``more``.
    """

    path: Path
    format: str
    skeleton: Skeleton
    clips: tuple[Clip, ...]
    layout: object
    notes: tuple[str, ...] = ()
    declared: Declared = Declared()
    name: str = ""
    more: tuple[MotionFile, ...] = ()
