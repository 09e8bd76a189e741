"""The document: commands, undo and redo, pairings that are reused, snags."""

from dataclasses import replace
from unittest import mock

import numpy as np

from tests.support import Case, figure, joints_at, live_clip, show_folder, show_state, told
from young_marionette.core import rotations as rot
from young_marionette.core.clip import Clip
from young_marionette.formats import read, write
from young_marionette.project import commands as do
from young_marionette.project.bakes import baked as bake
from young_marionette.project.changes import only_in
from young_marionette.project.document import Document, State
from young_marionette.project.entry import entries_of, free_name
from young_marionette.project.pairing import not_there, pair, refuse_gaps
from young_marionette.project.snags import find_snags, route_states
from young_marionette.wording.snags import snag_words


class WithShow(Case):
    def setUp(self):
        self.document = Document(show_state())

    @property
    def state(self):
        return self.document.state

    def id_of(self, name):
        return next(e.id for e in self.state.entries if e.name == name)

    def do(self, command):
        self.document.do(command)
        return self.state

    def strings(self):
        return {s.part: s for s in self.state.pairing.strings}


class Undo(WithShow):
    def test_every_command_can_be_taken_back_and_done_again(self):
        lamp, gull = self.id_of("light_lamp"), self.id_of("Gull")
        for command in (
            do.Choose(self.id_of("haul_rope")),
            do.Choose(gull, as_rig=True),
            do.Rename(lamp, "lamp at dusk"),
            do.Rename(None, "Harbour"),
            do.Correct(lamp, (("up", "Z"),)),
            do.TieBones("neck", ("quay:Head",), ("neck",)),
            do.Untie("left toes"),
            do.TurnBone("head", (0.1, 0, 0)),
            do.ResetBone("leftUpperArm"),
            do.ResetBone(),
            do.AdoptPose(30),
            do.SetTransfer((("in_place", ("x", "z")),)),
            do.Bake(),
            do.KeepStringing("quay to Heron"),
            do.SetRole(lamp, "rig"),
            do.Remove(gull),
        ):
            document = Document(show_state())
            before = document.state
            document.do(command)
            after = document.state
            self.assertIsNot(after, before, command.label)
            self.assertEqual(document.undo_label, command.label)
            document.undo()
            self.assertIs(document.state, before, command.label)
            self.assertEqual(document.redo_label, command.label)
            document.redo()
            self.assertIs(document.state, after, command.label)

    def test_a_gesture_is_one_step_whatever_it_holds(self):
        drag, other = object(), object()
        for i in range(5):
            self.document.do(do.TurnBone("head", (0.1, 0, 0)), do.SetTolerance(20 + i), gesture=drag)
        self.document.do(do.TurnBone("head", (0.1, 0, 0)), gesture=other)
        self.document.undo()
        self.assertEqual(self.state.stance_tolerance, 24)
        self.document.undo()
        self.assertIs(self.state, show_state())

    def test_many_small_turns_stay_a_rotation(self):
        """What rounding adds in each step of a long drag must not feed on itself."""
        gesture = object()
        for _ in range(300):
            self.document.do(do.TurnBone("leftUpperArm", (0.01, 0.004, 0)), gesture=gesture)
        self.close(np.linalg.norm(self.document.state.pairing.stance.target, axis=1), 1.0, 1e-9)
        self.document.undo()
        self.assertTrue(self.document.state.pairing.matched)

    def test_edits_without_a_gesture_are_steps_of_their_own(self):
        """The same command twice, and choosing a clip and then a rig, can be taken back one by one."""
        for first, second in (
            (do.SetTolerance(20), do.SetTolerance(30)),
            (do.Choose(self.id_of("haul_rope")), do.Choose(self.id_of("Puffin"), as_rig=True)),
            (do.SetTransfer((("stride", 0.9),)), do.SetTransfer((("stride", 0.8),))),
        ):
            start = self.state
            self.do(first)
            between = self.state
            self.do(second)
            self.document.undo()
            self.assertIs(self.state, between)
            self.document.undo()
            self.assertIs(self.state, start)

    def test_commands_of_one_click_are_one_step_or_none(self):
        self.document.do(do.Untie("head"), do.DeclareAbsent("neck"))
        self.assertEqual(self.document.undo_label, "untie head")
        self.document.undo()
        self.assertIs(self.state, show_state())
        self.refuses(lambda: self.document.do(do.Untie("head"), do.DeclareAbsent("hips")), "hips")
        self.assertIs(self.state, show_state())

    def test_a_change_says_what_it_touched(self):
        told = []
        self.document.changed.connect(lambda change, within: told.append((change, within)))
        lamp = self.id_of("light_lamp")
        self.do(do.Tag(lamp, ("dusk",)))
        self.do(do.SetTolerance(20))
        self.do(do.Bake())
        self.do(do.Untie("head"))
        self.document.undo()
        tag, tolerance, bake_, untie, undone = (change for change, _ in told)
        self.assertEqual((tag.entries, tag.pairings, tag.fields, tag.bakes), ({lamp}, set(), set(), set()))
        self.assertEqual((tolerance.fields, tolerance.entries), ({"stance_tolerance"}, set()))
        self.assertEqual(bake_.bakes, {self.state.bakes[-1].id})
        self.assertEqual(untie.pairings, {self.state.key})
        self.assertEqual(undone, untie)
        self.assertTrue(untie.touches("pairings") and not untie.touches("entries", "stance_tolerance"))
        drag = object()
        for _ in range(2):
            self.document.do(do.TurnBone("head", (0.1, 0, 0)), gesture=drag)
        self.assertEqual([within for _, within in told[-2:]], [False, True])

    def test_history_is_bounded_by_what_it_holds(self):
        """Baking and removing again and again: the oldest steps go, the newest one can always be taken back."""
        from young_marionette.project import document as documents

        self.do(do.Bake())
        size = only_in(self.state, replace(self.state, bakes=()))
        self.assertGreater(size, self.state.bakes[0].placed_clip.rotations.nbytes)
        with mock.patch.object(documents, "HISTORY", 3 * size):
            for _ in range(10):
                self.do(do.Remove(self.state.bakes[-1].id))
                self.do(do.Bake())
            held = sum(step.cost for step in self.document._undo)
            self.assertLessEqual(held, 3 * size)
            self.assertGreater(len(self.document._undo), 4)
        with mock.patch.object(documents, "HISTORY", 0):
            self.do(do.Remove(self.state.bakes[-1].id))
            self.document.undo()
            self.assertEqual(len(self.state.bakes), 1)

    def test_a_new_edit_ends_redo(self):
        self.do(do.Untie("head"))
        self.document.undo()
        self.do(do.Untie("neck"))
        self.assertIsNone(self.document.redo_label)
        self.document.redo()
        self.assertNotIn("neck", self.strings())

    def test_listeners_and_saved(self):
        told = []
        self.document.changed.connect(lambda *_change: told.append(self.document.unsaved))
        self.do(do.Untie("head"))
        self.document.mark_saved("x")
        self.document.undo()
        self.assertEqual(told, [True, False, True])

    def test_nothing_to_take_back(self):
        self.document.undo()
        self.document.redo()
        self.assertIs(self.state, show_state())

    def test_a_failed_command_changes_nothing(self):
        empty = Document()
        for command in (
            do.TieAll(),
            do.MatchStance(),
            do.Bake(),
            do.Untie("head"),
            do.KeepStringing("x"),
            do.SetTransfer(()),
        ):
            self.refuses(lambda c=command: empty.do(c), "first")
        self.assertIsNone(empty.undo_label)


