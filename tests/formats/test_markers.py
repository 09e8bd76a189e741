"""Marker files: what we write is what we had, by others' readers; many dialects of tables; damaged files get one sentence."""

import random
import struct

import c3d
import ezc3d
import numpy as np

from tests.formats.c3d_by_hand import DEC, INTEL, MIPS, c3d_bytes
from tests.support import Case, show_folder
from young_marionette.core.errors import InputError
from young_marionette.core.markers.recording import Recording
from young_marionette.formats import read
from young_marionette.formats.registry import write_markers

LABELS = ("nell:LASI", "nell:RASI", "nell:C7", "*4")


def small(rng, frames=30, labels=LABELS):
    points = rng.normal(0, 400, (frames, len(labels), 3)) + [0, 0, 900]
    points[5:9, 1] = np.nan
    return Recording("small", labels, points, 120.0, 57)


class Exchange(Case):
    def setUp(self):
        self.recording = small(np.random.default_rng(2))

    def read(self, path):
        return read(path).markers[0].recording

    def same(self, mine, within):
        theirs = self.recording
        self.assertEqual((mine.labels, mine.rate, mine.first), (theirs.labels, theirs.rate, theirs.first))
        self.assertEqual(mine.seen.tolist(), theirs.seen.tolist())
        self.close(np.nan_to_num(mine.points), np.nan_to_num(theirs.points), within)
        self.assertEqual(mine.unlabelled.tolist(), [False, False, False, True])

    def test_there_and_back(self):
        for ending, within in ((".c3d", 1e-3), (".trc", 6e-4)):
            path = self.folder / f"small{ending}"
            write_markers(path, self.recording, "mm", "+Z")
            self.same(self.read(path), within)
            part = read(path).markers[0]
            self.assertEqual(part.declared.unit, 0.001)
            self.refuses(lambda p=path: write_markers(p, self.recording), "exists already")
        self.refuses(lambda: write_markers(self.folder / "small.csv", self.recording), ".c3d or .trc")

    def test_others_read_what_we_write(self):
        path = self.folder / "small.c3d"
        write_markers(path, self.recording, "mm", "+Z")
        file = ezc3d.c3d(str(path))
        self.assertEqual(tuple(file["parameters"]["POINT"]["LABELS"]["value"]), LABELS)
        self.close(np.nan_to_num(file["data"]["points"][:3].T), np.nan_to_num(self.recording.points), 1e-3)
        with open(path, "rb") as handle:
            reader = c3d.Reader(handle)
            self.assertEqual([label.strip() for label in reader.point_labels], list(LABELS))
            self.assertEqual((reader.point_rate, reader.first_frame), (120.0, 58))  # which counts from one
            frames = [points for _, points, _ in reader.read_frames()]
        self.assertEqual(len(frames), self.recording.frames)
        for mine, theirs in zip(self.recording.points, frames):
            seen = np.isfinite(mine).all(-1)
            self.close(theirs[seen, :3], mine[seen], 1e-3)
            self.assertTrue((theirs[~seen, 3] < 0).all())

    def test_integers_and_other_byte_orders(self):
        """Files made byte by byte: integers and reals, of three kinds of machines."""
        labels, points = ["LASI", "RASI", "C7"], np.random.default_rng(4).normal(0, 500, (20, 3, 3))
        frames = [[None if (n, m) == (4, 1) else tuple(p) for m, p in enumerate(of)] for n, of in enumerate(points)]
        wanted = points.copy()
        wanted[4, 1] = np.nan
        for kind in (INTEL, DEC, MIPS):
            for scale, within in ((None, 1e-3), (0.1, 0.051)):
                with self.subTest(kind=kind, scale=scale):
                    path = self.folder / f"machine{kind}.c3d"
                    path.write_bytes(c3d_bytes(labels, frames, 120.0, kind, scale, first=11))
                    part = read(path).markers[0]
                    self.assertEqual((part.recording.labels, part.recording.rate), (tuple(labels), 120.0))
                    self.assertEqual((part.recording.first, part.declared.unit), (10, 0.001))
                    self.assertEqual(part.recording.seen.tolist(), np.isfinite(wanted).all(-1).tolist())
                    self.close(np.nan_to_num(part.recording.points), np.nan_to_num(wanted), within)

    def test_tables_in_many_dialects(self):
        labels, points = ("LASI", "RASI", "C7"), np.random.default_rng(0).normal(size=(20, 3, 3))
        rows = [[f"{v:.6f}" for v in frame.ravel()] for frame in points]

        def table(head, lines, mark=","):
            return head + "".join(mark.join(line) + "\n" for line in lines)

        axes = [f"{label}_{axis}" for label in labels for axis in "XYZ"]
        dialects = {
            "plain": (table(",".join(axes) + "\n", rows), 100.0, None),
            "units": (
                table(
                    "Frame,Time," + ",".join(f"{la} {a} (mm)" for la in labels for a in "XYZ") + "\n",
                    [[str(n), f"{n / 50}", *row] for n, row in enumerate(rows)],
                ),
                50.0,
                0.001,
            ),
            "comma": (
                table(
                    "time;" + ";".join(f"{la}.{a}" for la in labels for a in "xyz") + "\n",
                    [[f"{n / 60:.5f}".replace(".", ","), *(v.replace(".", ",") for v in row)] for n, row in enumerate(rows)],
                    ";",
                ),
                60.0,
                None,
            ),
            "heads": (
                table(
                    "Recorded,rate,120\n,," + ",".join(f"{la},," for la in labels) + "\nFrame,Sub," + ",".join(["X,Y,Z"] * 3) + "\n",
                    [[str(n), "0", *row] for n, row in enumerate(rows)],
                ),
                120.0,
                None,
            ),
        }  # fmt: skip
        for name, (text, rate, unit) in dialects.items():
            with self.subTest(name):
                path = self.folder / f"{name}.csv"
                path.write_text(text)
                file = read(path)
                recording = file.markers[0].recording
                self.assertEqual((file.format, recording.labels, recording.rate), ("CSV", labels, rate))
                self.assertEqual(file.markers[0].declared.unit, unit)
                self.close(recording.points, points, 1e-6)


