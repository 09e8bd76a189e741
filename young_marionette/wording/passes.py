"""What passes are called, and the most telling number of each."""

from __future__ import annotations

import math
from collections import Counter
from typing import TYPE_CHECKING

from ..core.filters.methods import Adaptive, Gaussian, LowPass, Median, SavitzkyGolay, Spikes
from ..core.passes.adjusting import Adjust
from ..core.passes.correction import Correction
from ..core.passes.difference import Difference
from ..core.passes.edits import Offset, Retime, Scale
from ..core.passes.loop import Loop
from ..core.passes.timing import Time
from ..core.text import shown
from ..core.thinning.settings import Thin
from .findings import counted

if TYPE_CHECKING:
    from ..core.filters.motion import Report
    from ..core.passes.measuring import Changes
    from ..core.passes.stack import Pass
    from ..core.passes.thinning import Poses
    from ..core.thinning.thinning import Sketch

NAMES = {
    "spikes": "Spikes",
    "low-pass": "Low-pass",
    "adaptive": "Smooth, accents kept",
    "savitzky-golay": "Savitzky-Golay",
    "gaussian": "Gaussian",
    "median": "Median",
    "offset": "Offset",
    "scale": "Scale",
    "retime": "Speed and rate",
    "loop": "Loop",
    "plant": "Plant",
    "thin": "Thin",
    "keys": "Edited keys",
    "correction": "Correction",
    "adjust": "Adjust",
    "mirror": "Mirror",
    "time": "Time",
    "difference": "Difference",
}
TIPS = {
    "spikes": "Takes out single frames and short runs that stand apart",
    "low-pass": "Takes out what changes quicker than a cut-off in hertz (Butterworth)",
    "adaptive": "Strong where a curve rests, weak where it moves quickly",
    "savitzky-golay": "Each frame on a polynomial through those around it",
    "gaussian": "Each frame a weighted mean of those around it",
    "median": "Each frame the middle value of those around it",
    "offset": "Adds a turn, a distance, or a delay",
    "scale": "More or less of the same motion about its mean",
    "retime": "Quicker or slower, or another frame rate",
    "loop": "A stretch whose last frame leads to its first one",
    "plant": "Holds feet and hands still where they touch",
    "thin": "Few poses with curves between, within a tolerance",
    "keys": "Keys as they were edited by hand since",
    "correction": "Poses changed by hand at some frames, eased in and out",
    "adjust": "The hips higher, the head up, arms wider, a lean, a bone turned: all through, or in a range",
    "mirror": "Left and right changed over",
    "difference": "What another clip of the rig moves against one of its poses, added to this one",
    "time": "A stretch of it, backwards, held at frames, slower here and quicker there",
}


def about(one: Pass) -> str:
    """What a pass is set to, in a few words."""
    method = one.method
    if isinstance(method, LowPass):
        if method.parts:
            low, high = (end(hertz for _, hertz in method.parts) for end in (min, max))
            return f"{low:.1f} to {high:.1f} Hz" if high - low > 0.05 else f"{low:.1f} Hz"
        return "each by itself" if isinstance(method.cutoff, str) else f"{method.cutoff:.1f} Hz"
    if isinstance(method, Gaussian | Median | SavitzkyGolay):
        return f"{method.seconds:.2f} s"
    if isinstance(method, Adaptive):
        return f"{method.strength * 100:.0f} %"
    if isinstance(method, Thin):
        return f"within {method.places * 100:g} cm"
    if isinstance(method, Correction):
        if method.more:
            return counted(len(method.keys), "pose")
        if not method.turns and not method.moves and not method.more:
            return "nothing yet"
        return f"frame {method.frame}, " + ("all through" if method.whole else f"± {method.seconds:.2f} s")
    if isinstance(method, Adjust):
        told = [
            f"{text} {value * share:+.{places}f}{unit}"
            for text, value, share, unit, places in (
                ("hips", method.hips, 100, " cm", 1), ("look", method.look, 1, "°", 0), ("arms", method.wider, 1, "°", 0),
                ("lean", method.lean, 1, "°", 0),
            )
            if value
        ]  # fmt: skip
        bones = sum(any(degrees) for _, degrees in method.turns)
        told += [counted(bones, "bone")] if bones else []
        return _short(told) or "nothing yet"
    if isinstance(method, Difference):
        return shown(method.clip.name, 13) if method.strength == 1 else f"{method.strength * 100:.0f} %"
    if isinstance(method, Scale):
        return f"{method.factor * 100:.0f} %"
    if isinstance(method, Retime):
        return f"{method.speed * 100:.0f} %" + (f", {method.rate:g} fps" if method.rate else "")
    if isinstance(method, Time):
        last = "the end" if method.last is None else method.last
        told = [f"{method.first} to {last}"] if method.first or method.last else []
        told += ["backwards"] if method.backwards else []
        told += [counted(len(method.holds), "hold")] if method.holds else []
        told += [counted(len(method.speeds), "speed")] if method.speeds else []
        return _short(told) or "as it was"
    if isinstance(method, Loop):
        return f"frames {method.first} to {'the end' if method.last is None else method.last}"
    if isinstance(method, Offset):
        turned = max(map(abs, method.degrees))
        return f"{turned:g}°" if turned else f"{max(map(abs, method.metres)) * 100:g} cm"
    return ""


