"""Refine in the real window: the stack of passes, the curve view, before and after, presets."""

from dataclasses import replace

import numpy as np
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLabel, QPushButton

from tests.app.harness import WindowCase
from tests.support import joints_at
from young_marionette.app import presets, settings
from young_marionette.app.passes.line import PassLine
from young_marionette.core.filters.methods import Adaptive, LowPass, Spikes
from young_marionette.core.keys.curves import ANGLES, PLACE, READINGS, SPECTRUM, SPEED, curves
from young_marionette.core.passes.edits import Offset, Retime
from young_marionette.core.passes.stack import METHODS, Pass
from young_marionette.core.travel.loops import gap_of
from young_marionette.formats import read
from young_marionette.project import commands as do
from young_marionette.wording.passes import NAMES


class RefineCase(WindowCase):
    def setUp(self):
        for key in ("curves/refine", "lanes/refine", "curves/favourites"):
            settings.put(key, "[]" if "favourites" in key else key == "curves/refine")
        super().setUp()
        self.session.do(do.Choose(self.id_of("wave_to_ship")))
        self.session.do(do.Bake())
        self.refine = self.desk("refine")
        self.panel = self.window.timeline.curves
        self.plot = self.panel.plot

    @property
    def bake(self):
        return self.session.refined

    @property
    def lines(self):
        return [w for w in self.refine.lines.findChildren(PassLine) if w.isVisible()]

    def settled(self):
        self.until(lambda: self.session.passing.known)
        self.spin()

    def add(self, code):
        """Add a pass through the menu."""
        menu = self.refine.adding.menu()
        menu.aboutToShow.emit()
        next(a for a in menu.actions() if a.text() == NAMES[code]).trigger()
        self.spin()

    def show(self, *names):
        self.session.show_curves_of(names)
        self.spin()


