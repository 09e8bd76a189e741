"""Work in the window: gestures, dialogs, other projects, work that is kept, and names that come from outside."""

import os
import time
from unittest import mock
from urllib.parse import quote_from_bytes

import numpy as np
from PySide6.QtCore import QPoint, Qt, QUrl
from PySide6.QtGui import QFontMetrics
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog, QInputDialog, QLabel, QLineEdit, QMessageBox, QPushButton

from tests.app.harness import WindowCase
from tests.support import figure, joints_at, show_folder, show_state
from young_marionette.app import autosave
from young_marionette.core import rotations as rot
from young_marionette.core.clip import Clip
from young_marionette.core.errors import InputError
from young_marionette.core.rebase import rebase
from young_marionette.core.skeleton import pose_world
from young_marionette.formats import read, write
from young_marionette.project import commands as do
from young_marionette.project import storage, stringing
from young_marionette.project.document import State
from young_marionette.project.recovery import Recovery


class Gestures(WindowCase):
    """One gesture, one step."""

    def steps(self):
        return len(self.session.document._undo)

    def test_numbers_of_the_stance_read_back_as_they_were_typed(self):
        """On a rig whose bones lie along X, with axes of its own."""
        plain = figure(fingers=True)
        rng = np.random.default_rng(0)
        odd = rebase(plain, axes=rot.normalise(rng.normal(size=(len(plain), 4))))[0]
        write(self.folder / "odd.glb", Clip("odd", odd, 30, odd.rest[None]))
        self.window.files.open_paths([self.folder / "odd.glb"])
        self.until(lambda: not self.window.running.jobs)
        self.session.do(do.Choose(self.state.entries[-1].id, as_rig=True))
        desk = self.desk("stance")
        self.session.choose(bone="left thigh")
        for number in desk.turns:
            number._put(0.0, True)
        for number, value in zip(desk.turns, (-30.0, 12.0, 5.5)):
            number.setFocus()
            number.setText(str(value))
            number.editingFinished.emit()
        desk.bone.setFocus()
        self.spin()
        self.assertEqual([n.text() for n in desk.turns], ["-30.0°", "12.0°", "5.5°"])
        before = self.steps()
        self.click(next(b for b in desk.findChildren(QPushButton) if b.text() == "Mirror"))
        self.assertEqual(self.steps(), before + 1)
        points = self.window.stage.figures[1].placed
        index = self.state.rig_entry.skeleton.index
        middle = points[[index["left thigh"], index["right thigh"]]].mean(0)
        for bone in ("shin", "foot", "toes"):
            left, right = (points[index[f"{side} {bone}"]] - middle for side in ("left", "right"))
            self.close(left * [-1, 1, 1], right, 1e-6, bone)
        self.session.undo()
        self.assertEqual(self.steps(), before)

    def test_a_part_that_was_absent_is_tied_in_one_step(self):
        desk = self.desk("string")
        self.session.do(do.DeclareAbsent("left hand"))
        desk.mirror.setChecked(False)
        before, state = self.steps(), self.state
        self.drag(desk.board, desk.board.place("source", "quay:L_Hand"), desk.board.place("rig", "leftHand"))
        self.assertEqual(self.steps(), before + 1)
        self.assertNotIn("left hand", self.state.pairing.absent)
        self.session.undo()
        self.assertIs(self.state, state)

    def test_tying_both_sides_is_one_step(self):
        desk = self.desk("string")
        self.assertTrue(desk.mirror.isChecked())
        before, state = self.steps(), self.state
        self.drag(desk.board, desk.board.place("source", "quay:R_Hand"), desk.board.place("rig", "leftHand"))
        self.assertEqual(self.strings()["right hand"].source, ("quay:L_Hand",))
        self.assertEqual(self.steps(), before + 1)
        self.session.undo()
        self.assertIs(self.state, state)

    def test_two_edits_of_a_number_are_two_steps_and_a_drag_is_one(self):
        tolerance = self.desk("stance").tolerance
        before = self.steps()
        for value in ("20", "30"):
            tolerance.setText(value)
            tolerance.editingFinished.emit()
        self.assertEqual(self.steps(), before + 2)
        self.session.undo()
        self.assertEqual(self.state.stance_tolerance, 20)
        before, place = self.steps(), tolerance.rect().center()
        QTest.mousePress(tolerance, Qt.MouseButton.LeftButton, pos=place)
        for x in range(4, 60, 4):
            QTest.mouseMove(tolerance, place + QPoint(x, 0))
            self.spin(0.003)
        QTest.mouseRelease(tolerance, Qt.MouseButton.LeftButton, pos=place + QPoint(56, 0))
        self.assertNotEqual(self.state.stance_tolerance, 20)
        self.assertEqual(self.steps(), before + 1)
        for _ in range(2):
            self.key(Qt.Key.Key_Up, widget=tolerance)
        self.assertEqual(self.steps(), before + 3)

    def test_choosing_a_clip_and_then_a_rig_are_two(self):
        library, before = self.window.library, self.steps()
        for name in ("haul_rope", "Puffin"):
            library.select(self.id_of(name))
            self.click(library.use)
        self.assertEqual(self.steps(), before + 2)
        self.session.undo()
        self.assertEqual((self.state.source_entry.name, self.state.rig_entry.name), ("haul_rope", "Heron"))


