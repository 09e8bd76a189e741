"""Findings in words: what was found, and what to do about it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

from ..core.findings import Finding
from ..core.matching.families import Difference
from ..core.text import shown

_MOST = 400
_ALL_RIGHT = "Nothing needs to be done if the motion looks right."
_OTHER_FILE = "Use another file, or tie its bones by hand."


class Words(NamedTuple):
    """``text``: what is so. ``remedy``: what to do about it."""

    text: str
    remedy: str


def finding_words(found: Finding) -> Words:
    """A finding of a file, its skeleton or its motion, in words.

    >>> finding_words(Finding("short", {"frames": 1})).text
    'Holds only 1 frame: a reference pose or junk.'
    """
    text, remedy = _WORDS[found.code]
    text = text(found) if callable(text) else text.format(**found.values)
    return Words(shown(text, _MOST), remedy)


def counted(count: int, what: str, several: str = "") -> str:
    """A number with its noun, such as ``2 frames``."""
    return f"{count:,} {what if count == 1 else several or what + 's'}"


def certainty_words(certainty: float) -> str:
    """A certainty from 0 to 1 in per cent, such as ``"97%"``; in full only where nothing was left to guess."""
    return "100%" if certainty >= 1 else f"{min(int(100 * certainty + 0.5), 99)}%"


def some(names: Sequence[str], most: int = 4) -> str:
    """The first of several names, and how many more there are."""
    more = f" and {len(names) - most} more" if len(names) > most else ""
    return ", ".join(names[:most]) + more


def difference_words(apart: Difference) -> str:
    """How two skeletons differ, such as ``two bones more: Pole, Lantern``."""
    count = len(apart.bones)
    number = {1: "one", 2: "two", 3: "three", 4: "four"}.get(count, str(count))
    what = {"offset": "with another rest offset"}.get(apart.kind, apart.kind)
    return f"{number} bone{'s' if count > 1 else ''} {what}: {some(apart.bones)}"


def _first_of(joints: Sequence[str]) -> str:
    return joints[0] + (f" and {len(joints) - 1} more" if len(joints) > 1 else "")


def _floor(found: Finding) -> str:
    metres = found["metres"]
    return (
        f"The feet {'hover' if metres > 0 else 'sink'} about {abs(metres) * 100:.1f} cm "
        f"{'over' if metres > 0 else 'under'} the floor."
    )


Text = str | Callable[[Finding], str]
_WORDS: dict[str, tuple[Any, str]] = {
    # what was told in words by an earlier version
    "text": (lambda f: f["text"], _ALL_RIGHT),
    # of what is to be delivered
    "nothing baked": ("There is no clip yet; open some, or bake one in Transfer.", "Open a clip."),
    "no clip selected": ("No clip is selected.", "Select one."),
    "no rig selected": ("No rig is selected for the clips that are not baked.", "Select one."),
    "names meet": ("{file} would be written from several clips.", "Give each a name of its own."),
    "one clip a file": ("A file ending in {ending} holds one clip.", "Choose GLB or glTF, or a file for each."),
    "not tied": ("{clip} and {rig} have no strings between them.", "Tie them."),
    "strings missing": (
        lambda f: f"{f['clip']} on {f['rig']} lacks strings: {some(f['parts'])}.",
        "Tie them in String, or say that they are not there.",
    ),
    "no folder": ("Choose a folder.", "Choose one."),
    # of skeletons
    "no body": ("No body with two legs can be seen in this skeleton.", _OTHER_FILE),
    "no legs": ("No legs can be seen in this skeleton, only arms.", _OTHER_FILE),
    "unlike bodies": (
        "{four} stands on four legs, and the other on two: nothing is tied automatically.",
        "Tie the parts that should follow, one by one, in String; hips are needed.",
    ),
    "declared up": (
        "The file says that {declared} is up, and the figure stands along {seen}.",
        "The figure is trusted; set Up in Gather if it should lie.",
    ),
    "up differs": (
        lambda f: (
            f"The rest pose stands along {f['rest']} and the motion along {f['motion']}; "
            f"{'the motion' if f['followed'] else 'the rest pose'} is followed."
        ),
        "Set Up in Gather, or with --source-up, if that is wrong.",
    ),
    "rest replaced": (
        "The file's rest pose shows no body that a person could take; the pose of frame {frame} is used in its place.",
        "Choose another frame as the rest pose in Gather if bones turn out twisted.",
    ),
    "folded rest": (
        "The legs lie along the trunk at rest: this is no pose that a person takes.",
        "Choose a frame of a clip as the rest pose in Gather.",
    ),
    "declared unit": (
        "By the unit that the file tells, {unit}, the figure would be {height:.3g} m tall; it is taken to be another.",
        "Set its unit in Gather if it is that size.",
    ),
    "unit": (
        "No usual unit fits a figure of {units:,.0f} units; it is shown {height:.2f} m tall.",
        "Set its unit in Gather if that is not its size.",
    ),
    "sides": (
        "The words left and right in the names stand against the body: what is called left is its right.",
        "The body is trusted; if it faces the other way, set its facing in Gather.",
    ),
    # of motion
    "short": (
        lambda f: f"Holds only {counted(f['frames'], 'frame')}: a reference pose or junk.",
        "Remove it from the library if you don't need the pose.",
    ),
    "collapsed": (
        "The figure has collapsed: head and feet lie together in every frame that was looked at.",
        "Remove it from the library; it holds no usable motion.",
    ),
    "floor": (_floor, "If they should stand, put the clip on the floor."),
    # of files
    "body unusable": ("Its body can't be used: {why}", _ALL_RIGHT),
    "uneven over": ("The skeleton stands under a node that is scaled unevenly; the mean is taken.", _ALL_RIGHT),
    "uneven scales": (
        lambda f: f"{_first_of(f['joints'])} scale unevenly, which no skeleton of rotations can follow exactly.",
        _ALL_RIGHT,
    ),
    "scales over time": (
        lambda f: (
            f"{f['clip']} scales {_first_of(f['joints'])} over time: its own body follows, and a rig takes over "
            "where joints go, not how large they are."
        ),
        _ALL_RIGHT,
    ),
    "one take": (
        "{count} animations move different joints over the same time: they are read as one take.",
        "Part it in Gather, or name one with --clip, if each is a take of its own.",
    ),
    "no usual rate": (
        "The keys of {clip} fall on no frames of a usual rate; frames are made at {rate:g} per second.",
        _ALL_RIGHT,
    ),
    "same names": (
        "{joints} joints share their names with others; they got numbers to tell them apart.",
        _ALL_RIGHT,
    ),
    "same name": ("The name {name} is given to more than one joint; here it is told apart as {told}.", _ALL_RIGHT),
    "no motion": ("The file holds a skeleton without motion.", _ALL_RIGHT),
    "other frames": (
        "The file announces {announced} frames and holds {there} whole ones; all of those were read.",
        _ALL_RIGHT,
    ),
    "unlabelled points": (
        lambda f: f"{counted(f['count'], 'point')} without a label.",
        "They are taken in where they move with a segment, else left out.",
    ),
    "computed outputs": (
        lambda f: (
            f"{counted(f['count'], 'computed output')} that {'is' if f['count'] == 1 else 'are'} no marker"
            f"{'' if f['count'] == 1 else 's'} (such as {some(f['names'], 3)}) {'is' if f['count'] == 1 else 'are'} left out."
        ),
        _ALL_RIGHT,
    ),
    "stature": (
        "The figure is {metres:.2f} m tall, which nobody is: columns that are no markers, or a wrong unit, may be why.",
        "Look at the unit and at which markers are used.",
    ),
    "frames left out": (
        lambda f: f"The table leaves {counted(f['count'], 'frame')} out: all markers have gaps there.",
        _ALL_RIGHT,
    ),
    "markers differ": ("The file announces {announced} markers and names {markers}.", _ALL_RIGHT),
    "analogue left alone": (
        lambda f: f"{counted(f['channels'], 'analogue channel')} (such as forces) are left alone.",
        _ALL_RIGHT,
    ),
    "rate guessed": ("The table tells no frame rate: {rate:g} per second are taken.", "Set its rate if it is another."),
    "positions added": ("The positions of {joint} are near zero, so they were added to its offset.", _ALL_RIGHT),
    "skeleton beside": (
        "The skeleton was read from {file}. AMC tells no rate: {rate:g} frames per second are taken.",
        _ALL_RIGHT,
    ),
    "left out": ("{joint} changes its length or place, which is left out.", _ALL_RIGHT),
}
