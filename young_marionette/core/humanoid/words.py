"""What the names of bones say: their words, their side, and the body parts they speak of.

The words are those of ``vocabulary``. They give evidence, never a verdict: ``hypotheses`` weighs it against structure.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from .vocabulary import LEFT, RIGHT, Vocabulary, spoken, usual, vocabulary

FINGERS = ("thumb", "index", "middle", "ring", "little")
# What is no part of the body, though it may be named after one: a sleeve, a twist helper, the end of a finger.
BESIDE = (
    "end", "socket", "goal", "cloth", "hair", "face", "ear", "tail", "wing", "twist", "prop", "corrective", "breast",
)  # fmt: skip
_NO_HAND = {"hips", "spine", "neck", "head", "toes", "foot", "thigh", "shin"}
_NUMBERED_FINGERS = {"0": "thumb", "1": "index", "2": "middle", "3": "ring", "4": "little"}


def split(name: str) -> list[str]:
    """The lower-case words of a name, split on case, digits and separators, sides kept."""
    return list(vocabulary().split(name))


def shared_prefix(names: Sequence[str]) -> str:
    """The beginning that all names share up to a separator, such as ``quay:``; often empty."""
    if len(names) < 3:
        return ""
    first, last = min(names), max(names)
    n = next((i for i, (a, b) in enumerate(zip(first, last)) if a != b), min(len(first), len(last)))
    cut = max((first.rfind(mark, 0, n) for mark in ":_.|- "), default=-1)
    return first[: cut + 1]


def side_of(words: Sequence[str], of: Vocabulary | None = None) -> str | None:
    """``"left"``, ``"right"`` or None, as the words say it."""
    known = (of or vocabulary()).sides
    sides = {known[w] for w in words if w in known}
    return sides.pop() if len(sides) == 1 else None


def parts_of(words: Sequence[str], of: Vocabulary | None = None) -> dict[str, float]:
    """The body parts that the words speak of, as ``{part: weight}`` that sum to one; may be empty.

    A word with two meanings (a *hip* may be the pelvis or the thigh) shares its weight.
    """
    known = of or vocabulary()
    bare = tuple(w for w in words if w not in known.sides)
    weights: dict[str, float] = {}
    taken: set[int] = set()
    phrases = {p for w in bare for p in known.beginning.get(w, ())}
    if not phrases and not any("phalang" in w or "carp" in w for w in bare):
        return {}
    for phrase in sorted(phrases, key=lambda p: (-len(p), p)):
        for at in range(len(bare) - len(phrase) + 1):
            span = range(at, at + len(phrase))
            if bare[at : at + len(phrase)] == phrase and not taken & set(span):
                for part in known.phrases[phrase]:
                    weights[part] = weights.get(part, 0) + len(phrase)
                taken |= set(span)
    for beside in BESIDE:
        if beside in weights:
            return {beside: 1.0}
    digit = next((w for w in bare if w.isdigit()), "")
    if any(w.endswith("carpophalangeal") or w.startswith(("carpometacarpal", "interphalangeal")) for w in bare):
        # H-Anim counts the fingers from one, the thumb first.
        return {FINGERS[int(digit) - 1]: 1.0} if digit in "12345" and digit else {}
    fingers = [f for f in FINGERS if f in weights]
    # The middle of a spine is no finger.
    if fingers and ("thumb" in fingers or not weights.keys() & _NO_HAND):
        return {fingers[0]: 1.0}
    weights = {part: weight for part, weight in weights.items() if part not in fingers}
    if weights.pop("finger", 0):
        return {_NUMBERED_FINGERS.get(digit[:1], "middle"): 1.0}
    total = sum(weights.values())
    return {part: weight / total for part, weight in weights.items()}


class NameEvidence:
    """The words of all names of one skeleton, with what they share taken off."""

    def __init__(self, names: Sequence[str], prefix: str | None = None) -> None:
        self.prefix = shared_prefix(names) if prefix is None else prefix
        bare = tuple(n.removeprefix(self.prefix) for n in names)
        self.languages = spoken(bare)
        known = self._known = vocabulary(self.languages)
        self.words = [known.split(n) for n in bare]
        idle = usual(self.words) - set(known.sides)
        said = [tuple(w for w in words if w not in idle) for words in self.words]
        self.parts = [parts_of(w, known) for w in said]
        self.sides = [side_of(w, known) for w in said]
        self._speaking = [j for j, of in enumerate(self.parts) if of]
        self._weights: dict[str, np.ndarray] = {}
        sides = {None: 0, LEFT: 1, RIGHT: -1}
        numbers: dict[tuple[str, ...], int] = {}
        self._sided = np.array([sides[s] for s in self.sides])
        self._keys = np.array([numbers.setdefault(self.key(j), len(numbers)) for j in range(len(self.words))])

    def weights(self, part: str) -> np.ndarray:
        """``weight`` of every joint for one part ``(joints,)``."""
        if part not in self._weights:
            self._weights[part] = np.zeros(len(self.words))
            self._weights[part][self._speaking] = [self.weight(j, part) for j in self._speaking]
        return self._weights[part]

    def opposite(self, a: np.ndarray, b: np.ndarray) -> np.ndarray:
        """Whether two names each (of joints ``(n,)``) differ in nothing but their sides ``(n,)``."""
        return (self._sided[a] * self._sided[b] < 0) & (self._keys[a] == self._keys[b])  # type: ignore[no-any-return]

    def weight(self, joint: int, *parts: str) -> float:
        """How far the joint's name speaks for one of ``parts``: 1 fully, 0 silent, -1 for others."""
        said = self.parts[joint]
        if not said:
            return 0.0
        return 2 * max(said.get(p, 0.0) for p in parts) ** 0.5 - 1 if any(p in said for p in parts) else -1.0

    def key(self, joint: int) -> tuple[str, ...]:
        """What is left of a name to compare it with another skeleton's, sides apart."""
        return tuple(w for w in self.words[joint] if w not in self._known.sides)