class Library(WithShow):
    def test_opening_makes_the_first_clip_and_rig_active_and_ties_them(self):
        document = Document()
        for name in ("quay/light_lamp.bvh", "puppets/Heron.bvh"):
            document.do(do.AddEntries(tuple(entries_of(read(show_folder() / name)))))
        self.assertEqual((document.state.source_entry.name, document.state.rig_entry.name), ("light_lamp", "Heron"))
        self.assertEqual(len(document.state.pairing.strings), 20)

    def test_names_stay_different(self):
        entries = entries_of(read(show_folder() / "quay/light_lamp.bvh"))
        self.do(do.AddEntries(tuple(entries)))
        self.assertEqual(self.state.entries[-1].name, "light_lamp 2")
        self.assertEqual(free_name("a", {"a", "a 2"}), "a 3")

    def test_junk_is_no_rig_by_itself(self):
        document = Document()
        document.do(do.AddEntries(tuple(entries_of(read(show_folder() / "loft/loft_take_000.bvh")))))
        self.assertEqual(document.state.entries[0].role, "rig")
        self.assertIsNone(document.state.source)

    def test_removing_the_active(self):
        self.do(do.Remove(self.state.source))
        self.assertIsNone(self.state.source_entry)
        self.assertIsNone(self.state.pairing)

    def test_empty_names_are_refused(self):
        self.refuses(lambda: self.do(do.Rename(self.state.source, "  ")), "name")

    def test_correcting_turns_the_figure_at_once(self):
        source = self.state.source
        before = self.state.source_entry.placed_skeleton.rest_world[0]
        self.do(do.Correct(source, (("facing", "-Z"),)))
        self.close(self.state.source_entry.placed_skeleton.rest_world[0][:, [0, 2]], -before[:, [0, 2]], 1e-9)
        self.do(do.Correct(source, (("facing", None),)))
        self.close(self.state.source_entry.placed_skeleton.rest_world[0], before, 1e-9)


