"""Hostile files of every kind, made at random, and the check that each of them ends in a result or in one sentence.

The tests run it for a short while with a fixed seed; ``./run bench fuzz SECONDS`` runs it for as long as one likes.
"""

from __future__ import annotations

import contextlib
import copy
import io
import json
import random
import re
import struct
import time
import zipfile
from functools import lru_cache
from pathlib import Path

from tests.support import show_folder
from young_marionette.cli.main import main
from young_marionette.core.errors import InputError
from young_marionette.formats import read
from young_marionette.formats.gltf.container import load
from young_marionette.formats.gltf.reader import merged
from young_marionette.project import delivery, opening, storage, stringing
from young_marionette.project.document import State
from young_marionette.project.entry import entries_of
from young_marionette.project.pairing import pair
from young_marionette.project.snags import find_snags

LONGEST = 8.0  # seconds for all that is done with one file
NAMES = (
    "\x1b[2J",
    "[/b]",
    "arm[l]",
    "<h1>x<b>",
    "\ud800",
    "a\u202eb",
    "x" * 4000,
    "\x00",
    ":x:",
    "a\nb",
    "\x9b31m",
    "",
    " ",
    "{",
    "ü",
)
VALUES = (None, -1, 0, 1, 7, 10**9, 2**63, 1e308, -0.5, "", "x", "../../x", [], {}, [0], [[]], {"a": 1}, True, *NAMES)
_CONTROLS = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e\ud800-\udfff]")


@lru_cache(maxsize=1)
def bases():
    """Sound files to begin with: ``{ending: bytes}``."""
    folder = show_folder().parent / "fuzz-bases"
    folder.mkdir(exist_ok=True)
    source = opening.open_source(show_folder() / "quay/light_lamp.bvh")
    rig = opening.open_rig(show_folder() / "puppets/bodies/Puffin.usdz")
    for ending in (".bvh", ".glb", ".gltf", ".usda", ".usdc", ".usdz"):
        delivery.convert(source, folder / f"a{ending}", frames=(0, 4), overwrite=True)
    pairing = pair(source, rig)
    stringing.save(folder / "a.stringing", stringing.to_file(pairing, source, rig), overwrite=True)
    heron = opening.open_rig(show_folder() / "puppets/Heron.bvh")
    state = State(entries=(heron,), rig=heron.id)
    storage.save(folder / "a.marionette", state)
    return {p.suffix: p.read_bytes() for p in folder.iterdir()}


@lru_cache(maxsize=1)
def character():
    binary, document = merged(load(show_folder() / "puppets/bodies/Heron.vrm"))
    return document, binary


def _places(tree, way=()):
    for key, value in tree.items() if isinstance(tree, dict) else enumerate(tree[:30]):
        yield (*way, key)
        if isinstance(value, dict | list):
            yield from _places(value, (*way, key))


def _put(tree, rng):
    """Put odd values at some places of a tree."""
    places = list(_places(tree))
    for _ in range(rng.choice((1, 1, 2, 4))):
        *way, last = rng.choice(places)
        at = tree
        with contextlib.suppress(KeyError, IndexError, TypeError):
            for key in way:
                at = at[key]
            if rng.random() < 0.15:
                del at[last]
            else:
                at[last] = copy.deepcopy(rng.choice(VALUES))
    return tree


def _bytes_changed(data, rng):
    data = bytearray(data)
    for _ in range(rng.choice((1, 3, 20))):
        at = rng.randrange(len(data))
        if rng.random() < 0.2:
            data[at : at + rng.randrange(1, 40)] = rng.randbytes(rng.randrange(40))
        else:
            data[at] = rng.randrange(256)
        if not data:
            break
    return bytes(data[: rng.randrange(len(data))] if data and rng.random() < 0.3 else data)


def _glb(document, binary):
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    size = 12 + 8 + len(text) + 8 + len(binary)
    head = struct.pack("<4sIIII", b"glTF", 2, size, len(text), 0x4E4F534A)
    return head + text + struct.pack("<II", len(binary), 0x004E4942) + bytes(binary)


# --- kinds: each gives (name, bytes) ----------------------------------------------------------------
def changed_bytes(rng):
    ending = rng.choice(sorted(bases()))
    return f"a{ending}", _bytes_changed(bases()[ending], rng)


def odd_documents(rng):
    document, binary = character()
    return "a.glb", _glb(_put(copy.deepcopy(document), rng), binary)


def odd_names(rng):
    document, binary = copy.deepcopy(character()[0]), character()[1]
    for node in document["nodes"]:
        if rng.random() < 0.3:
            node["name"] = rng.choice(NAMES) + rng.choice(("", "1", "_l"))
    for animation in document.get("animations", ()):
        animation["name"] = rng.choice(NAMES)
    return f"{rng.choice(('a', '[b]', '<b>BIG', 'é'))}.glb", _glb(document, binary)


def trees(rng):
    """Deep, wide and bushy trees, as glTF and as BVH."""
    count = rng.choice((3, 300, 1500))
    shape = rng.choice(("star", "chain", "binary", "random", "comb"))
    parents = [-1]
    for i in range(1, count):
        parents.append({"star": 0, "chain": i - 1, "binary": (i - 1) // 2, "random": rng.randrange(i),
                        "comb": i - 1 if i % 7 else 0}[shape])  # fmt: skip
    if rng.random() < 0.5:
        nodes = [{"name": f"n{i}", "translation": [rng.gauss(0, 1) for _ in range(3)]} for i in range(count)]
        for i, parent in enumerate(parents[1:], 1):
            nodes[parent].setdefault("children", []).append(i)
        document = {
            "asset": {"version": "2.0"},
            "scenes": [{"nodes": [0]}],
            "nodes": nodes,
            "skins": [{"joints": list(range(count))}],
        }
        return "tree.gltf", json.dumps(document).encode()
    children = [[] for _ in parents]
    for i, parent in enumerate(parents[1:], 1):
        children[parent].append(i)
    lines, todo = ["HIERARCHY"], [(0, True)]
    while todo:
        joint, opens = todo.pop()
        if not opens:
            lines.append("}")
            continue
        lines += [f"{'JOINT' if joint else 'ROOT'} n{joint}", "{", f"OFFSET {rng.gauss(0, 9):.3f} {rng.gauss(0, 9):.3f} 1",
                  "CHANNELS 3 Zrotation Xrotation Yrotation"]  # fmt: skip
        todo += [(joint, False), *((c, True) for c in children[joint])]
    lines += ["MOTION", "Frames: 3", "Frame Time: 0.033333", *[" ".join(["1"] * 3 * count)] * 3]
    return "tree.bvh", "\n".join(lines).encode()


