"""Controls in the window: baked onto, taken hold of on the stage, switched, renamed, saved, and back to bones."""

from functools import lru_cache

import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog

from tests.app.harness import WindowCase
from tests.support import show_state
from young_marionette.app import settings
from young_marionette.core.keys.curves import PLACE
from young_marionette.core.kinematics import forward
from young_marionette.core.passes.adjusting import Adjust
from young_marionette.core.passes.correction import Correction
from young_marionette.core.passes.stack import Pass
from young_marionette.core.thinning.settings import Thin
from young_marionette.project import commands as do
from young_marionette.project.document import Document
from young_marionette.project.storage import load, save


@lru_cache(maxsize=1)
def on_controls():
    """The show with a clip on bones, and the same on controls."""
    document = Document(show_state())
    document.do(do.Choose(next(e.id for e in document.state.entries if e.name == "light_lamp")))
    document.do(do.Bake())
    document.do(do.BakeOntoControls(document.state.bakes[0].id))
    return document.state


class ControlsCase(WindowCase):
    opened = False

    def setUp(self):
        super().setUp()
        self.refine = self.desk("refine")
        self.card = self.refine.controls
        self.session.document.open(on_controls(), None)
        self.bones = self.session.state.bakes[0]
        self.session.go("refine")
        self.session.compare_with(self.session.state.bakes[1].id)
        self.session.arrange("marionette")
        self.session.seek(60)
        self.spin(0.1)

    @property
    def bake(self):
        return self.session.refined

    def settled(self):
        self.until(lambda: self.session.passing.known)
        self.spin()

    def places(self, frame=60):
        return forward(self.bake.passed.bones(self.bake.passed.part(frame, frame)))[0][0]

    def joint(self, control):
        rig = self.bake.control_rig
        return int(np.flatnonzero(rig.driver == rig.skeleton.index[control])[0])

    def take(self, name):
        """Click a control on the stage."""
        stage = self.window.stage
        one = next(t for t in stage.tackle.shown if t.name == name)
        places = next(p for n, kind, p in stage.tackle.flat() if stage.tackle.shown[n] is one and kind)
        QTest.mouseClick(stage, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, QPoint(*map(int, places[0])))
        self.spin()

    def pull(self, way):
        """Drag the middle of the handle."""
        stage = self.window.stage
        start = stage.place_of(stage.handled, stage.handle)
        QTest.mousePress(stage, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, start)
        for share in (0.5, 1.0):
            QTest.mouseMove(stage, QPoint(int(start.x() + way[0] * share), int(start.y() + way[1] * share)))
            self.spin()
        QTest.mouseRelease(stage, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, start)
        self.spin()