class Projects(WindowCase):
    def test_files_that_finish_loading_later_do_not_join_another_project(self):
        storage.save(self.folder / "other.marionette", State(name="Other"))
        hold, real = [True], read

        def slow(path):
            while hold[0]:
                time.sleep(0.01)
            return real(path)

        with mock.patch("young_marionette.formats.read", slow):
            self.window.files.open_paths([show_folder() / "quay/light_lamp.bvh"])
            reading = self.window.running.jobs[0]
            self.window.files.open_project(self.folder / "other.marionette", asked=False)
            self.until(lambda: self.state.name == "Other")
            hold[0] = False
            self.until(lambda: reading.over and not self.window.running.jobs)
        self.spin(0.05)
        self.assertEqual(self.state.entries, ())
        self.assertFalse(self.window.message.isVisible())

    def test_a_bake_that_ends_later_does_not_either(self):
        self.window.running.run("bake", lambda _p: time.sleep(0.2) or do.Bake().run(show_state()).bakes[-1], self._add)
        self.window.files._open(State(name="Other"), None)
        self.until(lambda: not self.window.running.jobs)
        self.assertEqual((self.state.name, self.state.bakes), ("Other", ()))

    def _add(self, made):
        self.session.do(do.AddBake(made))

    def test_opening_and_saving_leave_the_window_free(self):
        """While a project is saved and opened, the window lives on: its beats are counted."""
        hold, real = [True], storage.save

        def slow(path, state, **more):
            while hold[0]:
                time.sleep(0.01)
            return real(path, state, **more)

        with mock.patch.object(storage, "save", slow):
            from PySide6.QtCore import QTimer

            beats, timer = [], QTimer(interval=10)
            timer.timeout.connect(lambda: beats.append(1) or ((len(beats) > 12 and hold.clear()) or hold.append(False)))
            hold[0] = True
            timer.timeout.disconnect()
            timer.timeout.connect(lambda: beats.append(1) or (len(beats) > 12 and hold.__setitem__(0, False)))
            timer.start()
            self.assertTrue(self.window.files.save_to(self.folder / "a.marionette"))
            timer.stop()
        self.assertGreater(len(beats), 12)
        self.assertFalse(self.session.document.unsaved)

    def test_a_save_that_fails_is_told_and_loses_nothing(self):
        self.session.do(do.Untie("head"))
        state = self.state
        self.assertFalse(self.window.files.save_to(self.folder / "none" / "a.marionette"))
        self.assertIn("no folder", self.window.message.text.text())
        self.assertIs(self.state, state)
        self.assertTrue(self.session.document.unsaved)


