"""Reading bodies: words, parts, sides, facing, unit, rest pose."""

import tempfile
from dataclasses import replace
from pathlib import Path

import numpy as np

from tests.support import RESTS, UPS, Case, dressed, figure, random_build, show_folder, wild_motion
from young_marionette.core import rotations as rot
from young_marionette.core.clip import Clip
from young_marionette.core.figure.correction import Correction
from young_marionette.core.figure.facts import Arms, examine, guess_unit, motion_facts, place_figure
from young_marionette.core.figure.placement import axis_vector, place_clip, place_skeleton
from young_marionette.core.findings import MANUAL
from young_marionette.core.humanoid.reading import read_body
from young_marionette.core.humanoid.words import NameEvidence, parts_of, shared_prefix, side_of, split
from young_marionette.core.rebase import rename
from young_marionette.core.skeleton import Skeleton
from young_marionette.demo import dressing
from young_marionette.demo.cast import PERFORMERS, PUPPETS
from young_marionette.demo.figures import Build, make_figure


def truth(skeleton, names=None):
    """``{joint name: part}`` by the figure maker's own names, helpers apart."""
    return {(names or {}).get(n, n): n.rstrip(" 0123456789") for n in skeleton.names}


class Words(Case):
    def test_splitting(self):
        for name, words in {
            "leftUpperArm": ["left", "upper", "arm"],
            "L_Foot": ["l", "foot"],
            "arm.lower-right": ["arm", "lower", "right"],
            "vertebra12": ["vertebra", "12"],
            "HIPS": ["hips"],
            "l_metacarpophalangeal_2": ["l", "metacarpophalangeal", "2"],
            "RThigh": ["r", "thigh"],
            "rightfoot": ["right", "foot"],
        }.items():
            self.assertEqual(split(name), words, name)

    def test_sides(self):
        self.assertEqual(side_of(split("LeftFoot")), "left")
        self.assertEqual(side_of(split("foot_r")), "right")
        self.assertIsNone(side_of(split("head")))
        self.assertIsNone(side_of(["left", "right"]))

    def test_prefix(self):
        self.assertEqual(shared_prefix(["quay:Hips", "quay:Head", "quay:Hand"]), "quay:")
        self.assertEqual(shared_prefix(["hips", "head", "hand"]), "")
        self.assertEqual(shared_prefix(["a:b", "a:c"]), "")

    def test_parts(self):
        for name, part in {
            "upperArm": "upper arm",
            "l_elbow": "forearm",
            "thigh.R": "thigh",
            "l_talocrural": "foot",
            "spine2": "spine",
            "vl5": "spine",
            "skullbase": "head",
            "LeftToes": "toes",
            "r_carpometacarpal_1": "thumb",
            "l_interphalangeal_near_5": "little",
            "leftIndexProximal": "index",
            "forearm_twist": "twist",
        }.items():
            said = parts_of(split(name))
            self.assertEqual(max(said, key=said.get), part, name)

    def test_words_of_two_meanings_share(self):
        self.assertEqual(set(parts_of(split("l_hip"))), {"hips", "thigh"})
        self.assertEqual(set(parts_of(split("shoulder_l"))), {"collarbone", "upper arm"})

    def test_weights(self):
        names = NameEvidence(["spine", "Bip", "hand"])
        self.assertEqual(
            [names.weight(0, "spine"), names.weight(1, "spine"), names.weight(2, "spine")], [1.0, 0.0, -1.0]
        )


