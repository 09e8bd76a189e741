"""Project and stringing files, and work that outlives a crash."""

import json
import os
import subprocess
import sys
import zipfile
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np

from tests.support import Case, joints_at, onto, show_state, told
from young_marionette.core import rotations as rot
from young_marionette.core.errors import Cancelled, InputError
from young_marionette.demo import dressing
from young_marionette.project import commands as do
from young_marionette.project import storage, stringing
from young_marionette.project.bakes import baked as bake
from young_marionette.project.document import Document
from young_marionette.project.pairing import pair
from young_marionette.project.recovery import Recovery
from young_marionette.wording.snags import origin_words


def small_state():
    """The show's state with two clips and a rig only, edited a little."""
    state = show_state()
    keep = [e for e in state.entries if e.name in ("light_lamp", "haul_rope", "Heron")]
    document = Document(replace(state, entries=tuple(keep)))
    for command in (
        do.TieBones("neck", ("quay:Head",), ("neck",)),
        do.TurnBone("leftUpperArm", (0.1, 0.2, 0.3)),
        do.SetTransfer((("stride", 0.9),)),
        do.Correct(keep[0].id, (("scale", 0.02),)),
        do.Bake(frames=(0, 20)),
        do.KeepStringing("kept"),
    ):
        document.do(command)
    return document.state


class Projects(Case):
    def setUp(self):
        self.state = small_state()
        self.path = self.folder / "a.marionette"
        storage.save(self.path, self.state)

    def test_all_comes_back(self):
        again = storage.load(self.path)
        self.assertEqual((again.name, again.source, again.rig), (self.state.name, self.state.source, self.state.rig))
        for a, b in zip(self.state.entries, again.entries, strict=True):
            self.assertEqual(
                (a.id, a.role, a.name, a.path, a.format, a.layout, a.correction, a.notes, a.family),
                (b.id, b.role, b.name, b.path, b.format, b.layout, b.correction, b.notes, b.family),
            )
            self.close(joints_at(a.placed_clip), joints_at(b.placed_clip), 0)
        self.assertEqual(again.pairing.strings, self.state.pairing.strings)
        self.same_turn(again.pairing.stance.target, self.state.pairing.stance.target)
        self.assertEqual((again.pairing.settings, again.pairing.matched), (self.state.pairing.settings, False))
        self.assertEqual(again.stringings, self.state.stringings)
        clip = self.state.source_entry.placed_clip
        self.close(joints_at(again.pairing.transfer.run(clip)), joints_at(self.state.pairing.transfer.run(clip)), 1e-9)

    def test_saving_again_gives_the_same(self):
        again = storage.load(self.path)
        other = self.folder / "b.marionette"
        storage.save(other, again)
        with zipfile.ZipFile(self.path) as a, zipfile.ZipFile(other) as b:
            one, two = (json.loads(z.read("project.json")) for z in (a, b))
        for side in (one, two):
            for pairing in side["pairings"]:
                pairing["stringing"]["source"]["pose"] = pairing["stringing"]["target"]["pose"] = None
        self.assertEqual(one, two)

    def test_cut_off_anywhere(self):
        data = self.path.read_bytes()
        bad = self.folder / "bad.marionette"
        for n in [0, 1, 10, *np.random.default_rng(0).integers(0, len(data), 40).tolist()]:
            bad.write_bytes(data[:n])
            self.refuses(lambda: storage.load(bad), "bad.marionette")

    def test_changed_bytes(self):
        data, rng, bad = self.path.read_bytes(), np.random.default_rng(1), self.folder / "bad.marionette"
        for _ in range(250):
            mutant = bytearray(data)
            mutant[int(rng.integers(0, len(mutant)))] ^= int(rng.integers(1, 256))
            bad.write_bytes(mutant)
            try:
                storage.load(bad)
            except InputError as error:
                self.assertNotIn("\n", str(error))

    def rewritten(self, change):
        """The project with its JSON changed."""
        bad = self.folder / "changed.marionette"
        with zipfile.ZipFile(self.path) as old, zipfile.ZipFile(bad, "w") as new:
            for name in old.namelist():
                data = old.read(name)
                if name == "project.json":
                    tree = json.loads(data)
                    change(tree)
                    data = json.dumps(tree)
                new.writestr(name, data)
        return bad

    def test_what_is_wrong_is_said(self):
        def put(**values):
            return lambda tree: tree.update(values)

        for change, word in (
            (put(version=99), "newer version"),
            (put(format="x"), "not a Young Marionette project"),
            (put(entries=5), "entries"),
            (put(extra=1), "extra"),
            (lambda t: t["entries"][0].update(id="../../etc"), "id"),
            (lambda t: t["entries"][0]["motion"].update(rate=-1), "rate"),
            (lambda t: t["entries"][0]["joints"].pop(), "damaged"),
            (lambda t: t["entries"][0].update(skeleton="abcdef12"), "damaged"),
            (lambda t: t["entries"][0]["motion"].update(blob="abcdef12"), "damaged"),
            (lambda t: t["bakes"][0].update(placed="abcdef12"), "damaged"),
            (lambda t: t["bakes"].append(t["bakes"][0]), "twice"),
            (lambda t: t["entries"].append(t["entries"][0]), "twice"),
            (lambda t: t["entries"][0]["layout"]["meta"]["names"].pop(), "damaged"),
        ):
            self.refuses(lambda c=change: storage.load(self.rewritten(c)), word)

    def test_not_a_project(self):
        for name, data in (("x.marionette", b"hello"), ("y.marionette", b"")):
            path = self.folder / name
            path.write_bytes(data)
            self.refuses(lambda p=path: storage.load(p), "not a Young Marionette project")
        with zipfile.ZipFile(self.folder / "z.marionette", "w") as z:
            z.writestr("other", "x")
        self.refuses(lambda: storage.load(self.folder / "z.marionette"), "not a Young Marionette project")

    def test_a_failed_save_keeps_the_old_file(self):
        before = self.path.read_bytes()
        self.refuses(lambda: storage.save(self.folder / "none" / "a.marionette", self.state), "no folder")
        self.assertEqual(self.path.read_bytes(), before)


