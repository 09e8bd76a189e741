"""Lanes of contacts and deviation, and the cards about feet, through the real window."""

import gc
import weakref

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest

from tests.app.harness import WindowCase
from tests.support import told
from young_marionette.app import settings
from young_marionette.app.timeline import BAR
from young_marionette.core.contacts.points import FEET
from young_marionette.core.evaluator import EVALUATOR
from young_marionette.core.scene.plotting import highest_of
from young_marionette.project import commands as do
from young_marionette.project import storage
from young_marionette.project.lanes import CONTACTS, DEVIATION
from young_marionette.project.planting import known_result


class LaneCase(WindowCase):
    clip = "carry_bucket"

    def setUp(self):
        for step in ("gather", "transfer"):
            settings.put(f"lanes/{step}", step == "transfer")
        super().setUp()
        self.session.do(do.Choose(self.id_of(self.clip)))
        self.session.go("transfer")
        self.measured()

    @property
    def lanes(self):
        return self.window.timeline.lanes

    def measured(self):
        """Wait until the whole result was measured."""
        self.until(lambda: self.session.live.deviation is not None and not self.session.live.busy)
        self.spin()

    def of(self, point):
        return self.state.source_entry.contacts.of(point)

    def spot(self, point, frame):
        """Where a frame of a lane is."""
        row = self.lanes.row_of(point)
        area = self.lanes.area_of(row)
        self.window.timeline.area.ensureVisible(0, int(area.center().y()))
        return QPointF(self.lanes.left + self.lanes.scale.x_of(frame, self.lanes.wide), area.center().y())


