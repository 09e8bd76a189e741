"""Baked clips on controls: the bones follow exactly, passes work alike, and nothing is lost on the way there and back."""

import json
from dataclasses import replace
from pathlib import Path

import numpy as np

from tests.project.test_passes import PassCase
from tests.support import Case, show_state
from young_marionette.core import rotations as rot
from young_marionette.core.kinematics import forward
from young_marionette.core.passes import posing
from young_marionette.core.passes.adjusting import Adjust
from young_marionette.core.passes.correction import Correction
from young_marionette.core.passes.difference import Difference
from young_marionette.core.passes.loop import Loop
from young_marionette.core.passes.mirroring import Mirror
from young_marionette.core.passes.stack import METHODS, Pass, Plant
from young_marionette.core.thinning.deviation import deviation
from young_marionette.core.thinning.settings import Thin
from young_marionette.formats import read
from young_marionette.formats.files import write_together
from young_marionette.project import commands as do
from young_marionette.project import control_files, keying
from young_marionette.project.batch.making import make
from young_marionette.project.batch.parcels import clip_name, ready_of
from young_marionette.project.batch.recipe import Recipe
from young_marionette.project.document import Document
from young_marionette.project.entry import entries_of
from young_marionette.project.joining import changes_of, fitting, joined_bakes
from young_marionette.project.playback import Motion
from young_marionette.project.shaping import shaped
from young_marionette.project.snags import find_snags
from young_marionette.project.storage import load, save


