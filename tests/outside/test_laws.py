"""The laws of any input, asked of the command line with files that plain code wrote, and judged by plain code."""

import contextlib
import hashlib
import io
import itertools
import json

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from tests.formats.independent import Gltf
from tests.support import Case

from . import makers, people
from .judging import TEXT, UP, command, examples, folder
from .readers import bvh, seen

FREE = ("--no-pin", "--hands", "directions")
SEEDS = st.integers(0, 2**32 - 1)
LIMBS = [
    (f"{s} {a}", f"{s} {b}")
    for s in ("left", "right")
    for a, b in (("upper arm", "forearm"), ("forearm", "hand"), ("thigh", "shin"), ("shin", "foot"))
]


def carried(place, source, rig, *options, name="result"):
    """Write source and rig as BVH, carry the motion over by the command line, and read the result by plain code."""
    makers.write_bvh(source, place / "source.bvh")
    makers.write_bvh(still(rig), place / "rig.bvh")
    command(
        "retarget", place / "source.bvh", place / "rig.bvh", "--out", place / f"{name}.bvh", "--overwrite", *options
    )
    return bvh(place / f"{name}.bvh").places


def still(made):
    """The figure at rest, for one frame."""
    rest = np.tile([0, 0, 0, 1.0], (1, len(made.names), 1))
    tops = {j: made.offsets[j][None] for j, over in enumerate(made.parents) if over < 0}
    return makers.Made(made.names, made.parents, made.offsets, made.rest, rest, tops, made.rate)


def height(made):
    return float(np.ptp(np.concatenate(list(still(made).places().values())), axis=0).max())


def angles(a, b):
    """Degrees between directions ``(frames, 3)``, exact also for small ones."""
    a, b = (v / np.linalg.norm(v, axis=1, keepdims=True) for v in (a, b))
    return np.degrees(2 * np.arcsin(np.clip(np.linalg.norm(a - b, axis=1) / 2, 0, 1)))


class Dress(Case):
    @examples(20)
    @given(SEEDS, st.sets(st.sampled_from(people.HELPERS)), st.sampled_from(("T", "A", "hanging", "seated")),
           st.sampled_from((0.0, 4.0, -36.0, 130.0)), st.sampled_from("YZX"), st.sampled_from((1.0, 0.01, 0.001, 0.0254)),
           st.sampled_from(makers.ORDERS), st.booleans())  # fmt: skip
    def test_own_body_in_any_dress(self, seed, kinds, rest, yaw, up, unit, order, dressed_rig):
        """Names, order, unit, axes, helpers, ends, sockets, roots, rest pose of source or rig change nothing: law 6."""
        rng = np.random.default_rng(seed)
        bare = people.acting(people.person(rng, 0.1), rng, 12)
        other = people.dressed(bare, rng, kinds, rest, yaw, None, up, unit, order)
        source, rig = (bare, other) if dressed_rig else (other, bare)
        with folder() as place:
            found = carried(place, source, rig)
        wanted = bare.places()
        if dressed_rig:
            found = {
                n: p @ UP.get(up, np.eye(3)).T * unit if up != "X" else p @ _FROM_X.T * unit for n, p in found.items()
            }
        scale = 1.0 if dressed_rig or unit == 1.0 else None
        self.placed(found, wanted, height(bare), scale)

    def placed(self, found, wanted, tall, scale):
        own = np.concatenate([found[n] for n in wanted])
        meant = np.concatenate(list(wanted.values()))
        if scale is None:
            scale = float(own.ravel() @ meant.ravel() / (meant.ravel() @ meant.ravel()))
            self.assertAlmostEqual(scale, 1.0, delta=1e-5)  # inches are no guess
        away = np.linalg.norm(own - scale * meant, axis=1).max()
        self.assertLessEqual(away, 1e-5 * tall + TEXT)

    @examples(6)
    @given(SEEDS, st.sampled_from((("x", 90), ("x", -90), ("z", 90))))
    def test_a_rest_that_lies(self, seed, lying):
        """What stands in its motion stands, whatever its rest pose does; and it is said."""
        rng = np.random.default_rng(seed)
        bare = people.acting(people.person(rng, 0.1), rng, 40, wild=0.15)
        source = people.dressed(bare, rng, (), "T", 0.0, lying)
        with folder() as place:
            found = carried(place, source, bare)
        self.placed(found, bare.places(), height(bare), 1.0)

    @examples(8)
    @given(
        SEEDS,
        st.sampled_from((4.0, -36.0, 90.0, 130.0)),
        st.sampled_from("YZ"),
        st.sampled_from((".bvh", ".glb", ".usda", ".vrma")),
    )
    def test_convert_turns_nothing_but_up(self, seed, yaw, up, ending):
        """Whatever way a rest pose stands, the motion is where it was; a VRM animation rests facing ahead all the same."""
        rng = np.random.default_rng(seed)
        bare = people.acting(people.person(rng, 0.1), rng, 12)
        with folder() as place:
            makers.write_bvh(people.dressed(bare, rng, (), "A", yaw, None, up), place / "source.bvh")
            command("convert", place / "source.bvh", place / f"out{ending}")
            if ending == ".vrma":
                (place / "out.vrma").rename(place / "out.glb")
            result = seen(place / ("out.glb" if ending == ".vrma" else f"out{ending}"), bare.frames, bare.rate)
            found = result.places
            if ending == ".vrma":
                rest = Gltf(place / "out.glb").world()
                across = rest["left thigh"][:3, 3] - rest["right thigh"][:3, 3]
                self.assertGreater(across[0], 0.999 * np.linalg.norm(across))
        if ending == ".bvh" and up == "Z":
            found = {n: p @ UP["Z"].T for n, p in found.items()}
        self.placed(found, bare.places(), height(bare), 1.0)


