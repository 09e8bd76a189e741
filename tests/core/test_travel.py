"""Travel: what a root bone carries, what stays in place, bones added and taken out; all else stays in the world."""

from dataclasses import replace

import numpy as np

from tests.acting import acted
from tests.support import FULL, Case, joints_at, retargeted, wild_motion
from young_marionette.core import rotations as rot
from young_marionette.core.clip import Clip
from young_marionette.core.errors import InputError
from young_marionette.core.kinematics import forward
from young_marionette.core.travel.bones import with_root_bone, without_ends, without_root_bone
from young_marionette.core.travel.path import heading_of, path_of
from young_marionette.core.travel.root import travelled
from young_marionette.core.travel.settings import Travel, parts_of
from young_marionette.demo import dressing
from young_marionette.demo.figures import Build, make_figure
from young_marionette.formats import read, write


def walked(build=FULL):
    """A walk that turns, on a figure with a root bone that follows its hips, with a prop that hangs on the root bone."""
    clip, _, _, _ = acted("carry_bucket", build=Build(height=1.5, spine=2))
    rig = make_figure(build)
    bare = dressing.insert_joint(Clip("x", rig, 30, rig.rest[None]), "prop", "root", (0.3, 0.0, 0.2)).skeleton
    baked, _, _, transfer = retargeted(clip, bare)
    # Turned on its way, by more than half a round.
    angle = np.linspace(0, 4.0, baked.frames)
    turn = rot.from_axis_angle(np.tile([0.0, 1, 0], (baked.frames, 1)), angle)
    hips = transfer.hips
    rows = np.array(baked.rotations)
    rows[:, hips] = rot.multiply(turn, rows[:, hips])
    return replace(baked, rotations=rows), hips, transfer.root


class Roots(Case):
    @classmethod
    def setUpClass(cls):
        cls.clip, cls.hips, cls.root = walked()
        cls.places, cls.turns = forward(cls.clip)

    def others_stay(self, made):
        places, turns = forward(made)
        others = [j for j in range(len(made.skeleton)) if j != self.root]
        self.close(places[:, others], self.places[:, others], 1e-9)
        self.same_turn(turns[:, others], self.turns[:, others], 1e-9)
        return places[:, self.root], turns[:, self.root]

    def test_the_root_carries_what_is_chosen_and_nothing_else_moves(self):
        hips, skeleton = self.places[:, self.hips], self.clip.skeleton
        rest = skeleton.rest_world[0]
        for words, axes in (("none", ()), ("x", (0,)), ("z", (2,)), ("x,z", (0, 2)), ("x,y,z,turn", (0, 1, 2))):
            made = travelled(self.clip, self.hips, self.root, Travel(root=parts_of(words)))
            places, turns = self.others_stay(made)
            for axis in range(3):
                wanted = (
                    hips[:, axis] - (rest[self.hips, 1] if axis == 1 else 0) if axis in axes else rest[self.root, axis]
                )
                self.close(places[:, axis], wanted, 1e-9, f"{words}, axis {axis}")
            if "turn" in words:
                self.assertGreater(rot.angle(rot.multiply(rot.conjugate(turns[0]), turns[-1])), 1.5)
                level = rot.rotate(turns, np.array([0.0, 1, 0]))
                self.close(level, [[0, 1, 0]] * len(level), 1e-9, "it stays upright")
                # Hips that only turned about the vertical do not turn on it any more.
                left = heading_of(
                    rot.multiply(rot.conjugate(turns), self.turns[:, self.hips]).T, skeleton.rest_world[1][self.hips]
                )
                self.close(left, 0, 1e-6)
            else:
                self.same_turn(turns, np.tile(skeleton.rest[self.root], (len(turns), 1)))

    def test_a_smooth_root_leaves_the_sway_to_the_hips(self):
        """Straight ahead at 1 m/s, swaying at 2 Hz: the root goes straight ahead."""
        seconds = np.arange(120) / 30
        rig = make_figure(FULL)
        hips = rig.index["hips"]
        ahead = np.stack([0.05 * np.sin(4 * np.pi * seconds), 1 + 0 * seconds, seconds], 1)
        clip = Clip("x", rig, 30.0, np.repeat(rig.rest[None], 120, 0), [hips], ahead[:, None])
        made = travelled(clip, hips, 0, Travel(root=("x", "z"), smooth=1.0))
        self.close(joints_at(made)[:, hips], joints_at(clip)[:, hips], 1e-9)
        root = joints_at(made)[:, 0]
        self.close(root[40:-40, 0], 0, 1e-3)
        self.close(root[:, 2], joints_at(clip)[:, hips, 2], 1e-6)
        self.close(root[:, 1], 0, 1e-12)

    def test_in_place_per_axis(self):
        spot = self.clip.skeleton.rest_world[0][self.hips]
        for axes, still in ((("x",), [0]), (("z",), [2]), (("x", "z"), [0, 2])):
            made = travelled(self.clip, self.hips, self.root, Travel(in_place=axes))
            places = joints_at(made)
            for axis in range(3):
                self.close(
                    places[:, self.hips, axis], spot[axis] if axis in still else self.places[:, self.hips, axis], 1e-9
                )
                self.close(np.diff(places[..., axis] - places[:, [self.hips], axis], axis=0),
                           np.diff(self.places[..., axis] - self.places[:, [self.hips], axis], axis=0), 1e-9)  # fmt: skip

    def test_it_starts_where_it_is_to_and_faces_ahead(self):
        away = travelled(self.clip, self.hips, self.root, Travel(ahead=True, start="origin"))
        path = path_of(away, self.hips)
        self.close(path.places[[0, 2], 0], 0, 1e-9)
        self.close(path.headings[0], 0, 1e-9)
        self.close(np.diff(path.headings), np.diff(path_of(self.clip, self.hips).headings), 1e-9)
        line = travelled(self.clip, self.hips, self.root, Travel(start="line"))
        self.close(joints_at(line)[:, :, 2], self.places[:, :, 2], 1e-9)
        self.close(joints_at(line)[0, self.hips, 0], 0, 1e-9)
        lengths = [np.linalg.norm(np.diff(p[:, self.hips], axis=0), axis=1) for p in (joints_at(away), self.places)]
        self.close(*lengths, 1e-9)

    def test_whoever_lies_or_bends_has_a_heading(self):
        rest, angle = rot.IDENTITY, np.linspace(0, 7, 40)
        about = rot.from_axis_angle(np.tile([0.0, 1, 0], (40, 1)), angle)
        for bend in ((0, 0, 0), (1.4, 0, 0), (-1.5, 0, 0), (0, 0, 1.5)):
            turns = rot.multiply(about, rot.from_vector(np.array(bend, float)))
            self.close(np.diff(heading_of(turns.T, rest)), np.diff(angle), 1e-9, str(bend))
        over = rot.multiply(about, rot.from_vector(np.array([np.pi, 0, 0])))
        self.assertTrue(np.isfinite(heading_of(over.T, rest)).all())

    def test_words(self):
        self.assertEqual(parts_of("TURN,z, x"), ("x", "z", "turn"))
        for text in ("", "x;z", "up", "none,x"):
            self.assertRaises(InputError, parts_of, text)


