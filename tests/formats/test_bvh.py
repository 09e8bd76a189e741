"""BVH: what is read, what is written, and what is refused; with a fuzz of the reader."""

import os
import resource
import subprocess
import sys
import time
from dataclasses import replace
from itertools import permutations

import numpy as np

from tests.support import FULL, Case, figure, joints_at, notes_of, show_folder, wild_motion
from young_marionette.core import rotations as rot
from young_marionette.core.errors import InputError
from young_marionette.core.rebase import rebase, rebase_clip
from young_marionette.demo.figures import make_figure
from young_marionette.formats import read, write
from young_marionette.formats.bvh import Layout

SMALL = """HIERARCHY
ROOT hips
{
  OFFSET 0 90 0
  CHANNELS 6 Xposition Yposition Zposition Zrotation Xrotation Yrotation
  JOINT knee
  {
    OFFSET 0 -40 1
    CHANNELS 3 Zrotation Xrotation Yrotation
    End Site
    {
      OFFSET 0 -42 0
    }
  }
}
MOTION
Frames: 2
Frame Time: 0.0333333
0 90 0 10 20 30 1 2 3
1 91 2 11 21 31 -4 5 -6
"""


class Reading(Case):
    def write(self, text, name="a.bvh"):
        """A file with this text or these bytes."""
        path = self.folder / name
        path.write_bytes(text if isinstance(text, bytes) else text.encode())
        return path

    def read(self, text):
        return read(self.write(text))

    def test_small_file_by_hand(self):
        file = self.read(SMALL)
        clip = file.skeletons[0].clips[0]
        self.assertEqual(
            (file.skeletons[0].skeleton.names, clip.frames, clip.rate, clip.name, file.skeletons[0].notes),
            (("hips", "knee"), 2, 30.0, "a", ()),
        )
        self.close(file.skeletons[0].skeleton.tips[1], [0, -42, 0])
        self.close(clip.translations[1, 0], [1, 91, 2])
        want = rot.multiply(
            rot.multiply(
                rot.from_axis_angle(rot.AXES["Z"], np.radians(11.0)),
                rot.from_axis_angle(rot.AXES["X"], np.radians(21.0)),
            ),
            rot.from_axis_angle(rot.AXES["Y"], np.radians(31.0)),
        )
        self.same_turn(clip.rotations[1, 0], want)

        # A point on the knee's bone, by matrices of our own: R(hips) (offset + R(knee) tip) + place.
        def matrix(z, x, y):
            z, x, y = np.radians([z, x, y])
            rz = np.array([[np.cos(z), -np.sin(z), 0], [np.sin(z), np.cos(z), 0], [0, 0, 1]])
            rx = np.array([[1, 0, 0], [0, np.cos(x), -np.sin(x)], [0, np.sin(x), np.cos(x)]])
            ry = np.array([[np.cos(y), 0, np.sin(y)], [0, 1, 0], [-np.sin(y), 0, np.cos(y)]])
            return rz @ rx @ ry

        self.close(joints_at(clip)[1, 1], np.array([1, 91, 2]) + matrix(11, 21, 31) @ [0, -40, 1], 1e-9)

    def test_forms_that_programs_write(self):
        forms = {
            "tabs and CRLF": SMALL.replace("  ", "\t").replace("\n", "\r\n"),
            "no last newline": SMALL.rstrip("\n"),
            "byte order mark": "\ufeff" + SMALL,
            "lower case": SMALL.replace("HIERARCHY", "hierarchy")
            .replace("MOTION", "motion")
            .replace("Frames", "frames"),
            "brace on the line": SMALL.replace("hips\n{", "hips {"),
            "blank lines": SMALL.replace("\n", "\n\n"),
            "trailing blanks": SMALL.replace("\n", "  \n"),
            "no colons": SMALL.replace("Frames:", "Frames").replace("Time:", "Time"),
            "old line ends": SMALL.replace("\n", "\r").replace("\r0 90", "\n0 90").replace("\r1 91", "\n1 91"),
            "exponents": SMALL.replace("0 90 0 10", "0e0 9.0E+1 .0 1e1"),
            "comma in the time": SMALL.replace("0.0333333", "0,0333333"),
        }
        want = joints_at(self.read(SMALL).skeletons[0].clips[0])
        for what, text in forms.items():
            self.close(joints_at(self.read(text).skeletons[0].clips[0]), want, 1e-9, what)

    def test_channels_in_any_order(self):
        clip = wild_motion(figure(), np.random.default_rng(0), 4)
        for order in permutations("XYZ"):
            turns = tuple(f"{a}rotation" for a in order)
            mixed = (turns[0], "Yposition", turns[1], "Xposition", "Zposition", turns[2])
            layout = Layout(clip.skeleton.names, (mixed,) + (turns,) * (len(clip.skeleton) - 1))
            path = self.folder / f"{''.join(order)}.bvh"
            write(path, clip, layout)
            again = read(path)
            self.assertEqual(again.skeletons[0].layout, layout)
            self.close(joints_at(again.skeletons[0].clips[0]), joints_at(clip), 1e-5)

    def test_names_with_blanks_and_twice(self):
        file = self.read(SMALL.replace("ROOT hips", "ROOT the hips").replace("knee", "the hips"))
        self.assertEqual(file.skeletons[0].skeleton.names, ("the hips", "the hips (2)"))
        self.assertIn("more than one", notes_of(file.skeletons[0]))
        self.assertEqual(file.skeletons[0].layout.names, ("the hips", "the hips"))

    def test_positions_on_joints(self):
        text = (
            SMALL.replace("CHANNELS 3 Z", "CHANNELS 6 Xposition Yposition Zposition Z")
            .replace(" 1 2 3\n", " 5 -40 0 1 2 3\n")
            .replace(" -4 5 -6", " 6 -41 0 -4 5 -6")
        )
        clip = self.read(text).skeletons[0].clips[0]
        self.close(clip.translations[:, 1], [[5, -40, 0], [6, -41, 0]])
        near_zero = SMALL.replace("CHANNELS 3 Z", "CHANNELS 6 Xposition Yposition Zposition Z").replace(
            "0 90 0 10 20 30 1 2 3\n1 91 2 11 21 31 -4 5 -6", "\n".join(["0 90 0 0 0 0 0 0 0 0 0 0"] * 3)
        )
        file = self.read(near_zero)
        self.close(file.skeletons[0].clips[0].translations[0, 1], [0, -40, 1])
        self.assertIn("added to its offset", notes_of(file.skeletons[0]))

    def test_rates(self):
        for time_, rate in (
            ("0.0333333", 30),
            ("0.033333", 30),
            ("0.008333", 120),
            ("0.0416667", 24),
            ("0.041708", 24000 / 1001),
            ("0.01", 100),
            ("0.04", 25),
            ("0.5", 2),
        ):
            self.assertAlmostEqual(self.read(SMALL.replace("0.0333333", time_)).skeletons[0].clips[0].rate, rate, 9)
        self.assertAlmostEqual(self.read(SMALL.replace("0.0333333", "0.0271")).skeletons[0].clips[0].rate, 1 / 0.0271)

    def test_fewer_and_more_rows_than_announced(self):
        for announced in (1, 7, 0):
            file = self.read(SMALL.replace("Frames: 2", f"Frames: {announced}"))
            self.assertEqual(file.skeletons[0].clips[0].frames, 2)
            self.assertIn(f"announces {announced} frames and holds 2", notes_of(file.skeletons[0]))

    def test_cut_in_the_motion(self):
        file = self.read(SMALL[:-12])
        self.assertEqual(file.skeletons[0].clips[0].frames, 1)
        self.assertIn("holds 1 whole", notes_of(file.skeletons[0]))

    def test_skeleton_alone(self):
        file = self.read(SMALL[: SMALL.index("MOTION")])
        self.assertEqual((file.skeletons[0].clips, len(file.skeletons[0].skeleton)), ((), 2))

    def test_two_end_sites_and_named_ones(self):
        file = self.read(SMALL.replace("End Site\n", "End Site heel tip\n"))
        self.close(file.skeletons[0].skeleton.tips[1], [0, -42, 0])