def packs(rng):
    """Packages and projects with parts that are packed, nested, doubled, or point somewhere else."""
    ending = rng.choice((".usdz", ".marionette"))
    out, old = io.BytesIO(), zipfile.ZipFile(io.BytesIO(bases()[ending]))
    way = rng.choice((zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED))
    with zipfile.ZipFile(out, "w", way) as new:
        for name in old.namelist():
            data = old.read(name)
            if name.endswith(".json") and rng.random() < 0.7:
                data = json.dumps(_put(json.loads(data), rng)).encode()
            elif rng.random() < 0.3:
                data = rng.choice((_bytes_changed(data, rng), bytes(rng.choice((0, 10, 1 << 20))), bases()[".usdz"]))
            if rng.random() < 0.9:
                new.writestr(rng.choice((name, name, name, name, f"../{name}", f"x/{name}")), data)
        if rng.random() < 0.3:
            place = rng.choice(("../x.usda", "/etc/hostname", "a.usdz[b.usda]", "\x1b[2J.usda"))
            new.writestr("first.usda", f"#usda 1.0\n(subLayers = [@{place}@])\n")
    return f"a{ending}", out.getvalue()


def stringings(rng):
    return "a.stringing", json.dumps(_put(json.loads(bases()[".stringing"]), rng)).encode()


def captures(rng):
    """ASF and AMC, which no base holds."""
    words = [":version 1.10", ":units", "length 0.45", "angle deg", ":root", "order TX TY TZ RX RY RZ", "axis XYZ", "position 0 0 0",
             "orientation 0 0 0", ":bonedata", "begin", "id 1", "name thigh", "direction 0 -1 0", "length 7", "axis 0 0 20 XYZ",
             "dof rx ry rz", "end", ":hierarchy", "begin", "root thigh", "end"]  # fmt: skip
    for _ in range(rng.randrange(4)):
        at = rng.randrange(len(words))
        words[at] = rng.choice(
            (
                words[at] + " nan",
                "begin",
                "end",
                "name " + rng.choice(NAMES),
                "length -1e300",
                "",
                "dof x",
                words[at][:3],
            )
        )
    return "a.asf", "\n".join(words).encode("utf-8", "replace")


KINDS = (changed_bytes, odd_documents, odd_names, trees, packs, stringings, captures)


class Failed(AssertionError):
    """Something else than a result or a sentence."""


def check(path: Path) -> bool:
    """Do with a file all that can be done with one of its kind; whether it was let in. Raises Failed."""
    began = time.monotonic()
    try:
        _use(path)
        let_in = True
    except InputError as error:
        text = str(error)
        if _CONTROLS.search(text) or len(text) > 400 or not text.endswith((".", "!")):
            raise Failed(f"no plain sentence: {text!r}") from None
        let_in = False
    if path.suffix not in (".marionette", ".stringing"):
        _command(["info", str(path)], 0 if let_in else 2)
        _command(["info", str(path), "--json"], 0 if let_in else 2)
    if time.monotonic() - began > LONGEST:
        raise Failed(f"took {time.monotonic() - began:.1f} s")
    return let_in


def _use(path):
    if path.suffix == ".stringing":
        stringing.load(path)
        return
    state = storage.load(path) if path.suffix == ".marionette" else State(entries=tuple(entries_of(read(path))))
    find_snags(state)
    for entry in state.entries:
        entry.facts, entry.placed_clip  # noqa: B018
    storage.save(path.parent / "again.marionette", state)
    storage.load(path.parent / "again.marionette")
    for entry in state.entries[:2]:
        delivery.convert(entry, path.parent / "out.bvh", overwrite=True)
        delivery.convert(entry, path.parent / "out.glb", overwrite=True)
        read(path.parent / "out.glb")


def _command(words, wanted):
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        code = main(words)
    if code != wanted:
        raise Failed(f"{' '.join(words)}: exit {code} instead of {wanted}: {err.getvalue()[-600:]}")
    if _CONTROLS.search(out.getvalue() + err.getvalue()):
        raise Failed(f"{' '.join(words)}: controls on the terminal")


def run(folder: Path, seed: int, seconds: float | None = None, count: int | None = None):
    """Check files until the time or the count is over: ``(checked, let in, [(kind, seed, what was wrong)])``."""
    checked = let_in = 0
    wrong, began = [], time.monotonic()
    while (count is None or checked < count) and (seconds is None or time.monotonic() - began < seconds):
        rng = random.Random(seed + checked)
        kind = KINDS[checked % len(KINDS)]
        name, data = kind(rng)
        path = folder / name
        path.write_bytes(data)
        try:
            let_in += check(path)
        except Exception as error:  # that is what is looked for
            wrong.append((kind.__name__, seed + checked, f"{type(error).__name__}: {error}"))
        finally:
            path.unlink(missing_ok=True)
        checked += 1
    return checked, let_in, wrong
