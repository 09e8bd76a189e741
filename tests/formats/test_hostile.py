"""Broken and hostile files: one sentence each, soon, in little memory, and nothing read outside of a file's own folder."""

import base64
import copy
import json
import random
import signal
import struct
import subprocess
import sys
import time
import tracemalloc
import zipfile
from functools import lru_cache
from pathlib import Path

import numpy as np

from tests.formats.test_gltf import Document
from tests.support import Case, dense_clips, show_folder
from young_marionette.core.clip import Clip
from young_marionette.core.errors import InputError
from young_marionette.core.skeleton import Skeleton
from young_marionette.formats import read, write
from young_marionette.formats.gltf.container import as_glb, load
from young_marionette.formats.gltf.reader import merged
from young_marionette.project import delivery, opening, storage
from young_marionette.project.document import State
from young_marionette.project.entry import entries_of

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
        for part in file.skeletons:
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
            (("nodes", 0, "children"), [1, 1], "two parents"),
            (("nodes", 2, "children"), [0], "circle"),
            (("nodes", 0, "children"), [99], "two parents, or does not exist"),
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
            (("nodes",), {}, "not a list"),
        ):
            self.refused(*self.doc(to(path, value)), word)

    def refused(self, tree, blob, word):
        path = self.folder / "bad.glb"
        path.write_bytes(b"".join(as_glb(tree, blob)))
        self.refuses(lambda: read(path), word)

    def test_numbers_that_are_none(self):
        made = Document()
        made.animate(0, "translation", [0, 0.1, 0.2], [[0, np.nan, 0]] * 3)
        self.refuses(lambda: read(made.save(self.folder / "nan.glb")), "not a number")
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
        layout = read(path).skeletons[0].layout
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
        rig = opening.open_rig(show_folder() / "puppets/bodies/Puffin.usdz")
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

    def package(self, *parts):
        path = self.folder / "inner" / "p.usdz"
        path.parent.mkdir(exist_ok=True)
        with zipfile.ZipFile(path, "w") as z:
            for name, text in parts:
                z.writestr(name, text if isinstance(text, bytes) else "#usda 1.0\n" + text)
        return path

    def test_packages_draw_in_nothing_from_outside(self):
        """One check for all kinds: what is refused as a single layer is refused in a package, at any depth in it."""
        secret = self.folder / "secret.usda"
        secret.write_text('#usda 1.0\ndef Xform "x" {}\n')
        (self.folder / "inner").mkdir()
        (self.folder / "inner/beside.usda").write_text(secret.read_text())
        places = ("../secret.usda", str(secret), "beside.usda", "./beside.usda", "http://example.invalid/x.usda",
                  "../inner/beside.usda", "sub/../../secret.usda", f"other.usdz[{secret}]", "none.usda")  # fmt: skip
        for place in places:
            for text in (
                f"(subLayers = [@{place}@])\n",
                f'def SkelRoot "r" (references = @{place}@) {{}}\n',
                f'def SkelRoot "r" (payload = @{place}@) {{}}\n',
                f'def "r" (variants = {{string v = "a"}}\nprepend variantSets = "v") {{variantSet "v" = {{"a" (payload = @{place}@) {{}}}}}}\n',
                f'def "r" (clips = {{dictionary default = {{asset[] assetPaths = [@{place}@]}}}}) {{}}\n',
            ):
                for parts in ((("a.usda", text),), (("a.usda", "(subLayers = [@./b.usda@])\n"), ("b.usda", text))):
                    path = self.package(*parts)
                    sentence = self.refuses(lambda p=path: read(p), "p.usdz")
                    self.assertNotIn("no skeleton", sentence, (place, text))
        with self.subTest("what lies in the package is read"):
            path = self.package(("a.usda", "(subLayers = [@./sub/b.usda@])\n"), ("sub/b.usda", 'def Xform "x" {}\n'))
            self.refuses(lambda: read(path), "no skeleton")
        self.refuses(lambda: read(self.package(("inner.usdz", b"PK\x03\x04"))), "first part")

    def test_a_damaged_file_has_little_time_and_memory(self):
        """A text that unfolds into more than can be held, and one that would take for ever."""
        huge = 'def Xform "x" {\n' + "int[] a = [" + ",".join(["7"] * 50) + "]\n" + "}\n"
        self.refuses(lambda: read(self.usda(huge)), "no skeleton")
        code = (
            f"import sys; sys.path.insert(0, {str(Path.cwd())!r})\nimport os, resource\n"
            "from young_marionette.formats.usd import server\n"
            "before = server._taken(); server._limit(40_000, 4.0)\n"
            "try: bytearray(700 << 20); print('taken')\n"
            "except MemoryError: print('refused')\n"
            "print(resource.getrlimit(resource.RLIMIT_AS)[0] - before <= 600 << 20)\nwhile True: pass\n"
        )
        began = time.monotonic()
        done = subprocess.run([sys.executable, "-u", "-c", code], capture_output=True, text=True, timeout=30)
        self.assertEqual(done.stdout.split(), ["refused", "True"], done.stderr)
        self.assertEqual(done.returncode, -signal.SIGALRM)
        self.assertLess(time.monotonic() - began, 9)
        from young_marionette.formats.usd.worker import PATIENCE

        self.assertLessEqual(PATIENCE, 5)

    def test_nothing_of_the_library_runs_in_this_process(self):
        """Reading and writing, with a body and without: the library is never loaded here."""
        code = (
            f"import sys; sys.path.insert(0, {str(Path.cwd())!r})\n"
            "from young_marionette.project import delivery, opening\n"
            f"rig = opening.open_rig({str(show_folder() / 'puppets/bodies/Puffin.usdz')!r})\n"
            f"delivery.convert(rig, {str(self.folder / 'a.usda')!r})\n"
            f"delivery.convert(rig, {str(self.folder / 'b.usdz')!r}, body=False)\n"
            "print(sorted(m for m in sys.modules if m.split('.')[0] == 'pxr'))"
        )
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
        self.assertEqual(done.stdout, "[]\n", done.stderr)

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
        self.refuses(lambda: read(self.usda(good % ('"a"', one.replace("(1,", "(nan,")))), "not a number")
        self.refuses(lambda: read(self.usda(good % ('"a", "b"', one))), "neither rest nor bind")
        self.refuses(lambda: read(self.usda('def Xform "x" {}\n')), "no skeleton")

    def test_damaged_files_end_their_own_process_and_nothing_else(self):
        """Bytes changed at random in a binary layer, some of which end the library that reads them."""
        from young_marionette.formats.usd.worker import WORKER

        source = opening.open_source(show_folder() / "quay/light_lamp.bvh")
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
            gave_up += "library fail" in (tried(path) or "")
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

        source = opening.open_source(show_folder() / "quay/light_lamp.bvh")
        delivery.convert(source, self.folder / "a.usdc", frames=(0, 5))
        self.assertIsNone(tried(self.folder / "a.usdc"))
        WORKER.process.kill()
        WORKER.process.wait()
        self.assertIsNone(tried(self.folder / "a.usdc"))


