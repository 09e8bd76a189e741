"""Baked clips: one motion live, baked and delivered, whatever was corrected; what they were made from; old projects."""

import json
from dataclasses import fields, replace
from pathlib import Path

import numpy as np

from tests.support import Case, joints_at, live_clip, show_folder, show_state
from young_marionette.core import rotations as rot
from young_marionette.core.contacts.points import FEET, contact_points, point_rows
from young_marionette.core.figure.correction import BIND, Correction
from young_marionette.core.figure.placement import place_clip
from young_marionette.core.transfer.limits import JointLimit, bone_axis
from young_marionette.formats import read
from young_marionette.project import commands as do
from young_marionette.project import delivery, storage
from young_marionette.project.bakes import is_current
from young_marionette.project.document import Document
from young_marionette.project.entry import entries_of
from young_marionette.project.snags import find_snags

DATA = Path(__file__).resolve().parents[1] / "data"
# A value for each field of a correction, far enough from what is guessed to be felt.
VALUES = {
    "scale": 0.02, "up": "+Y", "facing": "-Z", "rate": 50.0, "lift": 0.2, "centred": "origin", "in_place": True,
    "prefix": "left", "family": "another family", "rest": 40, "level": 0, "grounded": (3, 20),
}  # fmt: skip


class OneMotion(Case):
    """The rig has a clip of its own that travels, so that each correction of it would be felt if it went astray."""

    def setUp(self):
        (self.source,) = [e for e in show_state().entries if e.name == "light_lamp"]
        delivery.convert(self.source, self.folder / "rig.bvh")
        delivery.convert(self.source, self.folder / "rig.glb")
        delivery.convert(self.source, self.folder / "rig.usdc")

    def made(self, rig, source=None, **changes):
        """``(live, bake)`` on a rig that was corrected."""
        rig = replace(rig, role="rig", correction=Correction(**changes))
        source = source or next(e for e in show_state().entries if e.name == "carry_bucket")
        document = Document()
        document.do(do.AddEntries((source, rig)), do.Choose(source.id), do.Choose(rig.id, as_rig=True))
        document.do(do.Bake(frames=(0, 30)))
        live = live_clip(document.state).cut(0, 30)
        return live, document.state.bakes[0]

    def test_every_field_of_a_rigs_correction_in_every_format(self):
        self.assertEqual({f.name for f in fields(Correction)}, set(VALUES))
        for ending in (".bvh", ".glb", ".usdc"):
            rig = entries_of(read(self.folder / f"rig{ending}"))[-1]
            for field, value in VALUES.items():
                live, made = self.made(rig, **{field: value})
                wanted = joints_at(live)
                self.close(joints_at(made.placed_clip), wanted, 1e-9, field)
                more = (".gltf", ".usda", ".usdz") if field == next(iter(VALUES)) else ()
                for out in (".bvh", ".glb", ".usdc", *more):
                    path = self.folder / f"out{out}"
                    delivery.deliver(path, made.placed_clip, made.rig, overwrite=True)
                    again = read(path)
                    own = out == ending or (ending == ".glb" and out == ".gltf") or (ending == ".usdc" and "usd" in out)
                    back = made.rig.figure.placement
                    clip = place_clip(again.skeletons[0].clips[0], back) if own else again.skeletons[0].clips[0]
                    names = [again.skeletons[0].skeleton.names.index(n) for n in made.skeleton.names]
                    self.close(joints_at(clip)[:, names], wanted, 2e-5, f"{field} of {ending} in {out}")

    def test_every_field_of_a_sources_correction(self):
        (heron,) = [e for e in show_state().entries if e.name == "Heron"]
        for field, value in VALUES.items():
            source = replace(self.source, correction=Correction(**{field: value}))
            live, made = self.made(heron, source)
            self.close(joints_at(made.placed_clip), joints_at(live), 1e-9, field)

    def test_the_pose_that_a_skin_was_bound_in(self):
        rig = entries_of(read(show_folder() / "puppets/bodies/Gull.glb"))[0]
        live, made = self.made(rig, rest=BIND)
        delivery.deliver(self.folder / "a.glb", made.placed_clip, made.rig, body=True)
        again = read(self.folder / "a.glb").skeletons[0].clips[0]
        names = [again.skeleton.names.index(n) for n in made.skeleton.names]
        self.close(joints_at(place_clip(again, made.rig.figure.placement))[:, names], joints_at(live), 2e-5)

    def test_the_rig_may_leave_the_library(self):
        document = Document(show_state())
        document.do(do.Bake(frames=(0, 20)))
        made = document.state.bakes[0]
        document.do(do.Remove(document.state.rig), do.Remove(document.state.source))
        storage.save(self.folder / "a.marionette", document.state)
        again = storage.load(self.folder / "a.marionette").bakes[0]
        delivery.deliver(self.folder / "a.bvh", again.placed_clip, again.rig)
        self.close(joints_at(read(self.folder / "a.bvh").skeletons[0].clips[0]), joints_at(made.clip), 2e-5)


