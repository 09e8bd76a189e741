"""Bodies read out of characters as they come: any proportions, and everything that rigs carry beside the body."""

import numpy as np

from tests.characters import FINGERS, MUST, character
from tests.support import Case
from young_marionette.core.humanoid.certainty import SURE
from young_marionette.core.humanoid.reading import read_body
from young_marionette.core.matching.tying import mirror_part


def read(seed, count, **kind):
    """Of ``count`` characters: ``(shares of must-have parts, of whole bodies, of fingers right, what was wrong though sure)``."""
    parts, wholes, fingers, sure = [], [], [], []
    for i in range(count):
        made = character(np.random.default_rng([seed, i]), **kind)
        body = read_body(made.skeleton)
        got = {p: [made.skeleton.names[j] for j in run] for p, run in body.parts.items()} if body else {}
        if body and not body.facing_certain and got["left thigh"][0] in made.parts["right thigh"]:
            # Straight limbs without feet: nothing tells ahead from behind, and that is said.
            got = {mirror_part(p) or p: run for p, run in got.items()}
        right = {p: bool(got.get(p)) and got[p][0] in made.parts[p] for p in MUST}
        right["spine"] = set(got.get("spine", ())) == set(made.parts["spine"])
        parts += right.values()
        wholes.append(all(right.values()))
        sure += [(i, p) for p in MUST if not right[p] and body and body.certainty.get(p, 0) >= SURE]
        if right["left hand"]:
            all_of = [p for p in made.parts if p.split()[-1] in FINGERS]
            fingers += [bool(set(got.get(p, ())) & set(made.parts[p])) for p in all_of]
    return np.mean(parts), np.mean(wholes), np.mean(fingers or [1]), sure


class UselessNames(Case):
    """Nothing but the shape tells; the goals for thousands of characters are measured in ``benchmarks``."""

    def check(self, found, parts, wholes, fingers=0.0):
        self.assertGreaterEqual(found[0], parts)
        self.assertGreaterEqual(found[1], wholes)
        self.assertGreaterEqual(found[2], fingers)
        self.assertEqual(found[3], [], "wrong though sure")

    def test_with_everything_beside_the_body(self):
        self.check(read(11, 60), 0.97, 0.9, 0.95)

    def test_bare_bodies(self):
        self.check(read(12, 60, bare=True, extras=0.0), 0.97, 0.9)

    def test_bare_hands_among_everything_else(self):
        self.check(read(13, 60, bare=True), 0.96, 0.88)

    def test_fifteen_joints(self):
        self.check(read(14, 60, performer=True), 0.99, 0.95)
