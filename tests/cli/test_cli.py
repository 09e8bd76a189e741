"""The command line as a user meets it: what it prints, what it writes, and its exit codes."""

import contextlib
import io
import json
import os
import re
import subprocess
import sys
from pathlib import Path

import numpy as np

from tests.formats.independent import Gltf, gltf_complaints
from tests.support import Case, joints_at, show_folder
from young_marionette.cli.main import main
from young_marionette.core import rotations as rot
from young_marionette.formats import read


def run(*words):
    """``(exit code, what was printed, what was complained)`` of a command line."""
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        code = main([str(w) for w in words])
    return code, out.getvalue(), err.getvalue()


class Line(Case):
    """The command line on the show's files."""

    def setUp(self):
        self.show = show_folder()
        self.lamp, self.heron, self.gull = (
            self.show / "quay/light_lamp.bvh",
            self.show / "puppets/Heron.bvh",
            self.show / "puppets/Gull.bvh",
        )
        self.out = self.folder / "out.bvh"

    def ok(self, *words):
        code, out, err = run(*words)
        self.assertEqual((code, err), (0, ""))
        return out

    def refused(self, *words, says=""):
        """Exit code 2 and one sentence."""
        code, out, err = run(*words)
        self.assertEqual((code, out), (2, ""), err)
        self.assertEqual(err.count("\n"), 1, err)
        self.assertNotIn("Traceback", err)
        self.assertTrue(err.strip().endswith((".", "!", "?")), err)
        self.assertIn(says, err)
        return err

    def retarget(self, *words):
        return self.ok("retarget", self.lamp, self.heron, "--out", self.out, *words)


