"""The same motion through every pair of formats, and delivered files in the eyes of others."""

import json
import os
from dataclasses import replace
from functools import lru_cache
from pathlib import Path

import numpy as np

from tests.formats import independent
from tests.support import Case, joints_at, show_folder
from young_marionette.core import rotations as rot
from young_marionette.core.character.meshes import joint_matrices, skinned
from young_marionette.core.clip import as_rows
from young_marionette.core.kinematics import world_rotation_rows
from young_marionette.core.scaling import factors_above, factors_of_pose
from young_marionette.core.skeleton import pose_world
from young_marionette.formats import read
from young_marionette.project import delivery, opening
from young_marionette.project.bakes import baked as bake
from young_marionette.project.entry import entries_of
from young_marionette.project.pairing import pair

ENDINGS = (".bvh", ".glb", ".gltf", ".usda", ".usdc", ".usdz")
TEXT = (".bvh", ".usda")
PAGE = Path(__file__).parents[2] / "docs" / "formats.md"


def world_turns(clip):
    return np.moveaxis(world_rotation_rows(clip.skeleton, as_rows(clip.rotations)), -1, 0)


@lru_cache(maxsize=1)
def puppets():
    """The three puppets with their bodies, by name."""
    folder = show_folder() / "puppets" / "bodies"
    return {p.stem: entries_of(read(p))[0] for p in folder.iterdir()}


def body_at(entry, clip, frame):
    """Places of all vertices of an entry's body, in our world."""
    return body_on(entry.placed_skeleton, entry.placed_character, clip, frame)


def body_on(skeleton, character, clip, frame):
    """Places of all vertices of a body over a skeleton."""
    moves = {int(j): clip.translations[frame, i] for i, j in enumerate(clip.moving)}
    places, turns = pose_world(skeleton, clip.rotations[frame], moves)
    factors = factors_of_pose(skeleton, {j: f[frame] for j, f in clip.scale_factors.items()})
    matrices = joint_matrices(skeleton, places, turns, factors)
    return np.concatenate([skinned(m, matrices) for m in character.meshes])


class EveryPair(Case):
    def test_motion_stays_through_every_pair(self):
        """From each format to each other one: bones turn within 0.001 degree, joints are within 0.01 mm."""
        start = opening.open_source(show_folder() / "loft/sweep_quay.bvh")
        clip = start.placed_clip.cut(0, 60)
        start = replace(start, take=start.clip.cut(0, 60))
        wanted, turns = joints_at(clip), world_turns(clip)
        first, rows = {}, []
        for a in ENDINGS:
            first[a] = self.folder / f"first{a}"
            delivery.convert(start, first[a])
        for a in ENDINGS:
            entry, cells = opening.open_source(first[a]), []
            for b in ENDINGS:
                out = self.folder / f"{a[1:]}_to{b}"
                delivery.convert(entry, out)
                again = opening.open_source(out)
                self.assertEqual((again.clip.frames, again.clip.rate), (61, 24.0), f"{a} to {b}")
                self.assertEqual(again.skeleton.names, start.skeleton.names)
                away = 1000 * np.abs(joints_at(again.placed_clip) - wanted).max()
                change = rot.multiply(turns, rot.conjugate(turns[:1]))
                now = world_turns(again.placed_clip)
                now = rot.multiply(now, rot.conjugate(now[:1]))
                turned = np.degrees(rot.angle(rot.multiply(rot.conjugate(change), now)).max())
                self.assertLess(away, 0.01, f"{a} to {b}, millimetres")
                self.assertLess(turned, 0.001, f"{a} to {b}, degrees")
                cells.append(f"{away:.5f} mm, {turned:.5f}°")
            rows.append(f"| {a} | {' | '.join(cells)} |")
        self._page("\n".join([f"| from \\ to | {' | '.join(ENDINGS)} |", "|---" * (len(ENDINGS) + 1) + "|", *rows]))

    def _page(self, table):
        """The table in docs/formats.md is this one; MAKE_DOCS=1 writes it there."""
        text = PAGE.read_text()
        before, _, rest = text.partition("<!-- table -->\n")
        _, _, after = rest.partition("<!-- end of table -->")
        if os.environ.get("MAKE_DOCS"):
            PAGE.write_text(f"{before}<!-- table -->\n{table}\n<!-- end of table -->{after}")
            return
        # Last digits may differ between processors; what the page promises has to hold.
        told = [line for line in rest.split("\n") if line.startswith("| .")]
        self.assertEqual([line.split(" | ")[0] for line in told], [f"| {e}" for e in ENDINGS])
        for line in told:
            for cell in line.strip("| ").split(" | ")[1:]:
                self.assertLess(float(cell.split(" mm")[0]), 0.01)
                self.assertLess(float(cell.split(", ")[1].rstrip("°")), 0.001)

    def test_rate_range_unit_and_axis(self):
        start = opening.open_source(show_folder() / "quay/light_lamp.bvh")
        out = self.folder / "a.usda"
        delivery.convert(start, out, fps=24, frames=(30, 90), unit=0.01, up="Z")
        again = opening.open_source(out)
        self.assertEqual((again.clip.frames, again.clip.rate), (49, 24.0))
        self.assertEqual((again.figure.unit, again.figure.up), ("centimetre", "+Z"))
        self.close(joints_at(again.placed_clip)[0], joints_at(start.placed_clip)[30], 1e-5)
        self.refuses(lambda: delivery.convert(start, self.folder / "b.glb", unit=0.01), "metres with Y up")
        self.refuses(lambda: delivery.convert(start, self.folder / "b.bvh", body=True), "motion alone")
        self.refuses(lambda: delivery.convert(start, self.folder / "b.glb", body=True), "no body")


