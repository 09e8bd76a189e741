"""A pairing of a source skeleton and a rig: strings, stance and transfer settings, and what comes of them."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

from ..core.errors import InputError
from ..core.resample import resample
from ..core.skeleton import Skeleton
from ..core.stance import Stance, limbs_left, match
from ..core.transfer import Transfer, TransferSettings
from ..core.tying import String, missing, tie


@dataclass(frozen=True, eq=False)
class Pairing:
    """Strings, stance and settings between two placed skeletons. ``matched`` false: the stance was set by hand.

    ``origin`` says in words where the strings came from. ``absent``: parts that the user says are not there.
    """

    source: Skeleton
    target: Skeleton
    strings: tuple[String, ...]
    stance: Stance
    settings: TransferSettings = TransferSettings()
    matched: bool = True
    name: str = ""
    origin: str = "Tied by itself."
    absent: tuple[str, ...] = ()

    @cached_property
    def transfer(self):
        """The prepared transfer; InputError where the hips have no string."""
        return Transfer(self.source, self.target, self.strings, self.stance, self.settings)

    @cached_property
    def limbs(self):
        """The angles that are left between both sides."""
        return limbs_left(self.strings, self.source, self.target, self.stance)

    def with_strings(self, strings):
        """Other strings; a stance that was matched by itself is matched again, one set by hand stays."""
        stance = match(strings, self.source, self.target, self.stance.source) if self.matched else self.stance
        return replace(self, strings=tuple(strings), stance=stance)

    def rematched(self):
        """The stance matched again by itself."""
        return replace(self, stance=match(self.strings, self.source, self.target, self.stance.source), matched=True)


def pair(source, rig):
    """Tie and match two entries by itself (a Pairing); InputError where one has no readable body."""
    for entry, what in ((source, "source"), (rig, "rig")):
        if entry.figure.body is None:
            raise InputError(
                f"In the {what} {entry.name} no body with two legs can be seen, so nothing can be tied by itself."
            )
    a, b = source.placed_skeleton, rig.placed_skeleton
    strings = tie(a, source.figure.body, b, rig.figure.body)
    return Pairing(a, b, strings, match(strings, a, b))


def refuse_gaps(pairing, source, rig):
    """InputError that names the must-have parts without a string, and which side lacks them."""
    lacking = missing(pairing.strings, pairing.absent)
    if not lacking:
        return
    told = []
    for part in lacking:
        sides = [
            side
            for side, entry in (("source", source), ("rig", rig))
            if entry.figure.body is None or part not in entry.figure.body.parts
        ]
        told.append(part + (f" (not found in the {' and the '.join(sides)})" if sides else ""))
    raise InputError(f"Must-have parts have no string: {', '.join(told)}.")


def cut_to(clip, frames):
    """The clip's frames ``(first, last)``, both included; InputError where it has not so many."""
    first, last = frames
    if not 0 <= first <= last < clip.frames:
        raise InputError(f"The range {first}:{last} does not lie in the clip's frames 0:{clip.frames - 1}.")
    return clip.cut(first, last)


def bake(pairing, source, fps=None, frames=None, name=None):
    """Bake the source entry's clip onto the rig: a key on every frame (a Clip on the placed rig).

    ``frames (first, last)``: both included, counted from 0 in the source clip. ``fps``: frames per
    second of the result, the source's if None; its length in seconds stays.
    """
    clip = source.placed_clip
    if frames is not None:
        clip = cut_to(clip, frames)
    if fps is not None:
        clip = resample(clip, fps)
    return pairing.transfer.run(clip, name or clip.name)