class Passes(RefineCase):
    def test_every_pass_of_the_menu_works(self):
        offered = sorted(METHODS, key=lambda code: code == "thin")  # all that comes after it would wait for it
        for code in offered:
            self.add(code)
            self.settled()
            self.assertTrue(self.refine.settings.isVisible(), code)
            area = self.refine._area
            self.assertLessEqual(area.widget().width(), area.viewport().width(), f"{code} is cut off")
        self.assertEqual([p.method.code for p in self.bake.passes], offered)
        self.assertEqual(len(self.lines), len(offered))
        self.assertEqual(self.lines[0].identifier, self.bake.passes[-1].id)
        self.assertIn("Highest speed", self.refine.changed.text())

    def test_adjusted_and_in_another_time(self):
        """Numbers of the settings change the figure; what stands at the playhead is held, slowed and trimmed."""
        self.add("adjust")
        settings, hips = self.refine.settings, self.bake.passed.limbs.hips
        before = self.bake.passed.clip
        settings.numbers["hips"][0].edited.emit(-6.0, True)
        settings.turned.setCurrentIndex(settings.turned.findData("leftHand"))
        settings.turn[1].set_value(20.0)
        settings.turn[1].edited.emit(20.0, True)
        self.settled()
        self.assertEqual(self.bake.passes[0].method.turns, (("leftHand", (0.0, 20.0, 0.0)),))
        drop = (joints_at(self.bake.placed_clip) - joints_at(before))[:, hips, 1]
        self.close(drop, -0.06, 1e-6)
        feet = [leg.limb.end for leg in self.bake.passed.limbs.legs]
        self.close(joints_at(self.bake.placed_clip)[:, feet], joints_at(before)[:, feet], 2e-3)
        self.add("time")
        time = self.refine.settings.time
        self.session.seek(60)
        self.click(next(b for b in time.findChildren(QPushButton) if b.text() == "Hold here"))
        self.click(next(b for b in time.findChildren(QPushButton) if b.text() == "Speed here"))
        method = self.bake.passes[1].method
        self.assertEqual((method.holds, method.speeds), (((60, 0.5),), ((60, 1.0),)))
        time.numbers[0].edited.emit(50.0, True)
        self.assertEqual(self.bake.passes[1].method.speeds, ((60, 0.5),))
        self.session.set_range(40, 120)
        self.click(time.trim)
        method = self.bake.passes[1].method
        self.assertEqual((method.first, method.last), (20, 60))
        self.settled()
        self.assertEqual(self.session.frames, method.length(before.frames, before.rate))
        self.assertEqual(self.bake.placed_clip.frames, self.session.frames)

    def test_a_loop_is_found_and_closed(self):
        """The best frames are offered; the gap is told, with the first pose as a ghost where the last one stands."""
        self.add("loop")
        self.settled()
        loop = self.refine.settings.loop
        self.assertIn("Gap before closing", loop.told.text())
        self.assertTrue(any(f.ghost for f in self.window.stage.figures))
        self.click(loop.find)
        self.until(lambda: loop.offered.count() == 3)
        before = self.session.frames
        self.click(loop.offered.itemAt(0).widget())
        self.settled()
        method = self.bake.passes[0].method
        self.assertEqual(self.session.frames, method.last - method.first + 1)
        self.assertLess(self.session.frames, before)
        self.assertEqual(self.bake.part[0], method.first)
        lanes = self.window.timeline.lanes
        self.assertTrue(all(c.last < self.session.frames for c in lanes.contacts.found), "in the frames of the loop")
        clip, hips = self.bake.placed_clip, self.bake.passed.limbs.hips
        gap = gap_of(clip, hips, 0, clip.frames - 1)
        self.assertLess(max(abs(gap.height), gap.pose), 1e-3)
        self.session.undo()
        self.settled()
        self.assertEqual(self.session.frames, before)

    def test_spikes_are_told_listed_and_kept(self):
        self.add("spikes")
        self.settled()
        report = self.bake.passed.stage().report
        total = sum(map(len, report.spikes.values()))
        self.assertGreater(total, 4)
        self.assertEqual(self.lines[0].number.text(), f"{total} spikes")
        found = self.refine.settings.found
        self.assertEqual(found.count(), total)
        item = found.item(1)
        name, frame = item.data(Qt.ItemDataRole.UserRole)
        place = found.visualItemRect(item)
        QTest.mouseClick(found.viewport(), Qt.MouseButton.LeftButton, pos=place.center() + QPoint(20, 0))
        self.assertEqual((self.session.bones, self.session.frame), ((name,), frame))
        item.setCheckState(Qt.CheckState.Unchecked)
        self.settled()
        self.assertEqual(self.bake.passes[0].method.kept, ((name, frame),))
        self.assertEqual(self.lines[0].number.text(), f"{total - 1} spikes")
        self.session.undo()
        self.assertEqual(self.bake.passes[0].method.kept, ())

    def test_a_dragged_cut_off_answers_at_once_and_is_one_step(self):
        self.add("low-pass")
        self.settled()
        self.show("rightShoulder")
        settings_ = self.refine.settings
        settings_.kind.setCurrentIndex(0)
        settings_.kind.activated.emit(0)
        self.settled()
        before = self.bake.passes[0].method
        self.assertEqual(before, LowPass(6.0))
        curve = self.plot.new[0].values.copy()
        self.session.seek(180)
        figure = self.window.stage.figures[-1].positions.copy()
        number = settings_.numbers["cutoff"][0]
        self.drag(number, QPoint(20, 8), QPoint(4, 8))
        self.assertLess(self.bake.passes[0].method.cutoff, 5)
        self.assertGreater(np.abs(self.plot.new[0].values - curve).max(), 0.01)
        self.assertGreater(np.abs(self.window.stage.figures[-1].positions - figure).max(), 1e-4)
        self.settled()
        shown = self.window.stage.figures[-1]
        self.close(shown.positions, joints_at(self.bake.placed_clip)[180], 1e-6)
        self.session.undo()
        self.assertEqual(self.bake.passes[0].method, before)

    def test_switch_move_and_remove_by_mouse_and_keys(self):
        for code in ("spikes", "gaussian", "adaptive"):
            self.add(code)
        self.settled()
        top = self.lines[0]
        self.click(top.on)
        self.assertFalse(self.bake.passes[2].on)
        self.assertEqual(self.lines[0].number.text(), "off")
        self.click(self.lines[0].down)
        self.assertEqual([p.method.code for p in self.bake.passes], ["spikes", "adaptive", "gaussian"])
        line = next(w for w in self.lines if w.identifier == self.bake.passes[0].id)
        self.click(line, QPoint(60, 18))
        self.assertEqual(self.session.one_pass, self.bake.passes[0].id)
        line = next(w for w in self.lines if w.identifier == self.bake.passes[0].id)
        line.setFocus()
        self.key(Qt.Key.Key_Up, Qt.KeyboardModifier.ControlModifier, line)
        self.assertEqual(self.bake.passes[1].method.code, "spikes")
        line = next(w for w in self.lines if w.identifier == self.bake.passes[1].id)
        self.key(Qt.Key.Key_Delete, widget=line)
        self.assertEqual([p.method.code for p in self.bake.passes], ["adaptive", "gaussian"])
        for _ in range(3):
            self.session.undo()
        self.assertEqual([p.method.code for p in self.bake.passes], ["spikes", "gaussian", "adaptive"])

    def test_where_a_pass_counts(self):
        self.add("gaussian")
        desk = self.refine.settings
        self.session.set_range(20, 90)
        desk.frames.activated.emit(1)
        self.assertEqual(self.bake.passes[0].frames, (20, 90))
        self.assertEqual(desk.frames.currentText(), "Frames 20 to 90")
        desk.bones.activated.emit(1)  # no bones are chosen yet
        self.assertTrue(self.window.message.isVisible())
        self.show("rightHand", "leftHand")
        desk.bones.activated.emit(1)
        self.assertEqual(self.bake.passes[0].names, ("rightHand", "leftHand"))
        desk.bones.activated.emit(desk.bones.findData("part:left leg"))
        self.assertEqual((self.bake.passes[0].names, self.bake.passes[0].parts), ((), ("left leg",)))
        self.click(desk.switches["rotation"], QPoint(8, 8))
        self.assertEqual(self.bake.passes[0].channels, ("position", "morph"))
        self.click(desk.keep, QPoint(8, 8))
        self.assertFalse(self.bake.passes[0].keep)
        for kind in ("position", "morph"):
            self.click(desk.switches[kind], QPoint(8, 8))
        self.assertEqual(self.bake.passes[0].channels, ("morph",))

    def test_suggested_cut_offs_and_why(self):
        self.add("low-pass")
        self.refine.settings.suggest.emit()
        self.until(lambda: bool(self.bake.passes[0].method.parts))
        cutoffs = dict(self.bake.passes[0].method.parts)
        self.assertIn("right arm", cutoffs)
        self.assertTrue(all(0.5 < hertz < 15 for hertz in cutoffs.values()))
        self.settled()
        self.assertEqual(set(self.refine.settings.cutoffs), set(cutoffs))
        self.refine.settings.cutoffs["right arm"].edited.emit(4.5, True)
        self.assertEqual(dict(self.bake.passes[0].method.parts)["right arm"], 4.5)
        self.refine.settings.why.emit()
        self.until(lambda: self.refine.why.isVisible())
        told = [w.text() for w in self.refine.why.findChildren(QLabel)]
        self.assertTrue(any(text.endswith(f"right arm: {cutoffs['right arm']:.1f} Hz") for text in told), told)
        self.assertGreater(len(self.refine.why.plot.listDataItems()), 8)

    def test_accents_that_are_lost_are_told(self):
        self.session.do(do.AddPass(self.bake.id, Pass("a", LowPass(0.8))))
        self.settled()
        self.assertTrue(self.refine.accents.isVisible())
        self.assertIn("% slower", self.refine.accents.text())

    def test_an_outdated_bake_is_baked_anew_under_its_passes(self):
        self.add("spikes")
        self.session.do(do.SetTransfer((("stride", 0.9),)))
        snag = next(s for s in self.session.snags if s.code == "outdated")
        before = self.bake.dense
        self.session.do(snag.mend)
        self.assertIsNot(self.bake.dense, before)
        self.assertEqual([p.method for p in self.bake.passes], [Spikes()])

    def test_presets_of_project_and_user(self):
        self.session.do(do.Bake())
        self.add("adaptive")
        menu = self.refine.keeping.menu()

        def trigger(text):
            menu.aboutToShow.emit()
            everything = [*menu.actions(), *(a for sub in menu.actions() if sub.menu() for a in sub.menu().actions())]
            next(a for a in everything if a.text().startswith(text)).trigger()
            self.spin()

        def named(dialog):
            dialog.setTextValue("Mine")
            dialog.accept()

        for text in ("Keep these passes in the project", "Keep these passes for all projects"):
            self.answer(named)
            trigger(text)
        self.assertEqual([p.name for p in self.state.presets], ["Mine"])
        self.assertEqual([p.name for p in presets.load(self.fail)], ["Mine"])
        self.session.undo()
        self.session.undo()
        self.assertFalse(self.bake.passes)
        trigger("Use on all 2 baked clips")
        self.assertEqual([[p.method for p in b.passes] for b in self.state.bakes], [[Adaptive()]] * 2)
        trigger("Remove the preset")
        self.assertEqual(presets.load(self.fail), ())
        (settings.data_folder() / "presets.passes").write_text("{ broken")
        told = []
        presets.keep(None, told.append)
        self.assertIn("presets.passes", told[0])
        self.assertEqual((settings.data_folder() / "presets.passes").read_text(), "{ broken")
        (settings.data_folder() / "presets.passes").unlink()

    def test_before_against_after(self):
        self.add("low-pass")
        self.add("offset")
        self.session.do(
            do.SetPass(
                self.bake.id, replace(self.bake.passes[1], method=Offset((0.0, 0.0, 30.0)), parts=("right arm",))
            )
        )
        self.settled()
        kinds = lambda: [f.kind for f in self.window.stage.figures]  # noqa: E731
        self.assertEqual(kinds(), ["performer", "marionette", "baked"])
        self.key(Qt.Key.Key_A)
        self.assertEqual(self.session.before, "all")
        self.assertEqual(self.window.stage.figures[1].name, f"{self.bake.name}, before")
        before, after = (f.positions - f.shift for f in self.window.stage.figures[1:])
        self.assertGreater(np.abs(before - after).max(), 0.05)
        self.session.choose_pass(self.bake.passes[1].id)
        self.session.show_before("pass")
        self.assertEqual(self.session.count_before, 1)
        self.session.arrange("over")
        one = self.window.stage.figures[1].positions - self.window.stage.figures[1].shift
        self.assertGreater(np.abs(one - after).max(), 0.05)
        self.session.arrange("marionette")
        self.assertEqual([f.name for f in self.window.stage.figures], [f"{self.bake.name}, before"])
        self.key(Qt.Key.Key_A)
        self.assertIsNone(self.session.before)
        self.assertEqual([f.kind for f in self.window.stage.figures], ["baked"])

    def test_delivered_as_it_is_shown(self):
        self.add("gaussian")
        desk = self.desk("deliver")
        desk.folder.setText(str(self.folder))
        self.write(desk)
        written = read(next(self.folder.glob("wave_to_ship_Heron.*"))).skeletons[0].clips[0]
        self.close(joints_at(written), joints_at(self.state.bakes[0].clip), 1e-3)
        self.assertGreater(
            np.abs(joints_at(self.state.bakes[0].placed_clip) - joints_at(self.state.bakes[0].dense)).max(), 0.01
        )

    def test_another_speed_has_a_timeline_of_its_own(self):
        self.session.do(do.AddPass(self.bake.id, Pass("r", Retime(0.5))))
        self.settled()
        self.assertEqual(self.session.frames, 421)
        self.session.seek(400)
        self.spin()
        self.close(self.window.stage.figures[-1].positions[:, 1], joints_at(self.bake.placed_clip)[400][:, 1], 1e-6)
        self.desk("transfer")
        self.assertEqual(self.session.frames, 211)


