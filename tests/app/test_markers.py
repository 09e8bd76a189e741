"""Recordings in the window: looked at, solved in the background, mended by picture, table and stage, made into a take."""

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox, QPushButton

from tests.app.harness import WindowCase
from tests.support import show_folder
from young_marionette.app.markers.files import FILLED, MARKERS
from young_marionette.app.markers.table import SEGMENT
from young_marionette.app.stage.view import RING
from young_marionette.core.markers.mends import LEAVE_OUT, Mend
from young_marionette.core.markers.sizing import size_of
from young_marionette.core.scene.camera import project
from young_marionette.core.scene.dots import DOTS, ODD
from young_marionette.formats import read
from young_marionette.project.commands import AddRecordings, AssignMarker, PlaceRecording
from young_marionette.project.markers.files import FIGURE, LABELLING
from young_marionette.project.markers.showing import told_faults
from young_marionette.wording.snags import snag_words

SOLVED = []  # the recording as it was opened and solved first: what is known of it needs not be worked out again


class Recordings(WindowCase):
    opened = False

    def look(self):
        """Open a recording, and wait until it is solved."""
        if SOLVED:
            self.session.do(AddRecordings((SOLVED[0],)))
            self.session.go("gather")
            self.session.look_at(SOLVED[0].id)
        else:
            self.window.files.open_paths([show_folder() / "markers/walk_the_wall.c3d"])
            self.until(lambda: self.state.recordings)
            self.session.do(PlaceRecording(self.entry.id, (("trim", (480, 640)),)))
            SOLVED.append(self.entry)
        self.card = self.window.desks["gather"].recording
        self.until(lambda: self.solution is not None and not self.session.solving.busy, 60)
        self.session.seek(520)
        self.spin(0.05)

    @property
    def entry(self):
        return self.state.recordings[0]

    @property
    def solution(self):
        return self.session.solving.solution(self.entry)

    def figures(self):
        return {f.kind: f for f in self.window.stage.figures}

    def settled(self):
        self.until(lambda: not self.session.solving.lags(self.entry) and not self.session.solving.busy, 60)

    def test_seen_mended_and_made_into_a_take(self):
        """The whole way, as somebody at the window goes it."""
        self.look()
        self.assertEqual(self.session.preview, self.entry.id)
        self.assertTrue(self.card.isVisible() and not self.window.desks["gather"].source.isVisible())
        self.assertIn("usually", self.card.told.text())
        self.assertEqual(self.card.table.rows.rowCount(), 41)
        # Two wrist markers have changed places: they stand out on the stage, and in the list.
        figures = self.figures()
        self.assertEqual(set(figures), {"performer", DOTS, ODD})
        odd = [self.window.director.dot_label(ODD, n) for n in range(len(figures[ODD].positions))]
        self.assertEqual(sorted(odd), ["quay:RWRA", "quay:RWRB"])
        # Lanes tell how far markers are off; a click on one goes to its peak.
        self.session.choose_marker("quay:RWRA")
        self.window._toggle_lanes()
        self.spin(0.05)
        told = [(r.name, r.unit) for r in self.window.timeline.lanes._rows if r.kind == "deviation"]
        self.assertEqual(told[:2], [("Largest", "cm"), ("RWRA", "cm")])
        self.window._toggle_lanes()
        # A dot is clicked: picture, table and stage point to it.
        at, _ = project(self.window.stage._matrix(), figures[DOTS].placed[:1], *self.window.stage._size())
        label = self.window.director.dot_label(DOTS, 0)
        self.click(self.window.stage, QPointF(*at[0]).toPoint())
        self.assertEqual((self.session.marker, self.card.picture.chosen), (label, label))
        self.assertEqual(self.card.table.rows.rows_[self.card.table.currentIndex().row()].label, label)
        # A pin is dragged to another segment; its namesake follows; the figure answers before it is solved anew.
        self.window.resize(1280, 1400)
        self.spin(0.1)
        picture = self.card.picture
        pin = next(p for p in picture.pins if p.label == "quay:LFRM")
        hand = next(b for name, b in picture.bones if name == "leftUpperArm")
        goal = picture._at((hand[0] + hand[2]) / 2, (hand[1] + hand[3]) / 2)
        self.drag(picture, picture._at(pin.x, pin.y), goal)
        self.assertEqual(dict(self.entry.labelling), {"quay:LFRM": "leftUpperArm", "quay:RFRM": "rightUpperArm"})
        self.assertTrue(self.session.solving.lags(self.entry))
        self.assertIsNotNone(self.session.solving.pose(self.entry, 520))
        self.settled()
        rows = {r.label: r for r in self.card.table.rows.rows_}
        self.assertEqual((rows["quay:LFRM"].segment, rows["quay:LFRM"].why), ("leftUpperArm", "hand"))
        self.session.undo()
        self.assertEqual(self.entry.labelling, ())
        self.settled()
        # By keyboard, in the table.
        table = self.card.table
        table.choose("quay:C7")
        table.setCurrentIndex(table.model().index(table.currentIndex().row(), SEGMENT))
        table.setFocus()
        QTest.keyClick(table, Qt.Key.Key_F2)
        box = table.indexWidget(table.currentIndex()) or table.findChild(type(self.window.library.order))
        box.setCurrentIndex(box.findData("spine"))
        box.activated.emit(box.currentIndex())
        self.spin()
        self.assertEqual(dict(self.entry.labelling), {"quay:C7": "spine"})
        self.session.undo()
        self.settled()
        self.click(self.card.make)
        self.assertEqual([e.name for e in self.state.entries], ["walk_the_wall 2"])
        take = self.state.source_entry
        self.assertEqual((take.clip.frames, take.clip.rate, self.session.preview), (161, 100.0, None))

    def test_left_out_placed_and_kept(self):
        self.look()
        self.click(self.card.keep)
        self.assertIsNotNone(self.entry.figure)
        self.settled()
        self.assertIn("kept", self.card.told.text())
        self.session.choose_marker("quay:LELB")
        self.session.set_range(490, 500)
        self.choose_in(self.card.mend, "Leave out")
        self.assertEqual(self.entry.mends, (Mend(LEAVE_OUT, "quay:LELB", 490, 500),))
        self.settled()
        self.click(next(b for b in self.card.faults.findChildren(QPushButton) if b.text() == "Let go"))
        self.assertEqual(self.entry.mends, ())
        self.card.ahead.click()
        self.card.turn.edited.emit(90.0, True)
        self.assertEqual((self.entry.placed.ahead, self.entry.placed.turn), (True, 90.0))
        self.settled()
        self.card.names.click()
        self.assertGreater(len(self.window.stage.names), 30)
        before = len(list(self.window.stage.lines))
        self.session.trails = True
        self.window.show_stage()
        self.assertGreater(len(list(self.window.stage.lines)), before + 30)
        self.click(self.card.keep)
        self.assertIsNone(self.entry.figure)

    def choose_in(self, menu_button, text):
        """Choose an entry of the menu of a button, as it is filled now."""
        menu = menu_button.menu()
        menu.aboutToShow.emit()
        next(a for a in menu.actions() if a.text() == text).trigger()
        self.spin()

    def faults(self):
        return [f for f in told_faults(self.entry, self.solution) if f.kind != "stray"]

    def test_faults_are_decided(self):
        """From the list, from the snags, and all at once; the project keeps it, and an undo takes it back."""
        self.look()
        self.assertEqual([(f.kind, f.first, f.last) for f in self.faults()], [("exchanged", 500, 599)])
        found = [snag for snag in self.session.snags if snag.code == "marker fault"]
        self.assertEqual(len(found), 1)
        self.assertIn("has changed places", snag_words(found[0].found).text)
        box = next(b for b in self.card.faults.findChildren(QComboBox) if b.count() > 3)
        self.assertEqual([box.itemText(n) for n in range(2)], ["By itself: put back", "Put back"])
        n = box.findText("Leave out there")
        box.setCurrentIndex(n)
        box.activated.emit(n)
        self.assertEqual(
            [(m.kind, m.label) for m in self.entry.mends], [(LEAVE_OUT, "quay:RWRA"), (LEAVE_OUT, "quay:RWRB")]
        )
        self.assertTrue(self.session.solving.lags(self.entry))
        self.assertIsNotNone(self.session.solving.pose(self.entry, 520))
        self.session.undo()
        self.assertEqual(self.entry.mends, ())
        self.click(self.card.keep_all)
        self.assertEqual(self.entry.mends, (Mend("exchange", "quay:RWRA", 500, 599, "quay:RWRB"),))
        self.settled()
        self.assertEqual(self.faults(), [])
        self.assertFalse([snag for snag in self.session.snags if snag.code == "marker fault"])
        self.assertFalse(self.card.keep_all.isVisible())
        self.session.choose_marker("quay:RWRA")
        self.session.set_range(500, 599)
        self.card.mend.menu().aboutToShow.emit()
        others = next(a.menu() for a in self.card.mend.menu().actions() if a.menu())
        self.assertEqual(others.actions()[0].text(), "quay:RWRB")

    def test_sized_by_hand(self):
        """By number on both sides, on the stage by dot and ring, and fitted again from there."""
        self.look()
        self.card.by_hand.click()
        sizing, stage = self.card.sizing, self.window.stage
        number = sizing.numbers["leftLowerLeg"]
        number.edited.emit(45.0, False)
        number.edited.emit(46.0, True)
        self.spin(0.1)
        self.assertEqual(dict(self.entry.sizes), {"leftLowerLeg": 0.46, "rightLowerLeg": 0.46})
        self.assertEqual((number.text(), sizing.names["leftLowerLeg"].text()), ("46.0 cm", "Thigh ◆ set"))
        # The figure on the stage is so at once, before it is fitted anew.
        self.assertTrue(self.session.solving.lags(self.entry))
        take = self.session.solving.take(self.entry)
        joints = [take.skeleton.index[name] for name in ("leftUpperLeg", "leftLowerLeg")]
        a, b = self.figures()["performer"].placed[joints]
        self.assertAlmostEqual(float(np.linalg.norm(a - b)), 0.46, 3)
        self.settled()
        self.assertAlmostEqual(size_of(self.solution.figure, "rightLowerLeg"), 0.46, 5)
        self.session.undo()
        self.assertEqual(self.entry.sizes, ())
        self.settled()
        # A bone is clicked; its joint is dragged inside the markers, which stay.
        at, _ = project(stage._matrix(), self.figures()["performer"].placed, *stage._size())
        knee = take.skeleton.index["leftLowerLeg"]
        way = [QPointF(*(at[knee] + (at[take.skeleton.index["leftFoot"]] - at[knee]) * n / 10)) for n in range(2, 9)]
        spot = next(p for p in way if (f := stage.pick(p)) and (f[0].kind, f[1]) == ("performer", knee))
        self.click(stage, spot.toPoint())
        self.assertEqual((stage.handle, stage.handled, stage.movable), (knee, "performer", True))
        before, centre = size_of(self.solution.figure, "leftLowerLeg"), QPointF(stage.place_of("performer", knee))
        self.drag(stage, centre, centre + QPointF(0, 14))
        self.assertIsNotNone(self.entry.figure)
        self.assertGreater(size_of(self.entry.figure, "leftLowerLeg"), before + 0.01)
        self.assertIn("leftLowerLeg", dict(self.entry.sizes))
        shape = self.entry.figure.places.copy()
        centre = QPointF(stage.place_of("performer", knee))
        self.settled()
        centre = QPointF(stage.place_of("performer", knee))
        self.drag(stage, centre + QPointF(RING, 0), centre + QPointF(0, RING))
        self.assertGreater(np.abs(self.entry.figure.places - shape).max(), 0.01)
        self.session.undo()
        self.assertTrue((self.entry.figure.places == shape).all())
        self.settled()
        self.click(sizing.again)
        self.assertIsNone(self.entry.figure)
        self.settled()
        self.assertAlmostEqual(size_of(self.solution.figure, "leftLowerLeg"), dict(self.entry.sizes)["leftLowerLeg"], 5)
        self.click(sizing.reset)
        self.assertEqual((self.entry.sizes, self.entry.figure), ((), None))
        self.card.by_hand.click()
        self.assertIsNone(stage.handle)

    def test_written_and_taken_up(self):
        self.look()
        files, folder = self.window.files.recordings, self.folder
        for what, name in ((FILLED, "mended.c3d"), (LABELLING, "quay.labelling"), (FIGURE, "quay.figure")):
            files.write(what, folder / name)
            self.assertTrue((folder / name).exists(), self.window.message.text.text())
        old, new = self.entry.recording, read(folder / "mended.c3d").markers[0].recording
        a, b = (old.index[f"quay:RWR{letter}"] for letter in "AB")
        labels = [label.rpartition(":")[2] for label in new.labels]
        mine = new.points[500:600, [labels.index("RWRA"), labels.index("RWRB")]]
        self.close(mine, old.points[500:600, [b, a]], 0.01)
        self.assertTrue(np.isfinite(new.points[480:641, labels.index("LELB")]).all())
        self.session.do(AssignMarker(self.entry.id, "quay:C7", "spine"))
        self.window.files.open_paths([folder / "quay.labelling", folder / "quay.figure"])
        self.assertEqual(dict(self.entry.labelling)["quay:C7"], "chest")
        self.close(self.entry.figure.offsets, SOLVED[0].known_solution.figure.offsets)
        files.write(MARKERS, self.entry.path)
        self.assertIn("is the recording itself", self.window.message.text.text())

    def test_a_dot_then_a_bone_of_the_stage(self):
        """The figure over the dots is faint, and can be clicked all the same."""
        self.look()
        self.session.choose_marker("quay:C7")
        figure, stage = self.figures()["performer"], self.window.stage
        names = self.session.solving.take(self.entry).skeleton.names
        at, _ = project(stage._matrix(), figure.placed, *stage._size())
        shin, foot = (at[names.index(name)] for name in ("leftLowerLeg", "leftFoot"))
        # Where no dot is near: those come first.
        way = [QPointF(*(shin + (foot - shin) * share)) for share in (0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8)]
        clear = next(place for place in way if (found := stage.pick(place)) and found[0].kind == "performer")
        self.click(stage, clear.toPoint())
        self.assertEqual(dict(self.entry.labelling), {"quay:C7": "leftLowerLeg"})

    def test_cancelled_and_begun_again(self):
        self.look()
        old = self.solution
        self.session.do(PlaceRecording(self.entry.id, (("unit", 0.01),)))
        self.until(lambda: self.session.solving.job is not None)
        self.assertTrue(self.window.cancel.isVisible() and self.window.progress.isVisible())
        self.click(self.window.cancel)
        self.until(lambda: not self.session.solving.busy, 20)
        self.spin(0.3)
        self.assertFalse(self.session.solving.busy or self.window.cancel.isVisible() or self.card.make.isEnabled())
        self.assertIn("Not solved again.", self.card.told.text())
        self.assertIs(self.solution, old)
        self.assertEqual(self.unit_box().itemText(self.unit_box().count() - 1), "detected value")
        self.click(self.card.again)
        self.settled()
        self.assertTrue(self.card.make.isEnabled() and not self.card.again.isVisible())
        self.assertGreater(self.solution.figure.stature, 2 * old.figure.stature)

    def unit_box(self):
        return next(b for b in self.card.grid.findChildren(QComboBox) if "nit" in b.accessibleName() and b.isVisible())

    def test_what_can_not_be_solved_is_one_sentence(self):
        few = self.folder / "few.csv"
        few.write_text("LKNE_X,LKNE_Y,LKNE_Z\n" + "0.1,0.5,0.2\n" * 20)
        self.window.files.open_paths([few])
        self.until(lambda: "at least 6" in self.window.message.text.text(), 20)
        self.assertEqual(len(self.state.recordings), 1)
        self.spin(0.3)
        self.assertFalse(self.session.solving.busy)
        card = self.window.desks["gather"].recording
        self.assertEqual((card.told.text(), card.make.isEnabled()), ("Not solved.", False))
        self.assertTrue(card.again.isVisible())