class Editing(LaneCase):
    def test_an_end_is_dragged_and_taken_back_in_one_step(self):
        before = self.of("left toe")
        contact = before[2]
        box = self.lanes.box_of(self.lanes.row_of("left toe"), contact)
        start = QPointF(box.right() - 2, box.center().y())
        self.drag(self.lanes, start, self.spot("left toe", contact.last + 9))
        after = self.of("left toe")
        self.assertEqual(after[2].first, contact.first)
        self.assertAlmostEqual(after[2].last, contact.last + 9, delta=1)
        self.assertTrue(after[2].by_hand)
        self.assertEqual(self.session.frame, after[2].last)
        self.assertEqual(len(self.state.source_entry.contact_choices.drawn), 1)
        self.session.undo()
        self.assertEqual(self.of("left toe"), before)

    def test_drawing_deleting_and_splitting_by_mouse_and_keys(self):
        count = len(self.of("right hand"))
        self.assertEqual(count, 0)
        self.session.do(do.DrawContact(self.state.source, "right hand", 20, 40))  # a lane is there once it is of use
        self.spin()
        self.drag(self.lanes, self.spot("right hand", 60), self.spot("right hand", 90))
        _, second = self.of("right hand")
        self.close([second.first, second.last], [60, 90], 1)
        # Splitting at the playhead, moving ends to it, deleting: by keys.
        self.click(self.lanes, self.spot("right hand", 75).toPoint())
        self.key(Qt.Key.Key_X, widget=self.lanes)
        self.assertEqual(len(self.of("right hand")), 3)
        self.click(self.lanes, self.spot("right hand", 84).toPoint())
        self.key(Qt.Key.Key_BracketRight, widget=self.lanes)
        self.assertAlmostEqual(self.of("right hand")[2].last, 84, delta=1)
        self.session.seek(80)
        self.key(Qt.Key.Key_BracketLeft, widget=self.lanes)
        self.assertEqual(self.of("right hand")[2].first, 80)
        self.key(Qt.Key.Key_Delete, widget=self.lanes)
        self.assertEqual(len(self.of("right hand")), 2)
        self.session.seek(120)
        self.key(Qt.Key.Key_Return, widget=self.lanes)
        self.assertTrue(any(c.first <= 120 <= c.last for c in self.of("right hand")))
        self.key(Qt.Key.Key_Down, widget=self.lanes)
        self.assertNotEqual(self.session.contact[0], "right hand")

    def test_what_was_drawn_survives_a_new_search_until_it_is_let_go(self):
        contact = self.of("left heel")[1]
        found = self.of("left heel")
        self.session.do(do.DeleteContact(self.state.source, "left heel", contact.first))
        self.session.do(do.SetThreshold(self.state.source, "speed", 0.3))
        self.assertFalse(any(c.first <= contact.first + 2 <= c.last for c in self.of("left heel")))
        self.session.do(do.SetThreshold(self.state.source, "speed", None))
        self.session.choose_contact("left heel")
        desk = self.desk("transfer").contacts
        self.assertTrue(desk.let_go.isEnabled())
        self.click(desk.let_go)
        self.assertEqual(self.of("left heel"), found)

    def test_thresholds_of_one_point_in_some_frames(self):
        desk = self.desk("transfer").contacts
        self.click(self.lanes, self.spot("right toe", 5).toPoint())
        self.assertEqual(desk.point.currentData(), "right toe")
        self.session.set_range(0, 60)
        desk.where.setCurrentIndex(1)
        before = {p: self.of(p) for p in FEET}
        number, _ = desk.numbers["speed"]
        number.setText("1 cm/s")
        number.editingFinished.emit()
        after = {p: self.of(p) for p in FEET}
        self.assertNotEqual(after["right toe"], before["right toe"])
        late = [c for c in before["right toe"] if c.first > 62]
        self.assertEqual([c for c in after["right toe"] if c.first > 62], late)
        for point in FEET[:3]:
            self.assertEqual(after[point], before[point])
        self.click(desk.usual)
        self.assertEqual(self.of("right toe"), before["right toe"])

    def test_steps_from_change_to_change(self):
        changes = sorted({f for p in FEET for c in self.of(p) for f in (c.first, c.last + 1)})
        self.session.seek(0)
        for frame in [f for f in changes if 0 < f < self.session.frames][:4]:
            self.key(Qt.Key.Key_Period)
            self.assertEqual(self.session.frame, frame)
        self.key(Qt.Key.Key_Comma)
        self.assertEqual(self.session.frame, [f for f in changes if f > 0][2])

    def test_edits_are_saved_and_shared_by_all_rigs(self):
        self.session.do(do.DrawContact(self.state.source, "left hand", 30, 60))
        self.session.do(do.SetThreshold(self.state.source, "height", 0.05, "left toe", (3, 30)))
        path = self.folder / "a.marionette"
        storage.save(path, self.state)
        again = storage.load(path)
        self.assertEqual(again.source_entry.contact_choices, self.state.source_entry.contact_choices)
        self.assertEqual(again.source_entry.contacts.found, self.state.source_entry.contacts.found)
        self.session.do(do.Choose(self.id_of("Puffin"), as_rig=True))
        self.assertEqual([(c.first, c.last) for c in self.of("left hand")], [(30, 60)])

    def test_menu_of_a_contact(self):
        contact = self.of("left toe")[1]
        middle = (contact.first + contact.last) // 2
        self.session.choose_contact("left toe", middle)
        actions = {text: (act, usable) for text, act, usable in self.lanes.editing.actions("left toe", contact, middle)}
        self.assertFalse(actions["Undo all that was drawn in this lane"][1])
        actions[f"End the contact at frame {middle}"][0]()
        self.assertEqual(self.of("left toe")[1].last, middle)
        drawn = {t: (a, u) for t, a, u in self.lanes.editing.actions("left toe", self.of("left toe")[1], contact.first)}
        self.assertTrue(drawn["Undo what was drawn here"][1])
        drawn["Undo what was drawn here"][0]()
        self.assertEqual(self.of("left toe")[1], contact)


