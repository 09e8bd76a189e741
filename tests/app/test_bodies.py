"""Bodies in the real window: shown, picked, corrected, saved and delivered."""

from dataclasses import replace

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QLabel

from tests.app.harness import WindowCase
from tests.app.test_views import near, pixels
from tests.support import joints_at, show_folder
from young_marionette.core.scene.camera import project
from young_marionette.formats import read
from young_marionette.project import commands as do
from young_marionette.project import storage
from young_marionette.project.entry import entries_of
from young_marionette.wording.facts import fact_words


class WithBody(WindowCase):
    """The show with Gull's body as the rig."""

    rig = "Gull.glb"

    def setUp(self):
        super().setUp()
        self.window.files.open_paths([show_folder() / "puppets/bodies" / self.rig])
        self.until(lambda: not self.window.running.jobs)
        self.session.do(do.Choose(self.state.entries[-1].id, as_rig=True))
        self.window.stage.frame(glide=False)
        self.spin(0.3)

    @property
    def stage(self):
        return self.window.stage

    @property
    def puppet(self):
        return next(f for f in self.stage.figures if f.kind == "marionette")

    def picture(self):
        self.stage.refresh()
        self.spin(0.4)  # until the camera has come to rest and the picture is the smooth one
        return pixels(self.stage.grab().toImage())


