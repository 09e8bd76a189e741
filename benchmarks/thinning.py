"""Thinning: its speed against one forward pass, and how far from the fewest keys it is where those can be found by trying all."""

import time
from dataclasses import replace
from itertools import pairwise

import numpy as np

from tests.acting import acted
from young_marionette.core.contacts.finding import find_contacts
from young_marionette.core.contacts.points import contact_points
from young_marionette.core.humanoid.reading import read_body
from young_marionette.core.keys.sampler import Interpolation
from young_marionette.core.kinematics import forward
from young_marionette.core.thinning.deviation import deviation
from young_marionette.core.thinning.motion import motion_of
from young_marionette.core.thinning.rebuilding import Curve
from young_marionette.core.thinning.settings import KEYS, Thin
from young_marionette.core.thinning.spans import Betweens, over
from young_marionette.core.thinning.thinning import Subject, Thinner, keyed_of
from young_marionette.demo.figures import Build

from .measure import best, row

NAMES = ("carry_bucket", "haul_rope", "light_lamp", "sweep_quay", "ring_bell")
WHOLE = Thin(stages=(KEYS,), planted=None)


def subject(clip):
    body = read_body(clip.skeleton)
    points = {p.name: p for p in contact_points(clip.skeleton, body)}
    return Subject(clip, find_contacts(clip, body), points)


def long(frames=10_000):
    """Lamplighters at work one after the other, there and back, on a figure with fingers."""
    clips = [acted(name, build=Build(fingers=True))[0] for name in NAMES]
    turns = [r for c in clips for r in (c.rotations, c.rotations[::-1])]
    moves = [t for c in clips for t in (c.translations, c.translations[::-1])]
    times = frames // sum(map(len, turns)) + 1
    rows = (np.concatenate(some * times)[:frames] for some in (turns, moves))
    return replace(clips[0], rotations=next(rows), translations=next(rows))


def thinning():
    clip = long()
    (floor,) = best(lambda: forward(clip))
    begun = time.perf_counter()
    made = Thinner(Subject(clip)).thin(Thin())
    took = time.perf_counter() - begun
    note = f"{clip.frames:,} frames x {len(clip.skeleton)} joints in {took:.1f} s (goal 10): {made.keyed.keys} poses"
    yield row("thin a long clip", took, floor, None, note)


def thinning_slider():
    clip = acted("light_lamp", build=Build(fingers=True))[0].cut(0, 299)
    thinner = Thinner(subject(clip))
    thinner.prepare(Thin(), lambda: None)
    (floor,) = best(lambda: forward(clip))
    took = []
    for cm in np.geomspace(0.5, 5, 24):
        begun = time.perf_counter()
        thinner.sketch(Thin(cm / 100))
        took.append(time.perf_counter() - begun)
    note = f"{clip.frames} frames x {len(clip.skeleton)} joints: {max(took) * 1000:.0f} ms at most (goal 100)"
    yield row("thinning slider, an answer", float(np.median(took)), floor, None, note)


def thinning_against_the_fewest():
    """Of all choices of frames, by a path through all in-betweens, each fitted as closely as can be."""
    ours = fewest = clips = 0
    begun = time.perf_counter()
    for name in NAMES:
        whole = acted(name)[0]
        for start in range(0, whole.frames - 61, 60):
            clip = whole.cut(start, start + 60)
            ours += Thinner(Subject(clip)).thin(WHOLE).keyed.keys
            fewest += exact(clip)
            clips += 1
    took = time.perf_counter() - begun
    note = f"{ours} keys where {fewest} are the fewest, {100 * (ours / fewest - 1):.1f} % more, on {clips} clips of 61 frames"
    yield row("keys against the fewest", took, took, None, note)


def exact(clip):
    """The fewest keys, looking at every in-between on every frame."""
    count, tolerances = clip.frames, WHOLE.tolerances.all
    first, last = np.triu_indices(count, 1)
    fits = Betweens(motion_of(clip)).of(first, last, tolerances)
    good = {(a, b) for a, b, f in zip(first.tolist(), last.tolist(), fits) if over(f.misses, tolerances) <= 1}
    keys = [1] + [count] * (count - 1)
    for b in range(1, count):
        keys[b] = min((keys[a] + 1 for a in range(b) if (a, b) in good), default=count)
    return keys[-1]


def blind(clip, kept):
    """How far the motion is off (a Deviation) where all but some keys are deleted, and it goes straight between those."""
    curves = {}
    frames = np.array(kept)
    ways = np.full(len(frames) - 1, Interpolation.LINEAR, np.int8)
    for joint in range(len(clip.skeleton)):
        values = clip.rotations[frames, joint]
        curves["rotation", joint] = Curve(frames, values, 0 * values, 0 * values, ways)
    for i, joint in enumerate(clip.moving):
        values = clip.translations[frames, i]
        curves["move", int(joint)] = Curve(frames, values, 0 * values, 0 * values, ways)
    return deviation(clip, keyed_of(clip, curves).sample(clip.rate))


def thinning_against_blind_deletion():
    for name in NAMES[:3]:
        clip = acted(name)[0]
        made = Thinner(Subject(clip)).thin(WHOLE)
        keys = sorted(made.marks)
        step = max(round((clip.frames - 1) / (len(keys) - 1)), 1)
        even = sorted({*range(0, clip.frames, step), clip.frames - 1})
        off = blind(clip, even).places.largest
        longest = max(b - a for a, b in pairwise(keys))
        note = f"{name}: {len(keys)} poses within 1 cm, up to {longest} frames apart; {len(even)} kept evenly are off by {off * 100:.0f} cm"
        yield row("against even keys", 1.0, 1.0, None, note)


BENCHMARKS = (thinning, thinning_slider, thinning_against_the_fewest, thinning_against_blind_deletion)