class Showing(LaneCase):
    def test_lanes_come_and_go(self):
        timeline = self.window.timeline
        self.assertTrue(timeline.open)
        self.key(Qt.Key.Key_N)
        self.assertFalse(timeline.open)
        self.session.go("gather")
        self.assertFalse(timeline.open)
        self.spin(0.1)
        self.assertEqual(timeline.height(), BAR)
        self.session.go("transfer")
        self.assertFalse(timeline.open)
        self.click(timeline.unfold)
        self.assertTrue(timeline.open)

    def test_groups_fold(self):
        many = len(self.lanes.rows)
        self.lanes.fold(CONTACTS)
        self.assertEqual([r for r in self.lanes.rows if r.kind == "contact"], [])
        self.lanes.fold(DEVIATION)
        self.assertEqual([r.kind for r in self.lanes.rows], ["group", "group"])
        self.click(self.lanes, self.lanes.area_of(self.lanes.rows[0]).center().toPoint())
        self.lanes.fold(DEVIATION)
        self.assertEqual(len(self.lanes.rows), many)

    def test_a_click_on_a_peak_goes_there(self):
        self.session.do(do.SetTransfer((("feet", "free"),)))
        self.measured()
        row = next(r for r in self.lanes.rows if r.key == "right foot slides")
        peak = int(row.after.argmax())
        self.assertGreater(row.after[peak], 0.5)
        self.window.timeline.area.ensureVisible(0, int(self.lanes.area_of(row).center().y()))
        x = self.lanes.left + self.lanes.scale.x_of(peak, self.lanes.wide) + 4
        self.click(self.lanes, QPointF(x, self.lanes.area_of(row).center().y()).toPoint())
        self.assertEqual((self.session.frame, self.session.part), (peak, "right foot"))

    def test_lanes_zoom_with_the_timeline(self):
        before = self.lanes.scale.span
        self.lanes.scale.zoom(200, self.lanes.wide, 600)
        self.assertLess(self.lanes.scale.span[1] - self.lanes.scale.span[0], before[1] - before[0])
        track = self.window.timeline.track
        for frame in (90, 100):
            self.assertAlmostEqual(track.x_of(frame), self.lanes.scale.x_of(frame, self.lanes.wide))
        QTest.mouseDClick(track, Qt.MouseButton.LeftButton, pos=track.rect().center())
        self.assertEqual(self.lanes.scale.span, before)

    def test_tips_tell_frames_and_slide(self):
        contact = self.of("left toe")[1]
        spot = self.spot("left toe", contact.first + 2)
        self.assertRegex(
            self.lanes._tip(spot.x(), spot.y()), r"^Left toe, frames \d+ to \d+: on the floor, slides \d+ mm"
        )

    def test_marks_lie_under_what_touches(self):
        contact = self.of("left toe")[1]
        middle = (contact.first + contact.last) // 2
        self.session.seek(middle)
        self.spin()
        on = len(self.window.stage.lines)
        self.assertGreater(on, 3)
        self.key(Qt.Key.Key_N)
        self.assertEqual(len(self.window.stage.lines), 0)

    def test_many_frames_are_drawn_by_their_highest(self):
        values = np.zeros(10_000)
        values[4321] = 3.0
        seen = highest_of(values, 0, 9999, 800)
        self.assertEqual(len(seen), 800)
        self.assertAlmostEqual(max(seen, key=lambda point: point[1])[0], 4321, delta=13)
        self.assertEqual(max(value for _, value in seen), 3.0)
        self.assertEqual(len(highest_of(values, 100, 200, 800)), 101)


class Feet(LaneCase):
    clip = "walk_the_wall"

    def test_free_feet_are_a_snag_that_planting_mends(self):
        self.assertFalse(any(s.step == "transfer" for s in self.session.snags))
        desk = self.desk("transfer").feet
        desk.mode.setCurrentIndex(2)
        desk.mode.activated.emit(2)
        self.measured()
        snags = [s for s in self.session.snags if s.code == "foot off" and s.found["kind"] == "slide"]
        self.assertEqual(len(snags), 2)
        self.assertRegex(told(snags[0]), r"^The left foot slides \d\.\d cm while it stands, frames \d+-\d+\.$")
        self.assertRegex(desk.numbers["slide"][0].text(), r"\d\.\d cm")
        self.session.show_snag(snags[1])
        self.assertEqual(
            (self.session.step, self.session.part, self.session.frame), ("transfer", "right foot", snags[1].frame)
        )
        self.session.do(snags[0].mend)
        self.measured()
        self.assertFalse(any(s.code == "foot off" and s.found["kind"] == "slide" for s in self.session.snags))
        self.assertEqual(desk.numbers["slide"][1].text(), "0.0 cm")

    def test_a_result_dies_with_what_it_was_made_of(self):
        """Values that a drag went through are not kept: nobody can ask for them again."""
        gesture = object()
        self.session.do(do.SetTransfer((("stride", 0.8),)), gesture=gesture)
        self.measured()
        before = weakref.ref(self.session.live.wanted[0])
        self.session.do(do.SetTransfer((("stride", 0.9),)), gesture=gesture, afresh=True)
        self.measured()
        self.until(lambda: gc.collect() is not None and before() is None)
        self.assertIsNotNone(known_result(*self.session.live.wanted))

    def test_a_result_that_made_room_comes_back_when_it_is_looked_at(self):
        wanted = self.session.live.wanted
        before = self.window.stage.figures[1].positions.copy()
        EVALUATOR.clear()  # as where it had to make room for others
        for frame in (300, 0):
            self.session.seek(frame)
        self.until(lambda: known_result(*wanted) is not None)
        self.measured()
        self.close(self.window.stage.figures[1].positions, before, 1e-9)

    def test_the_limit_can_be_set(self):
        self.session.do(do.SetTransfer((("feet", "free"),)))
        self.measured()
        self.assertTrue(any(s.code == "foot off" and s.found["kind"] == "slide" for s in self.session.snags))
        self.session.do(do.SetLimit("slide", 0.5))
        self.assertFalse(any(s.code == "foot off" and s.found["kind"] == "slide" for s in self.session.snags))

    def test_the_stage_shows_what_is_baked(self):
        self.session.do(do.Bake())
        made = self.state.bakes[-1]
        self.session.go("refine")
        self.session.compare_with(made.id)
        for frame in (0, 350, 611):
            self.session.seek(frame)
            self.spin()
            live, baked = self.window.stage.figures[1], self.window.stage.figures[2]
            self.close(live.positions, baked.positions, 1e-6)
        self.assertEqual(made.contacts.found, self.state.source_entry.contacts.found)

    def test_an_edited_contact_makes_bakes_out_of_date(self):
        self.session.do(do.Bake())
        contact = self.of("left heel")[1]
        self.session.do(do.DeleteContact(self.state.source, "left heel", contact.first))
        self.assertTrue(any(s.code == "outdated" for s in self.session.snags))
        self.session.undo()
        self.assertFalse(any(s.code == "outdated" for s in self.session.snags))


