"""Stance and transfer against known right answers: one body in two dressings, and limbs that must point alike."""

from dataclasses import replace
from unittest import mock

import numpy as np

from tests.support import (
    FULL,
    RESTS,
    Case,
    dressed,
    figure,
    joints_at,
    random_build,
    retargeted,
    show_state,
    wild_motion,
)
from young_marionette.core import clip as clips
from young_marionette.core import rotations as rot
from young_marionette.core.clip import Clip
from young_marionette.core.figure.facts import Arms, motion_facts, place_figure
from young_marionette.core.humanoid.reading import read_body
from young_marionette.core.kinematics import forward
from young_marionette.core.matching.stance import limbs_left, match, same_body
from young_marionette.core.matching.tying import String, tie
from young_marionette.core.skeleton import pose_world
from young_marionette.core.transfer.retarget import Transfer
from young_marionette.core.transfer.settings import TransferSettings
from young_marionette.demo import dressing
from young_marionette.demo.figures import Build, make_figure

LIMBS = {"upper arm": "forearm", "forearm": "hand", "thigh": "shin", "shin": "foot"}


class OneBodyInTwoDressings(Case):
    """A skeleton dressed differently and retargeted onto itself puts every joint where the source has it."""

    def check(self, seed, count, **dress):
        rng = np.random.default_rng(seed)
        for trial in range(count):
            build = random_build(rng)
            bare = make_figure(build)
            clip = wild_motion(bare, rng)
            baked, _, found, _ = retargeted(dressed(clip, rng, **dress), bare)
            got = joints_at(baked) / found.placement.scale
            own = [i for i, n in enumerate(bare.names) if n != "root"]
            away = np.abs(got[:, own] - joints_at(clip)[:, own]).max()
            self.assertLess(
                away, 1e-4 * build.height, f"seed {seed}, trial {trial}: {away / build.height * 1000:.3f} mm per metre"
            )

    def test_worlds_are_as_the_formula_says(self):
        """T(t) = S(t) S0^-1 T0 for whatever one bone drives, also past bones on either side that have no string."""
        rng = np.random.default_rng(9)
        for left_out in ((), ("left forearm", "right shin", "neck"), ("left thigh", "spine")):
            source, target = (
                make_figure(Build(twist=True, fingers=True)),
                make_figure(Build(height=1.3, root=True, fingers=True)),
            )
            strings = tuple(
                s for s in tie(source, read_body(source), target, read_body(target)) if s.part not in left_out
            )
            transfer = Transfer(source, target, strings, match(strings, source, target))
            turns = rot.multiply(source.rest, rot.from_vector(rng.normal(0, 0.8, (20, len(source), 3))))
            clip = Clip("wild", source, 30.0, turns, np.array([0]), rng.normal(size=(20, 1, 3)))
            before, after = forward(clip)[1], forward(transfer.run(clip))[1]
            own, rigs = transfer.references
            for string in strings:
                if len(string.source) == len(string.target) == 1 and not string.part.endswith("twist"):
                    j, k = source.index[string.source[0]], target.index[string.target[0]]
                    wanted = rot.multiply(rot.multiply(before[:, j], rot.conjugate(own[j])), rigs[k])
                    away = np.abs(rot.angle(rot.multiply(rot.conjugate(wanted), after[:, k]))).max()
                    self.assertLess(away, 1e-6, string.part)

    def test_random_dressings(self):
        self.check(100, 40)

    def test_each_rest_pose(self):
        for i, rest in enumerate(RESTS):
            self.check(200 + i, 5, rest=rest)

    def test_useless_names(self):
        self.check(300, 10, names="numbers")

    def test_extreme_units(self):
        for unit in (0.07, 100.0):
            self.check(400, 4, unit=unit)

    def test_other_way_round(self):
        """From the bare figure onto the dressed one: joints as seen from the dressed file's own world."""
        rng = np.random.default_rng(500)
        for _ in range(8):
            bare = make_figure(random_build(rng))
            clip = wild_motion(bare, rng)
            strange = dressed(clip, rng, names="own", extras=False)
            baked, _, _found, transfer = retargeted(clip, strange.skeleton)
            got = joints_at(baked) / transfer.scale
            own = [i for i, n in enumerate(bare.names) if n != "root"]
            self.close(got[:, own], joints_at(clip)[:, own], 1e-4 * np.ptp(bare.rest_world[0]))