class Dialogs(WindowCase):
    def edited(self):
        self.session.do(do.Untie("head"))
        return self.state

    def test_leaving_unsaved_work_asks(self):
        before = self.edited()
        asked = self.answer(self.press("Cancel"))
        self.window.files.new()
        self.assertIn("unsaved changes", asked[0].text())
        self.assertIs(self.state, before)
        self.session.document.path = self.folder / "kept.marionette"
        self.answer(self.press("Save"))
        self.window.files.new()
        self.assertEqual(self.state.entries, ())
        self.assertEqual(len(storage.load(self.folder / "kept.marionette").entries), len(before.entries))
        self.session.do(do.Rename(None, "x"))
        self.session.document.open(before, None, saved=False)
        self.answer(self.press("Don't save"))
        self.window.files.new()
        self.assertEqual(self.state.entries, ())

    def test_a_save_that_fails_keeps_the_work_open(self):
        before = self.edited()
        self.session.document.path = self.folder / "none" / "a.marionette"
        self.answer(self.press("Save"))
        self.window.files.new()
        self.assertIs(self.state, before)

    def choose(self, path):
        def act(dialog):
            self.assertIsInstance(dialog, QFileDialog)
            edit = dialog.findChild(QLineEdit)
            edit.setText(str(path))
            self.key(Qt.Key.Key_Return, widget=edit)

        return act

    def test_saving_under_a_name(self):
        self.edited()
        with mock.patch.object(QFileDialog, "testOption", lambda *_a: True):
            QApplication.setAttribute(Qt.ApplicationAttribute.AA_DontUseNativeDialogs)
            self.answer(self.choose(self.folder / "mine"))
            self.assertTrue(self.window.files.save_as())
        self.assertTrue((self.folder / "mine.marionette").exists())
        self.assertFalse(self.session.document.unsaved)
        self.answer(self.choose(self.folder / "tied"))
        self.window.files.save_stringing()
        self.assertEqual(len(stringing.load(self.folder / "tied.stringing").strings), len(self.state.pairing.strings))
        self.answer(lambda dialog: dialog.reject())
        self.assertFalse(self.window.files.save_as())

    def test_opening_files(self):
        with mock.patch.object(
            QFileDialog, "getOpenFileNames", lambda *_a: ([str(show_folder() / "puppets/Gull.bvh")], "")
        ):
            count = len(self.state.entries)
            self.window.files.ask_open()
            self.until(lambda: not self.window.running.jobs)
        self.assertEqual(len(self.state.entries), count + 1)

    def type_in(self, text):
        def act(dialog):
            self.assertIsInstance(dialog, QInputDialog)
            dialog.findChild(QLineEdit).setText(text)
            dialog.accept()

        return act

    def test_names_and_tags(self):
        self.answer(self.type_in("Quillmouth at night"))
        self.window.files.rename()
        self.assertEqual(self.state.name, "Quillmouth at night")
        library = self.window.library
        library.select(self.id_of("haul_rope"))
        self.answer(self.type_in("rope, harbour, rope"))
        library.ask_tags()
        self.assertEqual(self.state.entry(self.id_of("haul_rope")).tags, ("rope", "harbour"))
        self.answer(lambda dialog: dialog.reject())
        self.window.files.rename()
        self.assertEqual(self.state.name, "Quillmouth at night")

    def test_stance_from_another_skeletons_pose(self):
        """The reference clip has other axes than the clip on the stage; its frame is taken in the window all the same."""
        desk = self.desk("stance")
        desk.clips.setCurrentText("haul_rope")
        desk.clips.activated.emit(desk.clips.currentIndex())
        desk.frame.set_value(40)
        self.click(next(b for b in desk.findChildren(QPushButton) if b.text() == "Use this frame"))
        self.assertIn("Frame 40", self.window.status.text())
        # The same pose, joint by joint, but for where the figure faces.
        source, entry = self.state.pairing.source, self.state.entry(self.id_of("haul_rope"))
        self.assertNotEqual(source.digest, entry.placed_skeleton.digest)
        own = pose_world(source, self.state.pairing.stance.source)[0]
        wanted = joints_at(entry.placed_clip)[40]
        own, wanted = own - own[0], wanted - wanted[0]
        self.close(rot.rotate(rot.best_turn(own, wanted), own), wanted, 1e-4)


