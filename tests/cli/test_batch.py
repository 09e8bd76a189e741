"""Whole folders on the command line: what is written, what is told of what can't be, and that nothing is ever half there."""

import json
import os
import resource
import shutil
import signal
import subprocess
import sys
import time
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np
from pygltflib import GLTF2

from tests.cli.test_cli import Line, run
from tests.formats.independent import Gltf, gltf_complaints
from tests.support import joints_at, show_state
from young_marionette.formats import read
from young_marionette.project import commands as do
from young_marionette.project.batch.job import Job, Order
from young_marionette.project.batch.parcels import parcel_of
from young_marionette.project.batch.recipe import Recipe
from young_marionette.project.batch.work import work
from young_marionette.project.document import Document

ROOT = Path(__file__).parents[2]


def without_motion(text):
    """A file of motion with its numbers made none."""
    head, rows = text.split("Frame Time", 1)
    first, *lines = rows.splitlines()
    lines[3] = "nan " + lines[3].split(" ", 1)[1]
    return head + "Frame Time" + "\n".join([first, *lines]) + "\n"


def in_this_process(jobs, _count, told, go_on):
    for job in jobs:
        go_on()
        told(job, None)
        told(job, work(job))


class Batch(Line):
    workers = 0  # of all batches but those that are about workers: the same work in this process takes less time

    def setUp(self):
        super().setUp()
        if not self.workers:
            here = mock.patch("young_marionette.project.batch.run.run_jobs", in_this_process)
            here.start()
            self.addCleanup(here.stop)
        self.clips, self.results = self.folder / "clips", self.folder / "results"
        self.clips.mkdir()

    def take(self, *names, times=1):
        """Copies of the show's clips."""
        for name in names:
            for n in range(times):
                shutil.copy(self.show / f"quay/{name}.bvh", self.clips / f"{name}{n or ''}.bvh")

    def batch(self, *words, code=0, rig=None):
        got, out, err = run("batch", self.clips, "--rig", rig or self.heron, "--out", self.results, "--json", *words)
        self.assertEqual(got, code, err)
        return json.loads(out)

    @property
    def made(self):
        return {p.name: p.read_bytes() for p in sorted(self.results.rglob("*")) if p.is_file() and p.name[0] != "."}

    def nothing_half(self):
        self.assertEqual([p.name for p in self.results.rglob("*.part")], [])
        for path in self.results.rglob("*.bvh"):
            self.assertGreater(read(path).skeletons[0].clips[0].frames, 2)