class Shapes(Case):
    """Trees of 2,000 joints of any shape, through every format that can hold them."""

    def test_reading_a_body_takes_no_longer_than_it_should(self):
        from young_marionette.core.figure.facts import place_figure

        count = 2000
        rng = np.random.default_rng(0)
        for parents in (
            [0] * (count - 1),
            list(range(count - 1)),
            [(i - 1) // 2 for i in range(1, count)],
            [(i - 2 if i % 2 == 0 else i - 1) if i > 1 else 0 for i in range(1, count)],
            [int(rng.integers(0, i)) for i in range(1, count)],
            [0 if i % 20 == 1 else i - 1 for i in range(1, count)],
            [0 if i % 3 == 1 else i - 1 for i in range(1, count)],
            [max(i - 2, 0) for i in range(1, count)],
        ):
            skeleton = Skeleton([f"j{i}" for i in range(count)], [-1, *parents], rng.normal(size=(count, 3)))
            began = time.monotonic()
            place_figure(skeleton)
            self.assertLess(time.monotonic() - began, 2)

    def test_a_deep_chain_comes_back_from_every_format(self):
        count = 2000
        skeleton = Skeleton(
            [f"j{i}" for i in range(count)], range(-1, count - 1), np.tile([0.0, 0.01, 0.0], (count, 1))
        )
        clip = Clip("chain", skeleton, 30, np.tile(skeleton.rest, (3, 1, 1)), [0], np.zeros((3, 1, 3)))
        for ending in (".bvh", ".glb", ".gltf", ".usda", ".usdc", ".usdz"):
            path = self.folder / f"chain{ending}"
            write(path, clip)
            again = read(path)
            self.assertEqual(again.skeletons[0].skeleton.names, skeleton.names)
            self.close(again.skeletons[0].skeleton.rest_world[0][-1], [0, 0.01 * count, 0], 1e-4)


class Text(Case):
    """Names that hold controls, markup, halves of characters, or that have no end."""

    names = (
        "\x1b[31mred",
        "[/b]",
        "arm[l]",
        "<h1>BIG<b>",
        "a\u202eb",
        "\ud800",
        "x" * 3000,
        ":smile:",
        "a\nb",
        "\x9b2J",
    )

    def character(self, names):
        made = Document()
        made.animate(0, "rotation", [0, 0.1, 0.2], [[0, 0, 0, 1]] * 3)
        for node, name in zip(made.tree["nodes"], names):
            node["name"] = name
        made.tree["animations"][0]["name"] = names[0]
        return made.save(self.folder / "named.gltf")

    def test_names_are_read_shown_and_written(self):
        from young_marionette.core.text import shown

        for i, name in enumerate(self.names):
            path = self.character((name, f"{name}2", f"{name}3"))
            file = read(path)
            if "\ud800" not in name:
                self.assertEqual(file.skeletons[0].skeleton.names[0], name)
            for clip in dense_clips(file):
                self.assertEqual(clip.name, shown(clip.name))
            entry = entries_of(file)[0]
            for ending in (".bvh", ".glb", ".gltf", ".usda", ".usdz"):
                out = self.folder / f"out{i}{ending}"
                delivery.convert(entry, out)
                self.assertEqual(len(read(out).skeletons[0].skeleton), len(file.skeletons[0].skeleton))
            storage.save(self.folder / "p.marionette", State(entries=(entry,)))
            self.assertEqual(
                storage.load(self.folder / "p.marionette").entries[0].skeleton.names, file.skeletons[0].skeleton.names
            )

    def test_halves_of_characters_anywhere_in_a_document(self):
        document, binary = small_character()
        rng, path = random.Random(5), self.folder / "halves.glb"
        texts = [p for p in _places(document) if isinstance(_at(document, p), str)]
        for _ in range(60):
            tree = copy.deepcopy(document)
            *way, last = rng.choice(texts)
            _at(tree, way)[last] = rng.choice(("\ud800", "a\udfffb", "\ud83d\ude00"))
            data = json.dumps(tree).encode()
            path.write_bytes(b"".join(bytes(c) for c in as_glb({}, binary)))  # its header, around another text
            path.write_bytes(struct.pack("<4sII", b"glTF", 2, 20 + len(data) + -len(data) % 4 + 8 + len(binary))
                             + struct.pack("<II", len(data) + -len(data) % 4, 0x4E4F534A) + data + b" " * (-len(data) % 4)
                             + struct.pack("<II", len(binary), 0x004E4942) + bytes(binary))  # fmt: skip
            if tried(path) is None:
                entry = entries_of(read(path))[0]
                entry.figure, entry.body_facts  # noqa: B018
                delivery.convert(entry, self.folder / "again.glb", overwrite=True)

    def test_a_bind_matrix_that_can_not_be_turned_round(self):
        document, binary = small_character()
        tree = copy.deepcopy(document)
        number = tree["skins"][0]["inverseBindMatrices"]
        view = tree["bufferViews"][tree["accessors"][number]["bufferView"]]
        start = view.get("byteOffset", 0)
        for value in (0.0, 1e38, -1e-38):
            changed = bytearray(binary)
            changed[start : start + 64 * 5] = struct.pack("<80f", *[value] * 80)
            path = self.folder / "flat.glb"
            path.write_bytes(b"".join(bytes(c) for c in as_glb(tree, bytes(changed))))
            entry = entries_of(read(path))[0]
            entry.body_facts, entry.placed_character  # noqa: B018
            for ending in (".glb", ".usdc"):
                delivery.convert(entry, self.folder / f"out{ending}", overwrite=True)

    def test_a_place_without_an_end(self):
        made = Document()
        made.animate(0, "rotation", [0, 0.1, 0.2], [[0, 0, 0, 1]] * 3)
        tree = made.document()
        for uri in ("x" * 5000, "d/" * 2500 + "x.bin", "loop/x.bin", "a\0b", "\ud800.bin"):
            tree["buffers"][0]["uri"] = uri
            tree["images"] = [{"uri": uri}]
            (self.folder / "loop").unlink(missing_ok=True)
            (self.folder / "loop").symlink_to(self.folder / "loop")
            path = self.folder / "a.gltf"
            path.write_text(json.dumps(tree))
            self.refuses(lambda p=path: read(p), "a.gltf")


def _at(tree, way):
    for key in way:
        tree = tree[key]
    return tree


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
