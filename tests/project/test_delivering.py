"""Watched folders, a cluster, reports and the interface for pipelines."""

import base64
import io
import json
import os
import re
import shutil
import signal
import subprocess
import sys
import time
import unittest
from collections import deque
from dataclasses import replace
from html.parser import HTMLParser
from pathlib import Path
from unittest import mock

import numpy as np
from PIL import Image

from tests.support import Case, show_folder
from young_marionette import api
from young_marionette.core.errors import Cancelled, InputError
from young_marionette.formats import read
from young_marionette.project.batch.asking import Asked, carry_out
from young_marionette.project.batch.cluster import _run
from young_marionette.project.batch.job import DONE, FAILED, Item, Order
from young_marionette.project.batch.names import Names
from young_marionette.project.batch.recipe import Recipe, RootMotion, load, save
from young_marionette.project.batch.report import page
from young_marionette.project.batch.run import Delivery
from young_marionette.project.batch.watch import Watch
from young_marionette.project.batch.work import work


def here(jobs, told, go_on):
    """Jobs done in this process."""
    for job in jobs:
        go_on()
        told(job, None)
        told(job, work(job))


class Tags(HTMLParser):
    """What a page holds: its tags, whether they are closed in order, and its words."""

    def __init__(self, text):
        super().__init__()
        self.open, self.tags, self.words = [], [], []
        self.feed(text)

    def handle_starttag(self, tag, attrs):
        self.tags.append((tag, dict(attrs)))
        if tag not in ("meta", "img", "link", "br"):
            self.open.append(tag)

    def handle_endtag(self, tag):
        assert self.open.pop() == tag, tag

    def handle_data(self, data):
        self.words.append(data)


class Delivering(Case):
    def setUp(self):
        self.show = show_folder()
        self.rig = str(self.show / "puppets/Heron.bvh")
        self.clips, self.results = self.folder / "clips", self.folder / "results"
        self.clips.mkdir()

    def take(self, *names):
        for name in names:
            shutil.copy(self.show / f"quay/{name}.bvh", self.clips)

    def asked(self, **more):
        return Asked((str(self.clips),), (self.rig,), str(self.results), **more)


class Reports(Delivering):
    def test_it_tells_all_and_shows_poses(self):
        self.take("light_lamp")
        (self.clips / "empty & <b>.bvh").write_text("")
        asked = self.asked(report=self.folder / "report.html", recipe=Recipe(fps=24))
        delivery = asked.delivery()
        delivery._runner = here
        items = carry_out(asked, delivery)
        text = (self.folder / "report.html").read_text()
        told = Tags(text)
        self.assertEqual(told.open, [])
        words = " ".join(told.words)
        for part in (
            "light_lamp_Heron.bvh",
            "8.00 s, 193 frames at 24 per second",
            "empty & <b>.bvh is empty",
            "Feet slide",
        ):
            self.assertIn(part, words)
        self.assertNotIn("<b>.bvh", text, "names are text, never markup")
        self.assertFalse(any("http" in str(attrs) for _, attrs in told.tags), "it needs nothing from outside")
        pictures = re.findall(r"base64,([^\"]+)", text)
        self.assertEqual(len(pictures), 3)
        first, last = (Image.open(io.BytesIO(base64.b64decode(p))).convert("RGB") for p in (pictures[0], pictures[-1]))
        self.assertEqual(first.size, (200, 240))
        self.assertNotEqual(first.tobytes(), last.tobytes())
        red = sum(r > 120 and r > 1.6 * b for r, _, b in np.array(first).reshape(-1, 3))
        self.assertGreater(red, 600, "a figure stands in it")
        measures = next(i for i in items if i.state == DONE).measures
        self.assertLess(measures.slide[1], 0.001)
        self.assertGreater(measures.slide[0], measures.slide[1])

    def test_without_opengl_it_has_no_pictures(self):
        self.take("light_lamp")
        asked = self.asked(report=self.folder / "report.html")
        delivery = asked.delivery()
        delivery._runner = here
        for error, told in ((InputError("None here."), 0), (ValueError("a defect"), 1)):
            with mock.patch("young_marionette.rendering.portraits.portrait", side_effect=error):
                (item,) = work(
                    replace(delivery.jobs[0], order=replace(delivery.jobs[0].order, pictures=2, overwrite=True))
                )
            self.assertEqual((item.state, item.pictures, len(item.notes)), (DONE, (), told))

    def test_words_of_what_was_asked(self):
        recipe = Recipe(name="engine", endings=(".glb",), travel=RootMotion(root=("x",), bone="add", in_place=()))
        text = page([Item(FAILED, "a", "b", why="No.")], Order(recipe, "out"), 3)
        for words in ("engine", "GLB", "added", "0 clips"):
            self.assertIn(words, text)


