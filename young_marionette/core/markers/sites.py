"""Where on the body markers are usually put, and the labels for it that gait laboratories use.

Places are shares of the stature in the axes of the segment's joint, the figure in a T-pose (X to its left, Y up, Z ahead), of
the left side or the middle; the right mirrors them. They follow the landmarks of the usual full-body and lower-body sets
(Davis 1991; Wu 2002 and 2005, recommendations of the International Society of Biomechanics).
"""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from ..humanoid.vocabulary import LEFT, RIGHT, Vocabulary, spoken, vocabulary
from ..humanoid.words import parts_of, shared_prefix, side_of
from .fingers import finger_of
from .segments import BODY, Segment, Structure


@dataclass(frozen=True)
class Site:
    """A usual place: ``segment`` without its side, ``place`` in shares of the stature, ``sigma`` likewise; ``sided``: on both sides."""

    segment: str
    place: tuple[float, float, float]
    sigma: float = 0.014
    sided: bool = True


_HIPS, _CHEST, _HEAD = "hips", "chest", "head"
# Landmarks of the body, by the abbreviations that laboratories write after (or before) the letter of the side.
SITES: dict[str, Site] = {
    "FHD": Site(_HEAD, (0.04, 0.075, 0.05)),
    "BHD": Site(_HEAD, (0.04, 0.075, -0.045)),
    "HEAD": Site(_HEAD, (0.045, 0.08, 0.0), 0.03),
    "HD": Site(_HEAD, (0.045, 0.08, 0.0), 0.03),
    "EAR": Site(_HEAD, (0.042, 0.045, 0.0)),
    "TEMP": Site(_HEAD, (0.04, 0.07, 0.03)),
    "SHO": Site("Shoulder", (0.082, 0.032, -0.005)),
    "ACR": Site("Shoulder", (0.088, 0.03, -0.008)),
    "SAC": Site("Shoulder", (0.088, 0.03, -0.008)),
    "ACJ": Site("Shoulder", (0.08, 0.03, -0.003)),
    "SJN": Site("Shoulder", (0.0, 0.012, 0.03)),
    "SCAP": Site(_CHEST, (0.05, 0.09, -0.06), 0.03),
    "BAK": Site(_CHEST, (0.05, 0.09, -0.06), 0.025),
    "UPA": Site("UpperArm", (0.085, 0.026, -0.01), 0.028),
    "UA": Site("UpperArm", (0.085, 0.026, -0.01), 0.035),
    "ARM": Site("UpperArm", (0.085, 0.026, -0.01), 0.05),
    "BIC": Site("UpperArm", (0.085, 0.0, 0.03), 0.025),
    "TRI": Site("UpperArm", (0.085, 0.0, -0.03), 0.025),
    "ELB": Site("UpperArm", (0.168, 0.023, -0.004)),
    "ELL": Site("UpperArm", (0.168, 0.023, -0.004)),
    "LEP": Site("UpperArm", (0.168, 0.023, -0.004)),
    "ELM": Site("UpperArm", (0.168, -0.023, 0.0)),
    "MEP": Site("UpperArm", (0.168, -0.023, 0.0)),
    "MEL": Site("UpperArm", (0.168, -0.023, 0.0)),
    "FRM": Site("LowerArm", (0.07, 0.018, 0.0), 0.026),
    "FRA": Site("LowerArm", (0.07, 0.018, 0.0), 0.026),
    "FA": Site("LowerArm", (0.07, 0.018, 0.0), 0.035),
    "RAD": Site("LowerArm", (0.143, 0.0, 0.018)),
    "ULN": Site("LowerArm", (0.143, 0.0, -0.018)),
    "WRA": Site("LowerArm", (0.143, 0.002, 0.019)),
    "WRB": Site("LowerArm", (0.143, 0.002, -0.019)),
    "WRI": Site("LowerArm", (0.143, 0.006, 0.0), 0.02),
    "WR": Site("LowerArm", (0.143, 0.006, 0.0), 0.02),
    "RS": Site("LowerArm", (0.143, 0.0, 0.018)),
    "US": Site("LowerArm", (0.143, 0.0, -0.018)),
    "FIN": Site("Hand", (0.05, 0.011, 0.004)),
    "HND": Site("Hand", (0.045, 0.011, 0.0), 0.02),
    "HAN": Site("Hand", (0.045, 0.011, 0.0), 0.02),
    "HAND": Site("Hand", (0.045, 0.011, 0.0), 0.02),
    "MC2": Site("Hand", (0.05, 0.011, 0.014)),
    "MC3": Site("Hand", (0.05, 0.011, 0.004)),
    "MC5": Site("Hand", (0.042, 0.008, -0.02)),
    "HM2": Site("Hand", (0.05, 0.011, 0.014)),
    "HM5": Site("Hand", (0.042, 0.008, -0.02)),
    "FIP": Site("Hand", (0.045, 0.008, -0.02)),
    "ASI": Site(_HIPS, (0.07, 0.04, 0.055)),
    "ASIS": Site(_HIPS, (0.07, 0.04, 0.055)),
    "IAS": Site(_HIPS, (0.07, 0.04, 0.055)),
    "PSI": Site(_HIPS, (0.028, 0.045, -0.055)),
    "PSIS": Site(_HIPS, (0.028, 0.045, -0.055)),
    "IPS": Site(_HIPS, (0.028, 0.045, -0.055)),
    "ILC": Site(_HIPS, (0.082, 0.06, 0.0)),
    "IC": Site(_HIPS, (0.082, 0.06, 0.0)),
    "WT": Site(_HIPS, (0.075, 0.04, 0.03), 0.035),
    "FWT": Site(_HIPS, (0.07, 0.04, 0.055)),
    "BWT": Site(_HIPS, (0.04, 0.045, -0.055)),
    "GT": Site("UpperLeg", (0.045, 0.0, -0.005)),
    "TRO": Site("UpperLeg", (0.045, 0.0, -0.005)),
    "THI": Site("UpperLeg", (0.045, -0.13, 0.0), 0.03),
    "TH": Site("UpperLeg", (0.04, -0.13, 0.01), 0.04),
    "THF": Site("UpperLeg", (0.0, -0.12, 0.05), 0.028),
    "KNE": Site("UpperLeg", (0.031, -0.243, 0.0)),
    "LEK": Site("UpperLeg", (0.031, -0.243, 0.0)),
    "KNL": Site("UpperLeg", (0.031, -0.243, 0.0)),
    "LFE": Site("UpperLeg", (0.031, -0.243, 0.0)),
    "FLE": Site("UpperLeg", (0.031, -0.243, 0.0)),
    "KNM": Site("UpperLeg", (-0.031, -0.243, 0.0)),
    "MEK": Site("UpperLeg", (-0.031, -0.243, 0.0)),
    "FME": Site("UpperLeg", (-0.031, -0.243, 0.0)),
    "MFE": Site("UpperLeg", (-0.031, -0.243, 0.0)),
    "TIB": Site("LowerLeg", (0.03, -0.12, 0.0), 0.028),
    "SHN": Site("LowerLeg", (0.005, -0.1, 0.03), 0.028),
    "SK": Site("LowerLeg", (0.02, -0.12, 0.01), 0.035),
    "FAX": Site("LowerLeg", (0.03, -0.03, -0.01)),
    "TTC": Site("LowerLeg", (0.0, -0.03, 0.035)),
    "ANK": Site("LowerLeg", (0.021, -0.243, -0.003)),
    "ANL": Site("LowerLeg", (0.021, -0.243, -0.003)),
    "LMA": Site("LowerLeg", (0.021, -0.243, -0.003)),
    "FAL": Site("LowerLeg", (0.021, -0.243, -0.003)),
    "MED": Site("LowerLeg", (-0.02, -0.24, 0.0)),
    "ANM": Site("LowerLeg", (-0.02, -0.24, 0.0)),
    "MMA": Site("LowerLeg", (-0.02, -0.24, 0.0)),
    "TAM": Site("LowerLeg", (-0.02, -0.24, 0.0)),
    "HEE": Site("Foot", (0.0, -0.022, -0.034)),
    "HEL": Site("Foot", (0.0, -0.022, -0.034)),
    "CAL": Site("Foot", (0.0, -0.022, -0.034)),
    "FCC": Site("Foot", (0.0, -0.022, -0.034)),
    "TOE": Site("Foot", (0.0, -0.02, 0.075), 0.017),
    "MT1": Site("Foot", (-0.016, -0.022, 0.075)),
    "MT2": Site("Foot", (-0.003, -0.018, 0.077)),
    "MT5": Site("Foot", (0.022, -0.027, 0.06)),
    "FM1": Site("Foot", (-0.016, -0.022, 0.075)),
    "FM2": Site("Foot", (-0.003, -0.018, 0.077)),
    "FM5": Site("Foot", (0.022, -0.027, 0.06)),
    "BTO": Site("Toes", (-0.012, 0.004, 0.03)),
    "HLX": Site("Toes", (-0.012, 0.004, 0.03)),
    "ARIEL": Site(_HEAD, (0.0, 0.13, 0.0), sided=False),
    "TOPH": Site(_HEAD, (0.0, 0.13, 0.0), sided=False),
    "VTX": Site(_HEAD, (0.0, 0.13, 0.0), sided=False),
    "C7": Site(_CHEST, (0.0, 0.155, -0.04), sided=False),
    "CV7": Site(_CHEST, (0.0, 0.155, -0.04), sided=False),
    "T4": Site(_CHEST, (0.0, 0.1, -0.065), sided=False),
    "T8": Site(_CHEST, (0.0, 0.05, -0.07), sided=False),
    "T10": Site(_CHEST, (0.0, 0.02, -0.068), sided=False),
    "T12": Site("spine", (0.0, 0.06, -0.065), sided=False),
    "STRN": Site(_CHEST, (0.0, 0.045, 0.065), sided=False),
    "CLAV": Site(_CHEST, (0.0, 0.125, 0.045), sided=False),
    "SJ": Site(_CHEST, (0.0, 0.128, 0.042), sided=False),
    "SXS": Site(_CHEST, (0.0, 0.045, 0.065), sided=False),
    "IJ": Site(_CHEST, (0.0, 0.128, 0.042), sided=False),
    "PX": Site(_CHEST, (0.0, 0.045, 0.065), sided=False),
    "XYPH": Site(_CHEST, (0.0, 0.045, 0.065), sided=False),
    "SACR": Site(_HIPS, (0.0, 0.045, -0.06), sided=False),
    "L5": Site(_HIPS, (0.0, 0.075, -0.06), sided=False),
    "L1": Site("spine", (0.0, 0.04, -0.065), sided=False),
    "MWT": Site(_HIPS, (0.0, 0.045, -0.06), 0.04, sided=False),
}