class Keeping(WindowCase):
    """At most ten seconds of work are lost, whatever the user does; and what can't be kept is said."""

    def kept(self):
        return list(self.recovery_folder.glob("*/work.json"))

    def test_steady_work_is_kept(self):
        """An edit each moment, never a pause: the work is kept all the same, and again and again."""
        with mock.patch.object(autosave, "KEEP_WITHIN", 0.6):
            times, end = [], time.monotonic() + 3.0
            while time.monotonic() < end:
                self.session.do(
                    do.SetTolerance(float(np.random.default_rng(len(times)).uniform(5, 50)) + time.monotonic() % 1)
                )
                self.spin(0.05)
                times += [t for k in self.kept() if (t := k.stat().st_mtime_ns) not in times]
            self.assertGreaterEqual(len(times), 3)
        self.assertLessEqual(autosave.KEEP_WITHIN + autosave.KEEP_AFTER, 10)

    def test_what_was_kept_is_the_newest_work(self):
        with mock.patch.object(autosave, "KEEP_AFTER", 0.05):
            for name in ("One", "Two", "Three"):
                self.session.do(do.Rename(None, name))
                self.spin(0.02)
            self.until(lambda: self.kept() and b"Three" in self.kept()[0].read_bytes())

    def test_only_what_is_new_is_written(self):
        with mock.patch.object(autosave, "KEEP_AFTER", 0.05):
            self.session.do(do.Rename(None, "One"))
            self.until(self.kept)
            blobs = {p: p.stat().st_mtime_ns for p in self.recovery_folder.glob("*/blobs/*/*")}
            self.assertGreater(len(blobs), 40)
            self.session.do(do.Bake())
            self.until(lambda: b"light_lamp on Heron" in self.kept()[0].read_bytes())
        again = {p: p.stat().st_mtime_ns for p in self.recovery_folder.glob("*/blobs/*/*")}
        self.assertEqual({p: again[p] for p in blobs}, blobs)
        self.assertGreater(len(again), len(blobs))

    def test_a_place_that_can_not_be_written_is_told_at_once_and_tried_again(self):
        real, broken = Recovery._keep, [True]

        def keep(self_, *args):
            if broken[0]:
                raise InputError("The folder can't be written: No space left on device.")
            return real(self_, *args)

        with (
            mock.patch.object(Recovery, "_keep", keep),
            mock.patch.object(autosave, "KEEP_AFTER", 0.05),
            mock.patch.object(autosave, "KEEP_WITHIN", 0.3),
        ):
            self.session.do(do.Rename(None, "One"))
            self.until(lambda: self.window.message.isVisible())
            self.assertIn("Autosave failed", self.window.message.text.text())
            self.assertIn("No space left", self.window.message.text.text())
            self.assertEqual(self.state.name, "One")
            broken[0] = False
            self.until(lambda: self.kept())
            self.until(lambda: not self.window.message.isVisible())

    def test_closing_when_it_can_not_be_kept_asks(self):
        self.session.do(do.Rename(None, "One"))
        with mock.patch.object(Recovery, "_keep", side_effect=InputError("The folder is full.")):
            asked = self.answer(self.press("Cancel"))
            self.assertFalse(self.window.close())
            self.assertIsInstance(asked[0], QMessageBox)
            self.assertTrue(self.window.isVisible())
            self.assertEqual(self.state.name, "One")
            self.answer(self.press("Don't save"))
            self.assertTrue(self.window.close())
        self.window = None

    def test_dropped_files_of_any_name(self):
        from young_marionette.app.window import local_path

        for name in (b"h\xe4ngend \xff.bvh", "für [b]%41#?.bvh".encode(), b"a b.bvh"):
            path = os.fsdecode(os.fsencode(self.folder) + b"/" + name)
            url = QUrl.fromEncoded(b"file://" + quote_from_bytes(os.fsencode(path)).encode())
            self.assertEqual(os.fsencode(local_path(url)), os.fsencode(path))
        self.assertEqual(local_path(QUrl.fromLocalFile("/tmp/ü.bvh")), "/tmp/ü.bvh")

    def test_names_that_are_no_text(self):
        odd = self.folder / os.fsdecode(b"h\xe4ngend.bvh")
        odd.write_bytes((show_folder() / "quay/light_lamp.bvh").read_bytes())
        self.window.files.open_paths([odd])
        self.until(lambda: not self.window.running.jobs)
        self.assertEqual(self.state.entries[-1].path, odd)
        with mock.patch.object(autosave, "KEEP_AFTER", 0.05):
            self.session.do(do.Rename(None, "One"))
            self.until(self.kept)
        path = self.folder / os.fsdecode(b"p\xe4.marionette")
        self.assertTrue(self.window.files.save_to(path))
        self.assertEqual(storage.load(path).entries[-1].path, odd)
        self.assertFalse(self.window.message.isVisible())
        self.session.do(do.Choose(self.state.entries[-1].id), do.Bake(frames=(0, 3)))
        desk = self.desk("deliver")
        desk.folder.setText(str(self.folder))
        self.spin()
        self.write(desk)
        self.assertIn("✓", desk.summary.text())


