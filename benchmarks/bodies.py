"""How often characters as they come are tied right by themselves, how sure that is told, and how fast: thousands of them.

Each is drawn at random (``tests/characters.py``) and tied, as source or as target, to a plain figure of the show.
"""

from __future__ import annotations

from concurrent.futures import ProcessPoolExecutor
from itertools import pairwise

import numpy as np
from rich.table import Table

from tests.characters import FINGERS, MUST, character, motion
from tests.naming import LANGUAGES, named
from young_marionette.core.humanoid.certainty import SURE
from young_marionette.core.humanoid.reading import Body, read_shape
from young_marionette.core.matching.tying import mirror_part, tie
from young_marionette.core.skeleton import Skeleton
from young_marionette.demo.figures import Build, make_figure

from .measure import best, plain

PARTNER = make_figure(Build(fingers=True, root=True, spine=3, neck=1))
BINS = (0.0, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9, 0.95, 0.97, SURE, 1.01)
KINDS = ("useless", "useless, bare", "useless, 15 joints, moving", "useless, doubled joints", "in its language")
_SHARES = 10  # of the work, so that both processes end at about the same time


def one(kind, seed):
    """What became of one character: ``(parts right, fingers right, open sides, [(certainty, right)], swaps)``."""
    rng = np.random.default_rng(seed)
    words = named(LANGUAGES[seed[-1] % len(LANGUAGES)]) if kind == "in its language" else None
    bare = kind == "useless, bare"
    made = character(
        rng,
        words,
        bare=bare,
        performer="15" in kind,
        doubles=0.15 * ("doubled" in kind),
        extras=float(rng.choice([0.0, 0.5, 1.0])),
    )
    clip = motion(made, rng) if "moving" in kind else None
    body = read_shape(made.skeleton, clip=clip)
    all_of = {p: set(made.parts[p]) for p in made.parts if p in MUST or p.split()[-1] in FINGERS}
    tied = {}
    if isinstance(body, Body):
        partner = read_shape(PARTNER)
        as_source = seed[-1] % 2
        sides = (made.skeleton, body, PARTNER, partner) if as_source else (PARTNER, partner, made.skeleton, body)
        tied = {s.part: (set(s.source if as_source else s.target), s.certainty) for s in tie(*sides)}
    right = {
        p: bool(tied.get(p)) and bool(tied[p][0] & joints) and (p != "spine" or tied[p][0] <= joints)
        for p, joints in all_of.items()
    }
    mirrored = [p for p in all_of if mirror_part(p) and p in tied and tied[p][0] & all_of[mirror_part(p)]]
    told = [(tied[p][1], right[p]) for p in all_of if p in tied]
    is_open = isinstance(body, Body) and not body.facing_certain and len(mirrored) > 4
    if is_open:
        # Straight limbs without feet: nothing tells ahead from behind, and that is said.
        right |= dict.fromkeys(mirrored, True)
    fingers = [right[p] for p in all_of if p not in MUST]
    return [right[p] for p in MUST], fingers, is_open, told, 0 if is_open else len(mirrored)


def some(kind, seeds):
    """The results of ``one`` for some seeds."""
    return [one(kind, seed) for seed in seeds]


def measure(count, seed=41):
    """Kinds of characters to what became of ``count`` of each, worked out in two processes."""
    with ProcessPoolExecutor(2) as pool:
        jobs = {
            kind: [pool.submit(some, kind, [(seed, k, i) for i in range(n, count, _SHARES)]) for n in range(_SHARES)]
            for k, kind in enumerate(KINDS)
        }
        return {kind: [r for job in of for r in job.result()] for kind, of in jobs.items()}


def characters_by_themselves(count=300):
    """Shares right, side swaps, what was wrong though sure, and open: nothing tells ahead from behind, and that is told.

    Then the curve of certainty.
    """
    found = measure(count)
    for kind, rows in found.items():
        parts, wholes = np.mean([r[0] for r in rows]), np.mean([all(r[0]) for r in rows])
        fingers = np.mean([f for r in rows for f in r[1]] or [1.0])
        swaps = sum(bool(r[4]) for r in rows)
        blind = sum(sure >= SURE and not right for r in rows for sure, right in r[3])
        bare = sum(r[2] for r in rows)
        goals = (0.998, 0.99) if kind == "in its language" else (0.99, 0.96 if "doubled" in kind else 0.97)
        good = (
            parts >= goals[0]
            and wholes >= goals[1]
            and fingers >= (0.97 if "doubled" in kind else 0.98)
            and not swaps
            and not blind
        )
        yield (
            f"characters, names {kind}", f"{100 * parts:.2f} %", f"{100 * wholes:.1f} %", f"{100 * fingers:.1f} %", "✓" if good else "✗",
            f"of {len(rows)}: must-have parts, whole bodies, fingers; {swaps} side swaps, {blind} wrong though sure, {bare} open",
        )  # fmt: skip
    told = np.array([t for rows in found.values() for r in rows for t in r[3]], float)
    for low, high in pairwise(BINS):
        inside = told[(told[:, 0] >= low) & (told[:, 0] < high)]
        if len(inside):
            yield (
                f"strings told as {100 * low:.0f} to {min(100, 100 * high):.0f} %", f"{100 * inside[:, 0].mean():.0f} %", "",
                f"{100 * inside[:, 1].mean():.1f} %", "", f"right, of {len(inside)}",
            )  # fmt: skip


def reading_bodies():
    """The time to read characters of about 65 joints and of 2,000."""
    usual = [s for i in range(240) if 58 < len(s := character(np.random.default_rng((7, i))).skeleton) < 72]
    took = [best(lambda s=s: read_shape(s), times=9)[0] for s in usual]
    yield plain("reading about 65 joints", float(np.median(took)), 0.015, f"the middle one of {len(usual)} characters")
    large = _hairy(character(np.random.default_rng(1)), 2000)
    yield plain("reading 2,000 joints", best(lambda: read_shape(large), times=3)[0], 2.0, "most of them hair")


def _hairy(made, count):
    """A character's skeleton with so many joints: hair on its head."""
    s, rng = made.skeleton, np.random.default_rng(2)
    head, parents, offsets = s.index[made.parts["head"][0]], s.parents.tolist(), s.offsets.tolist()
    step = 0.1 * np.linalg.norm(s.rest_world[0][head] - s.rest_world[0][s.index[made.parts["hips"][0]]])
    while len(parents) < count:
        parents.append(head if len(parents) % 10 == 0 else len(parents) - 1)
        offsets.append(rng.normal(size=3) * step)
    return Skeleton([*s.names, *(f"h{i}" for i in range(len(s), count))], parents, np.array(offsets))


def main(words, console):
    """``./run bench bodies [count]``: as many characters of each kind as one likes."""
    table = Table(box=None, pad_edge=False)
    for title in ("what", "parts", "wholes", "fingers, right", "goal", "note"):
        table.add_column(title)
    for row in (*characters_by_themselves(int(words[0]) if words else 1250), *reading_bodies()):
        table.add_row(*row)
    console.print(table)
    return 0


BENCHMARKS = (characters_by_themselves, reading_bodies)