class Refusals(Case):
    def refused(self, text, *words):
        path = self.folder / "bad.bvh"
        path.write_bytes(text if isinstance(text, bytes) else text.encode())
        return self.refuses(lambda: read(path), "bad.bvh", *words)

    def test_each_has_its_sentence(self):
        for text, word in (
            ("", "empty"),
            (" \n\t\n", "blanks"),
            ("hello", "not supported"),
            (b"\x00\x01\x02", "binary"),
            (b"HIERARCHY\n" + b"\x00" * 50, "binary"),
            ("HIERARCHY\n", "no joints"),
            ("HIERARCHY ROOT", "brace"),
            (SMALL.replace("OFFSET 0 90 0", "OFFSET 0 x 0"), "line 4"),
            (SMALL.replace("OFFSET 0 90 0", "OFFSET 0 nan 0"), "usable"),
            (SMALL.replace("OFFSET 0 90 0", ""), "OFFSET"),
            (SMALL.replace("CHANNELS 3 Z", "CHANNELS 4 Z"), "channel"),
            (SMALL.replace("CHANNELS 3", "CHANNELS many"), "count"),
            (SMALL.replace("CHANNELS 3 Zrotation", "CHANNELS 3 Xrotation"), "twice"),
            (SMALL.replace("Zrotation X", "Wrotation X"), "not a channel"),
            (SMALL.replace("Frames: 2", "Frames: two"), "Frames"),
            (SMALL.replace("Frames: 2", "Frames: -2"), "frame count"),
            (SMALL.replace("0.0333333", "0"), "Frame Time"),
            (SMALL.replace("0.0333333", "nan"), "Frame Time"),
            (SMALL.replace("0.0333333", "-1"), "Frame Time"),
            (SMALL.replace("Frames: 2\n", ""), "missing"),
            (SMALL.replace("21 31", "21 abc"), "row 2"),
            (SMALL.replace("21 31", "21 nan"), "no pose"),
            (SMALL.replace("21 31", "21 inf"), "no pose"),
            (SMALL.replace("21 31", "21 1e300"), "no pose"),
            (SMALL[: SMALL.index("0 90 0 10")], "no whole frame"),
            (SMALL.replace("MOTION", "}\nMOTION"), "closes nothing"),
            (SMALL.replace("JOINT knee", "ROOT knee"), "more than one skeleton"),
            (
                SMALL.replace(
                    "CHANNELS 6 Xposition Yposition Zposition Zrotation Xrotation Yrotation", "CHANNELS 0"
                ).replace("CHANNELS 3 Zrotation Xrotation Yrotation", "CHANNELS 0"),
                "no joint has channels",
            ),
            (SMALL.replace("Frames: 2", "Frames: 1").rstrip("\n") + " 5\n", "fill rows"),
        ):
            self.refused(text, word)

    def test_no_file_folder_and_permission(self):
        self.refuses(lambda: read(self.folder / "none.bvh"), "no file")
        self.refuses(lambda: read(self.folder), "folder")
        self.refuses(lambda: read("/dev/null"), "plain file")
        path = self.folder / "locked.bvh"
        path.write_text(SMALL)
        path.chmod(0)
        # Root may read anything; the sentence can only be seen by others.
        if os.geteuid() != 0:
            self.refuses(lambda: read(path), "permission")
        else:
            code = f"import os,sys; os.setuid(65534); sys.path.insert(0, {str(os.getcwd())!r})\nfrom young_marionette.formats import read\ntry: read({str(path)!r})\nexcept Exception as e: print(type(e).__name__, e)"
            self.folder.chmod(0o755)
            told = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True).stdout
            if told:  # where others may not even reach the interpreter's packages, there is nothing to see
                self.assertIn("permission", told)

    def test_two_gigabytes_of_blanks(self):
        path = self.folder / "blank.bvh"
        with open(path, "wb") as file:
            file.write(b" " * (1 << 20))
            file.truncate(2 << 30)  # sparse: what follows the blanks reads as zeros
        start = time.perf_counter()
        self.refuses(lambda: read(path), "blanks")
        self.assertLess(time.perf_counter() - start, 5)

    def test_memory_stays_in_proportion(self):
        """A file that announces much and holds little takes little."""
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        self.assertEqual(_frames(self, SMALL.replace("Frames: 2", "Frames: 999999999999")), 2)
        self.assertLess(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before, 50_000)

    def test_deep_hierarchies(self):
        deep = "HIERARCHY\nROOT r\n{ OFFSET 0 0 0 CHANNELS 3 Zrotation Xrotation Yrotation\n"
        deep += (
            "".join(f"JOINT j{i}\n{{ OFFSET 0 1 0 CHANNELS 0\n" for i in range(5000))
            + "}" * 5001
            + "\nMOTION\nFrames: 1\nFrame Time: 0.1\n0 0 0\n"
        )
        self.assertEqual(_frames(self, deep), 1)
        self.refused(
            "HIERARCHY\n" + "ROOT a\n{ OFFSET 0 0 0 CHANNELS 0\n" + "JOINT a\n{ OFFSET 0 0 0\n" * 30000, "joints"
        )


