"""Reading glTF: transforms, interpolations, accessors, several skeletons and animations, VRM; each with known answers."""

import base64
import copy
import json

import numpy as np

from tests.formats import independent
from tests.support import Case, dense_clips, joints_at, notes_of, onto, show_folder
from young_marionette.core import rotations as rot
from young_marionette.core.keys.keyed import dense
from young_marionette.core.kinematics import forward
from young_marionette.formats import read
from young_marionette.formats.gltf.container import as_glb, load
from young_marionette.formats.gltf.reader import merged
from young_marionette.project import bakes, delivery, opening
from young_marionette.project.entry import entries_of
from young_marionette.project.pairing import pair

QUARTER = [0.0, 0.0, np.sqrt(0.5), np.sqrt(0.5)]


class Document:
    """A small glTF document, made by hand: a chain of three nodes, and animations as asked."""

    def __init__(self):
        self.blob = b""
        self.tree = {
            "asset": {"version": "2.0"},
            "scenes": [{"nodes": [0]}],
            "nodes": [
                {"name": "base", "children": [1], "translation": [0, 1, 0]},
                {"name": "middle", "children": [2], "translation": [0, 2, 0]},
                {"name": "end", "translation": [0, 3, 0]},
            ],
            "skins": [{"joints": [0, 1, 2]}],
            "bufferViews": [],
            "accessors": [],
            "animations": [],
        }

    def array(self, values, kind, component=5126, **more):
        types = {5120: "i1", 5121: "u1", 5122: "<i2", 5123: "<u2", 5126: "<f4"}
        raw = np.ascontiguousarray(values, types[component]).tobytes()
        self.tree["bufferViews"].append({"buffer": 0, "byteOffset": len(self.blob), "byteLength": len(raw)})
        self.blob += raw + b"\0" * (-len(raw) % 4)
        view = len(self.tree["bufferViews"]) - 1
        self.tree["accessors"].append(
            {"bufferView": view, "componentType": component, "count": len(values), "type": kind, **more}
        )
        return len(self.tree["accessors"]) - 1

    def animate(self, node, path, times, values, way="LINEAR", name=None, **more):
        width = {"translation": "VEC3", "rotation": "VEC4", "scale": "VEC3", "weights": "SCALAR"}[path]
        sampler = {
            "input": self.array(np.array(times)[:, None], "SCALAR"),
            "output": self.array(values, width, **more),
            "interpolation": way,
        }
        channel = {"sampler": 0, "target": {"node": node, "path": path}}
        self.tree["animations"].append(
            {"samplers": [sampler], "channels": [channel], **({"name": name} if name else {})}
        )

    def document(self):
        tree = copy.deepcopy(self.tree)
        tree["buffers"] = [{"byteLength": len(self.blob)}] if self.blob else []
        for key in ("animations", "accessors", "bufferViews", "buffers"):
            if not tree[key]:
                del tree[key]
        return tree

    def save(self, path):
        tree = self.document()
        if path.suffix == ".gltf":
            if self.blob:
                tree["buffers"][0]["uri"] = (
                    "data:application/octet-stream;base64," + base64.b64encode(self.blob).decode()
                )
            path.write_text(json.dumps(tree))
        else:
            path.write_bytes(b"".join(as_glb(tree, self.blob)))
        return path


class Small(Case):
    def setUp(self):
        self.doc = Document()

    def read(self, ending=".glb"):
        return read(self.doc.save(self.folder / f"a{ending}"))

    def ends(self, clip):
        """Where the last joint is, frame by frame."""
        return forward(clip)[0][:, -1]


class Compressed(Small):
    def test_a_body_that_is_compressed_leaves_skeleton_and_motion(self):
        self.doc.animate(1, "rotation", [0, 1 / 30, 2 / 30], [QUARTER] * 3)
        part = {"attributes": {"POSITION": 0}, "extensions": {"KHR_draco_mesh_compression": {"bufferView": 0}}}
        self.doc.tree["meshes"] = [{"name": "coat", "primitives": [part]}]
        self.doc.tree["nodes"].append({"mesh": 0, "skin": 0})
        self.doc.tree["extensionsRequired"] = self.doc.tree["extensionsUsed"] = ["KHR_draco_mesh_compression"]
        entries = entries_of(self.read())
        self.assertEqual([e.clip.frames for e in entries], [3])
        self.assertIsNone(entries[0].character)
        self.assertIn(
            "Its body can't be used: a.glb: a mesh that Draco compressed can't be decoded", notes_of(entries[0])
        )


