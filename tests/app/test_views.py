"""Single views: stage, board, library, desks, numbers, and the look of all of it."""

from contextlib import ExitStack
from unittest import mock

import numpy as np
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QCheckBox,
    QComboBox,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
)

from tests.app.harness import WindowCase, application
from tests.characters import creature, motion
from tests.naming import named
from tests.support import Case, show_state, told
from young_marionette.app import theme
from young_marionette.app.parts.widgets import button, row
from young_marionette.app.stage.painter import PainterRenderer
from young_marionette.app.stage.view import make_renderer
from young_marionette.core.clip import Clip
from young_marionette.core.matching.tying import missing
from young_marionette.core.rebase import rename
from young_marionette.core.scene.camera import LOOSE, Pose, project
from young_marionette.demo.dressing import insert_joint
from young_marionette.demo.figures import Build, make_figure
from young_marionette.formats import write
from young_marionette.project import commands as do
from young_marionette.project import own_words
from young_marionette.project.snags import STEPS
from young_marionette.wording.snags import snag_words


def pixels(image):
    """A picture's colours ``(height, width, 3)``."""
    image = image.convertToFormat(image.Format.Format_RGB888)
    rows = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.bytesPerLine())
    return rows[:, : image.width() * 3].reshape(image.height(), image.width(), 3).astype(int)


def near(picture, name, within=70):
    """Where a picture has about a theme colour, whatever its brightness."""
    want = np.array(theme.colour(name).getRgb()[:3], float)
    flat = picture / np.maximum(picture.max(-1, keepdims=True), 1) * want.max()
    return (np.abs(flat - want).sum(-1) < within) & (picture.max(-1) > 60)


