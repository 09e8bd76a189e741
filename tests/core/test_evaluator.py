"""The evaluator: what is asked for twice is worked out once, within bounds, by many threads; nothing else keeps anything."""

import ast
import gc
import threading
import weakref
from pathlib import Path

import numpy as np

from tests.support import Case, figure, show_state
from young_marionette.core.evaluator import Evaluator, nbytes
from young_marionette.core.matching.stance import leg_scale
from young_marionette.core.skeleton import pose_world
from young_marionette.project.snags import find_snags

PACKAGE = Path(__file__).resolve().parents[2] / "young_marionette"


class Thing:
    """Something that is itself."""


class Keeping(Case):
    def setUp(self):
        self.evaluator, self.made = Evaluator(20_000, 1000, lately=7), []

    def of(self, *inputs, value="v"):
        return self.evaluator.of("x", inputs, lambda: self.made.append(inputs) or value)

    def test_values_are_looked_at(self):
        evaluator = Evaluator()
        self.assertIsNone(evaluator.peek("sum", (1, 2)))
        evaluator.of("sum", (1, 2), lambda: np.zeros(1000))
        self.assertEqual(len(evaluator.peek("sum", (1, 2))), 1000)
        self.assertIsNone(evaluator.peek("sum", (1, 3)))

    def test_numbers_of_different_kinds(self):
        values = [
            self.evaluator.of("x", inputs, lambda n=n: n)
            for n, inputs in enumerate(((1,), (True,), (1.0,), ((1,),), ((1.0,),)))
        ]
        self.assertEqual(values, [0, 1, 2, 3, 4])

    def test_what_is_kept_dies_with_its_inputs(self):
        """Also where an input stands in a tuple, is the value itself, or dies in another thread."""
        evaluator = Evaluator()
        for n in range(50):
            thing, other = Thing(), np.zeros(3)
            evaluator.of("alone", (thing,), lambda: np.zeros(10_000))
            evaluator.of("inside", ((n, (thing, "a")), other), lambda: np.zeros(10_000))
            self.assertIs(evaluator.of("itself", (thing, n), lambda thing=thing: thing), thing)
            self.assertIs(evaluator.of("itself", (thing, n), lambda: None), thing)
        self.assertEqual(evaluator.size, evaluator.size)
        self.assertLess(evaluator.size, 3 * 100_000, "what belongs to the last things alone")
        holder = [thing, other]
        del thing, other
        thread = threading.Thread(target=holder.clear)
        thread.start()
        thread.join()
        gc.collect()
        self.assertEqual(evaluator.size, 0)

    def test_the_limit_is_hard(self):
        for n in range(100):
            self.of(n, value=bytes(5000))
            self.assertLessEqual(self.evaluator.size, 20_000)
        self.assertEqual(self.of("too large", value=bytes(30_000)), bytes(30_000))
        self.assertLessEqual(self.evaluator.size, 20_000)

    def test_weak_values_live_as_long_as_somebody_holds_them(self):
        first = self.evaluator.of("x", (1,), Thing, weak=True)
        self.assertIs(self.evaluator.of("x", (1,), Thing, weak=True), first)
        before = weakref.ref(first)
        del first
        gc.collect()
        self.assertIsNone(before())
        self.assertIsInstance(self.evaluator.of("x", (1,), Thing, weak=True), Thing)

    def test_nothing_is_a_value(self):
        for _ in range(3):
            self.assertIsNone(self.evaluator.of("x", (1,), lambda: self.made.append(1)))
        self.assertEqual(self.made, [1])

    def test_keys_count(self):
        self.of(b"x" * 15_000)
        self.assertGreater(self.evaluator.size, 15_000)

    def test_equal_and_same_inputs(self):
        one, other = Thing(), Thing()
        array, twin = np.zeros(3), np.zeros(3)
        for _ in range(2):
            for inputs in ((1, "a"), (one,), (other,), (array,), (twin,), (None, (1, 2)), ([1],)[:0] or (True,)):
                self.of(*inputs)
        self.assertEqual(len(self.made), 7)
        self.assertEqual(self.evaluator.of("another", (1, "a"), lambda: "w"), "w")

    def test_it_keeps_no_input_alive_and_takes_no_other_for_it(self):
        for i in range(200):
            thing = Thing()
            self.assertEqual(self.evaluator.of("x", (thing,), lambda i=i: i), i)
            del thing
        kept = Thing()
        self.of(kept)
        self.made.clear()
        del kept
        gc.collect()
        self.assertFalse([o for o in gc.get_objects() if isinstance(o, Thing)])

    def test_bounds(self):
        for i in range(50):
            self.of(i, value=bytes(100))
        self.assertLessEqual(self.evaluator.size, 1000 + 8 * 400)
        self.made.clear()
        self.of(49)
        self.assertEqual(self.made, [], "what was asked for lately is there")
        self.of(0)
        self.assertEqual(self.made, [(0,)], "what was not is made anew")

    def test_what_is_in_use_stays_within_the_limit(self):
        for _ in range(3):
            for i in range(3):
                self.of(i, value=bytes(6000))
        self.assertEqual(len(self.made), 3)
        for i in range(10, 20):
            self.of(i)
        self.assertLess(self.evaluator.size, 8000)

    def test_bytes_are_counted_once(self):
        array = np.zeros(1000)
        self.assertEqual(nbytes([array, array, {"a": array}]), 8000 + 1)
        thing = Thing()
        thing.own = array
        self.assertEqual(nbytes(thing), 8000)

    def test_views_and_slots(self):
        """A view keeps all of its array in memory, and slots hold as much as a dictionary does."""
        self.assertEqual(nbytes(np.zeros(1_000_000)[:10]), 8_000_000)
        array = np.zeros(1000)
        self.assertEqual(nbytes([array[:5], array[5:].reshape(5, -1)]), 8000)

        class Slotted:
            __slots__ = ("own",)

        thing = Slotted()
        thing.own = array
        self.assertEqual(nbytes(thing), 8000)