class Reading(Case):
    def check(self, skeleton, wanted, what=""):
        """Every part that was read holds the joints that it should, and no must-have part is missing."""
        body = read_body(skeleton)
        self.assertIsNotNone(body, what)
        for part, run in body.parts.items():
            for joint in run:
                made = wanted[skeleton.names[joint]].replace(" twist", "")
                self.assertEqual(made, part.replace(" twist", ""), what)
        for part in ("hips", "spine", "head", "left hand", "right foot", "left shin", "right forearm"):
            self.assertIn(part, body.parts, what)
        return body

    def test_cast_with_own_names(self):
        for role in (*PERFORMERS, *PUPPETS):
            s = role.figure
            self.check(rename(s, role.names), truth(s, role.names), role.name)

    def test_useless_names(self):
        rng = np.random.default_rng(1)
        for trial in range(30):
            s = make_figure(random_build(rng))
            names = {n: f"bone_{i:02d}" for i, n in enumerate(rng.permutation(list(s.names)))}
            self.check(rename(s, names), truth(s, names), f"trial {trial}")

    def test_rests_axes_and_units(self):
        rng = np.random.default_rng(2)
        for rest in RESTS:
            for up in UPS:
                s = figure(fingers=True)
                clip = dressed(wild_motion(s, rng, 2), rng, rest=rest, names="own", up=up, extras=False)
                body = self.check(clip.skeleton, truth(s), f"{rest} {up}")
                self.close(np.abs(body.up).max(), 1.0)
                self.assertGreater(body.up @ rot.rotate(UPS[up], rot.AXES["Y"]), 0.99)

    def test_mirrored_words_are_not_believed(self):
        s = figure(fingers=True)
        swap = {
            n: ("right" if n.startswith("left") else "left") + n.removeprefix("left").removeprefix("right")
            for n in s.names
            if n.startswith(("left", "right"))
        }
        body = read_body(rename(s, swap))
        self.assertTrue(body.sides_swapped)
        self.assertEqual([s.names[j] for j in body.parts["left hand"]], ["left hand"])

    def test_one_misleading_word_does_not_win(self):
        s = figure(fingers=True, spine=3)
        for wrong in (
            {"left forearm": "left foot"},
            {"spine 2": "head b"},
            {"hips": "neck b"},
            {"right thigh": "right upper arm b"},
            {"left index 1": "left thumb 9", "left index 2": "left thumb 8"},
            {"head": "tail"},
        ):
            wanted = {wrong.get(n, n): p for n, p in truth(s).items()}
            names = {**{n: n for n in s.names}, **wrong}
            if len(set(names.values())) == len(names):
                self.check(rename(s, names), wanted, str(wrong))

    def test_misleading_words_lower_the_certainty(self):
        s = figure()
        plain, misled = read_body(s), read_body(rename(s, {"left forearm": "left bucket"}))
        self.assertLess(misled.certainty["left forearm"], plain.certainty["left forearm"])

    def test_facing_from_feet_when_names_say_nothing(self):
        s = figure()
        for angle in (0.0, 1.0, 2.5, -2.0):
            clip = Clip("x", s, 30, s.rest[None])
            turned = dressing.in_file_world(clip, 1.0, rot.from_axis_angle(rot.AXES["Y"], np.array(angle)))
            body = read_body(turned.skeleton)
            self.close(body.forward, [np.sin(angle), 0, np.cos(angle)], 1e-9)
            self.assertEqual(body.facing_from, "feet")

    def test_legs_alone_are_a_body(self):
        s = figure(fingers=False)
        keep = [i for i, n in enumerate(s.names) if not any(w in n for w in ("arm", "hand", "collarbone"))]
        shift = {old: new for new, old in enumerate(keep)}
        parents = [shift.get(int(s.parents[i]), -1) for i in keep]
        body = read_body(Skeleton([s.names[i] for i in keep], parents, s.offsets[keep], tips=s.tips[keep]))
        self.assertIn("left foot", body.parts)
        self.assertNotIn("left hand", body.parts)

    def test_no_body(self):
        for count in (1, 3, 8):
            s = Skeleton([f"j{i}" for i in range(count)], np.arange(count) - 1, np.ones((count, 3)))
            self.assertIsNone(read_body(s))

    def test_degenerate_shapes_do_not_crash(self):
        rng = np.random.default_rng(3)
        for _ in range(200):
            count = int(rng.integers(1, 40))
            parents = np.array([-1, *(int(rng.integers(0, i)) for i in range(1, count))])
            offsets = rng.normal(size=(count, 3)) * rng.choice([0, 1e-12, 1, 1e6], size=(count, 1))
            examine(Skeleton([f"j{i}" for i in range(count)], parents, offsets))


