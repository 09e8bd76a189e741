"""Words for bones that a user added or that were learned from corrections: a readable file in the user's settings.

``words.json`` holds words for left, right and the parts of the body, as the built-in vocabulary does, and stands before
it. They are evidence for what a bone is, and never win over a clear body.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Literal

from pydantic import Field

from ..core.errors import InputError
from ..core.humanoid.vocabulary import pieces, vocabulary
from ..core.humanoid.words import NameEvidence, parts_of, usual
from ..core.matching.tying import OPTIONAL, REQUIRED
from ..formats.files import Output, write_together
from .strict import Strict, load_file
from .words import use, words_path

if TYPE_CHECKING:
    from ..core.skeleton import Skeleton
    from .pairing import Pairing

VERSION = 1
PARTS = tuple(dict.fromkeys(p.removeprefix("left ").removeprefix("right ") for p in (*REQUIRED, *OPTIONAL)))
_NOTHING = {"bone", "joint", "node", "root", "null", "group", "grp", "jnt", "rig", "object", "point", "helper"}
_MOST_WORDS, _FEWEST_LETTERS = 3, 3


class WordsFile(Strict):
    """``parts``: parts of the body to the words for them."""

    format: Literal["young-marionette word list"] = "young-marionette word list"
    version: int = Field(default=VERSION, ge=1, le=VERSION)
    left: tuple[str, ...] = ()
    right: tuple[str, ...] = ()
    parts: dict[str, tuple[str, ...]] = Field(default_factory=dict)


def load() -> WordsFile:
    """The user's words; none where there is no file. InputError, in one sentence, for a file that can't be used."""
    path = words_path()
    if not path.exists():
        return WordsFile()
    file = load_file(path, WordsFile, VERSION, "word list")
    for part in file.parts:
        _check(part, path.name)
    return file


def add(part: str, words: Iterable[str]) -> WordsFile:
    """Add words for a part of the body, or for ``left`` or ``right``, and keep them; what they meant before is forgotten."""
    if part not in ("left", "right"):
        _check(part, "")
    words = [_cleaned(word) for word in words]
    file = _without(load(), words)
    if part in ("left", "right"):
        file = file.model_copy(update={part: (*getattr(file, part), *words)})
    else:
        file = file.model_copy(update={"parts": {**file.parts, part: (*file.parts.get(part, ()), *words)}})
    _save(file)
    return file


def forget(words: Iterable[str]) -> WordsFile:
    """Take words out again; InputError where one is not there."""
    words, file = [_cleaned(word) for word in words], load()
    every = {*file.left, *file.right, *(w for of in file.parts.values() for w in of)}
    for word in words:
        if word not in every:
            raise InputError(f"'{word}' is none of your own words for bones.")
    file = _without(file, words)
    _save(file)
    return file


def learn(pairing: Pairing) -> dict[str, list[str]]:
    """Keep as words what was tied by hand to bones whose names said nothing; returns parts to what is new for them."""
    found: dict[str, str] = {}
    for side in ("source", "target"):
        found |= _said(getattr(pairing, side), {s.part: getattr(s, side) for s in pairing.strings if s.by_hand})
    known = load()
    fresh: dict[str, list[str]] = {}
    for word, part in found.items():
        if word not in known.parts.get(part, ()):
            fresh.setdefault(part, []).append(word)
    for part, words in fresh.items():
        add(part, words)
    return fresh


def _said(skeleton: Skeleton, tied: Mapping[str, Sequence[str]]) -> dict[str, str]:
    """New words in the names of bones, with the part that they were tied for."""
    if not tied:
        return {}
    evidence, found = NameEvidence(skeleton.names), dict[str, str]()
    idle, sides = usual(evidence.words), vocabulary(evidence.languages).sides
    for part, names in tied.items():
        plain = part.removeprefix("left ").removeprefix("right ")
        if plain not in PARTS:
            continue
        for name in names:
            words = [w for w in evidence.words[skeleton.index[name]] if w not in sides and w not in idle]
            words = [w for w in words if not w.isdigit() and w not in _NOTHING]
            unknown = not parts_of(words)
            if unknown and 0 < len(words) <= _MOST_WORDS and sum(map(len, words)) >= _FEWEST_LETTERS:
                found[" ".join(words)] = plain
    return found


def _check(part: str, where: str) -> None:
    if part not in PARTS:
        raise InputError(f"{f'{where}: ' if where else ''}'{part}' is no part of the body; use {', '.join(PARTS)}.")


def _cleaned(word: str) -> str:
    word = " ".join(pieces(word))
    if not word or word.replace(" ", "").isdigit():
        raise InputError("A word for a bone needs letters.")
    return word


def _without(file: WordsFile, words: Iterable[str]) -> WordsFile:
    gone = set(words)
    parts = {part: tuple(w for w in of if w not in gone) for part, of in file.parts.items()}
    return WordsFile(
        left=tuple(w for w in file.left if w not in gone),
        right=tuple(w for w in file.right if w not in gone),
        parts={part: of for part, of in parts.items() if of},
    )


def _save(file: WordsFile) -> None:
    path = words_path()
    path.parent.mkdir(parents=True, exist_ok=True)
    text = json.dumps(file.model_dump(mode="json"), indent=1, ensure_ascii=False)
    write_together([Output(path, [text.encode(), b"\n"])])
    use()