def shape_of(entry, name):
    """What a morph adds to the places and to the normals of vertices, in our world: numbers in rising order."""
    morphs = [m for mesh in entry.placed_character.meshes for m in mesh.morphs if m.name == name]
    return [np.sort(np.concatenate([getattr(m, key) for m in morphs]), 0) for key in ("points", "normals")]


class Bodies(Case):
    def test_a_body_goes_through_every_format(self):
        for name, entry in puppets().items():
            wanted = body_at(entry, entry.placed_clip, 0)
            for ending in (".glb", ".gltf", ".usda", ".usdz"):
                out = self.folder / f"{name}{ending}"
                delivery.convert(entry, out)
                again = opening.open_rig(out)
                got = body_at(again, again.placed_clip, 0)
                self.assertEqual(sorted(again.character.morphs), sorted(entry.character.morphs))
                self.close(np.sort(got, 0), np.sort(wanted, 0), 2e-4, f"{name}{ending}")
                for morph in entry.character.morphs:
                    moved, lit = shape_of(entry, morph)
                    self.assertGreater(np.abs(moved).max(), 0.01)
                    # An eyelid turns, a jaw only drops.
                    self.assertEqual(np.abs(lit).max() > 0.5, morph == "blink")
                    for one, other in zip(shape_of(again, morph), (moved, lit)):
                        self.close(one, other, 1e-4, f"{name}{ending}: {morph}")

    def test_odd_axes_scaled_parents_and_another_bind_pose_onto_itself(self):
        """Every joint within 0.1 mm per metre, and the skin where the source's is."""
        for name, entry in puppets().items():
            clip = self._wave(entry)
            source = replace(entry, role="clip", take=clip)
            baked = bake(pair(source, entry), source, entry)[0]
            tall = entry.figure.height
            self.close(joints_at(baked), joints_at(source.placed_clip), 1e-4 * tall, name)
            for frame in (0, 7, 14):
                self.close(body_at(entry, baked, frame), body_at(entry, source.placed_clip, frame), 1e-4 * tall, name)

    def _wave(self, entry):
        """Motion of all bones in the file's own world."""
        rng = np.random.default_rng(5)
        rest = entry.clip
        swing = np.cumsum(rng.normal(0, 0.04, (15, len(rest.skeleton), 3)), 0)
        body = entry.figure.body
        for part in ("root",):
            for joint in body.parts.get(part, ()):
                swing[:, joint] = 0
        turns = rot.multiply(np.repeat(rest.skeleton.rest[None], 15, 0), rot.from_vector(swing))
        moves = np.repeat(rest.translations[:1], 15, 0) + np.linspace(0, 0.2, 15)[:, None, None]
        return replace(rest, rotations=turns, translations=moves, weights=None)

    def test_scales_over_time_bend_bodies_the_same_everywhere(self):
        """A trunk that swells and a forearm that shrinks: by us, by others' code, and read again."""
        for name, entry in puppets().items():
            clip, parts = self._wave(entry), entry.figure.body.parts
            ease = np.linspace(0, 1, clip.frames)[:, None]
            factors = {parts[p][0]: 1 + ease * np.full(3, f) for p, f in (("spine", 0.5), ("left forearm", -0.4))}
            places = {int(j): clip.translations[:, i] for i, j in enumerate(clip.moving)}
            for joint, longer in factors_above(clip.skeleton, factors).items():
                places[joint] = places.get(joint, clip.skeleton.offsets[joint]) * longer
            scales = np.stack([factors[j] for j in sorted(factors)], 1)
            moving = sorted(places)
            moved = np.stack([places[j] for j in moving], 1)
            clip = replace(clip, moving=moving, translations=moved, scaled=sorted(factors), scales=scales)
            source = replace(entry, role="clip", take=clip)
            wanted = body_at(source, source.placed_clip, 10)
            still = body_at(source, replace(source.placed_clip, scaled=(), scales=None), 10)
            self.assertGreater(np.abs(wanted - still).max(), 0.02)
            for ending in (".glb", ".usdc"):
                out = self.folder / f"{name}{ending}"
                delivery.convert(source, out, body=True)
                again = next(e for e in entries_of(read(out)) if e.clip is not None and e.clip.frames > 2)
                self.close(joints_at(again.placed_clip), joints_at(source.placed_clip), 5e-5, out.name)
                got = body_at(again, again.placed_clip, 10)
                self.close(np.sort(got, 0), np.sort(wanted, 0), 5e-4, out.name)
                # In the file's own world, where others see it.
                own = body_on(again.skeleton, again.character, again.clip, 10)
                if ending == ".glb":
                    told = independent.Gltf(out).skinned(10 / clip.rate)
                    self.close(np.sort(told, 0), np.sort(own, 0), 1e-4, out.name)
                else:
                    told = independent.usd_skinned(out, 10.0)
                    size = np.ptp(own, axis=0).max()
                    self.close([told.min(0), told.max(0)], [own.min(0), own.max(0)], 1e-3 * size, out.name)
            # Onto another rig it brings where joints go, and nothing of their size.
            baked = bake(pair(source, entry), source, entry)[0]
            self.assertEqual(len(baked.scaled), 0)

    def test_delivered_with_and_without_the_body(self):
        source = opening.open_source(show_folder() / "quay/light_lamp.bvh")
        for name, entry in puppets().items():
            baked = bake(pair(source, entry), source, entry, frames=(60, 90))[0]
            wanted = joints_at(baked)
            for ending in (".glb", ".usdc", ".bvh"):
                for body in (False, True):
                    if body and ending == ".bvh":
                        continue
                    out = self.folder / f"{name}_{body}{ending}"
                    delivery.deliver(out, baked, entry, body=body)
                    again = next(e for e in entries_of(read(out)) if e.clip is not None)
                    self.assertEqual(again.character is not None, body)
                    names = [n for n in entry.skeleton.names if n in again.skeleton.index]
                    self.assertGreater(len(names), 0.8 * len(entry.skeleton))
                    here, there = ([s.index[n] for n in names] for s in (again.skeleton, entry.skeleton))
                    got = joints_at(again.placed_clip)
                    # A file may say another spot of the floor is its middle; shape and way are the motion.
                    self.close(got[:, here], wanted[:, there], 3e-5 * max(entry.figure.height, 1), f"{name} {out.name}")