class Stage(WindowCase):
    def draw(self, renderer=None):
        stage = self.window.stage
        return pixels((renderer or stage.renderer).draw((500, 400), stage.camera.pose, stage.figures))

    def test_both_figures_are_seen_apart(self):
        self.window.stage.frame(glide=False)
        for renderer in (None, PainterRenderer()):
            picture = self.draw(renderer)
            columns = {n: np.flatnonzero(near(picture, n).sum(0) > 2) for n in ("performer", "marionette")}
            self.assertTrue(all(len(c) > 8 for c in columns.values()))
            self.assertLess(np.median(columns["performer"]), np.median(columns["marionette"]) - 40)

    def test_the_picture_follows_the_frame(self):
        before = self.draw()
        self.session.seek(95)
        self.assertGreater(np.abs(self.draw() - before).max(), 60)

    def test_a_picture_that_was_begun_is_what_is_shown_then(self):
        """Of what is on the stage when it is begun; and never of what has changed since."""
        stage = self.window.stage
        stage.frame(glide=False)
        for renderer in (stage.renderer, PainterRenderer()):
            give = renderer.begin((500, 400), stage.camera.pose, stage.figures)
            self.assertEqual(np.abs(pixels(give()) - self.draw(renderer)).max(), 0)
        pictures = []
        for changed in (False, True):
            self.session.seek(20)
            stage.begin()
            if changed:
                self.session.seek(95)
            stage.repaint()
            pictures.append(pixels(stage._image).copy())
        stage.refresh()
        stage.repaint()
        other, same = ((np.abs(one - pixels(stage._image)).max(-1) > 60).mean() for one in pictures)
        self.assertLess(20 * same, other, (same, other))

    def test_a_changed_string_shows_at_once(self):
        self.session.seek(95)
        before = self.window.stage.figures[1].positions.copy()
        self.session.do(do.Untie("left forearm"))
        self.assertGreater(np.abs(self.window.stage.figures[1].positions - before).max(), 0.02)

    def test_projection_puts_things_where_they_are(self):
        pose = Pose((0, 1, 0), 0.0, 0.0, 4.0)
        places, depth = project(pose.matrix(1.25), np.array([[0, 1, 0], [0.5, 1, 0], [0, 1.5, 0], [0, 1, 1]]), 500, 400)
        self.close(places[0], [250, 200], 1e-6)
        self.assertTrue(places[1, 0] > 260 and places[2, 1] < 190)
        self.close(depth, [4, 4, 4, 3], 1e-9)

    def test_bones_are_picked_where_they_are_drawn(self):
        stage = self.window.stage
        stage.frame(glide=False)
        self.spin()
        for kind, part in (("performer", "left shin"), ("marionette", "right forearm")):
            figure = next(f for f in stage.figures if f.kind == kind)
            entry = self.state.source_entry if kind == "performer" else self.state.rig_entry
            joint = entry.figure.body.parts[part][0]
            starts, ends = figure.segments()
            bone = int(np.flatnonzero(figure.bones.start == joint)[0])
            place, _ = project(stage._matrix(), ((starts + ends) / 2)[bone][None], stage.width(), stage.height())
            self.click(stage, QPointF(*place[0]).toPoint())
            self.assertEqual(self.session.part, part)

    def test_camera_by_mouse(self):
        stage = self.window.stage
        before = stage.camera.pose
        self.drag(stage, QPoint(300, 300), QPoint(400, 340))
        self.assertNotEqual(stage.camera.pose.yaw, before.yaw)
        self.drag(stage, QPoint(300, 300), QPoint(340, 340), Qt.MouseButton.RightButton)
        self.assertNotEqual(stage.camera.pose.target, before.target)

    def test_arrangements(self):
        kinds = {}
        for name in ("beside", "over", "performer", "marionette"):
            self.session.arrange(name)
            kinds[name] = [(f.kind, float(f.shift[0])) for f in self.window.stage.figures]
        self.assertEqual([k for k, _ in kinds["performer"]], ["performer"])
        self.assertEqual(kinds["over"], [("performer", 0.0), ("marionette", 0.0)])
        self.assertLess(kinds["beside"][0][1], kinds["beside"][1][1])
        seen = []
        for _ in range(4):
            self.key(Qt.Key.Key_V)
            seen.append(self.session.arrangement)
        self.assertEqual(seen, ["beside", "over", "performer", "marionette"])

    def test_views_follow_and_trails(self):
        stage = self.window.stage
        for _ in range(3):
            self.key(Qt.Key.Key_C)
            self.spin(0.35)
        self.assertGreater(stage.camera.pose.pitch, 1.5)
        self.key(Qt.Key.Key_H)
        self.session.do(do.Choose(self.id_of("carry_bucket")))
        self.session.seek(0)
        start = np.array(stage.camera.pose.target)
        self.session.seek(190)
        self.assertGreater(np.linalg.norm(np.array(stage.camera.pose.target) - start), 2)
        self.key(Qt.Key.Key_T)
        self.assertEqual(len(stage.lines), 8)
        self.key(Qt.Key.Key_T)
        self.key(Qt.Key.Key_H)

    def test_figures_that_travel_stay_in_the_picture(self):
        """A camera that rests while figures move a little, and goes along when they leave; close views, too."""
        stage, camera = self.window.stage, self.window.stage.camera
        self.session.do(do.Choose(self.id_of("carry_bucket")))
        self.session.arrange("marionette")
        self.session.seek(0)
        self.spin(0.4)
        for distance in (camera.pose.distance, 1.0):
            self.session.seek(0)
            camera.jump(distance=distance)
            start, moved = np.array(camera.pose.target), []
            for frame in range(0, 191, 5):
                self.session.seek(frame)
                hips = stage.figures[0].placed[0]
                moved.append(np.linalg.norm(np.array(camera.pose.target) - start))
                if not frame:
                    off = hips - start
                self.assertLess(np.linalg.norm(hips - camera.pose.target - off), LOOSE * distance + 1e-6)
            self.assertGreater(moved[-1], 2)
        self.assertEqual(moved[0], 0)
        self.session.do(do.Choose(self.id_of("light_lamp")))
        stage.frame(glide=False)
        self.session.seek(0)
        start = camera.pose.target
        self.session.seek(4)
        self.assertEqual(camera.pose.target, start)

    def test_stance_overlays_at_the_hips_and_draws_arcs(self):
        self.desk("stance")
        a, b = self.window.stage.figures
        self.close(a.placed[0], b.placed[0], 1e-9)
        self.assertFalse(self.window.stage.lines)
        self.session.do(do.TurnBone("leftUpperArm", (0, 0, 0.6)))
        self.assertTrue(self.window.stage.lines)

    def test_without_opengl(self):
        renderer, told = make_renderer(software=True)
        self.assertIsInstance(renderer, PainterRenderer)
        self.assertIn("without OpenGL", told)
        with mock.patch("young_marionette.app.stage.renderer.StageRenderer", side_effect=RuntimeError("no driver")):
            renderer, told = make_renderer()
        self.assertIsInstance(renderer, PainterRenderer)
        self.assertIn("No OpenGL here (RuntimeError)", told)
        # Both figures are drawn, each in its colour, where its joints are.
        stage = self.window.stage
        before, stage.renderer = stage.renderer, renderer
        self.addCleanup(setattr, stage, "renderer", before)
        stage.refresh()
        picture = pixels(stage.grab().toImage())
        ratio = picture.shape[1] / stage.width()
        for figure in stage.figures:
            drawn = np.argwhere(near(picture, figure.kind))
            self.assertGreater(len(drawn), 100, figure.kind)
            places, _ = project(stage._matrix(), figure.placed, stage.width(), stage.height())
            middle = (places[:, 0].min() + places[:, 0].max()) / 2 * ratio
            self.assertLess(abs(np.median(drawn[:, 1]) - middle), 60 * ratio, figure.kind)


class Listening(WindowCase):
    def drawn(self, step, *commands):
        """Which views are made anew by an edit while a step is open."""
        self.desk(step)
        self.spin()
        views = {"desk": (self.window.desks[step], "show_state"), "stage": (self.window, "show_stage")}
        views |= {"library": (self.window.library, "_rows"), "figures": (self.window.director, "figures")}
        with ExitStack() as stack:
            spies = {
                name: stack.enter_context(mock.patch.object(view, method, wraps=getattr(view, method)))
                for name, (view, method) in views.items()
            }
            self.assertTrue(self.session.do(*commands))
            self.spin()
        return {name for name, spy in spies.items() if spy.called}

    def test_views_answer_to_their_part_only(self):
        source = self.state.source
        for step, command, made in (
            ("gather", do.Rename(None, "Lamps at dusk"), set()),
            ("gather", do.SetTolerance(7.0), set()),
            ("stance", do.SetTolerance(8.0), {"desk"}),
            ("gather", do.Untie("left toes"), {"stage", "figures"}),
            ("string", do.Untie("right toes"), {"desk", "stage", "figures"}),
            ("refine", do.SetTransfer((("height_offset", 0.02),)), {"stage", "figures"}),
            ("transfer", do.SetTransfer((("height_offset", 0.03),)), {"desk", "stage", "figures"}),
            ("gather", do.Tag(source, ("dusk",)), {"desk", "library", "stage", "figures"}),
            ("string", do.AddBake(do.Bake().run(self.state).bakes[-1]), {"library", "stage", "figures"}),
        ):
            with self.subTest(step=step, command=command.label):
                self.assertEqual(self.drawn(step, command), made)

    def test_the_name_is_shown_although_little_else_is(self):
        self.drawn("gather", do.Rename(None, "Lamps at dusk"))
        self.assertIn("Lamps at dusk", self.window.windowTitle())
        self.assertEqual(self.window.header.project.text(), "Lamps at dusk")
        self.session.undo()
        self.assertNotIn("dusk", self.window.windowTitle())