class Folders(Batch):
    def test_a_folder_onto_two_rigs(self):
        self.take("light_lamp", "haul_rope")
        shutil.copytree(self.show / "loft", self.clips / "library")
        told = self.batch("--rig", self.gull, "--name", "{rig}-{number:02} {clip}", "--subfolders")
        self.assertEqual(told["failed"], [])
        self.assertEqual({Path(s["source"]).name for s in told["skipped"]}, {"loft_take_000.bvh"})
        self.assertIn("only 1 frame", told["skipped"][0]["why"])
        self.assertEqual(len(told["done"]), 2 * (2 + 4))
        one = next(d for d in told["done"] if d["clip"] == "ring_bell" and d["rig"].endswith("Gull.bvh"))
        self.assertEqual((one["frames"], one["rate"], one["seconds"]), (169, 24.0, 7.0))
        self.assertEqual(Path(one["out"]).parent, self.results / "library")
        self.assertRegex(Path(one["out"]).name, r"^Gull-0\d ring_bell\.bvh$")
        self.assertEqual(read(one["out"]).skeletons[0].clips[0].frames, 169)

    def test_as_one_by_one(self):
        self.take("light_lamp")
        words = ("--fps", "24", "--root", "x,z,turn", "--add-root")
        first = self.batch(*words, "--format", "glb,bvh,usdc")
        for out in map(Path, first["done"][0]["outs"]):
            one = self.folder / out.name
            self.ok("retarget", self.lamp, self.heron, "--out", one, *words)
            if out.suffix == ".bvh":  # which holds no name of the clip
                self.assertEqual(out.read_bytes(), one.read_bytes())
            self.assertLess(abs(out.stat().st_size - one.stat().st_size), 200)

    def test_a_baked_clip_and_the_batch_give_the_same_file(self):
        work_on = Document(show_state())
        names = {e.name: e.id for e in work_on.state.entries}
        work_on.do(do.Choose(names["light_lamp"]), do.Choose(names["Heron"], as_rig=True))
        work_on.do(do.SetTransfer((("in_place", ("z",)),)))
        work_on.do(do.Bake(24.0))
        self.take("light_lamp")
        self.results.mkdir()
        for ending in (".glb", ".bvh", ".usda"):
            order = Order(Recipe(endings=(ending,)), str(self.results))
            (item,) = work(parcel_of(self.folder, 1, work_on.state, work_on.state.bakes[0], None, order))
            self.assertEqual((item.state, item.why), ("done", ""))
            baked = Path(item.outs[0]).read_bytes()
            told = self.batch("--format", ending, "--fps", 24, "--in-place", "z", "--overwrite")
            self.assertEqual(told["done"][0]["out"], item.outs[0])
            self.assertEqual(Path(item.outs[0]).read_bytes(), baked, ending)

    def test_all_clips_in_one_file(self):
        self.take("light_lamp", "carry_bucket")
        body = self.show / "puppets/bodies/Gull.glb"
        told = self.batch("--format", "glb", "--one-file", "--with-body", "--name", "{rig}", rig=body)
        out = self.results / "Gull.glb"
        self.assertEqual({d["out"] for d in told["done"]}, {str(out)})
        self.assertEqual(sum(d["bytes"] for d in told["done"]), out.stat().st_size)
        self.assertFalse(gltf_complaints(out))
        self.assertEqual({a.name for a in GLTF2().load(str(out)).animations}, {"light_lamp", "carry_bucket"})
        one = self.folder / "one.glb"
        self.ok("retarget", self.clips / "carry_bucket.bvh", body, "--out", one, "--with-body")
        a, b = Gltf(out), Gltf(one)  # the first animation is the first clip by name
        self.close(a.skinned(2.0), b.skinned(2.0), 1e-4)
        self.batch("--format", "bvh", "--one-file", code=3)

    def test_a_root_bone_is_given_to_rigs_that_have_none(self):
        self.take("light_lamp")
        told = self.batch("--rig", self.gull, "--add-root")
        roots = {Path(d["rig"]).stem: read(d["out"]).skeletons[0].skeleton.names[0] for d in told["done"]}
        self.assertEqual(roots, {"Heron": "root", "Gull": "humanoid_root"})
        told = self.batch("--rig", self.gull, "--remove-root", "--overwrite")
        roots = {Path(d["rig"]).stem: read(d["out"]).skeletons[0].skeleton.names[0] for d in told["done"]}
        self.assertEqual(roots, {"Heron": "hips", "Gull": "sacroiliac"})

    def test_keys_stay_keys_with_a_root_bone(self):
        """Cleaned and thinned on its way by the recipe's passes; with the bone that is added it is the same motion, in keys."""
        self.take("light_lamp")
        recipe = self.folder / "thin.recipe"
        thin = {"id": "a", "method": "thin", "settings": {"places": 0.02}}
        tree = {"format": "young-marionette recipe", "version": 1, "endings": [".glb"], "passes": [thin]}
        recipe.write_text(json.dumps(tree))
        files = []
        for words in ((), ("--add-root", "--root", "x,y"), ("--add-root", "--root", "x,z,turn")):
            (done,) = self.batch("--recipe", recipe, "--overwrite", *words)["done"]
            self.assertEqual((done["keys"], done["made_dense"]), ("x,z,turn" not in words, "x,z,turn" in words))
            files.append(Gltf(done["out"]))
            self.assertFalse(gltf_complaints(Path(done["out"])))
        self.assertLess(max(len(times) for _, times in files[1].samplers), 60)
        for second in (0.0, 1.234, 5.01):
            plain, kept, turned = (f.world(second) for f in files)
            for name, matrix in plain.items():
                self.close(kept[name], matrix, 1e-5, name)
                self.close(turned[name][:3, 3], matrix[:3, 3], 5e-3, name)
            self.close(kept["root"][[0, 2], 3], [plain["hips"][0, 3], 0], 1e-5)

    def test_shapes_of_what_is_written(self):
        self.take("light_lamp")
        told = self.batch(
            "--bones", "vrm", "--no-ends", "--unit", "cm", "--up", "Z", "--format", "usda,bvh", "--from-zero"
        )
        files = [read(out).skeletons[0] for out in told["done"][0]["outs"]]
        self.assertEqual((files[0].declared.unit, files[0].declared.up), (0.01, "+Z"))
        for part in files:
            self.assertIn("leftUpperArm", part.skeleton.names)
            self.assertGreater(joints_at(part.clips[0])[0, :, 2].max(), 100, "centimetres, upright along Z")
        plain = self.batch("--format", "glb", "--name", "{clip} plain")["done"][0]["out"]
        ours, other = joints_at(read(plain).skeletons[0].clips[0]), joints_at(files[1].clips[0])
        self.close(np.linalg.norm(ours[50, 3] - ours[50, 9]) * 100, np.linalg.norm(other[50, 3] - other[50, 9]), 1e-2)

    def test_a_recipe_is_saved_and_used(self):
        self.take("light_lamp")
        recipe = self.folder / "engine.recipe"
        words = ("--format", "glb", "--fps", "60", "--name", "{clip}-{rig}", "--root", "x,z", "--add-root")
        first = self.batch(*words, "--save-recipe", recipe)["done"][0]
        before = self.made
        tree = json.loads(recipe.read_text())
        self.assertEqual(
            (tree["format"], tree["fps"], tree["travel"]["bone"]), ("young-marionette recipe", 60.0, "add")
        )
        self.assertNotIn("prefix", tree, "what is as usual is not written")
        again = self.batch("--recipe", recipe, "--overwrite")["done"][0]
        self.assertEqual((again["out"], self.made), (first["out"], before))
        recipe.write_text(recipe.read_text().replace('"fps": 60.0', '"fps": "fast"'))
        self.refused("batch", self.clips, "--rig", self.heron, "--out", self.results, "--recipe", recipe, says="fps")

    def test_a_folder_is_watched_by_a_recipe(self):
        self.take("light_lamp")
        (self.clips / "broken.bvh").write_text("HIERARCHY")
        recipe = self.folder / "x.recipe"
        tree = {"format": "young-marionette recipe", "version": 1, "endings": [".glb"], "rigs": [str(self.heron)]}
        recipe.write_text(json.dumps(tree))
        here = "young_marionette.project.batch.watch."
        with mock.patch(here + "SETTLED", 0.02), mock.patch(here + "POLL", 0.03):
            out = self.ok("watch", self.clips, "--recipe", recipe, "--out", self.results, "--once")
            self.assertIn("light_lamp_Heron.glb: 241 frames", out)
            self.assertIn("broken.bvh on Heron, failed", out)
            self.assertEqual(list(self.made), ["light_lamp_Heron.glb"])
            again = self.ok("watch", self.clips, "--recipe", recipe, "--out", self.results, "--once")
            self.assertNotIn("light_lamp_Heron", again, "each once")
        self.refused(
            "watch", self.folder / "none", "--recipe", recipe, "--out", self.results, says="There is no folder"
        )
        self.refused("watch", self.clips, "--out", self.results, says="which rig")

    def test_what_is_asked_for_wrongly(self):
        self.take("light_lamp")
        for words, says in (
            (("--name", "{clip}_{take}"), "'{take}' is no part of a name"),
            (("--name", "{clip"), "no template"),
            (("--name", "{number:x9q}"), "no template"),
            (("--format", "fbx"), "can't be written"),
            (("--unit", "league"), "known unit"),
            (("--jobs", "0"), "number"),
            (("--rig", self.heron), "given twice"),
            (("--stringing", self.lamp), "stringing"),
            (("--range", "5:2"), "not a range"),
        ):
            self.refused("batch", self.clips, "--rig", self.heron, "--out", self.results, *words, says=says)
        self.refused(
            "batch", self.folder / "none", "--rig", self.heron, "--out", self.results, "--jobs", "x", says="number"
        )
        self.assertFalse(self.results.exists())

    def test_a_dry_run_tells_all_and_writes_nothing(self):
        self.take("light_lamp", "haul_rope")
        (self.clips / "empty.bvh").write_text("")
        told = self.batch("--dry-run", "--fps", "60", code=3)
        self.assertEqual([(p["frames"], p["rate"]) for p in told["planned"]], [(451, 60.0), (481, 60.0)])
        self.assertEqual([Path(f["source"]).name for f in told["failed"]], ["empty.bvh"])
        self.assertFalse(self.results.exists())

    def test_a_broken_file_takes_no_name_from_a_good_one(self):
        self.take("light_lamp", "haul_rope")
        (self.clips / "light_lamp.asf").write_text("not a skeleton")
        (self.clips / "haul_rope.amc").write_text("not a motion")
        (self.clips / "haul_rope.glb").write_text("no")
        told = self.batch(code=3)
        self.assertEqual([d["clip"] for d in told["done"]], ["haul_rope", "light_lamp"])
        self.assertNotIn("would also", str(told["failed"]))

    def test_a_file_that_is_named_twice_is_delivered_once(self):
        self.take("light_lamp")
        again = self.clips / ".." / "clips" / "light_lamp.bvh"
        got, out, _ = run("batch", self.clips, again, "--rig", self.heron, "--out", self.results, "--json")
        self.assertEqual((got, len(json.loads(out)["done"])), (0, 1))

    def test_names_that_meet(self):
        self.take("light_lamp")
        (self.clips / "more").mkdir()
        shutil.copy(self.clips / "light_lamp.bvh", self.clips / "more")
        told = self.batch(code=3)
        self.assertEqual((len(told["done"]), len(told["failed"])), (1, 1))
        self.assertIn("would also be written from", told["failed"][0]["why"])
        told = self.batch("--subfolders", "--overwrite")
        self.assertEqual(len(told["done"]), 2)


