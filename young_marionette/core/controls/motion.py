"""Motion of controls carried onto the bones, and motion of bones onto the controls: whole clips, in closed form, each the other's inverse."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..clip import Clip, as_rows, from_rows
from ..evaluator import EVALUATOR
from ..kinematics import forward_rows, local_rotation
from .limbs import Bones, Told, limb_told, limb_turns

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence

    from ..skeleton import Skeleton
    from .rig import ControlRig, Curl, ReachingLimb

_STILL = 1e-9  # metres: what is moved by less is where it rests
_X = np.array([1.0, 0.0, 0.0])


def solve(rig: ControlRig, motion: Clip) -> Clip:
    """The motion of the bones (a Clip on ``rig.bones``) that the motion of the controls, on ``rig.skeleton``, gives."""
    return _Solving(rig, motion, forward_rows(motion)).run()


def solved_rows(
    rig: ControlRig, motion: Clip, world: tuple[np.ndarray, np.ndarray] | None = None
) -> tuple[np.ndarray, np.ndarray]:
    """Where the bones are ``(bones, 3, frames)``, and how they are turned ``(bones, 4, frames)``, in the world: what ``forward_rows``
    tells of what ``solve`` gives. ``world``: the same of the controls, where it is known.
    """
    solving = _Solving(rig, motion, forward_rows(motion) if world is None else world)
    solving.work_out()
    return solving.at, solving.world


def invert(rig: ControlRig, clip: Clip, like: Clip | None = None) -> Clip:
    """The motion of the controls (a Clip on ``rig.skeleton``) that gives that of the bones; ``solve`` gives it back, but for bones
    without a control (see ``lost``).

    ``like``: controls on as many frames, whose whole body, rolls of feet and curls of fingers are kept, since many of them give the
    same bones. Without, the whole body and the rolls rest, and fingers curl by the mean of their bones.
    """
    return _Inverting(rig, clip, like).run()


@dataclass(frozen=True)
class Lost:
    """A ``bone`` that moves and has no control: it would stay at rest; ``degrees``: how far it turns from there at most."""

    bone: str
    degrees: float


def lost(rig: ControlRig, clip: Clip) -> tuple[Lost, ...]:
    """What of the motion of bones no control can hold."""
    found = []
    for bone in rig.uncontrolled:
        angle = rot.angle(rot.multiply(rot.conjugate(rig.bones.rest[bone]), clip.rotations[:, bone]))
        if angle.max(initial=0.0) > 1e-6:
            found.append(Lost(rig.bones.names[bone], float(np.degrees(angle.max()))))
    return tuple(found)


def stretched(rig: ControlRig, motion: Clip, bones: Clip) -> dict[str, np.ndarray]:
    """By limb, how far ``(frames,)`` its end's control is out of its reach (metres); ``bones``: what ``solve`` gives."""
    (places, turns), reached = forward_rows(motion), forward_rows(bones)[0]
    found = {}
    for limb in rig.limbs:
        end, _ = _rolled(limb, places[limb.place].T, turns[limb.place].T, _roll(motion, limb))
        found[limb.name] = np.linalg.norm(end - reached[limb.end].T, axis=1)
    return found