class Board(WindowCase):
    def test_click_chooses_the_part(self):
        desk = self.desk("string")
        self.click(desk.board, desk.board.place("source", "quay:L_Tibia").toPoint())
        self.assertEqual(self.session.part, "left shin")
        self.assertEqual(desk.table.rows[desk.view.currentIndex().row()][0], "left shin")
        self.assertEqual(self.window.stage.figures[0].chosen, (self.state.pairing.source.index["quay:L_Tibia"],))

    def test_every_bone_can_be_hit(self):
        desk = self.desk("string")
        for name in self.state.pairing.target.names:
            self.assertEqual(desk.board.bone_at(desk.board.place("rig", name))[0], "rig")

    def test_dragging_to_nowhere_changes_nothing(self):
        desk = self.desk("string")
        before = self.state
        self.drag(
            desk.board,
            desk.board.place("source", "quay:Head"),
            QPointF(desk.board.width() / 2, desk.board.height() - 4),
        )
        self.drag(desk.board, desk.board.place("source", "quay:Head"), desk.board.place("source", "quay:L_Foot"))
        self.assertIs(self.state, before)

    def test_backwards_is_the_same(self):
        desk = self.desk("string")
        desk.mirror.setChecked(False)
        self.drag(desk.board, desk.board.place("rig", "head"), desk.board.place("source", "quay:Neck"))
        self.assertEqual((self.strings()["head"].source, self.strings()["head"].target), (("quay:Neck",), ("head",)))

    def test_zoom_to_a_hand(self):
        self.session.do(do.Choose(self.id_of("sweep_quay")))
        self.session.do(do.Choose(self.id_of("Gull"), as_rig=True))
        desk = self.desk("string")
        small = desk.board.place("source", "pointer_1_left") - desk.board.place("source", "pinky_1_left")
        desk.region.setCurrentText("Left hand")
        self.spin()
        large = desk.board.place("source", "pointer_1_left") - desk.board.place("source", "pinky_1_left")
        self.assertGreater(large.manhattanLength(), 5 * small.manhattanLength())
        self.drag(
            desk.board, desk.board.place("source", "pinky_1_left"), desk.board.place("rig", "l_metacarpophalangeal_4")
        )
        self.assertEqual(self.strings()["left ring"].source, ("pinky_1_left",))

    def test_table_by_keyboard(self):
        desk = self.desk("string")
        row = desk.table.row_of("left foot")
        desk.view.setCurrentIndex(desk.table.index(row, 1))
        self.key(Qt.Key.Key_Delete, widget=desk)
        self.assertNotIn("left foot", self.strings())
        self.assertEqual(desk.table.data(desk.table.index(row, 1)), "no string")
        desk.choose_bone(row, 1, "quay:L_Foot")
        self.assertNotIn("left foot", self.strings())
        desk.choose_bone(row, 2, "leftFoot")
        self.assertTrue(self.strings()["left foot"].by_hand)
        desk.choose_bone(row, 1, "no bone")
        self.assertNotIn("left foot", self.strings())

    def test_rest_and_all(self):
        desk = self.desk("string")
        self.session.do(do.Untie("left foot"))
        buttons = {b.text(): b for b in desk.findChildren(QPushButton)}
        self.click(buttons["Tie untied"])
        self.assertIn("left foot", self.strings())
        self.click(buttons["Tie all"])
        self.assertEqual(len(self.strings()), 20)