class Commands(Line):
    def test_info(self):
        told = json.loads(self.ok("info", self.show / "loft/ring_bell.bvh", "--json"))
        self.assertEqual(
            (told["format"], told["rate"], told["frames"], told["unit"], told["up"], told["facing"], told["rest_pose"]),
            ("BVH", 24.0, 169, "metre", "+Z", "-Y", "T-pose"),
        )
        self.assertEqual((told["skeleton"]["joints"], len(told["skeleton"]["bones"]), told["seconds"]), (56, 56, 7.0))
        self.assertTrue(any("hover" in o for o in told["oddities"]))
        text = self.ok("info", self.lamp)
        for words in ("centimetre", "arms hanging", "8.00 s", "quay:Pelvis", "heel behind"):
            self.assertIn(words, text)

    def test_retarget_by_itself(self):
        text = self.retarget()
        for words in ("left forearm", "quay:L_Radius", "leftLowerArm", "99%", "Wrote"):
            self.assertIn(words, text)
        (rig,), (out,) = read(self.heron).skeletons, read(self.out).skeletons
        self.assertEqual((out.skeleton.names, out.clips[0].frames, out.clips[0].rate), (rig.skeleton.names, 241, 30.0))
        self.close(out.skeleton.offsets, rig.skeleton.offsets, 0)

    def test_json(self):
        told = json.loads(self.retarget("--json"))
        self.assertEqual((told["frames"], told["rate"], told["missing"], len(told["strings"])), (241, 30.0, [], 20))
        self.assertTrue(all(s["sure"] and s["reason"] for s in told["strings"]))
        self.assertEqual(told["untied"], {"source": [], "rig": []})
        self.assertLess(max(limb["degrees_left"] for limb in told["stance"]), 0.01)

    def test_untied_bones_are_named(self):
        text = self.ok("retarget", self.show / "quay/climb_ladder.bvh", self.gull, "--out", self.out)
        self.assertIn("quay:Lantern", text)
        self.assertIn("l_carpometacarpal_1", text)
        self.assertIn("humanoid_root of Gull stays on the floor", text)

    def test_limbs_point_as_the_sources(self):
        """Read back from the files, forearms and shins point alike in the world."""
        self.retarget("--no-pin")
        source, out = read(self.lamp).skeletons[0].clips[0], read(self.out).skeletons[0].clips[0]
        a, b = joints_at(source), joints_at(out)
        for here, there in (
            (("quay:L_Radius", "quay:L_Hand"), ("leftLowerArm", "leftHand")),
            (("quay:R_Tibia", "quay:R_Foot"), ("rightLowerLeg", "rightFoot")),
        ):
            (i, j), (k, m) = [source.skeleton.index[n] for n in here], [out.skeleton.index[n] for n in there]
            self.assertLess(np.degrees(rot.angle_between(a[:, j] - a[:, i], b[:, m] - b[:, k])).max(), 0.01)

    def test_feet_are_planted_where_proportions_differ(self):
        out = self.folder / "walk.bvh"
        walk = [self.show / "quay/walk_the_wall.bvh", self.show / "puppets/Puffin.bvh", "--out", out, "--overwrite"]
        for words, planted in (((), True), (("--no-pin",), False), (("--pin", "--in-place"), True)):
            told = json.loads(self.ok("retarget", *walk, *words, "--json"))
            self.assertEqual(told["planted"], planted)
            for point in ("left heel", "left toe", "right heel", "right toe"):
                slide = told["deviation"]["slide_mm"][point]
                self.assertGreater(slide["before"], 1.5)
                if planted:
                    self.assertLess(slide["after"], 0.01)
                else:
                    self.assertEqual(slide["after"], slide["before"])
            self.assertEqual(told["deviation"]["hips_lowered_mm"] > 1, planted)
        self.assertIn("Feet planted: they slid up to", self.ok("retarget", *walk))
        self.assertIn("Feet free", self.ok("retarget", *walk, "--no-pin"))
        same = [self.show / "quay/walk_the_wall.bvh", self.show / "quay/carry_bucket.bvh", "--out", out, "--overwrite"]
        self.assertFalse(json.loads(self.ok("retarget", *same, "--json"))["planted"])
        self.refused("retarget", *walk, "--pin", "--no-pin", says="not allowed with")

    def test_filter(self):
        source = self.show / "quay/wave_to_ship.bvh"
        words = ["filter", source, "--out", self.out]
        told = json.loads(self.ok(*words, "--spikes", "--low-pass", "auto", "--json"))
        self.assertGreater(sum(map(len, told["spikes"].values())), 8)
        self.assertGreater(len(told["cutoffs_hz"]), 10)
        self.assertGreater(told["slide_mm"]["before"], 20)
        self.assertLess(told["slide_mm"]["after"], 1)
        clip, before = (read(path).skeletons[0].clips[0] for path in (self.out, source))
        self.assertEqual(
            (clip.frames, clip.rate, clip.skeleton.names), (before.frames, before.rate, before.skeleton.names)
        )
        step = [np.abs(np.diff(c.rotations, 2, axis=0)).max() for c in (clip, before)]
        self.assertLess(step[0], 0.5 * step[1])
        told = json.loads(self.ok(*words, "--overwrite", "--low-pass", 6, "--joints", "*hand", "--range", "10:60",
                                  "--no-keep-contacts", "--json"))  # fmt: skip
        self.assertEqual(set(told["cutoffs_hz"]), {"quay:L_Hand", "quay:R_Hand"})
        self.assertEqual((told["spikes"], set(told["cutoffs_hz"].values())), ({}, {6.0}))
        text = self.ok(*words, "--overwrite", "--spikes", "--channels", "rotation")
        self.assertRegex(text, r"wave_to_ship: \d+ spikes in \d+ channels")
        usual = json.loads(self.ok(*words, "--overwrite", "--json"))
        self.assertGreater(sum(map(len, usual["spikes"].values())), 8)
        self.assertGreater(len(usual["cutoffs_hz"]), 10)
        for more, says in (
            (("--low-pass", "soon"), "'soon' is no cut-off"),
            (("--low-pass", "-3"), "no cut-off"),
            (("--spikes", "--joints", "tail*"), "No joint of wave_to_ship"),
            (("--spikes", "--channels", "smell"), "'smell' is no kind of channel"),
            (("--spikes", "--range", "5:9999"), "does not lie in"),
            (("--spikes",), "exists already"),
        ):
            force = () if says == "exists already" else ("--overwrite",)
            self.refused(*words, *force, *more, says=says)

    def test_thin(self):
        """The promise holds in the file, as somebody else's code and the letter of the standard tell."""
        source = self.show / "quay/carry_bucket.bvh"
        dense, out = self.folder / "dense.glb", self.folder / "thin.glb"
        self.ok("convert", source, dense)
        told = json.loads(self.ok("thin", source, "--out", out, "--within", 2, "--json"))
        self.assertEqual(told["frames"], sorted(told["frames"]))
        self.assertEqual((told["poses"]["after"], len(told["frames"])), (len(told["frames"]), told["poses"]["after"]))
        self.assertGreater(told["gone"], 0.85)
        self.assertLessEqual(told["deviation_cm"]["largest"], 2)
        self.assertLessEqual(told["contacts_cm"]["largest"], 0.3)
        one, other = Gltf(dense), Gltf(out)
        self.assertIn("CUBICSPLINE", {way for way, _ in other.samplers})
        times = max((t for _, t in one.samplers), key=len)
        self.assertLess(sum(len(t) for _, t in other.samplers), 0.15 * sum(len(t) for _, t in one.samplers))
        worst = 0.0
        for second in times[::5]:
            a, b = one.world(second), other.world(second)
            worst = max(worst, *(np.linalg.norm(a[n][:3, 3] - b[n][:3, 3]) for n in a))
        self.assertLessEqual(worst, 0.02)
        self.assertGreater(worst, 0.002)
        again = read(out).skeletons[0].clips[0]
        self.assertEqual((again.keys, again.rate), (told["poses"]["after"], told["rate"]))
        self.assertIn(gltf_complaints(out), (None, []))
        text = self.ok("thin", source, "--out", self.out, "--stage", "contacts")
        self.assertIn("holds no curves", text)
        self.assertIn("no tolerance is kept", text)
        self.assertEqual(read(self.out).skeletons[0].clips[0].frames, told["poses"]["before"])
        part = json.loads(
            self.ok("thin", source, "--out", out, "--overwrite", "--range", "20:80", "--stage", "keys", "--json")
        )
        self.assertLessEqual(set(range(21)), set(part["frames"]))
        for more, says in (
            (("--within", 0), "--within has to be above zero"),
            (("--stage", "poses"), "'poses' is no stage"),
            (("--range", "5:9999"), "does not lie in"),
            ((), "exists already"),
        ):
            self.refused("thin", source, "--out", out, *(("--overwrite",) if more else ()), *more, says=says)

    def test_rate_and_range(self):
        self.retarget("--fps", 60, "--range", "30:90")
        clip = read(self.out).skeletons[0].clips[0]
        self.assertEqual((clip.frames, clip.rate), (121, 60.0))

    def test_in_place(self):
        self.ok("retarget", self.show / "quay/carry_bucket.bvh", self.heron, "--out", self.out, "--in-place")
        places = joints_at(read(self.out).skeletons[0].clips[0])[:, 0]
        self.close(np.ptp(places[:, [0, 2]], axis=0), 0, 1e-5)
        self.assertGreater(np.ptp(places[:, 1]), 0.01)

    def test_stringing_saved_and_used(self):
        saved = self.folder / "quay to Heron.stringing"
        self.retarget("--save-stringing", saved)
        tree = json.loads(saved.read_text())
        tree["strings"] = [s for s in tree["strings"] if s["part"] != "neck"]
        saved.write_text(json.dumps(tree))
        told = json.loads(self.retarget("--stringing", saved, "--overwrite", "--json"))
        self.assertEqual(told["untied"], {"source": ["quay:Neck"], "rig": ["neck"]})
        self.refused(
            "retarget",
            self.show / "loft/ring_bell.bvh",
            self.heron,
            "--out",
            self.folder / "b.bvh",
            "--stringing",
            saved,
            says="another skeleton",
        )

    def test_nothing_is_overwritten(self):
        self.retarget()
        before = self.out.read_bytes()
        self.refused("retarget", self.lamp, self.gull, "--out", self.out, says="exists already")
        self.assertEqual(self.out.read_bytes(), before)
        saved = self.folder / "s.stringing"
        saved.write_text("mine")
        self.refused(
            "retarget",
            self.lamp,
            self.gull,
            "--out",
            self.folder / "new.bvh",
            "--save-stringing",
            saved,
            says="exists already",
        )
        self.assertFalse((self.folder / "new.bvh").exists())
        copy = self.folder / "rig.bvh"
        copy.write_bytes(self.gull.read_bytes())
        self.refused("retarget", self.lamp, copy, "--out", copy, "--overwrite", says="one of the files that are read")

    def test_no_command_replaces_what_it_reads_or_writes_two_results_to_one_place(self):
        lamp, rig, saved = self.folder / "lamp.bvh", self.folder / "rig.bvh", self.folder / "s.stringing"
        lamp.write_bytes(self.lamp.read_bytes())
        rig.write_bytes(self.heron.read_bytes())
        self.ok("match", lamp, rig, "--out", saved)
        inner = self.folder / "inner"
        inner.mkdir()
        before = {p: p.read_bytes() for p in (lamp, rig, saved)}
        out, link = self.folder / "out.bvh", self.folder / "link.bvh"
        link.symlink_to(lamp)
        base = ("retarget", lamp, rig, "--overwrite")
        for words in (
            (*base, "--out", lamp),
            (*base, "--out", rig),
            (*base, "--out", link),
            (*base, "--out", inner / "../lamp.bvh"),
            (*base, "--out", out, "--save-stringing", lamp),
            (*base, "--out", out, "--save-stringing", rig),
            (*base, "--out", out, "--stringing", saved, "--save-stringing", saved),
            (*base, "--out", saved, "--stringing", saved),
            (*base, "--out", out, "--save-stringing", out),
            (*base, "--out", out, "--save-stringing", inner / "../out.bvh"),
            ("match", lamp, rig, "--out", lamp, "--overwrite"),
            ("match", lamp, rig, "--out", rig, "--overwrite"),
            ("rename", lamp, "--names", "vrm", "--out", lamp, "--overwrite"),
            ("rename", lamp, "--names", rig, "--out", rig, "--overwrite"),
            ("convert", lamp, lamp, "--overwrite"),
            ("convert", lamp, link, "--overwrite"),
        ):
            self.refused(*words)
            self.assertEqual({p: p.read_bytes() for p in before}, before, words)
            self.assertFalse(out.exists(), words)

    def test_when_one_of_two_results_can_not_be_written_neither_is(self):
        folder = self.folder / "a folder.stringing"
        folder.mkdir()
        for saved in (folder, self.folder / "none" / "s.stringing", self.folder / ("n" * 300)):
            self.refused("retarget", self.lamp, self.heron, "--out", self.out, "--save-stringing", saved, "--overwrite")
            self.assertFalse(self.out.exists())

    def test_names_from_files_are_shown_as_they_are_and_send_no_controls(self):
        text = self.heron.read_text()
        for name in ("[/b]", "arm[l]", ":smile:", "\x1b[2Jred", "<b>x</b>", "a\x07b", "[red]x[/red]", "\x9b31m"):
            rig = self.folder / "rig.bvh"
            rig.write_bytes(text.replace("JOINT spine", f"JOINT {name}", 1).encode("latin-1"))
            plain = "".join(c if c.isprintable() else "\ufffd" for c in name)
            for words in (("info", rig), ("match", self.lamp, rig)):
                told = self.ok(*words)
                self.assertIn(plain, told, name)
                self.assertFalse(re.search("[\x00-\x09\x0b-\x1f\x7f-\x9f]", told), name)
            told = self.ok("info", rig, "--json")
            self.assertIn(name, json.loads(told)["skeleton"]["bones"][1]["name"], "data for programs stay as they are")
            self.assertFalse(re.search("[\x00-\x09\x0b-\x1f\x7f-\x9f]", told), name)

    def test_any_file_name(self):
        for name in (os.fsdecode(b"h\xe4ngend"), "[/b]", "a\nb", "\x1b[2J", "ü" * 120):
            path = self.folder / (name.replace("/", "") + ".bvh")
            path.write_bytes(self.lamp.read_bytes())
            told = self.ok("info", path)
            self.assertFalse(re.search("[\x00-\x09\x0b-\x1f\x7f-\x9f\ud800-\udfff]", told), name)
            json.loads(self.ok("info", path, "--json")).get("file").encode("utf-8", "surrogatepass")
            self.ok("retarget", path, self.heron, "--out", self.out, "--overwrite", "--range", "0:3")
            self.ok("convert", path, path.with_suffix(".glb"), "--range", "0:3")
            self.refused("info", path.with_suffix(".none"), says="no file")

    def test_a_terminal_that_knows_few_letters(self):
        done = subprocess.run(
            [sys.executable, "-m", "young_marionette.cli.main", "rename", self.lamp, "--names", "vrm", "--out", self.out],
            capture_output=True, env={**os.environ, "PYTHONIOENCODING": "ascii"}, cwd=Path(__file__).parents[2],
        )  # fmt: skip
        self.assertEqual((done.returncode, done.stderr), (0, b""))
        self.assertIn(rb"\u2192", done.stdout)

    def test_a_rig_without_must_haves_is_refused(self):
        text = self.heron.read_text()
        text = re.sub(r"\bleftUpperArm\b", "leftUpperArm", text)
        tree = text[: text.index("MOTION")]
        # The left leg ends at the knee: no foot to be found there.
        cut = re.sub(r"\t+JOINT leftLowerLeg\n(\t+)\{.*?\n\1\}\n", "", tree, flags=re.S)
        self.assertNotEqual(cut, tree)
        rig = self.folder / "rig.bvh"
        rig.write_text(cut)
        self.refused("retarget", self.lamp, rig, "--out", self.out)
        self.assertFalse(self.out.exists())

    def test_bad_usage(self):
        for words, says in (
            ((), None),
            (("info",), "FILE"),
            (("polish",), "'polish'"),
            (("info", "--js", self.lamp), "--js"),
            (("info", self.lamp, self.lamp), "light_lamp"),
            (("convert", self.lamp, self.out, "--with-body", "--without-body"), "--with-body"),
            (("retarget", self.lamp, self.heron), "out"),
            (("info", self.lamp, "--what"), "what"),
            (("retarget", self.lamp, self.heron, "--out", self.out, "--fps", "fast"), "--fps"),
            (("info", self.folder / "none.bvh"), "no file"),
            (("retarget", self.lamp, self.heron, "--out", self.out, "--range", "9"), "range"),
            (("retarget", self.lamp, self.heron, "--out", self.out, "--range", "50:10"), "range"),
            (("retarget", self.lamp, self.heron, "--out", self.out, "--range", "0:9999"), "range"),
            (("retarget", self.lamp, self.heron, "--out", self.out, "--fps", "0"), "rate"),
            (("retarget", self.lamp, self.heron, "--out", self.folder / "x.xyz"), "ending"),
            (("retarget", self.lamp, self.heron, "--out", self.folder / "no/x.bvh"), "no folder"),
            (("retarget", self.lamp, self.heron, "--out", self.out, "--stringing", self.lamp), "stringing"),
            (("retarget", self.folder, self.heron, "--out", self.out), "folder"),
        ):
            if says is None:
                self.assertIn("usage", self.ok(*words))
            else:
                self.refused(*words, says=says)
        self.assertFalse(self.out.exists())

    def test_a_skeleton_is_no_source(self):
        still = self.folder / "still.bvh"
        still.write_text(self.heron.read_text().split("MOTION")[0])
        self.refused("retarget", still, self.heron, "--out", self.out, says="without motion")
        self.ok("retarget", self.lamp, still, "--out", self.out)

    def test_a_defect_of_ours_is_told_as_one(self):
        from young_marionette.project import opening

        real = opening.read
        opening.read = lambda path: 1 / 0
        try:
            code, _, err = run("info", self.lamp)
        finally:
            opening.read = real
        self.assertEqual(code, 1)
        self.assertIn("Internal error: ZeroDivisionError", err)

    def test_contacts(self):
        told = json.loads(self.ok("contacts", self.show / "quay/climb_ladder.bvh", "--json"))
        self.assertEqual((told["frames"], told["rate"]), (241, 30.0))
        held = [c for c in told["contacts"] if c["point"] == "left heel" and c["held"]]
        self.close([c["height"] for c in held], [0.28, 0.84, 1.4], 0.02)
        self.assertEqual(next(c["first"] for c in told["contacts"] if c["point"] == "left heel"), 0)
        told = json.loads(self.ok("contacts", self.show / "loft/row_boat.bvh", "--json"))
        self.assertEqual(told["touches"], [{"hand": "both", "on": "hands", "first": 0, "last": told["frames"] - 1}])
        text = self.ok("contacts", self.show / "loft/row_boat.bvh")
        self.assertRegex(text, r"both hands +frames 0 to \d+: on each other or on one thing")
        text = self.ok("contacts", self.show / "loft/sweep_quay.bvh")
        self.assertRegex(text, r"left toe +frames 0 to \d+: on the floor, slides \d\d+ mm")
        self.assertIn("seat", self.ok("contacts", self.show / "loft/row_boat.bvh"))

    def test_every_command_tells_what_it_takes(self):
        for command in ("info", "contacts", "retarget", "match", "rename", "convert", "demo"):
            self.assertIn(f"usage: young-marionette {command}", self.ok(command, "--help"))
            self.assertIn(command, self.ok("--help"))

    def test_version(self):
        self.assertRegex(self.ok("--version"), r"Young Marionette \d")

    def test_as_a_process(self):
        done = subprocess.run(
            [sys.executable, "-m", "young_marionette.cli.main", "info", "nowhere.bvh"],
            capture_output=True,
            text=True,
            cwd=Path(__file__).resolve().parent.parent.parent,
        )
        self.assertEqual((done.returncode, done.stdout, done.stderr), (2, "", "There is no file nowhere.bvh.\n"))


