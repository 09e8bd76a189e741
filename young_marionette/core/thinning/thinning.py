"""Thinning of whole clips: keys chosen, curves fitted, joints let go, and what was promised looked at once more."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..keys.channel import Channel, Joint, Kind, Morph
from ..keys.keyed import KeyedClip
from ..keys.sampler import Interpolation, Sampler
from .accents import accents
from .choosing import Rules, chosen, least
from .driven import controls_motion
from .joining import by_stretch, joined, labelled, missed_by, put_back_where
from .joints import fewer
from .motion import Motion, motion_of
from .processes import thin_blocks
from .rebuilding import Curve, Key, rows_of
from .settings import CONTACTS, JOINTS, Thin
from .spans import Betweens, Spans
from .tolerances import shares

if TYPE_CHECKING:
    from ..clip import Clip
    from ..contacts.contact import Contacts
    from ..contacts.points import ContactPoint
    from ..controls.rig import ControlRig

END, CONTACT, ACCENT, PROMISE, HAND = MARKS = ("end", "contact", "accent", "promise", "hand-made")
_BESIDE_CHANGE = 0.067  # seconds: a key that is as near as that to a change of contacts stands for it
_BLOCK = 2500  # frames that are thinned by themselves where a clip is long
_FIRM = 0.9995  # of a tolerance: the rest is left to the rounding of files
_SKETCHED = 900  # frames of a clip that can be sketched at once
_LIKED = 0.5  # an accent as strong as this is told as what made a key


@dataclass(frozen=True, eq=False)
class Thinned:
    """``keyed``: the result, its times those of the clip. ``marks``: by frame, what made its pose a key."""

    keyed: KeyedClip
    marks: dict[int, str]


@dataclass(frozen=True)
class Sketch:
    """About what thinning gives: how many ``poses``, by how much a joint is off at most (``places``, metres), and at which
    ``frame``.
    """

    poses: int
    places: float
    frame: int


@dataclass(frozen=True, eq=False)
class Subject:
    """What is thinned: a clip in metres, what touches, the points that do, and its groups of joints.

    ``names``: of what gets fewer keys (None: all); ``frames``: first and last of where (None: all). Elsewhere keys stay on
    every frame. ``rig``: of a clip of controls, whose bones the promise is about.
    """

    clip: Clip
    contacts: Contacts | None = None
    points: Mapping[str, ContactPoint] | None = None
    groups: Mapping[str, tuple[str, ...]] | None = None
    names: Collection[str] | None = None
    frames: tuple[int, int] | None = None
    rig: ControlRig | None = None


class Thinner:
    """Thins one subject again and again: what does not depend on tolerances is worked out once."""

    def __init__(self, subject: Subject) -> None:
        self.subject = subject
        clip = subject.clip
        self._clip = replace(clip, rotations=rot.continuous(clip.rotations))
        self._blocks: dict[tuple[object, ...], list[_Block]] = {}
        self.prepared = False

    def sketch(self, asked: Thin) -> Sketch:
        """How many poses it takes about, and how far they are off, at once: perhaps with some keys more than ``thin``."""
        first, last = self._range()
        parts = [block.sketch(asked, self.subject.contacts) for block in self._of(asked.emphases, first, last)]
        outside = self._clip.frames - (last - first + 1)
        worst = max(parts, key=lambda part: part.places)
        return Sketch(sum(p.poses for p in parts) - len(parts) + 1 + outside, worst.places, worst.frame)

    def prepare(self, asked: Thin, step: Callable[[], None]) -> None:
        """Work out beforehand what sketches need, where a clip is short enough for that."""
        first, last = self._range()
        blocks = self._of(asked.emphases, first, last)
        if last - first < _SKETCHED and not self.prepared:
            blocks[0].prepare(asked, step)
            self.prepared = True

    def thin(self, asked: Thin, progress: Callable[[float], None] | None = None) -> Thinned:
        """Keys within the tolerances, near the fewest. ``progress(share)``: told on the way; what it raises ends the work."""
        first, last = self._range()
        blocks = self._of(asked.emphases, first, last)
        made = thin_blocks(self.subject, asked, len(blocks), progress) if len(blocks) > 1 else None
        if made is None:
            made, told = [], 0

            def step() -> None:
                nonlocal told
                told = min(told + 1, 99)
                if progress is not None:
                    progress((len(made) + told / 100) / len(blocks))

            for number in range(len(blocks)):
                told = 0
                made.append(self.block(asked, number, step))
        parts = [curves for curves, _ in made]
        curves = {key: _end_to_end([part[key] for part in parts]) for key in parts[0]}
        curves = {key: self._widened(key, curve, first, last) for key, curve in curves.items()}
        marks: dict[int, str] = {}
        for _, some in made:
            marks |= some
        return Thinned(keyed_of(self._clip, curves), marks)

    def block(self, asked: Thin, number: int, step: Callable[[], None]) -> tuple[dict[Key, Curve], dict[int, str]]:
        """``(curves, marks)`` of one of the blocks that a long clip is thinned in."""
        block = self._of(asked.emphases, *self._range())[number]
        return block.run(asked, self.subject.contacts, step), block.marks

    def _range(self) -> tuple[int, int]:
        end = self._clip.frames - 1
        first, last = self.subject.frames or (0, end)
        return min(max(first, 0), end), max(min(last, end), 0)

    def _of(self, emphases: tuple[object, ...], first: int, last: int) -> list[_Block]:
        if emphases not in self._blocks:
            count = max(round((last - first) / _BLOCK), 1)
            edges = np.linspace(first, last, count + 1).round().astype(int)
            self.prepared = False
            self._blocks = {emphases: [_Block(self, int(a), int(b)) for a, b in pairwise(edges)]}
        return self._blocks[emphases]

    def _widened(self, key: Key, curve: Curve, first: int, last: int) -> Curve:
        """With a key on every frame outside of what was thinned, and on all frames of what was not to be."""
        dense = _dense(self._rows(key), np.arange(self._clip.frames))
        if len(curve.frames) == last - first + 1:
            return dense
        return _end_to_end([_cut(dense, 0, first), curve, _cut(dense, last, self._clip.frames - 1)])

    def _rows(self, key: Key) -> np.ndarray:
        kind, number = key
        if kind == "rotation":
            return self._clip.rotations[:, number].T
        if kind == "weight":
            return self._clip.weights[:, number][None]
        return self._clip.translations[:, int(np.flatnonzero(self._clip.moving == number)[0])].T


class _Block:
    """A stretch of a clip that is thinned by itself."""

    def __init__(self, thinner: Thinner, first: int, last: int) -> None:
        self._thinner, self._first, self._last = thinner, first, last
        self._made: tuple[Motion, Spans, Betweens, np.ndarray] | None = None
        self.marks: dict[int, str] = {}
        self._sketches: dict[tuple[Thin, bool], list[tuple[np.ndarray, Sketch]]] = {}

    def sketch(self, asked: Thin, contacts: Contacts | None) -> Sketch:
        _, spans, betweens, strengths = self._prepared(asked)
        tolerances = _FIRM * asked.tolerances.all
        rules, _ = self._rules(asked, contacts, strengths)
        path = chosen(spans, betweens, rules, tolerances, lambda: None, True) if asked.promises else least(rules)
        made = betweens.of(path[:-1], path[1:], None)
        worst = max(made, key=lambda b: float(b.misses[0]), default=None)
        found = Sketch(1, 0.0, self._first)
        if worst is not None:
            found = Sketch(len(path), float(worst.misses[0]), worst.worst + self._first)
        # What keeps a closer tolerance keeps this one, too: a slider never tells more poses for less.
        alike = replace(asked, places=1.0, degrees=1.0, planted=None, weights=1.0)
        known = self._sketches.setdefault((alike, asked.planted is None), [])
        known.append((tolerances, found))
        fits = [sketch for closer, sketch in known if (closer <= tolerances).all()]
        return min(fits, key=lambda sketch: sketch.poses)

    def prepare(self, asked: Thin, step: Callable[[], None]) -> None:
        self._prepared(asked)[1].fill(step)

    def run(self, asked: Thin, contacts: Contacts | None, step: Callable[[], None]) -> dict[Key, Curve]:
        first, last = self._first, self._last
        motion, spans, betweens, strengths = self._prepared(asked)
        tolerances = _FIRM * asked.tolerances.all
        rules, changes = self._rules(asked, contacts, strengths)
        path = chosen(spans, betweens, rules, tolerances, step) if asked.promises else least(rules)
        path, curves = _fitted(motion, betweens, path, tolerances, asked.promises)
        step()
        if JOINTS in asked.stages:
            less = fewer(motion, curves, tolerances, step)
            curves = put_back_where(motion, curves, less, tolerances) if motion.driven and asked.promises else less
        curves = joined(motion, curves, path, tolerances, asked.promises)
        step()
        self._mark(path, asked, changes, strengths)
        for key in _keys(motion):
            if key not in curves:
                curves[key] = _dense(rows_of(motion, key), np.arange(last - first + 1))
        return {key: replace(curves[key], frames=curves[key].frames + first) for key in _keys(motion)}

    def _prepared(self, asked: Thin) -> tuple[Motion, Spans, Betweens, np.ndarray]:
        if self._made is None:
            first, last, subject = self._first, self._last, self._thinner.subject
            clip = self._thinner._clip.cut(first, last)
            contacts = (
                None if subject.contacts is None else subject.contacts.in_frames(first, last, subject.contacts.rate)
            )
            names = (*clip.skeleton.names, *clip.morphs)
            looks = shares(asked.emphases, names, subject.groups or {}, clip.frames, first) if asked.emphases else ()
            if subject.rig is None:
                motion = motion_of(clip, subject.points, contacts, subject.names, looks)
            else:
                motion = controls_motion(subject.rig, clip, subject.points or {}, contacts, subject.names, looks)
            small = motion.as_type(np.float32)
            self._made = motion, Spans(small), Betweens(small), accents(motion.promised)
        return self._made

    def _rules(
        self, asked: Thin, contacts: Contacts | None, strengths: np.ndarray
    ) -> tuple[Rules, dict[int, tuple[int, int]]]:
        first, last, count = self._first, self._last, self._last - self._first + 1
        windows, likes, changes = [], 0.5 * strengths, {}
        if contacts is not None and CONTACTS in asked.stages:
            beside = round(_BESIDE_CHANGE * self._thinner._clip.rate)
            for frame in {f for c in contacts.found for f in (c.first, c.last)}:
                at = frame - first
                if 0 < at < count - 1:
                    changes[at] = max(at - beside, 0), min(at + beside, count - 1)
                    likes[at] = 1.0
            windows += changes.values()
        forced = [f - first for f in asked.forced if first < f < last]
        windows += [(f, f) for f in forced]
        likes[forced] = 1.0
        barred = np.zeros(count, bool)
        for a, b in asked.barred:
            barred[max(a - first, 0) : max(b - first + 1, 0)] = True
        barred[[0, -1, *forced]] = False
        return Rules(tuple(windows), barred, likes), changes

    def _mark(
        self, path: np.ndarray, asked: Thin, changes: Mapping[int, tuple[int, int]], strengths: np.ndarray
    ) -> None:
        self.marks = {}
        for frame in path.tolist():
            if frame + self._first in asked.forced:
                mark = HAND
            elif frame in (0, len(strengths) - 1):
                mark = END
            elif any(low <= frame <= high for low, high in changes.values()):
                mark = CONTACT
            else:
                mark = ACCENT if strengths[frame] >= _LIKED else PROMISE
            self.marks[frame + self._first] = mark


def _fitted(
    motion: Motion, betweens: Betweens, path: np.ndarray, tolerances: np.ndarray, promises: bool
) -> tuple[np.ndarray, dict[Key, Curve]]:
    """``(frames of the keys, curves)``, with more keys where the search was not exact enough for the promise."""
    while True:
        curves = _curves(motion, path, betweens.of(path[:-1], path[1:], tolerances))
        curves = labelled(motion, curves, path, tolerances)
        missed = missed_by(motion, curves, tolerances)
        if not promises or missed.max(initial=0.0) <= 1:
            return path, curves
        bad = np.flatnonzero(by_stretch(missed, path) > 1)
        worst = [int(a + 1 + missed[a + 1 : b].argmax()) for a, b in zip(path[bad], path[bad + 1])]
        path = np.union1d(path, worst)


def _keys(motion: Motion) -> list[Key]:
    joints = [("rotation", j) for j in range(len(motion.skeleton))]
    return joints + [("move", j) for j in motion.moves] + [("weight", m) for m in range(len(motion.weights))]


def _curves(motion: Motion, path: np.ndarray, betweens: list) -> dict[Key, Curve]:  # type: ignore[type-arg]
    """Keys at the frames ``path`` of all that is thinned, with the tangents of the in-betweens."""
    curves: dict[Key, Curve] = {}
    lengths = np.diff(path)[:, None]
    for key in _keys(motion):
        if not (motion.thinned_morphs if key[0] == "weight" else motion.thinned)[key[1]]:
            continue
        values = rows_of(motion, key)[:, path].T
        out, inner = np.zeros_like(values), np.zeros_like(values)
        if betweens:
            # In-betweens of two frames that follow each other have no tangents of their own.
            tangents = np.stack([b.tangents[key] for b in betweens])
            out[:-1], inner[1:] = tangents[:, 0] / lengths, tangents[:, 1] / lengths
        ways = np.full(len(path) - 1, Interpolation.CUBICSPLINE, np.int8)
        curves[key] = Curve(path, values, out, inner, ways)
    return curves


def _dense(rows: np.ndarray, frames: np.ndarray) -> Curve:
    """A key on every frame."""
    values = rows.T
    empty = np.zeros_like(values)
    ways = np.full(max(len(frames) - 1, 0), Interpolation.LINEAR, np.int8)
    return Curve(frames, values, empty, empty, ways)


def _cut(curve: Curve, first: int, last: int) -> Curve:
    which = (curve.frames >= first) & (curve.frames <= last)
    return curve.picked(which, curve.ways[which[:-1] & which[1:]])


def _end_to_end(parts: list[Curve]) -> Curve:
    """Curves of which each one ends with the key that the next one starts with."""
    parts = [p for i, p in enumerate(parts) if len(p.frames) > 1 or len(parts) == 1 or not _held_by(parts, i)]
    result = parts[0]
    for part in parts[1:]:
        out = np.concatenate([result.out[:-1], part.out])
        inner = np.concatenate([result.inner, part.inner[1:]])
        result = Curve(
            np.concatenate([result.frames, part.frames[1:]]),
            np.concatenate([result.values, part.values[1:]]),
            out,
            inner,
            np.concatenate([result.ways, part.ways]),
        )
    return result


def _held_by(parts: list[Curve], number: int) -> bool:
    """Whether another part has the only key of one."""
    return any(i != number and parts[number].frames[0] in p.frames for i, p in enumerate(parts))


def keyed_of(clip: Clip, curves: Mapping[Key, Curve]) -> KeyedClip:
    """Curves of frames as a KeyedClip in seconds; what never moves has one key."""
    samplers: dict[Channel, Sampler] = {}
    kinds = {"rotation": Kind.ROTATION, "move": Kind.TRANSLATION, "weight": Kind.WEIGHT}
    for place, ((kind, number), curve) in enumerate(curves.items()):
        channel = Channel(Morph(clip.morphs[number]) if kind == "weight" else Joint(number), kinds[kind])
        if _is_still(curve):
            # The first one tells how long the clip is.
            ends = np.unique([0, len(curve.frames) - 1]) if place == 0 else np.arange(1)
            curve = curve.picked(ends, np.zeros(len(ends) - 1, np.int8))
        smooth = (curve.ways == Interpolation.CUBICSPLINE).any()
        tangents = (curve.inner * clip.rate, curve.out * clip.rate) if smooth else (None, None)
        samplers[channel] = Sampler(clip.start + curve.frames / clip.rate, curve.values, curve.ways, *tangents)
    if len(clip.scaled):
        samplers |= _scales(clip)
    return KeyedClip(clip.name, clip.skeleton, clip.rate, samplers)


def _is_still(curve: Curve) -> bool:
    smooth = np.append(curve.ways, 0) == Interpolation.CUBICSPLINE
    sizes = [np.abs(curve.out[smooth]), np.abs(curve.inner[np.roll(smooth, 1)])]
    return bool(np.ptp(curve.values, axis=0).max() < 1e-9 and all(s.max(initial=0.0) < 1e-9 for s in sizes))


def _scales(clip: Clip) -> dict[Channel, Sampler]:
    times = clip.times
    return {
        Channel(Joint(int(joint)), Kind.SCALE): Sampler(times, clip.scales[:, i], Interpolation.LINEAR)
        for i, joint in enumerate(clip.scaled)
    }