class OtherProportions(Case):
    """Onto other proportions, tied limbs point as the source's do, whatever the figure does."""

    def check_directions(self, baked, source, transfer, within=0.01):
        ties = {s.part: s for s in transfer.strings}
        here, there = joints_at(source), joints_at(baked)
        for side in ("left ", "right "):
            for part, after in LIMBS.items():
                (a, b), (c, d) = (
                    [skeleton.index[getattr(ties[side + p], end)[0]] for p in (part, after)]
                    for skeleton, end in ((source.skeleton, "source"), (baked.skeleton, "target"))
                )
                angles = rot.angle_between(here[:, b] - here[:, a], there[:, d] - there[:, c])
                self.assertLess(np.degrees(angles).max(), within, side + part)

    def test_wild_motion_between_random_figures(self):
        rng = np.random.default_rng(600)
        for _ in range(15):
            clip = dressed(wild_motion(make_figure(random_build(rng)), rng), rng, rest=str(rng.choice(list(RESTS))))
            rig = dressed(wild_motion(make_figure(random_build(rng)), rng, 1), rng, extras=False).skeleton
            baked, source, _, transfer = retargeted(clip, rig)
            self.check_directions(baked, source, transfer)

    def test_the_whole_show(self):
        state = show_state()
        from young_marionette.project.pairing import pair

        for source in state.of_role("clip"):
            if source.placed_clip.frames < 3:
                continue
            for rig in state.of_role("rig"):
                pairing = pair(source, rig)
                self.check_directions(pairing.transfer.run(source.placed_clip), source.placed_clip, pairing.transfer)

    def test_lengths_are_the_rigs(self):
        rng = np.random.default_rng(601)
        baked, _, _, _ = retargeted(wild_motion(figure(), rng), make_figure(FULL))
        places = joints_at(baked)
        s = baked.skeleton
        for joint, parent in enumerate(s.parents):
            if parent >= 0 and joint not in baked.moving:
                lengths = np.linalg.norm(places[:, joint] - places[:, parent], axis=-1)
                self.close(lengths, np.linalg.norm(s.offsets[joint]), 1e-9)

    def test_hips_by_leg_length(self):
        rng = np.random.default_rng(602)
        for leg in (0.5, 1.2):
            rig = make_figure(Build(leg=leg))
            clip = wild_motion(figure(), rng)
            baked, _, _, transfer = retargeted(clip, rig)
            self.close(transfer.scale, leg / 0.86, 5e-3)
            thighs = [baked.skeleton.index[f"{s} thigh"] for s in ("left", "right")]
            got, was = joints_at(baked)[:, thighs].mean(1), joints_at(clip)[:, thighs].mean(1)
            self.close(got[:, [0, 2]], was[:, [0, 2]] * transfer.scale, 1e-9)

    def test_a_standing_figure_stands(self):
        """Feet on the floor stay on it, for long legs and high ankles."""
        s = figure()
        stand = Clip("stand", s, 30, s.rest[None], [0], s.offsets[:1][None])
        for build in (Build(leg=1.1, ankle=0.12), Build(height=1.1, leg=0.4, ankle=0.03)):
            baked, _, _, _ = retargeted(stand, make_figure(build))
            ends = baked.skeleton.ends[baked.skeleton.index["left toes"], 1]
            foot = joints_at(baked)[0, baked.skeleton.index["left foot"], 1]
            self.close(foot, build.ankle, 0.004)
            self.assertTrue(np.isfinite(ends))

    def test_untied_bones_rest(self):
        baked, _, _, transfer = retargeted(
            wild_motion(figure(), np.random.default_rng(603)), make_figure(replace(FULL, twist=False))
        )
        tied = {n for s in transfer.strings for n in s.target}
        for joint, name in enumerate(baked.skeleton.names):
            if name not in tied:
                self.same_turn(
                    baked.rotations[:, joint], np.broadcast_to(baked.skeleton.rest[joint], (baked.frames, 4))
                )

    def test_source_is_untouched_and_of_the_right_skeleton(self):
        clip = wild_motion(figure(), np.random.default_rng(604))
        before = clip.rotations.copy()
        _, _source, _, transfer = retargeted(clip, make_figure(FULL))
        self.close(clip.rotations, before, 0)
        self.refuses(lambda: transfer.run(wild_motion(make_figure(FULL), np.random.default_rng(0))), "stringing")


