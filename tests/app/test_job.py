"""The job in the real window, from beginning to end, and what happens when it goes wrong on the way."""

import time

from PySide6.QtCore import QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import QPushButton

from tests.app.harness import WindowCase
from tests.support import joints_at, show_folder, told
from young_marionette.formats import read
from young_marionette.project import commands as do
from young_marionette.project import storage

CTRL, SHIFT, ALT = (
    Qt.KeyboardModifier.ControlModifier,
    Qt.KeyboardModifier.ShiftModifier,
    Qt.KeyboardModifier.AltModifier,
)


class FromFilesToAFile(WindowCase):
    opened = False

    def drop(self, *paths):
        """Drop files on the window."""
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(p)) for p in paths])
        self.window.dropEvent(
            QDropEvent(
                QPointF(300, 300),
                Qt.DropAction.CopyAction,
                data,
                Qt.MouseButton.LeftButton,
                Qt.KeyboardModifier.NoModifier,
            )
        )
        self.until(lambda: not self.window.running.jobs)

    def test_the_whole_route(self):
        show = show_folder()
        self.drop(show / "quay/light_lamp.bvh", show / "puppets/Heron.bvh")
        self.assertEqual((self.state.source_entry.name, self.state.rig_entry.name), ("light_lamp", "Heron"))
        self.assertEqual([f.kind for f in self.window.stage.figures], ["performer", "marionette"])
        # Gather: a fact is corrected, the figure on the stage answers, and undo takes it back.
        gather = self.desk("gather")
        box = gather.source.boxes["facing"]
        before = self.window.stage.figures[0].positions.copy()
        box.setCurrentText("-Z")
        box.activated.emit(box.currentIndex())
        self.assertGreater(abs(self.window.stage.figures[0].positions - before).max(), 0.05)
        self.key(Qt.Key.Key_Z, CTRL)
        self.close(self.window.stage.figures[0].positions, before, 1e-9)
        # String: a bone is tied wrongly by dragging, then rightly again.
        string = self.desk("string")
        self.drag(string.board, string.board.place("source", "quay:R_Hand"), string.board.place("rig", "leftHand"))
        self.assertEqual(self.strings()["left hand"].source, ("quay:R_Hand",))
        self.assertEqual(self.strings()["right hand"].source, ("quay:L_Hand",), "the other side is tied alike")
        self.key(Qt.Key.Key_Z, CTRL)
        self.assertEqual(self.strings()["left hand"].source, ("quay:L_Hand",))
        # Stance: matched already; a bone is turned by number, the figure answers.
        stance = self.desk("stance")
        self.session.choose(bone="leftUpperArm")
        self.assertLess(max(limb.angle for limb in self.state.pairing.limbs), 0.01)
        stance.turns[2].edited.emit(25.0, True)
        self.spin()
        self.assertGreater(max(limb.angle for limb in self.state.pairing.limbs), 20)
        self.assertTrue(any(s.step == "stance" for s in self.session.snags))
        self.key(Qt.Key.Key_M, CTRL)
        self.assertLess(max(limb.angle for limb in self.state.pairing.limbs), 0.01)
        # Transfer: a setting, then bake by its button.
        transfer = self.desk("transfer")
        self.click(transfer.bake)
        self.until(lambda: not self.window.running.jobs)
        self.assertEqual([e.name for e in self.session.baked], ["light_lamp on Heron"])
        self.assertIn(
            "light_lamp on Heron",
            [self.window.library.model.item(i).text() for i in range(self.window.library.model.rowCount())],
        )
        # Refine shows it; Deliver writes it.
        refine = self.desk("refine")
        self.assertFalse(refine.empty.isVisible())
        deliver = self.desk("deliver")
        deliver.folder.setText(str(self.folder))
        self.spin()
        self.click(deliver.write)
        self.until(lambda: not self.window.running.jobs)
        out = read(self.folder / "light_lamp_Heron.bvh")
        self.close(joints_at(out.skeletons[0].clips[0]), joints_at(self.session.baked[0].clip), 1e-5)
        self.assertFalse(deliver.write.isEnabled(), "what is written is not overwritten by a second click")
        # Saved and opened again: the same motion.
        self.assertTrue(self.window.files.save_to(self.folder / "p.marionette"))
        again = storage.load(self.folder / "p.marionette")
        self.close(joints_at(again.bakes[-1].placed_clip), joints_at(self.session.baked[0].placed_clip), 0)
        self.assertFalse(self.session.document.unsaved)
        # Undo everything, redo everything.
        steps = 0
        while self.session.document.undo_label:
            self.key(Qt.Key.Key_Z, CTRL)
            steps += 1
        self.assertEqual(self.state.entries, ())
        for _ in range(steps):
            self.key(Qt.Key.Key_Z, CTRL | SHIFT)
        self.assertEqual(len(self.session.baked), 1)

    def test_bad_files_leave_everything_as_it_was(self):
        show = show_folder()
        self.drop(show / "quay/light_lamp.bvh", show / "puppets/Heron.bvh")
        before = self.state
        for name, data in (
            ("empty.bvh", b""),
            ("binary.bvh", bytes(range(256))),
            ("text.bvh", b"hello"),
            ("x.stringing", b"{}"),
            ("x.marionette", b"PK"),
        ):
            (self.folder / name).write_bytes(data)
            self.window.message.hide()
            self.drop(self.folder / name)
            self.assertTrue(self.window.message.isVisible(), name)
            self.assertIn(name, self.window.message.text.text())
            self.assertIs(self.state, before)
        self.drop(self.folder / "empty.bvh", show / "quay/haul_rope.bvh")
        self.assertEqual(
            [e.name for e in self.state.entries],
            ["light_lamp", "Heron", "haul_rope"],
            "one bad file does not stop the other",
        )

    def test_folders_and_cancel(self):
        self.drop(show_folder())
        self.assertEqual(len(self.state.entries), 22)
        self.window.files.open_paths([show_folder()] * 3)
        job = self.window.running.jobs[0]
        job.cancel()
        self.until(lambda: not self.window.running.jobs)
        self.assertEqual(len(self.state.entries), 22)
        empty = self.folder / "nothing"
        empty.mkdir()
        self.drop(empty)
        self.assertIn("no motion file", self.window.message.text.text())

    def test_empty_window_says_what_to_do(self):
        self.assertIn("drop", self.window.stage.empty_text)
        for step in self.window.desks:
            self.desk(step)
        self.key(Qt.Key.Key_B, CTRL)
        self.key(Qt.Key.Key_T, CTRL)
        self.assertIn("first", self.window.message.text.text())
        self.assertTrue(self.window.desks["gather"].demo.isVisibleTo(self.window.desks["gather"]))