class _Solving:
    def __init__(self, rig: ControlRig, motion: Clip, world: tuple[np.ndarray, np.ndarray]) -> None:
        self.rig, self.motion = rig, motion
        self.skeleton, count = rig.bones, motion.frames
        self.places, self.turns = world
        self.given, self.moves = as_rows(motion.rotations), motion.moves
        self.local = np.empty((len(self.skeleton), 4, count))
        self.world = np.empty_like(self.local)
        self.at = np.empty((len(self.skeleton), 3, count))
        self.moved: dict[int, np.ndarray] = {}
        self.stood: set[int] = set()
        self.ends = {limb.end for limb in rig.limbs}

    def run(self) -> Clip:
        """The bones."""
        self.work_out()
        return self._made()

    def work_out(self) -> None:
        """Find places and turns of all bones."""
        self._turn()
        for limbs, bones in EVALUATOR.of("order of solving", (self.rig,), lambda: list(_order_of(self.rig))):
            for limb in limbs:
                self._stand(limb.upper)
            fixed = self._limbs(limbs) if limbs else {}
            for bone in bones:
                self._put(bone, fixed)

    def _put(self, bone: int, fixed: dict[int, np.ndarray]) -> None:
        """Where one bone is, and how it is turned, once that is known of what it hangs on; ``fixed``: of a limb."""
        rig, parent = self.rig, int(self.skeleton.parents[bone])
        if bone not in self.stood:
            self._stand(bone)
        turn = fixed.get(bone)
        if turn is None and rig.placed[bone] and bone not in self.ends:
            turn = rot.multiply(self.turns[rig.driver[bone]].T, rig.frames[bone])
        if turn is not None:
            self.world[bone] = turn.T
            local_rotation(self.world, parent, bone, self.local[bone])
        elif parent < 0:
            self.world[bone] = self.local[bone]
        else:
            rot.product_rows(self.world[parent], self.local[bone], out=self.world[bone])

    def _stand(self, bone: int) -> None:
        parent = int(self.skeleton.parents[bone])
        self.stood.add(bone)
        (self._place if self.rig.placed[bone] and bone not in self.ends else self._hang)(bone, parent)

    def _turn(self) -> None:
        """The local rotations of all bones that are turned, and their positions where they have any."""
        rig = self.rig
        for bone, control in enumerate(rig.driver.tolist()):
            if control < 0 or rig.placed[bone]:
                self.local[bone] = self.skeleton.rest[bone][:, None]
                continue
            back = rot.conjugate(rig.bases[bone])
            rot.product_rows(back[:, None], self.given[control], out=self.local[bone])
            if control in self.moves:
                self.moved[bone] = rot.rotate(back, self.moves[control])
        for limb in rig.limbs:
            if limb.length in self.moves:
                self.moved[limb.end] = self.moves[limb.length]
        for curl in rig.curls:
            angle = _angle_about_x(self.given[curl.control].T)
            for bone, axis in zip(curl.bones, curl.axes):
                self.local[bone] = rot.multiply(self.local[bone].T, rot.from_vector(angle[:, None] * axis)).T

    def _offset(self, bone: int) -> np.ndarray:
        """From what a bone hangs on, in its axes ``(3, frames)``."""
        moved = self.moved.get(bone)
        if moved is not None:
            return moved.T
        return np.broadcast_to(self.skeleton.offsets[bone][:, None], (3, self.motion.frames))

    def _hang(self, bone: int, parent: int) -> None:
        offset = self._offset(bone)
        if parent < 0:
            self.at[bone] = offset
        else:
            rot.rotate_rows(self.world[parent], offset, out=self.at[bone])
            self.at[bone] += self.at[parent]

    def _place(self, bone: int, parent: int) -> None:
        self.at[bone] = self.places[self.rig.driver[bone]]
        if parent < 0:
            self.moved[bone] = self.at[bone].T
        else:
            away = (self.at[bone] - self.at[parent]).T
            self.moved[bone] = rot.rotate(rot.conjugate(self.world[parent].T), away)

    def _limbs(self, limbs: Sequence[ReachingLimb]) -> dict[int, np.ndarray]:
        """How the bones of limbs are turned in the world ``{bone: (frames, 4)}``: all at once, as if they were more frames."""
        rig, given = self.rig, self.given
        bones, starts, ends, parts = [], [], [], []
        fixed: dict[int, np.ndarray] = {}
        for limb in limbs:
            bones.append(limb_bones(limb, self.skeleton, self.local, self.moved))
            end, turned = self._end(limb, fixed)
            starts.append(self.at[limb.upper].T)
            ends.append(end)
            fixed[limb.end] = rot.multiply(turned, rig.frames[limb.end])
            lean = self.moves.get(limb.lean, np.zeros((self.motion.frames, 3)))[:, :2]
            twists = (given[rig.driver[bone]].T for bone in (limb.upper, limb.lower))
            parts.append((self.places[limb.points].T, lean, *twists))
        told = Told(*(np.concatenate(part) for part in zip(*parts)))
        turns = limb_turns(Bones.together(bones), np.concatenate(starts), np.concatenate(ends), told)
        for limb, upper, lower in zip(limbs, *(np.split(part, len(limbs)) for part in turns)):
            fixed[limb.upper], fixed[limb.lower] = upper, lower
        return fixed

    def _end(self, limb: ReachingLimb, fixed: dict[int, np.ndarray]) -> tuple[np.ndarray, np.ndarray]:
        """Where a limb's end is, and how its control is turned; toes that stay on the floor meanwhile go into ``fixed``."""
        rig, roll = self.rig, _roll(self.motion, limb)
        place, turn = self.places[limb.place].T, self.turns[limb.place].T
        toes = self.skeleton.index.get(limb.sole.toes, -1) if limb.sole is not None else -1
        if toes >= 0 and (roll > 0).any() and rig.driver[toes] >= 0:
            # The toes stay on the floor while the heel rises.
            own = self.given[rig.driver[toes]].T
            fixed[toes] = rot.multiply(rot.multiply(turn, _about_x(np.minimum(roll, 0.0))), own)
        return _rolled(limb, place, turn, roll)

    def _made(self) -> Clip:
        skeleton, motion = self.skeleton, self.motion
        moves = {
            bone: way
            for bone, way in self.moved.items()
            if np.abs(way - skeleton.offsets[bone]).max(initial=0.0) > _STILL or not self.rig.placed[bone]
        }
        rows = np.stack([moves[j] for j in sorted(moves)], 1) if moves else None
        bones = {int(c): b for b, c in enumerate(self.rig.driver) if c >= 0}
        scaled = [i for i, c in enumerate(motion.scaled) if int(c) in bones]
        made = Clip(
            motion.name, skeleton, motion.rate, from_rows(self.local), np.array(sorted(moves), int), rows,
            motion.morphs, motion.weights, np.array([bones[int(motion.scaled[i])] for i in scaled], int),
            motion.scales[:, scaled], motion.start,
        )  # fmt: skip
        return replace(made, rotations=rot.continuous(made.rotations))