class OutOfDate(Case):
    def setUp(self):
        self.document = Document(show_state())
        self.document.do(do.Bake(fps=15, frames=(0, 40)))

    @property
    def state(self):
        return self.document.state

    def outdated(self, state=None):
        state = state or self.state
        told = [s for s in find_snags(state) if s.step == "refine"]
        self.assertEqual(bool(told), not all(is_current(state, b) for b in state.bakes))
        return told

    def test_what_went_in_and_changed_is_a_snag_that_baking_anew_mends(self):
        source, rig = self.state.source, self.state.rig
        for command in (
            do.SetTransfer((("stride", 0.8),)),
            do.TurnBone("leftUpperArm", (0.2, 0, 0)),
            do.TieBones("neck", ("quay:Head",), ("neck",)),
            do.Correct(source, (("lift", 0.1),)),
            do.Correct(rig, (("scale", 0.02),)),
            do.GroundFrame(source, 12),
            do.SetJointLimit(rig, JointLimit("leftUpperArm", 0.6)),
            do.SetTransfer((("feet", "free"),)),
            do.SetTransfer((("hands", "places"),)),
            do.DrawContact(source, "left toe", 3, 9),
        ):
            start, before = self.state, self.state.bakes[0]
            self.assertFalse(self.outdated())
            self.document.do(command)
            (snag,) = self.outdated()
            self.assertIs(self.state.bakes[0], before, "what was baked stays until it is asked for")
            self.document.do(snag.mend)
            self.assertFalse(self.outdated())
            after = self.state.bakes[0]
            self.assertEqual((after.id, after.name, after.fps, after.frames), (before.id, before.name, 15, (0, 40)))
            self.assertEqual(after.placed_clip.frames, before.placed_clip.frames)
            self.document.undo()
            self.document.undo()
            self.assertIs(self.state, start)

    def test_limits_and_props_are_saved_and_obeyed(self):
        rig = self.state.rig_entry
        limit = JointLimit("leftUpperArm", 0.6, (-0.5, 0.5))
        self.document.do(do.SetJointLimit(rig.id, limit))
        path = self.folder / "a.marionette"
        storage.save(path, self.state)
        again = storage.load(path)
        self.assertEqual(again.rig_entry.limits, (limit,))
        self.assertEqual([e.props for e in again.entries], [e.props for e in self.state.entries])
        clip = live_clip(self.state)
        joint = clip.skeleton.index["leftUpperArm"]
        turn = rot.multiply(rot.conjugate(clip.skeleton.rest[joint]), clip.rotations[:, joint])
        axis = bone_axis(clip.skeleton, joint)
        lean = rot.angle_between(rot.rotate(turn, axis), np.broadcast_to(axis, (clip.frames, 3)))
        self.assertLess(lean.max(), 0.6 + 1e-6)
        self.close(joints_at(live_clip(again)), joints_at(clip), 1e-9)
        named = rig.with_bone_names({"leftUpperArm": "oar_arm"})
        self.assertEqual(replace(named, limits=(limit,)).with_bone_names({}).limits, (limit,))
        renamed = self.state.rig_entry.with_bone_names({"leftUpperArm": "oar_arm"})
        self.assertEqual([one.joint for one in renamed.limits], ["oar_arm"])
        self.document.do(do.SetJointLimit(rig.id, JointLimit("leftUpperArm")))
        self.assertEqual(self.state.rig_entry.limits, ())

    def test_frames_are_put_on_the_floor(self):
        """A clip that hovers more and more is down in the frames that were picked, and moves smoothly between."""
        (source,) = [e for e in self.state.entries if e.name == "carry_bucket"]
        drift = np.linspace(0.0, 0.4, source.take.frames)[:, None, None] * source.figure.placement.scale**-1
        up = source.figure.placement.inverse.turn
        raised = source.take.translations + drift * rot.rotate(up, np.array([0.0, 1.0, 0.0]))
        document = Document(self.state.with_entry(replace(source, take=replace(source.take, translations=raised))))
        for frame in (10, 60, 110):
            document.do(do.GroundFrame(source.id, frame))
        entry = document.state.entry(source.id)
        self.assertEqual(entry.correction.grounded, (10, 60, 110))
        points = [p for p in contact_points(entry.placed_skeleton, entry.metric_body) if p.name in FEET]
        low = point_rows(entry.placed_clip, points)[:, 1].min(0)
        self.close(low[[10, 60, 110]], 0, 1e-6)
        change = (
            joints_at(entry.placed_clip)[:, 0, 1]
            - joints_at(replace(entry, correction=source.correction).placed_clip)[:, 0, 1]
        )
        self.assertLess(np.abs(np.diff(change, 2)).max(), 2e-3)
        document.do(do.GroundFrame(source.id, 60))
        self.assertEqual(document.state.entry(source.id).correction.grounded, (10, 110))
        document.do(do.GroundFrame(source.id, None))
        self.assertIsNone(document.state.entry(source.id).correction.grounded)

    def test_what_has_no_part_in_it_changes_nothing(self):
        for command in (
            do.Tag(self.state.source, ("dusk",)),
            do.Rename(self.state.rig, "Another name"),
            do.SetTolerance(20),
            do.Choose(next(e.id for e in self.state.entries if e.name == "haul_rope")),
            do.Lock("head"),
        ):
            self.document.do(command)
            self.assertFalse(self.outdated(), command.label)

    def test_it_is_known_after_saving(self):
        storage.save(self.folder / "a.marionette", self.state)
        again = storage.load(self.folder / "a.marionette")
        self.assertFalse(self.outdated(again))
        document = Document(again)
        document.do(do.SetTransfer((("height_offset", 0.1),)))
        self.assertTrue(self.outdated(document.state))

    def test_what_it_came_from_is_gone(self):
        self.document.do(do.Remove(self.state.source))
        self.assertFalse(self.outdated())
        self.refuses(lambda: self.document.do(do.BakeAnew(self.state.bakes[0].id)), "can't be rebaked")