class InTheEyesOfOthers(Case):
    def setUp(self):
        source = opening.open_source(show_folder() / "quay/carry_bucket.bvh")
        self.baked = {}
        for name, entry in puppets().items():
            self.baked[name] = entry, bake(pair(source, entry), source, entry, frames=(40, 70))[0]

    def written(self, ending, body):
        for name, (entry, baked) in self.baked.items():
            out = self.folder / f"{name}_{body}{ending}"
            delivery.deliver(out, baked, entry, body=body)
            yield entry, baked, out

    def test_joints_by_another_reader_of_gltf(self):
        for body in (False, True):
            for _entry, baked, out in self.written(".glb", body):
                world = independent.Gltf(out).world(10 / baked.rate)
                wanted = joints_at(baked)[10]
                got = np.array([world[n][:3, 3] for n in baked.skeleton.names])
                self.close(got, wanted, 2e-5, out.name)

    def test_skin_by_another_reader_of_gltf(self):
        for entry, baked, out in self.written(".glb", True):
            got = independent.Gltf(out).skinned(10 / baked.rate)
            wanted = body_at(entry, baked, 10)
            self.close(np.sort(got, 0), np.sort(wanted, 0), 5e-5, out.name)

    def test_joints_and_skin_by_usd(self):
        for ending in (".usda", ".usdz"):
            for entry, baked, out in self.written(ending, True):
                metres, turn = self._world(out)
                told = independent.usd_joints(out, 10.0)
                got = np.array([told[n] for n in baked.skeleton.names]) * metres @ turn.T
                self.close(got, joints_at(baked)[10], 5e-5, out.name)
                skin = independent.usd_skinned(out, 10.0) * metres @ turn.T
                low, high = skin.min(0), skin.max(0)
                wanted = body_at(entry, baked, 10)
                self.close([low, high], [wanted.min(0), wanted.max(0)], 2e-3, out.name)

    def _world(self, path):
        """Metres per unit and the turn into Y up, as the stage tells them."""
        from pxr import Usd, UsdGeom

        stage = Usd.Stage.Open(str(path))
        z_up = UsdGeom.GetStageUpAxis(stage) == "Z"
        turn = np.array([[1.0, 0, 0], [0, 0, 1], [0, -1, 0]]) if z_up else np.eye(3)
        return UsdGeom.GetStageMetersPerUnit(stage), turn

    def test_the_validator_of_gltf_finds_nothing(self):
        if independent.gltf_complaints(next(iter(self.written(".glb", False)))[2]) is None:
            self.skipTest("Node, or the validator, can't be had here")
        for ending, body in ((".glb", True), (".gltf", True), (".gltf", False), (".vrma", False)):
            for _, _, out in self.written(ending, body):
                self.assertEqual(independent.gltf_complaints(out), [], out.name)
        for path in (show_folder() / "puppets/bodies").glob("[HG]*"):
            self.assertEqual(independent.gltf_complaints(path), [], path.name)

    def test_the_compliance_check_of_usd_finds_nothing(self):
        for ending, body in ((".usda", False), (".usdc", True), (".usdz", True)):
            for _, _, out in self.written(ending, body):
                self.assertEqual(independent.usd_complaints(out), [], out.name)


