"""Transfer: motion of the source on the target's bones.

With world rotations S(t) of a source bone, and both sides' reference poses S0 and T0, the target bone
turns as ``T(t) = S(t) S0^-1 T0``: exact for any local axes, and limb directions agree wherever the two
reference poses point the same way. Where runs differ in number, the source's change of rotation is
sampled along the run at each target bone's share of length, so that the ends agree. The hips' centre
(between the thigh joints) follows by leg length. A root bone on the floor stays under the hips; what else may be
wanted of its travel comes after (see core.travel).
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import TYPE_CHECKING, Any

import numpy as np

from .. import rotations as rot
from ..clip import Clip, as_rows, blocks, from_rows
from ..errors import InputError
from ..humanoid.parts import NEXT
from ..kinematics import local_rotation, position_rows, world_rotation_rows
from ..matching.own_body import covering
from ..matching.stance import leg_scale, same_body
from ..matching.touches import touched
from ..matching.tying import missing
from ..skeleton import pose_world
from ..travel.bones import root_bone
from .settings import TransferSettings

if TYPE_CHECKING:
    from ..matching.stance import Stance
    from ..matching.tying import String
    from ..skeleton import Skeleton


@dataclass(frozen=True)
class _Drive:
    """How one target joint is driven: by one source joint, between two, or as a twist helper."""

    joint: int
    sources: tuple[int, ...]
    share: float = 0.0
    axis: tuple = ()


@dataclass(frozen=True, eq=False)
class _Copy:
    """A target joint whose local rotation is that of source joints below each other (their product), in other axes.

    ``matrix (4, 4)``: the constant turns before and behind, as one linear map of quaternions.
    """

    joint: int
    sources: tuple[int, ...]
    matrix: np.ndarray


class Transfer:
    """A prepared transfer: made once per stringing, run on any clip of the source skeleton."""

    def __init__(
        self,
        source: Skeleton,
        target: Skeleton,
        strings: tuple[String, ...],
        stance: Stance,
        settings: TransferSettings = TransferSettings(),
    ) -> None:
        lacking = missing(strings)
        if "hips" in lacking:
            raise InputError("The hips have no string, so nothing can be transferred.")
        self.source, self.target, self.strings, self.settings = source, target, strings, settings
        self._ties = {s.part: s for s in strings}
        self.scale = leg_scale(strings, source, target)
        self._same_body = same_body(strings, source, target)
        self._source_points, self._source_turns = pose_world(source, stance.source)
        pose = touched(stance.target, target, strings, dict(settings.touches)) if settings.touches else stance.target
        self._target_points, self._target_turns = pose_world(target, pose)
        self.drives = sorted(self._plan(), key=lambda d: d.joint)
        self._by_joint = {drive.joint: drive for drive in self.drives}
        # Constant turns S0^-1 T0 of the joints that one source joint drives.
        single = [(d.joint, d.sources[0]) for d in self.drives if len(d.sources) == 1]
        targets, sources = np.array(single, int).reshape(-1, 2).T
        constants = rot.multiply(rot.conjugate(self._source_turns[sources]), self._target_turns[targets])
        self._constants = {joint: turn[:, None] for (joint, _), turn in zip(single, constants)}
        self._place_plan()
        self._copies = [copy for drive in self.drives if (copy := self._copy(drive)) is not None]
        self._plan_worlds()

    # --- planning -------------------------------------------------------------------------------
    def _plan(self) -> Iterable[Any]:
        plan = {}
        for s in self.strings:
            source_run, target_run = [self.source.index[n] for n in s.source], [self.target.index[n] for n in s.target]
            if s.part.endswith(" twist") and (len(source_run) != len(target_run) or self._leads(s)):
                drives = self._helpers(s.part.removesuffix(" twist"), source_run[0], target_run)
            elif len(source_run) == len(target_run):
                drives = [_Drive(t, (h,)) for h, t in zip(source_run, target_run)]
            elif s.part == "hips":
                drives = [_Drive(t, (source_run[-1],)) for t in target_run]
            elif s.bends and self._same_body:
                drives = [_Drive(t, (over,)) for t, over, _ in covering(s, self.source, self.target, self.scale)]
            elif s.bends:
                drives = self._sampled(s, source_run, target_run)
            else:
                drives = [
                    _Drive(target_run[0], (source_run[0],)),
                    *self._helpers(s.part, source_run[0], target_run[1:]),
                ]
            plan.update((d.joint, d) for d in drives)
        return plan.values()

    def _leads(self, s: String) -> bool:
        """Whether a twist string is driven by the limb bone itself, so that helpers take a share."""
        limb = self._ties.get(s.part.removesuffix(" twist"))
        return limb is not None and limb.source[0] == s.source[0]

    def _helpers(self, part: str, lead: int, joints: Sequence[int]) -> list[_Drive]:
        """Drives of twist helpers along a limb bone: each takes its share of the next bone's twist."""
        side, _, plain = part.partition(" ")
        after = self._ties.get(f"{side} {NEXT.get(plain, '')}")
        if after is None or not joints:
            return [_Drive(j, (lead,)) for j in joints]
        start = self._target_points[self.target.index[self._ties[part].target[0]]]
        bone = self._target_points[self.target.index[after.target[0]]] - start
        shares = [float(np.clip((self._target_points[j] - start) @ bone / (bone @ bone), 0, 1)) for j in joints]
        return [
            _Drive(j, (lead, self.source.index[after.source[0]]), share, tuple(rot.normalise(bone)))
            for j, share in zip(joints, shares)
        ]

    def _sampled(self, s: String, source_run: list[int], target_run: list[int]) -> list[_Drive]:
        """Drives of a run whose bones differ in number: neighbours on the source's run, and the share between."""
        anchor = self.source.parents[source_run[0]]
        before = self._ties.get("hips")
        anchor = self.source.index[before.source[-1]] if s.part == "spine" and before else int(anchor)
        knots = [anchor if anchor >= 0 else source_run[0], *source_run]
        at = self._shares(self.source, self._source_points, source_run)
        drives = []
        for joint, share in zip(target_run, self._shares(self.target, self._target_points, target_run)[1:]):
            k = int(np.clip(np.searchsorted(at, share - 1e-9) - 1, 0, len(source_run) - 1))
            between = (share - at[k]) / max(at[k + 1] - at[k], 1e-9)
            drives.append(_Drive(joint, (knots[k], knots[k + 1]), float(np.clip(between, 0, 1))))
        return drives

    @staticmethod
    def _shares(skeleton: Skeleton, points: np.ndarray, run: list[int]) -> np.ndarray:
        """Share of the run's length at the end of each bone, 0 before the first; the last is 1."""
        lengths = []
        for i, joint in enumerate(run):
            after = run[i + 1] if i + 1 < len(run) else (skeleton.children[joint] or (None,))[0]
            end = (
                skeleton.ends[joint] - skeleton.rest_world[0][joint] if after is None else points[after] - points[joint]
            )
            length = float(np.linalg.norm(end))
            lengths.append(length if np.isfinite(length) and length > 1e-9 else 1e-9)
        return np.concatenate([[0], np.cumsum(lengths) / np.sum(lengths)])

    def _place_plan(self) -> None:
        """The hips: which joints carry the place, scale and height, and the root bone on the floor."""
        self.hips = self.target.index[self._ties["hips"].target[0]]
        thighs = [self._ties[p] for p in ("left thigh", "right thigh") if p in self._ties] or [self._ties["hips"]]
        self._source_centre = [self.source.index[s.source[0]] for s in thighs]
        centre = self._target_points[[self.target.index[s.target[0]] for s in thighs]].mean(0)
        # Where legs hang on another joint than the trunk does, the one that they hang on carries their middle.
        self._hips_run = [self.target.index[n] for n in self._ties["hips"].target]
        carrier = self._hips_run[-1]
        turn = self._target_turns[carrier]
        self._to_centre = rot.rotate(rot.conjugate(turn), centre - self._target_points[carrier])
        self.rise = self.settings.height_offset
        if not self._same_body:
            source_ankle = self._ankle_height(self.source, self._source_points, self._source_turns, "source")
            target_ankle = self._ankle_height(self.target, self._target_points, self._target_turns, "target")
            if source_ankle is not None and target_ankle is not None:
                self.rise += target_ankle - self.scale * source_ankle
        feet = [self.target.index[s.target[0]] for p, s in self._ties.items() if p.endswith(("foot", "toes"))]
        self.root = root_bone(self.target, self.hips, feet)

    def _ankle_height(self, skeleton: Skeleton, points: np.ndarray, turns: np.ndarray, side: str) -> float | None:
        """How far the ankles are over the sole in the reference pose; None where no sole can be seen."""
        heights = []
        for part in ("left foot", "right foot"):
            if part in self._ties:
                foot = skeleton.index[getattr(self._ties[part], side)[0]]
                under = skeleton.subtree(foot)
                ends = points[under] + rot.rotate(turns[under], skeleton.tips[under])
                below = np.concatenate([points[under[1:], 1], ends[np.isfinite(ends[:, 1]), 1]])
                if len(below):
                    heights.append(max(points[foot, 1] - below.min(), 0.0))
        return float(np.mean(heights)) if heights else None

    def _copy(self, drive: _Drive) -> _Copy | None:
        """How a joint's local rotation comes from local ones of the source alone; None where it does not.

        With T(t) = S(t) C, for the joint and for the driven one that it hangs on, the worlds cancel out.
        """
        if len(drive.sources) > 1:
            return None
        drives = self._by_joint
        parent, between = int(self.target.parents[drive.joint]), rot.IDENTITY
        while parent >= 0 and parent not in drives:
            between = rot.multiply(self.target.rest[parent], between)
            parent = int(self.target.parents[parent])
        if parent < 0 or len(drives[parent].sources) > 1:
            return None
        above, path, at = drives[parent].sources[0], list[int](), drive.sources[0]
        while at >= 0 and at != above:
            path.append(at)
            at = int(self.source.parents[at])
        if at < 0:
            return None
        before = rot.conjugate(rot.multiply(self._constants[parent][:, 0], between))
        matrix = rot.multiply(rot.left_matrix(before).T, self._constants[drive.joint][:, 0]).T
        return _Copy(drive.joint, tuple(reversed(path)), matrix)

    def _plan_worlds(self) -> None:
        """The joints whose rotations in the world are wanted, of source and target."""
        driven, copied = self._by_joint, {copy.joint for copy in self._copies}
        self._made = [j for j in driven if j not in copied]  # from their own and their parents' worlds
        wanted, todo = set[int](), [*self._hips_run, *self._made, *self.target.parents[self._made].tolist()]
        at = self.hips
        while at >= 0:
            todo.append(at)
            at = int(self.target.parents[at])
        while todo:
            joint = todo.pop()
            if joint >= 0 and joint not in wanted:
                wanted.add(joint)
                todo += [] if joint in driven else [int(self.target.parents[joint])]
        self._worlds = sorted(wanted)
        self._seen = {j for d in self.drives if d.joint in wanted for j in d.sources} | set(self._source_centre)

    @property
    def references(self) -> tuple[np.ndarray, np.ndarray]:
        """World rotations ``(joints, 4)`` of source and target in their reference poses."""
        return self._source_turns, self._target_turns

    def in_room(self, places: np.ndarray) -> np.ndarray:
        """Where places ``(..., 3)`` of the source's room are in the rig's: scaled as the hips' way is."""
        stride = self.settings.stride
        return places * (self.scale * np.array([stride, 1.0, stride])) + [0.0, self.rise, 0.0]

    # --- running --------------------------------------------------------------------------------
    def run(self, clip: Clip, name: str | None = None) -> Clip:
        """The motion of ``clip`` on the target: a baked Clip with the clip's rate and frames."""
        if len(clip.skeleton) != len(self.source):
            raise InputError(f"The clip {clip.name} is not of the skeleton that this stringing was made for.")
        local, moves = as_rows(clip.rotations), as_rows(clip.translations)
        moving = [*([] if self.root is None else [self.root]), self.hips]
        turned, moved = np.empty((len(self.target), 4, clip.frames)), np.empty((len(moving), 3, clip.frames))
        for part in blocks(clip.frames):
            self._run(local[:, :, part], clip.moving, moves[:, :, part], turned[:, :, part], moved[:, :, part])
        # How large joints are is their own body's affair.
        return Clip(
            name or clip.name,
            self.target,
            clip.rate,
            from_rows(turned),
            np.array(moving),
            from_rows(moved),
            clip.morphs,
            clip.weights,
            start=clip.start,
        )

    def _run(
        self, local: np.ndarray, moving: np.ndarray, moves: np.ndarray, turned: np.ndarray, moved: np.ndarray
    ) -> None:
        """Local rotation rows of all target joints, and translation rows of those that move, of some frames: into
        ``turned`` and ``moved``.
        """
        frames = local.shape[-1]
        seen = world_rotation_rows(self.source, local, self._seen)
        places = position_rows(self.source, seen, moving, moves, self._source_centre)
        world = self._target_world(seen, frames)
        for copy in self._copies:
            if not copy.sources:
                turned[copy.joint] = (copy.matrix @ rot.IDENTITY)[:, None]
                continue
            own = local[copy.sources[0]]
            for joint in copy.sources[1:]:
                own = rot.product_rows(own, local[joint])
            np.matmul(copy.matrix, own, out=turned[copy.joint])
        for joint in self._made:
            local_rotation(world, int(self.target.parents[joint]), joint, turned[joint])
        rest = np.ones(len(self.target), bool)
        rest[list(self._by_joint)] = False
        turned[rest] = self.target.rest[rest][:, :, None]
        moved[:] = self._target_moves(world, places, frames)

    def _target_world(self, seen: np.ndarray, frames: int) -> np.ndarray:
        world = np.empty((len(self.target), 4, frames))
        drives = self._by_joint
        for joint in self._worlds:
            parent = int(self.target.parents[joint])
            if joint in drives:
                self._drive(drives[joint], seen, world[joint])
            elif parent >= 0:
                rot.product_rows(world[parent], self.target.rest[joint][:, None], out=world[joint])
            else:
                world[joint] = self.target.rest[joint][:, None]
        return world

    def _drive(self, drive: _Drive, seen: np.ndarray, out: np.ndarray) -> None:
        own = self._target_turns[drive.joint]
        first = drive.sources[0]
        if len(drive.sources) == 1:
            rot.product_rows(seen[first], self._constants[drive.joint], out=out)
            return
        a, b = (self._change(j, seen) for j in drive.sources)
        if drive.axis:
            relative = rot.product_rows(a * np.array([-1.0, -1, -1, 1])[:, None], b)
            twist = rot.twist_about(relative.T, np.array(drive.axis))
            part = rot.slerp(np.broadcast_to(rot.IDENTITY, twist.shape), twist, np.full(len(twist), drive.share))
            change = rot.product_rows(a, part.T)
        else:
            change = rot.slerp(a.T, b.T, np.full(a.shape[1], drive.share)).T
        rot.product_rows(change, own[:, None], out=out)

    def _change(self, joint: int, seen: np.ndarray) -> np.ndarray:
        """The source joint's turn away from its reference pose, in the world, as rows."""
        return rot.product_rows(seen[joint], rot.conjugate(self._source_turns[joint])[:, None])

    def _target_moves(self, world: np.ndarray, places: np.ndarray, frames: int) -> np.ndarray:
        centre = np.mean([places[j] for j in self._source_centre], axis=0) * self.scale
        centre[[0, 2]] *= self.settings.stride
        centre[1] += self.rise
        to_centre = rot.rotate_rows(world[self._hips_run[-1]], self._to_centre[:, None])
        for over, joint in pairwise(self._hips_run):
            if int(self.target.parents[joint]) == over:
                to_centre = to_centre + rot.rotate_rows(world[over], self.target.offsets[joint][:, None])
        hips = centre - to_centre
        moves = {}
        if self.root is not None:
            ground = hips.copy()
            ground[1] = self.target.offsets[self.root][1]
            moves[self.root] = ground
        moves[self.hips] = self._into_parent(self.hips, hips, world, moves, frames)
        return np.stack(list(moves.values()))

    def _into_parent(
        self, joint: int, place: np.ndarray, world: np.ndarray, moves: dict[int, np.ndarray], frames: int
    ) -> np.ndarray:
        """World places of ``joint`` as translations in its parent's axes."""
        parent = int(self.target.parents[joint])
        if parent < 0:
            return place
        carried = position_rows(self.target, world, np.array(list(moves), int), list(moves.values()), [parent])[parent]
        return rot.rotate_rows(world[parent] * np.array([-1.0, -1, -1, 1])[:, None], place - carried)
