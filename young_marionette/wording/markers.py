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

_SEGMENTS = {
    "Shoulder": "shoulder", "UpperArm": "upper arm", "LowerArm": "forearm", "Hand": "hand", "UpperLeg": "thigh",
    "LowerLeg": "shin", "Foot": "foot", "Toes": "toes",
}  # fmt: skip
WHY = {BY_HAND: "set by hand", BY_LABEL: "its label", BY_MOTION: "how it moves", NONE: "nothing tells"}


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


def mend_words(fault: Fault) -> str:
    """What was done about a fault, in one sentence."""
    if not fault.mended:
        return "Left as it is."
    if fault.kind in (EXCHANGED, WRONG_SEGMENT, WRONG_SIDE):
        return "Put right."
    return "Bridged." if fault.kind == GAP else "Left out there."
