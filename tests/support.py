"""What many tests need: figures, wild motion, random dressings, and the show's files."""

from __future__ import annotations

import fcntl
import os
import tempfile
import unittest
from functools import lru_cache
from pathlib import Path

import numpy as np

from young_marionette.core import rotations as rot
from young_marionette.core.clip import Clip
from young_marionette.core.figure.facts import place_figure
from young_marionette.core.figure.placement import place_clip, place_skeleton
from young_marionette.core.keys.keyed import dense
from young_marionette.core.kinematics import forward
from young_marionette.core.matching.stance import match
from young_marionette.core.matching.tying import tie
from young_marionette.core.transfer.retarget import Transfer
from young_marionette.core.transfer.settings import TransferSettings
from young_marionette.demo import dressing
from young_marionette.demo.figures import Build, make_figure
from young_marionette.wording.findings import finding_words
from young_marionette.wording.snags import snag_words

FULL = Build(fingers=True, twist=True, root=True, spine=4, neck=2)
RESTS = {
    "T": {},
    "A": {"left upper arm": (0, 0, -0.8), "right upper arm": (0, 0, 0.8)},
    "hanging": {
        "left upper arm": (0, 0.3, -1.42),
        "right upper arm": (0, -0.3, 1.42),
        "left forearm": (0.1, -0.3, 0.0),
    },
    "seated": {
        "left thigh": (-1.5, 0, 0),
        "right thigh": (-1.5, 0, 0),
        "left shin": (1.5, 0, 0),
        "right shin": (1.5, 0, 0),
        "left upper arm": (0, 0, -1.2),
        "right upper arm": (0, 0, 1.2),
    },
}
UPS = {
    "Y": rot.IDENTITY,
    "Z": rot.from_axis_angle(rot.AXES["X"], np.array(np.pi / 2)),
    "X": rot.from_axis_angle(rot.AXES["Z"], np.array(-np.pi / 2)),
    "-Z": rot.from_axis_angle(rot.AXES["X"], np.array(-np.pi / 2)),
}


class Case(unittest.TestCase):
    """A test case with arrays and a folder of its own."""

    def close(self, got, wanted, within=1e-9, what=""):
        """Arrays agree everywhere within a tolerance."""
        away = np.abs(np.asarray(got, float) - np.asarray(wanted, float)).max(initial=0.0)
        self.assertLessEqual(away, within, what)

    def same_turn(self, a, b, within=1e-7):
        """Quaternions tell the same rotation, whatever their sign."""
        self.assertLessEqual(float(np.max(rot.angle(rot.multiply(rot.conjugate(a), b)), initial=0.0)), within)

    @property
    def folder(self):
        """A folder that is gone after the test."""
        if not hasattr(self, "_folder"):
            holder = tempfile.TemporaryDirectory()
            self.addCleanup(holder.cleanup)
            self._folder = Path(holder.name)
        return self._folder

    def refuses(self, action, *words):
        """The action ends with one plain sentence that holds the words."""
        from young_marionette.core.errors import InputError

        with self.assertRaises(InputError) as caught:
            action()
        text = str(caught.exception)
        self.assertTrue(text.endswith((".", "!")), text)
        self.assertNotIn("\n", text)
        self.assertLess(len(text), 400)
        for word in words:
            self.assertIn(word, text)
        return text


def onto(source, rig, pairing, out, overwrite=False, **settings):
    """Carry a clip over to a rig and write it; gives the baked clip."""
    from young_marionette import api

    take = api.retarget(source, rig, pairing, **settings)
    api.write(take, out, overwrite, inputs=api.opening.inputs_of(source))
    return take.motion


def wild_motion(figure, rng, frames=24, size=0.5):
    """Motion of every kind of turn, hips tumbling freely, on a skeleton of ``demo.figures``."""
    turns = rot.from_vector(
        rng.normal(size=(1, len(figure), 3)) * size + rng.normal(size=(frames, len(figure), 3)) * size / 2
    )
    for joint, name in enumerate(figure.names):
        if "twist" in name or name == "root":
            turns[:, joint] = rot.IDENTITY
    hips = figure.index["hips"]
    turns[:, hips] = rot.from_vector(rng.normal(size=(frames, 3)) * 2)
    places = rng.normal(size=(frames, 1, 3)) + [0, 1, 0]
    return Clip("wild", figure, 30.0, turns, [hips], places)


def random_build(rng):
    """A figure of random proportions and bones."""
    height = float(rng.uniform(1.0, 2.1))
    return Build(
        height=height,
        leg=float(rng.uniform(0.36, 0.56)) * height,
        arm=float(rng.uniform(0.26, 0.36)) * height,
        shoulders=float(rng.uniform(0.17, 0.28)) * height,
        hips=float(rng.uniform(0.08, 0.16)) * height,
        head=float(rng.uniform(0.1, 0.2)) * height,
        ankle=float(rng.uniform(0.03, 0.06)) * height,
        foot=float(rng.uniform(0.07, 0.11)) * height,
        spine=int(rng.integers(1, 6)),
        neck=int(rng.integers(1, 3)),
        fingers=bool(rng.random() < 0.5),
        root=bool(rng.random() < 0.3),
    )


