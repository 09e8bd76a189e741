"""Passes over baked clips: worked out from where something changed, kept with the project, never at the cost of a foot."""

import json
import zipfile
from dataclasses import replace

import numpy as np

from tests.support import Case, joints_at, show_state
from young_marionette.core.clip import as_rows
from young_marionette.core.contacts.contact import Contact, Contacts
from young_marionette.core.contacts.points import point_rows
from young_marionette.core.errors import InputError
from young_marionette.core.filters.methods import FILTERS, Adaptive, Gaussian, LowPass, Spikes
from young_marionette.core.passes import posing
from young_marionette.core.passes.adjusting import Adjust
from young_marionette.core.passes.correction import Correction
from young_marionette.core.passes.edits import Offset, Retime, Scale
from young_marionette.core.passes.keeping import Limbs, held
from young_marionette.core.passes.measuring import turned
from young_marionette.core.passes.mirroring import Mirror
from young_marionette.core.passes.stack import METHODS, Pass, Plant
from young_marionette.core.passes.timing import Time
from young_marionette.core.thinning.settings import Thin
from young_marionette.core.thinning.tolerances import Emphasis
from young_marionette.project import commands as do
from young_marionette.project import keying
from young_marionette.project.document import Document
from young_marionette.project.pass_files import PassFile, pass_file, pass_of, presets_bytes, presets_of
from young_marionette.project.passes import Preset
from young_marionette.project.playback import Motion
from young_marionette.project.storage import load, save