class Hands(ControlsCase):
    def test_hips_are_dragged_over_feet_that_stand(self):
        self.assertEqual(self.bake.name, f"{self.bones.name} on controls")
        before, undo = self.places(), self.session.document.undo_label
        self.take("hips")
        self.assertEqual(self.session.bones, ("hips",))
        self.pull((0, 25))
        after = self.places()
        hips, feet = self.joint("hips"), [self.joint("left foot"), self.joint("right foot")]
        self.assertLess(after[hips][1], before[hips][1] - 0.02)
        self.close(after[feet], before[feet], 1e-6)
        (one,) = self.bake.passes
        self.assertIsInstance(one.method, Correction)
        self.session.undo()  # the whole drag is one step
        self.assertEqual((self.bake.passes, self.session.document.undo_label), ((), undo))

    def test_thinned_poses_are_changed_by_controls(self):
        self.session.do(do.AddPass(self.bake.id, Pass("one", Thin(0.02))))
        self.until(lambda: self.session.passing.poses is not None)
        poses = len(self.session.passing.poses.frames)
        self.assertLess(poses, 60)
        self.take("left foot")
        before = self.places()
        self.pull((-20, -20))
        self.assertIsNotNone(self.bake.passes[-1].keys)
        self.assertGreater(np.linalg.norm((self.places() - before)[self.joint("left foot")]), 0.02)
        self.assertIn(60, self.session.passing.poses.frames)

    def test_curves_show_controls_and_their_keys_are_edited_there(self):
        panel = self.window.timeline.curves
        self.window._toggle_curves()
        self.addCleanup(lambda: settings.put("curves/refine", False))
        self.session.do(do.AddPass(self.bake.id, Pass("one", Thin(0.02))))
        self.until(lambda: self.session.passing.known)
        self.session.show_curves_of(("hips", "left knee"))
        self.spin(0.1)
        for n in range(panel.reading.count()):
            panel.reading.setCurrentIndex(n)
            panel.show_state(True)
            self.spin()
        self.assertIn("left knee", [child.text().removeprefix("★ ") for _, child in panel.tree._items()])
        panel.reading.setCurrentIndex(panel.reading.findData(PLACE))
        panel.show_state(True)
        self.assertTrue({"hips", "left knee"} <= {c.name for c in panel.plot.new})
        handle = next(h for h in panel.plot.handles if h.name == "hips" and h.axis == "Y" and 0 < h.frame < 200)
        before = self.places(handle.frame)
        panel._drag_value(handle, handle.value - 3.0, True)
        self.spin()
        self.close((self.places(handle.frame) - before)[self.joint("hips")], [0, -0.03, 0], 1e-6)

    def test_numbers_turn_and_move_what_is_chosen(self):
        self.session.show_curves_of(("left foot",))
        self.spin()
        pose, before = self.refine.pose, self.places()
        pose.moves[1].edited.emit(5.0, True)
        self.spin()
        self.close((self.places() - before)[self.joint("left foot")], [0, 0.05, 0], 1e-6)
        self.session.show_curves_of(("left foot roll",))
        self.spin()
        self.assertFalse(pose.moving.isVisible())  # it only turns
        pose.turns[0].edited.emit(20.0, True)
        self.spin()
        self.assertGreater((self.places() - before)[self.joint("left foot")][1], 0.06)

    def test_a_limit_holds_the_hand_back_and_is_the_rigs(self):
        self.session.show_curves_of(("head",))
        self.spin()
        look = self.card.look
        look.lean.edited.emit(0.0, True)
        look.lean._value = 0.0
        look._limit(True)
        self.spin()
        rig = self.session.state.entry(self.bake.rig.id)
        self.assertEqual(rig.controls.of("head").swing, 0.0)
        self.assertEqual(self.bake.controls.of("head").swing, 0.0)

    def test_what_is_set_on_one_side_is_so_on_the_other(self):
        self.session.show_curves_of(("left foot",))
        self.spin()
        look = self.card.look
        look.size.edited.emit(150.0, True)
        controls = self.session.state.entry(self.bake.rig.id).controls
        self.assertEqual((controls.of("left foot").size, controls.of("right foot").size), (1.5, 1.5))
        self.assertEqual(self.bake.controls.of("right foot").size, 1.5)
        look.both.click()
        look.size.edited.emit(80.0, True)
        controls = self.session.state.entry(self.bake.rig.id).controls
        self.assertEqual((controls.of("left foot").size, controls.of("right foot").size), (0.8, 1.5))

    def test_a_control_is_renamed_and_its_passes_go_along(self):
        self.session.show_curves_of(("head",))
        self.spin()
        self.refine.pose.turns[0].edited.emit(10.0, True)
        turned = self.places()
        self.card.look.name.setText("skull")
        self.card.look._rename()
        self.spin()
        self.assertEqual(self.session.bones, ("skull",))
        self.assertIn("skull", dict(self.bake.passes[0].method.turns))
        self.close(self.places(), turned, 1e-9)
        self.assertIn("skull", self.session.state.entry(self.bake.rig.id).controls.names)