class Bad(Batch):
    def test_every_good_one_is_delivered_and_every_bad_one_named(self):
        self.take("light_lamp", "haul_rope", times=3)
        text = self.lamp.read_text()
        lines = text.splitlines()
        bad = {
            "cut.bvh": ("\n".join(lines[:20]), "cut"),
            "half.bvh": ("\n".join([*lines[:-100], ""]), "was cut off: it announces 241 frames and holds 141"),
            "empty.bvh": ("", "is empty"),
            "nan.bvh": (without_motion(text), "nan"),
            "noise.glb": ("glTF\x02\0\0\0", ""),
            "words.bvh": ("a shopping list\n", "format"),
            "three.bvh": ("HIERARCHY\nROOT a\n{\nOFFSET 0 0 0\nCHANNELS 3 Xrotation Yrotation Zrotation\nJOINT b\n{\nOFFSET 0 1 0\n"
                          "CHANNELS 3 Xrotation Yrotation Zrotation\nEnd Site\n{\nOFFSET 0 1 0\n}\n}\n}\nMOTION\nFrames: 3\nFrame Time: 0.1\n"
                          + "0 0 0 0 0 0\n" * 3, ""),
        }  # fmt: skip
        for name, (content, _) in bad.items():
            (self.clips / name).write_text(content)
        (self.clips / "folder.bvh").mkdir()
        os.symlink(self.folder / "nowhere.bvh", self.clips / "gone.bvh")
        bad["gone.bvh"] = ("", "no file")
        if os.geteuid() != 0:
            (self.clips / "secret.bvh").write_text(text)
            (self.clips / "secret.bvh").chmod(0)
            bad["secret.bvh"] = ("", "permission")
        told = self.batch(code=3)
        self.assertEqual(len(told["done"]), 6)
        why = {Path(f["source"]).name: f["why"] for f in told["failed"]}
        self.assertEqual(set(why), set(bad))
        for name, (_, says) in bad.items():
            self.assertIn(says.lower(), why[name].lower(), name)
            self.assertNotIn("Internal error", why[name])
        self.nothing_half()
        self.assertEqual(len(self.made), 6)

    def test_stringings_choose_and_others_are_left_out(self):
        self.take("light_lamp")
        shutil.copy(self.show / "loft/ring_bell.bvh", self.clips)
        saved = [self.folder / f"{n}.stringing" for n in ("quay", "loft")]
        self.ok("match", self.lamp, self.heron, "--out", saved[0])
        self.ok("match", self.show / "loft/ring_bell.bvh", self.heron, "--out", saved[1])
        told = self.batch("--stringing", saved[0], code=3)
        self.assertEqual([d["clip"] for d in told["done"]], ["light_lamp"])
        self.assertIn("another skeleton", told["failed"][0]["why"])
        told = self.batch("--stringing", saved[1], "--stringing", saved[0], "--overwrite")
        self.assertEqual({(d["clip"], d["stringing"]) for d in told["done"]},
                         {("light_lamp", "light_lamp to Heron"), ("ring_bell", "ring_bell to Heron")})  # fmt: skip

    def test_what_exists_is_left_alone_and_resuming_does_what_is_missing(self):
        self.take("light_lamp", "haul_rope", "wave_to_ship")
        self.results.mkdir()
        mine = self.results / "haul_rope_Heron.bvh"
        mine.write_text("mine")
        told = self.batch(code=3)
        self.assertEqual([s["out"] for s in told["skipped"]], [str(mine)])
        self.assertIn("exists already", told["skipped"][0]["why"])
        self.assertEqual(mine.read_text(), "mine")
        mine.unlink()
        (self.results / "light_lamp_Heron.bvh").unlink()
        kept = (self.results / "wave_to_ship_Heron.bvh").stat().st_mtime_ns
        told = self.batch("--resume")
        self.assertEqual([(d["clip"], d["before"]) for d in told["done"]],
                         [("haul_rope", False), ("light_lamp", False), ("wave_to_ship", True)])  # fmt: skip
        self.assertEqual((self.results / "wave_to_ship_Heron.bvh").stat().st_mtime_ns, kept)
        self.assertTrue(all(d["before"] for d in self.batch("--resume")["done"]))
        # A clip that has changed since is not what was delivered.
        text = (self.clips / "haul_rope.bvh").read_text().rstrip()
        (self.clips / "haul_rope.bvh").write_text(f"{text.rsplit(' ', 1)[0]} 12.5\n")
        self.assertEqual([Path(s["out"]).name for s in self.batch("--resume", code=3)["skipped"]], [mine.name])

    def test_results_within_a_folder_of_sources_are_none(self):
        self.take("light_lamp", "haul_rope")
        for results in (self.clips / "delivered", self.clips):
            self.results = results
            (self.clips / "delivered").mkdir()
            for _ in range(2):
                told = self.batch("--overwrite")
                self.assertEqual([d["clip"] for d in told["done"]], ["haul_rope", "light_lamp"])
            shutil.rmtree(self.clips / "delivered")

    def test_results_are_never_sources(self):
        self.take("light_lamp")
        told = self.batch("--name", "{clip}", "--out", self.clips, "--overwrite", code=3)
        self.assertIn("one of the files that are read", told["failed"][0]["why"])
        self.assertEqual((self.clips / "light_lamp.bvh").read_bytes(), self.lamp.read_bytes())


