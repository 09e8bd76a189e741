"""How often tying by itself is right: random figures in all combinations of names, rest poses and axes."""

from itertools import product

import numpy as np

from tests.support import RESTS, UPS, random_build
from young_marionette.core import rotations as rot
from young_marionette.core.clip import Clip
from young_marionette.core.humanoid.certainty import SURE
from young_marionette.core.humanoid.reading import read_body
from young_marionette.core.matching.tying import tie
from young_marionette.core.rebase import rename
from young_marionette.demo import dressing
from young_marionette.demo.figures import make_figure

FOREIGN = {
    "hips": "Becken",
    "spine": "Wirbel",
    "neck": "Hals",
    "head": "Kopf",
    "collarbone": "Schluesselbein",
    "upper arm": "Oberarm",
    "forearm": "Unterarm",
    "hand": "Hand",
    "thigh": "Oberschenkel",
    "shin": "Unterschenkel",
    "foot": "Fuss",
    "toes": "Zehen",
    "thumb": "Daumen",
    "index": "Zeigefinger",
    "middle": "Mittelfinger",
    "ring": "Ringfinger",
    "little": "KleinerFinger",
    "left": "links",
    "right": "rechts",
}
NAMES = ("plain", "prefixed", "foreign", "numbers", "misleading", "mirrored")


def _named(skeleton, kind, rng):
    """``(skeleton, {new name: maker's name})`` with names of a kind."""
    names = {}
    for _i, (name, number) in enumerate(zip(skeleton.names, rng.permutation(len(skeleton)))):
        if kind == "prefixed":
            names[name] = "take3:" + name
        elif kind == "foreign":
            for here, there in sorted(FOREIGN.items(), key=lambda p: -len(p[0])):
                name_now = names.get(name, name)
                names[name] = name_now.replace(here, there)
        elif kind == "numbers":
            names[name] = f"bone_{number:02d}"
        elif kind == "mirrored" and name.startswith(("left", "right")):
            names[name] = ("right" if name.startswith("left") else "left") + name.removeprefix("left").removeprefix(
                "right"
            )
    if kind == "misleading":
        wrong = rng.choice([n for n in skeleton.names if not n.startswith("root")], 2, replace=False)
        names = {wrong[0]: f"{wrong[1]} b", wrong[1]: f"{wrong[0]} b"}
    return rename(skeleton, names), {names.get(n, n): n for n in skeleton.names}


def _plain(name):
    return name.replace(" twist", "").rstrip(" 0123456789")


def measure(pairs=6, seed=0):
    """Per kind of names: counts of body and finger bones right and in all, side swaps, and wrong though called sure."""
    rng, table = np.random.default_rng(seed), {}
    for kind, rest, up in product(NAMES, RESTS, UPS):
        row = table.setdefault(kind, np.zeros(6, int))
        for _ in range(pairs):
            source, target = make_figure(random_build(rng)), make_figure(random_build(rng))
            clip = dressing.with_rest(Clip("x", source, 30, source.rest[None]), dressing.rest_pose(source, RESTS[rest]))
            clip = dressing.in_file_world(
                clip,
                10 ** rng.uniform(-2, 1),
                rot.multiply(UPS[up], rot.from_axis_angle(rot.AXES["Y"], np.array(rng.uniform(-3, 3)))),
            )
            (a, here), (b, there) = (
                _named(clip.skeleton, kind, rng),
                _named(target, kind if kind != "misleading" else "plain", rng),
            )
            bodies = read_body(a), read_body(b)
            strings = tie(a, bodies[0], b, bodies[1]) if None not in bodies else ()
            made = {
                _plain(there[n]): ({_plain(here[m]) for m in s.source}, s.certainty) for s in strings for n in s.target
            }
            common = {_plain(n) for n in source.names} & {_plain(n) for n in target.names} - {"root"}
            for part in common:
                found, certainty = made.get(part, (set(), 0.0))
                right = found == {part}
                finger = part.split()[-1] in ("thumb", "index", "middle", "ring", "little")
                row[2 if finger else 0] += right
                row[3 if finger else 1] += 1
                if not right and found:
                    other = part.replace("left", "x").replace("right", "left").replace("x", "right")
                    row[4] += other != part and other in found
                    row[5] += certainty >= SURE
    return table


def tying_by_itself():
    """The table: goals are 99 % of body parts, 95 % of fingers, and never a side swapped."""
    for kind, (body, bodies, finger, fingers, swaps, blind) in measure().items():
        good = body >= 0.99 * bodies and finger >= 0.95 * fingers and swaps == 0
        yield (
            f"tying, names {kind}",
            f"{100 * body / bodies:.1f} %",
            f"{100 * finger / max(fingers, 1):.1f} %",
            f"{swaps}",
            "✓" if good else "✗",
            f"body parts, fingers, side swaps of {bodies} and {fingers}; wrong though sure: {blind}",
        )


BENCHMARKS = (tying_by_itself,)
