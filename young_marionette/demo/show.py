"""The deliveries: every clip as its file came, with the flaws that real deliveries have."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np

from ..core import rotations as rot
from ..core.clip import Clip
from ..core.errors import InputError
from ..core.resample import resample
from ..formats import write
from ..formats.files import write_whole
from ..formats.gltf.container import as_glb
from ..formats.gltf.writer import document_of
from .acting import perform
from .cast import LOFT, PERFORMERS, PUPPETS, QUAY
from .clips import CLIPS
from .dressing import in_file_world, insert_joint, with_names, with_rest
from .markers import write_recordings
from .puppets import under_armature, write_puppets

# Clip by clip: who performed it, and the flaw it was delivered with.
DELIVERIES = (
    ("light_lamp", QUAY, None),
    ("walk_the_wall", QUAY, "100 Hz"),
    ("carry_bucket", QUAY, "too big"),
    ("wave_to_ship", QUAY, "spikes"),
    ("haul_rope", QUAY, "facing away"),
    ("climb_ladder", QUAY, "two bones more"),
    ("sweep_quay", LOFT, "sliding feet"),
    ("ring_bell", LOFT, "hovering"),
    ("row_boat", LOFT, "on its back"),
)


def performance(name, role):
    """A clip of the show performed by a role, in a T-pose skeleton in our world, clean."""
    clip = perform(CLIPS[name](role.build, role.rate), role.figure, role.build)
    return replace(clip, name=name)


def reference(role, seconds=1.0):
    """The role's reference clip: standing in a T-pose."""
    figure = role.figure
    frames = int(seconds * role.rate) + 1
    hips = figure.index["hips"]
    place = np.tile(figure.offsets[hips], (frames, 1, 1))
    return Clip(f"{role.name}_reference", figure, role.rate, np.tile(figure.rest, (frames, 1, 1)), [hips], place)


def delivered(clip, role, flaw=None):
    """The clip as the role's files come: own names, rest pose, unit and axes, and its flaw."""
    if flaw == "sliding feet":
        clip = _moved(clip, lambda t: np.stack([0.06 * np.sin(0.9 * t), 0 * t, 0.11 * np.sin(0.7 * t + 1)], -1))
    if flaw == "hovering":
        clip = _moved(clip, lambda t: np.stack([0 * t, 0 * t + 0.04, 0 * t], -1))
    if flaw == "100 Hz":
        clip = resample(clip, 100)
    if flaw == "spikes":
        clip = _noisy(clip)
    if flaw == "two bones more":
        clip = insert_joint(clip, "quay:Pole", "right hand", (-0.09, 0.02, 0.03))
        clip = insert_joint(clip, "quay:Lantern", "quay:Pole", (0.0, 0.1, 0.35))
    pose = role.rest(role.figure)
    if flaw == "two bones more":
        pose = rot.normalise(
            np.vstack(
                [pose[: clip.skeleton.index["quay:Pole"]], [rot.IDENTITY] * 2, pose[clip.skeleton.index["quay:Pole"] :]]
            )
        )
    clip = with_names(with_rest(clip, pose), role.names)
    about = rot.from_axis_angle
    world = about(rot.AXES["X"], np.array(np.pi / 2)) if role.z_up else rot.IDENTITY
    if flaw == "facing away":
        world = rot.multiply(about(rot.AXES["Y"], np.array(np.pi)), world)
    if flaw == "on its back":
        world = about(rot.AXES["X"], np.array(-np.pi / 2))
    return in_file_world(clip, role.metres_per_unit * (0.01 if flaw == "too big" else 1.0), world)


def _moved(clip, path):
    """The whole figure moved by a path over time (metres), at its topmost moving joint."""
    moves = clip.translations.copy()
    moves[:, 0] += path(np.arange(clip.frames) / clip.rate)
    return replace(clip, translations=moves)


def _noisy(clip):
    """Jitter on every joint, and a dozen single-frame spikes."""
    rng = np.random.default_rng(21)
    turns = clip.rotations.copy()
    jitter = rot.from_vector(rng.normal(0, 0.006, turns.shape[:2] + (3,)))
    for _ in range(12):
        jitter[rng.integers(5, clip.frames - 5), rng.integers(7, turns.shape[1])] = rot.from_vector(
            rng.normal(0, 0.35, 3)
        )
    return replace(clip, rotations=rot.multiply(turns, jitter))


def _junk(role):
    """A one-frame take whose figure has collapsed, as exporters leave behind."""
    figure = role.figure
    fold = rot.from_vector(np.random.default_rng(22).normal(0, 1.4, (1, len(figure), 3)))
    hips = figure.index["hips"]
    return Clip(f"{role.name}_take_000", figure, role.rate, fold, [hips], np.zeros((1, 1, 3)))


def write_show(folder):
    """Write all of the show's files under ``folder``; returns their paths, clips first, then puppets.

    Files of the same names are made anew: they are the show's own.
    """
    folder = Path(folder)
    jobs = [
        (f"{role.name}/{name}.bvh", delivered(performance(name, role), role, flaw), role)
        for name, role, flaw in DELIVERIES
    ]
    jobs += [(f"{role.name}/{role.name}_reference.bvh", delivered(reference(role), role), role) for role in PERFORMERS]
    jobs.append((f"{LOFT.name}/{LOFT.name}_take_000.bvh", delivered(_junk(LOFT), LOFT), LOFT))
    jobs += [
        (f"puppets/{role.name}.bvh", delivered(reference(role, 0.0), replace(role, rate=30)), role) for role in PUPPETS
    ]
    paths = []
    for relative, clip, role in jobs:
        path = folder / relative
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise InputError(f"The folder {path.parent} can't be made: {error.strerror}.") from None
        write(path, clip, overwrite=True, metres_per_unit=role.metres_per_unit)
        paths.append(path)
    return [*paths, *_exchange(folder), *write_recordings(folder, performance, reference), *write_puppets(folder)]


def _exchange(folder):
    """Takes that came from other programs: several in one file with junk beside them, and one as USD."""
    path = folder / "exchange" / "quay_takes.glb"
    path.parent.mkdir(parents=True, exist_ok=True)
    clips = [_clean(name, QUAY) for name in ("carry_bucket", "haul_rope")]
    junk = replace(clips[0].cut(0, 0), name="rest")
    document, binary = document_of(clips[0], more=(junk, *clips[1:]))
    write_whole(path, as_glb(*under_armature(document, binary)))
    bell = folder / "exchange" / "bell_from_the_loft.usda"
    clip = delivered(performance("ring_bell", LOFT), LOFT)
    write(bell, clip, overwrite=True, metres_per_unit=LOFT.metres_per_unit, up="Z")
    return [path, bell]


def _clean(name, role):
    """A clip with the role's names and rest pose, in our world."""
    clip = performance(name, role)
    return with_names(with_rest(clip, role.rest(role.figure)), role.names)