class Recovering(WindowCase):
    def reopen(self):
        """Another window on the same recovery folder, as after a restart."""
        from tests.app.harness import renderer
        from young_marionette.app.window import Window

        window = Window(self.recovery_folder, renderer())
        window.show()
        self.addCleanup(window.close)
        self.spin()
        return window

    def test_closing_in_the_middle_of_a_drag_loses_nothing(self):
        stance = self.desk("stance")
        self.session.choose(bone="leftUpperArm")
        stance.turns[2].edited.emit(17.0, False)  # a drag that has not ended
        turned = self.state.pairing.stance.target
        first, self.window = self.window, None
        first.close()
        again = self.reopen()
        self.assertTrue(again.banner.isVisible())
        self.assertIn("Quillmouth", again.banner.text.text())
        button = next(b for b in again.banner.findChildren(QPushButton) if b.text() == "Restore")
        self.click(button)
        self.until(lambda: not again.running.jobs)
        self.close(again.session.state.pairing.stance.target, turned, 1e-12)
        self.assertTrue(again.session.document.unsaved)
        self.assertFalse(again.banner.isVisible())

    def test_nothing_is_offered_after_saving(self):
        self.window.files.save_to(self.folder / "s.marionette")
        first, self.window = self.window, None
        first.close()
        self.assertFalse(self.reopen().banner.isVisible())

    def test_kept_while_working(self):
        self.session.do(do.Untie("head"))
        self.until(lambda: list(self.recovery_folder.glob("*/work.json")))

    def test_given_up(self):
        self.session.do(do.Untie("head"))
        first, self.window = self.window, None
        first.close()
        again = self.reopen()
        self.click(next(b for b in again.banner.findChildren(QPushButton) if b.text() == "Discard"))
        again.close()
        self.assertFalse(self.reopen().banner.isVisible())

    def test_closing_while_files_are_read(self):
        """The work stops soon, nothing of it comes into the project, and what was there is kept."""
        self.session.do(do.Untie("head"))
        names = [e.name for e in self.state.entries]
        self.window.files.open_paths([show_folder()] * 5)
        first, self.window = self.window, None
        (job,) = first.running.jobs
        first.close()
        job.wait(20)
        self.assertTrue(job.task.cancelled)
        self.spin(0.1)
        self.assertEqual([e.name for e in first.session.state.entries], names)
        again = self.reopen()
        self.click(next(b for b in again.banner.findChildren(QPushButton) if b.text() == "Restore"))
        self.until(lambda: not again.running.jobs)
        self.assertEqual([e.name for e in again.session.state.entries], names)
        self.assertNotIn("head", {s.part for s in again.session.state.pairing.strings})