class Facts(Case):
    def test_units(self):
        for stature, unit in (
            (1.7, "metre"),
            (170, "centimetre"),
            (1650, "millimetre"),
            (68, "inch"),
            (110, "centimetre"),
            (1.1, "metre"),
            (5.7, "foot"),
            (17, "decimetre"),
            (0.6, "metre"),
            (310, "centimetre"),
        ):
            self.assertEqual(guess_unit(stature)[1], unit, stature)

    def test_senseless_sizes_are_shown_human_and_said(self):
        for stature in (17000, 0.119, 3e7, 1e-4, 24.8, 9.5):
            scale, _, sure = guess_unit(stature)
            self.assertFalse(sure)
            self.assertTrue(1.1 < scale * stature < 2.4)
        skeleton = dressing.in_file_world(Clip("x", figure(), 30, figure().rest[None]), 1e-4).skeleton
        self.assertEqual([o.code for o in examine(skeleton).oddities], ["unit"])

    def test_rest_poses(self):
        held = {"T": Arms.T_POSE, "A": Arms.A_POSE, "hanging": Arms.HANGING, "seated": Arms.HANGING}
        for rest, arms in held.items():
            s = figure()
            clip = dressing.with_rest(Clip("x", s, 30, s.rest[None]), dressing.rest_pose(s, RESTS[rest]))
            pose = examine(clip.skeleton).rest_pose
            self.assertEqual((pose.arms, pose.seated), (arms, rest == "seated"))

    def test_family_is_told_by_shape_not_by_dressing(self):
        role = PERFORMERS[0]
        base = dressing.with_names(dressing.with_rest(Clip("x", role.figure, 30, role.figure.rest[None])), role.names)
        same = dressing.in_file_world(base, 0.01, UPS["Z"])
        prefixed = dressing.with_names(base, {n: n.replace("quay:", "take7:") for n in base.skeleton.names})
        other = dressing.insert_joint(base, "quay:Pole", "quay:R_Hand", (0, 0.1, 0))
        prints = [examine(c.skeleton).fingerprint for c in (base, same, prefixed, other)]
        self.assertEqual(prints[0], prints[1])
        self.assertEqual(prints[0], prints[2])
        self.assertNotEqual(prints[0], prints[3])

    def test_corrections_win(self):
        s = figure()
        found = place_figure(s, Correction(scale=0.01, up="Z", facing="-Y"))
        self.assertEqual((found.unit, found.up, found.facing), ("centimetre", "+Z", "-Y"))
        self.close(rot.rotate(found.placement.turn, axis_vector("-Y")), [0, 0, 1], 1e-9)
        self.assertTrue(any(f.source == MANUAL for f in found.facts))

    def test_hovering_and_short_clips_are_told(self):
        s = make_figure(Build())
        clip = Clip("x", s, 30, np.tile(s.rest, (30, 1, 1)), [0], np.tile(s.offsets[0] + [0, 0.05, 0], (30, 1, 1)))
        body = place_figure(s).body
        _, odd = motion_facts(clip, body)
        self.assertEqual([o.code for o in odd], ["floor"])
        self.close(odd[0]["metres"], 0.05, 0.002)
        self.assertEqual([o.code for o in motion_facts(clip.cut(0, 0), body)[1]], ["short"])

    def test_travel(self):
        s = make_figure(Build())
        path = np.tile(s.offsets[0], (31, 1, 1)) + np.linspace(0, 3, 31)[:, None, None] * [0, 0, 1]
        facts, _ = motion_facts(Clip("x", s, 30, np.tile(s.rest, (31, 1, 1)), [0], path), place_figure(s).body)
        (travel,) = (f for f in facts if f.code == "travel")
        self.assertFalse(travel["in_place"])
        self.close(travel["metres"], 3.0, 0.05)

    def test_placed_figures_stand_upright_and_face_front(self):
        rng = np.random.default_rng(4)
        for _ in range(12):
            clip = dressed(wild_motion(figure(), rng, 2), rng, names="own")
            found = place_figure(clip.skeleton)
            placed = place_clip(clip, found.placement).skeleton
            points = placed.rest_world[0]
            legs = points[placed.index["head"]] - points[placed.index["left foot"]]
            self.assertGreater(legs[1], 0.3)
            across = points[placed.index["left thigh"]] - points[placed.index["right thigh"]]
            aside = np.degrees(rot.angle_between(across, rot.AXES["X"]))
            # What stands turned by no quarter turn stays as it stands.
            self.assertTrue(aside < 15 or abs(found.facts[2]["yaw"]) > 15, aside)
            self.assertAlmostEqual(aside, abs(found.facts[2]["yaw"]), delta=0.01)