class Transforms(Small):
    def test_plain_matrix_and_uri(self):
        self.doc.tree["nodes"][1] = {
            "name": "middle",
            "children": [2],
            "matrix": [0, 1, 0, 0, -1, 0, 0, 0, 0, 0, 1, 0, 0, 2, 0, 1],
        }
        self.doc.animate(2, "rotation", [0, 1 / 30, 2 / 30], [QUARTER] * 3)
        for ending in (".glb", ".gltf"):
            skeleton = self.read(ending).skeletons[0].skeleton
            self.assertEqual(skeleton.names, ("base", "middle", "end"))
            # A quarter turn of the middle lays what is above it along -X.
            self.close(skeleton.rest_world[0], [[0, 1, 0], [0, 3, 0], [-3, 3, 0]], 1e-6)

    def test_scales_are_in_the_offsets(self):
        self.doc.tree["nodes"][0]["scale"] = [2, 2, 2]
        self.doc.tree["nodes"][1]["scale"] = [0.5, 0.5, 0.5]
        self.doc.animate(1, "translation", [0, 1 / 30, 2 / 30], [[0, 2, 0], [0, 4, 0], [1, 2, 0]])
        clip = dense_clips(self.read())[0]
        self.close(
            forward(clip)[0][:, 1:], [[[0, 5, 0], [0, 8, 0]], [[0, 9, 0], [0, 12, 0]], [[2, 5, 0], [2, 8, 0]]], 1e-6
        )

    def test_scales_over_time_move_what_is_below(self):
        self.doc.tree["nodes"][0]["scale"] = [2, 2, 2]
        self.doc.animate(1, "translation", [0, 1 / 30, 2 / 30], [[0, 2, 0], [0, 4, 0], [1, 2, 0]])
        animation = self.doc.tree["animations"][0]
        for node, factors in ((0, [2, 4, 2]), (1, [1, 1, 3])):
            self.doc.animate(node, "scale", [0, 1 / 30, 2 / 30], np.outer(factors, [1, 1, 1]))
            more = self.doc.tree["animations"].pop()
            animation["channels"].append({**more["channels"][0], "sampler": len(animation["samplers"])})
            animation["samplers"] += more["samplers"]
        file = self.read()
        expected = [[[0, 5, 0], [0, 11, 0]], [[0, 17, 0], [0, 29, 0]], [[2, 5, 0], [2, 23, 0]]]
        self.close(forward(dense_clips(file)[0])[0][:, 1:], expected, 1e-5)
        self.assertIn("scales base and 1 more over time", notes_of(file.skeletons[0]))
        # What is written again has its joints at the same places, without scales that change.
        for ending in (".glb", ".usdc"):
            delivery.convert(opening.open_any(self.folder / "a.glb"), self.folder / f"b{ending}")
            again = read(self.folder / f"b{ending}")
            self.close(forward(dense_clips(again)[0])[0][:, 1:], expected, 1e-4)

    def test_scales_below_zero_mirror_what_is_below(self):
        """Mirrors by scales and by matrices, at joints and over the root, with motion; others' code tells the places."""
        rng = np.random.default_rng(3)
        for case in range(12):
            self.doc = Document()
            nodes = self.doc.tree["nodes"]
            for node in nodes[:2]:
                node["scale"] = (rng.choice([-1, 1], 3) * 0.5 * rng.integers(1, 4)).tolist()
                node["rotation"] = rot.normalise(rng.normal(size=4)).tolist()
            turned = [rot.normalise(rng.normal(size=4)).tolist() for _ in range(3)]
            self.doc.animate(case % 2, "rotation", [0, 0.1, 0.2], turned)
            if case % 3:
                over = {"name": "over", "children": [0]}
                if case % 3 == 1:
                    over["matrix"] = np.diag([-2.0, 2, 2, 1]).ravel().tolist()
                else:
                    over.update(scale=[2, 2, -2], rotation=rot.normalise(rng.normal(size=4)).tolist())
                nodes.append(over)
                self.doc.tree["scenes"][0]["nodes"] = [3]
            clip = dense_clips(self.read())[0]
            told = independent.Gltf(self.folder / "a.glb")
            delivery.convert(opening.open_any(self.folder / "a.glb"), self.folder / "b.glb", overwrite=True)
            again = independent.Gltf(self.folder / "b.glb")
            for key in range(3):
                places = forward(clip)[0][round(key * 0.1 * clip.rate)]
                for name, place in zip(clip.skeleton.names, places):
                    for file in (told, again):
                        self.close(file.world(key * 0.1)[name][:3, 3], place, 1e-4, f"{case}: {name}")

    def test_a_root_under_a_turned_and_scaled_node(self):
        self.doc.tree["nodes"].append({"name": "Armature", "rotation": QUARTER, "scale": [10, 10, 10], "children": [0]})
        self.doc.tree["scenes"][0]["nodes"] = [3]
        self.doc.animate(0, "translation", [0, 1 / 30, 2 / 30], [[0, 1, 0], [0, 2, 0], [1, 1, 0]])
        clip = dense_clips(self.read())[0]
        self.assertEqual(len(clip.skeleton), 3)
        self.close(forward(clip)[0][:, 0], [[-10, 0, 0], [-20, 0, 0], [-10, 10, 0]], 1e-5)
        self.close(self.ends(clip)[0], [-60, 0, 0], 1e-5)

    def test_names_that_are_missing_or_double(self):
        self.doc.tree["nodes"][1]["name"] = "base"
        del self.doc.tree["nodes"][2]["name"]
        file = self.read()
        self.assertEqual(file.skeletons[0].skeleton.names, ("base", "base_2", "node_2"))
        self.assertIn("share their names", notes_of(file.skeletons[0]))

    def test_joints_that_no_skin_lists(self):
        self.doc.tree["skins"][0]["joints"] = [0, 1]
        self.doc.tree["nodes"].append({"name": "prop"})
        self.doc.tree["nodes"][1]["children"].append(3)
        self.assertEqual(self.read().skeletons[0].skeleton.names, ("base", "middle", "end", "prop"))

    def test_several_skeletons(self):
        self.doc.tree["nodes"] += [
            {"name": "other", "children": [4], "translation": [5, 0, 0]},
            {"name": "tip", "translation": [0, 1, 0]},
        ]
        self.doc.tree["scenes"][0]["nodes"].append(3)
        self.doc.tree["skins"].append({"joints": [3, 4]})
        self.doc.animate(0, "rotation", [0, 0.1, 0.2], [QUARTER] * 3, name="first")
        self.doc.animate(3, "rotation", [0, 0.1, 0.2], [QUARTER] * 3, name="second")
        file = self.read()
        self.assertEqual([f.skeleton.names[0] for f in file.skeletons], ["base", "other"])
        self.assertEqual([c.name for f in file.skeletons for c in f.clips], ["a: first", "a: second"])
        path = self.folder / "a.glb"
        self.assertEqual(opening.open_rig(path, "other").skeleton.names, ("other", "tip"))
        self.refuses(lambda: opening.open_rig(path, "third"), "no skeleton third")
        self.assertEqual(opening.open_source(path, clip="second").skeleton.names[0], "other")