def dressed(clip, rng, rest=None, names=None, up=None, unit=None, axes=None, extras=True):
    """The clip as another program would tell it, everything drawn at random where it is not given.

    The world is turned by whole quarter turns only, which are a convention of the file; a rest pose may stand turned by
    any angle, which says nothing of where the motion goes.
    """
    figure = clip.skeleton
    own = np.random.default_rng(int(abs(figure.offsets).sum() * 1e9))
    quarters, aside = int(own.integers(4)), own.uniform(-10, 10)
    if own.random() < 0.5:
        quarters, aside = 0, own.uniform(20, 70) + 90 * own.integers(4)
    rest = rest or rng.choice(["T", "A", "hanging"])
    turned = (
        rng.normal(size=(len(figure), 4))
        if (rng.random() < 0.5 if axes is None else axes)
        else np.tile(rot.IDENTITY, (len(figure), 1))
    )
    pose = dressing.rest_pose(figure, RESTS[rest] | {"hips": (0, np.radians(aside), 0)})
    clip = dressing.with_rest(clip, pose, rot.normalise(turned))
    if extras:
        clip = _with_extras(clip, rng)
    if (names is None and rng.random() < 0.5) or names == "numbers":
        order = rng.permutation(len(clip.skeleton))
        clip = dressing.with_names(clip, {n: f"bone_{order[i]:02d}" for i, n in enumerate(clip.skeleton.names)})
    rng.uniform()  # so that all else is drawn as it always was
    world = rot.multiply(
        UPS[up or rng.choice(list(UPS))], rot.from_axis_angle(rot.AXES["Y"], np.array(quarters * np.pi / 2))
    )
    unit = unit or 10 ** rng.uniform(np.log10(0.07), 2)
    return dressing.in_file_world(clip, 1 / unit, world)


def _with_extras(clip, rng):
    if rng.random() < 0.5 and "root" not in clip.skeleton.index:
        clip = dressing.insert_joint(clip, "extra", None, (0, 0, 0))
    if rng.random() < 0.5:
        half = clip.skeleton.offsets[clip.skeleton.index["left hand"]] * 0.5
        clip = dressing.insert_joint(clip, "left forearm roll", "left forearm", half, ["left hand"])
    if rng.random() < 0.5:
        clip = dressing.insert_joint(
            clip, "end", "right toes", clip.skeleton.offsets[clip.skeleton.index["right toes"]] * 0.3
        )
    return clip


def notes_of(entry):
    """What people read of the notes of a file or an entry."""
    return " ".join(finding_words(note).text for note in entry.notes)


def told(snag):
    """What people read of a snag."""
    return snag_words(snag.found).text


def dense_clips(file):
    """The clips of a file with a pose on every frame."""
    return [dense(clip) for clip in file.skeletons[0].clips]


def retargeted(clip, rig, settings=TransferSettings()):
    """``(baked clip in our world, placed source, placed rig figure, transfer)`` of a clip in any dressing onto a skeleton."""
    here, there = place_figure(clip.skeleton), place_figure(rig)
    source, target = place_clip(clip, here.placement), place_skeleton(rig, there.placement)
    strings = tie(source.skeleton, here.body, target, there.body)
    transfer = Transfer(source.skeleton, target, strings, match(strings, source.skeleton, target), settings)
    return transfer.run(source), source, there, transfer


def live_clip(state):
    """The whole live result of a document's active pair."""
    from young_marionette.project.planting import result

    return result(state.pairing, state.source_entry, state.rig_entry)


def joints_at(clip):
    """World places ``(frames, joints, 3)``."""
    return forward(clip)[0]


@lru_cache(maxsize=1)
def show_folder():
    """The show's files, written once for all tests; no test changes them."""
    from young_marionette.demo.show import write_show

    shared = os.environ.get("YOUNG_MARIONETTE_TEST_SHOW")
    if shared is None:
        holder = tempfile.TemporaryDirectory(prefix="quillmouth-")
        write_show(holder.name)
        show_folder.holder = holder
        return Path(holder.name)
    # All processes of a run share one show: the first one makes it, the others wait.
    with open(f"{shared}.lock", "w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not Path(shared).exists():
            write_show(f"{shared}.new")
            Path(f"{shared}.new").rename(shared)
    return Path(shared)


@lru_cache(maxsize=1)
def show_state():
    """The show's project state, made once for all tests."""
    from young_marionette.demo.example import demo_state

    return demo_state(show_folder(), sorted(show_folder().rglob("*.bvh")))


def figure(**build):
    """A skeleton of ``demo.figures``."""
    return make_figure(Build(**build))