_FROM_X = np.array([[0, -1, 0], [1, 0, 0], [0, 0, 1.0]])


class Turning(Case):
    @examples(8)
    @given(SEEDS, st.floats(-180, 180), st.booleans())
    def test_turned_and_moved(self, seed, yaw, pinned):
        """Law 7: turned and moved source, turned and moved result."""
        rng = np.random.default_rng(seed)
        source, rig = people.acting(people.person(), rng, 30), people.acting(people.person(rng, 0.2), rng, 2)
        turn, shift = Rotation.from_euler("y", yaw, degrees=True), np.array([rng.normal(), 0.0, rng.normal()])
        options = ("--pin",) if pinned else FREE
        with folder() as place:
            plain = carried(place, source, rig, *options)
            other = carried(place, people.moved_by(source, turn, shift), rig, *options)
        ratio = 1.0
        hips = plain["hips"]
        if np.ptp(hips[:, [0, 2]], axis=0).max() > 0:
            ratio = _ratio(source, rig)
        away = max(np.abs(other[n] - (turn.apply(p) + shift * ratio)).max() for n, p in plain.items())
        self.assertLessEqual(away, (0.002 if pinned else 1e-4) + TEXT)

    @examples(6)
    @given(SEEDS)
    def test_mirrored(self, seed):
        rng = np.random.default_rng(seed)
        source, rig = people.acting(people.person(), rng, 24), people.acting(people.person(rng, 0.2), rng, 2)
        with folder() as place:
            plain = carried(place, source, rig, *FREE)
            other = carried(place, people.mirrored(source), rig, *FREE)
        names = {n: n.replace("left", "?").replace("right", "left").replace("?", "right") for n in plain}
        away = max(np.abs(other[names[n]] - p * [-1, 1, 1]).max() for n, p in plain.items())
        self.assertLessEqual(away, 1e-4 + TEXT)


def _ratio(source, rig):
    """How much longer the rig's legs are."""
    long = [sum(np.linalg.norm(m.offsets[m.names.index(f"left {p}")]) for p in ("shin", "foot")) for m in (source, rig)]
    return long[1] / long[0]