class Manual(Line):
    def test_the_manual_in_the_docs_is_current(self):
        place = Path(__file__).parents[2] / "docs"
        code = "import sys; sys.path.insert(0, sys.argv[1]); from make_manual import manual; print(manual(), end='')"
        done = subprocess.run([sys.executable, "-c", code, place], capture_output=True, text=True, check=True)
        self.assertEqual((place / "young-marionette.1").read_text(), done.stdout, "make it with docs/make_manual.py")
        for words in ("young\\-marionette batch", "\\-\\-dry\\-run", "CLIPS_OR_FOLDERS"):
            self.assertIn(words, done.stdout)

    def test_shells_complete(self):
        done = subprocess.run(["bash", "-n"], input=self.ok("completion", "bash"), capture_output=True, text=True)
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        self.assertIn("--in-place", self.ok("completion", "zsh"))
        self.refused("completion", "fish", says="fish")


class Demo(Case):
    def test_the_full_example(self):
        folder = self.folder / "show"
        code, out, err = run("demo", "--out", folder)
        self.assertEqual((code, err), (0, ""))
        for words in (
            "light_lamp on Heron.bvh",
            "carry_bucket on Puffin.bvh",
            "sweep_quay on Gull.bvh",
            "Quillmouth.marionette",
            "quay to Heron.stringing",
            "light_lamp on Heron thinned.glb",
            "theatre.recipe",
            "delivery.html",
        ):
            self.assertIn(words, out)
            self.assertTrue((folder / words).exists())
        self.assertRegex(out, r"thinned within 1 cm in [\d.]+ s: 241 frames became \d\d poses")
        self.assertIn("33 clips delivered onto 3 puppets", out)
        self.assertEqual(len(list((folder / "delivery").glob("*.glb"))), 33)

    def test_a_folder_that_can_not_be_made(self):
        blocked = self.folder / "file"
        blocked.write_text("x")
        code, _, err = run("demo", "--out", blocked / "show")
        self.assertEqual((code, err.count("\n")), (2, 1))