class Delivering(WindowCase):
    def test_files_of_the_library_are_never_replaced(self):
        clip = self.folder / "lamp_Heron.bvh"
        clip.write_bytes((show_folder() / "quay/light_lamp.bvh").read_bytes())
        self.window.files.open_paths([clip])
        self.until(lambda: not self.window.running.jobs)
        self.session.do(do.Bake())
        self.session.do(do.Rename(self.state.bakes[0].id, "lamp on Heron"))
        desk = self.desk("deliver")
        desk.folder.setText(str(self.folder))
        desk.overwrite.setChecked(True)
        self.session.do(do.Rename(self.state.entries[-1].id, "another"))
        self.session.do(do.Rename(self.state.bakes[0].id, "lamp on Heron"))
        self.spin()
        self.assertIn("files that are read", desk.problems.text())
        self.assertFalse(desk.write.isEnabled())

    def test_two_clips_do_not_go_to_one_file(self):
        for name in ("a:b", "a?b"):
            self.session.do(do.Bake(frames=(0, 3)))
            self.session.do(do.Rename(self.state.bakes[-1].id, name))
        desk = self.desk("deliver")
        desk.folder.setText(str(self.folder))
        self.spin()
        self.assertIn("would be written from several clips", desk.problems.text())
        self.assertFalse(desk.write.isEnabled())
        self.click(desk.differ)
        self.assertEqual(desk.write.text(), "Write 2 files")


