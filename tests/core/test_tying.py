"""Tying: what is tied between skeletons of different make, how sure it is, and edits by hand."""

import numpy as np

from tests.support import RESTS, Case, dressed, figure, random_build, wild_motion
from young_marionette.core.humanoid.reading import read_body
from young_marionette.core.matching.tying import (
    REQUIRED,
    String,
    mirror_part,
    missing,
    release,
    set_string,
    tie,
    untied,
)
from young_marionette.core.rebase import rename
from young_marionette.demo.cast import PERFORMERS, PUPPETS
from young_marionette.demo.dressing import insert_joint, with_names
from young_marionette.demo.figures import Build, make_figure


def tied(a, b):
    """Tie two skeletons by themselves."""
    return tie(a, read_body(a), b, read_body(b))


def numbered(skeleton, seed=0):
    order = np.random.default_rng(seed).permutation(len(skeleton))
    return {n: f"bone_{order[i]:02d}" for i, n in enumerate(skeleton.names)}


class Tying(Case):
    def right(self, strings, here, there, what=""):
        """Every string joins joints that the figure maker meant for the same part."""
        self.assertEqual(missing(strings), [], what)
        for s in strings:
            parts = {here[n].replace(" twist", "").rstrip(" 0123456789") for n in s.source} | {
                there[n].replace(" twist", "").rstrip(" 0123456789") for n in s.target
            }
            self.assertEqual(len(parts), 1, f"{what}: {s}")

    def test_all_demo_pairs(self):
        for performer in PERFORMERS:
            for puppet in PUPPETS:
                a, b = performer.figure, puppet.figure
                for kind in ("own names", "numbers", "mirrored"):
                    here = dict(performer.names) if kind != "numbers" else numbered(a, 1)
                    there = dict(puppet.names) if kind != "numbers" else numbered(b, 2)
                    if kind == "mirrored":
                        here = {n: here[_swapped(n)] for n in a.names}
                        there = {n: there[_swapped(n)] for n in b.names}
                    strings = tied(rename(a, here), rename(b, there))
                    self.right(
                        strings,
                        {v: k for k, v in here.items()},
                        {v: k for k, v in there.items()},
                        f"{performer.name} {puppet.name} {kind}",
                    )

    def test_one_side_mirrored_in_words(self):
        a, b = PERFORMERS[0].figure, PUPPETS[2].figure
        here = {n: PERFORMERS[0].names[_swapped(n)] for n in a.names}
        strings = tied(rename(a, here), rename(b, PUPPETS[2].names))
        self.right(strings, {v: k for k, v in here.items()}, {v: k for k, v in PUPPETS[2].names.items()})
        self.assertTrue(all("swapped" in s.reason for s in strings if s.part == "left hand"))

    def test_random_pairs_in_random_dress(self):
        rng = np.random.default_rng(5)
        for trial in range(25):
            a, b = make_figure(random_build(rng)), make_figure(random_build(rng))
            c = dressed(
                wild_motion(a, rng, 2), rng, rest=str(rng.choice(list(RESTS))), names="own", extras=False
            ).skeleton
            d = dressed(wild_motion(b, rng, 2), rng, names="own", extras=False).skeleton
            names = {n: n for n in (*a.names, *b.names)}
            if trial % 2:
                c, back = rename(c, numbered(c, trial)), {v: k for k, v in numbered(c, trial).items()}
                self.right(tied(c, d), back, names, f"trial {trial}")
            else:
                self.right(tied(c, d), names, names, f"trial {trial}")

    def test_certainty_follows_the_evidence(self):
        a = figure()
        named, blind = tied(a, a), tied(rename(a, numbered(a)), rename(a, numbered(a, 3)))
        self.assertTrue(all(s.sure for s in named))
        for s, t in zip(sorted(named, key=lambda s: s.part), sorted(blind, key=lambda s: s.part)):
            self.assertLess(t.certainty, s.certainty)
            self.assertIn("names say nothing", t.reason)

    def test_runs_of_different_number(self):
        strings = {s.part: s for s in tied(make_figure(Build(spine=4, neck=2)), make_figure(Build(spine=1)))}
        self.assertEqual((len(strings["spine"].source), len(strings["spine"].target)), (4, 1))
        self.assertIn("4 bones drive 1", strings["spine"].reason)

    def test_helpers(self):
        strings = {s.part: s for s in tied(figure(), figure(twist=True))}
        self.assertEqual(strings["left forearm twist"].source, ("left forearm",))
        self.assertEqual(strings["left forearm twist"].target, ("left forearm twist",))

    def test_bones_beyond_the_body_by_their_words(self):
        clip = wild_motion(figure(), np.random.default_rng(0), 2)
        with_tail = insert_joint(clip, "tail", "hips", (0, 0, -0.2)).skeleton
        other = insert_joint(with_names(clip, {"hips": "pelvis"}), "Tail", "pelvis", (0, 0, -0.3)).skeleton
        self.assertIn("tail", {s.part for s in tied(with_tail, other)})

    def test_numbers_alone_tie_nothing_beyond_the_body(self):
        clip = wild_motion(figure(), np.random.default_rng(0), 2)
        extra = insert_joint(clip, "bone_77", "head", (0, 0.1, 0.1)).skeleton
        self.assertFalse(any("bone_77" in s.source for s in tied(extra, extra)))

    def test_missing_and_untied(self):
        a = figure()
        strings = tuple(s for s in tied(a, a) if s.part != "left hand")
        self.assertEqual(missing(strings), ["left hand"])
        self.assertEqual(untied(strings, a, "target"), ["left hand"])
        self.assertEqual(missing(()), list(REQUIRED))


def _swapped(name):
    for here, there in (("left", "right"), ("right", "left")):
        if name.startswith(here):
            return there + name.removeprefix(here)
    return name


class Edits(Case):
    def setUp(self):
        self.strings = (String("head", ("a",), ("x",), 0.9, ""), String("spine", ("b", "c"), ("y", "z"), 0.9, ""))

    def test_a_target_bone_hangs_on_one_string(self):
        after = set_string(self.strings, "neck", ("a",), ("y",))
        self.assertEqual({s.part: s.target for s in after}, {"head": ("x",), "spine": ("z",), "neck": ("y",)})
        self.assertTrue(after[-1].by_hand and after[-1].sure)

    def test_a_string_without_bones_is_gone(self):
        self.assertEqual([s.part for s in release(self.strings, ("x",))], ["spine"])

    def test_same_part_is_replaced(self):
        self.assertEqual({s.part: s.source for s in set_string(self.strings, "head", ("c",), ("x",))}["head"], ("c",))

    def test_mirror_parts(self):
        self.assertEqual(mirror_part("left hand"), "right hand")
        self.assertEqual(mirror_part("right toes"), "left toes")
        self.assertIsNone(mirror_part("spine"))