class Motion(Case):
    @examples(10)
    @given(SEEDS, st.sampled_from(("T", "A", "hanging")), st.booleans())
    def test_free_means_free(self, seed, rest, fingers):
        """Law 9: every limb points as the source's does, to 0.01 degree."""
        rng = np.random.default_rng(seed)
        source = people.dressed(people.acting(people.person(rng, 0.2, fingers), rng, 20), rng, (), rest)
        rig = people.acting(people.person(rng, 0.25), rng, 2)
        with folder() as place:
            found = carried(place, source, rig, *FREE)
        own = source.places()
        for a, b in LIMBS:
            self.assertLessEqual(angles(own[b] - own[a], found[b] - found[a]).max(), 0.01, a)

    @examples(6)
    @given(SEEDS)
    def test_planting_leaves_the_trunk_and_makes_nothing_worse(self, seed):
        """Laws 10 and 11: trunk, neck and head stay; soles sink no deeper than free ones."""
        rng = np.random.default_rng(seed)
        source = people.acting(people.person(), rng, 90, going=0.3, wild=0.2)
        rig = people.acting(people.person(rng, 0.25), rng, 2)
        with folder() as place:
            free, planted = (
                carried(place, source, rig, *options) for options in (FREE, ("--pin", "--hands", "directions"))
            )
            told = io.StringIO()
            with contextlib.redirect_stdout(told):
                command_json = (
                    "retarget",
                    place / "source.bvh",
                    place / "rig.bvh",
                    "--out",
                    place / "r.bvh",
                    "--pin",
                    "--json",
                )
                from young_marionette.cli.main import main

                self.assertEqual(main(list(map(str, command_json))), 0)
        for a, b in itertools.pairwise(("spine 0", "spine 1", "spine 2", "neck", "head")):
            self.assertLessEqual(angles(free[b] - free[a], planted[b] - planted[a]).max(), 0.01, a)
        numbers = json.loads(told.getvalue())
        for part, sink in numbers["deviation"]["sink_mm"].items():
            if sink["after"] > sink["before"] + 5:
                self.assertTrue(any(part in sentence for sentence in numbers["worse"]), "worse, and nothing is said")

    @examples(6)
    @given(SEEDS, st.integers(3, 12))
    def test_a_stretch_is_the_stretch_of_the_whole(self, seed, first):
        """Law 8."""
        rng = np.random.default_rng(seed)
        source, rig = people.acting(people.person(), rng, 30), people.acting(people.person(rng, 0.2), rng, 2)
        with folder() as place:
            whole = carried(place, source, rig, *FREE)
            part = carried(place, source, rig, *FREE, "--range", f"{first}:{first + 10}")
        away = max(np.abs(part[n] - p[first : first + 11]).max() for n, p in whole.items())
        self.assertLessEqual(away, TEXT)


class Doors(Case):
    @examples(3)
    @given(SEEDS)
    def test_same_bytes_through_every_door(self, seed):
        """Law 3: interface, command line, and batch with one worker and two."""
        from young_marionette import api

        rng = np.random.default_rng(seed)
        source, rig = people.acting(people.person(), rng, 30), people.acting(people.person(rng, 0.2), rng, 2)
        with folder() as place:
            carried(place, source, rig, name="walk")
            take = api.retarget(api.read(place / "source.bvh"), api.read_rig(place / "rig.bvh"))
            api.write(take, place / "api.bvh")
            for jobs in (1, 2):
                command(
                    "batch",
                    place / "source.bvh",
                    "--rig",
                    place / "rig.bvh",
                    "--out",
                    place / f"batch{jobs}",
                    "--jobs",
                    jobs,
                )
            files = [place / "walk.bvh", place / "api.bvh", *(place / f"batch{n}" / "source_rig.bvh" for n in (1, 2))]
            self.assertEqual(len({hashlib.sha256(f.read_bytes()).hexdigest() for f in files}), 1)

    @examples(8)
    @given(
        SEEDS,
        st.sampled_from(
            (
                ("filter",),
                ("thin",),
                ("mirror",),
                ("adjust", "--lean", "5"),
                ("retime", "--speed", "0.5"),
                ("rename", "--names", "vrm"),
            )
        ),
    )
    def test_commands_hold_any_order_of_joints(self, seed, what):
        """Law 2: what a command makes of a motion does not depend on how its file orders the joints."""
        rng = np.random.default_rng(seed)
        made = people.acting(people.person(rng, 0.1), rng, 30)
        with folder() as place:
            found = []
            for kind in ("depth first", "random"):
                path = place / f"{kind[0]}.glb"
                makers.write_gltf(made.ordered(people.order_of(made, kind, rng)), path)
                command(what[0], path, "--out", place / f"{kind[0]}.bvh", *what[1:])
                found.append(bvh(place / f"{kind[0]}.bvh").places)
        self.assertLessEqual(max(np.abs(found[0][n] - found[1][n]).max() for n in found[0]), 2 * TEXT)