class Hands(LaneCase):
    clip = "climb_ladder"

    def test_hands_hold_and_are_a_snag_where_they_do_not(self):
        desk = self.desk("transfer").hands
        self.assertFalse(any(s.code == "hand off" for s in self.session.snags))
        desk.mode.setCurrentIndex(3)
        desk.mode.activated.emit(3)
        self.measured()
        snags = [s for s in self.session.snags if s.code == "hand off"]
        self.assertEqual(len(snags), 2)
        self.assertRegex(told(snags[0]), r"^The (left|right) hand slides \d\.\d cm while it holds something, frames")
        self.assertFalse(any(line.isVisible() for _, line in desk.weights.values()))
        self.session.do(snags[0].mend)
        self.measured()
        self.assertFalse(any(s.code == "hand off" for s in self.session.snags))

    def test_arms_wider(self):
        desk = self.desk("transfer").hands
        before = self.window.stage.figures[1].positions.copy()
        desk.wider.setText("12 °")
        desk.wider.editingFinished.emit()
        self.assertEqual(dict(self.state.pairing.settings.touches), {"arms out": 12.0})
        self.assertGreater(np.abs(self.window.stage.figures[1].positions - before).max(), 0.01)

    def test_what_it_was_acted_on_is_drawn_for_both(self):
        """Rails and rungs of the ladder stand beside both figures, scaled for the rig."""
        self.key(Qt.Key.Key_N)
        ladder = self.state.source_entry.props
        self.assertGreater(len(ladder), 10)
        self.assertEqual(len(self.window.stage.lines), 2 * 6 * len(ladder))
        tall = [np.ptp(np.concatenate([line for line, _ in part])[:, 1]) for part in self.halves()]
        self.assertAlmostEqual(tall[1] / tall[0], self.state.pairing.transfer.scale, delta=0.02)

    def halves(self):
        lines = self.window.stage.lines
        return lines[: len(lines) // 2], lines[len(lines) // 2 :]

    def test_the_playheads_frame_goes_onto_the_floor_by_a_key(self):
        self.session.seek(30)
        self.key(Qt.Key.Key_G)
        self.assertEqual(self.state.source_entry.correction.grounded, (30,))
        self.assertIn("30", self.window.status.text())
        self.key(Qt.Key.Key_G)
        self.assertIsNone(self.state.source_entry.correction.grounded)

    def test_limits_of_a_bone(self):
        desk = self.desk("stance")
        self.session.choose(None, "leftUpperArm")
        card = desk.limits
        card.swing.setText("30")
        card.swing.editingFinished.emit()
        (limit,) = self.state.rig_entry.limits
        self.assertEqual(limit.joint, "leftUpperArm")
        self.assertAlmostEqual(limit.swing, np.radians(30))
        self.session.do(do.TurnBone("leftUpperArm", (0.0, 0.0, 0.7)))
        self.click(card.take)
        lean = np.linalg.norm(np.radians(do.turn_degrees(self.state.pairing, "leftUpperArm")))
        self.assertAlmostEqual(self.state.rig_entry.limits[0].swing, lean, places=4)
        self.click(card.free)
        self.assertEqual(self.state.rig_entry.limits, ())