class SavingAgain(Case):
    """What is new is written behind what is there, and nothing that is there changes."""

    def setUp(self):
        self.state, self.path = small_state(), self.folder / "a.marionette"
        self.stamp = storage.save(self.path, self.state)
        self.first = self.path.read_bytes()
        self.entry = next(e for e in self.state.entries if e.name == "light_lamp")
        self.edited = self.state.with_entry(replace(self.entry, take=self.entry.clip.cut(0, 30), name="shorter"))

    def names(self, path):
        return [e.name for e in storage.load(path).entries]

    def test_only_what_is_new_is_written(self):
        storage.save(self.path, self.edited, known=self.stamp)
        again = self.path.read_bytes()
        self.assertTrue(again.startswith(self.first))
        self.assertLess(len(again) - len(self.first), len(self.first) // 2)
        state = storage.load(self.path)
        self.assertEqual(state.entry(self.entry.id).clip.frames, 31)
        for a, b in zip(state.entries, self.edited.entries, strict=True):
            self.close(joints_at(a.placed_clip), joints_at(b.placed_clip), 0)
        with zipfile.ZipFile(self.path) as archive:
            self.assertIsNone(archive.testzip())
            self.assertEqual(len(archive.namelist()), len(set(archive.namelist())))
            self.assertNotIn(f"blobs/{self.entry.clip.digest[:32]}/rotations.npy", archive.namelist())

    def test_many_times_and_made_anew_when_too_much_is_of_no_use(self):
        stamp, sizes = self.stamp, []
        big = np.random.default_rng(0).normal(size=(4000, 1, 3))
        entry = self.entry
        for number in range(12):
            clip = replace(
                entry.clip,
                rotations=np.repeat(entry.clip.rotations[:1], 4000, 0),
                moving=[0],
                translations=big + number,
            )
            state = self.state.with_entry(replace(entry, take=clip, name=f"take {number}"))
            stamp = storage.save(self.path, state, known=stamp)
            sizes.append(self.path.stat().st_size)
            self.assertIn(f"take {number}", self.names(self.path))
        self.assertLess(min(np.diff(sizes)), 0, "it never became smaller again")

    def test_cut_off_while_saving_it_opens_as_before(self):
        storage.save(self.path, self.edited, known=self.stamp)
        whole = self.path.read_bytes()
        for end in np.linspace(len(self.first) + 1, len(whole) - 1, 40).astype(int):
            self.path.write_bytes(whole[:end])
            told = []
            self.assertEqual(
                [e.name for e in storage.load(self.path, told.append).entries], [e.name for e in self.state.entries]
            )
            self.assertIn("cut off", told[0])
        self.path.write_bytes(whole)
        self.assertIn("shorter", self.names(self.path))

    def test_another_file_there_or_one_of_two_names_is_not_written_into(self):
        other, copy = self.folder / "other", self.folder / "copy.marionette"
        storage.save(other, self.edited)
        os.replace(other, self.path)
        storage.save(self.path, self.state, known=self.stamp)
        self.assertEqual(self.names(self.path), [e.name for e in self.state.entries])
        stamp = storage.stamp(self.path)
        before = self.path.read_bytes()
        os.link(self.path, copy)
        storage.save(self.path, self.edited, known=stamp)
        self.assertEqual(copy.read_bytes(), before)
        self.assertIn("shorter", self.names(self.path))

    def test_a_failure_or_a_stop_leaves_every_byte(self):
        def stop():
            raise Cancelled

        with self.assertRaises(Cancelled):
            storage.save(self.path, self.edited, stop, self.stamp)
        self.assertEqual(self.path.read_bytes(), self.first)
        with mock.patch.object(storage, "document_bytes", side_effect=OSError(28, "No space left on device")):
            self.refuses(lambda: storage.save(self.path, self.edited, known=storage.stamp(self.path)), "No space left")
        self.assertEqual(self.path.read_bytes(), self.first)

    def test_while_somebody_else_writes_into_it(self):
        import fcntl

        with open(self.path, "rb") as other:
            fcntl.flock(other, fcntl.LOCK_EX)
            storage.save(self.path, self.edited, known=self.stamp)
        self.assertIn("shorter", self.names(self.path))


class Stringings(Case):
    def setUp(self):
        state = show_state()
        self.by_name = {e.name: e for e in state.entries}
        self.source, self.rig = self.by_name["light_lamp"], self.by_name["Heron"]
        self.pairing = pair(self.source, self.rig)
        self.path = self.folder / "a.stringing"
        stringing.save(self.path, stringing.to_file(self.pairing, self.source, self.rig, "quay to Heron"))

    def test_it_gives_the_same_motion(self):
        again = stringing.from_file(stringing.load(self.path), self.source, self.rig)
        self.assertEqual(again.strings, self.pairing.strings)
        self.close(
            joints_at(bake(again, self.source, self.rig)[0]),
            joints_at(bake(self.pairing, self.source, self.rig)[0]),
            1e-9,
        )

    def test_it_serves_the_family_in_any_dress(self):
        file = stringing.load(self.path)
        for name in ("carry_bucket", "haul_rope", "walk_the_wall"):
            other = self.by_name[name]
            again = stringing.from_file(file, other, self.rig)
            fresh = pair(other, self.rig)
            self.close(
                joints_at(bake(again, other, self.rig)[0]), joints_at(bake(fresh, other, self.rig)[0]), 1e-5, name
            )

    def test_it_is_readable(self):
        tree = json.loads(self.path.read_text())
        self.assertEqual(
            (tree["format"], tree["version"], tree["name"]), ("young-marionette stringing", 4, "quay to Heron")
        )
        self.assertEqual(tree["strings"][0]["part"], "hips")
        self.assertTrue(tree["target"]["joints"][0]["offset"])

    def test_a_member_that_rests_otherwise(self):
        """Same bones, other rest pose: a matched stance is matched anew, one made by hand keeps its shape."""
        clip = self.source.clip
        pose = dressing.rest_pose(clip.skeleton, {"quay:L_Humerus": (0, 0, 1.2), "quay:R_Humerus": (0, 0, -1.2)})
        other = replace(self.source, skeleton=replace(clip.skeleton, rest=pose))
        self.assertEqual(other.family, self.source.family)
        wanted = joints_at(bake(self.pairing, self.source, self.rig)[0])
        for matched in (True, False):
            file = stringing.to_file(replace(self.pairing, matched=matched), self.source, self.rig)
            again = stringing.from_file(file, other, self.rig)
            other.__dict__.pop("placed_clip", None)
            self.close(joints_at(bake(again, other, self.rig)[0]), wanted, 2e-3, f"matched {matched}")

    def test_files_of_the_first_version_are_read(self):
        tree = json.loads(self.path.read_text())
        tree["version"] = 1
        for side in ("source", "target"):
            for joint in tree[side]["joints"]:
                del joint["rest"]
        self.path.write_text(json.dumps(tree))
        again = stringing.from_file(stringing.load(self.path), self.source, self.rig)
        self.close(
            joints_at(bake(again, self.source, self.rig)[0]),
            joints_at(bake(self.pairing, self.source, self.rig)[0]),
            1e-5,
        )

    def test_another_skeleton_is_told_apart(self):
        self.refuses(
            lambda: stringing.from_file(stringing.load(self.path), self.by_name["sweep_quay"], self.rig),
            "another skeleton",
            "source",
        )
        self.refuses(
            lambda: stringing.from_file(stringing.load(self.path), self.source, self.by_name["Gull"]),
            "another skeleton",
            "rig",
        )

    def test_stance_by_hand_is_kept(self):
        turned = replace(
            self.pairing,
            stance=replace(
                self.pairing.stance,
                target=rot.multiply(self.pairing.stance.target, rot.from_vector(np.array([0.1, 0, 0]))),
            ),
            matched=False,
        )
        again = stringing.from_file(stringing.to_file(turned, self.source, self.rig), self.source, self.rig)
        self.same_turn(again.stance.target, turned.stance.target)
        self.assertFalse(again.matched)

    def test_broken_files(self):
        text = self.path.read_text()
        tree = json.loads(text)
        cases = {
            "cut": text[: len(text) // 2],
            "empty": "",
            "list": "[]",
            "deep": "[" * 100_000,
            "newer": json.dumps({**tree, "version": 7}),
            "other": json.dumps({**tree, "format": "x"}),
            "infinite": text.replace('"stride": 1.0', '"stride": Infinity'),
            "zero turn": json.dumps({**tree, "target": {**tree["target"], "pose": {"head": [0, 0, 0, 0]}}}),
            "no bones": json.dumps({**tree, "strings": [{**tree["strings"][0], "source": []}]}),
            "text": text.replace('"certainty": 0.99', '"certainty": "much"'),
        }
        for what, data in cases.items():
            bad = self.folder / "bad.stringing"
            bad.write_text(data)
            with self.subTest(what):
                self.refuses(lambda b=bad: stringing.load(b), "bad.stringing")

    def test_the_schema_in_the_docs_is_current(self):
        schema = Path(__file__).resolve().parents[2] / "docs" / "stringing.schema.json"
        self.assertEqual(json.loads(schema.read_text()), stringing.StringingFile.model_json_schema())

    def test_nothing_is_overwritten(self):
        self.refuses(lambda: stringing.save(self.path, stringing.load(self.path)), "exists already")


class Deliveries(Case):
    def test_results_never_replace_what_they_are_made_from(self):
        state = show_state()
        for path in (state.source_entry.path, state.rig_entry.path):
            self.refuses(
                lambda p=path: onto(state.source_entry, state.rig_entry, state.pairing, p, overwrite=True),
                "read",
            )

    def test_delivered_file_is_the_rigs(self):
        from young_marionette.formats import read

        state = show_state()
        rig = next(e for e in state.entries if e.name == "Gull")
        out = self.folder / "x.bvh"
        onto(state.source_entry, rig, pair(state.source_entry, rig), out)
        file = read(out)
        self.assertEqual(file.skeletons[0].skeleton.names, rig.skeleton.names)
        self.close(file.skeletons[0].skeleton.offsets, rig.skeleton.offsets, 0)
        self.close(file.skeletons[0].clips[0].seconds, state.source_entry.clip.seconds, 1e-9)


class Recoveries(Case):
    def opened(self):
        """A session of recovery that is closed after the test."""
        recovery = Recovery(self.folder)
        self.addCleanup(recovery.close)
        return recovery

    def test_a_living_session_is_not_offered(self):
        first, second = Recovery(self.folder), Recovery(self.folder)
        first.keep(small_state(), None)
        self.assertEqual(second.found(), [])
        first.close()
        self.assertEqual([k.name for k in second.found()], ["Quillmouth"])
        restored = second.restore(second.found()[0])
        self.assertEqual((len(restored.entries), len(restored.bakes)), (3, 1))
        second.discard(second.found()[0])
        self.assertEqual(second.found(), [])
        second.close()

    def test_a_killed_process_leaves_its_work(self):
        code = (
            f"import sys; sys.path.insert(0, {sys.path[0]!r})\nimport os, signal\nfrom tests.project.test_files import small_state\n"
            f"from young_marionette.project.recovery import Recovery\nRecovery({str(self.folder)!r}).keep(small_state(), '/x/y.marionette')\n"
            "os.kill(os.getpid(), signal.SIGKILL)"
        )
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, cwd=".")
        self.assertEqual(done.returncode, -9, done.stderr.decode())
        found = self.opened().found()
        self.assertEqual([(k.name, k.path) for k in found], [("Quillmouth", "/x/y.marionette")])

    def killed_while(self, patch):
        """A process that keeps work and is killed in the middle of it."""
        code = (
            f"import sys; sys.path.insert(0, {sys.path[0]!r})\nimport os, signal\nfrom unittest import mock\n"
            "from tests.project.test_files import small_state\nfrom young_marionette.project import blobs, recovery\n"
            f"r = recovery.Recovery({str(self.folder)!r})\nstate = small_state()\nr.keep(state, '/x/y.marionette')\n"
            "from dataclasses import replace\nstate = replace(state, name='Newer')\n"
            f"def die(*_a, **_k): os.kill(os.getpid(), signal.SIGKILL)\n{patch}\nr.keep(state, None)"
        )
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, cwd=".")
        self.assertEqual(done.returncode, -9, done.stderr.decode())
        recovery = self.opened()
        (kept,) = recovery.found()
        return kept.name, recovery.restore(kept)

    def test_killed_at_any_moment_there_is_always_whole_work_and_it_is_offered(self):
        for patch, name in (
            ("recovery.write_whole = die", "Quillmouth"),
            ("recovery.json.dumps = die", "Quillmouth"),
            ("blobs.FolderBlobs.add = die", "Quillmouth"),
            ("blobs.FolderBlobs.keep_only = die", "Newer"),
        ):
            told, state = self.killed_while(patch)
            self.assertEqual((told, state.name), (name, name), patch)
            self.assertEqual((len(state.entries), len(state.bakes)), (3, 1))
            recovery = self.opened()
            recovery.discard(recovery.found()[0])

    def test_work_that_an_earlier_version_kept_is_offered_also_without_its_note(self):
        old = Path(__file__).resolve().parents[1] / "data/project_version_2.marionette"
        for session, note in (
            ("aaa", '{"name": "Noted", "path": "/x.marionette", "when": 5}'),
            ("bbb", None),
            ("ccc", "{"),
        ):
            (self.folder / f"{session}.marionette").write_bytes(old.read_bytes())
            (self.folder / f"{session}.lock").write_text("")
            if note:
                (self.folder / f"{session}.json").write_text(note)
        recovery = self.opened()
        found = {k.session: k for k in recovery.found()}
        self.assertEqual(set(found), {"aaa", "bbb", "ccc"})
        self.assertEqual((found["aaa"].name, found["aaa"].path), ("Noted", "/x.marionette"))
        for kept in found.values():
            self.assertEqual(len(recovery.restore(kept).bakes), 4)
            recovery.discard(kept)
        self.assertEqual([p for p in self.folder.iterdir() if p.name != recovery.session], [])

    def test_what_dead_sessions_left_that_is_no_work_is_swept(self):
        for name in ("dead.lock", "dead.json", ".young-marionette-x.part"):
            (self.folder / name).write_text("")
        (self.folder / "empty").mkdir()
        (self.folder / "empty/lock").write_text("")
        living = self.opened()
        for path in self.folder.rglob("*"):
            os.utime(path, (0, 0))
        recovery = self.opened()
        left = {p.name for p in self.folder.iterdir()}
        self.assertEqual(left, {living.session, recovery.session})

    def test_a_place_that_can_not_be_written(self):
        (self.folder / "file").write_text("")
        recovery = Recovery(self.folder / "file" / "inner")
        self.addCleanup(recovery.close)
        self.refuses(lambda: recovery.keep(small_state(), None), "can't be written")
        self.assertEqual(recovery.found(), [])

    def test_damaged_work_is_one_sentence(self):
        recovery = self.opened()
        recovery.keep(small_state(), None)
        recovery.close()
        second = self.opened()
        (kept,) = second.found()
        blob = next((kept.file.parent / "blobs").glob("*/rotations.npy"))
        blob.write_bytes(blob.read_bytes()[:-50])
        self.refuses(lambda: second.restore(kept), "damaged")
        kept.file.write_text('{"name": "x", "when": 1, "document": {}}')
        self.refuses(lambda: second.restore(kept), "not a Young Marionette project")

    def test_broken_notes_are_passed_over(self):
        for name, text in (("a.json", "{"), ("b.json", "{}"), ("c.json", '{"name": "x", "when": 1}')):
            (self.folder / name).write_text(text)
        self.assertEqual(self.opened().found(), [])

    def test_cleared_when_saved(self):
        recovery = Recovery(self.folder)
        recovery.keep(small_state(), None)
        recovery.clear()
        recovery.close()
        self.assertEqual(self.opened().found(), [])


