"""Corrections of what was read or guessed, through the controls of the Gather desk; and the board by keyboard."""

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from tests.app.harness import WindowCase
from young_marionette.core.figure.facts import Arms
from young_marionette.core.matching.families import kinship
from young_marionette.project import commands as do
from young_marionette.project.playback import Motion


class Corrections(WindowCase):
    def card(self):
        return self.desk("gather").source

    def choose(self, what, text):
        box = self.card().boxes[what]
        place = next(i for i in range(box.count()) if text in box.itemText(i))
        box.setCurrentIndex(place)
        box.activated.emit(place)
        self.spin()

    def test_prefix(self):
        self.assertEqual(self.card().boxes["name prefix"].text(), "quay:")
        self.card().boxes["name prefix"].setText("quay:L_")
        self.card().boxes["name prefix"].editingFinished.emit()
        body = self.state.source_entry.figure.body
        self.assertEqual(body.names.prefix, "quay:L_")
        self.assertIn("left hand", body.parts)
        self.card().boxes["name prefix"].setText("pier_")
        self.card().boxes["name prefix"].editingFinished.emit()
        self.assertIn("No bone", self.window.message.text.text())
        self.assertEqual(self.state.source_entry.figure.body.names.prefix, "quay:L_")
        self.session.undo()
        self.assertEqual(self.state.source_entry.figure.body.names.prefix, "quay:")

    def test_travel_is_held(self):
        self.session.do(do.Choose(self.id_of("walk_the_wall")))
        self.assertGreater(self.hips_travel(), 1.0)
        self.choose("travel", "in place")
        self.assertLess(self.hips_travel(), 1e-6)
        self.choose("travel", "as in the file")
        self.assertGreater(self.hips_travel(), 1.0)

    def hips_travel(self):
        entry = self.state.source_entry
        motion = Motion(entry)
        path = motion.path(entry.figure.body.parts["hips"][0], 0, motion.frames - 1)
        return float(np.ptp(path[:, [0, 2]], axis=0).max())

    def test_rest_pose_from_a_frame(self):
        """Frame 0 of the reference clip has arms straight out: taken as rest, the pair is matched to it."""
        self.session.do(do.Choose(self.id_of("quay_reference")))
        self.assertEqual(self.state.source_entry.figure.rest_pose.arms, Arms.HANGING)
        self.choose("rest pose", "as in frame 0")
        self.assertEqual(self.state.source_entry.figure.rest_pose.arms, Arms.T_POSE)
        self.assertLess(max(limb.angle for limb in self.state.pairing.limbs), 0.5)
        pairing = self.state.pairing
        from young_marionette.core.skeleton import pose_world

        points, _ = pose_world(pairing.target, pairing.stance.target)
        arm = points[pairing.target.index["leftHand"]] - points[pairing.target.index["leftUpperArm"]]
        self.close(np.degrees(np.arcsin(arm[1] / np.linalg.norm(arm))), 0, 2, "the rig's arm answers to the new rest")
        self.choose("rest pose", "as in the file")
        self.assertEqual(self.state.source_entry.figure.rest_pose.arms, Arms.HANGING)

    def test_family(self):
        """The clip with two bones more gets its family's strings, one of them tied by hand."""
        clips = self.state.of_role("clip")
        first = next(e for e in clips if e.name == "light_lamp")
        odd = next(e for e in clips if e.family != first.family and kinship(e.skeleton, first.skeleton) > 0.7)
        self.session.do(do.Choose(first.id))
        self.session.do(do.Untie("head"))
        self.session.do(do.Choose(odd.id))
        self.assertIn("head", self.strings())
        self.choose("family", "same as")
        self.assertEqual(self.state.source_entry.family, first.family)
        self.assertNotIn("head", self.strings())
        self.choose("family", "detected")
        self.assertIn("head", self.strings())


class BoardByKeyboard(WindowCase):
    def setUp(self):
        super().setUp()
        self.board = self.desk("string").board
        self.board.setFocus()
        self.spin()

    def press(self, *keys, shift=False):
        for key in keys:
            modifier = Qt.KeyboardModifier.ShiftModifier if shift else Qt.KeyboardModifier.NoModifier
            self.key(key, modifier, self.board)

    def walk_to(self, side, name, most=60):
        """Press arrow keys towards a bone, as somebody would who watches the ring."""
        for _ in range(most):
            if self.board.cursor_.at == (side, name):
                return
            way = self.board.place(side, name) - self.board.place(*self.board.cursor_.at)
            flat = abs(way.x()) > abs(way.y())
            for key in (
                (Qt.Key.Key_Right if way.x() > 0 else Qt.Key.Key_Left),
                (Qt.Key.Key_Down if way.y() > 0 else Qt.Key.Key_Up),
            )[:: 1 if flat else -1]:
                before = self.board.cursor_.at
                self.press(key)
                if self.board.cursor_.at != before:
                    break
        self.fail(f"the keys do not lead to {name}")

    def test_every_bone_is_reached(self):
        frame = self.session.frame
        self.press(Qt.Key.Key_Down)
        reached, todo = set(), [self.board.cursor_.at]
        while todo:
            at = todo.pop()
            if at in reached:
                continue
            reached.add(at)
            for key in (Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Down):
                self.board.cursor_.at = at
                QTest.keyClick(self.board, key)
                todo.append(self.board.cursor_.at)
        shown = {
            (side, name)
            for side in ("source", "rig")
            for name in self.board.entry(side).placed_skeleton.names
            if self.board.shown(side, name)
        }
        self.assertEqual(shown - reached, set())
        self.assertEqual(self.session.frame, frame, "the timeline has not taken the arrow keys")

    def test_tying_from_bone_to_bone(self):
        self.press(Qt.Key.Key_Down)
        self.walk_to("source", "quay:L_Foot")
        self.press(Qt.Key.Key_Return)
        self.walk_to("rig", "leftToes")
        self.press(Qt.Key.Key_Return)
        self.assertEqual(self.strings()["left toes"].source, ("quay:L_Foot",))

    def test_a_run(self):
        self.press(Qt.Key.Key_Down)
        self.board.cursor_.at = ("source", self.strings()["spine"].source[0])
        self.press(Qt.Key.Key_Down, shift=True)
        run = self.board.runs["source"]
        self.assertEqual(len(run), 2)
        self.press(Qt.Key.Key_Return)
        self.board.cursor_.at = ("rig", "chest")
        self.press(Qt.Key.Key_Return)
        self.assertEqual([s.source for s in self.state.pairing.strings if s.target == ("chest",)], [run])

    def test_the_other_actions(self):
        self.session.choose(part="left hand")
        self.press(Qt.Key.Key_Delete)
        self.assertNotIn("left hand", self.strings())
        self.press(Qt.Key.Key_U)
        self.assertIn("left hand", self.strings())
        self.session.choose(part="left hand")
        self.press(Qt.Key.Key_X)
        self.assertIn("left hand", self.state.pairing.absent)
        self.press(Qt.Key.Key_X)
        self.assertNotIn("left hand", self.state.pairing.absent)
        self.press(Qt.Key.Key_R)
        self.assertEqual(self.board.region, "head")
