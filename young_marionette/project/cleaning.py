"""A clip of an entry cleaned by passes, outside of any project."""

from __future__ import annotations

from dataclasses import dataclass
from fnmatch import fnmatchcase
from typing import TYPE_CHECKING

from ..core.errors import InputError

if TYPE_CHECKING:
    from ..core.clip import Clip
    from ..core.passes.measuring import Changes
    from .entry import Entry
    from .passes import Passed


@dataclass(frozen=True, eq=False)
class Cleaned:
    """``clip``: placed. ``spikes``: frames, and ``cutoffs``: hertz, by the names of joints and morphs."""

    clip: Clip
    spikes: dict[str, list[int]]
    cutoffs: dict[str, float]
    changes: Changes


def cleaned(passed: Passed) -> Cleaned:
    """What some passes made of a clip, and what they did."""
    found: dict[str, list[int]] = {}
    cutoffs: dict[str, float] = {}
    for count in range(1, len(passed.passes) + 1):
        report = passed.stage(count).report
        found |= report.spikes
        cutoffs |= report.cutoffs
    return Cleaned(passed.stage().clip, found, cutoffs, passed.changes(0))


def names_like(entry: Entry, pattern: str) -> tuple[str, ...]:
    """The joints and morphs whose names are like a pattern with ``*`` and ``?``, letters large or small.

    InputError for none.
    """
    names = (*entry.skeleton.names, *entry.placed_clip.morphs)
    found = tuple(name for name in names if fnmatchcase(name.casefold(), pattern.casefold()))
    if not found:
        raise InputError(f"No joint of {entry.name} is called like '{pattern}'.")
    return found