class NearlyFitting(Case):
    def test_a_stringing_of_nearly_the_same_skeleton_is_offered_and_adapted(self):
        from young_marionette.project.snags import find_snags

        by_name = {e.name: e for e in show_state().entries}
        document = Document(show_state())
        document.do(do.TieBones("neck", ("quay:Head",), ("neck",)))
        document.do(do.KeepStringing("lamp to Heron"))
        document.do(do.Choose(by_name["climb_ladder"].id))  # two bones more than its family
        snag = next(s for s in find_snags(document.state) if "lamp to Heron" in told(s))
        document.do(snag.mend)
        strings = {s.part: s for s in document.state.pairing.strings}
        self.assertEqual(strings["neck"].source, ("quay:Head",))
        self.assertIn("Adapted from the stringing lamp to Heron", origin_words(document.state.pairing.origin))
        self.assertFalse([s for s in find_snags(document.state) if "lamp to Heron" in told(s)])

    def test_one_that_fits_is_used_by_itself_and_said(self):
        by_name = {e.name: e for e in show_state().entries}
        document = Document(replace(show_state(), pairings={}))
        file = stringing.to_file(show_state().pairing, show_state().source_entry, show_state().rig_entry, "kept")
        document.do(do.UseStringing(file))
        document = Document(replace(document.state, pairings={}, source=None))
        document.do(do.Choose(by_name["haul_rope"].id))
        self.assertIn("The stringing kept was made for these two families", origin_words(document.state.pairing.origin))

    def test_what_is_not_there_is_said(self):
        by_name = {e.name: e for e in show_state().entries}
        lamp, climb, heron = by_name["light_lamp"], by_name["climb_ladder"], by_name["Heron"]
        file = stringing.to_file(pair(climb, heron), climb, heron, "climbing")
        tie = file.strings[0].model_copy(update={"part": "prop", "source": ["quay:Pole"], "target": ["head"]})
        file = file.model_copy(update={"strings": [*file.strings[:2], *file.strings[3:], tie]})
        made = stringing.adapt(file, lamp, heron)
        self.assertIn("not there: prop", origin_words(made.origin))
        self.assertIn("tied anew: ", origin_words(made.origin))
        self.assertEqual(len({s.part for s in made.strings}), 20)
        self.refuses(lambda: stringing.adapt(file, by_name["sweep_quay"], heron), "too little")


