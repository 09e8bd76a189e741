"""Edits of the stance of the active two."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ...core import rotations as rot
from ...core.body.words import shared_prefix
from ...core.errors import InputError
from ...core.skeleton import pose_world
from ...core.stance import Stance
from .base import need


@dataclass(frozen=True)
class MatchStance:
    """Match the stance by itself."""

    label: str = "match the stance"

    def run(self, state):
        return state.with_pairing(need(state).rematched())


@dataclass(frozen=True)
class SetTolerance:
    """How far (degrees) a limb may stand apart in the stance before it is a snag."""

    degrees: float
    merge: str | None = "tolerance"
    label: str = "set the tolerance of the stance"

    def run(self, state):
        return replace(state, stance_tolerance=float(np.clip(self.degrees, 0, 180)))


@dataclass(frozen=True)
class TurnBone:
    """Turn a rig bone in the stance by a rotation vector in the world (radians); what hangs on it goes along."""

    bone: str
    vector: tuple[float, float, float]
    merge: str | None = None

    @property
    def label(self):
        return f"turn {self.bone} in the stance"

    def run(self, state):
        pairing = need(state)
        pose = pairing.stance.target.copy()
        joint = pairing.target.index[self.bone]
        _, world = pose_world(pairing.target, pose)
        over = rot.multiply(rot.from_vector(np.array(self.vector, float)), world[joint])
        # Normalised, or the rounding of a long drag's many steps would feed on itself.
        pose[joint] = rot.normalise(rot.multiply(pose[joint], rot.multiply(rot.conjugate(world[joint]), over)))
        return state.with_pairing(replace(pairing, stance=Stance(pairing.stance.source, pose), matched=False))


@dataclass(frozen=True)
class ResetBone:
    """Put a rig bone, or with None the whole rig, back to its rest pose in the stance."""

    bone: str | None = None
    label: str = "reset in the stance"

    def run(self, state):
        pairing = need(state)
        pose = pairing.stance.target.copy()
        rows = slice(None) if self.bone is None else pairing.target.index[self.bone]
        pose[rows] = pairing.target.rest[rows]
        return state.with_pairing(replace(pairing, stance=Stance(pairing.stance.source, pose), matched=False))


@dataclass(frozen=True)
class AdoptPose:
    """Take a frame of a clip as the source's reference pose; None goes back to its rest pose.

    ``entry``: a clip with the same bones, such as a reference clip; the active one if None. The pose then
    serves all clips of the family.
    """

    frame: int | None
    entry: str | None = None
    label: str = "adopt a reference pose"

    def run(self, state):
        pairing = need(state)
        pose = pairing.source.rest
        if self.frame is not None:
            pose = _pose_of(state.entry(self.entry) or state.source_entry, self.frame, pairing.source)
            # Only the pose counts, not where the figure happens to face in that frame.
            hips = pairing.source.index[next(s for s in pairing.strings if s.part == "hips").source[0]]
            for joint in (hips, *pairing.source.ancestors(hips)):
                pose[joint] = pairing.source.rest[joint]
        changed = replace(pairing, stance=Stance(pose, pairing.stance.target))
        return state.with_pairing(changed.rematched() if pairing.matched else changed)


def _pose_of(entry, frame, skeleton):
    """A frame's pose on another skeleton of the same bones, whatever its local axes (local rotations)."""
    clip = entry.placed_clip
    if not 0 <= frame < clip.frames:
        raise InputError(f"{entry.name} has no frame {frame}.")
    if clip.skeleton is skeleton:
        return np.array(clip.rotations[frame])
    here, there = (
        {n.removeprefix(shared_prefix(s.names)): i for i, n in enumerate(s.names)} for s in (clip.skeleton, skeleton)
    )
    _, posed = pose_world(clip.skeleton, clip.rotations[frame])
    _, rested = clip.skeleton.rest_world
    change = rot.multiply(posed, rot.conjugate(rested))
    lacking = [n for n in there if n not in here]
    if len(lacking) > 0.3 * len(there):
        raise InputError(f"{entry.name} has other bones than this family, so its pose can't be taken.")
    world, own = skeleton.rest_world[1].copy(), np.array(skeleton.rest)
    for name, joint in there.items():
        parent = skeleton.parents[joint]
        if name in here:
            world[joint] = rot.multiply(change[here[name]], skeleton.rest_world[1][joint])
        elif parent >= 0:
            world[joint] = rot.multiply(world[parent], skeleton.rest[joint])
        above = world[parent] if parent >= 0 else rot.IDENTITY
        own[joint] = rot.multiply(rot.conjugate(above), world[joint])
    return own