class RunsAndHelpers(Case):
    def test_ends_of_a_run_agree(self):
        """However many spine bones: the last turns with the source's last, from its reference."""
        rng = np.random.default_rng(700)
        for count, other in ((1, 4), (4, 1), (3, 5), (5, 2)):
            clip = wild_motion(figure(spine=count), rng)
            baked, source, _, _ = retargeted(clip, figure(spine=other, height=1.5))
            a, b = source.skeleton.index[f"spine {count}"], baked.skeleton.index[f"spine {other}"]
            self.same_turn(forward(source)[1][:, a], forward(baked)[1][:, b], 1e-6)

    def test_bend_is_shared_along_a_run(self):
        """One source bone bent by 60 degrees gives three target bones 20 each."""
        s = figure(spine=1)
        turns = s.rest.copy()
        turns[s.index["spine 1"]] = rot.from_axis_angle(rot.AXES["X"], np.array(np.radians(60)))
        rig = figure(spine=3, height=1.6)
        baked, _, _, _ = retargeted(Clip("bend", s, 30, turns[None], [0], s.offsets[:1][None]), rig)
        angles = [np.degrees(rot.angle(baked.rotations[0, rig.index[f"spine {i}"]])) for i in (1, 2, 3)]
        self.close(np.sum(angles), 60, 1e-6)
        self.assertLess(np.ptp(angles), 12)

    def test_helpers_follow_the_twist_by_their_share(self):
        s, rig = figure(), figure(twist=True, height=1.6)
        turns = s.rest.copy()
        turns[s.index["left hand"]] = rot.from_axis_angle(rot.AXES["X"], np.array(np.radians(80)))
        baked, _, _, _ = retargeted(Clip("twist", s, 30, turns[None], [0], s.offsets[:1][None]), rig)
        self.close(np.degrees(rot.angle(baked.rotations[0, rig.index["left forearm twist"]])), 40, 0.5)
        self.close(np.degrees(rot.angle(baked.rotations[0, rig.index["left hand"]])), 80, 0.5)
        self.close(rot.angle(baked.rotations[0, rig.index["left thigh twist"]]), 0, 1e-6)


class Travel(Case):
    def setUp(self):
        t = np.linspace(0, 2, 41)
        self.figure = figure()
        path = self.figure.offsets[0] + np.stack([0.3 * t, 0.05 * np.sin(6 * t), 1.5 * t], -1)
        self.clip = Clip("walk", self.figure, 20, np.tile(self.figure.rest, (41, 1, 1)), [0], path[:, None])

    def test_root_stays_on_the_floor_under_the_hips(self):
        rig = make_figure(FULL)
        baked, _, _, _ = retargeted(self.clip, rig)
        places = joints_at(baked)
        root, hips = places[:, rig.index["root"]], places[:, rig.index["hips"]]
        self.close(root[:, 1], 0, 1e-9)
        self.close(root[:, [0, 2]], hips[:, [0, 2]], 1e-9)

    def test_root_changes_nothing_else(self):
        with_root, without = make_figure(FULL), make_figure(replace(FULL, root=False))
        a, b = (joints_at(retargeted(self.clip, rig)[0]) for rig in (with_root, without))
        self.close(a[:, 1:], b, 1e-6)

    def test_a_root_up_at_the_hips_is_left_alone(self):
        rig = dressing.insert_joint(
            Clip("x", self.figure, 30, self.figure.rest[None]), "top", None, (0, 0.9, 0)
        ).skeleton
        baked, _, _, transfer = retargeted(self.clip, rig)
        self.assertIsNone(transfer.root)
        self.assertEqual([rig.names[j] for j in baked.moving], ["hips"])

    def test_stride_and_height(self):
        rig = figure(height=1.5)
        plain = joints_at(retargeted(self.clip, rig)[0])[:, 0]
        other = joints_at(retargeted(self.clip, rig, TransferSettings(stride=0.5, height_offset=0.1))[0])[:, 0]
        self.close(np.diff(other[:, 2]), np.diff(plain[:, 2]) / 2, 1e-9)
        self.close(other[:, 1] - plain[:, 1], 0.1, 1e-9)


