"""Broken and hostile files: one sentence each, soon, in little memory, and nothing read outside of a file's own folder."""

import base64
import copy
import json
import random
import struct
import time
import tracemalloc
import zipfile
from functools import lru_cache

import numpy as np

from tests.formats.test_gltf import Document
from tests.support import Case, show_folder
from young_marionette.core.errors import InputError
from young_marionette.formats import read
from young_marionette.formats.gltf.container import as_glb, load
from young_marionette.formats.gltf.reader import merged
from young_marionette.project import delivery

SPARE = object()
VALUES = (
    SPARE,
    None,
    -1,
    0,
    1,
    7,
    10**9,
    2**63,
    1e308,
    -0.5,
    "",
    "x",
    "../../etc/passwd",
    [],
    {},
    [0],
    [[]],
    {"a": 1},
    True,
)


@lru_cache(maxsize=1)
def small_character():
    """A small GLB with a skin, morphs, textures, a humanoid table and an animation: ``(document, binary)``."""
    binary, document = merged(load(show_folder() / "puppets/bodies/Heron.vrm"))
    return document, binary


def tried(path):
    """Read all of a file; the sentence that refused it, or None. Anything else than InputError is a failure."""
    start = time.monotonic()
    try:
        file = read(path)
        for part in (file, *file.more):
            assert part.layout is None or part.layout.character is None or part.layout.character.meshes
        sentence = None
    except InputError as error:
        sentence = str(error)
        assert sentence.endswith(".") and "\n" not in sentence and len(sentence) < 400, sentence
    assert time.monotonic() - start < 5, f"{path.name} took {time.monotonic() - start:.1f} s"
    return sentence


class Gltf(Case):
    def doc(self, change):
        made = Document()
        made.animate(0, "rotation", [0, 0.1, 0.2], [[0, 0, 0, 1]] * 3)
        tree = made.document()
        change(tree)
        return tree, made.blob

    def test_each_has_its_sentence(self):
        def to(path, value):
            def change(tree):
                for key in path[:-1]:
                    tree = tree[key]
                tree[path[-1]] = value

            return change

        for path, value, word in (
            (("asset", "version"), "1.0", "version"),
            (("nodes", 0, "children"), [1, 1], "two nodes"),
            (("nodes", 2, "children"), [0], "circle"),
            (("nodes", 0, "children"), [99], "two nodes, or is none"),
            (("nodes", 0, "translation"), [0, float("1e300"), 0], "translation"),
            (("nodes", 0, "rotation"), [0, 0, "x", 1], "rotation"),
            (("skins", 0, "joints"), [0, 1, 1], "twice"),
            (("skins", 0, "joints"), [0, 77], "node 77"),
            (("accessors", 0, "count"), 10**9, "past the end"),
            (("accessors", 0, "count"), -3, "whole number"),
            (("accessors", 0, "componentType"), 9, "type"),
            (("accessors", 1, "bufferView"), 55, "bufferView 55"),
            (("bufferViews", 0, "byteOffset"), 10**12, "past the end"),
            (("bufferViews", 0, "byteLength"), 4, "past the end"),
            (("buffers", 0, "byteLength"), 10**12, "should hold"),
            (("animations", 0, "channels", 0, "sampler"), 4, "sampler 4"),
            (("animations", 0, "samplers", 0, "interpolation"), "MAGIC", "interpolation"),
            (("extensionsRequired",), ["SECRET_compression"], "SECRET_compression"),
            (("nodes",), {}, "no list"),
        ):
            self.refused(*self.doc(to(path, value)), word)

    def refused(self, tree, blob, word):
        path = self.folder / "bad.glb"
        path.write_bytes(b"".join(as_glb(tree, blob)))
        self.refuses(lambda: read(path), word)

    def test_numbers_that_are_none(self):
        made = Document()
        made.animate(0, "translation", [0, 0.1, 0.2], [[0, np.nan, 0]] * 3)
        self.refuses(lambda: read(made.save(self.folder / "nan.glb")), "no number")
        made = Document()
        made.animate(0, "translation", [0.2, 0.1, 0.0], [[0, 1, 0]] * 3)
        self.refuses(lambda: read(made.save(self.folder / "back.glb")), "do not rise")
        made = Document()
        made.animate(0, "translation", [0, 500_000], [[0, 1, 0]] * 2)
        self.refuses(lambda: read(made.save(self.folder / "long.glb")), "more than can be used")

    def test_huge_promises_take_no_memory(self):
        made = Document()
        made.tree["accessors"].append({"componentType": 5126, "count": 2**40, "type": "MAT4"})
        made.tree["skins"][0]["inverseBindMatrices"] = 0
        made.tree["meshes"] = [{"primitives": [{"attributes": {"POSITION": 0}}]}]
        made.tree["nodes"].append({"mesh": 0, "skin": 0})
        made.tree["scenes"][0]["nodes"].append(3)
        path = made.save(self.folder / "huge.glb")
        tracemalloc.start()
        layout = read(path).layout
        self.assertIsNone(layout.character)
        self.assertIn("no data", layout.body_problem)
        peak = tracemalloc.get_traced_memory()[1]
        tracemalloc.stop()
        self.assertLess(peak, 20 << 20)

    def test_deep_trees_and_deep_json(self):
        made = Document()
        made.tree["nodes"] = [{"name": f"n{i}", "children": [i + 1]} for i in range(50_000)] + [{"name": "last"}]
        self.assertIn("deep", tried(made.save(self.folder / "deep.gltf")))
        (self.folder / "nested.gltf").write_text('{"asset":' + "[" * 100_000)
        self.assertIsNotNone(tried(self.folder / "nested.gltf"))

    def test_nothing_outside_is_read(self):
        secret = self.folder / "secret.bin"
        secret.write_bytes(b"\0" * 64)
        inner = self.folder / "inner"
        inner.mkdir()
        (inner / "link.bin").symlink_to(secret)
        for uri in (
            "../secret.bin", "%2e%2e/secret.bin", str(secret), f"file://{secret}", "http://example.invalid/x.bin",
            "//host/x.bin", "link.bin", "inner/../../secret.bin",
        ):  # fmt: skip
            made = Document()
            made.animate(0, "rotation", [0, 0.1, 0.2], [[0, 0, 0, 1]] * 3)
            tree = made.document()
            tree["buffers"][0]["uri"] = uri
            path = inner / "a.gltf"
            path.write_text(json.dumps(tree))
            self.refuses(lambda p=path: read(p), "a.gltf")
        (inner / "beside.bin").write_bytes(made.blob)
        tree["buffers"][0]["uri"] = "beside.bin"
        path.write_text(json.dumps(tree))
        self.assertIsNone(tried(path))

    def test_cut_at_any_byte(self):
        made = Document()
        made.animate(0, "rotation", np.arange(5) / 30, [[0, 0, 0, 1]] * 5)
        data = made.save(self.folder / "whole.glb").read_bytes()
        for cut in range(0, len(data), 7):
            (self.folder / "cut.glb").write_bytes(data[:cut])
            self.assertIsNotNone(tried(self.folder / "cut.glb"), cut)
        text = made.save(self.folder / "whole.gltf").read_bytes()
        for cut in range(0, len(text), 97):
            (self.folder / "cut.gltf").write_bytes(text[:cut])
            self.assertIsNotNone(tried(self.folder / "cut.gltf"), cut)

    def test_any_value_anywhere(self):
        """Every place in the JSON of a whole character, with values that don't belong there."""
        document, binary = small_character()
        rng, path = random.Random(3), self.folder / "odd.glb"
        places = list(_places(document))
        refused = 0
        for _ in range(250):
            tree = copy.deepcopy(document)
            for _ in range(rng.choice((1, 1, 2))):
                *way, last = rng.choice(places)
                at = tree
                try:
                    for key in way:
                        at = at[key]
                    value = rng.choice(VALUES)
                    if value is SPARE:
                        del at[last]
                    else:
                        at[last] = value
                except (KeyError, IndexError, TypeError):
                    continue
            path.write_bytes(b"".join(bytes(c) for c in as_glb(tree, binary)))
            refused += tried(path) is not None
        self.assertGreater(refused, 20)