# Plain words for landmarks, and for segments as a whole (of which a label tells no place).
WORDS: dict[tuple[str, ...], Site] = {
    ("knee",): SITES["KNE"],
    ("elbow",): SITES["ELB"],
    ("ankle",): SITES["ANK"],
    ("malleolus",): SITES["ANK"],
    ("wrist",): SITES["WRI"],
    ("radius",): SITES["RAD"],
    ("ulna",): SITES["ULN"],
    ("shoulder",): SITES["SHO"],
    ("acromion",): SITES["ACR"],
    ("heel",): SITES["HEE"],
    ("calcaneus",): SITES["HEE"],
    ("toe",): SITES["TOE"],
    ("metatarsal",): SITES["TOE"],
    ("waist",): SITES["WT"],
    ("iliac",): SITES["ILC"],
    ("trochanter",): SITES["GT"],
    ("sacrum",): SITES["SACR"],
    ("sternum",): SITES["STRN"],
    ("clavicle",): SITES["CLAV"],
    ("scapula",): SITES["SCAP"],
    ("offset",): SITES["BAK"],
    ("forehead",): Site(_HEAD, (0.02, 0.08, 0.06), 0.025, sided=False),
}
_OF_PART = {
    "hips": _HIPS, "spine": _CHEST, "chest": _CHEST, "neck": _HEAD, "head": _HEAD, "collarbone": "Shoulder",
    "upper arm": "UpperArm", "forearm": "LowerArm", "hand": "Hand", "thigh": "UpperLeg", "shin": "LowerLeg",
    "foot": "Foot", "toes": "Toes", "thumb": "Hand", "index": "Hand", "middle": "Hand", "ring": "Hand", "little": "Hand",
}  # fmt: skip
_AHEAD = {"front", "frt", "fr", "ant", "anterior", "f"}
_BEHIND = {"back", "bck", "bk", "post", "posterior", "rear", "b"}
_INNER = {"in", "inner", "inside", "med", "medial", "m"}
_OUTER = {"out", "outer", "outside", "lat", "lateral"}


