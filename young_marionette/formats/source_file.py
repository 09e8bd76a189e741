"""What every reader gives: the parts of a file in its own unit and axes, and what was odd."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, Protocol

from ..core.character.meshes import Character
from ..core.clip import Clip
from ..core.figure.declared import Declared
from ..core.findings import Finding
from ..core.keys.keyed import KeyedClip
from ..core.skeleton import Skeleton
from ..core.text import shown
from ..core.transfer.limits import JointLimit
from .markers.parts import MarkerPart


class FileLayout(Protocol):
    """A skeleton's file as its own format's writer needs it, so that it can be written again with other motion.

    ``names``: what the joints are called now. ``character``: the body over the skeleton, or None, and ``body_problem``:
    why one that is there can't be used. ``expressions``: ``{name: {morph: weight}}``. ``drawn_in``: files that it was made of.
    """

    @property
    def format(self) -> str: ...
    @property
    def names(self) -> tuple[str, ...]: ...
    @property
    def character(self) -> Character | None: ...
    @property
    def body_problem(self) -> str: ...
    @property
    def expressions(self) -> dict[str, dict[str, float]]: ...
    @property
    def drawn_in(self) -> tuple[str, ...]: ...

    def renamed(self, names: tuple[str, ...]) -> FileLayout:
        """The layout with other joint names."""
        ...

    def packed(self) -> tuple[dict[str, Any], bytes | None]:
        """``(plain data, bytes)`` to store it by."""
        ...


@dataclass(frozen=True, eq=False)
class SkeletonPart:
    """One skeleton of a file, with its clips. ``name``: the file's, with the skeleton's where it has several.

    ``layout`` holds what only the format's own writer needs to write the same kind of file again. ``declared``: what the
    file says of unit, axes and bones; ``limits``: of how far joints may turn. ``extras``: plain data that goes with each clip.
    ``parted``: animations of the file that one of the clips holds together, each by itself. Names of clips are made fit to be shown; names of joints are the file's own.
    """

    name: str
    skeleton: Skeleton
    clips: tuple[Clip | KeyedClip, ...]
    layout: FileLayout | None = None
    notes: tuple[Finding, ...] = ()
    declared: Declared = Declared()
    limits: tuple[JointLimit, ...] = ()
    extras: tuple[dict[str, Any] | None, ...] = ()
    parted: tuple[Clip | KeyedClip, ...] = ()

    def __post_init__(self) -> None:
        put = object.__setattr__
        put(self, "name", shown(self.name))
        for which in ("clips", "parted"):
            clips = getattr(self, which)
            put(self, which, tuple(c if c.name == shown(c.name) else replace(c, name=shown(c.name)) for c in clips))


Part = SkeletonPart | MarkerPart


@dataclass(frozen=True, eq=False)
class SourceFile:
    """What a file holds, part by part; ``format``: what people call its kind."""

    path: Path
    format: str
    parts: tuple[Part, ...]

    @property
    def skeletons(self) -> tuple[SkeletonPart, ...]:
        """The parts that are skeletons, largest first."""
        return tuple(part for part in self.parts if isinstance(part, SkeletonPart))

    @property
    def markers(self) -> tuple[MarkerPart, ...]:
        """The parts that are recordings of markers."""
        return tuple(part for part in self.parts if isinstance(part, MarkerPart))