class Pairings(WithShow):
    def test_family_reuses_what_was_tied_by_hand(self):
        self.do(do.TieBones("left hand", ("quay:R_Hand",), ("leftHand",)))
        self.do(do.Choose(self.id_of("carry_bucket")))  # same family, other unit
        self.assertEqual(self.strings()["left hand"].source, ("quay:R_Hand",))
        self.do(do.Choose(self.id_of("haul_rope")))  # same family, facing away
        self.assertEqual(self.strings()["left hand"].source, ("quay:R_Hand",))
        self.assertLess(max(limb.angle for limb in self.state.pairing.limbs), 0.01)

    def test_each_rig_has_its_own(self):
        self.do(do.Untie("head"))
        self.do(do.Choose(self.id_of("Gull"), as_rig=True))
        self.assertIn("head", self.strings())
        self.do(do.Choose(self.id_of("Heron"), as_rig=True))
        self.assertNotIn("head", self.strings())

    def test_tying_mirrors(self):
        self.do(do.Untie("left hand"))
        self.do(do.Untie("right hand"))
        self.do(do.TieBones("left hand", ("quay:L_Hand",), ("leftHand",), mirror=True))
        self.assertEqual(self.strings()["right hand"].target, ("rightHand",))
        self.assertEqual(self.strings()["right hand"].source, ("quay:R_Hand",))

    def test_tie_the_rest_leaves_what_is_tied(self):
        self.do(do.TieBones("head", ("quay:Neck",), ("head",)))
        self.do(do.Untie("left foot"))
        self.do(do.TieAll(only_untied=True))
        self.assertTrue(self.strings()["head"].by_hand)
        self.assertIn("left foot", self.strings())
        self.do(do.TieAll())
        self.assertFalse(self.strings()["head"].by_hand)

    def test_stance_by_hand_stays_when_strings_change(self):
        self.do(do.TurnBone("leftUpperArm", (0, 0, 0.5)))
        turned = self.state.pairing.stance.target
        self.assertGreater(max(limb.angle for limb in self.state.pairing.limbs), 25)
        self.do(do.Untie("left toes"))
        self.close(self.state.pairing.stance.target, turned)
        self.do(do.MatchStance())
        self.assertLess(max(limb.angle for limb in self.state.pairing.limbs), 0.01)

    def test_turning_a_bone_turns_what_hangs_on_it(self):
        pairing = self.state.pairing
        from young_marionette.core.skeleton import pose_world

        before, _ = pose_world(pairing.target, pairing.stance.target)
        self.do(do.TurnBone("leftUpperArm", (0, np.pi / 2, 0)))
        after, _ = pose_world(pairing.target, self.state.pairing.stance.target)
        arm, hand = pairing.target.index["leftUpperArm"], pairing.target.index["leftHand"]
        quarter = rot.from_axis_angle(rot.AXES["Y"], np.array(np.pi / 2))
        self.close(after[hand] - after[arm], rot.rotate(quarter, before[hand] - before[arm]), 1e-9)

    def test_adopted_pose_is_the_reference(self):
        """At the adopted frame the rig stands as its stance does, wherever the performer faces."""
        self.do(do.AdoptPose(100))
        self.assertLess(max(limb.angle for limb in self.state.pairing.limbs), 0.5)
        self.do(do.AdoptPose(None))
        self.close(self.state.pairing.stance.source, self.state.pairing.source.rest)