class Bones(Case):
    def wild(self, build=FULL):
        rng = np.random.default_rng(3)
        clip = wild_motion(make_figure(build), rng)
        return dressing.with_rest(clip, axes=rot.normalise(rng.normal(size=(len(clip.skeleton), 4))))

    def same_world(self, change, clip, made):
        old, new = forward(clip), forward(made)
        kept = np.flatnonzero(change.came_from >= 0)
        self.close(new[0][:, kept], old[0][:, change.came_from[kept]], 1e-9)
        self.same_turn(new[1][:, kept], old[1][:, change.came_from[kept]])

    def test_a_root_bone_comes_and_goes(self):
        clip = self.wild(Build(fingers=True))
        change = with_root_bone(clip.skeleton, "hips")
        self.assertEqual(change.new.names[:2], ("hips 2", "hips"), "names stay different")
        made = change.clip(clip)
        self.same_world(change, clip, made)
        self.close(made.rotations[:, 2:], clip.rotations[:, 1:], 0)
        hips = made.skeleton.index["hips"]
        moved = travelled(made, hips, 0, Travel(root=("x", "z", "turn"), smooth=0.1))
        self.same_world(change, clip, moved)
        back = without_root_bone(moved.skeleton, 0, hips)
        self.assertEqual(back.new.names, clip.skeleton.names)
        again = back.clip(moved)
        self.close(again.rotations, clip.rotations, 1e-9)
        self.close(joints_at(again), joints_at(clip), 1e-9)
        self.close(back.new.rest_world[0], clip.skeleton.rest_world[0], 1e-9)

    def test_what_else_hangs_on_a_root_stays_in_the_world(self):
        clip, hips, root = walked()
        change = without_root_bone(clip.skeleton, root, hips)
        self.assertEqual(int((change.new.parents < 0).sum()), 1)
        self.same_world(change, clip, change.clip(clip))

    def test_last_bones_are_left_out_and_tell_where_their_bone_ends(self):
        clip = self.wild(Build())
        for name, above in (("head_end", "head"), ("nothing", "left hand"), ("nil", "left toes")):
            clip = dressing.insert_joint(clip, name, above, (0.0, 0.0, 0.0 if name == "nil" else 0.12))
        change = without_ends(clip.skeleton)
        self.assertEqual(set(clip.skeleton.names) - set(change.new.names), {"head_end", "nothing", "nil"})
        self.same_world(change, clip, change.clip(clip))
        head = change.new.index["head"]
        self.close(np.linalg.norm(change.new.tips[head]), 0.12, 1e-9)
        kept = without_ends(clip.skeleton, [clip.skeleton.index["nothing"]])
        self.assertIn("nothing", kept.new.names)

    def test_files_hold_it(self):
        clip = self.wild(Build())
        made = with_root_bone(clip.skeleton).clip(clip)
        for ending in (".bvh", ".glb", ".usda"):
            path = self.folder / f"rooted{ending}"
            write(path, made)
            part = read(path).skeletons[0]
            self.assertEqual(part.skeleton.names, made.skeleton.names)
            self.close(joints_at(part.clips[0]), joints_at(made), 1e-4)