def _places(tree, way=()):
    for key, value in tree.items() if isinstance(tree, dict) else enumerate(tree[:40]):
        yield (*way, key)
        if isinstance(value, dict | list):
            yield from _places(value, (*way, key))


class Usd(Case):
    def usda(self, text, name="a.usda"):
        path = self.folder / name
        path.write_text("#usda 1.0\n" + text)
        return path

    def test_layers_outside_are_not_read(self):
        secret = self.folder / "secret.usda"
        secret.write_text('#usda 1.0\ndef Xform "x" {}\n')
        inner = self.folder / "inner"
        inner.mkdir()
        for place in ("../secret.usda", str(secret), "http://example.invalid/x.usda", "none.usda"):
            for text in (
                f"(subLayers = [@{place}@])\n",
                f'def SkelRoot "r" (references = @{place}@) {{}}\n',
                f'def SkelRoot "r" (payload = @{place}@) {{}}\n',
            ):
                path = inner / "a.usda"
                path.write_text("#usda 1.0\n" + text)
                self.refuses(lambda p=path: read(p), "a.usda")

    def test_textures_outside_are_not_read(self):
        rig = delivery.open_rig(show_folder() / "puppets/bodies/Puffin.usdz")
        inner = self.folder / "inner"
        inner.mkdir()
        delivery.convert(rig, inner / "a.usda")
        text = (inner / "a.usda").read_text()
        (self.folder / "secret.png").write_bytes(b"\x89PNG secret")
        (picture,) = (inner / "a_textures").iterdir()
        self.assertIn(f"./a_textures/{picture.name}", text)
        (inner / "b.usda").write_text(text.replace(f"./a_textures/{picture.name}", "../secret.png"))
        self.refuses(lambda: read(inner / "b.usda"), "outside")

    def test_packages(self):
        whole = (show_folder() / "puppets/bodies/Puffin.usdz").read_bytes()
        path = self.folder / "p.usdz"
        with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as z:
            z.writestr("bomb.usda", b"#usda 1.0\n" + b" " * (64 << 20))
        self.refuses(lambda: read(path), "stored as they are")
        with zipfile.ZipFile(path, "w") as z:
            z.writestr("../../out.usda", b"#usda 1.0\n")
        self.refuses(lambda: read(path), "outside")
        for cut in range(0, len(whole), len(whole) // 12):
            path.write_bytes(whole[:cut])
            self.assertIsNotNone(tried(path))
        path.write_bytes(whole.replace(b"\x89PNG", b"\x89PNX", 1))
        self.refuses(lambda: read(path), "a part of it is damaged")

    def test_joints_and_numbers(self):
        good = """def SkelRoot "r"
{
    def Skeleton "s"
    {
        uniform token[] joints = [%s]
        uniform matrix4d[] restTransforms = [%s]
    }
}
"""
        one = "((1,0,0,0),(0,1,0,0),(0,0,1,0),(0,0,0,1))"
        self.assertIsNone(tried(self.usda(good % ('"a", "a/b"', f"{one}, {one}"))))
        self.refuses(lambda: read(self.usda(good % ('"a", "a"', f"{one}, {one}"))), "twice")
        self.refuses(lambda: read(self.usda(good % ("", ""))), "no joints")
        self.refuses(lambda: read(self.usda(good % ('"a"', one.replace("(1,", "(nan,")))), "no number")
        self.refuses(lambda: read(self.usda(good % ('"a", "b"', one))), "neither rest nor bind")
        self.refuses(lambda: read(self.usda('def Xform "x" {}\n')), "no skeleton")

    def test_damaged_files_end_their_own_process_and_nothing_else(self):
        """Bytes changed at random in a binary layer, some of which end the library that reads them."""
        from young_marionette.formats.usd.worker import WORKER

        source = delivery.open_source(show_folder() / "quay/light_lamp.bvh")
        delivery.convert(source, self.folder / "a.usdc", frames=(0, 10))
        sound, path = (self.folder / "a.usdc").read_bytes(), self.folder / "b.usdc"
        self.assertIsNone(tried(self.folder / "a.usdc"))
        process, gave_up = WORKER.process, 0
        for seed in range(30):
            rng, broken = random.Random(seed), bytearray(sound)
            # Tables stand at both ends of a layer: they break the library, values hardly ever do.
            for _ in range(rng.randrange(1, 30)):
                at = len(broken) - 1 - rng.randrange(3000) if seed % 2 else rng.randrange(4000)
                broken[at] = rng.randrange(256)
            path.write_bytes(broken)
            gave_up += "gives up" in (tried(path) or "")
            path.write_bytes(sound[: rng.randrange(len(sound))])
            self.assertIsNotNone(tried(path))
        self.assertGreater(gave_up, 0)
        self.assertIs(WORKER.process, process)
        self.assertIsNone(process.poll())
        self.assertIsNone(tried(self.folder / "a.usdc"))

    def test_what_takes_too_long_is_ended(self):
        from unittest import mock

        path = show_folder() / "puppets/bodies/Puffin.usdz"
        with mock.patch("young_marionette.formats.usd.worker.PATIENCE", 0.005 - path.stat().st_size / 4e6):
            self.refuses(lambda: read(path), "took more than")
        self.assertIsNone(tried(path))

    def test_a_process_that_died_is_started_anew(self):
        from young_marionette.formats.usd.worker import WORKER

        source = delivery.open_source(show_folder() / "quay/light_lamp.bvh")
        delivery.convert(source, self.folder / "a.usdc", frames=(0, 5))
        self.assertIsNone(tried(self.folder / "a.usdc"))
        WORKER.process.kill()
        WORKER.process.wait()
        self.assertIsNone(tried(self.folder / "a.usdc"))


class Containers(Case):
    def test_headers_of_glb(self):
        path = self.folder / "a.glb"
        for data in (
            b"glTF", struct.pack("<4sII", b"glTF", 1, 20) + bytes(8), struct.pack("<4sIIII", b"glTF", 2, 10**9, 10**9, 0x4E4F534A),
            struct.pack("<4sIIII", b"glTF", 2, 24, 4, 0x004E4942) + b"{}  ", struct.pack("<4sIIII", b"glTF", 2, 24, 4, 0x4E4F534A) + b"{}  ",
        ):  # fmt: skip
            path.write_bytes(data)
            self.assertIsNotNone(tried(path))
        path = self.folder / "a.gltf"
        path.write_text(
            json.dumps({"asset": {"version": "2.0"}, "buffers": [{"byteLength": 9, "uri": "data:x;base64,@@@"}]})
        )
        self.refuses(lambda: read(path), "decoded")
        path.write_text(
            json.dumps(
                {
                    "asset": {"version": "2.0"},
                    "buffers": [{"byteLength": 9, "uri": "data:x;base64," + base64.b64encode(b"ab").decode()}],
                }
            )
        )
        self.refuses(lambda: read(path), "should hold")
