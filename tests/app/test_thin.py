"""Thinning and editing what is left, in the real window: slider, lanes, the stage's handles, the file."""

from dataclasses import replace

import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QPushButton

from tests.app.harness import WindowCase
from tests.support import joints_at
from young_marionette.app import settings
from young_marionette.core.thinning.settings import CONTACTS, KEYS, Thin
from young_marionette.formats import read
from young_marionette.project import commands as do
from young_marionette.wording.passes import NAMES

NONE, CTRL, ALT = (
    Qt.KeyboardModifier.NoModifier,
    Qt.KeyboardModifier.ControlModifier,
    Qt.KeyboardModifier.AltModifier,
)


class ThinCase(WindowCase):
    thinned = True

    def setUp(self):
        for key, value in (("curves/refine", False), ("lanes/refine", True), ("lanes/folded", "")):
            settings.put(key, value)
        super().setUp()
        self.session.do(do.Choose(self.id_of("light_lamp")))
        self.session.do(do.Bake(None, (0, 110)))
        self.refine, self.lanes = self.desk("refine"), self.window.timeline.lanes
        if self.thinned:
            self.refine.add_pass(Thin(0.02, stages=(CONTACTS, KEYS)))
            self.settled()

    @property
    def bake(self):
        return self.session.refined

    @property
    def poses(self):
        return self.session.passing.poses

    def settled(self):
        self.until(lambda: self.session.passing.known, 60)
        self.spin()

    def motion(self):
        return self.bake.passed.stage().clip

    def place(self, frame):
        """Where a pose is in its lane."""
        row = next(r for r in self.lanes.rows if r.kind == "keys")
        x = self.lanes.left + self.lanes.scale.x_of(frame, self.lanes.wide)
        return QPoint(round(x), round(self.lanes.area_of(row).center().y()))

    def drag(self, frame, to, modifiers=NONE):
        start, end = self.place(frame), self.place(to)
        QTest.mousePress(self.lanes, Qt.MouseButton.LeftButton, modifiers, start)
        for share in (0.3, 0.6, 1.0):
            QTest.mouseMove(self.lanes, start + (end - start) * share)
        QTest.mouseRelease(self.lanes, Qt.MouseButton.LeftButton, modifiers, end)
        self.settled()