@dataclass(frozen=True)
class Reading:
    """What a label says: ``segment`` or None, ``place (3,)`` and ``sigma (3,)`` as shares of the stature in its joint's axes."""

    segment: str | None
    place: np.ndarray
    sigma: np.ndarray
    landmark: bool = False


def broad(segment: Segment) -> tuple[np.ndarray, np.ndarray]:
    """``(place, sigma)`` of a marker that is somewhere on a segment, in shares of the stature."""
    tip = np.array(segment.tip)
    return tip / 2, np.sqrt((0.35 * np.abs(tip)) ** 2 + (segment.radius + segment.wide * np.array([1, 0, 0])) ** 2)


def read_labels(labels: tuple[str, ...], structure: Structure = BODY) -> list[Reading]:
    """What labels say, one by one; a prefix that they share (the subject's name) is taken off."""
    bare, words = _bare(labels)
    found = []
    for label in bare:
        finger = _finger(label, words)
        if finger in structure.index:
            found.append(Reading(finger, *broad(structure.segments[structure.index[finger]])))
            continue
        site, side = _site(label)
        if site is None:
            said = words.split(label)
            side = side_of(said, words)
            site = SITES["FIN"] if finger else _worded(said, words)
        if finger and site is not None:
            side = LEFT if finger.startswith(LEFT) else RIGHT
        found.append(_reading(site, side, structure))
    return found


