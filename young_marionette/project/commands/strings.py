"""Edits of the strings between the active two."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from ...core.errors import InputError
from ...core.matching.tying import mirror_part, partner_of, set_string, tie
from ...wording.findings import finding_words
from ..pairing import are_unlike, unlike
from .base import active, need

if TYPE_CHECKING:
    from ..document import State
    from ..entry import Entry


@dataclass(frozen=True)
class TieBones:
    """Tie source bones to target bones for a part of the body, and the mirror bones where ``mirror`` is set."""

    part: str
    source: tuple[str, ...]
    target: tuple[str, ...]
    mirror: bool = False

    @property
    def label(self) -> str:
        return f"tie {self.part}"

    def run(self, state: State) -> State:
        pairing = need(state)
        strings = set_string(pairing.strings, self.part, self.source, self.target)
        other = mirror_part(self.part)
        if self.mirror and other:
            _, source, rig = active(state)
            mirrored_source, mirrored_target = _mirror_bones(source, self.source), _mirror_bones(rig, self.target)
            if mirrored_source is not None and mirrored_target is not None:
                strings = set_string(strings, other, mirrored_source, mirrored_target)
        return state.with_pairing(pairing.with_strings(strings))


def _mirror_bones(entry: Entry, names: tuple[str, ...]) -> tuple[str, ...] | None:
    """The bones at the same place on the other side of the body, or None where one has no partner."""
    body, skeleton = entry.figure.body, entry.placed_skeleton
    mirror_images = [partner_of(body, skeleton.index[name]) if body is not None else None for name in names]
    partners = [joint for joint in mirror_images if joint is not None]
    return tuple(skeleton.names[j] for j in partners) if len(partners) == len(mirror_images) else None


@dataclass(frozen=True)
class Untie:
    """Take the string off a part."""

    part: str

    @property
    def label(self) -> str:
        return f"untie {self.part}"

    def run(self, state: State) -> State:
        pairing = need(state)
        strings = tuple(s for s in pairing.strings if s.part != self.part)
        return state.with_pairing(pairing.with_strings(strings)) if len(strings) < len(pairing.strings) else state


@dataclass(frozen=True)
class TieAll:
    """Tie again by itself: everything, only what has no string, or only some ``parts``; locked strings stay."""

    only_untied: bool = False
    parts: tuple[str, ...] | None = None

    @property
    def label(self) -> str:
        return "tie untied parts" if self.only_untied else "tie a part of the body" if self.parts else "tie all"

    def run(self, state: State) -> State:
        pairing = need(state)
        _, source, rig = active(state)
        if not (source.figure.body and rig.figure.body):
            raise InputError("No body can be seen on one side, so nothing can be tied automatically.")
        if are_unlike(source, rig) and not self.parts:
            raise InputError(finding_words(unlike(source, rig)).text)
        strings = tie(pairing.source, source.figure.body, pairing.target, rig.figure.body, unlike=bool(self.parts))
        kept = [
            s
            for s in pairing.strings
            if s.locked or self.only_untied or (self.parts and s.part.removesuffix(" twist") not in self.parts)
        ]
        parts, used = {s.part for s in kept}, {n for s in kept for n in s.target}
        wanted = [s for s in strings if not self.parts or s.part.removesuffix(" twist") in self.parts]
        strings = (*kept, *(s for s in wanted if s.part not in parts and not used & set(s.target)))
        return state.with_pairing(pairing.with_strings(strings))


@dataclass(frozen=True)
class Lock:
    """Lock a string, so that tying by itself leaves it, or unlock it."""

    part: str
    locked: bool = True

    @property
    def label(self) -> str:
        return f"{'lock' if self.locked else 'unlock'} {self.part}"

    def run(self, state: State) -> State:
        pairing = need(state)
        if self.part not in {s.part for s in pairing.strings}:
            raise InputError(f"The {self.part} has no string to lock.")
        strings = tuple(replace(s, locked=self.locked) if s.part == self.part else s for s in pairing.strings)
        return state.with_pairing(replace(pairing, strings=strings))


@dataclass(frozen=True)
class DeclareAbsent:
    """Say that a part of the body is not there (a creature without arms), or take that back."""

    part: str
    absent: bool = True

    @property
    def label(self) -> str:
        return f"declare {self.part} {'absent' if self.absent else 'present'}"

    def run(self, state: State) -> State:
        pairing = need(state)
        if self.part == "hips":
            raise InputError("The hips can't be absent: all motion hangs on them.")
        rest = tuple(p for p in pairing.absent if p != self.part)
        strings = tuple(s for s in pairing.strings if not (self.absent and s.part == self.part))
        changed = replace(pairing, absent=(*rest, self.part) if self.absent else rest)
        return state.with_pairing(changed.with_strings(strings) if len(strings) < len(pairing.strings) else changed)


@dataclass(frozen=True)
class SwapSides:
    """Exchange left and right on the source's side of all strings."""

    label: str = "swap left and right"

    def run(self, state: State) -> State:
        pairing = need(state)
        ends = {s.part: s.source for s in pairing.strings}
        strings = tuple(replace(s, source=ends.get(mirror_part(s.part) or s.part, s.source)) for s in pairing.strings)
        return state.with_pairing(pairing.with_strings(strings))
