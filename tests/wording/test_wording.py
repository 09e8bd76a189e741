"""Every code that the program can tell has its words, and nobody reads words back."""

import ast
import unittest
from pathlib import Path

from tests.support import Case, show_state, told
from young_marionette.core.findings import Fact, finding
from young_marionette.project.pairing import Origin
from young_marionette.project.snags import find_snags
from young_marionette.wording import facts, findings, snags

PACKAGE = Path(facts.__file__).resolve().parent.parent


def codes(function):
    """``{code: file}`` of all calls of ``finding`` or ``Fact`` with a code that is written down."""
    found = {}
    for path in PACKAGE.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Call) and getattr(node.func, "id", "") == function and node.args:
                first = node.args[0]
                if isinstance(first, ast.Constant):
                    found[first.value] = path
    return found


class Codes(Case):
    def test_every_finding_has_words(self):
        known = {**findings._WORDS, **facts._SOURCES, **snags._SNAGS, "entry": None}
        told = codes("finding")
        self.assertGreater(len(told), 40)
        for code, path in told.items():
            self.assertIn(code, known, path)

    def test_every_fact_has_words(self):
        told = codes("Fact")
        self.assertEqual(set(told), set(facts._FACTS))

    def test_no_words_without_a_code(self):
        told = {*codes("finding"), *codes("Finding"), "entry"}
        # told by body reading under a name of its own
        told |= {"no legs", "four legs", "feet", "motion", "bends", "side words", "nothing", "table"}
        for table in (findings._WORDS, facts._SOURCES, snags._SNAGS):
            self.assertEqual(set(table) - told, set())


class Words(Case):
    def test_facts_of_the_show_read_well(self):
        """Whatever the show brings up is a sentence without holes."""
        seen = 0
        for entry in show_state().entries:
            for fact in entry.facts:
                words = facts.fact_words(fact)
                seen += 1
                for text in words:
                    self.assertNotIn("{", text)
                    self.assertNotIn("None", text)
            for odd in entry.oddities:
                text, remedy = findings.finding_words(odd)
                self.assertTrue(text[0].isupper() and text.endswith(".") and remedy.endswith("."), text)
        for snag in find_snags(show_state()):
            self.assertNotIn("{", told(snag))
        self.assertGreater(seen, 100)

    def test_some(self):
        for found, text in (
            (finding("floor", metres=0.0412), "The feet hover about 4.1 cm over the floor."),
            (finding("floor", metres=-0.03), "The feet sink about 3.0 cm under the floor."),
            (finding("uneven scales", joints=["hip", "knee", "toe"]), "hip and 2 more scale unevenly"),
            (finding("short", frames=2), "Holds only 2 frames"),
            (finding("text", text="Said before: {braces}."), "Said before: {braces}."),
            (finding("same name", name="a{0}", told="a{0} (2)"), "The name a{0} is given"),
        ):
            self.assertIn(text, findings.finding_words(found).text)
        self.assertEqual(
            facts.fact_words(Fact("length", {"seconds": 2, "frames": 1, "start": 1.5}))[2],
            "1 frame, beginning at 1.50 s",
        )
        self.assertEqual(snags.origin_words(Origin()), "Tied automatically.")
        adapted = Origin("adapted", "quay to Heron", ("tail",), ("neck",))
        self.assertEqual(
            snags.origin_words(adapted), "Adapted from the stringing quay to Heron; not there: tail; tied anew: neck."
        )

    def test_hostile_names_are_made_safe(self):
        text = findings.finding_words(finding("left out", joint="evil\x1b[31m\n" + "x" * 900)).text
        self.assertNotIn("\x1b", text)
        self.assertLessEqual(len(text), 400)


if __name__ == "__main__":
    unittest.main()
