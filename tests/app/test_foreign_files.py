"""Files of other makers in the real window: what is odd about them is said, and can be set right there."""

import itertools
from dataclasses import replace

import numpy as np

from tests.app.harness import WindowCase
from tests.core.test_posture import along_x
from tests.formats.test_packed import split_take
from tests.support import show_folder, told
from young_marionette import api
from young_marionette.app.library import family_headings
from young_marionette.core import rotations as rot
from young_marionette.demo import dressing
from young_marionette.formats import write
from young_marionette.project import commands as do
from young_marionette.project.entry import entries_of
from young_marionette.project.playback import aside


class Foreign(WindowCase):
    def opened(self, path):
        self.window.files.open_paths([path])
        self.until(lambda: not self.window.running.jobs)
        return self.state.entries[-1]

    def gather(self, entry):
        self.session.do(do.Choose(entry.id))
        self.session.go("gather")
        self.spin(0.2)
        return self.window.desks["gather"].source

    def test_a_take_that_is_split_by_joint_can_be_parted(self):
        entry = self.opened(split_take(self.folder, 6))
        card = self.gather(entry)
        self.assertTrue(card.part.isVisible())
        before = len(self.state.entries)
        self.click(card.part)
        self.assertEqual(len(self.state.entries), before + 6)
        self.session.undo()
        self.assertEqual(len(self.state.entries), before)

    def test_a_rest_that_lies_is_a_snag_and_up_can_be_chosen(self):
        clip = api.read(show_folder() / "quay" / "wave_to_ship.bvh").placed_clip
        pose = dressing.rest_pose(clip.skeleton, {clip.skeleton.names[0]: rot.AXES["X"] * np.pi / 2})
        write(self.folder / "lying.bvh", dressing.with_rest(clip, pose))
        entry = self.opened(self.folder / "lying.bvh")
        card = self.gather(entry)
        self.assertIn("the motion is followed", card.notes.text())
        self.assertTrue(any("the motion is followed" in told(snag) for snag in self.session.snags))
        box = card.boxes["up"]
        box.setCurrentIndex(box.findText("+Z"))
        box.activated.emit(box.currentIndex())
        self.assertEqual(self.state.entry(entry.id).figure.up, "+Z")
        self.assertFalse(any("is followed" in told(snag) for snag in self.session.snags))

    def test_a_rest_that_shows_no_body(self):
        clip = api.read(show_folder() / "quay" / "wave_to_ship.bvh").placed_clip
        write(self.folder / "line.bvh", along_x(clip))
        card = self.gather(self.opened(self.folder / "line.bvh"))
        self.assertIn("is used in its place", card.notes.text())

    def test_figures_with_arms_spread_have_room(self):
        state = self.state
        rig = next(e for e in state.of_role("rig") if e.name == "Puffin")
        self.session.do(do.Choose(rig.id, as_rig=True))
        for step in ("string", "stance", "gather"):
            self.session.go(step)
            self.session.arrange("beside")
            self.spin(0.2)
            figures = [f for f in self.window.stage.figures if f.kind in ("performer", "marionette")]
            spans = sorted((f.placed[:, 0].min(), f.placed[:, 0].max()) for f in figures)
            self.assertTrue(all(a[1] < b[0] for a, b in itertools.pairwise(spans)), step)
        self.assertGreater(aside(rig, True), 0.3)

    def test_families_of_one_folder_are_told_apart(self):
        one = next(e for e in self.state.of_role("clip"))
        folder = self.folder / "clips"
        families = []
        for count in (len(one.skeleton), len(one.skeleton) - 1):
            skeleton = one.skeleton
            keep = range(count)
            smaller = replace(
                skeleton,
                names=tuple(n.replace("quay:", "") for n in skeleton.names[:count]),
                parents=skeleton.parents[:count],
                offsets=skeleton.offsets[list(keep)],
                rest=skeleton.rest[:count],
                tips=skeleton.tips[:count],
                scales=skeleton.scales[:count],
            )
            families.append([replace(one, path=folder / "a.bvh", skeleton=smaller, take=None)])
        headings = family_headings(families)
        self.assertEqual(len(set(headings)), 2)
        self.assertFalse(any("clips," in h or h.endswith("clips") for h in headings), headings)
        self.assertTrue(entries_of)
