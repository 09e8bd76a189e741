"""Stringings that were made for nearly the same two skeletons."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from ...core.errors import InputError
from ...core.matching.tying import tie
from ..pairing import Origin
from .conversion import from_file
from .sides import matcher

if TYPE_CHECKING:
    from ..entry import Entry
    from ..pairing import Pairing
    from .schema import StringingFile


def adapt(file: StringingFile, source: Entry, rig: Entry) -> Pairing:
    """A stringing that nearly fits, on two entries (a Pairing; its origin tells what it lacks).

    Strings whose bones are all there are kept; what is left is tied by itself. InputError where less
    than half of its strings fit.
    """
    source_names, target_names = matcher(file.source, source.placed_skeleton), matcher(file.target, rig.placed_skeleton)
    fit = [
        t for t in file.strings if all(n in source_names for n in t.source) and all(n in target_names for n in t.target)
    ]
    if 2 * len(fit) < len(file.strings) or source.figure.body is None or rig.figure.body is None:
        raise InputError(
            f"The stringing {file.name or 'without a name'} fits too little of these two skeletons to be adapted."
        )
    pairing = from_file(file.model_copy(update={"strings": fit}), source, rig)
    parts, used = {s.part for s in pairing.strings}, {n for s in pairing.strings for n in s.target}
    fresh = [
        s
        for s in tie(pairing.source, source.figure.body, pairing.target, rig.figure.body)
        if s.part not in parts and not used & set(s.target)
    ]
    lost = [t.part for t in file.strings if t not in fit]
    origin = Origin("adapted", file.name, tuple(lost), tuple(s.part for s in fresh))
    return replace(pairing.with_strings((*pairing.strings, *fresh)), origin=origin)


def nearly_fits(file: StringingFile, source: Entry, rig: Entry) -> bool:
    """Whether a stringing of other families can be adapted to two entries: most of its bones are there."""
    sides = (file.source, source.placed_skeleton), (file.target, rig.placed_skeleton)
    return all(len(matcher(side, skeleton)) >= 0.8 * len(side.joints) for side, skeleton in sides)