class OnControls(PassCase):
    def setUp(self):
        super().setUp()
        self.bones = self.bake
        self.document.do(do.BakeOntoControls(self.bake_id))
        self.bake_id = self.document.state.bakes[-1].id
        self.rig = self.bake.control_rig

    def same(self, one, other, within=1e-7):
        for a, b in zip(forward(one), forward(other)):
            if a.shape[-1] == 3:
                self.close(a, b, within)
            else:
                self.same_turn(a, b, 1e-5)

    def test_it_is_a_new_clip_whose_bones_are_the_old_ones(self):
        state = self.document.state
        self.assertIs(state.entry(self.bones.id), self.bones)
        self.assertEqual(self.bake.name, f"{self.bones.name} on controls")
        self.same(self.bake.placed_clip, self.bones.placed_clip)
        self.assertIsNotNone(state.entry(self.bake.rig.id).controls)  # from now on the rig's own
        places, _ = Motion(self.bake).at(20)
        self.close(places, Motion(self.bones).at(20)[0], 1e-7)
        self.document.undo()
        self.assertNotIn(self.bake_id, [b.id for b in self.document.state.bakes])

    def test_passes_do_to_bones_what_they_do_without_controls(self):
        for method in (Adjust(hips=0.04), Mirror(), Plant(), Adjust(look=10), Loop(10, 80)):
            made = []
            for bake in (self.bones, self.bake):
                document = Document(self.document.state)
                document.do(do.AddPass(bake.id, Pass("one", method, frames=None)))
                made.append(document.state.entry(bake.id).placed_clip)
            self.same(*made, within=1e-6)

    def test_frames_that_a_pass_leaves_stay_to_the_last_bit(self):
        self.add(Adjust(hips=0.04, seconds=0.1), frames=(40, 60))
        dense, after = self.bake.dense, self.bake.passed.stage().clip
        far = np.r_[0:30, 72 : dense.frames]
        self.assertTrue((after.rotations[far] == dense.rotations[far]).all())
        self.assertTrue((after.translations[far] == dense.translations[far]).all())

    def test_every_method_runs_on_controls(self):
        for code, kind in METHODS.items():
            document = Document(self.document.state)
            values = {"seconds": 0.1} if code in ("savitzky-golay", "gaussian", "median") else {}
            document.do(do.AddPass(self.bake_id, Pass("one", kind(**values))))
            made = document.state.entry(self.bake_id)
            self.assertEqual(made.placed_clip.frames, made.length[0], code)
            if kind is not Loop:  # which leads one pose over into another one
                self.assertLess(self.slides(made.placed_clip, made.passed.stage().contacts), 0.004, code)

    def test_thinned_within_the_promise_and_delivered_so(self):
        self.add(Thin(0.01))
        stage = self.bake.passed.stage()
        self.assertLessEqual(stage.poses.deviation.places.largest, 0.01)
        away = deviation(self.bones.placed_clip, self.bake.placed_clip)
        self.assertLessEqual(away.places.largest, 0.01)
        take = self.bake.placed_take
        self.assertEqual(take.skeleton.names, self.bones.dense.skeleton.names)
        self.assertLessEqual(take.keys, stage.poses.after[0])
        self.assertLessEqual(deviation(self.bake.placed_clip, take.sample()).places.largest, 0.01)

    def test_a_range_is_thinned_again_and_made_dense(self):
        self.add(Thin(0.01))
        self.bake.passed.stage()
        keys = keying.keys_of(self.bake)
        again = keying.thin_again(keys, self.bake, Thin(0.03), (40, 120))
        self.assertLess(again.keyed.keys, keys.keyed.keys)
        off = [deviation(*(self.bake.passed.bones(k.keyed.sample()) for k in (keys, again))).places.largest]
        self.assertLessEqual(off[0], 0.03)
        self.assertEqual(keying.make_dense(keys, (60, 70)).keyed.keys > keys.keyed.keys, True)

    def test_a_control_is_moved_by_hand_dense_or_thinned(self):
        hips = int(self.rig.driver[self.rig.bones.index["hips"]] if "hips" in self.rig.bones.index else 1)
        for thin in (False, True):
            document = Document(self.document.state)
            if thin:
                document.do(do.AddPass(self.bake_id, Pass("thin", Thin(0.01))))
                document.state.entry(self.bake_id).passed.stage()
            bake = document.state.entry(self.bake_id)
            before = bake.passed.part(50, 50)
            after = posing.shifted(before, hips, np.array([0, -0.05, 0]))
            document.do(keying.laid(bake, keying.posed(bake, 50, before, after, gentle=False), "move"))
            made = document.state.entry(self.bake_id)
            old, new = (forward(b.placed_clip)[0][50] for b in (bake, made))
            joint = int(np.flatnonzero(self.rig.driver == hips)[0])
            self.close(new[joint] - old[joint], [0, -0.05, 0], 1e-6)
            feet = [limb.end for limb in self.rig.limbs]
            self.close(new[feet], old[feet], 1e-6)

    def test_a_limb_is_switched_and_the_motion_stays(self):
        for reaches, space in ((False, "world"), (True, "hips")):
            self.document.do(do.SwitchLimb(self.bake_id, "left leg", reaches, space))
            self.same(self.bake.placed_clip, self.bones.placed_clip)
        self.add(Correction(10, turns=(("left foot", (0.1, 0.0, 0.0)),)))
        self.refuses(lambda: self.document.do(do.SwitchLimb(self.bake_id, "left leg", False, "world")), "merge")
        self.document.do(do.SwitchLimb(self.bake_id, "right leg", False, "world"))
        self.assertEqual(len(self.bake.passes), 1)

    def test_back_to_bones_and_saved(self):
        self.add(Correction(10, turns=(("head", (0.2, 0.0, 0.0)),)))
        self.add(Thin(0.02))
        self.document.do(do.SetKeys(self.bake_id, keying.keys_of(self.bake_worked_out())))
        shown = self.bake.placed_clip
        path = self.folder / "show.marionette"
        save(path, self.document.state)
        again = load(path)
        bake = again.entry(self.bake_id)
        self.assertEqual(bake.controls, self.bake.controls)
        self.assertEqual(again.entry(self.bake.rig.id).controls, self.bake.controls)
        self.same(bake.placed_clip, shown, 1e-9)
        self.document.do(do.BakeOntoBones(self.bake_id))
        self.same(self.document.state.bakes[-1].placed_clip, shown, 1e-12)
        self.assertIsNone(self.document.state.bakes[-1].controls)

    def bake_worked_out(self):
        self.bake.passed.stage()
        return self.bake

    def test_rebaking_keeps_the_controls(self):
        self.document.do(do.SetTouch("arms out", 5.0))
        self.document.do(do.BakeAnew(self.bake_id))
        self.assertIsNotNone(self.bake.controls)
        self.assertEqual(len(self.bake.dense.skeleton), len(self.rig.skeleton))

    def test_a_clip_on_an_earlier_set_keeps_it(self):
        rig = self.bake.rig.id
        before = self.bake.placed_clip
        changed = self.document.state.entry(rig).controls.without("left foot roll")
        self.document.do(do.SetControls(rig, changed))
        self.assertNotEqual(self.bake.controls, changed)
        self.same(self.bake.placed_clip, before, 0.0)
        self.document.do(do.BakeOntoControls(self.bake_id, instead=True))
        self.assertEqual(self.bake.controls, changed)
        self.same(self.bake.placed_clip, before)


