"""Bones to controls and back: exact on any pose, and controls that do what is asked of them."""

from dataclasses import replace

import numpy as np

from tests.acting import acted
from tests.support import FULL, Case, dressed, make_figure, random_build, wild_motion
from young_marionette.core import rotations as rot
from young_marionette.core.clip import Clip
from young_marionette.core.contacts.finding import find_contacts
from young_marionette.core.controls.making import make_controls
from young_marionette.core.controls.motion import invert, lost, solve, stretched
from young_marionette.core.controls.posing import Grip
from young_marionette.core.controls.rig import control_rig
from young_marionette.core.controls.sets import CURL, DIRECTION, END, PLACED, ROLL
from young_marionette.core.humanoid.reading import read_body
from young_marionette.core.kinematics import forward
from young_marionette.core.passes.keeping import Limbs
from young_marionette.core.scene.tackle import Pose, picked_at, tackle_of
from young_marionette.core.thinning.deviation import deviation
from young_marionette.core.thinning.settings import Thin
from young_marionette.core.thinning.thinning import Subject, Thinner

WAYS = [{}, {"reaches": True}, {"reaches": False}, {"reaches": True, "space": "hips"}]


def switched(controls, **values):
    for limb in controls.limbs:
        controls = controls.with_limb(limb.name, **values)
    return controls


def rig_of(clip, body=None, **values):
    body = body or read_body(clip.skeleton)
    return control_rig(switched(make_controls(clip.skeleton, body), **values), clip.skeleton)


class ThereAndBack(Case):
    def same(self, clip, **values):
        rig = rig_of(clip, **values)
        back = solve(rig, invert(rig, clip))
        for a, b, within in zip(forward(clip), forward(back), (1e-6, np.radians(1e-4))):
            if a.shape[-1] == 3:
                self.close(b, a, within)
            else:
                self.same_turn(a, b, within)
        self.assertEqual(clip.frames, back.frames)
        return rig

    def test_the_clips_of_the_show(self):
        for name in ("climb_ladder", "row_boat", "wave_to_ship"):
            for way in WAYS:
                self.same(acted(name)[0].cut(0, 60), **way)

    def test_any_turn_of_any_bone(self):
        rng = np.random.default_rng(12)
        for _ in range(8):
            clip = wild_motion(make_figure(random_build(rng)), rng, frames=12, size=1.5)
            self.same(clip, **WAYS[rng.integers(4)])
            self.same(dressed(wild_motion(make_figure(random_build(rng)), rng, 12), rng, up="Y", unit=1), reaches=True)

    def test_straight_and_folded_limbs_in_all_directions(self):
        figure, frames = make_figure(FULL), 41
        rng = np.random.default_rng(2)
        for bend in (0.0, 1e-7, 0.005, -0.02, np.radians(171), np.pi):
            clip = wild_motion(figure, rng, frames, 0.6)
            turns = clip.rotations.copy()
            for name, axis in (("shin", [1, 0, 0]), ("forearm", [0, 1, 0])):
                for side in ("left", "right"):
                    # From one side of straight to the other one.
                    angles = np.linspace(bend, -bend if abs(bend) < 1 else bend, frames)
                    turns[:, figure.index[f"{side} {name}"]] = rot.from_vector(angles[:, None] * np.array([axis]))
            turns[:20, figure.index["hips"]] = rot.from_vector(np.array([np.pi, 0, 0]))
            self.same(replace(clip, rotations=turns), reaches=True)

    def test_limbs_whose_bones_move(self):
        figure, rng = make_figure(FULL), np.random.default_rng(4)
        names = ["hips", "left thigh", "left shin", "left foot", "right forearm", "right hand", "left toes"]
        joints = sorted(figure.index[name] for name in names)
        clip = wild_motion(figure, rng)
        places = figure.offsets[joints] + rng.normal(size=(clip.frames, len(joints), 3)) * 0.05
        self.same(Clip("pulled", figure, 30.0, clip.rotations, joints, places), reaches=True)
        places[3:9, 1:] = 0.0  # bones without any length
        self.same(Clip("pushed in", figure, 30.0, clip.rotations, joints, places), reaches=True)

    def test_a_skeleton_without_a_body(self):
        figure, rng = make_figure(FULL), np.random.default_rng(1)
        clip = wild_motion(figure, rng)
        rig = control_rig(make_controls(figure, None), figure)
        for a, b in zip(forward(clip), forward(solve(rig, invert(rig, clip)))):
            self.close(np.abs(a), np.abs(b), 1e-12)

    def test_knees_point_evenly_where_a_leg_goes_through_straight(self):
        figure, frames = make_figure(FULL), 61
        turns = np.repeat(figure.rest[None], frames, 0)
        turns[:, figure.index["left shin"]] = rot.from_vector(np.linspace(0.1, -0.1, frames)[:, None] * [[1, 0, 0]])
        clip = Clip("locked", figure, 30.0, turns)
        rig = rig_of(clip)
        limb = next(one for one in rig.limbs if one.name == "left leg")
        knee = forward(invert(rig, clip))[0][:, limb.points]
        self.assertLess(np.abs(np.diff(knee, axis=0)).max(), 0.01)


