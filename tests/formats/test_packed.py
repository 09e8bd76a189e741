"""Packed characters: compressed by meshopt and Draco, with an animation for each joint; skeleton, motion and body come out the same."""

import numpy as np

from tests.formats import independent
from tests.support import Case, dense_clips, joints_at, notes_of, show_folder
from young_marionette.formats import read
from young_marionette.formats.gltf.container import as_glb, load
from young_marionette.project import opening
from young_marionette.project.entry import entries_of

EXTENSION = "EXT_meshopt_compression"


def packed_by_meshopt(path, out):
    """The same file with every bufferView that has rows of four bytes compressed; what it becomes is told by a hollow buffer."""
    import meshopt

    container = load(path)
    document, binary, blob = container.document, bytes(container.buffers[0]), b""
    sizes = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}
    of_view = {a["bufferView"]: a for a in document["accessors"] if "bufferView" in a}
    hollow = 0
    for number, view in enumerate(document["bufferViews"]):
        start, length = view.get("byteOffset", 0), view["byteLength"]
        raw, accessor = binary[start : start + length], of_view.get(number)
        width = (
            {5121: 1, 5123: 2, 5125: 4, 5126: 4}[accessor["componentType"]] * sizes[accessor["type"]] if accessor else 0
        )
        stride = view.get("byteStride", width)
        if not accessor or stride % 4 or accessor.get("byteOffset") or stride * accessor["count"] != length:
            document["bufferViews"][number] = {**view, "byteOffset": len(blob)}
            blob += raw + b"\0" * (-length % 4)
            continue
        data = meshopt.encode_gltf_buffer(np.frombuffer(raw, np.uint8).reshape(-1, stride), "ATTRIBUTES")
        kept = {k: v for k, v in view.items() if k in ("target", "byteStride")}
        document["bufferViews"][number] = {
            **kept, "buffer": 1, "byteOffset": hollow, "byteLength": length,
            "extensions": {EXTENSION: {"buffer": 0, "byteOffset": len(blob), "byteLength": len(data), "byteStride": stride,
                                       "count": accessor["count"], "mode": "ATTRIBUTES"}},
        }  # fmt: skip
        hollow += length + (-length % 4)
        blob += data + b"\0" * (-len(data) % 4)
    document["buffers"] = [
        {"byteLength": len(blob)},
        {"byteLength": hollow, "extensions": {EXTENSION: {"fallback": True}}},
    ]
    document["extensionsUsed"] = document["extensionsRequired"] = [*document.get("extensionsUsed", []), EXTENSION]
    out.write_bytes(b"".join(map(bytes, as_glb(document, blob))))


def packed_by_draco(path, out):
    """The same file with the meshes compressed by Draco, all attributes under numbers of their own."""
    import DracoPy

    container = load(path)
    document, blob = container.document, bytes(container.buffers[0])
    from young_marionette.formats.gltf.accessors import Accessors

    accessors = Accessors(container)
    for mesh in document["meshes"]:
        for part in mesh["primitives"]:
            own = {name: accessors.array(n) for name, n in part["attributes"].items()}
            more = {k: v.astype("u1") if name == "JOINTS_0" else v for k, (name, v) in enumerate(own.items(), 1)
                    if name not in ("POSITION", "NORMAL", "TEXCOORD_0")}  # fmt: skip
            faces = accessors.array(part["indices"]).reshape(-1, 3)
            data = DracoPy.encode(
                own["POSITION"].astype("f4"), faces.astype("u4"), preserve_order=True, quantization_bits=20,
                normals=own["NORMAL"].astype(float), generic_attributes=more,
            )  # fmt: skip
            found = DracoPy.decode(data)
            kinds = {0: "POSITION", 1: "NORMAL"}
            ids = {kinds[a["attribute_type"]]: a["unique_id"] for a in found.attributes if a["attribute_type"] in kinds}
            ids |= {name: k for k, name in enumerate(own, 1) if k in more}
            part["attributes"] = {name: n for name, n in part["attributes"].items() if name in ids}
            for number in (*part["attributes"].values(), part["indices"]):
                document["accessors"][number].pop("bufferView", None)
            joints = document["accessors"][part["attributes"]["JOINTS_0"]]
            joints["componentType"] = 5121
            document["bufferViews"].append({"buffer": 0, "byteOffset": len(blob), "byteLength": len(data)})
            blob += data + b"\0" * (-len(data) % 4)
            part["extensions"] = {
                "KHR_draco_mesh_compression": {"bufferView": len(document["bufferViews"]) - 1, "attributes": ids}
            }
    document["buffers"] = [{"byteLength": len(blob)}]
    document["extensionsUsed"] = document["extensionsRequired"] = ["KHR_draco_mesh_compression"]
    out.write_bytes(b"".join(map(bytes, as_glb(document, blob))))


