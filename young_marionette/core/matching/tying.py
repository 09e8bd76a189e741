"""Strings: which source bones drive which target bones, with how sure that is and why."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from ..humanoid.beside import TAIL
from ..humanoid.certainty import SURE, supported
from ..humanoid.parts import REQUIRED, SIDES
from ..humanoid.words import FINGERS

if TYPE_CHECKING:
    from ..humanoid.reading import Body
    from ..skeleton import Skeleton


OPTIONAL = ("root", "neck", *(f"{s} {p}" for s in SIDES for p in ("collarbone", "toes", *FINGERS, "fore toes")))
# Parts whose bones share a bend along the run; in all others the first bone leads.
BENDING = ("spine", "neck", "toes", "fore toes", "tail", *FINGERS)
_GENERIC = {"bone", "joint", "node", "end", "tip", "helper", "roll"}


@dataclass(frozen=True)
class String:
    """A tie of a run of source bones to a run of target bones, by name, first to last.

    ``certainty`` lies between 0 and 1; a string tied by hand has 1. A ``locked`` one stays when all is
    tied again by itself.
    """

    part: str
    source: tuple[str, ...]
    target: tuple[str, ...]
    certainty: float
    reason: str
    by_hand: bool = False
    locked: bool = False

    @property
    def sure(self) -> bool:
        return self.certainty >= SURE

    @property
    def bends(self) -> bool:
        """Whether the run shares its bend among its bones."""
        return self.part.removeprefix("left ").removeprefix("right ") in BENDING


def tie(
    source: Skeleton, source_body: Body, target: Skeleton, target_body: Body, unlike: bool = False
) -> tuple[String, ...]:
    """Tie all that fits between two skeletons whose bodies were read (tuple of String).

    A person and what stands on four legs are tied only where ``unlike`` asks for it, as if forelegs were arms.
    """
    if source_body.kind != target_body.kind and not unlike:
        return ()
    strings = []
    for part in (*REQUIRED, *OPTIONAL):
        if part == "root" or part not in source_body.parts or part not in target_body.parts:
            continue
        strings.append(_string(part, source, source_body, target, target_body))
        helper = _helper_string(part, source, source_body, target, target_body)
        if helper:
            strings.append(helper)
    strings.extend(_tails(source, source_body, target, target_body))
    strings.extend(_by_words(source, source_body, target, target_body, strings))
    return tuple(strings)


def _names(skeleton: Skeleton, joints: tuple[int, ...]) -> tuple[str, ...]:
    return tuple(skeleton.names[j] for j in joints)


def _string(part: str, source: Skeleton, source_body: Body, target: Skeleton, target_body: Body) -> String:
    sides = (source_body, target_body)
    certainty = float(np.clip(min(b.certainty[part] for b in sides), 0, 1))
    said = [b.named[part] for b in sides]
    place = "the same place in both bodies"
    if all(b.tabled for b in sides):
        certainty, reason = 1.0, "both files name this bone in their tables of humanoid bones"
    elif target_body.tabled or source_body.tabled:
        named = "rig" if target_body.tabled else "source"
        reason = f"the {named}'s file names this bone in its table of humanoid bones, and {place}"
    elif min(said) > 0:
        certainty, reason = supported(certainty), f"both names mean the {_plain(part)}, and {place}"
    elif max(said) > 0 and min(said) >= 0:
        reason = f"{place}; one name means the {_plain(part)}, the other says nothing"
    elif min(said) < 0:
        reason = f"{place}, though a name means something else"
    else:
        reason = f"{place}; the names say nothing"
    runs = source_body.parts[part], target_body.parts[part]
    if len(runs[0]) != len(runs[1]):
        reason += f"; {len(runs[0])} bones drive {len(runs[1])}"
    if part.startswith(SIDES) and any(b.sides_swapped for b in sides):
        reason += "; sides are taken from the body, since the words are swapped"
    return String(part, _names(source, runs[0]), _names(target, runs[1]), certainty, reason)


def _plain(part: str) -> str:
    return part.split(" ", 1)[1] if part.startswith(SIDES) else part


def _helper_string(
    part: str, source: Skeleton, source_body: Body, target: Skeleton, target_body: Body
) -> String | None:
    """Twist helpers beside a limb bone: tied one to one where both sides have as many."""
    name = f"{part} twist"
    source_run, target_run = source_body.parts.get(name, ()), target_body.parts.get(name, ())
    if not target_run:
        return None
    if len(source_run) == len(target_run):
        return String(
            name, _names(source, source_run), _names(target, target_run), SURE, "twist helpers at the same bone"
        )
    lead = source_body.parts[part][:1]
    return String(
        name,
        _names(source, lead),
        _names(target, target_run),
        SURE,
        "helpers follow the twist by their share of the bone's length",
    )


def _tails(source: Skeleton, source_body: Body, target: Skeleton, target_body: Body) -> list[String]:
    """One tail onto one tail, bone by bone along it."""
    runs = []
    for skeleton, body in ((source, source_body), (target, target_body)):
        joints = body.beside.get(TAIL, ())
        tops = [j for j in joints if int(skeleton.parents[j]) not in joints]
        forked = any(sum(c in joints for c in skeleton.children[j]) > 1 for j in joints)
        if len(tops) != 1 or forked:
            return []
        runs.append(_names(skeleton, joints))
    return [String("tail", runs[0], runs[1], 0.75, "the only tail of each")]


def _by_words(
    source: Skeleton, source_body: Body, target: Skeleton, target_body: Body, strings: list[String]
) -> list[String]:
    """Bones beyond the body (eyes, jaw, tail, props) whose names have the same words."""
    taken = {n for s in strings for n in s.source}, {n for s in strings for n in s.target}

    def keys(skeleton: Skeleton, body: Body, used: set[str]) -> dict[Any, list[str]]:
        pairs, roots = {}, body.parts.get("root", ())
        for joint, name in enumerate(skeleton.names):
            words = body.names.key(joint)
            if (
                name in used
                or joint in roots
                or not any(w.isalpha() and len(w) > 2 and w not in _GENERIC for w in words)
            ):
                continue
            side = body.names.sides[joint]
            if side and body.sides_swapped:
                side = "right" if side == "left" else "left"
            pairs.setdefault((side, words), []).append(name)
        return pairs

    source_keys = keys(source, source_body, taken[0])
    target_keys = keys(target, target_body, taken[1])
    return [
        String(
            " ".join(filter(None, (side, *words))),
            tuple(source_keys[side, words]),
            tuple(names),
            0.7,
            "the names have the same words",
        )
        for (side, words), names in target_keys.items()
        if len(source_keys.get((side, words), ())) == len(names) == 1
    ]


def missing(strings: tuple[String, ...], absent: tuple[str, ...] = ()) -> list[str]:
    """The required parts that no string ties, but for those that were declared ``absent``."""
    tied = {s.part for s in strings} | set(absent)
    return [part for part in REQUIRED if part not in tied]


def untied(strings: tuple[String, ...], skeleton: Skeleton, side: str) -> list[str]:
    """Names of the bones that no string touches; ``side`` is ``"source"`` or ``"target"``."""
    tied = {n for s in strings for n in getattr(s, side)}
    return [n for n in skeleton.names if n not in tied]


def set_string(
    strings: tuple[String, ...], part: str, source: tuple[str, ...], target: tuple[str, ...]
) -> tuple[String, ...]:
    """Strings with ``part`` tied by hand; target bones it takes leave the strings that had them."""
    kept = release(tuple(s for s in strings if s.part != part), target)
    return (*kept, String(part, tuple(source), tuple(target), 1.0, "tied manually", True))


def release(strings: tuple[String, ...], target: tuple[str, ...]) -> tuple[String, ...]:
    """Strings without the given target bones; a string that loses all of them is gone.

    A source bone may drive several target bones (a limb and its helpers); a target bone hangs on one string.
    """
    cut = (replace(s, target=tuple(n for n in s.target if n not in target)) for s in strings)
    return tuple(s for s in cut if s.target)


def mirror_part(part: str) -> str | None:
    """The same part on the other side, or None for a part on the midline."""
    for side, other in (SIDES, SIDES[::-1]):
        if part.startswith(side + " "):
            return other + part[len(side) :]
    return None


def partner_of(body: Body, joint: int) -> int | None:
    """The joint at the same place on the other side of a Body, or None where it has no partner."""
    for part, run in body.parts.items():
        other = body.parts.get(mirror_part(part) or "", ())
        if joint in run and len(other) == len(run):
            return other[run.index(joint)]
    return None