def fingers_in(labels: tuple[str, ...]) -> tuple[str, ...]:
    """The bones of fingers that labels name, by their VRM 1.0 names."""
    bare, words = _bare(labels)
    return tuple(finger for label in bare if (finger := _finger(label, words)))


def _bare(labels: tuple[str, ...]) -> tuple[tuple[str, ...], Vocabulary]:
    """Labels without a prefix that they share, and the words of their language."""
    prefix = shared_prefix(labels)
    bare = tuple(label.removeprefix(prefix).rpartition(":")[2] for label in labels)
    return bare, vocabulary(spoken(bare))


def _finger(label: str, words: Vocabulary) -> str | None:
    said = words.split(label)
    weights = parts_of(said, words)
    return finger_of(label, said, sorted(weights, key=lambda part: -weights[part]), side_of(said, words))


def _site(label: str) -> tuple[Site | None, str | None]:
    """A landmark's abbreviation with the letter of its side before or after it."""
    letters = re.sub(r"[^A-Z0-9]", "", label.upper())
    for text in (letters, letters.rstrip("0123456789")):
        whole = SITES.get(text)
        if whole is not None and not whole.sided:
            return whole, None
        for side, rest in ((text[:1], text[1:]), (text[-1:], text[:-1])):
            site = SITES.get(rest)
            if side in ("L", "R") and site is not None and site.sided:
                return site, "left" if side == "L" else "right"
    return None, None


def _worded(said: tuple[str, ...], words: Vocabulary) -> Site | None:
    known = set(said)
    for key, site in WORDS.items():
        if known.issuperset(key):
            return _moved(site, known)
    weights = parts_of(said, words)
    parts = [p for p in sorted(weights, key=lambda p: -weights[p]) if p in _OF_PART]
    if not parts:
        return None
    name = _OF_PART[parts[0]]
    segment = next(s for s in BODY.segments if s.name in (name, LEFT + name))
    place, _ = broad(segment)
    site = Site(name, tuple(place), -1.0, sided=segment.name != name)
    return _moved(site, known) if name in (_HIPS, _CHEST, _HEAD) else site


def _moved(site: Site, said: set[str]) -> Site:
    """A place with what else the label says of it: in front, behind, inside, outside."""
    x, y, z = site.place
    if said & _AHEAD:
        z = max(abs(z), 0.05) if site.segment in (_HIPS, _CHEST, _HEAD, "Shoulder") else z
    if said & _BEHIND:
        z = -max(abs(z), 0.05) if site.segment in (_HIPS, _CHEST, _HEAD, "Shoulder") else z
    if said & _INNER and not said & _OUTER:
        if site.segment in ("UpperLeg", "LowerLeg"):
            x = -x
        if site.segment == "UpperArm":
            y = -y
        if site.segment == "LowerArm":
            y, z = 0.002, 0.019
    if said & _OUTER and site.segment == "LowerArm":
        y, z = 0.002, -0.019
    return Site(site.segment, (x, y, z), site.sigma, site.sided)


def _reading(site: Site | None, side: str | None, structure: Structure) -> Reading:
    nothing = Reading(None, np.zeros(3), np.ones(3))
    if site is None:
        return nothing
    place, on_side = np.array(site.place), side
    limb = site.segment not in structure.index
    if limb and side is None:
        return nothing
    name = (side or "") + site.segment if limb else site.segment
    if name not in structure.index:
        return nothing
    if site.sigma < 0:
        place, sigma = broad(structure.segments[structure.index[name]])
        if not limb:
            place = np.array(site.place)
            if side:
                place[0] = 0.04 if on_side == LEFT else -0.04
        return Reading(name, place, sigma)
    place = place * [1 if on_side != "right" else -1, 1, 1]
    if site.sided and not limb and side is None:
        place[0] = 0.0
    return Reading(name, place, np.full(3, site.sigma), True)