class Survival(Case):
    def test_what_is_not_known_here_survives_to_the_letter(self):
        """Skin, materials, extras and extensions of a character that is delivered with its body."""
        from young_marionette.formats.gltf.container import as_glb, load
        from young_marionette.formats.gltf.reader import merged

        binary, document = merged(load(show_folder() / "puppets/bodies/Heron.vrm"))
        for node in document["nodes"]:
            node["name"] = node["name"].replace("_LOD1", "_spare")  # one level, so that all of it is delivered
        for mesh in document["meshes"]:
            mesh["name"] = mesh["name"].replace("_LOD1", "_spare")
        document["extras"] = {"workshop": "third floor", "drawer": 7}
        document["materials"][0]["extensions"] = {"HARBOUR_varnish": {"coats": 3}}
        document["nodes"][3]["extras"] = {"glued": True}
        document["extensionsUsed"].append("HARBOUR_varnish")
        document["meshes"][0]["extras"]["note"] = "öl"
        path = self.folder / "rig.glb"
        path.write_bytes(b"".join(bytes(c) for c in as_glb(document, binary)))
        rig, source = opening.open_rig(path), opening.open_source(show_folder() / "quay/light_lamp.bvh")
        out = self.folder / "out.glb"
        delivery.deliver(out, bake(pair(source, rig), source, rig, frames=(0, 30))[0], rig, body=True)
        old, new = load(path), load(out)
        for key in ("extras", "materials", "meshes", "nodes", "skins", "images", "textures", "scenes", "extensions"):
            if key in old.document:
                ours, theirs = (json.loads(json.dumps(d.document[key])) for d in (new, old))
                self.assertEqual(ours, theirs, key)
        from young_marionette.formats.gltf.accessors import Accessors

        here, there = Accessors(new), Accessors(old)
        used = {a for m in old.document["meshes"] for p in m["primitives"] for a in p["attributes"].values()}
        for number in used | {s["inverseBindMatrices"] for s in old.document["skins"]}:
            self.close(here.array(number), there.array(number), 0)
        # The rest clip that came with the rig is gone, and its data with it.
        self.assertEqual(len(new.document["animations"]), 1)

    def test_levels_of_detail_can_be_chosen(self):
        for name, entry in puppets().items():
            self.assertEqual(entry.character.levels, (0, 1), name)
            coarse = entry.corrected(level=1)
            count = [sum(len(m.triangles) for m in e.placed_character.meshes) for e in (entry, coarse)]
            self.assertLess(1.5 * count[1], count[0])
            out = self.folder / f"{name}.usda"
            delivery.convert(coarse, out)
            again = opening.open_rig(out)
            self.assertEqual(sum(len(m.triangles) for m in again.character.meshes), count[1])
