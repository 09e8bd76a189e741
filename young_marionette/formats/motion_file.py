"""What every reader gives: a skeleton and its clips in the file's own unit and axes, and what was odd."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from ..core.clip import Clip
from ..core.figure.declared import Declared
from ..core.findings import Finding
from ..core.keys.keyed import KeyedClip
from ..core.skeleton import Skeleton
from ..core.text import shown


@dataclass(frozen=True, eq=False)
class MotionFile:
    """``layout`` holds what only the format's own writer needs to write the same kind of file again.

    ``declared``: what the file says of unit, axes and bones. ``name``: the file's, with the skeleton's where it has
    several; the others are in ``more``. Names of clips are made fit to be shown; names of joints are the file's own.
    """

    path: Path
    format: str
    skeleton: Skeleton
    clips: tuple[Clip | KeyedClip, ...]
    layout: Any
    notes: tuple[Finding, ...] = ()
    declared: Declared = Declared()
    name: str = ""
    more: tuple[MotionFile, ...] = ()

    def __post_init__(self):
        put = object.__setattr__
        put(self, "name", shown(self.name or self.path.stem))
        put(self, "clips", tuple(c if c.name == shown(c.name) else replace(c, name=shown(c.name)) for c in self.clips))
