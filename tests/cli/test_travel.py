"""Travel on the command line: files with and without a root bone, read by others' code where there is one."""

import numpy as np
from scipy.spatial import cKDTree

from tests.cli.test_cli import Line
from tests.formats.independent import Gltf, gltf_complaints, usd_complaints, usd_joints, usd_skinned
from tests.support import joints_at
from young_marionette.formats import read


class Travel(Line):
    def setUp(self):
        super().setUp()
        self.walk = self.show / "quay/carry_bucket.bvh"

    def onto(self, rig, *words, out="out.bvh"):
        path = self.folder / out
        self.ok("retarget", self.walk, rig, "--out", path, "--overwrite", *words)
        return read(path).skeletons[0].clips[0]

    def test_a_root_bone_is_added_and_nothing_else_moves(self):
        plain = self.onto(self.heron)
        for words, axes in (
            (("--root", "x,z"), (0, 2)),
            ((), (0, 2)),
            (("--root", "x"), (0,)),
            (("--root", "x,y,z,turn"), (0, 1, 2)),
        ):
            clip = self.onto(self.heron, "--add-root", *words)
            self.assertEqual(clip.skeleton.names, ("root", *plain.skeleton.names))
            places = joints_at(clip)
            self.close(places[:, 1:], joints_at(plain), 1e-5)
            hips = places[:, clip.skeleton.index["hips"]]
            for axis in (0, 2):
                self.close(places[:, 0, axis], hips[:, axis] if axis in axes else 0, 1e-5)

    def test_bodies_are_written_with_a_bone_more_or_fewer(self):
        """As others' code poses and bends them, nothing but the root has changed."""
        bodies, seconds = self.show / "puppets/bodies", (0.0, 1.1, 2.6)
        for rig, ending, words in (
            ("Heron.vrm", ".glb", ("--add-root", "--root", "x,z,turn")),
            ("Gull.glb", ".glb", ("--remove-root",)),
            ("Puffin.usdz", ".usdc", ("--add-root",)),
        ):
            plain, other = self.folder / f"plain{ending}", self.folder / f"other{ending}"
            for out, more in ((plain, ()), (other, words)):
                self.ok("retarget", self.walk, bodies / rig, "--out", out, "--with-body", "--overwrite", *more)
            if ending == ".glb":
                self.assertFalse(gltf_complaints(other))
                files = Gltf(plain), Gltf(other)
                posed = [[{n: m[:3, 3] for n, m in f.world(s).items()} for s in seconds] for f in files]
                bent = [[f.skinned(s) for s in seconds] for f in files]
            else:
                posed = [[usd_joints(f, round(s * 30)) for s in seconds] for f in (plain, other)]
                bent = [[usd_skinned(f, round(s * 30)) for s in seconds] for f in (plain, other)]
                self.assertEqual(usd_complaints(other), [])
            for one, two in zip(*posed):
                shared = [n for n in one if n in two and n not in ("root", "humanoid_root")]
                self.assertGreater(len(shared), 18)
                self.close([two[n] for n in shared], [one[n] for n in shared], 1e-4)
            for one, two in zip(*bent):
                self.assertLess(max(cKDTree(two).query(one)[0].max(), cKDTree(one).query(two)[0].max()), 1e-4)

    def test_the_rigs_own_root_carries_what_is_asked(self):
        plain = joints_at(self.onto(self.gull))
        none = joints_at(self.onto(self.gull, "--root", "none"))
        self.close(none[:, 1:], plain[:, 1:], 1e-5)
        self.close(np.ptp(none[:, 0], axis=0), 0, 1e-9)
        smooth = joints_at(self.onto(self.gull, "--root-smooth", 1))
        self.close(smooth[:, 1:], plain[:, 1:], 1e-5)
        self.assertGreater(np.abs(smooth[:, 0] - plain[:, 0]).max(), 0.005)

    def test_in_place_by_axis(self):
        moving = joints_at(self.onto(self.heron))[:, 0]
        for words, still in ((("--in-place", "z"), (2,)), (("--in-place", "x"), (0,)), (("--in-place",), (0, 2))):
            hips = joints_at(self.onto(self.heron, *words))[:, 0]
            for axis in range(3):
                self.close(np.ptp(hips[:, axis]), 0 if axis in still else np.ptp(moving[:, axis]), 1e-5)
        # A file may follow it.
        self.ok("retarget", "--in-place", self.walk, self.heron, "--out", self.folder / "y.bvh")
        self.close(np.ptp(joints_at(read(self.folder / "y.bvh").skeletons[0].clips[0])[:, 0, 2]), 0, 1e-5)

    def test_where_it_starts(self):
        clip = self.onto(self.gull, "--start", "origin", "--ahead")
        self.close(joints_at(clip)[0, 1, [0, 2]], 0, 1e-5)
        part = self.onto(self.gull, "--start", "line", "--range", "40:80")
        self.close(joints_at(part)[0, 1, 0], 0, 1e-5)

    def test_what_stands_over_a_skeleton(self):
        """An object that holds it is kept, taken into the motion, or left out with what it did."""
        rig = self.show / "exchange/quay_takes.glb"  # under an object that is turned, scaled and moved
        over = Gltf(rig)
        joint = read(rig).skeletons[0].skeleton.names[0]
        number = next(n for n, node in enumerate(over.g.nodes) if node.name == joint)
        above = over.g.nodes[over.parents[number]].name
        matrix = over.world()[above]
        self.assertGreater(np.abs(matrix - np.eye(4)).max(), 0.1)
        posed = {}
        for word in ("keep", "apply", "reset"):
            out = self.folder / f"{word}.glb"
            self.ok("retarget", self.walk, rig, "--out", out, "--object", word)
            self.assertFalse(gltf_complaints(out))
            posed[word] = {n: m[:3, 3] for n, m in Gltf(out).world(2.0).items()}
        self.assertIn(above, posed["keep"])
        for word in ("apply", "reset"):
            self.assertNotIn(above, posed[word])
            back = np.linalg.inv(matrix) if word == "reset" else np.eye(4)
            for name, place in posed[word].items():
                wanted = back @ [*posed["keep"][name], 1.0]
                self.close(place, wanted[:3], 1e-3 if word == "reset" else 1e-5, f"{word}: {name}")

    def test_what_can_not_be(self):
        for rig, words, says in (
            (self.heron, ("--root", "x"), "no root bone on the floor"),
            (self.heron, ("--remove-root",), "no root bone that could be taken out"),
            (self.gull, ("--add-root",), "has a root bone already: humanoid_root"),
            (self.gull, ("--root", "w"), "'w' is no part of travel"),
            (self.gull, ("--root-smooth", "-1"), "0 to 60 seconds"),
        ):
            self.refused("retarget", self.walk, rig, "--out", self.out, *words, says=says)
            self.assertFalse(self.out.exists())