class Panels(WindowCase):
    def test_library_groups_and_search(self):
        model = self.window.library.model

        def texts():
            return [model.item(i).text() for i in range(model.rowCount())]

        for heading in ("Rigs", "Clips of quay, 22 joints", "Clips of quay, 24 joints", "Clips of loft"):
            self.assertIn(heading, texts())
        self.window.library.search.setText("rope")
        self.assertEqual(texts(), ["Clips of quay, 22 joints", "haul_rope"])
        self.window.library.search.setText("")
        self.session.do(do.Tag(self.id_of("row_boat"), ("harbour", " harbour ", "")))
        self.window.library.search.setText("harb")
        self.assertEqual(texts(), ["Clips of loft", "row_boat"])
        self.window.library.search.setText("")
        order = self.window.library.order
        order.setCurrentText("By name")
        order.activated.emit(order.currentIndex())
        self.assertLess(texts().index("carry_bucket"), texts().index("haul_rope"))
        order.setCurrentText("Longest first")
        order.activated.emit(order.currentIndex())
        self.assertLess(texts().index("walk_the_wall"), texts().index("carry_bucket"))

    def test_looking_changes_no_work(self):
        before = self.state
        library = self.window.library
        library.select(self.id_of("haul_rope"))
        library.preview()
        self.spin(0.1)
        self.assertEqual([f.name for f in self.window.stage.figures], ["haul_rope"])
        self.assertTrue(self.session.playing)
        self.assertIs(self.state, before)
        self.session.play(False)
        self.click(self.window.desks["gather"].back)
        self.assertEqual(len(self.window.stage.figures), 2)

    def test_enter_uses_and_delete_takes_out(self):
        library = self.window.library
        library.select(self.id_of("haul_rope"))
        self.key(Qt.Key.Key_Return, widget=library)
        self.assertEqual(self.state.source_entry.name, "haul_rope")
        library.select(self.id_of("Puffin"))
        self.click(library.use)
        self.assertEqual(self.state.rig_entry.name, "Puffin")
        self.key(Qt.Key.Key_Delete, widget=library)
        self.assertNotIn("Puffin", [e.name for e in self.state.entries])

    def test_baked_clip_stands_beside(self):
        self.session.do(do.Bake())
        self.window.library.select(self.session.baked[0].id)
        self.click(self.window.library.use)
        self.assertEqual([f.kind for f in self.window.stage.figures], ["performer", "marionette", "baked"])
        self.until(lambda: self.session.live.deviation is not None and not self.session.live.busy)
        self.close(self.window.stage.figures[2].positions, self.window.stage.figures[1].positions, 1e-6)

    def test_stringing_from_the_library(self):
        self.window.files.keep_stringing()
        self.session.do(do.Untie("head"))
        self.window.library.select("quay to Heron")
        self.click(self.window.library.use)
        self.assertIn("head", self.strings())

    def test_numbers(self):
        desk = self.desk("transfer")
        number = desk.travel.height
        number.setFocus()
        number.setText("12,5")
        self.key(Qt.Key.Key_Return, widget=number)
        self.close(self.state.pairing.settings.height_offset, 0.125)
        self.key(Qt.Key.Key_Up, widget=number)
        self.close(self.state.pairing.settings.height_offset, 0.13)
        number.setText("much")
        number.editingFinished.emit()
        self.close(self.state.pairing.settings.height_offset, 0.13)
        self.drag(number, QPoint(20, 10), QPoint(60, 10))
        self.close(self.state.pairing.settings.height_offset, 0.18, 0.011)
        QTest.mouseDClick(number, Qt.MouseButton.LeftButton)
        self.close(self.state.pairing.settings.height_offset, 0)

    def test_undo_after_typing_takes_the_number_back(self):
        number = self.desk("transfer").travel.height
        number.setFocus()
        number.setText("20")
        self.key(Qt.Key.Key_Return, widget=number)
        self.close(self.state.pairing.settings.height_offset, 0.2)
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier, number)
        self.assertIs(self.state, show_state())

    def test_one_drag_is_one_undo_step(self):
        number = self.desk("transfer").travel.stride
        self.drag(number, QPoint(20, 10), QPoint(80, 10))
        self.assertNotEqual(self.state.pairing.settings.stride, 1.0)
        self.session.undo()
        self.assertEqual(self.state.pairing.settings.stride, 1.0)
        self.session.undo()
        self.assertIs(self.state, show_state())

    def test_stance_mirror_and_reset(self):
        desk = self.desk("stance")
        self.session.choose(bone="leftUpperArm")
        desk.turns[2].edited.emit(-30.0, True)
        desk.mirror()
        angles = {limb.part: limb.angle for limb in self.state.pairing.limbs}
        self.close(angles["left upper arm"], angles["right upper arm"], 0.5)
        self.click(next(b for b in desk.findChildren(QPushButton) if b.text() == "Reset bone"))
        self.close(
            self.state.pairing.stance.target[self.state.pairing.target.index["leftUpperArm"]], [0, 0, 0, 1], 1e-9
        )

    def test_adopt_a_frame(self):
        desk = self.desk("stance")
        self.session.seek(95)
        self.click(next(b for b in desk.findChildren(QPushButton) if b.text() == "Use this frame"))
        self.assertGreater(np.abs(self.state.pairing.stance.source - self.state.pairing.source.rest).max(), 0.1)
        self.assertLess(max(limb.angle for limb in self.state.pairing.limbs), 0.5)

    def test_in_place_shows_on_the_stage(self):
        self.session.do(do.Choose(self.id_of("carry_bucket")))
        self.session.seek(180)
        self.assertGreater(self.window.stage.figures[1].positions[0, 2], 1)
        travel = self.desk("transfer").travel
        self.click(travel.in_place["z"], QPoint(8, 10))
        self.close(self.window.stage.figures[1].positions[0, 2], 0, 0.05)
        self.assertGreater(abs(self.window.stage.figures[1].positions[0, 0]), 1e-4)
        self.click(travel.in_place["x"], QPoint(8, 10))
        self.close(self.window.stage.figures[1].positions[0, [0, 2]], 0, 0.05)

    def test_the_root_bone_carries_what_is_ticked(self):
        self.session.do(do.Choose(self.id_of("carry_bucket")), do.Choose(self.id_of("Gull"), as_rig=True))
        self.session.seek(180)
        self.session.go("transfer")
        stage, travel = self.window.stage, self.desk("transfer").travel
        hips = self.state.pairing.transfer.hips
        before = stage.figures[1].positions[hips]
        self.assertIn("humanoid_root", travel.bone.text())
        self.assertTrue(travel.root["z"].isChecked() and not travel.root["turn"].isChecked())
        self.assertGreater(stage.figures[1].positions[0, 2], 1)
        path = [line for line, _ in self.window.director._root(stage.figures)]
        self.close(path[0][-1, [0, 2]] - stage.figures[1].shift[[0, 2]], stage.figures[1].positions[0, [0, 2]], 1.5)
        self.click(travel.root["z"], QPoint(8, 10))
        self.assertEqual(self.state.pairing.settings.root, ("x",))
        self.close(stage.figures[1].positions[0, 2], 0, 1e-6)
        self.close(stage.figures[1].positions[hips], before, 1e-6)
        (after, *_) = (line for line, _ in self.window.director._root(stage.figures))
        self.assertGreater(np.ptp(path[0][:, 2]), 2)
        self.close(np.ptp(after[:, 2]), 0, 1e-9)
        self.session.undo()
        self.assertIsNone(self.state.pairing.settings.root)

    def test_deliver_says_problems_before_the_start(self):
        desk = self.desk("deliver")
        self.assertIn("No clip is selected", desk.problems.text())
        self.session.do(do.Bake())
        (self.folder / "mine").write_text("a file")
        desk.folder.setText(str(self.folder / "mine"))
        self.assertIn("is not a folder", desk.problems.text())
        desk.folder.setText(str(self.folder))
        desk.prefix.setText("show_")
        (self.folder / "show_light_lamp_Heron.bvh").write_text("mine")
        desk.suffix.setText("")
        desk.show_state()
        self.assertIn("exists already", desk.problems.text())
        desk.overwrite.setChecked(True)
        self.assertTrue(desk.write.isEnabled())
        self.session.tick([self.state.bakes[0]], False)
        self.assertIn("No clip is selected", desk.problems.text())