def _frames(case, text):
    path = case.folder / "some.bvh"
    path.write_text(text)
    return read(path).skeletons[0].clips[0].frames


class Fuzz(Case):
    def survives(self, data, what):
        """Reading ends with a result or one sentence, never otherwise."""
        path = self.folder / "fuzz.bvh"
        path.write_bytes(data)
        try:
            file = read(path)
        except InputError as error:
            self.assertNotIn("\n", str(error), what)
            return False
        for clip in file.skeletons[0].clips:
            self.assertTrue(np.isfinite(clip.rotations).all() and np.isfinite(clip.translations).all(), what)
        return True

    def test_cut_at_every_byte(self):
        data = SMALL.encode()
        outcomes = [self.survives(data[:n], f"cut at {n}") for n in range(len(data))]
        self.assertFalse(any(outcomes[: SMALL.index("MOTION") - 3]))
        for n in range(SMALL.index("MOTION") + 7, SMALL.index("1 91 2")):
            self.assertFalse(outcomes[n], f"cut at {n}")

    def test_a_show_file_cut_anywhere(self):
        data = (show_folder() / "quay" / "light_lamp.bvh").read_bytes()
        for n in np.random.default_rng(1).integers(0, len(data), 60):
            self.survives(data[:n], f"cut at {n}")

    def test_changed_bytes_and_words(self):
        rng, data = np.random.default_rng(2), SMALL.encode()
        words = [
            b"{",
            b"}",
            b"nan",
            b"-",
            b"1e999",
            b"JOINT",
            b"ROOT",
            b"End Site",
            b"OFFSET",
            b"CHANNELS 7",
            b"MOTION",
            b"\xff\xfe",
            b"\r",
            b"Frames: 1e9",
            b"9" * 400,
            b"0x10",
            b"1_0",
            b"\xd9\xa3",
        ]
        for _trial in range(1500):
            mutant = bytearray(data)
            for _ in range(int(rng.integers(1, 4))):
                at = int(rng.integers(0, len(mutant)))
                if rng.random() < 0.5:
                    mutant[at : at + int(rng.integers(0, 6))] = words[int(rng.integers(0, len(words)))]
                else:
                    mutant[at] = int(rng.integers(1, 256))
            self.survives(bytes(mutant), bytes(mutant))

    def test_shuffled_lines(self):
        rng, lines = np.random.default_rng(3), SMALL.splitlines(keepends=True)
        for _ in range(300):
            self.survives("".join(rng.permutation(lines)).encode(), "shuffled")