class Interpolations(Small):
    def test_step_linear_and_cubic(self):
        times = np.arange(0, 1.01, 0.5)
        self.doc.animate(0, "translation", times, [[0, 1, 0], [2, 1, 0], [2, 1, 0]], "STEP", name="step")
        self.doc.animate(0, "translation", times, [[0, 1, 0], [2, 1, 0], [2, 1, 0]], "LINEAR", name="linear")
        keys = [[[0, 0, 0], [0, 1, 0], [4, 0, 0]], [[4, 0, 0], [2, 1, 0], [0, 0, 0]], [[0, 0, 0], [2, 1, 0], [0, 0, 0]]]
        self.doc.animate(0, "translation", times, np.reshape(keys, (9, 3)), "CUBICSPLINE", name="cubic")
        step, linear, cubic = dense_clips(self.read())
        for clip in (step, linear, cubic):
            self.assertEqual((clip.rate, clip.seconds), (24.0, 1.0))
        at = np.arange(25) / 24
        self.close(forward(step)[0][:, 0, 0], np.where(at < 0.5, 0, 2), 1e-6)
        self.close(forward(linear)[0][:, 0, 0], np.minimum(at * 4, 2), 1e-6)
        # Tangents of the straight line: the curve is that line.
        self.close(forward(cubic)[0][:, 0, 0], np.minimum(at * 4, 2), 1e-6)

    def test_turns_go_the_short_way(self):
        self.doc.animate(0, "rotation", [0, 1], [[0, 0, 0, 1], [-v for v in QUARTER]])
        clip = dense_clips(self.read())[0]
        angles = np.degrees(rot.angle(clip.rotations[:, 0]))
        self.close(angles, np.linspace(0, 90, clip.frames), 1e-4)

    def test_rates(self):
        for rate in (24, 25, 30, 60, 100, 120, 30000 / 1001):
            doc = Document()
            times = np.arange(40) / rate
            doc.animate(0, "translation", times, np.stack([times, times * 0 + 1, times * 0], 1))
            clip = dense_clips(read(doc.save(self.folder / "r.glb")))[0]
            self.close(clip.rate, rate, 1e-9)
            self.assertEqual(clip.frames, 40)
        self.doc.animate(0, "translation", [0, 0.3137, 1.7713], [[0, 1, 0]] * 3)
        file = self.read()
        self.assertIn("no frames of a usual rate", notes_of(file.skeletons[0]))

    def test_junk_and_real_ones(self):
        self.doc.animate(0, "rotation", [0], [QUARTER], name="pose")
        self.doc.animate(0, "rotation", np.arange(30) / 30, [QUARTER] * 30, name="walk")
        entries = entries_of(self.read())
        self.assertEqual([e.clip.frames for e in entries], [1, 30])
        self.assertTrue(any(o.code == "short" for o in entries[0].oddities))