class OldProjects(Case):
    """A project that version 2 saved, with clips, rigs, bodies, corrections, bakes and stringings."""

    def test_everything_is_there(self):
        state = storage.load(DATA / "project_version_2.marionette")
        told = json.loads((DATA / "project_version_2.json").read_text())
        self.assertEqual((state.name, state.stance_tolerance), (told["name"], told["tolerance"]))
        self.assertEqual([f.name for f in state.stringings], told["stringings"])
        by_name = {e.name: e for e in (*state.entries, *state.bakes)}
        self.assertEqual(set(by_name), {e["name"] for e in told["entries"]})
        for item in told["entries"]:
            entry = by_name[item["name"]]
            self.assertEqual((entry.role, list(entry.tags)), (item["role"], item["tags"]))
            self.assertEqual(len(entry.skeleton), item["joints"])
            self.close(joints_at(entry.placed_clip)[-1].mean(0), item["last"], 1e-5, entry.name)
        for source, rig, strings, in_place, stride, absent in told["pairings"]:
            pairing = state.pairing_of(by_name[source], by_name[rig])
            self.assertEqual((len(pairing.strings), bool(pairing.settings.in_place)), (strings, in_place))
            self.assertEqual((pairing.settings.stride, list(pairing.absent)), (stride, absent))
        self.assertIsNotNone(by_name["Puffin"].character)
        self.assertFalse([s for s in find_snags(state) if s.step == "refine"], "nothing is known to be out of date")

    def test_version_3_is_there_with_its_bakes_and_scales(self):
        """One of these bakes was out of date when it was saved, and for that reason alone it is now."""
        state = storage.load(DATA / "project_version_3.marionette")
        told = json.loads((DATA / "project_version_3.json").read_text())
        self.assertEqual((state.name, state.stance_tolerance), (told["name"], told["tolerance"]))
        self.assertEqual([f.name for f in state.stringings], told["stringings"])
        by_id = {e.id: e.name for e in state.entries}
        self.assertEqual(
            [
                [by_id[s], by_id[r], u.in_place == ("x", "z"), u.stride, u.height_offset]
                for (s, r), u in state.uses.items()
            ],
            told["uses"],
        )
        for entry, item in zip(state.entries, told["entries"], strict=True):
            self.assertEqual((entry.name, entry.role, list(entry.tags)), (item["name"], item["role"], item["tags"]))
            self.close(joints_at(entry.placed_clip)[-1].mean(0), item["last"], 1e-5, entry.name)
        for made, item in zip(state.bakes, told["bakes"], strict=True):
            self.assertEqual((made.name, made.clip.frames), (item["name"], item["frames"]))
            self.close(joints_at(made.placed_clip)[-1].mean(0), item["last"], 1e-5, made.name)
            if item["current"] and "row_boat" not in made.name:
                self.assertTrue(is_current(state, made), made.name)
        rowing = next(e for e in state.entries if e.name == "row_boat").clip
        self.assertEqual((rowing.morphs, rowing.scaled.tolist()), (("smile",), [told["scaled joint"]]))
        self.close(rowing.scales[-1, 0], [told["last scale"]] * 3, 1e-12)
        storage.save(self.folder / "new.marionette", state)
        again = storage.load(self.folder / "new.marionette")
        self.assertEqual(
            [e.take and e.take.digest for e in again.entries], [e.take and e.take.digest for e in state.entries]
        )

    def test_saved_anew_and_delivered(self):
        state = storage.load(DATA / "project_version_2.marionette")
        storage.save(self.folder / "a.marionette", state)
        again = storage.load(self.folder / "a.marionette")
        for a, b in zip((*state.entries, *state.bakes), (*again.entries, *again.bakes), strict=True):
            self.close(joints_at(a.placed_clip), joints_at(b.placed_clip), 0, a.name)
        for made in again.bakes:
            ending = {"BVH": ".bvh", "glTF": ".glb", "USD": ".usdc"}[made.layout.format]
            delivery.deliver(self.folder / f"{made.name}{ending}", made.placed_clip, made.rig)
            file = read(self.folder / f"{made.name}{ending}")
            self.close(
                np.ptp(joints_at(file.skeletons[0].clips[0]), 0), np.ptp(joints_at(made.clip), 0), 1e-3, made.name
            )
