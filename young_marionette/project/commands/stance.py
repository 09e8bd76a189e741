"""Edits of the stance of the active two."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Literal

import numpy as np

from ...core.errors import InputError
from ...core.humanoid.words import shared_prefix
from ...core.matching import posing
from ...core.matching.stance import Stance
from ...core.matching.tying import partner_of
from .base import active, need

if TYPE_CHECKING:
    from ...core.skeleton import Skeleton
    from ..document import State
    from ..entry import Entry
    from ..pairing import Pairing


@dataclass(frozen=True)
class MatchStance:
    """Match the stance automatically."""

    label: str = "match the stance"

    def run(self, state: State) -> State:
        return state.with_pairing(need(state).rematched())


@dataclass(frozen=True)
class SetTolerance:
    """How far (degrees) a limb may stand apart in the stance before it is a snag."""

    degrees: float
    label: str = "set the tolerance of the stance"

    def run(self, state: State) -> State:
        return replace(state, stance_tolerance=float(np.clip(self.degrees, 0, 180)))


def _posed(state: State, pose: np.ndarray) -> State:
    """The state with another pose of the rig in the stance, from then on set by hand."""
    pairing = need(state)
    return state.with_pairing(replace(pairing, stance=Stance(pairing.stance.source, pose), matched=False))


@dataclass(frozen=True)
class TurnBone:
    """Turn a rig bone in the stance by a rotation vector in the world (radians); what hangs on it goes along."""

    bone: str
    vector: tuple[float, float, float]

    @property
    def label(self) -> str:
        return f"turn {self.bone} in the stance"

    turned = staticmethod(posing.turned_in_world)

    def run(self, state: State) -> State:
        rig, pose = need(state).target, need(state).stance.target
        return _posed(state, self.turned(rig, pose, rig.index[self.bone], np.array(self.vector, float)))


@dataclass(frozen=True)
class SetTurn(TurnBone):
    """Turn a rig bone in the stance from its rest by just a rotation vector (radians), see core.posing."""

    turned = staticmethod(posing.with_own_turn)


@dataclass(frozen=True)
class SetAngle:
    """Make one of the three numbers that a rig bone is turned by in the stance another one, see ``turn_degrees``."""

    bone: str
    axis: Literal["X", "Y", "Z"]
    degrees: float

    @property
    def label(self) -> str:
        return f"turn {self.bone} in the stance"

    def run(self, state: State) -> State:
        vector = np.radians(turn_degrees(need(state), self.bone))
        vector["XYZ".index(self.axis)] = np.radians(self.degrees)
        return SetTurn(self.bone, tuple(vector.tolist())).run(state)


def turn_degrees(pairing: Pairing, bone: str) -> np.ndarray:
    """How far a rig bone is turned in the stance, from its rest and by itself: about X, Y and Z ``(3,)``, degrees."""
    return np.degrees(posing.own_turn(pairing.target, pairing.stance.target, pairing.target.index[bone]))


@dataclass(frozen=True)
class MirrorTurn:
    """Turn the bone on the other side of the rig as a bone is turned, mirrored."""

    bone: str

    @property
    def label(self) -> str:
        return f"mirror {self.bone} in the stance"

    def partner(self, state: State) -> str:
        """The name of the bone on the other side; InputError where there is none."""
        rig, body = need(state).target, active(state)[2].figure.body
        other = partner_of(body, rig.index[self.bone]) if body is not None else None
        if other is None:
            raise InputError(f"{self.bone} has no partner on the other side.")
        return rig.names[other]

    def run(self, state: State) -> State:
        rig, pose = need(state).target, need(state).stance.target
        partner = rig.index[self.partner(state)]
        return _posed(state, posing.mirrored(rig, pose, rig.index[self.bone], partner))


@dataclass(frozen=True)
class ResetBone:
    """Put a rig bone, or with None the whole rig, back to its rest pose in the stance."""

    bone: str | None = None
    label: str = "reset in the stance"

    def run(self, state: State) -> State:
        pairing = need(state)
        pose = pairing.stance.target.copy()
        rows = slice(None) if self.bone is None else pairing.target.index[self.bone]
        pose[rows] = pairing.target.rest[rows]
        return _posed(state, pose)


@dataclass(frozen=True)
class AdoptPose:
    """Take a frame of a clip as the source's reference pose; None goes back to its rest pose.

    ``entry``: a clip with the same bones, such as a reference clip; the active one if None. The pose then
    serves all clips of the family.
    """

    frame: int | None
    entry: str | None = None
    label: str = "set the reference pose"

    def run(self, state: State) -> State:
        pairing = need(state)
        pose = pairing.source.rest
        if self.frame is not None:
            source = active(state)[1]
            chosen = next((e for e in state.entries if e.id == self.entry), source)
            pose = _pose_of(chosen, self.frame, pairing.source)
            # Only the pose counts, not where the figure happens to face in that frame.
            hips = _hips(pairing, source)
            for joint in (hips, *pairing.source.ancestors(hips)):
                pose[joint] = pairing.source.rest[joint]
        changed = replace(pairing, stance=Stance(pose, pairing.stance.target))
        return state.with_pairing(changed.rematched() if pairing.matched else changed)


def _hips(pairing: Pairing, source: Entry) -> int:
    """The source's hips: as they are tied, else as its body was read, else its first joint."""
    tied = next((s for s in pairing.strings if s.part == "hips"), None)
    if tied is not None:
        return pairing.source.index[tied.source[0]]
    return source.figure.body.parts["hips"][0] if source.figure.body is not None else 0


def _pose_of(entry: Entry, frame: int, skeleton: Skeleton) -> np.ndarray:
    """A frame's pose on another skeleton of the same bones, whatever its local axes (local rotations)."""
    clip = entry.placed_clip
    if not 0 <= frame < clip.frames:
        raise InputError(f"{entry.name} has no frame {frame}.")
    if clip.skeleton.digest == skeleton.digest:
        return np.array(clip.rotations[frame])
    bare, own = (
        {n.removeprefix(shared_prefix(s.names)): i for i, n in enumerate(s.names)} for s in (clip.skeleton, skeleton)
    )
    if sum(n not in bare for n in own) > 0.3 * len(own):
        raise InputError(f"{entry.name} has other bones than this family, so its pose can't be taken.")
    same = {joint: bare[name] for name, joint in own.items() if name in bare}
    return posing.pose_on(skeleton, clip.skeleton, clip.rotations[frame], same)