class Bodies(WithBody):
    """What a body is, in each format."""

    def test_what_stands_still_is_kept_while_another_moves(self):
        """A picture of one figure that moves before those that do not is the one that all of them drawn anew give."""
        stage, renderer = self.stage, self.stage.renderer
        size, pose = (stage.width(), stage.height()), stage.camera.pose
        others, puppet = [f for f in stage.figures if f is not self.puppet], self.puppet

        def picture(raised):
            moved = replace(puppet, positions=puppet.positions + [0, raised, 0], _segments=None)
            return pixels(renderer.draw(size, pose, [*others, moved]).copy()).astype(int)

        first = picture(0.0)
        kept = [picture(raised) for raised in (0.1, 0.2)]
        picture(0.0)
        renderer._last.clear()
        whole = picture(0.2)
        self.assertGreater((np.abs(kept[1] - first).max(-1) > 20).sum(), 1000)
        self.assertGreater((np.abs(kept[1] - kept[0]).max(-1) > 20).sum(), 1000)
        # A shadow may lie over what all but lies in the floor.
        self.assertLess((np.abs(kept[1] - whole).max(-1) > 20).sum(), 40)

    def test_the_body_is_where_its_joints_are(self):
        """Drawn pixels against the skin worked out by the core: the same outline on the stage."""
        self.session.arrange("marionette")
        self.spin(0.5)  # until the camera has come to rest
        self.stage.captions, self.stage.empty_text = False, ""
        with_body = self.picture()
        shown = self.stage.figures
        self.stage.show_figures([])
        bare = self.picture()
        drawn = np.argwhere(np.abs(with_body - bare).max(-1) > 20)
        corners, _ = shown[0].skin()
        flat, _ = project(self.stage._matrix(), corners.reshape(-1, 3), self.stage.width(), self.stage.height())
        ratio = with_body.shape[1] / self.stage.width()
        low, high = flat.min(0) * ratio, flat.max(0) * ratio
        left_right = np.percentile(drawn[:, 1], [0.2, 99.8])
        self.close(left_right, [low[0], high[0]], 12)

    def test_clips_of_a_file_share_its_body(self):
        rig = self.state.rig_entry
        twin = replace(rig, id="twin", name="twin")
        self.assertIs(twin.placed_character, rig.placed_character)
        self.assertIsNot(twin.corrected(scale=0.5).placed_character, rig.placed_character)

    def test_facts_and_corrections(self):
        desk = self.desk("gather")
        facts = {w.label: w.value for w in map(fact_words, self.state.rig_entry.facts)}
        self.assertIn("7 meshes", facts["Body"])
        self.assertEqual(facts["Morphs"], "2")
        count = sum(len(m.triangles) for m in self.puppet.character.meshes)
        box = desk.rig.boxes["detail"]
        box.setCurrentIndex(1)
        box.activated.emit(1)
        self.spin()
        self.assertLess(sum(len(m.triangles) for m in self.puppet.character.meshes), count)
        self.session.undo()
        self.assertEqual(sum(len(m.triangles) for m in self.puppet.character.meshes), count)

    def test_saved_and_delivered(self):
        self.session.do(do.Bake(frames=(0, 30)))
        path = self.folder / "p.marionette"
        self.assertTrue(self.window.files.save_to(path))
        again = storage.load(path)
        rig = again.rig_entry
        self.assertEqual(len(rig.placed_character.meshes), len(self.state.rig_entry.placed_character.meshes))
        self.close(joints_at(again.bakes[-1].placed_clip), joints_at(self.session.baked[0].placed_clip), 0)
        desk = self.desk("deliver")
        desk.folder.setText(str(self.folder))
        self.assertTrue(desk.motion_only.isEnabled())
        name = f"{self.state.source_entry.name}_{self.state.rig_entry.name}"
        for ending in (".glb", ".usdz", ".vrma", ".bvh"):
            self.session.ask_for(endings=(ending,))
            self.assertFalse(desk.motion_only.isChecked())
            self.assertEqual(desk.motion_only.isEnabled(), ending in (".glb", ".usdz"))
            self.write(desk)
            out = self.folder / f"{name}{ending}"
            self.assertIn("✓", desk.summary.text())
            found = entries_of(read(out))
            self.assertEqual(any(e.character is not None for e in found), ending in (".glb", ".usdz"))
            self.assertEqual(next(e.clip.frames for e in found if e.clip), 31)
        self.session.ask_for(endings=(".glb",), overwrite=True)
        self.click(desk.motion_only)
        self.write(desk)
        self.assertTrue(all(e.character is None for e in entries_of(read(self.folder / f"{name}.glb"))))

    def test_the_tying_is_written_into_the_rig(self):
        """As VRM humanoid names, and as a table that ties the written rig with full certainty."""
        card = self.desk("gather").rig
        card.names.fill()
        card.names.setCurrentText("to VRM names, as tied")
        card.names.activated.emit(card.names.currentIndex())
        self.spin()
        rig = self.state.rig_entry
        self.assertIn("leftUpperArm", rig.skeleton.names)
        self.assertEqual(self.strings()["left upper arm"].target, ("leftUpperArm",))
        out = self.folder / "rig.glb"
        from young_marionette.project import delivery, opening

        delivery.deliver(out, rig.placed_clip, rig, body=True)
        if rig.layout.format == "glTF":
            again = opening.open_rig(out)
            self.assertTrue(again.figure.body.tabled)
            self.assertEqual(again.skeleton.names, rig.skeleton.names)

    def test_a_morph_is_shown(self):
        """Weights of a clip's curves bend the face of the rig that has morphs of these names."""
        source = self.state.source_entry
        values = np.linspace([0, 0], [1, 1], source.clip.frames)
        clip = replace(source.clip, morphs=("jaw_open", "blink"), weights=values)
        self.session.document.open(self.state.with_entry(replace(source, take=clip)), None)
        self.spin(0.1)
        self.session.seek(0)
        still = self.puppet.skin()[0]
        self.session.seek(source.clip.frames - 1)
        self.assertEqual(self.puppet.weights, {"jaw_open": 1.0, "blink": 1.0})
        self.assertGreater(np.abs(self.puppet.skin()[0] - still).max(), 0)
        figure = self.puppet
        shut = replace(figure, weights={}, _segments=None)
        drop = figure.skin()[0] - shut.skin()[0]
        self.assertGreater(np.abs(drop).max(), 0.01)
        # The card has the places and the normals of the face with shut eyes.
        self.window.stage.refresh()
        self.spin(0.2)
        dresser = self.window.stage.renderer._dresser
        parts = [p for kept in dresser._kept.values() if kept[0] is figure.character for p in kept[1]]
        for part in parts:
            shapes = (part.mesh, *part.mesh.morphs)
            wanted = sum(np.concatenate([m.points, m.normals], 1) for m in shapes)
            self.close(np.frombuffer(part.places.read(), "f4").reshape(-1, 6), wanted, 1e-6)
        self.assertTrue(parts)
        QTest.qWait(1)


