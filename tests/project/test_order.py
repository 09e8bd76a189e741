"""Deliveries as they are asked for, without a window."""

import unittest
from dataclasses import replace

from tests.support import Case, show_state
from young_marionette.formats import read
from young_marionette.project import commands as do
from young_marionette.project.document import Document
from young_marionette.project.order import Order, carry_out, file_name, items_of, problems_of


class Orders(Case):
    def setUp(self):
        self.work = Document(show_state())
        for _ in range(2):
            self.work.do(do.Bake(frames=(0, 9)))
        self.order = Order(folder=str(self.folder), ending=".glb", prefix="q_")

    def codes(self, order):
        return [p.code for p in problems_of(self.work.state, order)]

    def test_names_and_what_is_left_out(self):
        first, second = self.work.state.bakes
        self.assertEqual(
            [i.path.name for i in items_of(self.work.state, self.order)], [f"q_{b.name}.glb" for b in (first, second)]
        )
        fewer = self.order.ticked(first.id, False)
        self.assertEqual([i.bake for i in items_of(self.work.state, fewer)], [second])
        self.assertEqual(fewer.ticked(first.id, True), self.order)
        own = replace(self.order, ending=None)
        self.assertEqual({i.path.suffix for i in items_of(self.work.state, own)}, {".bvh"})
        self.assertEqual(file_name("../up: and/away.."), "_up_ and_away")
        self.assertEqual(file_name(" .. "), "clip")

    def test_what_stands_against_it(self):
        self.assertEqual(self.codes(self.order), [])
        self.assertEqual(self.codes(replace(self.order, folder=" ")), ["no folder"])
        none = replace(self.order, left_out=frozenset(b.id for b in self.work.state.bakes))
        self.assertEqual(self.codes(none), ["no clip selected"])
        self.assertEqual([p.code for p in problems_of(show_state(), self.order)], ["nothing baked"])
        (self.folder / items_of(self.work.state, self.order)[0].path.name).write_text("mine")
        self.assertEqual(self.codes(self.order), ["text"])
        self.assertEqual(self.codes(replace(self.order, overwrite=True)), [])
        # Two clips of one name would go into one file.
        a, b = self.work.state.bakes
        state = self.work.state.with_entry(replace(b, name=a.name))
        told = problems_of(state, replace(self.order, overwrite=True))
        self.assertIn("Two results", told[0]["text"])

    def test_one_that_fails_does_not_stop_the_others(self):
        items, shares = items_of(self.work.state, self.order), []
        items[0].path.write_text("mine")
        done = carry_out(items, False, shares.append)
        self.assertIn("exists already", done[0].problem)
        self.assertEqual((done[1].problem, done[1].frames), ("", 10))
        self.assertEqual(done[1].size, items[1].path.stat().st_size)
        self.assertEqual(read(items[1].path).skeletons[0].clips[0].frames, 10)
        self.assertEqual(items[0].path.read_text(), "mine")
        self.assertEqual(shares, [0.0, 0.5])


if __name__ == "__main__":
    unittest.main()