def _order_of(rig: ControlRig) -> Iterator[tuple[list[ReachingLimb], list[int]]]:
    """Limbs that can be solved together, and the bones that follow, again and again: limbs on limbs come later than these."""
    starts = {limb.upper: limb for limb in rig.limbs}
    depths: list[int] = []
    for bone, parent in enumerate(rig.bones.parents.tolist()):
        depths.append((depths[parent] if parent >= 0 else 0) + (bone in starts))
    for depth in range(max(depths, default=0) + 1):
        bones = [bone for bone, own in enumerate(depths) if own == depth]
        yield [starts[bone] for bone in bones if bone in starts], bones


class _Inverting:
    def __init__(self, rig: ControlRig, clip: Clip, like: Clip | None) -> None:
        self.rig, self.clip, self.skeleton, self.like = rig, clip, rig.bones, like
        self.places, self.turns = forward_rows(clip)
        self.local = as_rows(clip.rotations)
        self.given = np.repeat(rig.skeleton.rest[:, :, None], clip.frames, axis=2)
        self.world: dict[int, tuple[np.ndarray, np.ndarray]] = {}
        self.moves: dict[int, np.ndarray] = {}
        self.flat: set[int] = set()  # toes that stay on the floor under a rolled foot
        self._parents = rig.skeleton.parents.tolist()
        if like is not None:
            for joint in (0, *(limb.roll for limb in rig.limbs if limb.roll is not None)):
                self.given[joint] = like.rotations[:, joint].T
            if 0 in like.moves:
                self.moves[0] = like.moves[0]

    def run(self) -> Clip:
        """The controls."""
        rig, clip = self.rig, self.clip
        local = self._curled()
        moved = clip.moves
        ends = {limb.end for limb in rig.limbs}
        rolls = {limb.end: limb for limb in rig.limbs if limb.roll is not None and self.like is not None}
        twisted = {bone for limb in rig.limbs for bone in (limb.upper, limb.lower)}
        free: list[tuple[int, np.ndarray, np.ndarray]] = []  # controls that stand in some space, and where in the world
        for bone, control in enumerate(rig.driver.tolist()):
            if control < 0:
                continue
            if rig.placed[bone]:
                turn = rot.multiply(self.turns[bone].T, rot.conjugate(rig.frames[bone]))
                place = self.places[bone].T
                if bone in rolls:
                    place, turn = self._unrolled(rolls[bone], place, turn, local)
                free.append((control, place, turn))
                continue
            if bone not in twisted and bone not in self.flat:
                rot.product_rows(rig.bases[bone][:, None], local[bone], out=self.given[control])
            if bone in moved and bone not in ends:
                self.moves[control] = rot.rotate(rig.bases[bone], moved[bone])
        free += [self._limb(limb, moved) for limb in rig.limbs]
        self._stand(free)
        made = Clip(clip.name, rig.skeleton, clip.rate, rot.continuous(from_rows(self.given)))
        made = made.with_moves(self.moves)
        known = [i for i, j in enumerate(clip.scaled) if rig.driver[j] >= 0]
        return replace(
            made,
            morphs=clip.morphs,
            weights=clip.weights,
            scaled=np.array([rig.driver[clip.scaled[i]] for i in known], int),
            scales=clip.scales[:, known],
            start=clip.start,
        )

    def _curled(self) -> np.ndarray:
        """The local rotations of the bones without what curls hold; those are put down."""
        if not self.rig.curls:
            return self.local
        local = self.local.copy()
        for curl in self.rig.curls:
            if self.like is None:
                angle = _curl_of(curl, self.skeleton, local)
            else:
                angle = _angle_about_x(self.like.rotations[:, curl.control])
            self.given[curl.control] = _about_x(angle).T
            for bone, axis in zip(curl.bones, curl.axes):
                local[bone] = rot.multiply(local[bone].T, rot.from_vector(-angle[:, None] * axis)).T
        return local

    def _limb(self, limb: ReachingLimb, moved: Mapping[int, np.ndarray]) -> tuple[int, np.ndarray, np.ndarray]:
        """What is told of a limb, put down; where it points is given as a control that stands in some space."""
        rig, clip = self.rig, self.clip
        bones = limb_bones(limb, self.skeleton, self.local, moved)
        turns = (self.turns[bone].T for bone in (limb.upper, limb.lower))
        _, told = limb_told(bones, self.places[limb.upper].T, *turns)
        self.given[rig.driver[limb.upper]], self.given[rig.driver[limb.lower]] = told.upper.T, told.lower.T
        self.moves[limb.lean] = np.concatenate([told.lean, np.zeros((clip.frames, 1))], 1)
        if limb.end in moved:
            self.moves[limb.length] = moved[limb.end]
        return limb.points, told.points, np.broadcast_to(rot.IDENTITY, (clip.frames, 4))

    def _unrolled(
        self, limb: ReachingLimb, place: np.ndarray, turn: np.ndarray, local: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray]:
        """Where a foot's control is, and how it is turned, before its roll; toes that the roll leaves on the floor are put down."""
        assert self.like is not None and limb.roll is not None  # see run
        roll = _angle_about_x(self.like.rotations[:, limb.roll])
        if limb.sole is None or not roll.any():
            return place, turn
        own = _about_x(roll)
        turn = rot.multiply(turn, rot.conjugate(own))
        about = np.where(roll[:, None] > 0, limb.sole.ball, limb.sole.heel)
        toes = self.skeleton.index.get(limb.sole.toes, -1)
        if toes >= 0 and self.rig.driver[toes] >= 0 and (roll > 0).any():
            above = rot.multiply(turn, _about_x(np.minimum(roll, 0.0)))
            world = rot.multiply(self.turns[limb.end].T, local[toes].T)
            self.given[self.rig.driver[toes]] = rot.multiply(rot.conjugate(above), world).T
            self.flat.add(toes)
        return place - rot.rotate(turn, about - rot.rotate(own, about)), turn

    def _stand(self, free: list[tuple[int, np.ndarray, np.ndarray]]) -> None:
        """Put down where controls stand, in the spaces that they stand in."""
        rig = self.rig
        wanted = {control: (place, turn) for control, place, turn in free}
        points = {limb.points for limb in rig.limbs}
        for control in sorted(wanted):
            place, turn = wanted[control]
            parent = self._parents[control]
            start, base = self._space(parent, wanted)
            self.moves[control] = rot.rotate(rot.conjugate(base), place - start)
            if control not in points:
                self.given[control] = rot.multiply(rot.conjugate(base), turn).T

    def _space(
        self, control: int, wanted: Mapping[int, tuple[np.ndarray, np.ndarray]]
    ) -> tuple[np.ndarray, np.ndarray]:
        """Where a control is ``(frames, 3)``, and how it is turned ``(frames, 4)``, in the world, as its own children see it."""
        if control not in self.world:
            if control in wanted:
                place, turn = wanted[control]
                if control in {limb.points for limb in self.rig.limbs}:
                    turn = self._space(self._parents[control], wanted)[1]
            else:
                skeleton, parent = self.rig.skeleton, self._parents[control]
                place = self.moves.get(control, np.broadcast_to(skeleton.offsets[control], (self.clip.frames, 3)))
                turn = self.given[control].T
                if parent >= 0:
                    start, base = self._space(parent, wanted)
                    place, turn = start + rot.rotate(base, place), rot.multiply(base, turn)
            self.world[control] = place, turn
        return self.world[control]


