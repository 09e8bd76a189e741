"""Many clips delivered from the real window: chosen in the table, written by workers, told, paused, watched for."""

import json
import shutil
from pathlib import Path

from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QStyle, QStyleOptionViewItem

from tests.app.harness import WindowCase
from tests.formats.independent import Gltf
from tests.support import joints_at, show_folder
from young_marionette.app.deliveries import recipes
from young_marionette.app.deliveries.table import CLIP, FILE, SIZE, STATE
from young_marionette.cli.main import main as command_line
from young_marionette.formats import read
from young_marionette.project import commands as do
from young_marionette.project.batch.pool import usual_count
from young_marionette.project.batch.recipe import Recipe


class Deliver(WindowCase):
    def setUp(self):
        super().setUp()
        self.panel = self.window.files_panel
        self.deliver = self.desk("deliver")
        self.deliver.folder.setText(str(self.folder / "out"))

    @property
    def shown(self):
        """The texts of all rows that are shown, by column."""
        model = self.panel.shown
        return [[model.index(i, c).data() for c in range(SIZE + 1)] for i in range(model.rowCount())]

    def entries(self, *names):
        return [e for e in self.state.entries if e.name in names]

    def onto(self, *rigs):
        self.session.ask_for(rigs=frozenset(e.id for e in self.entries(*rigs)))

    def written(self):
        self.until(lambda: not self.deliver.deliveries.busy, 90)
        self.spin()
        return sorted(p.name for p in (self.folder / "out").rglob("*") if p.is_file())

    def box_of(self, row):
        """Where the tick of a row is."""
        table, index = self.panel.table, self.panel.shown.index(row, CLIP)
        option = QStyleOptionViewItem()
        table.initViewItemOption(option)
        option.rect = table.visualRect(index)
        option.features |= QStyleOptionViewItem.ViewItemFeature.HasCheckIndicator
        return table.style().subElementRect(QStyle.SubElement.SE_ItemViewItemCheckIndicator, option, table).center()

    def test_the_window_delivers_the_bytes_that_the_command_line_writes(self):
        """The same clips on the same rig, ticked and written here, and by the command."""
        clips = {"wave_to_ship": "quay", "sweep_quay": "loft"}
        self.session.tick(self.entries(*clips), True)
        self.onto("Heron")
        if self.deliver.tie.isVisible():
            self.click(self.deliver.tie)
        self.session.ask_for(endings=(".bvh",))
        self.click(self.deliver.write)
        self.assertEqual(self.written(), ["sweep_quay_Heron.bvh", "wave_to_ship_Heron.bvh"])
        for name, performer in clips.items():
            source, out = show_folder() / performer / f"{name}.bvh", self.folder / f"{name}_Heron.bvh"
            rig = show_folder() / "puppets" / "Heron.bvh"
            self.assertEqual(command_line(["retarget", str(source), str(rig), "--out", str(out)]), 0)
            self.assertEqual(out.read_bytes(), (self.folder / "out" / out.name).read_bytes(), name)

    def test_clips_never_opened_go_onto_many_rigs(self):
        self.assertTrue(self.panel.isVisible())
        self.assertIn("No clip is selected", self.deliver.problems.text())
        self.session.tick(self.entries("light_lamp", "ring_bell"), True)
        self.assertIn("No rig is selected", self.deliver.problems.text())
        self.deliver.rigs.item(0).setCheckState(Qt.CheckState.Checked)
        self.onto("Heron", "Gull")
        states = {(r[CLIP], r[1]): r[STATE] for r in self.shown}
        self.assertEqual(states["light_lamp", "Heron"], "○ Ready")
        self.assertEqual(states["ring_bell", "Heron"], "◆ Not tied")
        self.assertIn("have no strings", self.deliver.problems.text())
        self.assertEqual(self.deliver.write.text(), "Write 3 files")
        self.click(self.deliver.tie)
        self.assertEqual(self.deliver.write.text(), "Write 4 files")
        self.assertFalse(self.deliver.tie.isVisible())
        self.deliver.with_report.setChecked(True)
        self.session.ask_for(endings=(".bvh",), fps=24.0)
        self.click(self.deliver.write)
        self.until(lambda: self.deliver.working.isVisible())
        self.assertFalse(self.deliver.write.isVisible())
        names = self.written()
        self.assertEqual([n for n in names if n.endswith(".bvh")],
                         ["light_lamp_Gull.bvh", "light_lamp_Heron.bvh", "ring_bell_Gull.bvh", "ring_bell_Heron.bvh"])  # fmt: skip
        clip = read(self.folder / "out/ring_bell_Gull.bvh").skeletons[0].clips[0]
        self.assertEqual((clip.rate, clip.frames), (24.0, 169))
        self.assertIn("✓ 4 files written", self.deliver.summary.text())
        self.assertTrue(self.deliver.open_report.isVisible())
        self.assertIn("data:image/jpeg", self.deliver.deliveries.report.read_text())
        done = [r for r in self.shown if r[STATE] == "✓ Written"]
        self.assertEqual(len(done), 4)
        self.assertTrue(all(r[SIZE].endswith("kB") for r in done))
        self.assertFalse(self.deliver.write.isEnabled(), "all are there, and left as they are")
        self.session.undo()
        self.assertNotIn((self.entries("ring_bell")[0].family, self.entries("Heron")[0].family), self.state.pairings)

    def test_choosing_by_mouse_keys_search_and_family(self):
        self.onto("Heron")
        table, count = self.panel.table, len(self.shown)
        QTest.mouseClick(table.viewport(), Qt.MouseButton.LeftButton, pos=self.box_of(0))
        first = self.shown[0][CLIP]
        self.assertEqual([r.what.name for r in self.panel.model.rows if r.chosen], [first])
        table.selectRow(1)
        self.key(Qt.Key.Key_Space, widget=table)
        self.assertEqual(sum(r.chosen for r in self.panel.model.rows), 2)
        self.session.do(do.Tag(self.id_of("haul_rope"), ("quayside",)))
        self.panel.search.setText("quays")
        self.assertEqual([r[CLIP] for r in self.shown], ["haul_rope"])
        self.panel.search.clear()
        self.panel.family.setCurrentIndex(self.panel.family.findText("loft"))
        self.panel.family.activated.emit(self.panel.family.currentIndex())
        self.assertLess(len(self.shown), count)
        inside = {r[CLIP] for r in self.shown}
        self.click(self.panel.none)
        outside = {r.what.name for r in self.panel.model.rows if r.chosen}
        self.assertFalse(outside & inside)
        self.click(self.panel.all)
        self.assertEqual({r.what.name for r in self.panel.model.rows if r.chosen}, inside | outside)
        self.panel.table.sortByColumn(FILE, Qt.SortOrder.DescendingOrder)
        names = [r[FILE] for r in self.shown]
        self.assertEqual(names, sorted(names, reverse=True))

    def test_pause_and_stop(self):
        self.onto("Heron")
        self.session.tick(
            [e for e in self.state.entries if e.role == "clip" and e.family == self.state.source_entry.family], True
        )
        rows = sum(r.goes for r in self.panel.model.rows)
        self.assertGreater(rows, 4)
        self.click(self.deliver.write)
        deliveries = self.deliver.deliveries
        self.click(self.deliver.pause)
        self.assertEqual(self.deliver.pause.text(), "Go on")
        self.until(lambda: deliveries.delivery.jobs)
        self.spin(0.5)
        self.assertLess(deliveries.delivery.progress.done, rows)
        self.click(self.deliver.pause)
        self.until(lambda: deliveries.delivery is None or deliveries.delivery.progress.done >= 1, 60)
        if deliveries.delivery is not None:
            self.click(self.deliver.stop)
        names = self.written()
        self.assertFalse([n for n in names if n.endswith(".part")])
        for name in names:
            self.assertGreater(read(self.folder / "out" / name).skeletons[0].clips[0].frames, 2)
        # What was just written when its worker was stopped may not have been told any more.
        told = int(self.deliver.summary.text().split()[-3 if "written" in self.deliver.summary.text() else 0])
        self.assertTrue(len(names) - usual_count() <= told <= len(names))

    def test_recipes_are_kept_and_used(self):
        self.session.ask_for(endings=(".glb",), fps=25.0, unit=None)
        self.deliver.template.setText("{rig}-{clip}")
        self.deliver.place.setCurrentIndex(4)
        self.deliver.place.activated.emit(4)
        self.deliver.keep_recipe("engine")
        self.session.ask_for(recipe=Recipe())
        self.assertEqual(self.deliver.template.text(), "{clip}_{rig}")
        at = self.deliver.recipe.findText("engine")
        self.deliver.recipe.setCurrentIndex(at)
        self.deliver.recipe.activated.emit(at)
        self.assertEqual((self.deliver.template.text(), self.deliver.rate.currentText()), ("{rig}-{clip}", "25 fps"))
        self.assertEqual(self.deliver.place.currentText(), "Sideways and ahead")
        self.deliver.template.setText("{nobody}")
        self.assertIn("is no part of a name", self.deliver.problems.text())
        self.assertEqual(self.session.wanted.recipe.names.template, "{rig}-{clip}")
        recipes.remove("engine")
        self.assertNotIn("engine", recipes.known()[0])
        path = self.folder / "x.recipe"
        path.write_text("{}")
        self.deliver.open_recipe(path)
        self.assertIn("is not a Young Marionette recipe", self.window.message.text.text())

    def test_one_file_and_a_root_bone(self):
        for name in ("light_lamp", "wave_to_ship"):
            self.session.do(do.Choose(self.id_of(name)), do.Bake(frames=(0, 30)))
        self.session.ask_for(endings=(".glb",), together=True)
        self.deliver.bone.setCurrentIndex(1)
        self.deliver.bone.activated.emit(1)
        self.assertEqual(self.deliver.write.text(), "Write 2 files")
        self.click(self.deliver.write)
        self.assertEqual(self.written(), ["clips_Heron.glb"])
        file = Gltf(self.folder / "out/clips_Heron.glb")
        self.assertEqual(sorted(a.name for a in file.g.animations), ["light_lamp", "wave_to_ship"])
        posed = file.world(0.5)
        self.close(posed["root"][[0, 2], 3], posed["hips"][[0, 2], 3], 1e-5)
        part = read(self.folder / "out/clips_Heron.glb").skeletons[0]
        self.assertEqual(joints_at(part.clips[0]).shape[1], len(self.state.rig_entry.skeleton) + 1)
        self.session.ask_for(endings=(".bvh",))
        self.assertIn("holds one clip", self.deliver.problems.text())

    def test_only_some_frames(self):
        self.onto("Heron")
        self.session.tick(self.entries("light_lamp"), True)
        QTest.mouseClick(self.deliver.part, Qt.MouseButton.LeftButton, pos=QPoint(8, 8))
        self.deliver.first.setText("20")
        self.deliver.first.editingFinished.emit()
        self.assertEqual(self.session.wanted.recipe.frames, (20, 240))
        self.deliver.last.setText("900")
        self.deliver.last.editingFinished.emit()
        self.assertIn("does not lie in the clip's frames", self.deliver.problems.text())
        self.deliver.last.setText("60")
        self.deliver.last.editingFinished.emit()
        self.click(self.deliver.write)
        (name,) = self.written()
        clip = read(self.folder / "out" / name).skeletons[0].clips[0]
        self.assertEqual(clip.frames, 41)

    def test_subfolders_are_those_of_the_sources(self):
        self.onto("Heron")
        self.session.tick(self.entries("light_lamp"), True)
        self.session.ask_for(subfolders=True)
        (row,) = [r for r in self.panel.model.rows if r.chosen]
        self.assertEqual(row.outs[0].parent, self.folder / "out/quay")

    def test_a_watched_folder(self):
        inbox = self.folder / "inbox"
        inbox.mkdir()
        self.deliver.watched.setText(str(inbox))
        self.click(self.deliver.watch)
        self.assertIn("Tick a rig", self.window.message.text.text())
        self.onto("Heron")
        self.click(self.deliver.watch)
        self.assertEqual(self.deliver.watch.text(), "Stop watching")
        shutil.copy(show_folder() / "quay/light_lamp.bvh", inbox)
        (inbox / "broken.bvh").write_text("HIERARCHY")
        self.until(lambda: (self.deliver.watching.done, self.deliver.watching.failed) == (1, 1), 30)
        (made,) = (self.folder / "out").glob("*.bvh")
        self.assertEqual(made.name, "light_lamp_Heron.bvh")
        self.click(self.deliver.watch)
        self.assertEqual(self.deliver.watch.text(), "Watch")

    def test_what_is_in_the_recipe_file_is_readable(self):
        self.deliver.keep_recipe("plain")
        (path,) = Path(recipes._folder()).glob("plain.recipe")
        self.assertEqual(
            json.loads(path.read_text()), {"format": "young-marionette recipe", "version": 2, "name": "plain"}
        )

    def test_double_click_looks_at_a_clip(self):
        self.onto("Heron")
        rect = self.panel.table.visualRect(self.panel.shown.index(0, FILE))
        QTest.mouseClick(self.panel.table.viewport(), Qt.MouseButton.LeftButton, pos=rect.center())
        QTest.mouseDClick(self.panel.table.viewport(), Qt.MouseButton.LeftButton, pos=rect.center() + QPoint(1, 0))
        self.assertEqual(self.session.preview, self.panel.model.rows[0].what.id)
