"""What the names of bones say: their words, their side, and the body parts they speak of.

The dictionary holds anatomy (English, Latin and everyday words), and the bone names of VRM 1.0 and
H-Anim (ISO/IEC 19774). It gives evidence, never a verdict: ``reading`` weighs it against structure.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from ..evaluator import EVALUATOR

LEFT, RIGHT = "left", "right"
SIDE_WORDS = {
    "l": LEFT,
    "left": LEFT,
    "lt": LEFT,
    "lft": LEFT,
    "sinister": LEFT,
    "r": RIGHT,
    "right": RIGHT,
    "rt": RIGHT,
    "rgt": RIGHT,
    "dexter": RIGHT,
}

# Each part with the phrases that name it; a phrase is one word, or words that stand together.
PARTS = {
    "root": ("root", "origin", "world", "trajectory", "ground", "reference", "humanoid root"),
    "hips": ("hips", "hip", "pelvis", "sacrum", "sacroiliac", "com", "centre of mass"),
    "spine": (
        "spine",
        "chest",
        "upper chest",
        "torso",
        "trunk",
        "back",
        "abdomen",
        "belly",
        "waist",
        "ribs",
        "ribcage",
        "thorax",
        "lumbar",
        "thoracic",
        "vertebra",
        "backbone",
        "midriff",
        "vl",
        "vt",
    ),
    "neck": ("neck", "cervical", "nape", "vc"),
    "head": ("head", "skull", "skullbase", "cranium"),
    "collarbone": ("collarbone", "collar", "clavicle", "shoulder", "sternoclavicular", "acromioclavicular", "scapula"),
    "upper arm": ("upper arm", "uparm", "arm", "humerus", "shoulder", "bicep", "arm upper"),
    "forearm": ("forearm", "fore arm", "lower arm", "loarm", "elbow", "radius", "ulna", "arm lower"),
    "hand": ("hand", "wrist", "palm", "radiocarpal", "carpal"),
    "thigh": ("thigh", "upper leg", "upleg", "leg upper", "femur", "hip", "leg"),
    "shin": ("shin", "lower leg", "loleg", "leg lower", "calf", "knee", "tibia", "leg", "shank", "crus"),
    "foot": ("foot", "ankle", "talocrural", "tarsal", "heel"),
    "toes": (
        "toe",
        "toes",
        "toe base",
        "ball",
        "tarsophalangeal",
        "metatarsal",
        "metatarsophalangeal",
        "tarsometatarsal",
    ),
    "thumb": ("thumb", "pollex"),
    "index": ("index", "forefinger", "pointer"),
    "middle": ("middle", "midfinger"),
    "ring": ("ring",),
    "little": ("little", "pinky", "pinkie"),
    "eye": ("eye", "eyeball"),
    "jaw": ("jaw", "mandible", "temporomandibular"),
    "twist": ("twist", "roll", "helper"),
    "end": ("end", "tip"),
    "tail": ("tail",),
    "prop": ("prop", "lantern", "pole", "bucket"),
}
FINGERS = ("thumb", "index", "middle", "ring", "little")
_NUMBERED_FINGERS = {"0": "thumb", "1": "index", "2": "middle", "3": "ring", "4": "little"}
_PHRASES = sorted(
    ((tuple(p.split()), part) for part, phrases in PARTS.items() for p in phrases), key=lambda item: -len(item[0])
)
_RANK = {item: i for i, item in enumerate(_PHRASES)}
_BEGINNING = {}
for _item in _PHRASES:
    _BEGINNING.setdefault(_item[0][0], []).append(_item)
_SPLIT = re.compile(r"[A-Z]+(?![a-z])|[A-Z]?[a-z]+|\d+")
_JOINED = {
    "upperarm": ("upper", "arm"),
    "lowerarm": ("lower", "arm"),
    "upperleg": ("upper", "leg"),
    "lowerleg": ("lower", "leg"),
    "upperchest": ("upper", "chest"),
    "toebase": ("toe", "base"),
    "handpalm": ("palm",),
}


def split(name: str) -> list[str]:
    """The lower-case words of a name, split on case, digits and separators, sides kept."""
    words = []
    for word in (w.lower() for w in _SPLIT.findall(name)):
        words.extend(_JOINED.get(word) or _unglue(word))
    return words


def _unglue(word: str) -> list[str]:
    """Take a side off words that were written together, such as ``lthigh`` or ``rightfoot``."""
    if word in _KNOWN or word in SIDE_WORDS:
        return [word]
    for side in ("left", "right", "l", "r"):
        rest = word[len(side) :]
        if word.startswith(side) and (rest in _KNOWN or rest in _JOINED):
            return [side, *_JOINED.get(rest, (rest,))]
        rest = word[: -len(side)]
        if len(side) > 1 and word.endswith(side) and (rest in _KNOWN or rest in _JOINED):
            return [*_JOINED.get(rest, (rest,)), side]
    return [word]


_KNOWN = {w for phrase, _ in _PHRASES for w in phrase}


def shared_prefix(names: Sequence[str]) -> str:
    """The beginning that all names share up to a separator, such as ``quay:``; often empty."""
    if len(names) < 3:
        return ""
    first, last = min(names), max(names)
    n = next((i for i, (a, b) in enumerate(zip(first, last)) if a != b), min(len(first), len(last)))
    cut = max((first.rfind(mark, 0, n) for mark in ":_.|- "), default=-1)
    return first[: cut + 1]


def side_of(words: list[str]) -> str | None:
    """``"left"``, ``"right"`` or None, as the words say it."""
    sides = {SIDE_WORDS[w] for w in words if w in SIDE_WORDS}
    return sides.pop() if len(sides) == 1 else None


def parts_of(words: list[str]) -> dict[str, float]:
    """As ``_parts_of``; names repeat from file to file."""
    key = tuple(words)
    return dict(EVALUATOR.of("parts in words", key, lambda: _parts_of(key)))


def _parts_of(words: tuple[str, ...]) -> dict[str, float]:
    """The body parts that the words speak of, as ``{part: weight}`` that sum to one; may be empty.

    A word with two meanings (a *hip* may be the pelvis or the thigh) shares its weight.
    """
    plain = [w for w in words if w not in SIDE_WORDS]
    weights = {}
    taken = [0] * len(plain)
    for phrase, part in sorted({p for w in plain for p in _BEGINNING.get(w, ())}, key=_RANK.__getitem__):
        for at in range(len(plain) - len(phrase) + 1):
            span = range(at, at + len(phrase))
            if tuple(plain[i] for i in span) == phrase and not any(taken[i] == 2 for i in span if len(phrase) == 1):
                weights[part] = weights.get(part, 0) + len(phrase)
                if len(phrase) > 1:
                    for i in span:
                        taken[i] = 2
    fingers = [f for f in FINGERS if f in weights]
    if fingers:
        return {fingers[0]: 1.0}
    digit = next((w for w in plain if w.isdigit()), "")
    if any(w.endswith("carpophalangeal") or w.startswith(("carpometacarpal", "interphalangeal")) for w in plain):
        # H-Anim counts the fingers from one, the thumb first.
        return {FINGERS[int(digit) - 1]: 1.0} if digit in "12345" and digit else {}
    if "finger" in plain:
        return {_NUMBERED_FINGERS.get(digit[:1], "middle"): 1.0}
    for helper in ("twist", "end"):
        if helper in weights:
            return {helper: 1.0}
    total = sum(weights.values())
    return {part: weight / total for part, weight in weights.items()}


class NameEvidence:
    """The words of all names of one skeleton, with what they share taken off."""

    def __init__(self, names: tuple[str, ...], prefix: str | None = None) -> None:
        self.prefix = shared_prefix(names) if prefix is None else prefix
        self.words = [split(n.removeprefix(self.prefix)) for n in names]
        self.parts = [parts_of(w) for w in self.words]
        self.sides = [side_of(w) for w in self.words]

    def weight(self, joint: int, *parts: str) -> float:
        """How far the joint's name speaks for one of ``parts``: 1 fully, 0 silent, -1 for others."""
        said = self.parts[joint]
        if not said:
            return 0.0
        return 2 * max(said.get(p, 0.0) for p in parts) ** 0.5 - 1 if any(p in said for p in parts) else -1.0

    def key(self, joint: int) -> tuple[str, ...]:
        """What is left of a name to compare it with another skeleton's, sides apart."""
        return tuple(w for w in self.words[joint] if w not in SIDE_WORDS)