class Processes(Batch):
    """A batch as a process of its own, which things happen to."""

    workers = 2

    def begin(self, *words, limit=None):
        command = [sys.executable, "-m", "young_marionette.cli.main", "batch", self.clips, "--rig", self.heron]
        return subprocess.Popen(
            [*map(str, command), "--out", str(self.results), "--json", *map(str, words)],
            cwd=ROOT, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
            preexec_fn=(lambda: resource.setrlimit(resource.RLIMIT_FSIZE, (limit, limit))) if limit else None,
        )  # fmt: skip

    def until(self, files, process):
        """Wait until so many results are there."""
        end = time.monotonic() + 60
        while len(list(self.results.glob("*.bvh"))) < files:
            self.assertLess(time.monotonic(), end)
            self.assertIsNone(process.poll(), process.stderr.read() if process.poll() is not None else "")
            time.sleep(0.01)

    def children(self, process):
        """The numbers of a batch's worker processes."""
        return [int(n) for n in Path(f"/proc/{process.pid}/task/{process.pid}/children").read_text().split()]

    def test_twice_the_same_bytes_whatever_the_workers(self):
        self.take("light_lamp", "carry_bucket", "climb_ladder")
        words = ("--format", "glb,bvh,usdc", "--fps", "24", "--root", "x,z,turn", "--add-root")
        self.batch(*words, "--jobs", 1)
        first = self.made
        self.assertEqual(len(first), 9)
        self.batch(*words, "--jobs", 3, "--overwrite")
        self.assertEqual(self.made, first)

    def test_a_worker_that_is_killed_takes_nothing_with_it(self):
        self.take("light_lamp", "wave_to_ship", times=9)
        process = self.begin("--jobs", 2)
        self.until(3, process)
        os.kill(self.children(process)[0], signal.SIGKILL)
        out, err = process.communicate(timeout=120)
        self.assertEqual((process.returncode, err), (0, ""))
        self.assertEqual(len(json.loads(out)["done"]), 18)
        self.nothing_half()
        self.assertEqual(len(self.made), 18)

    def test_what_was_written_but_not_told_counts(self):
        """As if the worker had been killed right after its files were in place, or between two of them."""
        self.take("light_lamp")
        order = Order(Recipe(endings=(".bvh", ".glb")), str(self.results))
        job = Job(1, (str(self.clips / "light_lamp.bvh"),), (str(self.heron),), str(self.results), order)
        self.results.mkdir()
        (first,) = work(job)
        there = {out: (Path(out).stat().st_ino, Path(out).read_bytes()) for out in first.outs}
        self.assertEqual([i.state for i in work(job)], ["skipped"])
        for gone in ((), first.outs[1:]):
            for out in gone:
                os.unlink(out)
            self.assertEqual(work(replace(job, again=True)), [first])
            self.assertEqual([Path(out).read_bytes() for out in first.outs], [made for _, made in there.values()])
            self.assertEqual(Path(first.outs[0]).stat().st_ino, there[first.outs[0]][0])
        # A file that somebody else has put there is not replaced, nor is one beside it written.
        os.unlink(first.outs[0])
        Path(first.outs[1]).write_bytes(b"mine")
        (item,) = work(replace(job, again=True))
        self.assertEqual((item.state, item.exists), ("skipped", True))
        self.assertEqual({p.name: p.read_bytes() for p in self.results.iterdir()}, {"light_lamp_Heron.glb": b"mine"})

    def test_whoever_is_interrupted_or_killed_goes_on_later(self):
        self.take("light_lamp", "wave_to_ship", times=13)
        for kind in (signal.SIGINT, signal.SIGKILL):
            shutil.rmtree(self.results, ignore_errors=True)
            process = self.begin("--jobs", 2)
            self.until(4, process)
            children = self.children(process)
            process.send_signal(kind)
            _, err = process.communicate(timeout=60)
            if kind == signal.SIGINT:
                self.assertEqual(process.returncode, 2)
                self.assertIn("Stopped", err)
                self.assertIn("--resume", err)
            end = time.monotonic() + 20
            while any(Path(f"/proc/{n}").exists() for n in children) and time.monotonic() < end:
                time.sleep(0.02)
            self.nothing_half()
            before = self.made
            self.assertLess(len(before), 26)
            told = self.batch("--resume")
            self.assertEqual(len(told["done"]), 26)
            # Each of the two workers may have been stopped before it could note its last one.
            self.assertIn(len(before) - sum(d["before"] for d in told["done"]), range(3))
            self.assertEqual({name: self.made[name] for name in before}, before)
            self.nothing_half()

    def test_a_disk_without_room_and_a_folder_that_is_gone(self):
        self.take("light_lamp", "carry_bucket")
        process = self.begin(limit=140_000)
        out, _ = process.communicate(timeout=60)
        self.assertEqual(process.returncode, 3)
        told = json.loads(out)
        self.assertEqual([d["clip"] for d in told["done"]], ["carry_bucket"])
        self.assertIn("can't be written", told["failed"][0]["why"])
        self.nothing_half()
        shutil.rmtree(self.results)
        self.take("light_lamp", times=12)
        process = self.begin("--jobs", 1)
        self.until(2, process)
        shutil.rmtree(self.results)
        out, _ = process.communicate(timeout=60)
        self.assertEqual(process.returncode, 3)
        self.assertIn("not there any more", json.loads(out)["failed"][-1]["why"])
        self.assertFalse(self.results.exists())