class Stances(Case):
    def test_every_pair_of_rest_poses_matches(self):
        for here in RESTS:
            for there in RESTS:
                a, b = figure(fingers=True), figure(fingers=True, height=1.4, arm=0.4)
                a, b = (
                    dressing.with_rest(Clip("x", s, 30, s.rest[None]), dressing.rest_pose(s, RESTS[rest])).skeleton
                    for s, rest in ((a, here), (b, there))
                )
                strings = tie(a, read_body(a), b, read_body(b))
                stance = match(strings, a, b)
                for limb in limbs_left(strings, a, b, stance):
                    self.assertLess(limb.angle, 0.5, f"{here} to {there}: {limb.part}")
                self._soles_flat(b, stance.target, f"{here} to {there}")

    def _soles_flat(self, skeleton, pose, what):
        points, _ = pose_world(skeleton, pose)
        for side in ("left", "right"):
            drop = points[skeleton.index[f"{side} foot"], 1] - points[skeleton.index[f"{side} toes"], 1]
            rest = skeleton.rest_world[0]
            self.close(
                drop, rest[skeleton.index[f"{side} foot"], 1] - rest[skeleton.index[f"{side} toes"], 1], 2e-3, what
            )

    def test_bend_planes(self):
        """Elbows bent in planes of their own, on both sides: matched, they bend in one plane."""
        a, b = figure(), figure(height=1.4, arm=0.4)
        bends = {"left forearm": (0, -0.9, 0)}, {"left forearm": (0, 0.2, 1.0)}
        a, b = (
            dressing.with_rest(Clip("x", s, 30, s.rest[None]), dressing.rest_pose(s, bend)).skeleton
            for s, bend in zip((a, b), bends)
        )
        strings = tie(a, read_body(a), b, read_body(b))
        stance = match(strings, a, b)
        planes = []
        for skeleton, pose in ((a, stance.source), (b, stance.target)):
            points, turns = pose_world(skeleton, pose)
            arm, elbow, hand = (skeleton.index[f"left {part}"] for part in ("upper arm", "forearm", "hand"))
            normal = np.cross(points[elbow] - points[arm], points[hand] - points[elbow])
            # In the upper arm's own axes: there the plane must be the one that the elbow has always bent in.
            own = skeleton.rest_world
            at_rest = np.cross(own[0][elbow] - own[0][arm], own[0][hand] - own[0][elbow])
            self.assertLess(
                np.degrees(
                    rot.angle_between(
                        rot.rotate(rot.conjugate(turns[arm]), normal), rot.rotate(rot.conjugate(own[1][arm]), at_rest)
                    )
                ),
                0.5,
            )
            planes.append(normal)
        self.assertLess(np.degrees(rot.angle_between(*planes)), 0.5)
        self.assertLess(max(limb.angle for limb in limbs_left(strings, a, b, stance)), 0.5)

    def test_palms(self):
        """A T-pose rig matched to hanging arms turns its palms in with them."""
        a, b = figure(fingers=True), figure(fingers=True, arm=0.4)
        a = dressing.with_rest(Clip("x", a, 30, a.rest[None]), dressing.rest_pose(a, RESTS["hanging"])).skeleton
        strings = tie(a, read_body(a), b, read_body(b))
        stance = match(strings, a, b)
        across = []
        for skeleton, pose in ((a, stance.source), (b, stance.target)):
            points, _ = pose_world(skeleton, pose)
            across.append(points[skeleton.index["left index 1"]] - points[skeleton.index["left little 1"]])
        self.assertLess(np.degrees(rot.angle_between(*across)), 5)

    def test_unmatched_says_what_is_left(self):
        a, b = figure(), figure(height=1.5)
        hanging = dressing.with_rest(Clip("x", a, 30, a.rest[None]), dressing.rest_pose(a, RESTS["A"])).skeleton
        strings = tie(hanging, read_body(hanging), b, read_body(b))
        stance = match(strings, hanging, b)
        left = {limb.part: limb.angle for limb in limbs_left(strings, hanging, b, replace(stance, target=b.rest))}
        self.close(left["left upper arm"], np.degrees(0.8), 0.3)
        self.assertLess(left["left thigh"], 0.5)

    def test_same_body(self):
        s = figure()
        strings = tie(s, read_body(s), s, read_body(s))
        self.assertTrue(same_body(strings, s, s))
        self.assertFalse(same_body(strings, s, figure(arm=0.5)))

    def test_a_frame_as_reference(self):
        """With the source's reference in another pose, that pose is what the rig's reference pose answers to."""
        s, rig = figure(), figure(height=1.5)
        pose = dressing.rest_pose(s, RESTS["A"])
        strings = tie(s, read_body(s), rig, read_body(rig))
        stance = match(strings, s, rig, pose)
        self.assertTrue(all(limb.angle < 0.5 for limb in limbs_left(strings, s, rig, stance)))
        clip = Clip("pose", s, 30, pose[None], [0], s.offsets[:1][None])
        baked = Transfer(s, rig, strings, stance).run(clip)
        arm = rig.index["left upper arm"], rig.index["left forearm"]
        points = joints_at(baked)[0]
        self.close(
            np.degrees(rot.angle_between(points[arm[1]] - points[arm[0]], np.array([np.cos(0.8), -np.sin(0.8), 0]))),
            0,
            1.0,
        )

    def test_transfer_needs_hips(self):
        s = figure()
        strings = (String("head", ("head",), ("head",), 1.0, ""),)
        self.refuses(lambda: Transfer(s, s, strings, match(strings, s, s)), "hips")

    def test_placed_bodies_agree(self):
        self.assertEqual(place_figure(figure()).rest_pose.arms, Arms.T_POSE)


