"""A pairing of a source skeleton and a rig: strings, stance and transfer settings."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from ..core.errors import InputError
from ..core.evaluator import EVALUATOR
from ..core.figure.facts import NO_BODY
from ..core.findings import Finding, finding
from ..core.humanoid.parts import FOUR_LEGS, REQUIRED
from ..core.humanoid.reading import Body
from ..core.matching.stance import Stance, limbs_left, match
from ..core.matching.tying import String, missing, tie
from ..core.skeleton import Skeleton
from ..core.transfer.retarget import Transfer
from ..core.transfer.settings import TransferSettings
from ..wording.findings import finding_words

if TYPE_CHECKING:
    from ..core.clip import Clip
    from ..core.markers.recording import Recording
    from ..core.matching.stance import Limb
    from .entry import Entry


@dataclass(frozen=True)
class Origin:
    """Where strings came from. ``kind``: tied, stringing (one that was made for these families) or adapted.

    ``lost`` and ``fresh``: parts that an adapted stringing could not tie, and that were tied in addition.
    """

    kind: str = "tied"
    stringing: str = ""
    lost: tuple[str, ...] = ()
    fresh: tuple[str, ...] = ()


@dataclass(frozen=True)
class Use:
    """Settings that belong to one clip on one rig (see core.transfer.settings); None: as the stringing has it."""

    in_place: tuple[str, ...] | None = None
    root: tuple[str, ...] | None = None
    root_smooth: float | None = None
    start: str | None = None
    ahead: bool | None = None
    stride: float | None = None
    height_offset: float | None = None
    feet: str | None = None
    hands: str | None = None
    hold_places: float | None = None
    hold_room: float | None = None
    hold_body: float | None = None
    hold_hands: float | None = None
    clear: str | None = None

    def over(self, settings: TransferSettings) -> TransferSettings:
        """``settings`` with what is set here."""
        return replace(settings, **{name: value for name, value in vars(self).items() if value is not None})


@dataclass(frozen=True, eq=False)
class Pairing:
    """Strings, stance and settings between two placed skeletons. ``matched`` false: the stance was set by hand.

    ``origin``: where the strings came from. ``absent``: parts that the user says are not there.
    """

    source: Skeleton
    target: Skeleton
    strings: tuple[String, ...]
    stance: Stance
    settings: TransferSettings = TransferSettings()
    matched: bool = True
    name: str = ""
    origin: Origin = Origin()
    absent: tuple[str, ...] = ()

    def __repr__(self) -> str:
        names = self.source.names[0], self.target.names[0]
        return f"Pairing({names[0]!r} to {names[1]!r}, {len(self.strings)} strings)"

    @property
    def transfer(self) -> Transfer:
        """The prepared transfer; InputError where the hips have no string."""
        of = self.source, self.target, self.strings, self.stance, self.settings.carried
        return EVALUATOR.of("transfer", of, lambda: Transfer(*of))

    @property
    def limbs(self) -> list[Limb]:
        """The angles that are left between both sides."""
        key = self.strings, self.source, self.target, self.stance
        return EVALUATOR.of("limbs left", key, lambda: limbs_left(*key))

    def fits(self, source: Skeleton, target: Skeleton) -> bool:
        """Whether it is for just these placed skeletons."""
        return self.source.digest == source.digest and self.target.digest == target.digest

    def with_strings(self, strings: tuple[String, ...]) -> Pairing:
        """Other strings; a stance that was matched by itself is matched again, one set by hand stays."""
        stance = match(strings, self.source, self.target, self.stance.source) if self.matched else self.stance
        return replace(self, strings=tuple(strings), stance=stance)

    def rematched(self) -> Pairing:
        """The stance matched again by itself."""
        return replace(self, stance=match(self.strings, self.source, self.target, self.stance.source), matched=True)


def pair(source: Entry, rig: Entry) -> Pairing:
    """Tie and match two entries by itself (a Pairing); InputError where one has no readable body, or they are unlike."""
    a, b = source.placed_skeleton, rig.placed_skeleton
    own, other = _body_of(source, "source"), _body_of(rig, "rig")
    if own.kind != other.kind:
        raise InputError(finding_words(unlike(source, rig)).text)
    strings = tie(a, own, b, other)
    return Pairing(a, b, strings, match(strings, a, b))


def untied_pair(source: Entry, rig: Entry) -> Pairing:
    """Two entries whose bodies are unlike, or can't be read: without strings, to be tied part by part. Only hips are needed."""
    a, b = source.placed_skeleton, rig.placed_skeleton
    return Pairing(a, b, (), match((), a, b), absent=tuple(part for part in REQUIRED if part != "hips"))


def unlike(source: Entry, rig: Entry) -> Finding:
    """Why two entries can't be tied by themselves: one of them stands on four legs."""
    four = [e.name for e in (source, rig) if e.figure.body is not None and e.figure.body.kind == FOUR_LEGS]
    return finding("unlike bodies", four=four[0] if four else "")


def are_unlike(source: Entry, rig: Entry) -> bool:
    """Whether both have bodies, of unlike kinds."""
    bodies = source.figure.body, rig.figure.body
    return None not in bodies and len({body.kind for body in bodies if body is not None}) > 1


def _body_of(entry: Entry, side: str) -> Body:
    if entry.figure.body is None:
        raise InputError(f"The {side} {entry.name} can't be tied automatically. {why_no_body(entry)}")
    return entry.figure.body


def why_no_body(entry: Entry) -> str:
    """A sentence on what an entry's skeleton is instead of a body with two legs."""
    return finding_words(next(odd for odd in entry.figure.oddities if odd.code in NO_BODY)).text


def not_there(source: Entry, rig: Entry) -> tuple[str, ...]:
    """The required parts that the source or the rig does not have, by what its bones were read as; never the hips."""
    bodies = [e.figure.body for e in (source, rig) if e.figure.body is not None]
    return tuple(part for part in REQUIRED if part != "hips" and any(part not in body.parts for body in bodies))


def gaps(pairing: Pairing, source: Entry, rig: Entry) -> list[str]:
    """The required parts that both sides have and no string ties."""
    return missing(pairing.strings, (*pairing.absent, *not_there(source, rig)))


def refuse_gaps(pairing: Pairing, source: Entry, rig: Entry) -> None:
    """InputError that names the required parts that both sides have and no string ties."""
    lacking = gaps(pairing, source, rig)
    if lacking:
        raise InputError(f"Required parts have no string: {', '.join(lacking)}.")


def within(clip: Clip | Recording, frames: tuple[int, ...]) -> tuple[int, int]:
    """``frames (first, last)``, both included; InputError where the clip (or recording) has not so many."""
    first, last = frames
    if not 0 <= first <= last < clip.frames:
        raise InputError(f"The range {first}:{last} does not lie in the clip's frames 0:{clip.frames - 1}.")
    return first, last


def cut_to(clip: Clip, frames: tuple[int, ...]) -> Clip:
    """The clip's frames ``(first, last)``, both included, starting at zero; InputError where it has not so many."""
    first, last = within(clip, frames)
    return replace(clip.cut(first, last), start=0.0)