class Matching(Line):
    """``match`` and ``rename``."""

    def test_match(self):
        saved = self.folder / "m.stringing"
        told = json.loads(self.ok("match", self.lamp, self.heron, "--out", saved, "--json"))
        self.assertEqual((len(told["strings"]), told["missing"]), (20, []))
        self.ok("retarget", self.lamp, self.heron, "--out", self.out, "--stringing", saved)
        self.refused("match", self.lamp, self.heron, "--out", saved, says="exists already")
        self.assertIn("left forearm", self.ok("match", self.heron, self.gull))

    def test_rename_there_and_back(self):
        there, back = self.folder / "there.bvh", self.folder / "back.bvh"
        told = json.loads(self.ok("rename", self.lamp, "--names", "vrm", "--out", there, "--json"))
        self.assertEqual(told["renamed"]["quay:L_Radius"], "leftLowerArm")
        self.ok("rename", there, "--names", self.lamp, "--out", back)
        (first,), (last,) = read(self.lamp).skeletons, read(back).skeletons
        self.assertEqual(first.skeleton.names, last.skeleton.names)
        self.close(joints_at(first.clips[0]), joints_at(last.clips[0]), 1e-3)
        self.close(joints_at(first.clips[0]), joints_at(read(there).skeletons[0].clips[0]), 1e-3)
        self.refused(
            "rename",
            self.lamp,
            "--names",
            "sailors",
            "--out",
            self.folder / "z.bvh",
            says="neither a known naming convention",
        )
        self.refused("rename", self.lamp, "--names", "vrm", "--out", self.lamp, "--overwrite", says="one of the files")


