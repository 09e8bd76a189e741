"""Rest pose and motion both have a say about up: rests that lie, rests that show no body, and people who really lie."""

from dataclasses import replace

import numpy as np

from tests.support import Case, joints_at, notes_of, show_folder
from young_marionette import api
from young_marionette.core import rotations as rot
from young_marionette.core.figure.placement import Placement, place_clip
from young_marionette.demo import dressing
from young_marionette.formats import write
from young_marionette.wording.findings import finding_words


def along_x(clip):
    """The clip on a skeleton whose bones all run along +X at rest, so that the motion alone shows a body."""
    skeleton = clip.skeleton
    points = skeleton.rest_world[0]
    axes = []
    for joint, below in enumerate(skeleton.children):
        tops = [c for c in below if points[c][1] > points[joint][1]] if joint == 0 else below
        bone = points[(tops or below)[0]] - points[joint] if below else np.zeros(3)
        axes.append(rot.between(rot.AXES["X"], bone) if np.linalg.norm(bone) > 1e-6 else rot.IDENTITY)
    clip = dressing.with_rest(clip, None, np.array(axes))
    return replace(clip, skeleton=replace(clip.skeleton, rest=np.tile(rot.IDENTITY, (len(skeleton), 1))))


def words_of(entry):
    return " ".join(finding_words(odd).text for odd in entry.oddities)


class Up(Case):
    def setUp(self):
        self.plain = api.read(show_folder() / "quay" / "walk_the_wall.bvh")
        self.clip = self.plain.placed_clip.picked(slice(0, 900, 4))

    def read(self, clip):
        path = self.folder / "clip.bvh"
        write(path, clip, overwrite=True)
        return api.read(path)

    def heights(self, entry):
        """How high heads and feet are."""
        placed = entry.placed_clip
        at, parts = joints_at(placed), entry.figure.body.parts
        return at[:, parts["head"][0], 1].mean(), at[:, parts["left foot"][0], 1].mean()

    def test_bones_that_all_run_along_one_axis(self):
        entry = self.read(along_x(self.clip))
        head, foot = self.heights(entry)
        self.assertGreater(head, 1.3)
        self.assertLess(foot, 0.3)
        self.assertIn("The file's rest pose shows no body", words_of(entry))
        rig = api.read_rig(show_folder() / "puppets" / "Heron.bvh")
        made, wanted = api.retarget(entry, rig), api.retarget(self.plain, rig)
        away = np.abs(joints_at(made.clip) - joints_at(wanted.clip.picked(slice(0, 900, 4))))
        self.assertLess(away.mean(), 0.03)

    def test_a_rest_that_lies(self):
        for axis, angle in (("X", np.pi / 2), ("X", -np.pi / 2), ("Z", np.pi / 2)):
            vector = rot.AXES[axis] * angle
            pose = dressing.rest_pose(self.clip.skeleton, {self.clip.skeleton.names[0]: vector})
            entry = self.read(dressing.with_rest(self.clip, pose))
            self.assertEqual(entry.figure.up, "+Y")
            self.assertIn("the motion is followed", words_of(entry))
            self.assertFalse(next(f for f in entry.facts if f.code == "up").sure)
            self.close(joints_at(entry.placed_clip), joints_at(self.clip), 1e-4)
            floor = next(f for f in entry.facts if f.code == "floor")["metres"]
            self.assertAlmostEqual(floor, next(f for f in self.plain.facts if f.code == "floor")["metres"], delta=0.01)

    def test_somebody_who_lies(self):
        """Asleep on the floor all the time, or dragged along it: what the rest pose says counts."""
        down = place_clip(self.clip, Placement(1.0, rot.from_axis_angle(rot.AXES["X"], np.array(-np.pi / 2))))
        still = down.with_moves({0: down.moves[0] * 0 + down.moves[0][0]})
        # The back lies on the floor, and joints a little over it.
        asleep = still.moves[0] - [0, joints_at(still)[..., 1].min(1).mean() - 0.02, 1.0]
        dragged = asleep + np.linspace(0, 2, down.frames)[:, None] * [0, 0, 1]
        for moves in (asleep, dragged):
            clip = dressing.with_rest(self.clip, None)
            lying = replace(clip, rotations=down.rotations).with_moves({0: moves})
            entry = self.read(lying)
            self.assertEqual(entry.figure.up, "+Y")
            head, _ = self.heights(entry)
            self.assertLess(head, 0.5)

    def test_a_rest_that_stands_half_turned_turns_nothing(self):
        for degrees in (-36.0, 4.0, 60.0):
            vector = np.array([0, np.radians(degrees), 0])
            pose = dressing.rest_pose(self.clip.skeleton, {self.clip.skeleton.names[0]: vector})
            entry = self.read(dressing.with_rest(self.clip, pose))
            self.close(joints_at(entry.placed_clip), joints_at(self.clip), 1e-4)
            rig = api.read_rig(show_folder() / "puppets" / "Puffin.bvh")
            free = {"feet": "free", "hands": "directions", "clear": "off"}
            made, wanted = (api.retarget(e, rig, **free).clip for e in (entry, self.plain))
            away = joints_at(made) - joints_at(wanted.picked(slice(0, 900, 4)))
            self.assertLess(np.abs(away).max(), 0.003, degrees)
            self.assertEqual(notes_of(entry), "")