def limb_bones(limb: ReachingLimb, skeleton: Skeleton, local: np.ndarray, moved: Mapping[int, np.ndarray]) -> Bones:
    """The bones of a limb on all frames, of local rotations ``(joints, 4, frames)`` and positions; what lies between its three
    joints, such as roll bones, goes along.
    """
    one, two = (_way(skeleton, a, b, local, moved) for a, b in ((limb.upper, limb.lower), (limb.lower, limb.end)))
    return Bones(one, two, limb.upper_hinge, limb.lower_hinge)


def _way(skeleton: Skeleton, first: int, last: int, local: np.ndarray, moved: Mapping[int, np.ndarray]) -> np.ndarray:
    """From a joint to one below it ``(frames, 3)``, in the axes of the first."""
    frames = local.shape[-1]

    def offset(joint: int) -> np.ndarray:
        return moved.get(joint, np.broadcast_to(skeleton.offsets[joint], (frames, 3)))

    way = offset(last)
    joint = int(skeleton.parents[last])
    while joint != first:
        way = offset(joint) + rot.rotate(local[joint].T, way)
        joint = int(skeleton.parents[joint])
    return way


def _curl_of(curl: Curl, skeleton: Skeleton, local: np.ndarray) -> np.ndarray:
    """By which angle ``(frames,)`` fingers are curled from rest: the mean of their bones."""
    angles = []
    for bone, axis in zip(curl.bones, curl.axes):
        turn = rot.multiply(rot.conjugate(skeleton.rest[bone]), local[bone].T)
        twist = rot.twist_about(turn, axis)
        angles.append(rot.to_vector(twist) @ axis)
    return np.mean(angles, axis=0)  # type: ignore[no-any-return]


def _roll(motion: Clip, limb: ReachingLimb) -> np.ndarray:
    """By which angle ``(frames,)`` a foot is rolled: above zero onto its ball, below onto its heel."""
    if limb.roll is None:
        return np.zeros(motion.frames)
    return _angle_about_x(motion.rotations[:, limb.roll])


def _rolled(limb: ReachingLimb, place: np.ndarray, turn: np.ndarray, roll: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Where a foot's joint is, and how its control is turned, after its roll about ball or heel."""
    if limb.sole is None or not roll.any():
        return place, turn
    about = np.where(roll[:, None] > 0, limb.sole.ball, limb.sole.heel)
    own = _about_x(roll)
    return place + rot.rotate(turn, about - rot.rotate(own, about)), rot.multiply(turn, own)


def _angle_about_x(turns: np.ndarray) -> np.ndarray:
    """By how much ``turns (frames, 4)`` turn about X, radians from -pi to pi."""
    return np.asarray(rot.to_vector(rot.twist_about(turns, _X))[:, 0])


def _about_x(angle: np.ndarray) -> np.ndarray:
    return rot.from_vector(angle[:, None] * _X)