class Packed(Case):
    def setUp(self):
        self.plain = show_folder() / "puppets" / "bodies" / "Gull.glb"
        self.file = self.folder / "packed.glb"

    def same(self, within):
        plain, packed = opening.open_rig(self.plain), opening.open_rig(self.file)
        self.assertEqual(plain.skeleton.names, packed.skeleton.names)
        self.close(packed.placed_skeleton.rest_world[0], plain.placed_skeleton.rest_world[0], 1e-6)
        a, b = plain.placed_character.meshes, packed.placed_character.meshes
        self.assertEqual([len(m.points) for m in a], [len(m.points) for m in b])
        for one, other in zip(a, b):
            self.close(one.points, other.points, within)
            self.close(one.weights, other.weights, 1e-3)
            self.assertTrue((one.joints == other.joints).all())

    def test_meshopt(self):
        packed_by_meshopt(self.plain, self.file)
        self.assertLess(self.file.stat().st_size, self.plain.stat().st_size)
        self.same(1e-6)

    def test_draco(self):
        packed_by_draco(self.plain, self.file)
        self.same(1e-4)

    def test_motion_is_written_into_a_packed_file_with_its_body_as_it_was(self):
        from young_marionette import api

        packed_by_meshopt(self.plain, self.file)
        take = api.retarget(
            api.read(show_folder() / "quay" / "wave_to_ship.bvh"), api.read_rig(self.file), frames=(0, 20)
        )
        api.write(take, self.folder / "out.glb")
        written, before = load(self.folder / "out.glb"), load(self.file)

        def packed_bytes(container):
            views = [
                v["extensions"][EXTENSION]
                for v in container.document["bufferViews"]
                if EXTENSION in v.get("extensions", {})
            ]
            return [
                bytes(container.buffers[v["buffer"]][v["byteOffset"] : v["byteOffset"] + v["byteLength"]])
                for v in views
            ]

        kept = packed_bytes(written)
        self.assertGreater(len(kept), 3)
        self.assertLessEqual(set(kept), set(packed_bytes(before)))
        again = opening.open_source(self.folder / "out.glb")
        self.close(joints_at(again.placed_clip), joints_at(take.clip), 1e-5)
        rig = opening.open_rig(self.folder / "out.glb")
        self.assertIsNotNone(rig.character)
        self.assertEqual(
            [c for c in independent.gltf_complaints(self.folder / "out.glb") or () if "EXT_meshopt" not in str(c)], []
        )

    def test_damaged_packed_data_is_one_sentence(self):
        packed_by_meshopt(self.plain, self.file)
        data = bytearray(self.file.read_bytes())
        rng = np.random.default_rng(3)
        from young_marionette.core.errors import InputError

        for _ in range(40):
            broken = bytearray(data)
            at = rng.integers(len(data) // 3, len(data), 12)
            broken[at[0] : at[0] + 40] = rng.integers(0, 256, len(broken[at[0] : at[0] + 40])).astype("u1").tobytes()
            self.file.write_bytes(broken)
            try:
                _ = opening.open_rig(self.file).placed_character
            except InputError as error:
                self.assertNotIn("\n", str(error))


def split_take(folder, joints=None):
    """A GLB of the show's in a folder, beside the whole one, with an animation of its own for each of some joints."""
    from young_marionette import api

    path = folder / "split.glb"
    take = api.take_of(api.read(show_folder() / "quay" / "wave_to_ship.bvh"))
    api.write(take, folder / "whole.glb")
    container = load(folder / "whole.glb")
    (one,) = container.document["animations"]
    by_node = {}
    for channel in one["channels"]:
        by_node.setdefault(channel["target"]["node"], []).append(channel)
    container.document["animations"] = [
        {
            "name": f"joint {n}",
            "samplers": [one["samplers"][c["sampler"]] for c in own],
            "channels": [{**c, "sampler": i} for i, c in enumerate(own)],
        }
        for n, own in list(by_node.items())[:joints]
    ]
    path.write_bytes(b"".join(map(bytes, as_glb(container.document, bytes(container.buffers[0])))))
    return path


class SplitTakes(Case):
    def test_an_animation_for_each_joint_is_one_take(self):
        path = split_take(self.folder)
        file = read(path)
        (clip,) = dense_clips(file)
        (whole,) = dense_clips(read(self.folder / "whole.glb"))
        self.close(joints_at(clip), joints_at(whole), 1e-6)
        self.assertIn("read as one take", notes_of(entries_of(file)[0]))
        single = opening.open_source(path, clip="joint 0")
        self.assertNotEqual(single.name, clip.name)

    def test_takes_of_the_same_joints_stay_apart(self):
        path = split_take(self.folder)
        container = load(path)
        container.document["animations"][1:] = [{**container.document["animations"][0], "name": "again"}]
        path.write_bytes(b"".join(map(bytes, as_glb(container.document, bytes(container.buffers[0])))))
        self.assertEqual(len(read(path).skeletons[0].clips), 2)