class Files(Case):
    def setUp(self):
        self.entry = next(e for e in show_state().entries if e.role == "rig")
        self.path = self.folder / "heron.controls"

    def test_written_and_read(self):
        controls = self.entry.control_set.changed("head", size=1.5, swing=0.5, twist=(-0.2, 0.2), shown=False)
        control_files.save(self.path, controls, self.entry.name)
        self.assertEqual(control_files.load(self.path), controls)
        self.refuses(lambda: control_files.save(self.path, controls))
        self.refuses(lambda: control_files.save(self.folder / "heron.json", controls), ".controls")

    def test_the_schema_in_the_docs_is_current(self):
        schema = Path(__file__).resolve().parents[2] / "docs" / "controls.schema.json"
        self.assertEqual(json.loads(schema.read_text()), control_files.ControlsFile.model_json_schema())

    def test_damaged_files_get_a_sentence(self):
        control_files.save(self.path, self.entry.control_set)
        whole = self.path.read_bytes()
        values = json.loads(whole)
        for damage in (
            whole[: len(whole) // 2],
            json.dumps(values | {"version": 9}).encode(),
            json.dumps(values | {"controls": []}).encode(),
            json.dumps(values | {"controls": values["controls"] * 2}).encode(),
            json.dumps(values | {"limbs": [{"name": "x"}]}).encode(),
        ):
            self.path.write_bytes(damage)
            self.refuses(lambda: control_files.load(self.path), "heron.controls")

    def test_a_set_for_another_rig_is_refused(self):
        state = show_state()
        other = replace(self.entry.control_set.controls[1], bone="no such bone")
        controls = replace(self.entry.control_set, controls=(self.entry.control_set.controls[0], other))
        document = Document(state)
        self.refuses(lambda: document.do(do.SetControls(self.entry.id, controls)), "no such bone")
        self.assertIs(document.state, state)
        self.assertEqual(rot.IDENTITY.tolist(), [0, 0, 0, 1])


class Carried(PassCase):
    """A delivered glTF brings the controls along."""

    def setUp(self):
        super().setUp()
        self.document.do(do.BakeOntoControls(self.bake_id, few=Thin(0.02)))
        self.bake_id = self.document.state.bakes[-1].id
        self.bake.passed.stage()
        self.document.do(do.SetKeys(self.bake_id, keying.keys_of(self.bake)))

    def delivered(self, ending=".glb"):
        ready = ready_of(self.document.state, self.bake, None)
        made = make(ready, Recipe())
        self.assertEqual(made.take.skeleton.names, self.bake.placed_skeleton.names)
        path = self.folder / f"wave{ending}"
        write_together(shaped(path, made.take, ready.rig, extras=made.extras))
        return path

    def opened(self, path):
        document = Document()
        document.do(do.AddEntries(tuple(entries_of(read(path)))))
        return document.state

    def test_its_keys_are_taken_up_as_they_were(self):
        state = self.opened(self.delivered())
        (again,) = state.bakes
        self.assertEqual(again.controls, self.bake.controls)
        keyed, wanted = again.passes[-1].keys.keyed, self.bake.passes[-1].keys.keyed
        self.assertEqual(keyed.keys, wanted.keys)
        for channel, sampler in wanted.samplers.items():
            self.close(keyed.samplers[channel].values, sampler.values, 1e-12)
        # The bones of the file are what everybody else reads.
        (entry,) = state.entries
        away = deviation(again.placed_clip, entry.placed_clip)
        self.assertLessEqual(away.places.largest, 0.02)

    def test_the_name_of_the_clip_is_not_that_of_its_controls(self):
        self.assertEqual(clip_name(self.bake), "wave_to_ship")

    def test_what_is_damaged_or_does_not_belong_is_left(self):
        path = self.delivered(".gltf")
        whole = json.loads(path.read_text())
        extras = whole["animations"][0]["extras"]["young_marionette_controls"]
        for change in (
            {"version": 2}, {"set": {}}, {"arrays": {}}, {"rate": "fast"}, {"keyed": False},
            {"arrays": extras["arrays"] | {"times": {"type": "O", "shape": [1], "data": ""}}},
            {"arrays": extras["arrays"] | {"values": extras["arrays"]["times"]}},
        ):  # fmt: skip
            whole["animations"][0]["extras"]["young_marionette_controls"] = extras | change
            path.write_text(json.dumps(whole))
            state = self.opened(path)
            self.assertEqual((len(state.entries), len(state.bakes)), (1, 0), change)
        whole["animations"][0]["extras"]["young_marionette_controls"] = extras
        # Somebody else changed the motion: the controls are not its any more.
        node = next(n for n in whole["nodes"] if "translation" in n)
        node["scale"] = [1.5, 1.5, 1.5]
        path.write_text(json.dumps(whole))
        self.assertEqual(len(self.opened(path).bakes), 0)


class Joining(PassCase):
    def test_a_clip_laid_over_itself_by_nothing_and_by_all(self):
        clip = fitting(self.bake, self.bake)
        for strength, strengths in ((0.0, ()), (1.0, ((0, 0.0),))):
            self.add(Difference(clip, strength=strength, strengths=strengths), "nothing")
            self.assertIs(self.bake.passed.stage().clip, self.bake.dense)
            self.document.undo()
        self.add(Difference(clip, 30, 0, 0.0), "all", names=("head",), keep=False)
        head = clip.skeleton.index["head"] if "head" in clip.skeleton.index else len(clip.skeleton) - 1
        name = clip.skeleton.names[head]
        self.document.undo()
        self.add(Difference(clip, 30, 0, 0.0), "all", names=(name,), keep=False)
        made = self.bake.passed.stage().clip
        own = clip.rotations[:, head]
        wanted = rot.multiply(own, rot.multiply(rot.conjugate(own[30]), own))
        self.same_turn(made.rotations[1:-1, head], wanted[1:-1], 1e-9)
        others = [j for j in range(len(clip.skeleton)) if j != head]
        self.assertTrue((made.rotations[:, others] == self.bake.dense.rotations[:, others]).all())

    def test_two_clips_become_one_on_the_controls_of_the_first(self):
        self.document.do(do.BakeOntoControls(self.bake_id))
        controls = self.document.state.bakes[-1]
        changes = changes_of(controls, self.bake, 0.4)
        self.assertEqual(len(changes), 3)
        made = joined_bakes("both", controls, self.bake, changes[0], 0.4)
        plain = joined_bakes("plain", self.bake, self.bake, changes[0], 0.4)
        for a, b in zip(forward(made.placed_clip), forward(plain.placed_clip)):
            self.close(np.abs(a), np.abs(b), 1e-6)
        self.assertLess(self.slides(made.placed_clip, made.contacts), 0.02)

    def test_one_pass_alone_and_all_again(self):
        for name in "abc":
            self.add(Adjust(hips=-0.01), name)
        self.document.do(do.PassAlone(self.bake_id, "b"))
        self.assertEqual([p.on for p in self.bake.passes], [False, True, False])
        self.document.do(do.PassAlone(self.bake_id, "b"))
        self.assertTrue(all(p.on for p in self.bake.passes))

    def test_feet_that_slide_since_the_passes_are_a_snag_with_a_mend(self):
        self.add(Adjust(hips=-0.1, strengths=((20, 0.0), (120, 1.0))), keep=False)
        self.bake.passed.changes(0)
        (snag,) = (s for s in find_snags(self.document.state) if s.code == "slides since")
        self.document.do(snag.mend)
        self.bake.passed.changes(0)
        self.assertFalse([s for s in find_snags(self.document.state) if s.code == "slides since"])