class OtherShapes(Case):
    """Skeletons that are no upright body of two legs: told for what they are, and not transferred without a word."""

    def quadruped(self, named):
        names, parents, offsets = [], [], []

        def add(name, parent, offset):
            parents.append(names.index(parent) if parent else -1)
            names.append(name)
            offsets.append(offset)

        for name, parent, offset in (
            ("hips", None, (0, 0.9, -0.5)), ("spine 1", "hips", (0, 0.02, 0.3)), ("spine 2", "spine 1", (0, 0, 0.3)),
            ("chest", "spine 2", (0, 0, 0.3)), ("neck", "chest", (0, 0.15, 0.2)), ("head", "neck", (0, 0.2, 0.15)),
            ("jaw", "head", (0, 0, 0.2)), ("tail 1", "hips", (0, 0, -0.2)), ("tail 2", "tail 1", (0, -0.1, -0.2)),
        ):  # fmt: skip
            add(name, parent, offset)
        for side, x in (("left", 0.15), ("right", -0.15)):
            for name, parent, offset in (
                ("hind thigh", "hips", (x, -0.1, 0)), ("hind shin", None, (0, -0.35, 0.1)), ("hind foot", None, (0, -0.35, -0.12)),
                ("hind toe", None, (0, -0.08, 0.1)), ("fore leg", "chest", (x, -0.1, 0)), ("fore shank", None, (0, -0.38, -0.08)),
                ("fore paw", None, (0, -0.35, 0.06)), ("fore toe", None, (0, -0.05, 0.1)),
            ):  # fmt: skip
                add(f"{side} {name}", parent or names[-1], offset)
        return Skeleton(names if named else [f"joint{i:02d}" for i in range(len(names))], parents, offsets)

    def test_four_legs(self):
        for named in (True, False):
            for turn in (rot.IDENTITY, rot.from_axis_angle(rot.AXES["X"], np.array(np.pi / 2))):
                s = self.quadruped(named)
                s = replace(s, offsets=np.where((s.parents < 0)[:, None], rot.rotate(turn, s.offsets), s.offsets),
                            rest=np.where((s.parents < 0)[:, None], turn, s.rest))  # fmt: skip
                placed = place_figure(s)
                self.assertEqual((placed.body.kind, placed.oddities), ("four legs", ()))
                whole = self.quadruped(True).names
                parts = {p: [whole[j] for j in run] for p, run in placed.body.parts.items()}
                self.assertEqual((parts["left thigh"], parts["left hand"]), (["left hind thigh"], ["left fore paw"]))
                self.assertEqual((parts["head"], parts["neck"]), (["head"], ["neck"]))
                self.assertEqual([whole[j] for j in placed.body.beside["tail"]], ["tail 1", "tail 2"])
                points = place_skeleton(s, placed.placement).rest_world[0]
                low = np.argsort(points[:, 1])[:4].tolist()
                self.assertEqual(
                    {self.quadruped(True).names[j].split()[-1] for j in low}, {"toe"}, "it stands on its feet"
                )
                self.assertGreater(points[5, 2], points[0, 2] + 0.2 * np.ptp(points), "and looks ahead")

    def test_no_legs(self):
        for build in ({}, {"fingers": True}):
            s = figure(**build)
            keep = [i for i, n in enumerate(s.names) if not any(w in n for w in ("thigh", "shin", "foot", "toe"))]
            place = {old: new for new, old in enumerate(keep)}
            for named in (True, False):
                names = [s.names[i] if named else f"j{i}" for i in keep]
                bare = Skeleton(
                    names, [place.get(int(s.parents[i]), -1) for i in keep], s.offsets[keep], tips=s.tips[keep]
                )
                self.assertEqual([o.code for o in place_figure(bare).oddities], ["no legs"])

    def test_a_person_is_still_a_person(self):
        """On hands and knees by name, seated, or bent forward: no rest pose of a person makes a quadruped of it."""
        for rest in RESTS:
            s = dressing.with_rest(
                Clip("x", figure(), 30, figure().rest[None]), dressing.rest_pose(figure(), RESTS[rest])
            )
            self.assertIsNotNone(place_figure(s.skeleton).body, rest)

    def test_it_is_said_before_anything_else(self):
        from tests.cli.test_cli import run
        from young_marionette.formats import write

        s = self.quadruped(True)
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        path = Path(holder.name) / "fox.bvh"
        write(path, Clip("fox", s, 30, s.rest[None]))
        lamp = show_folder() / "quay/light_lamp.bvh"
        code, _, err = run("retarget", lamp, path, "--out", Path(holder.name) / "x.bvh")
        self.assertEqual(code, 2)
        self.assertIn("stands on four legs", err)
        self.assertFalse((Path(holder.name) / "x.bvh").exists())