class Acting(Case):
    def setUp(self):
        self.clip = acted("sweep_quay")[0].cut(0, 80)
        self.rig = rig_of(self.clip)
        self.motion = invert(self.rig, self.clip)
        self.leg = next(one for one in self.rig.limbs if one.name == "left leg")

    def test_a_foot_between_two_holds_stands_still_whatever_the_hips_do(self):
        moves = dict(self.motion.moves)
        moves[self.leg.place] = np.repeat(moves[self.leg.place][:1], self.clip.frames, 0)
        turns = self.motion.rotations.copy()
        turns[:, self.leg.place] = turns[0, self.leg.place]
        hips = self.rig.driver[self.rig.bones.index["hips"]]
        moves[hips] = moves[hips] - [0.03, 0.04, 0]
        made = solve(self.rig, replace(self.motion.with_moves(moves), rotations=turns))
        feet = forward(made)
        still = feet[0][:, self.leg.end]
        reached = stretched(self.rig, self.motion.with_moves(moves), made)["left leg"]
        self.assertLess(reached.max(), 1e-6)
        self.assertLess(np.ptp(still, axis=0).max(), 1e-9)
        self.same_turn(feet[1][:, self.leg.end], feet[1][:1, self.leg.end], 1e-9)

    def test_what_is_out_of_reach_is_pointed_at_and_told(self):
        moves = self.motion.moves
        far = self.motion.with_moves(moves | {self.leg.place: moves[self.leg.place] - [0, 0.5, 0]})
        made = solve(self.rig, far)
        beyond = stretched(self.rig, far, made)["left leg"]
        self.assertTrue((beyond > 0.2).all() and (beyond < 0.5).all())
        places = forward(made)[0]
        a, b, c = (places[:, j] for j in (self.leg.upper, self.leg.lower, self.leg.end))
        self.close(np.cross(rot.normalise(b - a), rot.normalise(c - b)), 0, 1e-6)

    def test_a_foot_rolls_over_its_ball_and_its_heel(self):
        def rolled(degrees):
            turns = self.motion.rotations.copy()
            turns[:, self.leg.roll] = rot.from_vector(np.radians([degrees, 0, 0]))
            return forward(solve(self.rig, replace(self.motion, rotations=turns)))

        toes = self.rig.bones.index[self.leg.sole.toes]
        before, onto_ball, onto_heel = (rolled(angle) for angle in (0, 30, -20))
        # Where the leg can follow, the toes stay as they are and where they are.
        self.close(onto_ball[0][:, toes], before[0][:, toes], 1e-9)
        self.same_turn(onto_ball[1][:, toes], before[1][:, toes], 1e-9)
        self.assertTrue((onto_ball[0][:, self.leg.end, 1] > before[0][:, self.leg.end, 1] + 0.02).all())
        self.assertTrue((onto_heel[0][:, toes, 1] > before[0][:, toes, 1] + 0.01).all())

    def test_a_knee_goes_where_its_bead_is(self):
        moves = self.motion.moves
        aside = self.motion.with_moves(moves | {self.leg.points: moves[self.leg.points] + [0.5, 0, 0]})
        before, after = forward(self.clip)[0], forward(solve(self.rig, aside))[0]
        self.close(after[:, self.leg.end], before[:, self.leg.end], 1e-9)
        moved = (after - before)[:, self.leg.lower]
        self.assertTrue((moved[:, 0] >= 0).all() and moved[:, 0].max() > 0.02)

    def test_fingers_curl_towards_the_palm_together(self):
        figure = make_figure(FULL)
        rest = Clip("rest", figure, 30.0, figure.rest[None])
        for side, across in (("left", 1), ("right", -1)):
            rig = rig_of(rest)
            motion = invert(rig, rest)
            control = next(j for one, j in rig.shown if one.kind == CURL and one.name.startswith(side))
            turns = motion.rotations.copy()
            turns[:, control] = rot.from_vector(np.radians([40, 0, 0]))
            places = forward(solve(rig, replace(motion, rotations=turns)))[0][0]
            tip = figure.index[f"{side} middle 3"]
            hand, before = figure.rest_world[0][figure.index[f"{side} hand"]], figure.rest_world[0][tip]
            # Arms out, palms down: tips go down and back towards the wrist.
            self.assertLess(places[tip][1], before[1] - 0.01)
            self.assertLess(across * (places[tip] - hand)[0], across * (before - hand)[0])

    def test_the_whole_body_takes_everything_along(self):
        turn = rot.from_vector(np.array([0, 1.0, 0]))
        turns = self.motion.rotations.copy()
        turns[:, 0] = turn
        moved = replace(self.motion, rotations=turns).with_moves(self.motion.moves | {0: np.array([1.0, 0, 2.0])})
        before, after = forward(self.clip)[0], forward(solve(self.rig, moved))[0]
        self.close(after, rot.rotate(turn, before) + [1, 0, 2], 1e-9)