def _short(told: list[str]) -> str:
    """The first of some things, and how many more there are: a pass has one line."""
    return told[0] + (f" and {len(told) - 1} more" if len(told) > 1 else "") if told else ""


def telling(
    one: Pass, report: Report | None, changes: Changes | None, poses: Poses | None = None, sketch: Sketch | None = None
) -> str:
    """The most telling number of a pass: what it is set to, or what it found or changed where that is known.

    ``poses``: what thinning made, or else a ``sketch`` of it.
    """
    if one.keys is not None:
        return counted(len(poses.frames), "pose") if poses is not None else ""
    if isinstance(one.method, Thin):
        if poses is not None:
            away = poses.deviation.places.largest * 100
            return f"{poses.after[0]} poses of {poses.before[0]}, {away:.2f} cm"
        return f"about {sketch.poses} poses, {sketch.places * 100:.2f} cm" if sketch is not None else ""
    if isinstance(one.method, Spikes):
        return "" if report is None else counted(sum(map(len, report.spikes.values())), "spike")
    if one.method.code == "plant":
        return "" if changes is None else f"{changes.slides[1] * 1000:.1f} mm slide"
    if isinstance(one.method, LowPass) and report is not None and report.cutoffs:
        low, high = (end(report.cutoffs.values()) for end in (min, max))
        if high - low > 0.05:
            return f"{low:.1f} to {high:.1f} Hz"
    return about(one)


def sketched(sketch: Sketch, frames: int) -> list[tuple[str, str, int | None]]:
    """As ``thinned``, of a sketch, at once."""
    gone = 1 - sketch.poses / max(frames, 1)
    return [
        ("Poses", f"{frames:,} → about {sketch.poses:,}, {gone * 100:.0f} % gone", None),
        ("Largest", f"{sketch.places * 100:.2f} cm, frame {sketch.frame}", sketch.frame),
    ]


def thinned(poses: Poses) -> list[tuple[str, str, int | None]]:
    """``(what, how much, the frame where it is largest or None)`` of what thinning made."""
    off = poses.deviation
    told: list[tuple[str, str, int | None]] = [
        ("Poses", f"{poses.before[0]:,} → {poses.after[0]:,}, {poses.gone * 100:.0f} % gone", None),
        ("Keys", f"{poses.before[1]:,} → {poses.after[1]:,}", None),
        (
            "Largest",
            f"{off.places.largest * 100:.2f} cm, {off.places.name}, frame {off.places.frame}",
            off.places.frame,
        ),
        ("RMS", f"{off.places.rms * 100:.2f} cm", None),
        (
            "Turned",
            f"{math.degrees(off.turns.largest):.1f}°, {off.turns.name}, frame {off.turns.frame}",
            off.turns.frame,
        ),
    ]
    if off.planted.name:
        told.append(
            (
                "Planted",
                f"{off.planted.largest * 100:.2f} cm, {off.planted.name}, frame {off.planted.frame}",
                off.planted.frame,
            )
        )
    return told


_KEYS = {
    "end": "the end of what was thinned",
    "contact": "a contact changes",
    "accent": "an accent",
    "promise": "needed for the tolerance",
    "hand-made": "made by hand",
}


def key_words(mark: str | None) -> str:
    """What made a key."""
    return _KEYS.get(mark or "", "a key on every frame")


def changed(changes: Changes) -> list[tuple[str, str]]:
    """``(what, how much)`` of what passes changed."""
    told = [
        ("Turned", f"{changes.degrees[0]:.2f}° RMS, {changes.degrees[1]:.1f}° at most"),
        ("Hands moved", f"up to {changes.hands * 100:.1f} cm"),
        ("Feet moved", f"up to {changes.feet * 100:.1f} cm"),
        ("Slide in contacts", f"{changes.slides[0] * 1000:.1f} → {changes.slides[1] * 1000:.1f} mm"),
        ("Highest speed", f"{changes.peaks[0]:.2f} → {changes.peaks[1]:.2f} m/s"),
    ]
    if not changes.degrees[1] and not changes.hands and not changes.feet:
        return told[3:]
    return told


def loss(changes: Changes) -> float:
    """The share of the highest speed of hands and feet that is lost."""
    before, after = changes.peaks
    return max(1 - after / before, 0.0) if before > 1e-6 else 0.0


def found(report: Report) -> list[tuple[str, int]]:
    """``(joint or morph, frame)`` of all spikes, those of the worst channels first."""
    order = Counter({name: len(frames) for name, frames in report.spikes.items()})
    return [(name, frame) for name, _ in order.most_common() for frame in report.spikes[name]]