class Threads(Case):
    def test_states_may_be_handed_to_threads(self):
        """Poses, stances, snags and motions asked for by many threads at once, as by one."""
        state, wanted = show_state(), {}
        skeleton = figure()
        poses = []
        for i in range(40):
            pose = np.tile(skeleton.rest, (1, 1))
            pose[i % len(skeleton)] = [0.1, 0, 0, 0.995]
            pose.flags.writeable = False
            poses.append(pose)
        wanted = [pose_world(skeleton, np.array(p))[0] for p in poses]
        errors, strings = [], state.pairing.strings
        scale = leg_scale(strings, state.pairing.source, state.pairing.target)

        def work(seed):
            try:
                order = np.random.default_rng(seed).permutation(len(poses)).tolist() * 8
                for i in order:
                    self.close(pose_world(skeleton, poses[i])[0], wanted[i], 1e-12)
                    assert leg_scale(strings, state.pairing.source, state.pairing.target) == scale
                for entry in state.entries:
                    entry.placed_clip, entry.figure, entry.oddities  # noqa: B018
                find_snags(state)
            except Exception as error:
                errors.append(repr(error))

        threads = [threading.Thread(target=work, args=(i,)) for i in range(6)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(errors, [])


class NothingElse(Case):
    def test_nothing_but_the_evaluator_caches(self):
        """Below the window, no module keeps a dictionary of answers, and no function remembers."""
        # What belongs to an immutable thing itself, and goes with it, is no cache: a skeleton's children, a clip's
        # digest, the body in a file.
        own = {
            "core/skeleton.py",
            "core/clip.py",
            "core/controls/rig.py",
            "core/controls/sets.py",
            "core/keys/keyed.py",
            "core/markers/recording.py",
            "core/scene/figure.py",
            "formats/gltf/reader.py",
        }
        for path in PACKAGE.rglob("*.py"):
            layer = path.relative_to(PACKAGE)
            # What is on the graphics card is kept by what draws it.
            if layer.parts[0] in ("app", "rendering", "demo") or path.name == "evaluator.py":
                continue
            text = path.read_text()
            for word in ("lru_cache", "functools.cache", "WeakKeyDictionary", "WeakValueDictionary"):
                self.assertNotIn(word, text, layer)
            if str(layer) not in own:
                self.assertNotIn("cached_property", text, layer)
            for node in ast.parse(text).body:
                if isinstance(node, ast.Assign) and isinstance(node.value, ast.Dict) and not node.value.keys:
                    names = [t.id for t in node.targets if isinstance(t, ast.Name)]
                    self.assertIn(names, ([], ["_BEGINNING"]), f"{layer}: {names}")
