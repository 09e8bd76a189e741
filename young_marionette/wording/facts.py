"""Facts in words: what it is about, its value, and what it was taken from."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from ..core.figure.facts import Arms, RestPose
from ..core.findings import Fact, Finding
from ..core.humanoid.beside import ARMS, TAIL, WING
from ..core.humanoid.parts import FOUR_LEGS
from .findings import counted


class FactWords(NamedTuple):
    """``label``: what it is about. ``value``: in words. ``evidence``: what it was taken from; may be empty."""

    label: str
    value: str
    evidence: str


def fact_words(fact: Fact) -> FactWords:
    """A fact in words.

    >>> fact_words(Fact("rate", {"rate": 30.0}))
    FactWords(label='Rate', value='30 fps', evidence='a frame every 33.33 ms')
    """
    label, value, evidence = _FACTS[fact.code]
    why = evidence(fact) if evidence is not None else source_words(fact.source)
    return FactWords(label, value(fact), why)


def source_words(source: Finding | None) -> str:
    """What a fact was taken from; empty where that is not told."""
    if source is None:
        return ""
    words = _SOURCES[source.code]
    return words if isinstance(words, str) else words(source)


def rest_pose_words(pose: RestPose | None) -> str:
    """A rest pose in words, such as ``seated, arms hanging``."""
    if pose is None:
        return "unknown"
    arms = {
        Arms.HANGING: "arms hanging",
        Arms.RAISED: "arms raised",
        Arms.NONE: "no arms",
        Arms.FORELEGS: "standing on four legs",
    }.get(pose.arms, pose.arms)
    return f"seated, {arms}" if pose.seated else str(arms)


def _joints(source: Finding) -> str:
    parts = [f"{source['ends']} end joints" if source["ends"] else ""]
    parts.append(f"{source['zero']} with zero length" if source["zero"] else "")
    return ", ".join(filter(None, parts)) or "none with zero length"


def _rest(source: Finding) -> str:
    angle, parts = source["pose"].angle, []
    if angle is not None:
        parts.append(f"arms {abs(angle):.0f}° {'above' if angle < 0 else 'below'} the horizontal")
    if source["chosen"]:
        frame = "bind pose" if source["frame"] is None else f"frame {source['frame']} of the file"
        parts.append(f"{frame}, set manually")
    elif source["frame"] is not None:
        parts.append(f"frame {source['frame']}, since the file's rest pose shows no body")
    return "; ".join(parts)


def _levels(source: Finding) -> str:
    sizes = source["triangles"]
    return f"{len(sizes)} levels, of {', '.join(f'{n:,}' for n in sizes)} triangles"


_SOURCES: dict[str, str | Callable[[Finding], str]] = {
    "manual": "set manually",
    "declared": "the file says so",
    "no body": "no body could be read; this is a guess",
    "four legs": "the four legs that it stands on",
    "motion stands": "the motion: hips to head and feet to hips point that way",
    "trunk": lambda s: "direction from hips to head" + (", and the file says so" if s["declared"] else ""),
    "feet": "the feet: heel behind, toes in front",
    "feet to head": lambda s: f"the markers of {s['low']} and {s['high']}",
    "planted feet": "markers stand still at its lower end",
    "markers reach": lambda s: f"the markers reach {s['units']:.4g} units over the lowest",
    "bends": "the bend of knees and elbows",
    "motion": "the motion: knees bend ahead, and it goes that way",
    "side words": "the words left and right in the names",
    "nothing": "nothing visible; this is a guess",
    "table": "the file's table of humanoid bones",
    "figure length": lambda s: f"the figure is {s['units']:.4g} units tall along its bones",
    "joints": _joints,
    "along bones": "from sole to crown along the bones",
    "rest pose": _rest,
    "all names": "all names begin with it",
    "skin": lambda s: f"skinned to {counted(s['joints'], 'joint')}, in {counted(s['materials'], 'material')}",
    "levels": _levels,
    "seen beside": "names, places and what hangs where",
    "siblings": lambda s: (
        f"{s['count']} more in the library with this skeleton" if s["count"] else "no other file has this skeleton"
    ),
}


def _length(fact: Fact) -> str:
    begins = abs(fact["start"]) > 0.005
    return counted(fact["frames"], "frame") + (f", beginning at {fact['start']:.2f} s" if begins else "")


def _facing(fact: Fact) -> str:
    aside = fact.values.get("yaw", 0.0)
    turned = f"; the rest pose is turned {abs(aside):.0f}° away from it" if abs(aside) >= 1 else ""
    return source_words(fact.source) + turned


def _bind(fact: Fact) -> str:
    if fact["differs"]:
        return f"up to {fact['degrees']:.0f}° apart, at {fact['joint']}"
    return "the skin compared with the joints at rest"


_MORE = {ARMS: "more than two arms", WING: "wings", TAIL: "a tail"}


def _limbs(fact: Fact) -> str:
    arms = [] if ARMS in fact["more"] else ["two arms" if fact["arms"] else "no arms"]
    own = ["four legs"] if fact["kind"] == FOUR_LEGS else ["two legs", *arms]
    return ", ".join([*own, *(_MORE[kind] for kind in fact["more"])])


def _names(names: list[str]) -> str:
    return ", ".join(names[:4]) + (", …" if len(names) > 4 else "")


Value = Callable[[Fact], str]
_FACTS: dict[str, tuple[str, Value, Value | None]] = {
    "unit": ("Unit", lambda f: f["unit"], None),
    "up": ("Up", lambda f: f["axis"], None),
    "facing": ("Facing", lambda f: f["axis"], _facing),
    "skeleton": ("Skeleton", lambda f: counted(f["joints"], "joint"), None),
    "height": ("Height", lambda f: f"{f['metres']:.2f} m", None),
    "rest pose": ("Rest pose", lambda f: rest_pose_words(f["pose"]), None),
    "name prefix": ("Name prefix", lambda f: f["prefix"] or "none", None),
    "limbs": ("Limbs", _limbs, None),
    "beside": ("Beside the body", lambda f: ", ".join(f"{kind} {n}" for kind, n in f["kinds"].items()), None),
    "rate": ("Rate", lambda f: f"{f['rate']:g} fps", lambda f: f"a frame every {1000 / f['rate']:.2f} ms"),
    "length": ("Length", lambda f: f"{f['seconds']:.2f} s", _length),
    "keys": (
        "Keys",
        lambda f: f"at {counted(f['keys'], 'time')}",
        lambda _: "frames are made from them where they are needed",
    ),
    "travel": (
        "Travel",
        lambda f: "in place" if f["in_place"] else "travels",
        lambda f: f"the hips move {f['metres']:.1f} m over the floor",
    ),
    "floor": (
        "Floor",
        lambda f: f"feet {round(f['metres'] * 100, 1) + 0.0:+.1f} cm",
        lambda _: "the lowest feet against height zero",
    ),
    "markers": (
        "Markers",
        lambda f: str(f["count"]),
        lambda f: f"{f['unlabelled']} of them without a label" if f["unlabelled"] else "all with labels",
    ),
    "marker floor": (
        "Floor",
        lambda f: f"{round(f['metres'] * 100, 1) + 0.0:+.1f} cm",
        lambda _: "where the lowest markers stay, less their distance from the sole",
    ),
    "in use": (
        "In use",
        lambda f: f"frames {f['first']} to {f['last']}",
        lambda f: "the whole recording" if (f["first"], f["last"]) == (0, f["frames"] - 1) else "idle before and after",
    ),
    "gaps": (
        "Gaps",
        lambda f: f"{100 * f['share']:.1f} %",
        lambda f: f"{counted(f['markers'], 'marker')} with gaps" if f["markers"] else "no marker has gaps",
    ),
    "body": (
        "Body",
        lambda f: f"{counted(f['meshes'], 'mesh', 'meshes')}, {counted(f['triangles'], 'triangle')}",
        None,
    ),
    "detail": ("Detail", lambda f: f"level {f['level']}", None),
    "morphs": ("Morphs", lambda f: str(len(f["names"])), lambda f: _names(f["names"])),
    "bind pose": (
        "Bind pose",
        lambda f: "differs from the rest pose" if f["differs"] else "same as the rest pose",
        _bind,
    ),
    "animations": (
        "Animations",
        lambda f: f"{len(f['names'])} in this file",
        lambda f: _names(f["names"]),
    ),
    "skeletons": ("Skeletons", lambda f: f"{f['count']} in this file", lambda _: "each is an entry of its own"),
    "family": ("Family", lambda f: f["name"], None),
}