class Drawing(WithBody):
    """How bodies are drawn and picked, whatever file they come from."""

    def test_body_seen_through_and_bones(self):
        pictures = []
        for dress in ("body", "through", "bones"):
            self.assertEqual((self.session.dress, self.puppet.dress), (dress, dress))
            pictures.append(self.picture())
            self.key(Qt.Key.Key_B)
        self.assertEqual(self.session.dress, "body")
        # Seen through: the turned bones show in their own colour where the skin lies before them.
        orange = [near(p, "marionette").sum() for p in pictures]
        self.assertGreater(orange[1], 3 * orange[0] + 300)
        for a, b in ((0, 1), (1, 2), (0, 2)):
            self.assertGreater((np.abs(pictures[a] - pictures[b]).max(-1) > 25).sum(), 800)

    def test_the_outer_side_is_painted_also_of_what_is_mirrored(self):
        """As it is painted where nothing is left out; a file under a mirror has its faces the other way round."""
        self.session.arrange("marionette")
        self.spin(0.5)
        figure = self.puppet
        over = replace(figure.skeleton, scales=figure.skeleton.scales * -1)  # about every joint's own place
        for shown in (figure, replace(figure, skeleton=over, _segments=None)):
            materials = tuple(replace(m, double_sided=True) for m in shown.character.materials)
            both = replace(shown, character=replace(shown.character, materials=materials), _segments=None)
            pictures = []
            for one in (shown, both):
                self.stage.show_figures([one])
                pictures.append(self.picture())
            painted = np.abs(pictures[0] - pictures[1]).max(-1) > 12
            # Joined so, mirrored pieces stand open a little; painted from inside it would be four times as much.
            self.assertLess(painted.sum(), 0.012 * painted.size)

    def test_a_body_too_large_to_be_drawn_in_motion_moves_as_bones(self):
        from unittest import mock

        seen, begin = [], self.stage.renderer.begin

        def watched(size, pose, figures, lines, fine):
            seen.append((fine, [f.shows_body for f in figures if f.kind == "marionette"]))
            return begin(size, pose, figures, lines, fine)

        # A slow machine may have found it too large before; here the machine is as slow as it is told to be.
        self.stage._heavy, self.stage._slow = (), 0
        with mock.patch.object(self.stage.renderer, "begin", watched):
            for slow, quick in ((1e9, [True]), (0.0, [False])):
                with mock.patch("young_marionette.app.stage.view.HEAVY", slow):
                    for frame in range(10, 16):
                        self.session.seek(frame)
                        self.stage.repaint()
                    self.assertEqual(seen[-1], (False, quick))
                    self.until(lambda: seen[-1][0], 30)
                    self.assertEqual(seen[-1], (True, [True]))
        self.assertIn("too large", self.window.status.text())

    def test_picking_on_the_body(self):
        """A click on a limb's skin chooses what it is tied for."""
        self.desk("string")
        self.spin(0.5)  # until the camera has come to rest
        body, figure = self.state.rig_entry.figure.body, self.puppet
        for part in ("left forearm", "right shin"):
            joint = body.parts[part][0]
            corners, joints = figure.skin()
            middle = corners[joints == joint].reshape(-1, 3).mean(0)
            place, _ = project(self.stage._matrix(), middle[None], self.stage.width(), self.stage.height())
            found = self.stage.pick(QPointF(*place[0]))
            self.assertEqual((found[0].kind, found[1]), ("marionette", joint))
            self.click(self.stage, QPointF(*place[0]).toPoint())
            self.assertEqual(self.session.part, part)

    def test_a_chosen_bone_is_pointed_out_on_the_skin(self):
        before = self.picture()
        self.session.choose(part="left upper arm")
        self.spin()
        self.assertGreater((np.abs(self.picture() - before).max(-1) > 25).sum(), 100)

    def test_turning_by_the_ring_turns_the_body(self):
        self.desk("stance")
        self.spin(0.4)
        bone = self.state.pairing.target.names[self.state.rig_entry.figure.body.parts["left upper arm"][0]]
        self.session.choose(bone=bone)
        before, _ = self.puppet.skin()
        centre = self.stage.place_of("marionette", self.stage.handle)
        self.drag(self.stage, QPointF(centre.x() + 44, centre.y()), QPointF(centre.x(), centre.y() - 44))
        after, _ = self.puppet.skin()
        self.assertGreater(np.abs(after - before).max(), 0.2)

    def test_scales_over_time_are_shown_on_their_own_body_alone(self):
        rig, source = self.state.rig_entry, self.state.source_entry
        head = rig.figure.body.parts["head"][0]
        swell = {"scaled": [head], "scales": np.linspace([[1.0] * 3], [[2.0] * 3], 3)}
        still = {"moving": rig.clip.moving, "translations": np.repeat(rig.clip.translations[:1], 3, 0)}
        own = replace(rig.clip, rotations=np.repeat(rig.clip.rotations[:1], 3, 0), **still, **swell)
        entry = replace(rig, id="swelling", name="swelling", role="clip", take=own)
        self.session.do(do.AddEntries([entry]))
        self.session.look_at("swelling")
        widths = []
        for frame in (0, 2):
            self.session.seek(frame)
            corners, joints = self.stage.figures[0].skin()
            widths.append(np.ptp(corners[joints == head].reshape(-1, 3)[:, 0]))
        self.close(widths[1], 2 * widths[0], 0.02 * widths[0])
        # The same curve in the performer's clip leaves the marionette as large as it is.
        clip = replace(source.clip, scaled=[head], scales=np.full((source.clip.frames, 1, 3), 2.0))
        self.session.document.open(self.state.with_entry(replace(source, take=clip)), None)
        self.session.look_at(None)
        self.spin(0.1)
        self.assertEqual((self.puppet.weights, self.puppet.factors), ({}, {}))