class PerClip(WithShow):
    """What differs from clip to clip belongs to the clip on its rig, and not to two families."""

    def test_settings_of_a_clip_are_its_own(self):
        lamp, rope = self.id_of("light_lamp"), self.id_of("haul_rope")
        self.do(do.SetTransfer((("in_place", ("x", "z")), ("stride", 0.7))))
        self.do(do.Choose(rope))
        self.assertEqual((self.state.pairing.settings.in_place, self.state.pairing.settings.stride), ((), 1.0))
        self.do(do.SetTransfer((("height_offset", 0.1), ("touches", (("arms out", 5.0),)))))
        self.do(do.TieBones("neck", ("quay:Head",), ("neck",)))
        self.do(do.Choose(lamp))
        settings = self.state.pairing.settings
        self.assertEqual((settings.in_place, settings.stride, settings.height_offset), (("x", "z"), 0.7, 0.0))
        self.assertEqual(settings.touches, (("arms out", 5.0),), "the stance is the family's")
        self.assertEqual(self.strings()["neck"].source, ("quay:Head",), "and so are the strings")
        self.do(do.Choose(self.id_of("Puffin"), as_rig=True))
        self.assertFalse(self.state.pairing.settings.in_place)

    def test_a_stringing_brings_its_own(self):
        self.do(do.SetTransfer((("stride", 0.7),)))
        self.do(do.KeepStringing("kept"))
        self.do(do.SetTransfer((("stride", 0.5),)))
        self.do(do.UseStringing(self.state.stringings[-1]))
        self.assertEqual(self.state.pairing.settings.stride, 0.7)

    def test_they_are_saved(self):
        from young_marionette.project import storage

        self.do(do.SetTransfer((("stride", 0.7),)))
        storage.save(self.folder / "a.marionette", self.state)
        again = storage.load(self.folder / "a.marionette")
        self.assertEqual(again.pairing.settings.stride, 0.7)
        self.assertEqual(again.tied(again.source_entry, again.rig_entry).settings.stride, 1.0)


class Adopting(WithShow):
    def test_while_the_hips_have_no_string(self):
        self.do(do.Untie("hips"))
        self.do(do.AdoptPose(100))
        self.assertGreater(np.abs(self.state.pairing.stance.source - self.state.pairing.source.rest).max(), 0.1)

    def test_from_a_clip_of_the_same_bones_in_other_axes(self):
        """The same pose, whatever the local axes of the clip that it is taken from are."""
        from young_marionette.core.rebase import rebase, rebase_clip

        source = self.state.source_entry
        rng = np.random.default_rng(2)
        axes = rot.normalise(rng.normal(size=(len(source.skeleton), 4)))
        skeleton, turns = rebase(source.skeleton, axes=axes)
        clip = rebase_clip(source.clip, skeleton, turns)
        other = replace(source, id="other", name="other", skeleton=skeleton, take=clip, layout=None)
        self.document.do(do.AddEntries((other,)), do.AdoptPose(100))
        own = self.state.pairing.stance.source
        self.document.undo()
        self.document.do(do.AddEntries((other,)), do.AdoptPose(100, "other"))
        self.same_turn(self.state.pairing.stance.source, own, 1e-6)

    def test_from_a_clip_of_other_bones(self):
        before = self.state
        self.refuses(lambda: self.do(do.AdoptPose(5, self.id_of("sweep_quay"))), "other bones")
        self.refuses(lambda: self.do(do.AdoptPose(99999)), "no frame")
        self.assertIs(self.state, before)