class Panels(WindowCase):
    def test_the_sheet_of_keys_closes(self):
        sheet = self.window.sheet
        for close in (
            lambda: self.key(Qt.Key.Key_Escape),
            lambda: self.click(self.window.stage, QPoint(20, self.window.stage.height() - 20)),
            lambda: self.key(Qt.Key.Key_F1),
            lambda: self.key(Qt.Key.Key_S, Qt.KeyboardModifier.AltModifier),
            lambda: self.click(self.window.header.snags),
        ):
            self.window.snag_panel.hide()
            self.key(Qt.Key.Key_F1)
            self.assertTrue(sheet.isVisible())
            close()
            self.assertFalse(sheet.isVisible())
        self.assertTrue(self.window.snag_panel.isVisible())
        self.key(Qt.Key.Key_F1)
        self.assertFalse(self.window.snag_panel.isVisible(), "one panel at a time")
        self.click(sheet, QPoint(5, 5))
        self.assertFalse(sheet.isVisible())

    def test_long_names_keep_their_ends_and_the_library_its_width(self):
        from young_marionette.app import theme
        from young_marionette.app.library import _KEY, fitted

        name = "humanoid_performer_on_the_sea_wall_with_lantern_take_"
        for number in ("07", "12"):
            self.session.do(do.Rename(self.id_of("haul_rope" if number == "07" else "ring_bell"), name + number))
        library = self.window.library
        rows = [library.model.item(i) for i in range(library.model.rowCount())]
        row = next(r for r in rows if r.text() == f"{name}07")
        self.assertIn(f"{name}07", self.row_tip(row.row()))
        self.assertTrue(row.data(_KEY))
        short = [fitted(QFontMetrics(theme.font(12)), name + number, 110) for number in ("07", "12")]
        for text, number in zip(short, ("07", "12")):
            self.assertTrue(text.startswith("hum") and text.endswith(number) and len(text) < 25, text)
        handle = self.window.split.handle(1)
        before = library.width()
        self.drag(handle, QPoint(2, 200), QPoint(112, 200))
        wide = library.width()
        self.assertGreater(wide, before + 80)
        for step in ("string", "stance", "deliver", "gather"):
            self.desk(step)
            self.close(library.width(), wide, 2, step)


class ForeignText(WindowCase):
    """Names that look like markup, or hold controls, are shown letter by letter wherever they come up."""

    name = "<h1>BIG<b>\x1b[2J"

    def test_everywhere(self):
        text = (show_folder() / "puppets/Heron.bvh").read_text()
        rig = self.folder / "<h1>BIG<b>.bvh"
        rig.write_text(text.replace("JOINT leftUpperArm", f"JOINT {self.name}"))
        clip = self.folder / "<i>take.bvh"
        clip.write_bytes((show_folder() / "quay/light_lamp.bvh").read_bytes())
        self.window.files.open_paths([rig, clip])
        self.until(lambda: not self.window.running.jobs)
        self.session.do(do.Choose(self.id_of("<i>take")), do.Choose(self.id_of("<h1>BIG<b>"), as_rig=True))
        self.session.do(do.Rename(None, "<b>Project</b>"))
        self.session.do(do.TurnBone(self.name, (0.3, 0, 0)))
        self.session.do(do.Untie("head"))
        self.window.complain(f"Nothing is wrong with {self.name}.")
        self.key(Qt.Key.Key_S, Qt.KeyboardModifier.AltModifier)
        seen = 0
        for step in self.window.desks:
            self.desk(step)
            for widget in self.window.findChildren(QLabel):
                seen += "<" in widget.text()
                self.assertEqual(widget.textFormat(), Qt.TextFormat.PlainText, widget.text())
                self.assertNotIn("\x1b", widget.text())
            for widget in self.window.findChildren(QPushButton) + [self.window.header.undo, self.window.header.project]:
                self.check_tip(widget.toolTip())
        self.assertGreater(seen, 4)
        model = self.window.library.model
        for row in range(model.rowCount()):
            self.check_tip(self.row_tip(row))
        table = self.window.desks["string"].table
        for row in range(table.rowCount()):
            self.check_tip(table.data(table.index(row, 1), Qt.ItemDataRole.ToolTipRole))
        asked = self.answer(self.press("Cancel"))
        self.window.files.new()
        self.assertEqual(asked[0].textFormat(), Qt.TextFormat.PlainText)

    def check_tip(self, text):
        """What Qt would take for markup is escaped."""
        if "<" in text:
            self.assertTrue(text.startswith("<div"), text)
            self.assertNotIn("<h1>", text)
            self.assertNotIn("<i>", text)
