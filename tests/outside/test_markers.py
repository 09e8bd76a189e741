"""Markers: what lies beside them changes nothing of the solved motion, and a fault in the last frame is one like others: law 16."""

import json

import numpy as np

from tests.support import Case, show_folder
from young_marionette.cli.main import main
from young_marionette.core.markers.faults import residual_faults
from young_marionette.formats import read

from .readers import bvh


def with_outputs(path, out, groups=True, shuffle=None):
    """The same recording, by another's library, with all that laboratories keep beside markers: angles, moments, powers, ground
    forces, a centre of mass, and the axes of the segments. ``groups``: the parameters list what they are.
    """
    import ezc3d

    file = ezc3d.c3d(str(path))
    points = file["data"]["points"][:3]
    labels = list(file["parameters"]["POINT"]["LABELS"]["value"])
    rng, frames = np.random.default_rng(2), points.shape[2]
    seconds = np.arange(frames) / 100
    more, kinds = {}, {"ANGLES": [], "MOMENTS": [], "POWERS": [], "FORCES": [], "SCALARS": []}
    for side in "LR":
        for joint in ("Hip", "Knee", "Ankle", "Shoulder", "Elbow"):
            swing = 30 * np.sin(2 * np.pi * (seconds + rng.random()))
            for word, kind, size in (("Angles", "ANGLES", 1), ("Moment", "MOMENTS", 25), ("Force", "FORCES", 0.3)):
                name = f"quay:{side}{joint}{word}"
                more[name] = np.stack(
                    [size * (swing + rng.normal(0, 0.2, frames)) + rng.normal() * 10 for _ in range(3)]
                )
                kinds[kind].append(name)
            more[f"quay:{side}{joint}Power"] = np.stack([0 * swing, 0 * swing, 3 * swing])
            kinds["POWERS"].append(f"quay:{side}{joint}Power")
        # A segment's axes: an origin that goes along with a marker, and three arms square to each other.
        middle = points[:, labels.index(f"quay:{side}KNE")]
        arms = np.linalg.qr(rng.normal(size=(3, 3)))[0] * 150
        for letter, arm in zip("OALP", (np.zeros(3), *arms)):
            more[f"quay:{side}TI{letter}"] = middle + arm[:, None]
    more["quay:CentreOfMass"] = np.nanmean(np.where(np.abs(points).max(0) > 0, points, np.nan), axis=1)
    names = [*labels, *more]
    every = np.concatenate([points, np.stack(list(more.values()), 1)], 1)
    order = np.arange(len(names)) if shuffle is None else shuffle.permutation(len(names))
    made = ezc3d.c3d()
    made["header"]["points"]["frame_rate"] = file["header"]["points"]["frame_rate"]
    made["parameters"]["POINT"]["RATE"]["value"] = file["parameters"]["POINT"]["RATE"]["value"]
    made["parameters"]["POINT"]["UNITS"]["value"] = file["parameters"]["POINT"]["UNITS"]["value"]
    made["parameters"]["POINT"]["LABELS"]["value"] = [names[i] for i in order]
    if groups:
        for kind, own in kinds.items():
            made.add_parameter("POINT", kind, own)
        made.add_parameter("POINT", "TYPE_GROUPS", ["ANGLES", "MOMENTS", "POWERS", "FORCES"])
    made["data"]["points"] = np.concatenate([np.nan_to_num(every[:, order]), np.ones((1, *every.shape[1:]))])
    residuals = np.zeros((1, *every.shape[1:]))
    residuals[0, : len(labels)] = file["data"]["meta_points"]["residuals"][0]
    made["data"]["meta_points"]["residuals"] = residuals[:, order]
    made.write(str(out))
    return len(more)


class Computed(Case):
    def solved(self, path, name):
        out = self.folder / f"{name}.bvh"
        words = ["solve", str(path), "--out", str(out), "--range", "420:500", "--json"]
        import contextlib
        import io

        told = io.StringIO()
        with contextlib.redirect_stdout(told):
            self.assertEqual(main(words), 0)
        return bvh(out).places, json.loads(told.getvalue())

    def test_computed_outputs_change_nothing(self):
        plain = show_folder() / "markers" / "walk_the_wall.c3d"
        count = with_outputs(plain, self.folder / "full.c3d", shuffle=np.random.default_rng(4))
        whole, more = read(plain).markers[0].recording, read(self.folder / "full.c3d").markers[0]
        self.assertEqual(set(more.recording.labels), set(whole.labels))
        note = next(n for n in more.notes if n.code == "computed outputs")
        self.assertEqual(note["count"], count)
        wanted, _ = self.solved(plain, "plain")
        found, told = self.solved(self.folder / "full.c3d", "full")
        self.assertLess(max(np.abs(found[n] - p).max() for n, p in wanted.items()), 1e-3)
        self.assertTrue(any(f"{count} computed outputs" in n for n in told["notes"]), told["notes"])

    def test_names_and_values_tell_where_no_parameter_lists_them(self):
        plain = show_folder() / "markers" / "walk_the_wall.c3d"
        with_outputs(plain, self.folder / "bare.c3d", groups=False)
        labels = set(read(self.folder / "bare.c3d").markers[0].recording.labels)
        self.assertEqual(labels, set(read(plain).markers[0].recording.labels))

    def test_nothing_but_outputs_is_refused(self):
        import ezc3d

        file = ezc3d.c3d()
        file["parameters"]["POINT"]["RATE"]["value"] = [100.0]
        file["parameters"]["POINT"]["LABELS"]["value"] = ["LKneeAngles", "RKneeAngles"]
        file["data"]["points"] = np.random.default_rng(1).normal(size=(4, 2, 30)) * 20
        file.write(str(self.folder / "angles.c3d"))
        self.refuses(lambda: read(self.folder / "angles.c3d"), "computed outputs alone")


class LastFrame(Case):
    def test_a_fault_that_begins_in_the_last_frame(self):
        rng = np.random.default_rng(5)
        predicted = np.cumsum(rng.normal(0, 0.002, (80, 12, 3)), axis=0) + rng.normal(size=(12, 3))
        for first in (79, 78, 0):
            points = predicted + rng.normal(0, 0.0005, predicted.shape)
            points[first : first + 1, 3] += 0.4
            found = [(f.kind, f.marker, f.first) for f in residual_faults(points, predicted, 100.0)]
            self.assertIn(("spike", 3, first), found)