class Look(WindowCase):
    def unfit(self):
        """Texts that have less room than they need."""
        for widget in (
            self.window.findChildren(QLabel)
            + self.window.findChildren(QPushButton)
            + self.window.findChildren(QCheckBox)
        ):
            if not widget.isVisible() or not widget.text() or widget.visibleRegion().isEmpty():
                continue
            need = widget.minimumSizeHint() if not (isinstance(widget, QLabel) and widget.wordWrap()) else None
            if need is not None and widget.width() + 1 < need.width():
                yield f"{widget.text()!r} has {widget.width()} of {need.width()} pixels"
            if (
                isinstance(widget, QLabel)
                and widget.wordWrap()
                and widget.height() + 1 < widget.heightForWidth(widget.width())
            ):
                yield f"{widget.text()!r} has {widget.height()} of {widget.heightForWidth(widget.width())} pixels in height"

    def test_no_text_is_cut_at_any_size(self):
        self.session.do(do.Bake())
        for size in ((1280, 800), (1024, 700), (2560, 1440)):
            self.window.resize(*size)
            self.spin(0.05)
            for step in STEPS:
                self.desk(step)
                self.spin(0.05)
                self.assertEqual(list(self.unfit()), [], f"{step} at {size}")
                for area in self.window.desks[step].findChildren(QScrollArea):
                    self.assertLessEqual(area.widget().width(), area.viewport().width(), f"{step} at {size} is cut")
                stage = self.window.stage
                self.assertGreater(stage.width(), 300)
                self.assertLessEqual(
                    self.window.desk_holder.mapTo(self.window, QPoint(self.window.desk_holder.width(), 0)).x(),
                    self.window.width() + 1,
                )

    def test_the_button_that_a_step_is_for_is_in_sight(self):
        for _ in range(9):
            self.session.do(do.Bake())
        for size in ((1280, 800), (1024, 700), (2560, 1440)):
            self.window.resize(*size)
            for step, name in (("transfer", "Bake"), ("deliver", "Write 9 files")):
                desk = self.desk(step)
                self.spin(0.1)
                main = next(b for b in desk.findChildren(QPushButton) if b.text() == name)
                self.until(lambda b=main: b.visibleRegion().boundingRect() == b.rect())
                self.assertEqual(main.visibleRegion().boundingRect(), main.rect(), f"{step} at {size}")

    def test_controls_have_names(self):
        for step in STEPS:
            desk = self.desk(step)
            self.assertEqual(self.nameless(desk), [], step)
        self.assertEqual(self.nameless(self.window), [])
        self.assertEqual(len(self.nameless(row(QLineEdit(), QComboBox(), button("x", None)))), 2)

    @staticmethod
    def nameless(parent):
        """Controls that a reader of screens could tell nothing about."""
        kinds = QAbstractButton, QComboBox, QLineEdit, QAbstractItemView
        found = {w for kind in kinds for w in parent.findChildren(kind)}
        # What a list or a table makes for its own inside is told by it.
        inner = QAbstractItemView, QComboBox, QLineEdit
        found = [w for w in found if not any(isinstance(p, inner) for p in (w.parent(), w.parent().parent()))]
        return [w for w in found if not (w.accessibleName() or (isinstance(w, QAbstractButton) and w.text()))]

    def test_a_large_picture_is_coarser_in_motion_and_whole_at_rest(self):
        stage = self.window.stage
        for size, coarse in (((2560, 1440), 2), ((1280, 800), 1)):
            self.window.resize(*size)
            self.spin(0.2)
            stage.refresh()
            stage.repaint()
            self.assertEqual(stage._image.width(), -(-stage.width() // coarse), size)
            moving = stage.grab().toImage()
            self.spin(0.8)
            self.assertEqual((stage._image.width(), stage._image.height()), (stage.width(), stage.height()))
            resting = stage.grab().toImage()
            # The same view: figures are not shifted, and as large.
            small = [i.scaled(80, 50, mode=Qt.TransformationMode.SmoothTransformation) for i in (moving, resting)]
            apart = [
                abs(a - b)
                for x in range(80)
                for y in range(50)
                for a, b in zip(small[0].pixelColor(x, y).getRgb(), small[1].pixelColor(x, y).getRgb())
            ]
            self.assertLess(np.mean(apart), 2.0)
            self.assertLess(np.percentile(apart, 99), 30)

    def test_framed_figures_are_in_view(self):
        for name in ("light_lamp", "row_boat", "climb_ladder"):
            self.session.do(do.Choose(self.id_of(name)))
            self.spin(0.4)
            stage = self.window.stage
            points = np.concatenate([f.extent for f in stage.figures])
            places, _ = project(stage._matrix(), points, stage.width(), stage.height())
            self.assertTrue((places > 0).all() and (places < [stage.width(), stage.height()]).all(), name)
            self.assertGreater(np.ptp(places[:, 1]), stage.height() * 0.35, name)


class Colours(Case):
    """Contrast and colour blindness, worked out from the theme."""

    BLIND = {
        "protan": [[0.152286, 1.052583, -0.204868], [0.114503, 0.786281, 0.099216], [-0.003882, -0.048116, 1.051998]],
        "deutan": [[0.367322, 0.860646, -0.227968], [0.280085, 0.672501, 0.047413], [-0.011820, 0.042940, 0.968881]],
        "tritan": [[1.255528, -0.076749, -0.178779], [-0.078411, 0.930809, 0.147602], [0.004733, 0.691367, 0.303900]],
    }

    @staticmethod
    def linear(name):
        application()
        value = np.array(theme.colour(name).getRgbF()[:3])
        return np.where(value <= 0.04045, value / 12.92, ((value + 0.055) / 1.055) ** 2.4)

    def lab(self, rgb):
        xyz = (
            np.array([[0.4124, 0.3576, 0.1805], [0.2126, 0.7152, 0.0722], [0.0193, 0.1192, 0.9505]])
            @ np.clip(rgb, 0, 1)
            / [0.95047, 1, 1.08883]
        )
        f = np.where(xyz > 0.008856, np.cbrt(xyz), 7.787 * xyz + 16 / 116)
        return np.array([116 * f[1] - 16, 500 * (f[0] - f[1]), 200 * (f[1] - f[2])])

    def test_text_on_every_surface(self):
        for text in ("text", "quiet", "brass", "alarm"):
            for surface in ("deep", "base", "raised", "lifted"):
                a, b = (self.linear(n) @ [0.2126, 0.7152, 0.0722] + 0.05 for n in (text, surface))
                self.assertGreaterEqual(a / b, 4.5, f"{text} on {surface}")

    def test_meanings_are_told_apart_by_all_eyes(self):
        meanings = ("performer", "marionette", "baked", "brass", "x", "y", "z")
        for kind, matrix in {"full": np.eye(3), **self.BLIND}.items():
            for i, a in enumerate(meanings):
                for b in meanings[i + 1 :]:
                    apart = np.linalg.norm(
                        self.lab(np.array(matrix) @ self.linear(a)) - self.lab(np.array(matrix) @ self.linear(b))
                    )
                    self.assertGreaterEqual(apart, 20, f"{a} and {b} to {kind}")


class Binding(Case):
    def test_qt_calls_keep_their_references(self):
        """Some builds of the Qt binding lose a reference to None at every call, and crash after some thousand."""
        import sys

        application()
        pen = theme.round_pen(theme.colour("text"), 1.0)
        before = sys.getrefcount(None)
        for _ in range(300):
            pen.setWidthF(2.0)
        self.assertLess(abs(sys.getrefcount(None) - before), 100)


class GatherTools(WindowCase):
    def test_placing_a_clip(self):
        self.session.do(do.Choose(self.id_of("ring_bell")))
        card = self.desk("gather").source
        low = self.window.stage.figures[0].positions[:, 1].min()
        card.floor.click()
        self.close(self.window.stage.figures[0].positions[:, 1].min(), low - 0.04, 0.012)
        self.assertFalse(card.floor.isEnabled())
        card.centre.setCurrentText("Start position: origin")
        card.centre.activated.emit(1)
        self.close(self.window.stage.figures[0].positions[1, [0, 2]], 0, 0.05)
        card.rate.edited.emit(48.0, True)
        self.assertEqual(self.session.rate, 48.0)
        card.as_read.click()
        self.assertEqual(self.session.rate, 24.0)

    def test_renaming(self):
        card = self.desk("gather").source
        card.names.fill()
        card.names.setCurrentText("to H-Anim names")
        card.names.activated.emit(card.names.currentIndex())
        self.assertIn("l_elbow", self.state.source_entry.skeleton.names)
        self.assertEqual(len(self.strings()), 20)
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertIn("quay:L_Radius", self.state.source_entry.skeleton.names)

    def test_locking_and_tying_a_region(self):
        desk = self.desk("string")
        self.session.choose(part="left foot")
        self.key(Qt.Key.Key_K, widget=desk)
        self.assertTrue(self.strings()["left foot"].locked)
        self.click(desk.lock)
        self.assertFalse(self.strings()["left foot"].locked)
        self.session.do(do.Untie("left foot"))
        self.session.do(do.Untie("head"))
        desk.region.setCurrentText("Legs")
        desk.tie_again()
        self.assertTrue("left foot" in self.strings() and "head" not in self.strings())


class StanceTools(WindowCase):
    def test_turning_by_the_ring_on_the_stage(self):
        self.desk("stance")
        stage = self.window.stage
        stage.look_from("front")
        self.spin(0.4)
        self.session.choose(bone="leftUpperArm")
        centre = stage.place_of("marionette", stage.handle)
        before = self.state
        # A quarter turn against the clock, as seen from the front.
        self.drag(stage, centre + QPoint(44, 0), centre + QPoint(0, -44))
        angle = {limb.part: limb.angle for limb in self.state.pairing.limbs}["left upper arm"]
        self.close(angle, 90, 12)
        self.session.undo()
        self.assertIs(self.state, before, "one drag is one step")

    def test_touches_are_laid_over_the_match(self):
        desk = self.desk("stance")
        before = self.window.stage.figures[1].positions.copy()
        desk.touches["arms out"].edited.emit(15.0, True)
        after = self.window.stage.figures[1].positions
        hand = self.state.pairing.target.index["leftHand"]
        self.assertGreater(after[hand, 0] - before[hand, 0], 0.1)
        self.assertLess(max(limb.angle for limb in self.state.pairing.limbs), 0.01, "the match itself stays")
        self.session.undo()
        self.close(self.window.stage.figures[1].positions, before, 1e-9)

    def test_tolerance(self):
        desk = self.desk("stance")
        self.session.do(do.TurnBone("leftUpperArm", (0, 0, np.radians(15))))
        self.assertTrue([s for s in self.session.snags if s.step == "stance"])
        desk.tolerance.edited.emit(20.0, True)
        self.assertFalse([s for s in self.session.snags if s.step == "stance"])

    def test_pose_of_the_reference_clip(self):
        """The reference clip stands with arms straight out; taken from it, so does the performer's reference."""
        desk = self.desk("stance")
        desk.clips.setCurrentText("quay_reference")
        desk.clips.activated.emit(desk.clips.currentIndex())
        self.click(next(b for b in desk.findChildren(QPushButton) if b.text() == "Use this frame"))
        points = self.window.stage.figures[0].positions
        s = self.state.pairing.source
        arm = points[s.index["quay:L_Hand"]] - points[s.index["quay:L_Humerus"]]
        self.close(np.degrees(np.arcsin(arm[1] / np.linalg.norm(arm))), 0, 2)
        self.assertLess(max(limb.angle for limb in self.state.pairing.limbs), 0.5)

    def test_a_run_is_tied_by_dragging(self):
        self.session.do(do.Choose(self.id_of("sweep_quay")))
        desk = self.desk("string")
        desk.region.setCurrentText("Trunk")
        self.spin()
        board = desk.board
        self.drag(board, board.place("source", "vertebra_2"), board.place("source", "vertebra_4"))
        self.assertEqual(board.runs["source"], ("vertebra_2", "vertebra_3", "vertebra_4"))
        self.drag(board, board.place("source", "vertebra_3"), board.place("rig", "chest"))
        self.assertEqual(
            (self.strings()["spine"].source, self.strings()["spine"].target),
            (("vertebra_2", "vertebra_3", "vertebra_4"), ("chest",)),
        )
        self.assertEqual(board.runs, {})


class ManyBones(WindowCase):
    """A skeleton of over 120 bones, hands and face, with long names."""

    def setUp(self):
        super().setUp()
        s = make_figure(Build(fingers=True, twist=True, root=True, spine=5, neck=2))
        clip = Clip("faces", s, 30, np.tile(s.rest, (5, 1, 1)), [1], np.tile(s.offsets[1], (5, 1, 1)))
        for i in range(64):
            clip = insert_joint(
                clip, f"face_helper_with_a_long_name_{i:02d}", "head", (0.05 * np.cos(i), 0.1 + 0.05 * np.sin(i), 0.08)
            )
        self.assertGreater(len(clip.skeleton), 120)
        self.path = self.folder / "a_rig_with_a_rather_long_name_for_the_harbour_theatre.bvh"
        write(self.path, clip)
        self.window.files.open_paths([self.path])
        self.until(lambda: not self.window.running.jobs)
        self.session.do(do.Choose(self.state.entries[-1].id, as_rig=True))

    def test_it_is_tied_shown_and_turned(self):
        self.assertEqual(missing(self.state.pairing.strings), [])
        board, inside = self.desk("string").board, {}
        for region in ("head", "left hand", "body"):
            board.set_region(region)
            board.repaint()
            places, shown, own = board.places["rig"]
            inside[region] = int(shown.sum()), int(own.sum())
            size = [board.width(), board.height()]
            self.assertTrue(((places[own] >= 0) & (places[own] <= size)).all(), region)
        self.assertLess(inside["head"][1], inside["left hand"][1])
        self.assertGreater(inside["head"][0], 40, "the face is shown with the head")
        self.assertGreater(inside["body"][0], 120)

    def test_what_is_beside_the_body_can_be_left_out(self):
        desk = self.desk("string")
        board, menu = desk.board, desk.beside.menu()
        before, face = board.places["rig"][1].sum(), board.kinds()["face"]
        menu.aboutToShow.emit()
        next(a for a in menu.actions() if a.text() == f"Face ({face})").trigger()
        self.assertEqual(board.places["rig"][1].sum(), before - face)
        menu.aboutToShow.emit()
        menu.actions()[0].trigger()
        self.assertEqual(board.places["rig"][1].sum(), before)
        # Its own bone is meant where one beside the body lies as near.
        head = board.place("rig", "head")
        self.assertEqual(board.bone_at(head), ("rig", "head"))

    def test_turned_in_the_stance(self):
        self.assertEqual(len(self.window.stage.figures[1].bones.joint_radius), len(self.state.rig_entry.skeleton))
        # Turned by number in the stance: the bone and what hangs on it move, and the desk tells the number.
        desk = self.desk("stance")
        self.session.choose(bone="left upper arm")
        before = self.window.stage.figures[1].placed.copy()
        desk.turns[0].edited.emit(25.0, True)
        self.spin()
        moved = np.linalg.norm(self.window.stage.figures[1].placed - before, axis=1)
        index = self.state.rig_entry.skeleton.index
        self.assertGreater(moved[index["left hand"]], 0.01)
        self.assertLess(moved[index["right hand"]], 1e-6)
        self.assertEqual(desk.turns[0].text(), "25.0°")


class UnlikeBodies(WindowCase):
    """A person's motion and a rig on four legs."""

    def setUp(self):
        super().setUp()
        made = creature(np.random.default_rng(5))
        write(self.folder / "fox.glb", motion(made, np.random.default_rng(5)))
        self.open_as_rig(self.folder / "fox.glb")

    def open_as_rig(self, path):
        self.window.files.open_paths([path])
        self.until(lambda: not self.window.running.jobs)
        self.session.do(do.Choose(self.state.entries[-1].id, as_rig=True))

    def test_nothing_is_tied_by_silence_and_parts_are_offered(self):
        desk = self.desk("string")
        self.assertEqual(self.state.pairing.strings, ())
        self.assertIn("stands on four legs", desk.why.text())
        words = [snag_words(s.found).text for s in self.window.session.snags]
        self.assertTrue(any("nothing is tied automatically" in w for w in words), words)
        self.assertIn("hips", " ".join(words))
        rows = {part: desk.table.data(desk.table.index(row, 1)) for row, (part, _) in enumerate(desk.table.rows)}
        self.assertEqual((rows["hips"], rows["left hand"]), ("no string", "not needed"))
        self.session.do(do.TieAll())
        self.assertEqual(self.state.pairing.strings, ())
        # The hips by hand, then the head as a region.
        body = self.state.rig_entry.figure.body
        self.session.do(do.Choose(self.id_of("sweep_quay")))
        self.assertEqual(self.state.pairing.strings, ())
        self.drag(desk.board, desk.board.place("source", "hips"), desk.board.place("rig", self.name(body, "hips")))
        desk.region.setCurrentText("Head")
        desk.tie_again()
        self.assertEqual({s.part for s in self.state.pairing.strings}, {"hips", "neck", "head"})
        # The figure answers, and what is not tied rests.
        before = self.window.stage.figures[1].positions
        self.session.seek(60)
        self.spin(0.05)
        self.assertGreater(np.abs(self.window.stage.figures[1].positions - before).max(), 0.01)
        self.assertFalse([s for s in self.window.session.snags if s.step == "string" and s.grave])

    def name(self, body, part):
        return self.state.pairing.target.names[body.parts[part][0]]

    def test_on_its_own_kind_it_is_tied(self):
        other = creature(np.random.default_rng(6), named("english"))
        write(self.folder / "dog.glb", motion(other, np.random.default_rng(6)))
        self.window.files.open_paths([self.folder / "dog.glb"])
        self.until(lambda: not self.window.running.jobs)
        self.session.do(do.Choose(self.state.entries[-1].id))
        self.assertEqual(missing(self.state.pairing.strings), [])
        board = self.desk("string").board
        apart = [board.place("rig", self.name(self.state.rig_entry.figure.body, f"left {p}")) for p in ("foot", "hand")]
        self.assertGreater(abs(apart[0].x() - apart[1].x()), 30, "seen from a little aside")

    def test_names_that_were_tied_by_hand_are_learned(self):
        s = make_figure(Build())
        s = rename(s, {"left hand": "left Grabbel", "right hand": "right Grabbel"})
        write(self.folder / "rig.bvh", Clip("rig", s, 30, s.rest[None]))
        self.open_as_rig(self.folder / "rig.bvh")
        told = []
        self.session.told.connect(told.append)
        string = next(x for x in self.state.pairing.strings if x.part == "left hand")
        self.desk("string").tie("left hand", string.source, string.target)
        self.window.files.keep_stringing()
        self.assertIn("Learned for the next rig with such names: grabbel for the hand", told)
        self.addCleanup(lambda: own_words.forget(["grabbel"]))
        self.assertEqual(own_words.load().parts, {"hand": ("grabbel",)})


class Absent(WindowCase):
    def test_a_part_can_be_declared_absent(self):
        desk = self.desk("string")
        row = desk.table.row_of("left hand")
        desk.choose_bone(row, 1, "this part is absent")
        self.assertNotIn("left hand", self.strings())
        self.assertEqual(desk.table.data(desk.table.index(row, 1)), "absent")
        self.assertFalse([s for s in self.session.snags if "left hand" in told(s)])
        self.session.do(do.Bake())
        self.assertEqual(len(self.session.baked), 1)
        desk.choose_bone(row, 1, "quay:L_Hand")
        self.assertNotIn("left hand", self.state.pairing.absent)
        self.refuses(lambda: self.session.document.do(do.DeclareAbsent("hips")), "hips")


class TyingByClicks(WindowCase):
    def shift_click(self, widget, point):
        QTest.mouseClick(widget, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ShiftModifier, point)
        self.spin()

    def test_on_the_board(self):
        board = self.desk("string").board
        self.shift_click(board, board.place("source", "quay:L_Foot").toPoint())
        self.assertIn("now Shift and click", self.window.status.text())
        self.shift_click(board, board.place("rig", "leftToes").toPoint())
        self.assertEqual(self.strings()["left toes"].source, ("quay:L_Foot",))
        self.assertEqual(self.strings()["right toes"].source, ("quay:R_Foot",))

    def test_on_the_stage(self):
        self.desk("string")
        stage = self.window.stage
        stage.frame(glide=False)
        self.spin()
        for kind, entry, part in (
            ("marionette", self.state.rig_entry, "left shin"),
            ("performer", self.state.source_entry, "left thigh"),
        ):
            figure = next(f for f in stage.figures if f.kind == kind)
            bone = int(np.flatnonzero(figure.bones.start == entry.figure.body.parts[part][0])[0])
            place, _ = project(stage._matrix(), (sum(figure.segments()) / 2)[bone][None], stage.width(), stage.height())
            self.shift_click(stage, QPointF(*place[0]).toPoint())
        self.assertEqual(self.strings()["left shin"].source, ("quay:L_Femur",))