class Curves(RefineCase):
    def test_the_tree_finds_chooses_and_keeps_favourites(self):
        tree = self.panel.tree
        tree.search.setText("right arm lower")
        shown = [c.text() for g, c in tree._items() if not tree.view.isRowHidden(c.row(), g.index())]
        self.assertEqual(shown, ["rightLowerArm"])
        group = next(g for g, c in tree._items() if c.text() == "rightLowerArm")
        child = group.child(next(i for i in range(group.rowCount()) if group.child(i).text() == "rightLowerArm"))
        spot = tree.view.visualRect(child.index()).center()
        QTest.mouseClick(tree.view.viewport(), Qt.MouseButton.LeftButton, pos=spot)
        self.assertEqual(self.session.bones, ("rightLowerArm",))
        self.assertEqual([c.axis for c in self.plot.new], list("ZXY"))
        tree.search.setText("")
        tree.view.setFocus()
        self.key(Qt.Key.Key_F, widget=tree.view)
        self.assertEqual(tree.model.item(0).text(), "Favourites")
        self.assertEqual(self.session.bones, ("rightLowerArm",))
        tree.toggle_favourite("rightLowerArm")
        self.assertNotEqual(tree.model.item(0).text(), "Favourites")

    def test_a_bone_of_the_stage_shows_its_curves(self):
        joint = self.bake.skeleton.index["rightHand"]
        self.window.stage.picked.emit("baked", joint)
        self.spin()
        self.assertEqual(self.session.bones, ("rightHand",))
        self.assertEqual({c.name for c in self.plot.new}, {"rightHand"})
        self.assertIn(joint, self.window.stage.figures[-1].chosen)

    def test_readings_orders_speed_and_spectrum(self):
        self.show("rightLowerArm")
        clip = self.bake.dense
        for reading in READINGS:
            self.panel.reading.setCurrentIndex(self.panel.reading.findData(reading))
            self.panel.show_state(True)
            wanted = curves(clip, ["rightLowerArm"], reading)
            self.assertEqual([c.axis for c in self.plot.new], [c.axis for c in wanted])
            for a, b in zip(self.plot.new, wanted):
                self.close(a.values, b.values, 1e-9)
        self.show("hips")
        self.panel.reading.setCurrentIndex(self.panel.reading.findData(PLACE))
        self.panel.show_state(True)
        self.assertEqual((self.plot.unit, len(self.plot.new)), ("cm", 3))
        self.panel.reading.setCurrentIndex(self.panel.reading.findData(ANGLES))
        self.panel.order.setCurrentText("XYZ")
        self.panel.order.activated.emit(0)
        self.assertEqual([c.axis for c in self.plot.new], list("XYZ"))
        self.panel.view.setCurrentIndex(self.panel.view.findData(SPEED))
        self.panel.view.activated.emit(1)
        self.assertEqual(self.plot.unit, "°/s")
        self.panel.view.setCurrentIndex(self.panel.view.findData(SPECTRUM))
        self.panel.view.activated.emit(2)
        self.assertEqual(self.plot.band, 15.0)
        self.panel.grab()

    def test_old_curves_lie_beneath_new_ones(self):
        self.show("rightShoulder")
        self.add("spikes")
        self.settled()
        self.assertEqual(len(self.plot.old), 3)
        off = max(np.abs(a.values - b.values).max() for a, b in zip(self.plot.new, self.plot.old))
        self.assertGreater(off, 5)

    def test_zoom_move_select_and_fit(self):
        self.show("rightLowerArm")
        scale, plot = self.window.timeline.scale, self.plot
        spot = QPointF(plot.x_of(100), plot.height() / 2)
        before, frame = scale.span, plot.frame_at(spot.x())
        self.wheel(spot, 480)
        self.assertLess(scale.span[1] - scale.span[0], before[1] - before[0])
        self.close(plot.frame_at(spot.x()), frame, 0.5)
        value = plot.value_at(spot.y())
        high = plot.high - plot.low
        self.wheel(spot, 480, Qt.KeyboardModifier.ControlModifier)
        self.assertLess(plot.high - plot.low, high)
        self.close(plot.value_at(spot.y()), value, 1e-6)
        span = scale.span
        self.drag(plot, spot, spot + QPointF(40, 30), Qt.MouseButton.MiddleButton)
        self.assertLess(scale.span[0], span[0])
        QTest.mouseDClick(plot, Qt.MouseButton.LeftButton, pos=spot.toPoint())
        self.assertEqual(scale.span, (0.0, 210.0))
        a, b = QPointF(plot.x_of(40), plot.y_of(90)), QPointF(plot.x_of(80), plot.y_of(20))
        self.drag(plot, a, b)
        first, last, low, high = plot.selection
        self.close((first, last), (40, 80), 1.01)
        self.close((low, high), (20, 90), 3)
        self.assertEqual((self.panel.first.value, self.panel.last.value), (first, last))
        self.key(Qt.Key.Key_F, widget=plot)
        self.close(scale.span, (first, last), 1e-6)
        self.close((plot.low, plot.high), (low, high), 1e-6)
        self.click(plot, QPoint(int(plot.x_of(60)), 60))
        self.assertIsNone(plot.selection)
        self.assertAlmostEqual(self.session.frame, 60, delta=1)

    def wheel(self, spot, delta, modifiers=Qt.KeyboardModifier.NoModifier):
        event = QWheelEvent(spot, QPointF(self.plot.mapToGlobal(spot.toPoint())), QPoint(), QPoint(0, delta),
                            Qt.MouseButton.NoButton, modifiers, Qt.ScrollPhase.NoScrollPhase, False)  # fmt: skip
        QApplication.sendEvent(self.plot, event)
        self.spin()

    def test_a_selection_does_not_zoom_other_steps(self):
        self.show("rightLowerArm")
        self.plot.select((40, 80, -20.0, 20.0))
        self.desk("deliver")
        self.assertEqual(self.window.timeline.scale.span, (0.0, 210.0))

    def test_settings_that_are_built_anew_stay_in_sight(self):
        self.add("low-pass")
        self.settled()
        bar = self.refine._area.verticalScrollBar()
        bar.setValue(60)
        self.refine.settings.kind.setFocus()
        self.refine.settings.kind.activated.emit(0)
        self.spin(0.1)
        self.assertEqual(self.bake.passes[0].method.cutoff, 6.0)
        self.assertAlmostEqual(bar.value(), 60, delta=3)

    def test_typed_numbers(self):
        self.show("rightLowerArm")
        for number, text in ((self.panel.first, "30"), (self.panel.last, "70")):
            number.setFocus()
            number.setText(text)
            self.key(Qt.Key.Key_Return, widget=number)
        self.assertEqual(self.plot.selection[:2], (30, 70))
        self.panel.amount.setFocus()
        self.panel.amount.setText("12")
        self.key(Qt.Key.Key_Return, widget=self.panel.amount)
        self.click(self.panel.move)
        made = self.bake.passes[-1]
        self.assertEqual((made.names, made.frames), (("rightLowerArm",), (30, 70)))
        self.assertIn(12.0, made.method.degrees)
        self.settled()
        off = max(np.abs(a.values - b.values)[50] for a, b in zip(self.plot.new, self.plot.old))
        self.assertGreater(off, 5)

    def test_frames_stand_where_the_timeline_has_them(self):
        self.show("rightHand")
        for size in ((1024, 700), (1280, 800), (1600, 900)):
            self.window.resize(*size)
            self.spin(0.05)
            track = self.window.timeline.track
            for frame in (0, 77, 210):
                ours = self.plot.mapTo(self.window, QPoint(round(self.plot.x_of(frame)), 0)).x()
                theirs = track.mapTo(self.window, QPoint(round(track.x_of(frame)), 0)).x()
                self.assertAlmostEqual(ours, theirs, delta=1)
            for widget in self.panel.tools.findChildren(type(self.panel.first)):
                if widget.isVisible():
                    self.assertLessEqual(widget.geometry().right(), self.panel.tools.width())

    def test_shown_in_any_step(self):
        settings.put("curves/transfer", True)
        self.desk("transfer")
        self.assertTrue(self.panel.isVisible())
        name = self.state.source_entry.placed_skeleton.names[3]
        self.show(name)
        self.assertEqual({c.name for c in self.plot.new}, {name})
        self.assertFalse(self.panel.move.isEnabled())
        self.key(Qt.Key.Key_N, Qt.KeyboardModifier.ShiftModifier)
        self.assertFalse(self.panel.isVisible())

    def test_what_cannot_be_is_refused_in_a_sentence(self):
        self.add("spikes")
        before = self.state
        for method, says in (
            (Retime(0.0), "A speed of 0 % can't be used"),
            (Retime(rate=5000.0), "A rate of 5000 frames per second"),
            (Retime(0.05, 1000.0), "frames; at most 1,000,000"),
        ):
            self.session.do(do.AddPass(self.bake.id, Pass("bad", method)))
            self.session.do(do.AddPass(self.bake.id, Pass("worse", method)))
            self.assertIn(says, self.window.message.text.text())
        self.assertEqual([p.method for p in self.bake.passes][:1], [Spikes()])
        self.assertTrue(before.bakes)