class Cards(ControlsCase):
    def test_a_clip_is_baked_onto_controls_and_once_more_in_place(self):
        self.session.compare_with(self.bones.id)
        self.spin()
        self.assertFalse(self.card.isVisible())
        menu = self.card.baking.menu()
        menu.aboutToShow.emit()
        few = next(a for a in menu.actions() if "few poses" in a.text())
        few.trigger()
        self.until(lambda: self.bake is not None and self.bake.controls is not None)
        self.assertEqual(self.bake.name, f"{self.bones.name} on controls 2")
        self.until(lambda: self.session.passing.poses is not None)
        self.assertLess(len(self.session.passing.poses.frames), 40)
        count = len(self.session.state.bakes)
        self.session.compare_with(self.bones.id)
        self.card.bake_onto(instead=True)
        self.until(lambda: self.bake is not None and self.bake.controls is not None)
        self.assertEqual((len(self.session.state.bakes), self.bake.id), (count, self.bones.id))

    def test_limbs_are_switched_and_parts_hidden(self):
        before = self.places()
        self.card.switch("left arm", True, "world")
        self.spin()
        self.assertIn("left hand", [t.name for t in self.window.stage.tackle.shown])
        self.close(self.places(), before, 1e-7)
        menu = self.card.parts.menu()
        menu.aboutToShow.emit()
        next(a for a in menu.actions() if a.text() == "Left arm").trigger()
        self.spin()
        self.assertNotIn("left hand", [t.name for t in self.window.stage.tackle.shown])
        self.key(Qt.Key.Key_J)
        self.assertEqual(self.window.stage.tackle.shown, [])
        self.key(Qt.Key.Key_J)
        self.assertIn("hips", [t.name for t in self.window.stage.tackle.shown])

    def test_a_set_is_saved_and_taken_up_by_another_clip(self):
        rig = self.session.state.entry(self.bake.rig.id)
        path = self.folder / "heron.controls"
        self.session.do(do.SetControls(rig.id, rig.controls.changed("head", size=2.0)))
        self.card.files.save(self.session.state.entry(rig.id), path)
        self.session.do(do.SetControls(rig.id, None))
        self.window.files.open_paths([path])
        self.spin()
        self.assertEqual(self.session.state.entry(rig.id).controls.of("head").size, 2.0)
        path.write_text("{}")
        self.window.files.open_paths([path])
        self.assertIn("heron.controls", self.window.message.text.text())
        asked = QFileDialog.getSaveFileName
        QFileDialog.getSaveFileName = lambda *_args: (str(self.folder / "again"), "")
        self.addCleanup(lambda: setattr(QFileDialog, "getSaveFileName", asked))
        self.card.files.ask_save(self.session.state.entry(rig.id))
        self.assertTrue((self.folder / "again.controls").exists())

    def test_what_is_taken_out_is_for_the_next_clip(self):
        self.session.show_curves_of(("neck",))
        menu = self.card.set.menu()
        menu.aboutToShow.emit()
        next(a for a in menu.actions() if a.text() == "Take out neck").trigger()
        self.spin()
        self.assertNotIn("neck", self.session.state.entry(self.bake.rig.id).controls.names)
        self.assertIn("neck", self.bake.controls.names)
        self.assertIn("earlier set", self.card.about.text())
        menu.aboutToShow.emit()
        self.assertTrue(any(a.text().startswith("Make the set anew") and a.isEnabled() for a in menu.actions()))

    def test_back_to_bones_closed_and_opened_again(self):
        self.session.show_curves_of(("hips",))
        self.spin()
        self.refine.pose.moves[1].edited.emit(-4.0, True)
        self.settled()
        shown = self.places()
        path = self.folder / "kept.marionette"
        save(path, self.session.state)
        again = Document(load(path))
        bake = again.state.entry(self.bake.id)
        self.close(forward(bake.placed_clip)[0][60], shown, 1e-9)
        self.card.bake_back()
        self.until(lambda: self.session.refined is not None and self.session.refined.controls is None)
        self.assertEqual(self.window.stage.tackle.shown, [])
        self.close(forward(self.session.refined.placed_clip)[0][60], shown, 1e-9)
        self.assertIsNotNone(self.session.state.entry(bake.id))

    def test_a_limb_that_is_too_short_is_a_snag_that_lower_hips_mend(self):
        up = Pass("up", Correction(0, 0.5, (), (("hips", (0.0, 0.12, 0.0)),), (), True), keep=False)
        self.session.do(do.AddPass(self.bake.id, up))
        self.settled()
        snag = next(s for s in self.session.snags if s.code == "out of reach")
        self.session.do(snag.mend)
        self.settled()
        self.assertFalse([s for s in self.session.snags if s.code == "out of reach"])


class Layers(ControlsCase):
    def test_strength_over_time_and_alone(self):
        self.refine.add_pass(Adjust(hips=-0.1))
        self.refine.add_pass(Adjust(look=10.0))
        settings = self.refine.settings
        self.session.seek(10)
        settings._strength_here()
        self.session.seek(100)
        self.spin()
        settings._strength_here()
        self.spin()
        settings._typed_strength(1, 0.0, True)
        self.assertEqual(self.bake.passes[-1].method.strengths, ((10, 1.0), (100, 0.0)))
        settings.alone.emit()
        self.assertEqual([p.on for p in self.bake.passes], [False, True])
        settings.alone.emit()
        self.assertEqual([p.on for p in self.bake.passes], [True, True])

    def test_a_copied_pose_is_adopted_over_the_whole_clip(self):
        posing = self.window.posing
        self.session.seek(120)
        posing.copy()
        there = forward(self.bake.passed.bones(self.bake.passed.part(120, 120)))[1][0]
        self.session.seek(60)
        posing.adopt()
        self.settled()
        (one,) = self.bake.passes
        self.assertTrue(one.method.whole)
        head = self.joint("head")
        now = forward(self.bake.placed_clip)[1][60]
        hips = self.joint("hips")
        self.assertEqual(now.shape, there.shape)
        self.assertNotEqual(head, hips)

    def test_two_clips_are_joined_and_one_is_laid_over_the_other(self):
        session = self.session
        menu = self.refine.adding.menu()
        menu.aboutToShow.emit()
        sub = next(a.menu() for a in menu.actions() if a.text() == "Go over into another clip")
        next(a for a in sub.actions() if a.text() == self.bones.name).trigger()
        card = self.refine.joining
        self.until(lambda: card.changes)
        self.assertEqual(card.places.count(), 3)
        card.join.click()
        self.until(lambda: " and " in session.refined.name)
        self.assertGreater(session.refined.dense.frames, self.bones.dense.frames)
        self.assertFalse(card.isVisible())
        self.assertIsNotNone(session.refined.controls)
        count = len(session.refined.passes)
        self.refine.add_difference(self.bones)
        self.until(lambda: len(session.refined.passes) > count)
        self.settled()
        area = self.refine._area
        self.assertLessEqual(area.widget().width(), area.viewport().width())
        path = self.folder / "joined.marionette"
        save(path, session.state)
        again = load(path).entry(session.refined.id)
        self.close(again.placed_clip.rotations, session.refined.placed_clip.rotations, 1e-9)