class Converting(Line):
    """``convert``, and other formats on either side of the other commands."""

    def test_there_and_back(self):
        there, back = self.folder / "a.usdz", self.folder / "back.glb"
        self.ok("convert", self.lamp, there, "--fps", "24", "--range", "30:90")
        self.assertIn("Wrote", self.ok("convert", there, back))
        told = json.loads(self.ok("info", back, "--json"))
        self.assertEqual((told["frames"], told["rate"], told["format"]), (49, 24.0, "GLB"))
        self.assertEqual(told["skeleton"]["root"], read(self.lamp).skeletons[0].skeleton.names[0])

    def test_unit_and_axis(self):
        out = self.folder / "a.usda"
        self.ok("convert", self.lamp, out, "--unit", "cm", "--up", "z")
        told = json.loads(self.ok("info", out, "--json"))
        self.assertEqual((told["unit"], told["up"]), ("centimetre", "+Z"))
        self.assertIn("metersPerUnit = 0.01", out.read_text())

    def test_bodies(self):
        heron = self.show / "puppets/bodies/Heron.vrm"
        told = json.loads(self.ok("info", heron, "--json"))
        self.assertEqual((told["format"], told["body"]["levels"], told["body"]["meshes"]), ("VRM 1.0", [0, 1], 7))
        sizes = {}
        for body in ("--with-body", "--without-body"):
            out = self.folder / f"{body}.glb"
            self.ok("retarget", self.lamp, heron, "--out", out, body, "--range", "0:30")
            sizes[body] = out.stat().st_size
            self.assertEqual(json.loads(self.ok("info", out, "--json"))["body"] is not None, body == "--with-body")
        self.assertLess(5 * sizes["--without-body"], sizes["--with-body"])

    def test_match_on_characters(self):
        gull = self.show / "puppets/bodies/Gull.glb"
        told = json.loads(self.ok("match", self.show / "exchange/quay_takes.glb", gull, "--json"))
        self.assertEqual(told["missing"], [])
        self.assertLess(max(limb["degrees_left"] for limb in told["stance"]), 0.5)

    def test_several_clips(self):
        takes = self.show / "exchange/quay_takes.glb"
        told = json.loads(self.ok("info", takes, "--json"))
        self.assertEqual(
            [(c["frames"] > 2, c["junk"]) for c in told["clips"]], [(True, False), (False, True), (True, False)]
        )
        self.assertIn("reference pose or junk", self.ok("info", takes))
        self.ok("convert", takes, self.out, "--clip", "haul_rope")
        self.assertEqual(read(self.out).skeletons[0].clips[0].frames, told["clips"][2]["frames"])
        self.refused("convert", takes, self.folder / "x.bvh", "--clip", "row_boat", says="no clip row_boat")
        self.refused("convert", takes, self.folder / "x.bvh", "--skeleton", "mast", says="no skeleton mast")

    def test_refusals(self):
        for arguments, says in (
            ((self.lamp, self.folder / "a.glb", "--unit", "cm"), "metres with Y up"),
            ((self.lamp, self.folder / "a.glb", "--unit", "ell"), "not a known unit"),
            ((self.lamp, self.folder / "a.usda", "--up", "X"), "up"),
            ((self.lamp, self.folder / "a.glb", "--with-body"), "no body"),
            ((self.lamp, self.folder / "a.bvh", "--with-body"), "motion alone"),
            ((self.lamp, self.folder / "a.png"), "endings"),
            ((self.lamp, self.folder / "a.glb", "--range", "5:900"), "range"),
        ):
            self.refused("convert", *arguments, says=says)
            self.assertFalse(arguments[1].exists())
