"""Snags in words: what is wrong and where, what would mend it, and what the button that mends it is called."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple, Protocol

from ..core.findings import Finding
from ..core.text import shown
from .findings import certainty_words, difference_words, finding_words, some
from .markers import fault_words, mend_words, segment_words

_MOST = 400


class SnagWords(NamedTuple):
    """``mend``: what to call the command that mends it; empty where there is none."""

    text: str
    remedy: str
    mend: str


class Origin(Protocol):
    """Where strings came from (see project.pairing)."""

    @property
    def kind(self) -> str: ...
    @property
    def stringing(self) -> str: ...
    @property
    def lost(self) -> tuple[str, ...]: ...
    @property
    def fresh(self) -> tuple[str, ...]: ...


def snag_words(found: Finding) -> SnagWords:
    """A snag's finding in words.

    >>> snag_words(Finding("wrong order", {"part": "neck", "other": "head"})).remedy
    'Swap their bones.'
    """
    if found.code == "entry":
        odd = finding_words(found["odd"])
        text = f"{found['name']}: {odd.text[0].lower()}{odd.text[1:]}"
        return SnagWords(text, odd.remedy, _ENTRY_MENDS.get(found["odd"].code, ""))
    text, remedy, mend = _SNAGS[found.code]
    return SnagWords(
        shown(text(found) if callable(text) else text.format(**found.values), _MOST),
        remedy(found) if callable(remedy) else remedy,
        mend(found) if callable(mend) else mend,
    )


def origin_words(origin: Origin) -> str:
    """Where the strings of a pairing came from, in words."""
    if origin.kind == "tied":
        return "Tied automatically."
    if origin.kind == "stringing":
        return f"The stringing {origin.stringing} was made for these two families and is used automatically."
    words = (
        f"not there: {', '.join(origin.lost)}" if origin.lost else "",
        f"tied anew: {', '.join(origin.fresh)}" if origin.fresh else "",
    )
    return (
        f"Adapted from the stringing {origin.stringing}; "
        f"{'; '.join(filter(None, words)) or 'nothing had to be changed'}."
    )


_ENTRY_MENDS = {"short": "Remove", "collapsed": "Remove", "floor": "Put on the floor"}


def _family(found: Finding) -> str:
    differences = "; ".join(map(difference_words, found["apart"])) or "the same bones in another order"
    return f"{found['name']} differs from the family of {found['kin']}: {differences}."


def _untied(found: Finding) -> str:
    if found["lacking"]:
        where = " and ".join(found["lacking"])
        return f"It was not found in {where}; tie it by hand, or say that it is absent."
    return "Tie it on the board, let it be tied, or say that it is absent."


def _guess(found: Finding) -> str:
    ends = f"{', '.join(found['source'])} to {', '.join(found['target'])}"
    return f"The string of the {found['part']} is a guess ({certainty_words(found['certainty'])}): {ends}."


def _swapped(found: Finding) -> str:
    parts = found["parts"]
    return f"Left and right are swapped: {', '.join(parts[:3])}{' and more' if len(parts) > 3 else ''}."


_WORSE = {
    "slide": "slides by up to {after:.1f} cm, and without planting by {before:.1f} cm",
    "sink": "is up to {after:.1f} cm under the floor, and without planting {before:.1f} cm",
    "hover": "floats up to {after:.1f} cm over the floor, and without planting {before:.1f} cm",
    "touching": "is up to {after:.1f} cm inside the body, and before {before:.1f} cm",
}


def worse_words(kind: str, part: str, before: float, after: float, frame: int) -> str:
    """What became worse by planting, holding or clearing (metres), in one sentence.

    >>> worse_words("sink", "left foot", 0.0, 0.028, 12)
    'The left foot is up to 2.8 cm under the floor, and without planting 0.0 cm (frame 12).'
    """
    return f"The {part} {_WORSE[kind].format(before=before * 100, after=after * 100)} (frame {frame})."


_FEET = {
    "slide": ("slides {cm:.1f} cm while it stands", "Correct its contact in the lanes."),
    "sink": ("is {cm:.1f} cm under the floor", "Correct its contacts in the lanes, or raise the hips."),
    "hover": ("floats {cm:.1f} cm over the floor where it should stand", "Correct its contact in the lanes."),
}


def _foot(found: Finding) -> str:
    off = _FEET[found["kind"]][0].format(cm=found["metres"] * 100)
    return f"The {found['part']} {off}, {_frames(found)}."


def _frames(found: Finding) -> str:
    first, last = found["first"], found["last"]
    return f"frame {first}" if first == last else f"frames {first}-{last}"


def _feet_remedy(found: Finding) -> str:
    return _FEET[found["kind"]][1] if found["planted"] else "Plant the feet."


Text = str | Callable[[Finding], str]
_SNAGS: dict[str, tuple[Any, Text, Text]] = {
    "family": (_family, "It has its own strings: check them before you bake it with the others.", ""),
    "stringing nearly fits": (
        "The stringing {name} was made for nearly the same two skeletons.",
        "Adapt it, to use what was tied there.",
        "Adapt",
    ),
    "unlike bodies": (
        "{four} stands on four legs, and the other figure on two: nothing is tied automatically.",
        "Tie the parts that should follow, one by one; the hips are needed.",
        "",
    ),
    "no string": ("The {part} has no string.", _untied, lambda f: "" if f["lacking"] else "Tie"),
    "parts not there": (
        lambda f: f"{f['name']} has no {some(f['parts'], 6)}: nothing drives or follows there.",
        "Nothing needs to be done if it is built so; else tie the bones by hand.",
        "",
    ),
    "guess": (_guess, "Look at it on the board; tie it by hand if it is right.", ""),
    "different parts": (
        "The string of the {part} joins different parts: {source} is the {source_part}, {target} is the {target_part}.",
        "Tie it differently, or lock it if it is intended.",
        "",
    ),
    "sides swapped": (_swapped, "Swap the sides.", "Swap"),
    "run out of order": (
        lambda f: f"The run of the {f['part']} is out of order: {some(f['bones'])}.",
        "Tie it from the upper end to the lower.",
        "",
    ),
    "tied twice": (
        lambda f: f"The bone {f['bone']} is tied for {len(f['parts'])} parts: {', '.join(f['parts'])}.",
        "Tie one of them to another bone.",
        "",
    ),
    "wrong order": (
        "The {part} and the {other} are tied in the wrong order: above in one skeleton, below in the other.",
        "Swap their bones.",
        "",
    ),
    "stance off": ("The {part} is {degrees:.0f}° off in the stance.", "Match the stance, or turn the bone.", "Match"),
    "worse than free": (
        lambda f: worse_words(f["kind"], f["part"], f["before"], f["metres"], f["frame"]),
        "Correct its contacts in the lanes, or leave the feet free.",
        lambda f: "Leave the feet free" if f["undone"] else "",
    ),
    "foot off": (_foot, _feet_remedy, lambda f: "" if f["planted"] else "Plant"),
    "arm inside": (
        lambda f: f"The {f['part']} is {f['metres'] * 100:.1f} cm inside the body, {_frames(f)}.",
        lambda f: "Widen the arms." if f["cleared"] else "Keep the arms out of the body.",
        lambda f: "Arms wider" if f["cleared"] else "Keep out",
    ),
    "hand off": (
        lambda f: f"The {f['part']} slides {f['metres'] * 100:.1f} cm while it holds something, {_frames(f)}.",
        lambda f: (
            "The arm is too short for it, or its contact is wrong: see its lane."
            if f["held"]
            else "Let the hands keep what they touch."
        ),
        lambda f: "" if f["held"] else "Hold",
    ),
    "segments unknown": (
        lambda f: f"{f['name']}: no marker tells of the {some([segment_words(s) for s in f['segments']])}.",
        "They move as a body usually would; put markers on them if some belong there.",
        "",
    ),
    "unlikely stature": (
        "{name}: the figure is {metres:.2f} m tall, which nobody is.",
        "Look at the unit in Gather, and at columns that may be no markers.",
        "",
    ),
    "marker loose": (
        lambda f: f"{f['name']}: {f['marker']} is usually {f['metres'] * 100:.1f} cm off its place.",
        "Put it on another segment, or leave it out.",
        "Leave out",
    ),
    "marker fault": (
        lambda f: f"{f['name']}: {fault_words(f['fault'], f['labels'])}",
        lambda f: f"Mended by itself: {mend_words(f['fault']).lower()} Keep that, or choose another mend under Faults.",
        "Keep",
    ),
    "outdated": (
        "{name} is out of date: what it was baked from has changed.",
        "Rebake it, or keep it as it is.",
        "Rebake",
    ),
    "slides since": (
        lambda f: (
            f"{f['name']}: feet or hands slide {f['metres'] * 100:.1f} cm where they touch since its passes, "
            f"{f['before'] * 100:.1f} cm before."
        ),
        "Plant them, or let the passes keep what stands in place.",
        "Plant",
    ),
    "out of reach": (
        lambda f: (
            f"{f['name']}: the {f['limb']} is {f['metres'] * 100:.1f} cm too short for its control, {_frames(f)}."
        ),
        lambda f: "Lower the hips, or move the control." if f["limb"].endswith("leg") else "Move the control nearer.",
        lambda f: "Lower the hips" if f["limb"].endswith("leg") else "",
    ),
}
