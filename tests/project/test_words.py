"""Words for bones of a user's own: added, learned from corrections, and used for the next rig."""

import json
import os
from dataclasses import replace
from unittest import mock

import numpy as np

from tests.characters import character, motion
from tests.cli.test_cli import run
from tests.naming import named
from tests.support import Case
from young_marionette.core.clip import Clip
from young_marionette.core.humanoid.vocabulary import add_words
from young_marionette.core.humanoid.words import NameEvidence
from young_marionette.core.rebase import rename
from young_marionette.demo.figures import Build, make_figure
from young_marionette.formats import write
from young_marionette.project import own_words, words
from young_marionette.project.commands.strings import TieBones
from young_marionette.project.opening import open_rig
from young_marionette.project.pairing import pair

# A dialect that no dictionary has.
DIALECT = {"hand": "Grabbel", "forearm": "Vorgrabbel", "thigh": "Stelz", "foot": "Trampel"}


class OwnWords(Case):
    def setUp(self):
        super().setUp()
        place = mock.patch.dict(os.environ, {"XDG_CONFIG_HOME": str(self.folder / "settings")})
        place.start()
        self.addCleanup(place.stop)
        self.addCleanup(lambda: add_words({}))
        words.use()
        self.path = words.words_path()

    def rig(self, name, **build):
        """A rig whose bones are named in the dialect where it has words, opened from a file."""
        s = make_figure(Build(**build))
        said = {n: n.replace(p, DIALECT[p]) for n in s.names for p in DIALECT if n.split()[-1] == p}
        s = rename(s, {n: said.get(n, n) for n in s.names})
        write(self.folder / name, Clip("rig", s, 30, s.rest[None]))
        return open_rig(self.folder / name)

    def said(self, name):
        """What a bone's name speaks of, beside enough others that no word is in all."""
        return NameEvidence([name, "hips", "spine", "head", "neck", "left thigh"]).parts[0]

    def test_words_that_are_added_are_read(self):
        self.assertEqual(self.said("left Grabbel"), {})
        own_words.add("hand", ["Grabbel"])
        own_words.add("left", ["backbord"])
        self.assertEqual(self.said("left Grabbel"), {"hand": 1.0})
        self.assertEqual(NameEvidence(["backbordGrabbel", "hips", "spine", "head", "neck", "a"]).sides[0], "left")
        own_words.add("foot", ["grabbel"])
        self.assertEqual(self.said("left Grabbel"), {"foot": 1.0}, "what it meant before is forgotten")
        own_words.forget(["grabbel"])
        self.assertEqual(self.said("left Grabbel"), {})

    def test_a_file_written_by_hand_is_read(self):
        self.path.parent.mkdir(parents=True)
        self.path.write_text(
            json.dumps({"format": "young-marionette word list", "version": 1, "parts": {"hand": ["grabbel"]}})
        )
        self.assertEqual(words.use(), "")
        self.assertEqual(self.said("Grabbel"), {"hand": 1.0})

    def test_corrections_are_learned_for_the_next_rig(self):
        source, rig = open_rig(self.written("source.bvh")), self.rig("rig.bvh")
        pairing = pair(source, rig)
        by_hand = [
            replace(s, by_hand=True)
            for s in pairing.strings
            if s.part in ("left hand", "right forearm", "head", "left thigh")
        ]
        fresh = own_words.learn(replace(pairing, strings=tuple(by_hand)))
        self.assertEqual(fresh, {"hand": ["grabbel"], "forearm": ["vorgrabbel"], "thigh": ["stelz"]})
        self.assertEqual(own_words.learn(replace(pairing, strings=tuple(by_hand))), {}, "nothing new")
        other = self.rig("other.bvh", spine=4, fingers=True)
        body = other.figure.body
        self.assertEqual(body.named["right hand"], 1.0)
        self.assertEqual(body.named["right foot"], 0.0, "it was never corrected")

    def written(self, name):
        s = make_figure(Build())
        write(self.folder / name, Clip("s", s, 30, s.rest[None]))
        return self.folder / name

    def test_nothing_is_learned_from_numbers_or_from_what_is_known(self):
        s = make_figure(Build())
        useless = {n: f"joint{i:02d}" for i, n in enumerate(s.names)}
        write(self.folder / "u.bvh", Clip("u", rename(s, useless), 30, s.rest[None]))
        source, rig = open_rig(self.written("source.bvh")), open_rig(self.folder / "u.bvh")
        pairing = pair(source, rig)
        strings = tuple(replace(s, by_hand=True) for s in pairing.strings)
        # A hand that is tied to a foot by mistake teaches no foot to be a hand.
        crossed = TieBones("left hand", ("left foot",), (useless["left hand"],))
        self.assertEqual(own_words.learn(replace(pairing, strings=strings)), {})
        self.assertEqual(crossed.part, "left hand")
        self.assertFalse(self.path.exists())

    def test_words_never_win_over_a_clear_body(self):
        """Every hand is called a foot by the user's own words, and is found all the same."""
        made = character(np.random.default_rng(3), words=named("english"))
        own_words.add("foot", ["hand", "wrist"])
        own_words.add("hand", ["foot", "ankle"])
        write(self.folder / "c.glb", motion(made, np.random.default_rng(3)))
        body = open_rig(self.folder / "c.glb").figure.body
        names = open_rig(self.folder / "c.glb").skeleton.names
        for part in ("left hand", "right foot"):
            self.assertIn(names[body.parts[part][0]], made.parts[part])

    def test_the_command_line_shows_adds_and_forgets(self):
        self.assertIn("No words", run("words")[1])
        self.assertEqual(run("words", "--add", "hand", "Grabbel", "Pfote_vorn")[0], 0)
        out = json.loads(run("words", "--json")[1])
        self.assertEqual((out["parts"], out["file"]), ({"hand": ["grabbel", "pfote vorn"]}, str(self.path)))
        run("words", "--forget", "grabbel")
        self.assertIn("hand: pfote vorn", run("words")[1])
        for asked in (("--add", "wing", "x"), ("--add", "hand", "12"), ("--forget", "grabbel")):
            code, _, error = run("words", *asked)
            self.assertEqual((code, error.count("\n")), (2, 1), asked)
        self.assertIn("hand: pfote vorn", run("words")[1], "nothing is lost by what was wrong")

    def test_a_broken_file_is_said_and_nothing_else_suffers(self):
        self.path.parent.mkdir(parents=True)
        path = self.written("source.bvh")
        for text in (
            "{", "[]", '{"format": "young-marionette word list", "version": 9}',
            '{"format": "young-marionette word list", "version": 1, "parts": {"wing": ["x"]}}',
            '{"format": "young-marionette word list", "version": 1, "parts": {"hand": [3]}}',
        ):  # fmt: skip
            self.path.write_text(text)
            code, out, error = run("info", path)
            self.assertEqual(code, 0, text)
            self.assertIn("Your own words for bones are not used: words.json", error)
            self.assertIn("joints", out)
            self.assertEqual(run("words", "--add", "hand", "x")[0], 2)
            self.assertEqual(self.path.read_text(), text, "the file stays as it is")
