"""Markers in words: segments of the figure, faults, and why a marker goes with its segment."""

from __future__ import annotations

import re

from ..core.markers.assigning import BY_HAND, BY_LABEL, BY_MOTION, NONE
from ..core.markers.faults import (
    EXCHANGED,
    FLIP,
    GAP,
    LEFT_BEHIND,
    SPIKE,
    STRAY,
    WRONG_SEGMENT,
    WRONG_SIDE,
    Fault,
)
from ..core.markers.mends import BELIEVE, EXCHANGE, FILL, LEAVE_OUT, Mend

_SEGMENTS = {
    "Shoulder": "shoulder", "UpperArm": "upper arm", "LowerArm": "forearm", "Hand": "hand", "UpperLeg": "thigh",
    "LowerLeg": "shin", "Foot": "foot", "Toes": "toes",
}  # fmt: skip
_SIZES = {
    "UpperArm": "collarbone", "LowerArm": "upper arm", "Hand": "forearm", "UpperLeg": "hip", "LowerLeg": "thigh",
    "Foot": "shin", "Toes": "foot",
}  # fmt: skip
WHY = {BY_HAND: "set by hand", BY_LABEL: "its label", BY_MOTION: "how it moves", NONE: "nothing tells"}


def size_words(size: str) -> str:
    """A size of the figure (see core.markers.sizing) in words: the bone whose length it is.

    >>> size_words("leftLowerLeg"), size_words("stature"), size_words("head")
    ('left thigh', 'height', 'neck')
    """
    side = next((s for s in ("left", "right") if size.startswith(s)), "")
    if side:
        return f"{side} {_SIZES[size.removeprefix(side)]}"
    return {"stature": "height", "head": "neck"}.get(size, size)


def segment_words(name: str | None) -> str:
    """A segment in words.

    >>> segment_words("leftUpperArm"), segment_words("chest"), segment_words("leftIndexProximal"), segment_words(None)
    ('left upper arm', 'chest', 'left index proximal', 'none')
    """
    if name is None:
        return "none"
    side = next((s for s in ("left", "right") if name.startswith(s)), "")
    rest = name.removeprefix(side)
    words = _SEGMENTS.get(rest) or " ".join(re.findall(r"[A-Z]?[a-z]+", rest)).lower()
    return f"{side} {words}".strip()


def fault_words(fault: Fault, labels: tuple[str, ...]) -> str:
    """A fault in one sentence, with its frames.

    >>> fault_words(Fault("spike", 0, 5, 5), ("LKNE",))
    'LKNE spikes in frame 5.'
    """
    name = labels[fault.marker]
    when = f"in frame {fault.first}" if fault.first == fault.last else f"in frames {fault.first} to {fault.last}"
    if fault.kind == EXCHANGED:
        return f"{name} has changed places with {labels[int(fault.other or 0)]} {when}."
    if fault.kind in (WRONG_SEGMENT, WRONG_SIDE):
        said = "side" if fault.kind == WRONG_SIDE else "segment"
        return f"{name} moves with the {segment_words(str(fault.other))}: its label names another {said}."
    return {
        LEFT_BEHIND: f"{name} stays behind in one place {when}.",
        SPIKE: f"{name} spikes {when}.",
        FLIP: f"{name} is off its place {when}.",
        GAP: f"{name} is not seen {when}.",
        STRAY: f"{name} goes with no part of the body, {when}.",
    }[fault.kind]


_CHOICES = {
    EXCHANGE: "Put back", LEAVE_OUT: "Leave out there", FILL: "Fill from its segment", BELIEVE: "Believe it",
    "everywhere": "Leave out everywhere", "as labelled": "As its label says",
}  # fmt: skip


def choice_words(what: str, fault: Fault) -> str:
    """What can be decided about a fault (see project.markers.deciding), in a few words.

    >>> choice_words("move", Fault("wrong side", 0, 0, 9, "leftUpperLeg"))
    'Put on the left thigh'
    """
    return _CHOICES.get(what) or f"Put on the {segment_words(str(fault.other))}"


def decided_words(mend: Mend) -> str:
    """What was decided about markers, in one sentence.

    >>> decided_words(Mend("exchange", "LKNE", 5, 9, "RKNE"))
    'LKNE and RKNE are put back in frames 5 to 9.'
    """
    when = f"in frame {mend.first}" if mend.first == mend.last else f"in frames {mend.first} to {mend.last}"
    told = {
        EXCHANGE: "{} are put back {}.", LEAVE_OUT: "{} is left out {}.", FILL: "{} is filled from its segment {}.",
        BELIEVE: "{} is believed {}.",
    }[mend.kind]  # fmt: skip
    return told.format(" and ".join(mend.markers), when)


def mend_words(fault: Fault) -> str:
    """What was done about a fault, in one sentence."""
    if not fault.mended:
        return "Left as it is."
    if fault.kind in (EXCHANGED, WRONG_SEGMENT, WRONG_SIDE):
        return "Put right."
    return "Bridged." if fault.kind == GAP else "Left out there."