class Baking(WithShow):
    def test_baked_clip_is_the_live_one_in_the_rigs_file_world(self):
        self.do(do.Choose(self.id_of("Puffin"), as_rig=True))
        live = live_clip(self.state)
        self.do(do.Bake())
        entry = self.state.bakes[-1]
        self.assertEqual((entry.role, entry.name), ("baked", "light_lamp on Puffin"))
        self.close(joints_at(entry.placed_clip), joints_at(live), 1e-9)
        self.close(joints_at(entry.clip), joints_at(live) * 100, 1e-6)
        self.do(do.Bake())
        self.assertEqual(self.state.bakes[-1].name, "light_lamp on Puffin 2")

    def test_range_and_rate(self):
        self.do(do.Bake(fps=60, frames=(30, 90)))
        clip = self.state.bakes[-1].clip
        self.assertEqual((clip.frames, clip.rate, clip.seconds), (121, 60, 2.0))
        for bad in ((-1, 5), (5, 999), (9, 3)):
            self.refuses(lambda b=bad: self.do(do.Bake(frames=b)), "range")

    def test_gaps_are_refused_by_name(self):
        self.do(do.Untie("left hand"))
        self.refuses(lambda: self.do(do.Bake()), "left hand")

    def test_missing_limbs_are_absent(self):
        s = figure()
        keep = [
            i
            for i, n in enumerate(s.names)
            if not n.startswith(("left hand", "left forearm", "right hand", "right forearm"))
        ]
        shift = {old: new for new, old in enumerate(keep)}
        from young_marionette.core.skeleton import Skeleton

        small = Skeleton(
            [s.names[i] for i in keep],
            [shift.get(int(s.parents[i]), -1) for i in keep],
            s.offsets[keep],
            tips=s.tips[keep],
        )
        path = self.folder / "armless.bvh"
        write(path, Clip("armless", small, 30, small.rest[None]))
        rig = entries_of(read(path))[0]
        source = self.state.source_entry
        self.assertIn("left hand", not_there(source, rig))
        refuse_gaps(pair(source, rig), source, rig)
        pairing = pair(source, rig)
        lacking = replace(pairing, strings=tuple(t for t in pairing.strings if t.part != "left thigh"))
        self.refuses(lambda: refuse_gaps(lacking, source, rig), "left thigh")

    def test_source_clip_is_untouched(self):
        source = self.state.source_entry
        before = source.clip.rotations.copy()
        bake(self.state.pairing, source, self.state.rig_entry, fps=24)
        self.close(source.clip.rotations, before, 0)


