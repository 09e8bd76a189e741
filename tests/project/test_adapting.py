"""Every clip of the show on every puppet, and what is no body at all, through all that is done beside the transfer."""

from dataclasses import replace

import numpy as np

from tests.support import Case, show_state
from young_marionette.core.contacts.points import FEET
from young_marionette.core.transfer.deviation import FLOAT, SINK, SLIDE, TOUCHING
from young_marionette.project import commands as do
from young_marionette.project.bakes import baked
from young_marionette.project.deviation import deviation
from young_marionette.project.document import Document
from young_marionette.project.entry import CLIP, RIG
from young_marionette.project.pairing import pair
from young_marionette.project.planting import adapts, result
from young_marionette.project.playback import Motion


class EveryClip(Case):
    @classmethod
    def setUpClass(cls):
        state = show_state()
        cls.clips = [e for e in state.of_role(CLIP) if e.figure.body is not None]
        cls.rigs = state.of_role(RIG)

    def test_feet_stay_and_arms_are_out_of_the_body(self):
        self.assertGreater(len(self.clips) * len(self.rigs), 25)
        for rig in self.rigs:
            for source in self.clips:
                pairing = pair(source, rig)
                found = deviation(pairing, source, rig)
                what = f"{source.name} on {rig.name}"
                for lane in found.after:
                    self.assertEqual(lane.values.shape, (source.placed_clip.frames,), what)
                    self.assertTrue(np.isfinite(lane.values).all(), what)
                    if lane.kind == SLIDE and lane.part in FEET:
                        self.assertLess(lane.worst, 1e-3, f"{what}: {lane.part}")
                    elif lane.kind == FLOAT:
                        self.assertLess(lane.worst, 2e-3, f"{what}: {lane.part}")
                    elif lane.kind == SINK:
                        self.assertLess(lane.worst, 0.02, f"{what}: {lane.part}")
                    elif lane.kind == TOUCHING:
                        self.assertLess(lane.worst, 0.012, f"{what}: {lane.part}")

    def test_a_part_and_another_rate_are_planted_as_well(self):
        rig = self.rigs[0]
        for source in self.clips:
            if source.placed_clip.frames < 60:
                continue
            pairing = pair(source, rig)
            whole = result(pairing, source, rig)
            part, contacts = baked(pairing, source, rig, None, (10, 40))
            self.close(part.rotations, whole.rotations[10:41], 0)
            self.assertTrue(all(0 <= c.first <= c.last <= 30 for c in contacts.found))
            other, contacts = baked(pairing, source, rig, 24.0, (10, 40))
            self.assertTrue(np.isfinite(other.rotations).all())
            self.assertTrue(all(c.last < other.frames for c in contacts.found))

    def test_what_stays_in_place_stands_as_it_does_where_it_travels(self):
        source = next(e for e in self.clips if e.name == "carry_bucket")
        rig = next(e for e in self.rigs if e.name == "Puffin")
        pairing = pair(source, rig)
        still = replace(pairing, settings=replace(pairing.settings, in_place=("x", "z")))
        a, b = result(pairing, source, rig), result(still, source, rig)
        self.close(a.rotations, b.rotations, 1e-12)
        hips = [int(j) for j in a.moving].index(rig.figure.body.parts["hips"][0])
        self.assertGreater(np.ptp(a.translations[:, hips, 2]), 0.5)
        self.assertLess(np.ptp(b.translations[:, hips, 2]), 0.2)

    def test_the_stage_shows_the_very_result_once_it_is_there(self):
        source = next(e for e in self.clips if e.name == "haul_rope")
        rig = next(e for e in self.rigs if e.name == "Heron")
        pairing = pair(source, rig)
        early = Motion(source, pairing, rig)
        self.assertTrue(early.lags)
        first = early.at(50)[0]
        source.contacts  # noqa: B018
        closer = Motion(source, pairing, rig).at(50)[0]
        result(pairing, source, rig)
        late = Motion(source, pairing, rig)
        self.assertFalse(late.lags)
        exact = late.at(50)[0]
        self.assertLess(np.abs(closer - exact).max(), 0.12)
        self.assertGreater(np.abs(first - exact).max(), 1e-6)

    def test_the_same_body_is_left_alone(self):
        source, other = (next(e for e in self.clips if e.name == n) for n in ("carry_bucket", "haul_rope"))
        rig = replace(other, role=RIG)
        pairing = pair(source, rig)
        self.assertFalse(adapts(pairing, rig))
        self.close(result(pairing, source, rig).rotations, pairing.transfer.run(source.placed_clip).rotations, 0)


class NoBody(Case):
    def test_a_skeleton_without_a_body_is_carried_over_as_it_is(self):
        """Strings tied by hand between what no body can be read in: nothing is planted, nothing breaks."""
        state = show_state()
        source, rig = state.source_entry, state.rig_entry
        names = {n: f"thing_{i}" for i, n in enumerate(rig.skeleton.names)}
        flat = replace(rig.skeleton, offsets=rig.skeleton.offsets * [1.0, 0.02, 1.0])
        odd = replace(rig.with_bone_names(names), id="odd", take=None, layout=None)
        odd = replace(odd, skeleton=replace(flat, names=odd.skeleton.names))
        document = Document(replace(state, entries=(*state.entries, odd)))
        if odd.figure.body is not None:
            self.skipTest("it is a body after all")
        pairing = replace(
            pair(source, rig),
            target=odd.placed_skeleton,
            strings=tuple(replace(s, target=tuple(names[n] for n in s.target)) for s in pair(source, rig).strings),
        )
        self.assertTrue(np.isfinite(result(pairing, source, odd).rotations).all())
        self.assertIsNotNone(deviation(pairing, source, odd))
        document.do(do.Choose(source.id))