class Playing(WindowCase):
    def test_playback_keeps_real_time_when_drawing_is_slow(self):
        stage = self.window.stage
        real = stage.renderer.begin

        def slow(*args, **kwargs):
            time.sleep(0.09)
            return real(*args, **kwargs)

        stage.renderer.begin = slow
        try:
            self.session.seek(0)
            shown = set()
            self.session.frame_changed.connect(lambda: shown.add(self.session.frame))
            start = time.monotonic()
            self.session.play(True)
            self.spin(1.2)
            passed = time.monotonic() - start
            self.close(self.session.second, passed, 0.2)
            self.assertLess(len(shown), passed * 30 * 0.8, "frames are skipped, not slowed")
        finally:
            stage.renderer.begin = real
            self.session.play(False)

    def test_space_arrows_and_ends(self):
        self.key(Qt.Key.Key_Space)
        self.assertTrue(self.session.playing)
        self.key(Qt.Key.Key_Space)
        self.assertFalse(self.session.playing)
        self.session.seek(50)
        self.key(Qt.Key.Key_Right)
        self.key(Qt.Key.Key_Right)
        self.key(Qt.Key.Key_Left)
        self.assertEqual(self.session.frame, 51)
        self.key(Qt.Key.Key_Right, SHIFT)
        self.assertEqual(self.session.frame, 240)

    def test_every_frame_can_be_stepped_to(self):
        self.session.do(do.Choose(self.id_of("walk_the_wall")))
        for frame in range(0, 901, 7):
            self.session.seek(frame)
            self.assertEqual(self.session.frame, frame)

    def test_range_loop_and_speed(self):
        self.session.set_range(10, 16)
        self.session.set_speed(2.0)
        seen = set()
        self.session.frame_changed.connect(lambda: seen.add(self.session.frame))
        self.session.play(True)
        self.spin(0.5)
        self.session.play(False)
        self.assertTrue(seen and min(seen) >= 10 and max(seen) <= 16, seen)
        self.session.loop = False
        self.session.play(True)
        self.until(lambda: not self.session.playing)
        self.assertEqual(self.session.frame, 16)
        self.session.set_speed(1.0)

    def test_timeline_by_mouse(self):
        track = self.window.timeline.track
        y = 10
        self.drag(track, QPointF(track.x_of(0) + 40, y), QPointF(track.x_of(120), y))
        self.close(self.session.frame, 120, 1)
        self.drag(track, QPointF(track.x_of(240), 34), QPointF(track.x_of(200), 34))
        self.close(self.session.range[1], 200, 1)
        self.key(Qt.Key.Key_I)
        self.assertEqual(self.session.range[0], self.session.frame)


class Keys(WindowCase):
    def test_route_by_keys(self):
        for number, step in enumerate(("gather", "string", "stance", "transfer", "refine", "deliver"), 1):
            self.key(getattr(Qt.Key, f"Key_{number}"), ALT)
            self.assertEqual(self.session.step, step)
            self.assertIs(self.window.desk_holder.currentWidget(), self.window.desks[step])

    def test_route_by_mouse(self):
        route = self.window.header.route
        self.click(route, route.place_of("transfer"))
        self.assertEqual(self.session.step, "transfer")

    def test_bake_and_deliver_by_keys(self):
        self.key(Qt.Key.Key_B, CTRL)
        self.until(lambda: self.session.baked)
        self.window.desks["deliver"].folder.setText(str(self.folder))
        self.key(Qt.Key.Key_D, CTRL)
        self.until(lambda: not self.window.running.jobs)
        self.assertTrue((self.folder / "light_lamp_Heron.bvh").exists())

    def test_sheet_and_snags(self):
        self.key(Qt.Key.Key_F1)
        self.assertTrue(self.window.sheet.isVisible())
        self.key(Qt.Key.Key_A, widget=self.window.sheet)
        self.assertFalse(self.window.sheet.isVisible())
        self.key(Qt.Key.Key_S, ALT)
        self.assertTrue(self.window.snag_panel.isVisible())
        go = [b for b in self.window.snag_panel.findChildren(QPushButton) if b.text() == "Go"]
        self.assertEqual(len(go), len(self.session.snags))
        self.click(go[0])
        self.assertEqual(self.session.preview, self.session.snags[0].entry)
        self.key(Qt.Key.Key_Escape)
        self.assertIsNone(self.session.preview)

    def test_a_snag_is_mended_from_the_list(self):
        self.window.snag_panel.toggle()
        mend = next(b for b in self.window.snag_panel.findChildren(QPushButton) if b.text() == "Remove")
        self.click(mend)
        self.assertNotIn("loft_take_000", [e.name for e in self.state.entries])
        self.assertFalse(any("loft_take_000" in told(s) for s in self.session.snags))


class Defects(WindowCase):
    def test_an_unforeseen_error_is_told_and_the_work_goes_on(self):
        from young_marionette.app.main import defect_hook

        hook = defect_hook(self.window)
        try:
            raise ZeroDivisionError("by zero")
        except ZeroDivisionError as error:
            hook(type(error), error, error.__traceback__)
        self.assertIn("ZeroDivisionError", self.window.message.text.text())
        self.key(Qt.Key.Key_Escape)
        self.assertFalse(self.window.message.isVisible())