class Files(WindowCase):
    def test_what_the_card_takes_is_worked_out_while_reading(self):
        from young_marionette.rendering import arrays

        self.window.files.open_paths([show_folder() / "puppets/bodies/Gull.glb"])
        self.until(lambda: not self.window.running.jobs)
        meshes = self.state.entries[-1].placed_character.meshes
        self.assertTrue(all(mesh in arrays._READY for mesh in meshes))
        self.session.look_at(self.state.entries[-1].id)
        self.spin(0.3)
        self.assertFalse(any(mesh in arrays._READY for mesh in meshes))

    def test_gather_tells_what_else_a_file_holds(self):
        self.window.files.open_paths([show_folder() / "exchange/quay_takes.glb"])
        self.until(lambda: not self.window.running.jobs)
        rope = next(e for e in self.state.entries if e.name == "quay_takes: haul_rope")
        self.session.look_at(rope.id)
        texts = [label.text() for label in self.desk("gather").findChildren(QLabel) if label.isVisible()]
        self.assertIn("3 in this file", texts)
        self.assertIn("carry_bucket, rest, haul_rope", texts)
        self.assertNotIn("Skeletons", texts)


class UsdBodies(Bodies):
    rig = "Puffin.usdz"


class VrmBodies(Bodies):
    rig = "Heron.vrm"

    def test_the_table_ties_it(self):
        self.session.do(do.TieAll())  # the family had strings from its bare skeleton
        self.assertTrue(all(s.certainty > 0.5 for s in self.state.pairing.strings))
        self.assertIn("table of humanoid bones", self.strings()["left forearm"].reason)