class AccessorKinds(Small):
    def test_normalised_and_sparse(self):
        short = np.round(np.array([QUARTER, [0, 0, 0, 1], QUARTER]) * 32767)
        times = np.arange(3) / 30
        self.doc.animate(0, "rotation", times, short, component=5122, normalized=True)
        self.doc.animate(1, "translation", times, np.zeros((3, 3)))
        number = len(self.doc.tree["accessors"]) - 1
        where = self.doc.array([[1]], "SCALAR", 5121)
        what = self.doc.array([[0, 7, 0]], "VEC3")
        views = [self.doc.tree["accessors"][n]["bufferView"] for n in (where, what)]
        self.doc.tree["accessors"][number]["sparse"] = {
            "count": 1,
            "indices": {"bufferView": views[0], "componentType": 5121},
            "values": {"bufferView": views[1]},
        }
        turned, moved = map(dense, self.read().skeletons[0].parted)  # of different joints: one take otherwise
        self.close(np.degrees(rot.angle(turned.rotations[:, 0])), [90, 0, 90], 0.01)
        self.close(moved.translations[:, -1, 1], [0, 7, 0], 1e-6)


class Vrm(Case):
    def heron(self):
        return merged(load(show_folder() / "puppets/bodies/Heron.vrm"))

    def test_the_table_ties_with_full_certainty(self):
        rig = opening.open_rig(show_folder() / "puppets/bodies/Heron.vrm")
        self.assertEqual((rig.format, rig.figure.body.tabled), ("VRM 1.0", True))
        strings = pair(rig, rig).strings
        self.assertTrue(all(s.certainty == 1.0 for s in strings if not s.part.endswith("twist")))

    def test_it_is_believed_whatever_the_names_say(self):
        """Bones named by numbers, left and right words exchanged: the table is what counts. Both versions of VRM."""
        binary, document = self.heron()
        right = {"left": "right", "right": "left"}
        for number, node in enumerate(document["nodes"]):
            word = next((w for w in right if node["name"].startswith(w)), None)
            node["name"] = f"{right[word]}_{number}" if word else f"bone_{number}"
        for old in (False, True):
            tree = copy.deepcopy(document)
            if old:
                bones = tree["extensions"].pop("VRMC_vrm")["humanoid"]["humanBones"]
                table = [{"bone": b, "node": e["node"]} for b, e in bones.items()]
                tree["extensions"]["VRM"] = {"humanoid": {"humanBones": table}}
                tree["extensionsUsed"] = ["VRM"]
            path = self.folder / f"{old}.vrm"
            path.write_bytes(b"".join(bytes(c) for c in as_glb(tree, binary)))
            rig = opening.open_rig(path)
            self.assertEqual(rig.format, "VRM 0.x" if old else "VRM 1.0")
            parts = {p: [rig.layout.tree.nodes[j] for j in run] for p, run in rig.figure.body.parts.items()}
            told = document["extensions"]["VRMC_vrm"]["humanoid"]["humanBones"]
            for part, bone in (("left forearm", "leftLowerArm"), ("right foot", "rightFoot"), ("hips", "hips")):
                self.assertEqual(parts[part], [told[bone]["node"]])
            self.assertFalse(rig.figure.body.sides_swapped)

    def test_expressions(self):
        """A curve by the name of an expression moves the morphs that the file makes it of, on the stage and in files."""
        from dataclasses import replace

        from tests.formats.independent import Gltf, _accessor

        rig = opening.open_rig(show_folder() / "puppets/bodies/Heron.vrm")
        source = opening.open_source(show_folder() / "quay/light_lamp.bvh")
        clip = source.clip.cut(0, 20)
        source = replace(source, take=replace(clip, morphs=("aa", "happy"), weights=np.linspace([0, 1], [1, 0], 21)))
        baked = bakes.baked(pair(source, rig), source, rig)[0]
        self.assertEqual(rig.with_morphs(baked).morphs, ("happy", "jaw_open"))
        self.close(rig.with_morphs(baked).weights[:, 1], np.linspace(0, 1, 21), 1e-9)
        out = self.folder / "a.glb"
        delivery.deliver(out, baked, rig, body=True)
        g = Gltf(out).g
        channel = next(c for c in g.animations[0].channels if c.target.path == "weights")
        values = _accessor(g, g.animations[0].samplers[channel.sampler].output).reshape(21, -1)
        names = g.meshes[g.nodes[channel.target.node].mesh].extras["targetNames"]
        self.close(values[:, names.index("jaw_open")], np.linspace(0, 1, 21), 1e-6)
        # And as an animation for VRM, by its own names.
        delivery.deliver(self.folder / "a.vrma", baked, rig)
        again = dense_clips(read(self.folder / "a.vrma"))[0]
        self.assertEqual(again.morphs, ("aa", "happy"))
        self.close(again.weights, baked.weights, 1e-6)

    def test_animation_for_vrm(self):
        """The bones of the table, resting in a T-pose, with the motion of the rig."""
        source = opening.open_source(show_folder() / "quay/wave_to_ship.bvh")
        rig = opening.open_rig(show_folder() / "puppets/bodies/Heron.vrm")
        out = self.folder / "a.vrma"
        onto(source, rig, pair(source, rig), out, frames=(0, 60))
        file = read(out)
        self.assertEqual(file.format, "VRM animation")
        self.assertEqual(len(file.skeletons[0].declared.bones), 21)
        points = file.skeletons[0].skeleton.rest_world[0]
        for side, sign in (("left", 1), ("right", -1)):
            arm = (
                points[file.skeletons[0].skeleton.index[f"{side}Hand"]]
                - points[file.skeletons[0].skeleton.index[f"{side}UpperArm"]]
            )
            self.close(arm / np.linalg.norm(arm), [sign, 0, 0], 1e-5)
        baked = bakes.baked(pair(source, rig), source, rig, frames=(0, 60))[0]
        here = [file.skeletons[0].skeleton.index[n] for n in baked.skeleton.names]
        self.close(joints_at(dense_clips(file)[0])[:, here], joints_at(baked), 1e-5)

    def test_a_picture_is_written_once_however_many_materials_wear_it(self):
        from pygltflib import GLTF2

        rig = opening.open_rig(show_folder() / "puppets/bodies/Puffin.usdz")
        delivery.convert(rig, self.folder / "a.glb")
        g = GLTF2().load(str(self.folder / "a.glb"))
        wearing = [m.pbrMetallicRoughness.baseColorTexture for m in g.materials]
        wearing = [g.textures[t.index].source for t in wearing if t is not None]
        views = [g.bufferViews[i.bufferView] for i in g.images]
        pictures = [g.binary_blob()[v.byteOffset or 0 :][: v.byteLength] for v in views]
        self.assertGreater(len(wearing), len(set(pictures)))
        self.assertEqual(len(pictures), len(set(pictures)))
        self.assertEqual(set(wearing), set(range(len(pictures))))