class PassCase(Case):
    """With a baked clip that has spikes and jitter, and feet that stand."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        document = Document(show_state())
        state = document.state
        document.do(do.Choose(next(e.id for e in state.entries if e.name == "wave_to_ship")))
        document.do(do.Bake())
        cls.baked = document.state

    def setUp(self):
        super().setUp()
        self.document = Document(self.baked)
        self.bake_id = self.baked.bakes[-1].id

    @property
    def bake(self):
        return self.document.state.entry(self.bake_id)

    def add(self, method, identifier=None, **scope):
        one = Pass(identifier or f"p{len(self.bake.passes)}", method, **scope)
        self.document.do(do.AddPass(self.bake_id, one))
        return one

    def slides(self, clip, contacts):
        """How far each foot's and hand's points slide in their contacts, by forward kinematics, at most (metres)."""
        limbs = self.bake.passed.limbs
        worst = 0.0
        for contact in contacts.found:
            if contact.point in limbs.points and contact.last > contact.first:
                rows = point_rows(clip, [limbs.points[contact.point]])[0][:, contact.first : contact.last + 1]
                worst = max(worst, float(np.linalg.norm(rows - np.median(rows, axis=1)[:, None], axis=0).max()))
        return worst


class Stack(PassCase):
    def test_filters_leave_no_foot_sliding(self):
        for kind in FILTERS.values():
            document = Document(self.baked)
            document.do(do.AddPass(self.bake_id, Pass("a", kind())))
            document.do(do.AddPass(self.bake_id, Pass("b", LowPass(3.0, 4))))
            bake = document.state.entry(self.bake_id)
            self.assertLess(self.slides(bake.placed_clip, bake.contacts), 0.001, kind)
            free = replace(bake, passes=tuple(replace(p, keep=False) for p in bake.passes))
            self.assertGreater(self.slides(free.placed_clip, bake.contacts), 0.002, kind)

    def test_the_dense_motion_stays_and_passes_come_and_go(self):
        before = self.bake.dense.rotations.copy()
        self.add(Spikes())
        self.add(Gaussian(0.3))
        made = self.bake.placed_clip
        self.assertGreater(turned(self.bake.dense, made).max(), 0.1)
        self.assertEqual([s.code for s in (p.method for p in self.bake.passes)], ["spikes", "gaussian"])
        self.document.do(do.MovePass(self.bake_id, "p1", -1))
        self.assertEqual([p.id for p in self.bake.passes], ["p1", "p0"])
        self.document.do(do.SetPass(self.bake_id, replace(self.bake.passes[1], on=False)))
        self.document.do(do.RemovePass(self.bake_id, "p1"))
        self.assertLess(turned(self.bake.dense, self.bake.placed_clip).max(), 1e-12)
        for _ in range(3):
            self.document.undo()
        self.close(turned(self.bake.placed_clip, made), 0, 1e-12)
        self.close(self.bake.dense.rotations, before, 0)
        for command, says in (
            (do.RemovePass(self.bake_id, "none"), "not there any more"),
            (do.SetPass("nothing", Pass("x", Plant())), "not in the library"),
            (do.AddPass(self.bake_id, Pass("x", LowPass(5.0), frames=(9, 3))), "before its first"),
            (do.AddPass(self.bake_id, Pass("x", LowPass(5.0), channels=())), "Choose rotations"),
        ):
            with self.assertRaisesRegex(InputError, says):
                self.document.do(command)

    def test_only_what_follows_a_change_is_worked_out_anew(self):
        self.add(Spikes())
        self.add(Adaptive())
        first, second = self.bake.passed.stage(1), self.bake.passed.stage(2)
        self.document.do(do.SetPass(self.bake_id, replace(self.bake.passes[1], method=LowPass(5.0))))
        self.assertIs(self.bake.passed.stage(1), first)
        self.assertIsNone(self.bake.passed.result)
        self.document.undo()
        self.assertIs(self.bake.passed.result, second)
        self.document.do(do.SetPass(self.bake_id, replace(self.bake.passes[0], on=False)))
        self.assertIsNot(self.bake.passed.stage(1), first)

    def test_the_stage_shows_what_the_whole_result_will_be(self):
        """Frames worked out from what lies around them, for each method by itself and for two on top of each other."""
        for code, kind in METHODS.items():
            document = Document(self.baked)
            document.do(do.AddPass(self.bake_id, Pass("a", kind())))
            document.do(do.AddPass(self.bake_id, Pass("b", LowPass(5.0))))
            bake = document.state.entry(self.bake_id)
            self.assertTrue(Motion(bake).lags, code)
            quick = {frame: Motion(bake).at(frame)[0].copy() for frame in (0, 60, 140)}
            whole = bake.placed_clip
            self.assertFalse(Motion(bake).lags, code)
            for frame, places in quick.items():
                self.close(places, joints_at(whole)[frame], 0.012, (code, frame))

    def test_a_sketch_of_single_bones_is_what_comes_of_them(self):
        names = ("rightLowerArm", "rightHand")
        self.add(Spikes())
        self.add(LowPass(parts=(("right arm", 3.0), ("left arm", 9.0))))
        sketch = self.bake.passed.sketch(names)
        joints = [self.bake.dense.skeleton.index[n] for n in names]
        self.assertIsNone(self.bake.passed.result)
        self.close(turned(sketch, self.bake.placed_clip)[joints], 0, 1e-9)
        self.assertEqual(set(np.round(list(self.bake.passed.stage().report.cutoffs.values()), 6)) >= {3.0, 9.0}, True)

    def test_numbers_tell_what_changed(self):
        self.add(LowPass(1.0), keep=False)
        told = self.bake.passed.changes(0)
        angles = np.degrees(turned(self.bake.dense, self.bake.placed_clip))
        self.close(told.degrees, (np.sqrt((angles**2).mean()), angles.max()), 1e-9)
        self.assertGreater(told.hands, 0.02)
        self.assertLess(told.peaks[1], 0.8 * told.peaks[0])
        slid = self.slides(self.bake.placed_clip, self.bake.contacts)
        self.close(told.slides[1], slid, 0.1 * slid)  # about the mean, not the median
        self.assertEqual(len(told.lane), self.bake.dense.frames)

    def test_a_rebake_keeps_the_passes(self):
        self.add(Spikes())
        self.document.do(do.SetTransfer((("stride", 0.9),)))
        self.document.do(do.BakeAnew(self.bake_id))
        self.assertEqual([p.method for p in self.bake.passes], [Spikes()])


class Edits(PassCase):
    def test_offset(self):
        joint = self.bake.dense.skeleton.index["rightLowerArm"]
        self.add(Offset(degrees=(0.0, 10.0, 0.0)), names=("rightLowerArm",), channels=("rotation",), frames=(50, 120))
        angles = np.degrees(turned(self.bake.dense, self.bake.placed_clip))
        self.close(angles[joint, 60:110], 10, 1e-6)
        self.close(angles[joint, :50], 0, 1e-6)
        self.assertTrue((np.diff(angles[joint, 49:55]) >= -1e-9).all())
        self.close(np.delete(angles, joint, axis=0), 0, 1e-9)
        self.document.undo()
        self.add(Offset(metres=(0.0, 0.05, 0.0)), channels=("position",), keep=False)
        self.close(
            joints_at(self.bake.placed_clip) - joints_at(self.bake.dense),
            np.array([0, 0.05, 0]) + np.zeros((211, 1, 3)),
            1e-6,
        )

    def test_later(self):
        self.add(Offset(seconds=0.2), names=("rightLowerArm",), channels=("rotation",))
        joint = self.bake.dense.skeleton.index["rightLowerArm"]
        old, new = (c.rotations[:, joint] for c in (self.bake.dense, self.bake.placed_clip))
        self.close(np.abs(np.sum(new[6:] * old[:-6], axis=-1)), 1, 1e-9)
        self.close(new[:6], np.tile(old[0], (6, 1)), 1e-9)

    def test_scale(self):
        self.add(Scale(0.5), names=("rightLowerArm",), channels=("rotation",))
        joint = self.bake.dense.skeleton.index["rightLowerArm"]
        spread = []
        for clip in (self.bake.dense, self.bake.placed_clip):
            turns = as_rows(clip.rotations)[joint]
            mean = turns.mean(axis=1) / np.linalg.norm(turns.mean(axis=1))
            spread.append(2 * np.arccos(np.clip(np.abs(mean @ turns), 0, 1)).max())
        self.close(spread[1] / spread[0], 0.5, 0.02)

    def test_speed_and_rate(self):
        """Twice as quick at another rate: half the seconds, the same poses, and contacts at their new frames."""
        self.add(Retime(2.0, 60.0))
        self.assertEqual(self.bake.length, (211, 60.0))
        clip, dense = self.bake.placed_clip, self.bake.dense
        self.assertEqual((clip.frames, clip.rate), self.bake.length)
        self.close(joints_at(clip)[100], joints_at(dense)[100], 1e-9)
        self.document.do(do.SetPass(self.bake_id, replace(self.bake.passes[0], method=Retime(0.5))))
        stage = self.bake.passed.stage()
        self.assertEqual((stage.clip.frames, stage.clip.rate), (421, 30.0))
        self.assertEqual(self.bake.length, (421, 30.0))
        first = self.bake.contacts.found[0]
        again = next(c for c in stage.contacts.found if c.point == first.point)
        self.assertLessEqual(abs(again.last - 2 * first.last), 1)
        self.add(LowPass(4.0))
        self.assertLess(self.slides(self.bake.placed_clip, self.bake.passed.stage().contacts), 0.001)

    def test_plant(self):
        """Also where nothing moved the feet but the transfer itself."""
        free = Document(show_state())
        free.do(do.Choose(next(e.id for e in free.state.entries if e.name == "wave_to_ship")))
        free.do(do.SetTransfer((("feet", "free"),)))
        free.do(do.Bake())
        bake = free.state.bakes[-1]
        self.assertGreater(self.slides(bake.dense, bake.contacts), 0.01)
        planted = replace(bake, passes=(Pass("a", Plant()),))
        self.assertLess(self.slides(planted.placed_clip, bake.contacts), 0.001)

    def test_held_hands(self):
        clip = self.bake.dense
        limbs = Limbs.of(clip.skeleton, self.bake.rig.metric_body, None)
        contacts = Contacts((Contact("right hand", 60, 90, 1.2, 0.0, True),), 0.0, clip.rate)
        made = held(clip, [limbs.arms["right"]], contacts)
        palm = point_rows(made, [limbs.points["right hand"]])[0]
        self.close(palm[:, 60:91], palm[:, 60:61] + np.zeros((1, 31)), 1e-4)
        hand = clip.skeleton.index["rightHand"]
        own = point_rows(clip, [limbs.points["right hand"]])[0]
        pops = [np.linalg.norm(np.diff(rows[:, 50:100], 2, axis=1), axis=0).max() for rows in (palm, own)]
        self.assertLess(pops[0], 1.3 * pops[1])
        self.assertTrue(np.isfinite(made.rotations[:, hand]).all())


class Kept(PassCase):
    def test_saved_and_read_again(self):
        kept = ("rightHand", 33)
        self.add(Spikes(2.0, kept=(kept,)), parts=("right arm",), frames=(10, 200))
        self.add(LowPass(parts=(("left leg", 5.0),)), on=False, keep=False)
        self.add(Offset((1.0, 2.0, 3.0), seconds=0.1), names=("leftHand",))
        self.document.do(do.KeepPreset(self.bake_id, " Clean up "))
        path = self.folder / "a.marionette"
        save(path, self.document.state)
        again = load(path)
        self.assertEqual(again.bakes[-1].passes, self.bake.passes)
        self.assertEqual(again.presets, self.document.state.presets)
        self.assertEqual(again.presets[0].name, "Clean up")
        self.assertEqual((again.presets[0].passes[0].frames, again.presets[0].passes[0].method.kept), (None, ()))
        with zipfile.ZipFile(path) as archive:
            told = json.loads(archive.read("project.json"))["bakes"][-1]["passes"][0]
        self.assertEqual((told["method"], told["settings"]["threshold"], told["frames"]), ("spikes", 2.0, [10, 200]))
        self.close(turned(again.bakes[-1].placed_clip, self.bake.placed_clip), 0, 1e-6)

    def test_projects_without_passes_open(self):
        """As version 4 wrote them: bakes whose contacts may not be known, and no passes."""
        path = self.folder / "a.marionette"
        save(path, self.document.state)
        with zipfile.ZipFile(path) as archive:
            parts = {name: archive.read(name) for name in archive.namelist()}
        told = json.loads(parts["project.json"])
        told["version"] = 4
        del told["presets"], told["bakes"][-1]["passes"]
        told["bakes"][-1]["contacts"] = None
        with zipfile.ZipFile(path, "w") as archive:
            for name, data in {**parts, "project.json": json.dumps(told)}.items():
                archive.writestr(name, data)
        bake = load(path).bakes[-1]
        self.assertEqual((bake.passes, bake.contacts), ((), None))
        cleaned = replace(bake, passes=(Pass("a", LowPass(4.0)),))
        self.assertLess(self.slides(cleaned.placed_clip, cleaned.passed.contacts), 0.001)

    def test_what_is_not_sound_is_refused(self):
        self.add(LowPass(5.0))
        path = self.folder / "a.marionette"
        save(path, self.document.state)
        with zipfile.ZipFile(path) as archive:
            parts = {name: archive.read(name) for name in archive.namelist()}
        for change in (
            {"method": "magic"},
            {"settings": {"cutoff": -1}},
            {"settings": {"cutoff": 5, "order": 3}},
            {"settings": {"tail": 1}},
            {"frames": [9, 2]},
            {"channels": ["smell"]},
            {"id": "../x"},
        ):
            told = json.loads(parts["project.json"])
            told["bakes"][-1]["passes"][0] |= change
            bad = self.folder / "bad.marionette"
            with zipfile.ZipFile(bad, "w") as archive:
                for name, data in {**parts, "project.json": json.dumps(told)}.items():
                    archive.writestr(name, data)
            with self.assertRaisesRegex(InputError, "bakes", msg=change):
                load(bad)

    def test_presets_on_many_clips(self):
        self.document.do(do.Bake(), do.Bake())
        self.add(Spikes())
        self.document.do(do.KeepPreset(self.bake_id, "Mine"))
        everyone = tuple(b.id for b in self.document.state.bakes)
        self.document.do(do.UsePreset(self.document.state.presets[0], everyone))
        passes = [p for b in self.document.state.bakes for p in b.passes]
        self.assertEqual([p.method for p in passes], [Spikes()] * 3)
        self.assertEqual(len({p.id for p in passes}), 3)
        self.document.do(do.UsePreset(Preset("b", (Pass("z", Plant()),)), (self.bake_id,), instead=False))
        self.assertEqual([p.method.code for p in self.bake.passes], ["spikes", "plant"])
        self.document.do(do.RemovePreset("Mine"))
        self.assertEqual(self.document.state.presets, ())
        with self.assertRaisesRegex(InputError, "needs a name"):
            self.document.do(do.KeepPreset(self.bake_id, "  "))

    def test_files_of_presets(self):
        presets = (Preset("Clean", (Pass("a", Spikes()), Pass("b", Adaptive(1.5)))),)
        self.assertEqual(presets_of("x.passes", presets_bytes(presets)), presets)
        for data in (
            b"",
            b"{}",
            b"[]",
            presets_bytes(presets)[:-20],
            presets_bytes(presets).replace(b'"version": 1', b'"version": 99'),
        ):
            with self.assertRaisesRegex(InputError, "x.passes"):
                presets_of("x.passes", data)


class ThinnedClips(PassCase):
    def edited(self):
        """Thinned, and one key moved by hand."""
        self.add(Thin(0.02, emphases=(Emphasis(0.5, parts=("left arm",)),), forced=(40,)))
        keys = keying.keys_of(self.worked_out())
        moved, _ = keying.move(keys, [sorted(f for f, _ in keys.marks)[3]], 1)
        self.document.do(do.SetKeys(self.bake_id, moved))
        return self.bake

    def worked_out(self):
        self.bake.passed.stage()
        return self.bake

    def test_thinning_is_a_pass(self):
        self.add(Spikes())
        self.add(Thin(0.02))
        stage = self.bake.passed.stage()
        self.assertEqual(stage.clip.frames, self.bake.dense.frames)
        self.assertLess(len(stage.poses.frames), 0.25 * stage.clip.frames)
        before = self.bake.passed.stage(1).clip
        away = np.linalg.norm(joints_at(stage.clip) - joints_at(before), axis=-1)
        self.assertLessEqual(float(away.max()), 0.02)
        self.close(stage.clip.rotations, self.bake.placed_take.sample().rotations, 0)
        # While it is not known, what is shown is what comes into it.
        self.add(Gaussian(0.05))
        self.assertEqual(self.bake.passed.part(10, 12).frames, 3)
        self.assertRaises(InputError, lambda: self.add(Thin(0.0)))
        self.assertRaises(InputError, self.add, Thin(stages=()))

    def test_edited_keys_stand_by_themselves(self):
        bake = self.edited()
        self.assertEqual([p.method.code for p in bake.passes], ["thin", "keys"])
        keys = bake.passes[-1].method
        self.close(bake.passed.part(20, 25).rotations, keys.keyed.sample().rotations[20:26], 1e-12)
        self.close(bake.passed.stage().clip.rotations, keys.keyed.sample().rotations, 0)
        self.assertFalse(keying.is_stale(keys, bake.passed.stage(1)))
        thin = bake.passes[0]
        self.document.do(do.SetPass(self.bake_id, replace(thin, method=Thin(0.03))))
        self.assertTrue(keying.is_stale(keys, self.bake.passed.stage(1)))
        self.close(self.bake.passed.stage().clip.rotations, keys.keyed.sample().rotations, 0)
        self.document.undo()
        self.document.do(do.SetKeys(self.bake_id, keying.insert(keys, 55)))
        self.assertEqual([p.method.code for p in self.bake.passes], ["thin", "keys"])
        self.document.undo()
        self.document.undo()
        self.assertEqual([p.method.code for p in self.bake.passes], ["thin"])

    def test_they_are_kept_with_the_project(self):
        bake = self.edited()
        path = self.folder / "thinned.marionette"
        save(path, self.document.state)
        loaded = load(path).entry(self.bake_id)
        self.assertEqual(loaded.passes[0], bake.passes[0])
        old, new = bake.passes[1].method, loaded.passes[1].method
        self.assertEqual((new.marks, new.beneath), (old.marks, old.beneath))
        self.assertEqual(new.keyed.digest, old.keyed.digest)
        with zipfile.ZipFile(path) as archive:
            names = archive.namelist()
            document = json.loads(archive.read(next(n for n in names if n.endswith(".json"))))
        document["bakes"][-1]["passes"][1]["settings"]["motion"]["blob"] = "0" * 32
        broken = self.folder / "broken.marionette"
        with zipfile.ZipFile(path) as archive, zipfile.ZipFile(broken, "w") as out:
            for name in names:
                data = json.dumps(document).encode() if name.endswith(".json") else archive.read(name)
                out.writestr(name, data)
        self.assertRaises(InputError, load, broken)

    def test_presets_take_no_keys_along(self):
        bake = self.edited()
        preset = do.preset_of(bake, "thin it")
        self.assertEqual([p.method.code for p in preset.passes], ["thin"])
        self.assertEqual(preset.passes[0].method.forced, ())
        again = presets_of("x", presets_bytes((preset,)))
        self.assertEqual([p.method for p in again[0].passes], [p.method for p in preset.passes])

    def test_a_range_is_thinned_again(self):
        keys = self.edited().passes[-1].method
        dense = keying.make_dense(keys, (30, 60))
        again = keying.thin_again(dense, self.bake, Thin(0.02), (30, 60))
        self.assertLess(len(again.marks), len(keys.marks) + 6)
        before, after = keys.keyed.sample(), again.keyed.sample()
        away = np.linalg.norm(joints_at(after) - joints_at(before), axis=-1)
        self.assertLessEqual(float(away.max()), 0.0205)
        outside = np.r_[0:30, 61 : before.frames]
        self.assertLess(float(away[outside].max()), 3e-4)

    def test_layers_and_time_are_written_as_they_are(self):
        turns = (("head", (0.0, 0.25, 0.0)),)
        for method in (
            Correction(4, 0.25, turns, (("hips", (0.0, 0.5, 0.0)),), ((9, turns, ()),), True, 0.5),
            Adjust(0.04, 10.0, turns=(("head", (1.0, 2.0, 3.0)),), seconds=0.5), Mirror(),
            Time(3, 50, True, ((4, 0.5),), ((9, 1.5),)),
        ):  # fmt: skip
            one = Pass("a", method)
            self.assertEqual(pass_of(PassFile.model_validate_json(pass_file(one).model_dump_json())), one)

    def test_passes_are_merged(self):
        self.document.do(
            do.AddPass(self.bake.id, Pass("a", Adjust(0.02))), do.AddPass(self.bake.id, Pass("b", Time(first=9)))
        )
        self.document.do(do.AddPass(self.bake.id, Pass("c", Offset((0.0, 5.0, 0.0)))))
        wanted, before = self.bake.placed_clip, self.bake
        self.document.do(do.MergePasses(self.bake.id, "b"))
        self.assertEqual([one.id for one in self.bake.passes], ["c"])
        # Baking anew would bring back what was merged: it is not offered any more.
        self.assertEqual((self.bake.dense.frames, self.bake.digest), (before.dense.frames - 9, ""))
        self.close(self.bake.placed_clip.rotations, wanted.rotations)
        self.document.undo()
        self.assertIs(self.bake, before)
        thinned = self.edited()
        self.document.do(do.MergePasses(thinned.id, thinned.passes[-1].id))
        self.assertEqual([one.keys is not None for one in self.bake.passes], [True])

    def test_poses_of_thinned_and_dense_clips(self):
        before = self.bake.passed.part(50, 50)
        limb = self.bake.passed.limbs.legs[0].limb
        after = posing.reached(before, limb, (0, 0.05, 0))
        one = keying.posed(self.bake, 50, before, after)
        self.assertIsInstance(one.method, Correction)
        self.document.do(keying.laid(self.bake, one, "change a pose"))
        self.assertEqual(len(self.bake.passes), 1)
        again = keying.posed(self.bake, 50, after, posing.turned(after, limb.end, (0.1, 0, 0)))
        self.assertEqual(again.id, one.id)  # another change at the same frame goes into the same correction
        self.document.undo()
        bake = self.edited()
        made = keying.posed(bake, 50, before, after)
        self.assertEqual(made.id, bake.passes[-1].id)
        self.assertIn((50, "hand-made"), made.method.marks)