class Damage(Case):
    def test_cut_and_changed_files(self):
        """Whatever is done to a file: it is read, or one sentence tells why not."""
        rng, sources = random.Random(5), {}
        recording = small(np.random.default_rng(2), 12)
        for ending in (".c3d", ".trc"):
            path = self.folder / f"whole{ending}"
            write_markers(path, recording)
            sources[ending] = path.read_bytes()
        sources[".csv"] = b"LASI_X,LASI_Y,LASI_Z,C7_X,C7_Y,C7_Z\n" + b"1,2,3,4,5,6\n" * 9
        told = 0
        for ending, data in sources.items():
            for n in range(24 if ending == ".c3d" else 60):
                damaged = bytearray(data[: rng.randrange(1, len(data))] if n % 3 == 0 else data)
                if n % 3:
                    for _ in range(rng.randrange(1, 12)):
                        at = rng.randrange(min(len(damaged), 700 if n % 2 else len(damaged)))
                        damaged[at] = rng.randrange(256)
                path = self.folder / f"damaged{ending}"
                path.write_bytes(damaged)
                try:
                    for part in read(path).markers:
                        self.assertTrue(len(part.recording) and np.isfinite(part.recording.points).any())
                except InputError as error:
                    told += 1
                    self.assertRegex(str(error), r"[.!]$")
                    self.assertNotIn("\n", str(error))
        self.assertGreater(told, 20)

    def test_traps(self):
        write_markers(self.folder / "whole.c3d", small(np.random.default_rng(2), 12))
        huge = bytearray((self.folder / "whole.c3d").read_bytes())
        struct.pack_into("<H", huge, 2, 65_000)  # points
        struct.pack_into("<H", huge, 8, 65_000)  # the last frame
        (self.folder / "huge.c3d").write_bytes(huge)
        for name, data in (
            ("nothing.trc", b"PathFileType\t4\t(X/Y/Z)\tx\n"),
            ("names.trc", b"PathFileType\t4\n\n\nFrame#\tTime\n\n\n1\t0\n"),
            ("words.csv", b"x,y,z\nthese,are,words\n"),
            ("long.trc", b"PathFileType\t4\n" + b"1\t" * (3 << 20)),
            ("zeros.c3d", b"\x02\x50" + bytes(1022)),
        ):
            (self.folder / name).write_bytes(data)
            with self.subTest(name):
                self.refuses(lambda n=name: read(self.folder / n))
        try:
            read(self.folder / "huge.c3d")
        except InputError as error:
            self.assertIn("huge.c3d", str(error))

    def test_the_show_has_what_was_asked(self):
        walk, lamp = (
            read(show_folder() / "markers" / name).markers[0] for name in ("walk_the_wall.c3d", "light_lamp.trc")
        )
        self.assertEqual((len(walk.recording), len(lamp.recording)), (41, 55))  # two of each are strays
        self.assertEqual((walk.recording.rate, walk.declared.unit, walk.declared.up), (100.0, 0.001, "+Z"))
        self.assertEqual(int(walk.recording.unlabelled.sum()), 2)
        self.assertGreater((~walk.recording.seen[:, :39]).sum(), 50)