class Drawn(Case):
    def tackle(self, rig, clip, **how):
        motion = invert(rig, clip)
        (places, turns), (bones, bone_turns) = forward(motion), forward(clip)
        pose = Pose(places[0], turns[0], bones[0], bone_turns[0])
        return tackle_of(rig, rig.controls, pose, 1.7, **how), bones[0]

    def test_every_control_has_a_shape_near_what_it_moves(self):
        rng = np.random.default_rng(3)
        for way in WAYS:
            clip = wild_motion(make_figure(FULL), rng, 1, 0.4)
            rig = rig_of(clip, **way)
            drawn, bones = self.tackle(rig, clip)
            names = {one.name for one in drawn}
            ends = {one.name for one, _ in rig.shown if one.kind in (END, DIRECTION)}
            self.assertLessEqual(ends | {"whole body", "hips", "head"}, names)
            for one in drawn:
                points = np.concatenate([*one.lines, one.dots, one.place[None]])
                self.assertTrue(np.isfinite(points).all(), one.name)
                near = np.linalg.norm(points[:, None] - bones[None], axis=-1).min(1)
                self.assertLess(near.max(), 1.2 if one.name == "whole body" else 0.6, one.name)

    def test_parts_are_hidden_and_moved_along(self):
        clip = wild_motion(make_figure(FULL), np.random.default_rng(3), 1, 0.2)
        rig = rig_of(clip)
        every, _ = self.tackle(rig, clip)
        some, _ = self.tackle(rig, clip, hidden={"left fingers", "right fingers"}, shift=np.array([1.0, 0, 0]))
        self.assertFalse(any("finger" in one.name or "thumb" in one.name for one in some))
        before = {one.name: one.place for one in every}
        for one in some:
            self.close(one.place - before[one.name], [1, 0, 0], 1e-12)

    def test_the_nearest_is_picked(self):
        lines = [(0, np.array([[0.0, 0], [10, 0]])), (1, np.array([[0.0, 6], [10, 6]])), (2, np.array([[30.0, 30]]))]
        self.assertEqual(picked_at(lines, (5, 2), 9), 0)
        self.assertEqual(picked_at(lines, (5, 4), 9), 1)
        self.assertEqual(picked_at(lines, (33, 30), 9), 2)
        self.assertIsNone(picked_at(lines, (50, 50), 9))


class Gripped(Case):
    def setUp(self):
        self.clip = acted("sweep_quay")[0].cut(0, 3)
        self.set = make_controls(self.clip.skeleton, read_body(self.clip.skeleton))

    def grip(self, **values):
        name = values.pop("name")
        controls = self.set.changed(name, **values)
        rig = control_rig(controls, self.clip.skeleton)
        return Grip(rig, controls), rig.skeleton.index[name], invert(rig, self.clip).cut(0, 0)

    def test_hands_are_held_back_by_limits(self):
        for name in ("head", "left foot roll"):
            grip, joint, pose = self.grip(name=name, swing=0.2, twist=(-0.1, 0.1))
            for vector in ((1.5, 0, 0), (0, 1.5, 0), (0.4, -1.0, 2.0)):
                made = grip.turned(pose, joint, vector)
                away = rot.multiply(rot.conjugate(grip.rig.skeleton.rest[joint]), made.rotations[0, joint])
                self.assertLess(float(rot.angle(away)), 0.32)
        grip, joint, pose = self.grip(name="hips", reach=0.3)
        made = grip.moved(pose, joint, (5.0, 0, 0))
        self.assertLess(np.linalg.norm(made.move_of(joint)[0] - grip.rig.skeleton.offsets[joint]), 0.3 + 1e-9)

    def test_each_kind_does_what_it_is_for(self):
        for name, turns, moves in (
            ("left knee", False, True), ("left foot", True, True), ("left foot roll", True, False), ("neck", True, True),
        ):  # fmt: skip
            grip, joint, pose = self.grip(name=name)
            self.assertEqual((grip.turns(joint), grip.moves(joint)), (turns, moves), name)
            turned, moved = grip.turned(pose, joint, (0.3, 0.1, 0.2)), grip.moved(pose, joint, (0.05, 0.02, 0.1))
            self.assertEqual((turned.rotations != pose.rotations).any(), turns, name)
            same = np.array_equal(moved.rotations, pose.rotations) and np.array_equal(
                moved.translations, pose.translations
            )
            self.assertEqual(not same, moves, name)

    def test_a_swung_bone_points_where_its_end_was_dragged(self):
        grip, joint, pose = self.grip(name="left upper arm")
        child = grip.rig.skeleton.index["left forearm"]
        before, after = (forward(p)[0][0] for p in (pose, grip.moved(pose, joint, (0.0, 0.1, 0.05))))
        way, goal = after[child] - after[joint], before[child] + [0.0, 0.1, 0.05] - before[joint]
        self.assertLess(rot.angle_between(way, goal), 1e-6)


