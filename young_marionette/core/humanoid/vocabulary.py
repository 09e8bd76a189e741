"""Words for the parts of a body in many languages, from ``anatomy.json``, and which of them a skeleton speaks.

The file holds anatomy and everyday words, and the bone names of VRM 1.0 and H-Anim (ISO/IEC 19774). Words that were
added (by a user's own file, or learned from corrections) stand before all others.
"""

from __future__ import annotations

import json
import re
import unicodedata
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from importlib.resources import files
from typing import Any

from ..evaluator import EVALUATOR

LEFT, RIGHT = "left", "right"
ENGLISH, LATIN = "english", "latin"
_SHORTEST = 3  # letters of a word that is found inside a longer one

_EASTERN = "\u3005\u3040-\u30ff\u31f0-\u31ff\u3400-\u4dbf\u4e00-\u9fff\uac00-\ud7af"
_SPLIT = re.compile(rf"[A-Z]+(?![a-z])|[A-Z]?[a-z]+|\d+|[{_EASTERN}]+|[^\W\d_A-Za-z{_EASTERN}]+")
_IS_EASTERN = re.compile(f"[{_EASTERN}]")
_LETTERS = str.maketrans({"ß": "ss", "ł": "l", "Ł": "L", "ø": "o", "Ø": "O", "đ": "d", "æ": "ae", "œ": "oe"})


def plain(text: str) -> str:
    """A text with full-width letters made usual ones and accents taken off Latin letters, its case kept."""
    text = unicodedata.normalize("NFKC", text).translate(_LETTERS)
    if text.isascii():
        return text
    letters = (unicodedata.normalize("NFD", c) for c in text)
    return "".join(c[0] if c[0].isascii() else unicodedata.normalize("NFC", c) for c in letters)


def pieces(name: str) -> tuple[str, ...]:
    """A name cut at case, digits and separators, in lower case."""
    return tuple(piece.lower() for piece in _SPLIT.findall(plain(name)))


class Vocabulary:
    """The words of some languages. Where two of them have one word, the meaning is the earlier one's.

    ``sides``: word to side. ``phrases``: words that stand together, to the parts that they name, longest first.
    """

    def __init__(self, languages: Iterable[Mapping[str, Any]]) -> None:
        self.sides: dict[str, str] = {}
        self.phrases: dict[tuple[str, ...], tuple[str, ...]] = {}
        for language in languages:
            for side in (LEFT, RIGHT):
                for word in language.get(side, ()):
                    self.sides.setdefault(plain(word).lower(), side)
            own: dict[tuple[str, ...], list[str]] = {}
            for part, words in language.get("parts", {}).items():
                for phrase in words:
                    own.setdefault(pieces(phrase), []).append(part)
            for key, parts in own.items():
                self.phrases.setdefault(key, tuple(parts))
        self.words = {word for phrase in self.phrases for word in phrase}
        self.beginning: dict[str, list[tuple[str, ...]]] = {}
        for phrase in sorted(self.phrases, key=len, reverse=True):
            self.beginning.setdefault(phrase[0], []).append(phrase)
        self._known = {w for w in (*self.words, *self.sides) if len(w) >= _SHORTEST or _IS_EASTERN.search(w)}
        self._longest = max((len(w) for w in self._known), default=0)
        self._short = _abbreviations(w for w in self.words if w.isascii() and len(w) > 3)

    def split(self, name: str) -> tuple[str, ...]:
        """The words of a name: what was written together, such as ``leftupperarm``, is taken apart."""
        found: list[str] = []
        for piece in pieces(name):
            found.extend(self.apart(piece))
        return tuple(found)

    def apart(self, piece: str) -> Sequence[str]:
        """The words in a piece of a name."""
        if piece in self.words or piece in self.sides or piece.isdigit():
            return (piece,)
        if _IS_EASTERN.search(piece):
            return self._longest_first(piece)
        for side in ("l", "r"):
            rest = piece[1:]
            if piece.startswith(side) and len(rest) >= _SHORTEST and (whole := self._whole(rest)):
                return (side, *whole)
        return self._whole(piece) or self._unabbreviated(piece)

    def _longest_first(self, run: str) -> list[str]:
        found, at = [], 0
        while at < len(run):
            long = next(
                (n for n in range(min(self._longest, len(run) - at), 0, -1) if run[at : at + n] in self._known), 1
            )
            found.append(run[at : at + long])
            at += long
        return found

    def _whole(self, piece: str) -> tuple[str, ...]:
        """A piece as known words without a gap, as few of them as can be; empty where that can't be."""
        best: list[tuple[str, ...] | None] = [(), *([None] * len(piece))]
        for end in range(_SHORTEST, len(piece) + 1):
            for start in range(max(0, end - self._longest), end - _SHORTEST + 1):
                before = best[start]
                if before is not None and piece[start:end] in self._known:
                    made = (*before, piece[start:end])
                    old = best[end]
                    if old is None or len(made) < len(old):
                        best[end] = made
        return best[-1] or ()

    def _unabbreviated(self, piece: str) -> tuple[str, ...]:
        word = self._short.get(piece)
        return (word,) if word else (piece,)