class SmallNumbersOfFrames(Case):
    def test_one_frame_is_what_many_give(self):
        """Single frames take another way through the arithmetic; it leads to the same place."""
        rng = np.random.default_rng(800)
        clip = wild_motion(make_figure(FULL), rng, 5)
        whole, _, _, transfer = retargeted(clip, make_figure(replace(FULL, height=1.5, spine=2)))
        for frame in range(5):
            single = transfer.run(clip.cut(frame, frame))
            self.close(joints_at(single)[0], joints_at(whole)[frame], 1e-12)

    def test_long_clips_are_worked_out_in_parts(self):
        """Whatever the parts, the same to the last bit."""
        clip = wild_motion(make_figure(FULL), np.random.default_rng(801), 50)
        whole, _, _, transfer = retargeted(clip, make_figure(replace(FULL, height=1.5, spine=2)))
        body = read_body(clip.skeleton)
        facts = motion_facts(clip, body)
        for size in (7, 25, 49):
            with mock.patch.object(clips, "_BLOCK", size):
                parts = transfer.run(clip)
                self.assertEqual(motion_facts(clip, body), facts)
            self.close(parts.rotations, transfer.run(clip).rotations, 1e-15)
            self.close(parts.translations, transfer.run(clip).translations, 1e-15)
            self.assertEqual(parts.moving.tolist(), whole.moving.tolist())

    def test_settings_do_not_touch_the_stance(self):
        s, rig = figure(), figure(height=1.5)
        strings = tie(s, read_body(s), rig, read_body(rig))
        stance = match(strings, s, rig)
        before = stance.target.copy()
        touched = TransferSettings(touches=(("arms out", 12.0), ("head down", 5.0)))
        baked = Transfer(s, rig, strings, stance, touched).run(
            Clip("rest", s, 30, s.rest[None], [0], s.offsets[:1][None])
        )
        self.close(stance.target, before, 0)
        plain = Transfer(s, rig, strings, stance).run(Clip("rest", s, 30, s.rest[None], [0], s.offsets[:1][None]))
        hand = rig.index["left hand"]
        self.assertGreater(joints_at(baked)[0, hand, 1], joints_at(plain)[0, hand, 1] + 0.05)