class Names_(Case):
    def test_names(self):
        made = Names(template="{clip}", find="lamp", replace="light", case="upper", before="a_", behind="/b").of(
            "lamp", "R", "s", "d", 1
        )
        self.assertEqual(made, "A_LIGHT_B")
        self.assertLess(len(Names(template="{clip}").of("ü" * 300, "R", "s", "d", 1).encode()), 200)
        self.assertEqual(Names(template="{clip}").of("...", "R", "s", "d", 1), "clip")
        for bad in ("{nobody}", "{clip.__class__}", "{0}", "", "{clip!x}"):
            self.assertRaises(ValueError, Names, template=bad)


class Recipes(Delivering):
    def test_the_schema_in_the_docs_is_current(self):
        schema = Path(__file__).parents[2] / "docs/recipe.schema.json"
        self.assertEqual(json.loads(schema.read_text()), Recipe.model_json_schema())

    def test_a_recipe_brings_its_rigs_and_stays_as_it_was(self):
        shutil.copy(self.rig, self.folder / "mine.bvh")
        path = self.folder / "x.recipe"
        recipe = Recipe(name="x", rigs=("mine.bvh",), fps=30, travel=RootMotion(root=("x", "turn")))
        save(path, recipe)
        got = load(path)
        self.assertEqual(got.rigs, (str(self.folder / "mine.bvh"),))
        self.assertEqual(got.model_copy(update={"rigs": recipe.rigs}), recipe)
        self.refuses(lambda: save(path, recipe), "exists already")
        for old, new, says in (
            ('"version": 2', '"version": 9', "newer version"),
            ('"fps"', '"fbs"', "fbs"),
            ("{", "", "cut off"),
        ):
            path.write_text(path.read_text().replace(old, new, 1))
            self.refuses(lambda: load(path), says)
            path.unlink()
            save(path, recipe)

    def test_recipes_of_version_1_deliver_as_they_did(self):
        """They wrote the body only where they were asked to."""
        path = self.folder / "old.recipe"
        for more, motion_only in (("", True), (', "body": false', True), (', "body": true', False)):
            path.write_text(f'{{"format": "young-marionette recipe", "version": 1, "name": "old"{more}}}')
            self.assertEqual(load(path).motion_only, motion_only)
        path.write_text('{"format": "young-marionette recipe", "version": 1, "body": 3}')
        self.refuses(lambda: load(path), "body")


class Watching(Delivering):
    def setUp(self):
        super().setUp()
        self.results.mkdir()
        self.clock = 0.0
        ticking = mock.patch("young_marionette.project.batch.watch.time.monotonic", lambda: self.clock)
        ticking.start()
        self.addCleanup(ticking.stop)

    def watch(self):
        return Watch(self.clips, [self.rig], self.asked().order, runner=here)

    def looked(self, watch, seconds=0.0):
        self.clock += seconds
        return [(Path(i.source).name, i.state) for i in watch.look(lambda job, items: None)]

    def test_what_arrives_is_delivered_once_when_it_is_complete(self):
        watch, text = self.watch(), (self.show / "quay/light_lamp.bvh").read_bytes()
        arriving = self.clips / "light_lamp.bvh"
        arriving.write_bytes(text[:5000])
        self.assertEqual(self.looked(watch), [])
        self.assertEqual(self.looked(watch, 1), [])
        with open(arriving, "ab") as file:
            file.write(text[5000:-300])
        self.assertEqual(self.looked(watch, 1.5), [], "it has grown: not complete")
        with open(arriving, "ab") as file:
            file.write(text[-300:])
        self.assertEqual(self.looked(watch, 1.5), [])
        self.assertEqual(self.looked(watch, 2.5), [("light_lamp.bvh", DONE)])
        self.assertEqual(self.looked(watch, 10), [])
        self.assertEqual(read(self.results / "light_lamp_Heron.bvh").skeletons[0].clips[0].frames, 241)
        # Whoever watches later knows what was delivered, and what comes again is something new.
        later = self.watch()
        self.assertEqual([*self.looked(later), *self.looked(later, 5)], [])
        os.utime(arriving, ns=(1, 1))
        (self.results / "light_lamp_Heron.bvh").unlink()
        self.assertEqual([*self.looked(later), *self.looked(later, 5)], [("light_lamp.bvh", DONE)])

    def test_an_empty_folder_is_done_with_at_once(self):
        watch = self.watch()
        self.assertFalse(watch.emptied())
        self.assertEqual(self.looked(watch), [])
        self.assertTrue(watch.emptied())
        self.take("light_lamp")
        self.looked(watch)
        self.assertFalse(watch.emptied())

    def test_a_broken_file_is_told_once_and_tried_again_when_it_changes(self):
        watch = self.watch()
        bad = self.clips / "bad.bvh"
        bad.write_text("HIERARCHY")
        self.assertEqual([*self.looked(watch), *self.looked(watch, 3)], [("bad.bvh", FAILED)])
        self.assertEqual(self.looked(watch, 9), [])
        shutil.copy(self.show / "quay/light_lamp.bvh", bad)
        self.assertEqual([*self.looked(watch, 1), *self.looked(watch, 3)], [("bad.bvh", DONE)])

    def test_results_within_the_folder_are_no_arrivals(self):
        self.results = self.clips / "results"
        self.results.mkdir()
        self.take("light_lamp")
        watch = self.watch()
        self.looked(watch)
        self.assertEqual(len(self.looked(watch, 3)), 1)
        self.assertEqual([*self.looked(watch, 3), *self.looked(watch, 3)], [])
        self.assertTrue(watch.emptied())