class Writing(Case):
    def round_trip(self, clip, metres_per_unit=1.0, layout=None):
        path = self.folder / "out.bvh"
        write(path, clip, layout, overwrite=True, metres_per_unit=metres_per_unit)
        return read(path).skeletons[0]

    def test_tolerances_in_any_unit(self):
        for unit in (0.0001, 0.01, 0.07, 1.0, 100.0):
            rng = np.random.default_rng(4)
            s = make_figure(FULL)
            s = replace(s, offsets=s.offsets / unit, tips=s.tips / unit)
            clip = wild_motion(s, rng, 20)
            clip = replace(clip, translations=clip.translations / unit)
            again = self.round_trip(clip, unit).clips[0]
            self.assertLess(
                np.degrees(rot.angle(rot.multiply(rot.conjugate(clip.rotations), again.rotations))).max(), 0.001
            )
            self.close(joints_at(again) * unit, joints_at(clip) * unit, 1e-5, f"unit {unit}")

    def test_timing(self):
        clip = wild_motion(figure(), np.random.default_rng(5), 50)
        for rate in (23.976, 24000 / 1001, 24, 25, 30, 59.94, 60, 100, 119.88, 120, 240, 17.3):
            again = self.round_trip(replace(clip, rate=rate)).clips[0]
            self.assertLess(abs(again.seconds - clip.seconds * 30 / rate), 1e-6 * clip.seconds * 30)

    def test_skeleton_comes_back_to_the_last_digit(self):
        s = make_figure(FULL)
        again = self.round_trip(wild_motion(s, np.random.default_rng(6), 2)).skeleton
        self.assertEqual(again.names, s.names)
        self.close(again.offsets, s.offsets, 0)
        self.close(again.tips[np.isfinite(again.tips)], s.tips[np.isfinite(s.tips)], 0)
        self.assertTrue((again.parents == s.parents).all())

    def test_moved_joints_get_positions(self):
        s = figure()
        hand = s.index["left hand"]
        moves = np.random.default_rng(7).normal(size=(5, 2, 3))
        clip = replace(wild_motion(s, np.random.default_rng(7), 5), moving=np.array([0, hand]), translations=moves)
        file = self.round_trip(clip)
        self.assertEqual(len(file.layout.channels[hand]), 6)
        self.close(joints_at(file.clips[0]), joints_at(clip), 1e-5)

    def test_rest_rotations_are_carried_over(self):
        s = figure()
        skeleton, turns = rebase(s, axes=rot.normalise(np.random.default_rng(8).normal(size=(len(s), 4))))
        clip = wild_motion(s, np.random.default_rng(8), 5)
        self.close(joints_at(self.round_trip(rebase_clip(clip, skeleton, turns)).clips[0]), joints_at(clip), 1e-5)

    def test_angles_do_not_jump(self):
        s = figure()
        t = np.linspace(0, 20, 400)
        turns = np.tile(rot.IDENTITY, (400, len(s), 1))
        turns[:, 0] = rot.from_axis_angle(rot.AXES["Y"], t)
        path = self.folder / "spin.bvh"
        write(path, replace(wild_motion(s, np.random.default_rng(0), 400), rotations=turns))
        rows = np.loadtxt(path.read_text().split("Frame Time")[1].splitlines()[1:])
        self.assertLess(np.abs(np.diff(rows[:, 3:6], axis=0)).max(), 5)

    def test_nothing_is_overwritten(self):
        clip = wild_motion(figure(), np.random.default_rng(9), 2)
        path = self.folder / "keep.bvh"
        path.write_text("mine")
        self.refuses(lambda: write(path, clip), "exists already")
        self.assertEqual(path.read_text(), "mine")
        write(path, clip, overwrite=True)
        self.assertIn("HIERARCHY", path.read_text())

    def test_places_that_can_not_be_written(self):
        clip = wild_motion(figure(), np.random.default_rng(9), 2)
        self.refuses(lambda: write(self.folder / "no" / "x.bvh", clip), "no folder")
        self.refuses(lambda: write(self.folder / "x.abc", clip), "ending")
        self.refuses(lambda: write(self.folder, clip), "ending")

    def test_a_failed_write_leaves_the_old_file_and_no_rest(self):
        from young_marionette.formats.files import write_whole

        path = self.folder / "old.bvh"
        path.write_text("old")

        def chunks():
            yield b"half"
            raise RuntimeError("power cut")

        with self.assertRaises(RuntimeError):
            write_whole(path, chunks())
        self.assertEqual([p.name for p in self.folder.iterdir()], ["old.bvh"])
        self.assertEqual(path.read_text(), "old")

    def test_links_stay_links(self):
        real, link = self.folder / "real.bvh", self.folder / "link.bvh"
        real.write_text("old")
        link.symlink_to(real)
        write(link, wild_motion(figure(), np.random.default_rng(9), 2), overwrite=True)
        self.assertTrue(link.is_symlink())
        self.assertIn("HIERARCHY", real.read_text())
