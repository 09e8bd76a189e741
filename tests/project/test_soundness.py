"""What loads can be saved and delivered, or it is refused; and no project takes memory out of proportion to its size."""

import io
import json
import os
import tracemalloc
import zipfile
from dataclasses import replace
from pathlib import Path

import numpy as np

from tests.project.test_files import small_state
from tests.support import Case
from young_marionette.core.errors import InputError
from young_marionette.project import delivery, storage
from young_marionette.project.document import State
from young_marionette.project.snags import find_snags

OLD = Path(__file__).resolve().parents[1] / "data/project_version_2.marionette"
ODD = (np.nan, np.inf, -np.inf, 1e30, -1, 2**40, 0)


class Numbers(Case):
    """Every array of a project with numbers that don't belong there."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        state = small_state()
        few = tuple(replace(e, take=e.clip and e.clip.cut(0, min(e.clip.frames - 1, 9))) for e in state.entries)
        bakes = tuple(replace(b, dense=b.dense.cut(0, 9)) for b in state.bakes)
        cls.state = replace(state, entries=few, bakes=bakes)

    def setUp(self):
        self.path = self.folder / "a.marionette"
        storage.save(self.path, self.state)

    def changed(self, member, change):
        """The project with one of its arrays changed."""
        bad = self.folder / "bad.marionette"
        with zipfile.ZipFile(self.path) as old, zipfile.ZipFile(bad, "w") as new:
            for name in old.namelist():
                data = old.read(name)
                if name == member:
                    out = io.BytesIO()
                    np.save(out, change(np.load(io.BytesIO(data))))
                    data = out.getvalue()
                new.writestr(name, data)
        return bad

    def usable(self, path):
        """Load, and do with it all that can be done; whether it was let in."""
        try:
            state = storage.load(path)
        except InputError as error:
            self.assertNotIn("\n", str(error))
            return False
        find_snags(state)
        storage.save(self.folder / "again.marionette", state)
        for entry in (*state.entries, *state.bakes):
            rig = getattr(entry, "rig", entry)
            delivery.deliver(self.folder / "out.bvh", entry.placed_clip, rig, overwrite=True)
            delivery.deliver(self.folder / "out.glb", entry.placed_clip, rig, overwrite=True)
        return True

    def test_any_number_anywhere(self):
        rng, refused = np.random.default_rng(0), 0
        with zipfile.ZipFile(self.path) as archive:
            members = [n for n in archive.namelist() if n.endswith(".npy")]
        self.assertGreater(len(members), 12)
        for member in members:
            for value in rng.choice(ODD, 3, replace=False):

                def put(array, value=value):
                    array = np.array(array)
                    if array.size:
                        with np.errstate(all="ignore"):
                            array.flat[rng.integers(array.size)] = np.array(value).astype(array.dtype)
                    return array

                refused += not self.usable(self.changed(member, put))
            others = (lambda a: a[:-1], lambda a: a[..., :0], lambda a: a.astype("U8"), lambda a: a.T, np.atleast_3d,
                      lambda a: np.zeros((0, *a.shape[1:]), a.dtype), lambda a: a.astype(complex))  # fmt: skip
            for i in rng.choice(len(others), 3, replace=False):
                other = others[i]
                refused += not self.usable(self.changed(member, other))
        self.assertGreater(refused, 40)

    def test_any_value_in_the_document(self):
        with zipfile.ZipFile(self.path) as archive:
            document = json.loads(archive.read("project.json"))
        places = list(_places(document))
        rng = np.random.default_rng(1)
        values = [None, -1, 0, 1e300, "", "x", [], {}, True, "\ud800", [0], "../../x", 10**30]
        refused = 0
        for _ in range(120):
            tree = json.loads(json.dumps(document))
            *way, last = places[int(rng.integers(len(places)))]
            at = tree
            for key in way:
                at = at[key]
            at[last] = values[int(rng.integers(len(values)))]
            bad = self.folder / "bad.marionette"
            with zipfile.ZipFile(self.path) as old, zipfile.ZipFile(bad, "w") as new:
                for name in old.namelist():
                    new.writestr(name, json.dumps(tree) if name == "project.json" else old.read(name))
            refused += not self.usable(bad)
        self.assertGreater(refused, 30)

    def test_offsets_that_are_no_numbers(self):
        """As a file of ours was once changed: it loaded, and then could not be saved."""
        with zipfile.ZipFile(self.path) as archive:
            members = [n for n in archive.namelist() if n.endswith("offsets.npy")]
        for member in members:
            path = self.changed(member, lambda a: np.full_like(a, np.nan))
            self.refuses(lambda p=path: storage.load(p), "damaged")


class Sizes(Case):
    def refused_in_little_memory(self, path, *words):
        tracemalloc.start()
        try:
            self.refuses(lambda: storage.load(path), *words)
            peak = tracemalloc.get_traced_memory()[1]
        finally:
            tracemalloc.stop()
        self.assertLess(peak, 100 << 20)

    def test_packs_within_packs(self):
        """A small file that holds a pack that holds zeros without end."""
        inner = io.BytesIO()
        with zipfile.ZipFile(inner, "w", zipfile.ZIP_DEFLATED) as z:
            header = io.BytesIO()
            np.lib.format.write_array_header_1_0(header, {"descr": "<f8", "fortran_order": False, "shape": (60 << 20,)})
            with z.open("offsets.npy", "w", force_zip64=True) as out:
                out.write(header.getvalue())
                for _ in range(480):
                    out.write(bytes(1 << 20))
        path = self.folder / "bomb.marionette"
        with zipfile.ZipFile(OLD) as old, zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as new:
            document = json.loads(old.read("project.json"))
            new.writestr("project.json", json.dumps(document))
            for item in document["entries"]:
                new.writestr(f"arrays/{item['id']}.npz", inner.getvalue())
        self.assertLess(path.stat().st_size, 200_000)
        self.refused_in_little_memory(path, "damaged")

    def test_a_part_that_would_become_huge(self):
        for name in ("project.json", "arrays/x.npz", "blobs/abcdef12.bin"):
            path = self.folder / "bomb.marionette"
            with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as z:
                if name != "project.json":
                    z.writestr("project.json", "{}")
                with z.open(name, "w", force_zip64=True) as out:
                    for _ in range(700):
                        out.write(bytes(1 << 20))
            self.refused_in_little_memory(path, "unpack")

    def test_sizes_that_are_only_told(self):
        path, bad = self.folder / "a.marionette", self.folder / "bad.marionette"
        storage.save(path, small_state())
        with zipfile.ZipFile(path) as old, zipfile.ZipFile(bad, "w") as new:
            for name in old.namelist():
                data = old.read(name)
                if name.endswith("rotations.npy"):
                    out = io.BytesIO()
                    shape = (10**6, 10**6, 4)
                    np.lib.format.write_array_header_1_0(out, {"descr": "<f8", "fortran_order": False, "shape": shape})
                    data = out.getvalue() + b"\0" * 64
                new.writestr(name, data)
        self.refused_in_little_memory(bad, "damaged")

    def test_still_motion_is_no_bomb(self):
        """Long clips in which nothing moves pack well, and are let in as any other; in old files, too."""
        state = small_state()
        clip = state.source_entry.clip
        still = replace(
            clip, rotations=np.repeat(clip.rotations[:1], 20_000, 0), translations=np.repeat(clip.translations[:1], 20_000, 0),
            weights=np.zeros((20_000, 0)),
        )  # fmt: skip
        state = replace(
            state, entries=tuple(replace(e, take=still) if e.clip is clip else e for e in state.entries), bakes=()
        )
        storage.save(self.folder / "a.marionette", state)
        self.assertEqual(storage.load(self.folder / "a.marionette").source_entry.clip.frames, 20_000)


class Paths(Case):
    def test_paths_that_are_no_text_come_back(self):
        state = small_state()
        raw = Path(os.fsdecode(b"/srv/h\xe4ngend/\xff.bvh"))
        entries = tuple(replace(e, path=raw) for e in state.entries)
        storage.save(self.folder / "a.marionette", replace(state, entries=entries))
        again = storage.load(self.folder / "a.marionette")
        self.assertEqual({e.path for e in again.entries}, {raw})
        odd = self.folder / os.fsdecode(b"p\xff.marionette")
        storage.save(odd, again)
        self.assertEqual(len(storage.load(odd).entries), len(entries))

    def test_an_empty_project(self):
        storage.save(self.folder / "a.marionette", State())
        self.assertEqual(storage.load(self.folder / "a.marionette").entries, ())


def _places(tree, way=()):
    for key, value in tree.items() if isinstance(tree, dict) else enumerate(tree[:3]):
        yield (*way, key)
        if isinstance(value, dict | list):
            yield from _places(value, (*way, key))