class Sets(Case):
    def setUp(self):
        self.clip = acted("sweep_quay")[0].cut(0, 20)
        self.set = make_controls(self.clip.skeleton, read_body(self.clip.skeleton))

    def test_a_body_gets_what_animators_look_for(self):
        kinds = {
            kind: [one.name for one in self.set.controls if one.kind == kind] for kind in (END, DIRECTION, ROLL, PLACED)
        }
        self.assertEqual(sorted(kinds[END]), ["left foot", "left hand", "right foot", "right hand"])
        self.assertEqual(sorted(kinds[DIRECTION]), ["left elbow", "left knee", "right elbow", "right knee"])
        self.assertEqual(kinds[ROLL], ["left foot roll", "right foot roll"])
        self.assertEqual(kinds[PLACED], ["hips"])
        fingers = make_controls(make_figure(FULL), read_body(make_figure(FULL)))
        self.assertIn("left index 2", fingers.names)
        helpers = [one for one in fingers.controls if "twist" in one.bone]
        self.assertTrue(helpers and not any(one.shown for one in helpers))

    def test_what_is_taken_out_stays_at_rest_and_is_told(self):
        less = self.set.without("neck").checked(self.clip.skeleton)
        rig = control_rig(less, self.clip.skeleton)
        (one,) = lost(rig, self.clip)
        neck = self.clip.skeleton.index[one.bone]
        self.close(solve(rig, invert(rig, self.clip)).rotations[:, neck], self.clip.skeleton.rest[neck], 1e-12)
        again = less.added(one.bone, name="neck")
        rig = control_rig(again, self.clip.skeleton)
        self.assertEqual(lost(rig, self.clip), ())
        self.close(forward(solve(rig, invert(rig, self.clip)))[0], forward(self.clip)[0], 1e-9)

    def test_nonsense_is_refused_in_a_sentence(self):
        self.refuses(lambda: self.set.without("whole body"), "whole body")
        self.refuses(lambda: self.set.without("left knee"), "left leg", "hide")
        self.refuses(lambda: self.set.added("hips"), "already")
        self.refuses(lambda: self.set.changed("hips", name="neck"), "neck")
        self.refuses(lambda: self.set.changed("hips", name=" "), "name")
        other = make_figure(random_build(np.random.default_rng(1)))
        limb = self.set.limbs[0]
        wrong = replace(self.set, limbs=(replace(limb, bones=limb.bones[::-1]), *self.set.limbs[1:]))
        self.refuses(lambda: wrong.checked(self.clip.skeleton), "hang")
        twice = replace(self.set, controls=(*self.set.controls, self.set.controls[1]))
        self.refuses(lambda: twice.checked(other))


class Thinning(Case):
    def test_the_promise_holds_for_the_bones(self):
        for name, way in (
            ("walk_the_wall", {}),
            ("haul_rope", {"reaches": True}),
            ("carry_bucket", {"reaches": False}),
        ):
            clip = acted(name)[0].cut(0, 110)
            body = read_body(clip.skeleton)
            limbs, contacts = Limbs.of(clip.skeleton, body, None), find_contacts(clip, body, None)
            rig = rig_of(clip, body, **way)
            thin = Thinner(Subject(invert(rig, clip), contacts, limbs.points, {}, rig=rig)).thin(Thin(0.01))
            away = deviation(clip, solve(rig, thin.keyed.sample()), limbs.points, contacts)
            self.assertLessEqual(away.places.largest, 0.01)
            self.assertLessEqual(away.turns.largest, np.radians(5.0))
            self.assertLessEqual(away.planted.largest, 0.003)
            bones = Thinner(Subject(clip, contacts, limbs.points, limbs.groups)).thin(Thin(0.01))
            if not way:
                self.assertLessEqual(thin.keyed.keys, bones.keyed.keys)
            self.assertLess(thin.keyed.keys, clip.frames / 3)