def _abbreviations(words: Iterable[str]) -> dict[str, str]:
    """From abbreviation to word: beginnings of three letters or more, and words without their vowels; clear ones only."""
    found: dict[str, set[str]] = {}
    for word in words:
        bare = word[0] + re.sub("[aeiou]", "", word[1:])
        shorts = {bare, bare[:4], *(word[:n] for n in range(4, len(word)))}
        for short in shorts:
            if len(short) >= _SHORTEST:
                found.setdefault(short, set()).add(word)
    return {short: min(of) for short, of in found.items() if len(of) == 1}


LANGUAGES: dict[str, dict[str, Any]] = json.loads(files(__package__).joinpath("anatomy.json").read_text("utf-8"))
"""The languages of ``anatomy.json``: each with its words for left and right, and for the parts of a body."""

_added: list[tuple[int, Mapping[str, Any]]] = [(0, {})]  # the words that were added last, and their number


def add_words(language: Mapping[str, Any]) -> None:
    """Let words of a user's own stand before all others: ``{"left": [...], "right": [...], "parts": {part: [...]}}``."""
    _added[0] = _added[0][0] + 1, language


def vocabulary(spoken: tuple[str, ...] = (ENGLISH,)) -> Vocabulary:
    """The Vocabulary of some languages, the most trusted first."""
    number, added = _added[0]
    return EVALUATOR.of(
        "vocabulary", (spoken, number), lambda: Vocabulary([added, *(LANGUAGES[name] for name in spoken)])
    )


def spoken(names: tuple[str, ...]) -> tuple[str, ...]:
    """The languages that the names of a skeleton's bones speak, the one that explains most of them first."""
    return EVALUATOR.of("languages of names", (names, _added[0][0]), lambda: _spoken(names))


def _spoken(names: tuple[str, ...]) -> tuple[str, ...]:
    cut = [[p for p in pieces(name) if not p.isdigit()] for name in names]
    every = {p for of in cut for p in of}
    said = {}
    for name in LANGUAGES:
        words = vocabulary((name,))
        known = {
            p for p in every if any(w in words.words and (len(w) > 2 or _IS_EASTERN.search(w)) for w in words.apart(p))
        }
        said[name] = {i for i, of in enumerate(cut) if known.intersection(of)}
    english = said[ENGLISH]
    gains = {name: len(of - english) for name, of in said.items() if name != ENGLISH}
    least = max(2, 0.15 * len(english.union(*said.values())))
    more = [name for name, gain in sorted(gains.items(), key=lambda item: -item[1]) if gain >= least][:1]
    # A language that explains more than English does has its own meaning where both have a word.
    if more and len(said[more[0]]) > len(english):
        return (*more, ENGLISH)
    return (ENGLISH, *more) if more else (ENGLISH, LATIN)


def usual(names: Iterable[Sequence[str]]) -> set[str]:
    """The words that most of some names have: they tell nothing of any of them."""
    distinct = [set(words) for words in names]
    count = Counter(word for words in distinct for word in words)
    return {word for word, n in count.items() if n > 0.7 * len(distinct)} if len(distinct) > 5 else set()
