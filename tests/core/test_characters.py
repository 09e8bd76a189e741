"""Bodies read out of characters as they come: any proportions, and everything that rigs carry beside the body."""

from itertools import pairwise

import numpy as np

from tests.characters import FINGERS, MUST, character, creature, motion
from tests.naming import LANGUAGES, named
from tests.support import Case
from young_marionette.core import rotations as rot
from young_marionette.core.humanoid.certainty import SURE
from young_marionette.core.humanoid.parts import FOUR_LEGS, PERSON
from young_marionette.core.humanoid.reading import read_body, read_shape
from young_marionette.core.matching.tying import mirror_part, tie
from young_marionette.core.skeleton import Skeleton


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


class NamesInAnyLanguage(Case):
    def test_every_part_is_found(self):
        for number, language in enumerate(LANGUAGES):
            parts, wholes, _, sure = read(20 + number, 8, words=named(language))
            self.assertGreaterEqual((parts, wholes), (0.99, 0.85), language)
            self.assertEqual(sure, [], language)


class Moving(Case):
    def test_a_motion_tells_ahead_where_the_rest_pose_does_not(self):
        """Fifteen straight joints without feet look the same from behind; walking, they do not."""
        told = {False: 0, True: 0}
        for i in range(30):
            made = character(np.random.default_rng([30, i]), performer=True)
            for moves in told:
                body = read_shape(made.skeleton, clip=motion(made, np.random.default_rng(i)) if moves else None)
                self.assertEqual(body.kind, PERSON)
                right = made.skeleton.names[body.parts["left thigh"][0]] in made.parts["left thigh"]
                told[moves] += right and body.facing_certain
        self.assertEqual(told[True], 30)
        self.assertLess(told[False], 30)


class BesideTheBody(Case):
    SAME = {
        "hip helper": "corrective",
        "heel": "corrective",
        "metacarpal": "palm bone",
        "eye": "face",
        "jaw": "face",
        "cape": "cloth",
        "end": "end bone",
    }

    def test_everything_is_told_for_what_it_is(self):
        """Of what useless names and places alone leave clear."""
        right, count = {}, {}
        for i in range(60):
            made = character(np.random.default_rng([31, i]))
            body, names = read_body(made.skeleton), made.skeleton.names
            of = {names[j]: kind for kind, joints in body.beside.items() for j in joints}
            taken = {names[j] for run in body.parts.values() for j in run}  # ends of fingers may go with them
            for name, kind in made.kinds.items():
                kind = self.SAME.get(kind, kind)
                if kind in ("tail", "wing", "hair", "cloth", "face", "end bone", "corrective") and name not in taken:
                    count[kind] = count.get(kind, 0) + 1
                    right[kind] = right.get(kind, 0) + (of.get(name) == kind)
        for kind, of in count.items():
            self.assertGreater(right[kind] / of, 0.75 if kind == "corrective" else 0.85, (kind, right[kind], of))

    def test_further_arms_are_no_cloth(self):
        """A second pair of arms with hands under the first: told as arms, and never tied as the first."""
        for i in range(10):
            made = character(np.random.default_rng([32, i]), rest="T", extras=0.0)
            if "left index" not in made.parts or made.parts["spine"][-1] == made.parts["spine"][0]:
                continue
            grown, further = with_further_arms(made)
            body = read_body(grown)
            own = grown.names[body.parts["left hand"][0]] in made.parts["left hand"]
            self.assertTrue(own or body.certainty["left hand"] < SURE)
            told = {grown.names[j] for j in body.beside.get("further arm", ())}
            self.assertEqual(told, further if own else {name.removesuffix("x") for name in further}, i)


def with_further_arms(made):
    """``(skeleton, names)``: the arms of a character once more, lower on its trunk."""
    s = made.skeleton
    tops = [
        s.index[made.parts[f"{side} collarbone" if f"{side} collarbone" in made.parts else f"{side} upper arm"][0]]
        for side in ("left", "right")
    ]
    copied = [j for top in tops for j in s.subtree(top)]
    place = {j: len(s) + n for n, j in enumerate(copied)}
    spine = s.index[made.parts["spine"][0]]
    # The same place from the lower joint, a little down.
    points, world = s.rest_world
    offsets, rest = s.offsets[copied].copy(), s.rest[copied].copy()
    down = 0.35 * (points[s.index[made.parts["hips"][0]]] - points[int(s.parents[tops[0]])])
    for top in tops:
        n, back = copied.index(top), rot.conjugate(world[spine])
        offsets[n] = rot.rotate(back, points[top] + down - points[spine])
        rest[n] = rot.multiply(back, world[top])
    parents = [place.get(int(s.parents[j]), spine) for j in copied]
    names = [f"{s.names[j]}x" for j in copied]
    grown = Skeleton(
        (*s.names, *names), np.concatenate([s.parents, parents]), np.concatenate([s.offsets, offsets]),
        np.concatenate([s.rest, rest]), np.concatenate([s.tips, s.tips[copied]]),
    )  # fmt: skip
    return grown, set(names)


class OnFourLegs(Case):
    def test_they_are_read_and_tied_to_each_other(self):
        made = [creature(np.random.default_rng([33, i]), named("english") if i % 2 else None) for i in range(24)]
        bodies = [read_shape(m.skeleton) for m in made]
        for m, body in zip(made, bodies):
            self.assertEqual(body.kind, FOUR_LEGS)
            for part in MUST:
                self.assertIn(m.skeleton.names[body.parts[part][0]], m.parts[part])
        for (a, b), (own, other) in zip(pairwise(made), pairwise(bodies)):
            strings = {s.part: s for s in tie(a.skeleton, own, b.skeleton, other)}
            self.assertLessEqual(set(MUST), set(strings))

    def test_no_person_is_tied_to_one_by_silence(self):
        fox, person = creature(np.random.default_rng(4)), character(np.random.default_rng(4))
        bodies = read_shape(fox.skeleton), read_shape(person.skeleton)
        self.assertEqual(tie(fox.skeleton, bodies[0], person.skeleton, bodies[1]), ())
        asked = tie(fox.skeleton, bodies[0], person.skeleton, bodies[1], unlike=True)
        self.assertIn("head", {s.part for s in asked})

    def test_no_person_is_taken_for_one(self):
        kinds = {read_shape(character(np.random.default_rng([34, i])).skeleton).kind for i in range(60)}
        self.assertEqual(kinds, {PERSON})