class Settings(Case):
    def test_what_can_not_be_is_refused(self):
        """Law 4: a setting that is unknown, out of range or of the wrong type is one sentence, and no file changes."""
        from young_marionette import api
        from young_marionette.core.filters.methods import LowPass, Spikes

        rng = np.random.default_rng(1)
        source, rig = people.acting(people.person(), rng, 30), people.acting(people.person(rng, 0.2), rng, 2)
        makers.write_bvh(source, self.folder / "source.bvh")
        makers.write_bvh(still(rig), self.folder / "rig.bvh")
        clip, body = api.read(self.folder / "source.bvh"), api.read_rig(self.folder / "rig.bvh")
        take = api.retarget(clip, body)
        before = sorted(p.name for p in self.folder.iterdir())
        for wrong in (
            {"feet": "plantd"}, {"in_place": ("q",)}, {"in_place": "x,z"}, {"stride": -3}, {"stride": "long"}, {"start": "orign"},
            {"clear": "yes"}, {"clear": True}, {"hands": 3}, {"hold_room": 2.0}, {"ahead": "yes"}, {"root": ("x",)},
            {"root_smooth": -1}, {"root_smooth": float("nan")}, {"height_offset": None, "stride": float("inf")}, {"fps": 0},
            {"fps": "fast"}, {"frames": (5, 2)}, {"frames": (0, 10**9)}, {"frames": "all"}, {"frames": (0.5, 3)}, {"speed": 2},
            {"pairing": "saved"}, {"root_bone": "put"},
        ):  # fmt: skip
            self.refuses(lambda wrong=wrong: api.retarget(clip, body, **wrong))
        for call in (
            lambda: api.thin(take, within=-1), lambda: api.thin(take, within="1"), lambda: api.thin(take, stages=("all",)),
            lambda: api.filter(take, names=("tail",)), lambda: api.filter(take, channels=("smell",)),
            lambda: api.filter(take, methods=("low-pass",)), lambda: api.filter(take, methods=[LowPass(-1)]),
            lambda: api.filter(take, methods=[LowPass("soon")]), lambda: api.filter(take, methods=[Spikes(window=0)]),
            lambda: api.filter(None), lambda: api.read(17), lambda: api.read(self.folder / "none.bvh"),
            lambda: api.read(self.folder / "source.bvh", up="Q"), lambda: api.read(self.folder / "source.bvh", up="Y", facing="-Y"),
            lambda: api.match(clip, None), lambda: api.retarget(take, body), lambda: api.write(take, self.folder / "a.xyz"),
            lambda: api.write(take, self.folder / "a.bvh", overwrite="yes"), lambda: api.write(clip, self.folder / "a.bvh"),
            lambda: api.write(take, self.folder / "a.bvh", need_body=True), lambda: api.join(take, clip),
            lambda: api.batch("source.bvh", ["rig.bvh"], self.folder),
        ):  # fmt: skip
            self.refuses(call)
        self.assertEqual(sorted(p.name for p in self.folder.iterdir()), before)