class Thinning(ThinCase):
    thinned = False

    def test_from_the_menu_to_the_file(self):
        menu = self.refine.adding.menu()
        menu.aboutToShow.emit()
        next(a for a in menu.actions() if a.text() == NAMES["thin"]).trigger()
        self.settled()
        frames = self.bake.dense.frames
        thin = self.refine.settings.thin
        told = [(n.text(), t.text()) for n, t in thin.told._lines]
        self.assertIn(("Poses", f"{frames} → {len(self.poses.frames)}, {self.poses.gone * 100:.0f} % gone"), told)
        self.assertIn(f"{len(self.poses.frames)} poses of {frames}", self.refine._line_widgets[0].number.text())
        self.assertEqual([r.key for r in self.lanes.rows][:3], ["keys", "poses", "thinned"])
        line = next(t for n, t in thin.told._lines if n.text() == "Largest")
        QTest.mouseClick(line, Qt.MouseButton.LeftButton)
        self.assertEqual(self.session.frame, self.poses.deviation.places.frame)
        before = len(self.poses.frames)
        # The slider answers while it is dragged, before all is worked out, once that is prepared.
        self.until(lambda: not self.session.passing.busy, 60)
        thin.slider.setSliderDown(True)
        thin.slider.setValue(thin.slider.maximum() * 3 // 4)
        self.until(lambda: "about" in self.refine._line_widgets[0].number.text())
        self.assertIn("about", thin.told._lines[0][1].text())
        thin.slider.setSliderDown(False)
        self.settled()
        self.assertLess(len(self.poses.frames), before)
        self.session.undo()
        self.settled()
        self.assertEqual(len(self.poses.frames), before)
        QTest.mouseClick(thin.stages[CONTACTS], Qt.MouseButton.LeftButton)
        self.settled()
        self.assertNotIn("contact", self.poses.marks.values())
        desk = self.desk("deliver")
        self.session.ask_for(folder=str(self.folder / "out"), endings=(".glb",))
        (self.folder / "out").mkdir()
        desk.write_now()
        self.until(lambda: "as keys with curves" in self.told(desk), 30)
        (file,) = (self.folder / "out").iterdir()
        clip = read(file).skeletons[0].clips[0]
        self.assertEqual((clip.keys, clip.frames), (len(self.poses.frames), frames))
        # A file is told of a moment before the delivery has ended, and another one begins only then.
        self.until(lambda: not desk.deliveries.busy, 30)
        self.session.ask_for(endings=(".bvh",))
        desk.write_now()
        self.until(lambda: "holds no curves" in self.told(desk), 60)

    def told(self, desk):
        """What the table of files tells of the first one."""
        return desk.panel.model.words(desk.panel.model.rows[0])[1]

    def test_a_dense_clip_is_corrected(self):
        self.session.seek(60)
        before = self.motion()
        self.session.show_curves_of(("head",))
        self.spin()
        self.assertIn("eased in and out", self.refine.pose.about.text())
        number = self.refine.pose.turns[1]
        number.setFocus()
        number.setText("25")
        QTest.keyClick(number, Qt.Key.Key_Return)
        self.settled()
        self.assertEqual([p.method.code for p in self.bake.passes], ["correction"])
        changed = np.flatnonzero((self.motion().rotations != before.rotations).any((1, 2)))
        self.assertTrue(45 <= changed.min() < 60 < changed.max() <= 75)
        # While the correction is chosen, another frame becomes one more pose of it; it can be as it is all through, and merged.
        one = self.bake.passes[0]
        self.session.choose_pass(one.id)
        self.session.seek(90)
        number.setFocus()
        number.setText("-15")
        QTest.keyClick(number, Qt.Key.Key_Return)
        self.settled()
        method = self.bake.passes[0].method
        self.assertEqual((len(self.bake.passes), [key.frame for key in method.keys]), (1, [60, 90]))
        self.refine.settings.switches["whole"].click()
        self.settled()
        self.assertTrue((self.motion().rotations[0] != before.rotations[0]).any())
        made = self.motion()
        self.click(next(b for b in self.refine.settings.findChildren(QPushButton) if b.text().startswith("Merge")))
        self.settled()
        self.assertEqual(self.bake.passes, ())
        self.close(self.bake.dense.rotations, made.rotations)
        for _ in range(3):
            self.session.undo()
        self.settled()
        self.assertEqual([key.frame for key in self.bake.passes[0].method.keys], [60])
        # What takes long can be stopped, until something is changed.
        self.refine.add_pass(Thin(0.005))
        self.until(lambda: self.refine.stop.isVisible() and "%" in self.refine.changed.text(), 30)
        self.assertIsNone(self.session.passing.poses)
        QTest.mouseClick(self.refine.stop, Qt.MouseButton.LeftButton)
        self.until(lambda: not self.session.passing.busy, 30)
        self.spin(0.3)
        self.assertTrue(self.session.passing.lags and not self.session.passing.busy)
        one = self.bake.passes[-1]
        self.session.do(do.SetPass(self.bake.id, replace(one, method=Thin(0.03))))
        self.settled()
        self.assertTrue(self.poses.frames)


class Editing(ThinCase):
    def test_keys_in_their_lane(self):
        before, frames = self.motion(), self.poses.frames
        at = max(range(2, len(frames) - 2), key=lambda i: min(frames[i + 1] - frames[i], 12))
        a, b, c = frames[at - 1 : at + 2]
        to = b + 3
        self.drag(b, to)
        self.assertEqual(self.session.keys, (to,))
        self.assertIn(to, self.poses.frames)
        changed = np.flatnonzero((self.motion().rotations != before.rotations).any((1, 2)))
        self.assertTrue(a < changed.min() and changed.max() < c)
        self.session.undo()
        self.settled()
        self.assertEqual(self.poses.frames, frames)
        QTest.mouseClick(self.lanes, Qt.MouseButton.LeftButton, NONE, self.place(b))
        self.lanes.setFocus()
        QTest.keyClick(self.lanes, Qt.Key.Key_Delete)
        self.settled()
        self.assertNotIn(b, self.poses.frames)
        self.session.seek((a + c) // 2)
        QTest.keyClick(self.lanes, Qt.Key.Key_Return)
        self.settled()
        self.assertEqual(self.poses.marks[(a + c) // 2], "hand-made")
        QTest.keyClick(self.lanes, Qt.Key.Key_C, CTRL)
        self.session.seek(c + 1)
        QTest.keyClick(self.lanes, Qt.Key.Key_V, CTRL)
        self.settled()
        motion = self.motion()
        self.close(motion.rotations[c + 1], motion.rotations[(a + c) // 2], 1e-9)
        QTest.keyClick(self.lanes, Qt.Key.Key_Right, CTRL)
        self.settled()
        self.assertIn(c + 2, self.poses.frames)
        # A run of them is stretched from its end.
        frames = self.poses.frames
        at = max(range(2, len(frames) - 4), key=lambda i: frames[i + 3] - frames[i + 2])
        chosen, room = frames[at : at + 3], frames[at + 3] - frames[at + 2]
        self.session.choose_keys(chosen)
        self.drag(chosen[-1], chosen[-1] + room // 2, ALT)
        self.assertEqual(self.session.keys[0], chosen[0])
        self.assertEqual(self.session.keys[-1], chosen[-1] + room // 2)

    def test_the_menu_does_what_it_says(self):
        keying, frames = self.lanes.keying, self.poses.frames
        self.session.choose_keys((frames[4],))
        for text, action, usable in keying.actions(frames[4] + 1):
            if isinstance(action, list):
                for _name, one in action:
                    one()
                self.settled()
            elif usable and not text.startswith(("Delete", "Paste")):
                action()
                self.until(lambda: not self.window.running.jobs, 60)
                self.settled()
            self.assertFalse(self.defects)
            self.session.choose_keys((self.poses.frames[4],))

    def test_tangents_in_the_curves(self):
        settings.put("curves/refine", True)
        self.session.step_changed.emit()
        self.session.show_curves_of(("leftLowerArm",))
        self.settled()
        plot = self.window.timeline.curves.plot
        handle = next(h for h in plot.handles if h.frame == self.poses.frames[5] and None not in h.slopes)
        before = self.motion()
        self.session.choose_keys((handle.frame,))
        for modifiers in (NONE, ALT):
            handle = next(h for h in plot.handles if (h.frame, h.axis) == (handle.frame, handle.axis))
            end = plot._arm(handle, 1).toPoint()
            QTest.mousePress(plot, Qt.MouseButton.LeftButton, modifiers, end)
            QTest.mouseMove(plot, end + QPoint(0, -8))
            QTest.mouseMove(plot, end + QPoint(0, -16))
            QTest.mouseRelease(plot, Qt.MouseButton.LeftButton, modifiers, end + QPoint(0, -16))
            self.settled()
        changed = np.flatnonzero((self.motion().rotations != before.rotations).any((1, 2)))
        self.assertTrue(self.poses.frames[5] < changed.min() and changed.max() < self.poses.frames[6])
        self.session.undo()
        self.session.undo()
        self.settled()
        self.close(self.motion().rotations, before.rotations, 0)
        handle = next(h for h in plot.handles if (h.frame, h.axis) == (handle.frame, handle.axis))
        key = QPoint(round(plot.x_of(handle.frame)), round(plot.y_of(handle.value)))
        QTest.mousePress(plot, Qt.MouseButton.LeftButton, NONE, key)
        QTest.mouseMove(plot, key + QPoint(0, 10))
        wanted = plot.value_at(key.y() + 20)
        QTest.mouseRelease(plot, Qt.MouseButton.LeftButton, NONE, key + QPoint(0, 20))
        self.settled()
        now = next(h for h in plot.handles if (h.frame, h.axis) == (handle.frame, handle.axis))
        self.assertAlmostEqual(now.value, wanted, delta=0.05)

    def test_poses_on_the_stage(self):
        stage, frames = self.window.stage, self.poses.frames
        a, b, c = frames[5:8]
        before = self.motion()
        self.session.seek(b)
        self.session.show_curves_of(("leftHand",))
        self.spin(0.3)
        centre = stage.place_of("baked", stage.handle)
        self.assertTrue(stage.movable)
        start = joints_at(before)[b, stage.handle]
        QTest.mousePress(stage, Qt.MouseButton.LeftButton, NONE, centre)
        for k in range(1, 4):
            QTest.mouseMove(stage, centre + QPoint(4 * k, 3 * k))
        QTest.mouseRelease(stage, Qt.MouseButton.LeftButton, NONE, centre + QPoint(12, 9))
        self.settled()
        after = self.motion()
        moved = joints_at(after) - joints_at(before)
        self.assertGreater(float(np.linalg.norm(joints_at(after)[b, stage.handle] - start)), 0.02)
        changed = np.flatnonzero(np.abs(moved).max(axis=(1, 2)) > 0)
        self.assertTrue(a < changed.min() and changed.max() < c)
        thin, keys = self.bake.passes
        self.assertEqual((thin.method.code, keys.method.code), ("thin", "keys"))
        self.session.choose_pass(keys.id)
        self.spin()
        self.assertFalse(self.refine.settings.stale.isVisibleTo(self.refine.settings))
        self.session.do(do.SetPass(self.bake.id, replace(thin, method=Thin(0.03))))
        self.settled()
        self.assertTrue(self.refine.settings.stale.isVisibleTo(self.refine.settings))
        self.session.undo()
        self.settled()
        self.session.undo()  # all of the drag is one step
        self.settled()
        self.close(self.motion().rotations, before.rotations, 0)
        # The ring turns the bone; the buttons mirror, copy and paste.
        centre = stage.place_of("baked", stage.handle)
        QTest.mousePress(stage, Qt.MouseButton.LeftButton, NONE, centre + QPoint(44, 0))
        QTest.mouseMove(stage, centre + QPoint(31, 31))
        QTest.mouseRelease(stage, Qt.MouseButton.LeftButton, NONE, centre + QPoint(31, 31))
        self.settled()
        turned = self.motion()
        self.assertTrue((turned.rotations[b] != before.rotations[b]).any())
        for what in ("Copy", "Mirror"):
            self.press(what)
        self.settled()
        self.assertTrue((self.motion().rotations[b] != turned.rotations[b]).any())
        self.press("Paste")
        self.settled()
        self.close(joints_at(self.motion())[b], joints_at(turned)[b], 1e-6)

    def press(self, text):
        from PySide6.QtWidgets import QPushButton

        button = next(w for w in self.refine.pose.findChildren(QPushButton) if w.text() == text)
        button.click()
        self.spin()
