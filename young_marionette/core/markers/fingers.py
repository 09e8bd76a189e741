"""Labels of markers on fingers: which finger of which hand, and which of its bones."""

from __future__ import annotations

import re

from ..humanoid.vocabulary import LEFT, RIGHT
from .segments import finger_segment

_SHORT = {
    "THM": "Thumb", "THB": "Thumb", "TMB": "Thumb", "IDX": "Index", "IND": "Index", "MID": "Middle", "MDL": "Middle",
    "RNG": "Ring", "RIN": "Ring", "PNK": "Little", "PKY": "Little", "LIT": "Little", "LTL": "Little",
}  # fmt: skip
_LABEL = re.compile(rf"([LR])?({'|'.join(_SHORT)})([LR])?(?:([1-4])|T|TIP)?")
_PARTS = {"thumb": "Thumb", "index": "Index", "middle": "Middle", "ring": "Ring", "little": "Little"}
_STEPS = {
    "metacarpal": 1, "proximal": 1, "prox": 1, "base": 1, "knuckle": 1, "intermediate": 2, "medial": 2, "mid": 2,
    "distal": 3, "dist": 3, "tip": 3, "end": 3,
}  # fmt: skip


def finger_of(label: str, said: tuple[str, ...], parts: list[str], side: str | None) -> str | None:
    """The finger's bone that a label tells, by its VRM 1.0 name; None where it tells none.

    ``said``: its words; ``parts``: the parts of the body among them, the likeliest first. A finger without a number or a place
    on it is none: such markers sit on the knuckles, as a rule, which go with the hand.

    >>> finger_of("RIDX2", (), [], None), finger_of("LIDX", (), [], None)
    ('rightIndexIntermediate', None)
    """
    letters = re.sub(r"[^A-Z0-9]", "", label.upper())
    short = _LABEL.fullmatch(letters)
    if short:
        hand = {"L": LEFT, "R": RIGHT}.get(short[1] or short[3] or "")
        step = int(short[4]) if short[4] else 3 if letters.endswith(("T", "TIP")) else 0
        return finger_segment(hand, _SHORT[short[2]], step) if hand and step else None
    finger = next((_PARTS[part] for part in parts[:1] if part in _PARTS), None)
    if finger is None or side is None:
        return None
    number = re.search(r"[1-4](?!.*\d)", label)
    step = next((_STEPS[word] for word in said if word in _STEPS), int(number[0]) if number else 0)
    return finger_segment(side, finger, step) if step else None