class Tables(Case):
    """Rows and columns that a table leaves out, and the rates that its times tell."""

    def trc(self, head, rows, rate=100):
        path = self.folder / "t.trc"
        lines = [
            "PathFileType\t4\t(X/Y/Z)\tt.trc",
            "DataRate\tCameraRate\tNumFrames\tNumMarkers\tUnits\tOrigDataRate\tOrigDataStartFrame\tOrigNumFrames",
            f"{rate}\t{rate}\t{len(rows)}\t3\tmm\t{rate}\t1\t{len(rows)}",
            head,
            "\t\tX1\tY1\tZ1\tX2\tY2\tZ2\tX3\tY3\tZ3",
            "",
            *("\t".join(map(str, row)) for row in rows),
        ]
        path.write_text("\n".join(lines) + "\n")
        return read(path).markers[0]

    def test_a_blank_label_keeps_its_columns(self):
        rows = [[n, n / 100, 1, 2, 3, 4, 5, 6, 7, 8, 9 + n] for n in range(1, 6)]
        for head in ("Frame#\tTime\tLASI\t\t\t\t\t\tRASI\t\t", "Frame#\tTime\tLASI\t\t\t\t\t\tRASI"):
            recording = self.trc(head, rows).recording
            self.assertEqual(recording.labels[::2], ("LASI", "RASI"))
            self.assertEqual(recording.unlabelled.tolist(), [False, True, False])
            self.close(recording.points[0, :, 0], [1, 4, 7])

    def test_frames_that_a_table_leaves_out_are_gaps(self):
        numbers = [1, 2, 3, 7, 8, 9, 10, 13]
        rows = [[n, n / 100, n, 2, 3, 4, 5, 6, 7, 8, 9] for n in numbers]
        part = self.trc("Frame#\tTime\tA\t\t\tB\t\t\tC\t\t", rows)
        self.assertEqual(part.recording.frames, 13)
        self.assertEqual(np.flatnonzero(part.recording.seen[:, 0]).tolist(), [n - 1 for n in numbers])
        self.assertEqual([n["count"] for n in part.notes if n.code == "frames left out"], [5])
        path = self.folder / "t.csv"
        path.write_text("Time (s),A X,A Y,A Z\n" + "\n".join(f"{n / 50},{n},2,3" for n in numbers))
        recording = read(path).markers[0].recording
        self.assertEqual((recording.frames, recording.rate), (13, 50.0))

    def test_rates_by_the_unit_of_the_times(self):
        path = self.folder / "t.csv"
        for head, step, rate in (
            ("Time (s)", 1, 1.0), ("Time (s)", 0.01, 100.0), ("Time (ms)", 0.5, 2000.0), ("Time (ms)", 10, 100.0), ("Time [ms]", 5, 200.0),
            ("Time", 10, 100.0), ("Time", 0.02, 50.0), ("seconds", 0.04, 25.0),
        ):  # fmt: skip
            path.write_text(f"{head},A X,A Y,A Z\n" + "\n".join(f"{n * step},{n},2,3" for n in range(20)))
            self.assertAlmostEqual(read(path).markers[0].recording.rate, rate, 3, f"{head} {step}")

    def test_many_equal_labels_take_no_time(self):
        from young_marionette.formats.markers.parts import recording_of

        recording, _ = recording_of("x", ["A"] * 3000, np.ones((2, 3000, 3)), 100.0)
        self.assertEqual((recording.labels[0], recording.labels[2999]), ("A", "A 3000"))