class Snags(WithShow):
    def texts(self):
        return [told(s) for s in find_snags(self.state)]

    def test_the_shows_flaws_are_told(self):
        told = "\n".join(self.texts())
        for words in ("carry_bucket: no usual unit", "ring_bell: the feet hover", "loft_take_000: holds only 1 frame"):
            self.assertIn(words, told)

    def test_none_stays_when_it_is_mended(self):
        self.do(do.Untie("left hand"))
        snag = next(s for s in find_snags(self.state) if told(s) == "The left hand has no string.")
        self.assertTrue(snag.grave)
        self.do(snag.mend)
        self.assertNotIn("The left hand has no string.", self.texts())

    def test_stance(self):
        self.do(do.TurnBone("leftUpperArm", (0, 0, 0.7)))
        snag = next(s for s in find_snags(self.state) if s.step == "stance")
        self.assertIn("left upper arm is 40° off", told(snag))
        self.do(snag.mend)
        self.assertFalse([s for s in find_snags(self.state) if s.step == "stance"])

    def test_hovering_is_mended(self):
        self.do(do.Choose(self.id_of("ring_bell")))
        snag = next(s for s in find_snags(self.state) if "ring_bell: the feet hover" in told(s))
        self.do(snag.mend)
        self.assertFalse(any("ring_bell: the feet" in t for t in self.texts()))
        live = self.state.pairing.transfer.run(self.state.source_entry.placed_clip)
        feet = [live.skeleton.index[n] for n in ("leftToes", "rightToes")]
        self.close(joints_at(live)[:, feet, 1].min(), 0.018, 0.012)

    def test_junk_is_taken_out(self):
        snag = next(s for s in find_snags(self.state) if "holds only 1" in told(s))
        self.do(snag.mend)
        self.assertNotIn("loft_take_000", [e.name for e in self.state.entries])

    def test_wrong_order(self):
        self.do(do.TieBones("left upper arm", ("quay:L_Radius",), ("leftUpperArm",)))
        self.do(do.TieBones("left forearm", ("quay:L_Humerus",), ("leftLowerArm",)))
        self.assertTrue(any("wrong order" in t for t in self.texts()))

    def test_guesses(self):
        pairing = self.state.pairing
        unsure = tuple(replace(s, certainty=0.6) if s.part == "hips" else s for s in pairing.strings)
        told_of = [told(s) for s in find_snags(self.state.with_pairing(replace(pairing, strings=unsure)))]
        self.assertTrue(any("hips is a guess (60%)" in t for t in told_of))
        self.assertFalse(any("is a guess" in t for t in self.texts()))

    def test_every_snag_says_what_and_how(self):
        self.do(do.Untie("hips"))
        for snag in find_snags(self.state):
            words = snag_words(snag.found)
            self.assertTrue(words.text.endswith(".") and words.remedy.endswith("."))
            self.assertEqual(snag.mend is not None, bool(snag_words(snag.found).mend))

    def test_route(self):
        states = route_states(State(), [])
        self.assertEqual(set(states.values()), {"untouched"})
        self.do(do.Untie("head"))
        states = route_states(self.state, find_snags(self.state))
        self.assertEqual(
            (states["gather"], states["string"], states["stance"], states["transfer"], states["deliver"]),
            ("snags", "snags", "fine", "untouched", "untouched"),
        )

    def test_nothing_open(self):
        self.assertEqual(find_snags(State()), [])
        self.assertEqual(find_snags(replace(self.state, source=None, rig=None))[0].step, "gather")


