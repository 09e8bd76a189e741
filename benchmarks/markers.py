"""How well recordings of markers are solved, and how fast: made from the show's motion, with every fault known.

``./run bench markers [count]`` spoils ``count`` recordings of each clip, with labels and without; the table of all benchmarks
has the time of a long one.
"""

from __future__ import annotations

import time
from dataclasses import replace

import numpy as np
from rich.table import Table

from tests.recordings import in_other_world, off_centres, recorded, shown_parts, spoiled
from young_marionette.core.kinematics import forward
from young_marionette.core.markers.assigning import assign
from young_marionette.core.markers.faults import GAP
from young_marionette.core.markers.placing import place
from young_marionette.core.markers.segments import BODY
from young_marionette.core.markers.solving import solve
from young_marionette.demo.cast import LOFT, QUAY
from young_marionette.demo.show import performance

from .measure import plain, row

CLIPS = (
    *((name, QUAY) for name in ("light_lamp", "walk_the_wall", "carry_bucket", "wave_to_ship", "haul_rope", "climb_ladder")),
    *((name, LOFT) for name in ("sweep_quay", "ring_bell", "row_boat")),
)  # fmt: skip
_WITHIN = 3  # frames


def one(name, role, seed, mute):
    """``(mean, largest (metres), faults named, faults, false alarms, share of markers right, seconds)`` of one recording."""
    rng = np.random.default_rng(seed)
    clip = performance(name, role)
    recording, known = recorded(clip, shown_parts(clip.skeleton), rng, full=seed % 2 == 1, stature=role.build.height)
    true = [known.segments[label] for label in recording.labels]
    if mute:
        labels = tuple(f"M{n:03d}" for n in range(len(recording)))
        known.segments = dict(zip(labels, true))
        recording = replace(recording, labels=labels)
    recording = in_other_world(spoiled(recording, known, rng), rng)
    begun = time.perf_counter()
    placed = place(recording).placed(recording)
    laid = assign(placed)
    right = np.mean([s >= 0 and BODY.names[s] == of for s, of in zip(laid.segments, true)])
    solution = solve(placed, laid)
    took = time.perf_counter() - begun
    off = off_centres(solution.clip("take"), known)
    told = [(f.kind, recording.labels[f.marker], f.first, f.last) for f in solution.faults if f.kind != GAP]
    named, explained = 0, set()
    for kind, labels, first, last in known.faults:
        hits = [t for t in told if t[0] == kind and t[1] in labels]
        explained.update(hits)
        named += any(max(abs(t[2] - first), abs(t[3] - last)) <= _WITHIN for t in hits)
    mean = float(np.mean([of.mean() for of in off.values()]))
    return (
        mean,
        max(float(of.max()) for of in off.values()),
        named,
        len(known.faults),
        len(set(told) - explained),
        right,
        took,
    )


def main(words, console):
    """Print the table of all clips."""
    count = int(words[0]) if words else 1
    for mute in (False, True):
        table = Table(title="useless labels" if mute else "usual labels", box=None, pad_edge=False)
        for title in ("clip", "joints off", "at most", "faults", "false", "markers right", "took"):
            table.add_column(title, justify="left" if title == "clip" else "right")
        rows = []
        for name, role in CLIPS:
            for seed in range(11, 11 + count):
                rows.append(one(name, role, seed, mute))
                mean, most, named, faults, false, right, took = rows[-1]
                table.add_row(
                    name, f"{mean * 1000:.1f} mm", f"{most * 1000:.0f} mm", f"{named}/{faults}", str(false), f"{right:.0%}", f"{took:.1f} s"
                )  # fmt: skip
        mean, most, named, faults, false, right, took = zip(*rows)
        table.add_row(
            "all", f"{np.mean(mean) * 1000:.1f} mm", f"{max(most) * 1000:.0f} mm", f"{sum(named)}/{sum(faults)}", str(sum(false)),
            f"{np.mean(right):.1%}", f"{np.mean(took):.1f} s",
        )  # fmt: skip
        console.print(table)
    return 0


def marker_solving():
    """A recording of 10,000 frames with 53 markers, against forward kinematics of the take."""
    clip = performance("walk_the_wall", QUAY)
    recording, _ = recorded(clip, shown_parts(clip.skeleton), np.random.default_rng(5), full=True, stature=1.76)
    points = np.concatenate([recording.points, recording.points[::-1]] * 6)[:10_000]
    long = replace(recording, points=points)
    laid = assign(long)
    begun = time.perf_counter()
    solution = solve(long, laid)
    took = time.perf_counter() - begun
    take = solution.clip("take")
    begun = time.perf_counter()
    forward(take)
    floor = time.perf_counter() - begun
    yield plain("solve 10,000 frames x 53 markers", took, 20.0, "aim 8 s")
    yield row("the same", took, floor, None, "floor: forward kinematics of the take")


BENCHMARKS = (marker_solving,)