class Control(Delivering):
    def test_pause_and_cancel(self):
        self.take("light_lamp", "haul_rope", "wave_to_ship")
        jobs = self.asked().delivery().jobs
        order = [job.name for job in jobs]
        begun = []

        def runner(jobs, told, go_on):
            for job in jobs:
                while not go_on():
                    delivery.go_on()
                    begun.append("paused")
                told(job, None)
                told(job, work(job))

        def told(job, items):
            if items is None:
                begun.append(job.name)
                return
            if len(begun) == 1:
                delivery.pause()
                self.assertTrue(delivery.paused)
            if len(begun) == 3:
                delivery.cancel()

        delivery = Delivery(jobs, runner=runner)
        self.assertRaises(Cancelled, delivery.run, told)
        self.assertEqual(begun, [order[0], "paused", order[1]])
        self.assertEqual((delivery.progress.done, delivery.progress.total), (2, 3))
        self.assertEqual([i.state for i in delivery.result], [DONE, DONE])


class Cluster(Delivering):
    def start(self, *words):
        process = subprocess.Popen(
            [sys.executable, "-m", "distributed.cli.dask_worker" if words[0] == "worker" else "distributed.cli.dask_scheduler", *words[1:]],
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, cwd=self.folder, env={**os.environ, "OPENBLAS_NUM_THREADS": "1",
            "PYTHONPATH": str(Path(__file__).parents[2])},
        )  # fmt: skip
        self.addCleanup(self.end, process)
        return process

    def end(self, process):
        process.kill()
        process.wait()

    def test_a_worker_that_is_killed_costs_nothing(self):
        """A scheduler and two workers; one of them dies in the middle, and every clip is there, the same as from here."""
        for name in ("light_lamp", "wave_to_ship"):
            for n in range(6):
                shutil.copy(self.show / f"quay/{name}.bvh", self.clips / f"{name}{n}.bvh")
        told = self.folder / "scheduler.json"
        self.start(
            "scheduler",
            "--port",
            "0",
            "--no-dashboard",
            "--no-show",
            "--host",
            "127.0.0.1",
            "--scheduler-file",
            str(told),
        )
        end = time.monotonic() + 60
        while not told.exists():
            self.assertLess(time.monotonic(), end)
            time.sleep(0.05)
        address = json.loads(told.read_text())["address"]
        alone = ("--nthreads", "1", "--no-dashboard", "--no-nanny", "--death-timeout", "60")
        workers = [self.start("worker", address, *alone) for _ in range(2)]
        asked = self.asked(cluster=address)
        killed = []

        def hear(_job, items):
            if items is not None and len(list(self.results.glob("*.bvh"))) >= 3 and not killed:
                workers[0].send_signal(signal.SIGKILL)
                killed.append(True)

        items = carry_out(asked, asked.delivery(), hear)
        self.assertTrue(killed)
        self.assertEqual([(i.state, i.why) for i in items], [(DONE, "")] * 12)
        far = {p.name: p.read_bytes() for p in self.results.glob("*.bvh")}
        self.assertEqual([p.name for p in self.results.glob("*.part")], [])
        shutil.rmtree(self.results)
        delivery = self.asked().delivery()
        delivery._runner = here
        delivery.run()
        self.assertEqual({p.name: p.read_bytes() for p in self.results.glob("*.bvh")}, far)

    def test_what_a_dead_worker_had_done_is_done(self):
        """Its job is given to another one, who finds the file there as it makes it: all jobs of a cluster are done so."""
        self.take("light_lamp")
        (job,) = self.asked().delivery().jobs
        given = []

        class Client:
            def nthreads(self):
                return {"here": 1}

            def submit(self, do, one, **_how):
                given.append(one)
                return mock.Mock(done=lambda: True, result=lambda: do(one))

        told = []
        for _ in range(2):
            _run(Client(), deque([job]), lambda _job, items: told.extend(items or ()), lambda: True)
        first, again = told
        self.assertEqual((first.state, again), (DONE, first))
        (other,) = work(self.asked().delivery().jobs[0])
        self.assertTrue(other.exists)

    def test_where_nobody_answers(self):
        self.take("light_lamp")
        with mock.patch("young_marionette.project.batch.cluster._PATIENCE", "0.2s"):
            asked = self.asked(cluster="tcp://127.0.0.1:9")
            self.refuses(lambda: carry_out(asked, asked.delivery()), "No scheduler answers at tcp://127.0.0.1:9")