class Strings(WithShow):
    def texts(self):
        return [told(s) for s in find_snags(self.state)]

    def test_locked_strings_stay(self):
        self.do(do.TieBones("head", ("quay:Neck",), ("head",)))
        self.do(do.Lock("head"))
        self.do(do.TieAll())
        self.assertEqual((self.strings()["head"].source, self.strings()["head"].locked), (("quay:Neck",), True))
        self.do(do.Lock("head", False))
        self.do(do.TieAll())
        self.assertEqual(self.strings()["head"].source, ("quay:Head",))
        self.refuses(lambda: self.do(do.Lock("tail")), "no string")

    def test_one_part_of_the_body(self):
        for part in ("left hand", "head"):
            self.do(do.Untie(part))
        self.do(do.TieAll(parts=("left upper arm", "left forearm", "left hand")))
        self.assertIn("left hand", self.strings())
        self.assertNotIn("head", self.strings())

    def test_exchanged_sides_are_told_and_mended(self):
        before = self.strings()
        self.do(do.SwapSides())
        snag = next(s for s in find_snags(self.state) if told(s).startswith("Left and right are swapped"))
        self.do(snag.mend)
        self.assertEqual({p: s.source for p, s in self.strings().items()}, {p: s.source for p, s in before.items()})
        self.assertFalse(any("exchanged" in t for t in self.texts()))

    def test_unlike_places_doubles_and_runs(self):
        self.do(do.TieBones("head", ("quay:L_Foot",), ("head",)))
        told = "\n".join(self.texts())
        self.assertIn("quay:L_Foot is the left foot, head is the head", told)
        self.assertIn("quay:L_Foot is tied for 2 parts", told)
        self.do(do.Lock("head"))
        self.assertNotIn("different body parts", "\n".join(self.texts()))
        self.do(do.TieBones("spine", ("quay:Thorax", "quay:Lumbar"), ("spine", "chest")))
        self.assertIn("run of the spine is out of order", "\n".join(self.texts()))

    def test_families_that_differ_are_told_before(self):
        told = [t for t in self.texts() if "differs from the family" in t]
        self.assertEqual(len(told), 1)
        self.assertRegex(told[0], "^climb_ladder differs from the family of [a-z_]+: two bones more: Pole, Lantern.$")

    def test_renaming_keeps_motion_strings_and_family(self):
        self.do(do.TieBones("neck", ("quay:Head",), ("neck",)))
        before = joints_at(self.state.pairing.transfer.run(self.state.source_entry.placed_clip))
        from young_marionette.core.matching.conventions import convention_names

        entry = self.state.source_entry
        self.do(do.RenameBones(entry.id, tuple(convention_names(entry.skeleton, entry.figure.body, "vrm").items())))
        self.assertIn("leftLowerArm", self.state.source_entry.skeleton.names)
        self.assertEqual(self.strings()["neck"].source, ("head",))
        self.close(joints_at(self.state.pairing.transfer.run(self.state.source_entry.placed_clip)), before, 1e-9)
        self.assertIn("leftHand", next(e for e in self.state.entries if e.name == "haul_rope").skeleton.names)
        self.assertIn("quay:L_Hand", next(e for e in self.state.entries if e.name == "climb_ladder").skeleton.names)

    def test_corrections_of_the_motion(self):
        bell = self.id_of("ring_bell")
        entry = next(e for e in self.state.entries if e.id == bell)
        before = joints_at(entry.placed_clip)
        self.do(do.Correct(bell, (("rate", 48.0), ("lift", -0.04), ("centred", "origin"))))
        after = self.state.entry(bell).placed_clip
        self.assertEqual((after.rate, after.frames), (48.0, entry.clip.frames))
        moved = joints_at(after) - before
        self.close(moved[..., 1], -0.04, 1e-9)
        self.close(joints_at(after)[0, entry.figure.body.parts["hips"][0], [0, 2]], 0, 1e-9)
        self.close(joints_at(self.state.entry(bell).clip), joints_at(entry.clip), 0)
        self.do(do.Correct(bell, (("centred", "line"),)))
        on_line = joints_at(self.state.entry(bell).placed_clip)
        self.close(on_line[0, entry.figure.body.parts["hips"][0], 0], 0, 1e-9)
        self.close(on_line[..., 2], before[..., 2], 1e-9)


class AbsentParts(WithShow):
    def test_absent_parts_are_no_gap(self):
        self.do(do.DeclareAbsent("left hand"))
        self.assertNotIn("left hand", self.strings())
        self.assertFalse([s for s in find_snags(self.state) if "left hand" in told(s)])
        self.do(do.Bake())
        self.do(do.DeclareAbsent("left hand", False))
        self.assertTrue([s for s in find_snags(self.state) if told(s) == "The left hand has no string."])
        self.refuses(lambda: self.do(do.Bake()), "left hand")

    def test_they_are_saved_with_the_stringing(self):
        from young_marionette.project import stringing

        self.do(do.DeclareAbsent("right foot"))
        source, rig = self.state.source_entry, self.state.rig_entry
        file = stringing.to_file(self.state.pairing, source, rig)
        self.assertEqual(stringing.from_file(file, source, rig).absent, ("right foot",))


class Tags(WithShow):
    def test_tags_are_kept_once_and_trimmed(self):
        lamp = self.state.source
        self.do(do.Tag(lamp, (" dusk ", "", "dusk", "lamp")))
        self.assertEqual(self.state.entry(lamp).tags, ("dusk", "lamp"))

    def test_what_was_worked_out_stays_worked_out(self):
        lamp = self.state.source
        placed = self.state.entry(lamp).placed_clip
        self.do(do.Tag(lamp, ("dusk",)))
        self.assertIs(self.state.entry(lamp).placed_clip, placed)
        self.do(do.Correct(lamp, (("lift", 0.1),)))
        self.assertIsNot(self.state.entry(lamp).placed_clip, placed)