class Touches(Case):
    def test_touches_are_saved_and_bounded_to_known_names(self):
        state = show_state()
        pairing = replace(state.pairing, settings=replace(state.pairing.settings, touches=(("head down", 8.0),)))
        file = stringing.to_file(pairing, state.source_entry, state.rig_entry)
        self.assertEqual(
            stringing.from_file(file, state.source_entry, state.rig_entry).settings.touches, (("head down", 8.0),)
        )
        path = self.folder / "t.stringing"
        stringing.save(path, file)
        path.write_text(path.read_text().replace("head down", "tail up"))
        self.refuses(lambda: stringing.load(path), "touches")

    def test_each_touch_does_what_it_says(self):
        from young_marionette.core.matching.touches import touched
        from young_marionette.core.skeleton import pose_world

        pairing = show_state().pairing
        rest = pairing.target.rest
        at = pairing.target.index

        def places(**touches):
            pose = touched(rest, pairing.target, pairing.strings, {k.replace("_", " "): v for k, v in touches.items()})
            return pose_world(pairing.target, pose)[0]

        plain = places()
        self.assertGreater(places(shoulders_up=10)[at["leftUpperArm"], 1], plain[at["leftUpperArm"], 1] + 0.01)
        self.assertGreater(places(shoulders_up=10)[at["rightUpperArm"], 1], plain[at["rightUpperArm"], 1] + 0.01)
        self.assertLess(places(elbows_back=20)[at["rightLowerArm"], 2], plain[at["rightLowerArm"], 2] - 0.02)
        out = places(arms_out=10)
        self.assertTrue(
            out[at["leftHand"], 0] > plain[at["leftHand"], 0] and out[at["rightHand"], 0] < plain[at["rightHand"], 0]
        )
        turn = touched(rest, pairing.target, pairing.strings, {"head down": 20})[at["head"]]
        self.assertLess(rot.rotate(turn, np.array([0, 0, 1.0]))[1], -0.3)