class Pipelines(Delivering):
    def test_settings_that_are_none(self):
        source, rig = api.read(self.show / "quay/light_lamp.bvh"), api.read_rig(self.rig)
        self.refuses(lambda: api.retarget(source, rig, speed=2), "'speed' is no setting of retarget")
        take = api.retarget(source, rig, frames=(10, 50), fps=60)
        self.assertEqual((take.frames, take.rate, take.keys), (81, 60.0, 81))
        self.refuses(lambda: api.write(take, self.rig, overwrite=True), "one of the files that are read")
        self.refuses(lambda: api.thin(take, frames=(0, 500)), "does not lie in the clip's frames")
        same = api.take_of(source)
        self.assertEqual(same.frames, 241)

    def test_batch(self):
        self.take("light_lamp")
        with mock.patch(
            "young_marionette.project.batch.run.run_jobs", lambda jobs, _count, told, go_on: here(jobs, told, go_on)
        ):
            (item,) = api.batch([self.clips], [self.rig], self.results, Recipe(endings=(".glb",)))
        self.assertTrue(item.outs[0].endswith("light_lamp_Heron.glb"))
        self.assertTrue(Path(item.outs[0]).exists())
        self.refuses(lambda: api.batch([self.clips], [], self.results), "which rig")
        (item,) = api.batch([self.folder / "none.bvh"], [self.rig], self.results, dry=True, workers=1)
        self.assertIn("There is no file", item.why)


if __name__ == "__main__":
    unittest.main()


class Damaged(Case):
    def test_a_journal_that_is_damaged_ends_nothing(self):
        """Lines that no run writes are passed over, whatever they hold."""
        from young_marionette.project.batch.journal import NAME, Journal

        good = {"source": "a", "rig": "b", "clip": "c", "outs": ["x.bvh"], "frames": 3, "rate": 30.0, "size": 9}
        rng, lines = np.random.default_rng(3), []
        for wrong in ([["x"]], "x", None, [3], ["\0"], ["x" * 5000], {"a": 1}, [[[]]]):
            lines.append(json.dumps({"stamp": "s1", "items": [{**good, "outs": wrong}]}))
        for name, wrong in (
            ("frames", None),
            ("rate", "x"),
            ("size", True),
            ("clip", 4),
            ("number", 1e300),
            ("what", 1),
        ):
            lines.append(json.dumps({"stamp": "s2", "items": [{**good, name: wrong}]}))
        lines += ['{"stamp":' * 2000, "[" * 100_000, "null", "3", '{"items": 3}', '{"stamp": "s", "items": [3]}', ""]
        whole = json.dumps({"stamp": "good", "items": [good]})
        for _ in range(200):
            data = bytearray(whole.encode())
            for at in rng.integers(0, len(data), 3):
                data[at] = rng.integers(32, 127)
            lines.append(data.decode())
        (self.folder / NAME).write_text("\n".join([*lines, whole]) + "\n")
        journal = Journal(self.folder)
        journal.load()
        self.assertIn("x.bvh", journal.made)

    def test_templates_ask_for_no_widths_without_end(self):
        from young_marionette.project.batch.names import file_name

        for template in ("{clip:0>3000000}", "{number:099999999}", "{clip:{number}}", "{rig:>101}"):
            self.assertRaises(ValueError, lambda t=template: Recipe(names={"template": t}))
        self.assertEqual(
            Recipe(names={"template": "{number:03}_{clip:_>20}"}).names.template, "{number:03}_{clip:_>20}"
        )
        for name in ("é" * 500, "a" * 3_000_000, "日本" * 90, "x" * 179 + "é"):
            short = file_name(name)
            self.assertLessEqual(len(short.encode()), 180)
            self.assertTrue(name.startswith(short))
