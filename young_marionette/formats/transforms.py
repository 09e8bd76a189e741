"""What formats with full transforms share: from 4x4 matrices to joints of ours, and from a clip back to a file's joints."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from ..core import rotations as rot
from ..core.findings import finding
from ..core.keys.channel import Joint, Kind
from ..core.keys.sampler import still
from ..core.names import free_name
from ..core.scaling import factors_above
from ..core.skeleton import Skeleton

if TYPE_CHECKING:
    from ..core.clip import Clip
    from ..core.keys.keyed import KeyedClip
    from ..core.keys.sampler import Sampler


def decomposed(matrices: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Translations, rotations and scales of matrices ``(..., 4, 4)`` for column vectors; shear is left out.

    What mirrors is a rotation and three scales below zero, since that mirror has the same effect in all axes.
    """
    basis = matrices[..., :3, :3]
    u, _, v = np.linalg.svd(basis)
    turns = u @ v
    turns = turns * np.where(np.linalg.det(turns) < 0, -1.0, 1.0)[..., None, None]
    scales = np.einsum("...ij,...ij->...j", turns, basis)
    return matrices[..., :3, 3], rot.from_matrix(turns), np.where(np.abs(scales) > 1e-9, scales, 1e-9)


def skeleton_under(
    names: tuple[str, ...],
    parents: list[int],
    moves: np.ndarray,
    turns: np.ndarray,
    scales: np.ndarray,
    over: np.ndarray,
) -> tuple[Skeleton, list[Any]]:
    """``(Skeleton, notes)`` of joints with local transforms, under a still transform ``over (4, 4)``.

    Scales are taken out of the offsets below them, so that the skeleton is one of rotations alone.
    """
    notes = []
    over_move, over_turn, over_scale = decomposed(over)
    if np.ptp(np.abs(over_scale)) > 1e-3 * np.abs(over_scale).max():
        notes.append(finding("uneven over"))
    over_scale = float(np.mean(np.abs(over_scale))) * np.sign(over_scale)
    offsets, rest, total = np.empty((len(names), 3)), np.empty((len(names), 4)), np.empty((len(names), 3))
    has_child = np.zeros(len(names), bool)
    has_child[[p for p in parents if p >= 0]] = True
    uneven = []
    for joint, parent in enumerate(parents):
        above = total[parent] if parent >= 0 else over_scale
        offsets[joint], total[joint] = above * moves[joint], above * scales[joint]
        rest[joint] = mirrors(above) * turns[joint]
        if has_child[joint] and np.ptp(np.abs(scales[joint])) > 1e-3 * np.abs(scales[joint]).max():
            uneven.append(names[joint])
        if parent < 0:
            offsets[joint] = rot.rotate(over_turn, offsets[joint]) + over_move
            rest[joint] = rot.multiply(over_turn, rest[joint])
    if uneven:
        notes.append(finding("uneven scales", joints=uneven))
    return Skeleton(tuple(names), np.array(parents), offsets, rest, scales=total), notes


def parents_first(parents: list[int]) -> list[int]:
    """An order of joints in which parents come before their children: as it is where it does that, else depth first."""
    if all(parent < joint for joint, parent in enumerate(parents)):
        return list(range(len(parents)))
    children = [[] for _ in parents]
    for joint, parent in enumerate(parents):
        if parent >= 0:
            children[parent].append(joint)
    order, todo = [], [j for j, p in enumerate(parents) if p < 0][::-1]
    while todo:
        joint = todo.pop()
        order.append(joint)
        todo.extend(reversed(children[joint]))
    return order


def different(names: list[str]) -> tuple[tuple[str, ...], int]:
    """``(names that all differ, how many had to be changed)``."""
    result, taken, used, doubles = [], set(names), set(), 0
    for name in names:
        if name in used:
            doubles += 1
            name = free_name(name, taken, "{}_{}")
            taken.add(name)
        used.add(name)
        result.append(name)
    return tuple(result), doubles


def scales_above(skeleton: Skeleton, own_scales: np.ndarray) -> np.ndarray:
    """What joints' places are scaled by ``(joints, 3)``: the scales of all that is above each."""
    return skeleton.scales / np.where(np.abs(own_scales) > 1e-12, own_scales, 1.0)


def stored(scales: np.ndarray, precision: type) -> np.ndarray:
    """Scales as numbers of a file's precision, the largest of it where they are larger."""
    most = np.finfo(precision).max
    return np.clip(scales, -most, most).astype(precision)


def relative(scales: np.ndarray, own_scales: np.ndarray) -> np.ndarray:
    """Local scales over time ``(frames, 3)`` as factors of those at rest."""
    return scales / np.where(np.abs(own_scales) > 1e-9, own_scales, 1.0)


def mirrors(above: np.ndarray) -> np.ndarray:
    """Factors ``(..., 4)`` that local rotations get under scales ``above (..., 3)``: a mirror turns them round.

    With scales as ``M``, rotations are ``M R M``, so that the mirror comes after them and they stay rotations.
    """
    signs = np.where(np.asarray(above) < 0, -1.0, 1.0)
    axes = signs * signs.prod(-1, keepdims=True)
    return np.concatenate([axes, np.ones_like(axes[..., :1])], -1)


def local_offsets(skeleton: Skeleton, own_scales: np.ndarray, over: np.ndarray) -> np.ndarray:
    """Where joints stand at rest in their parents ``(joints, 3)``, in the file's own unit; see ``skeleton_under``."""
    over_move, over_turn, _ = decomposed(over)
    roots = (skeleton.parents < 0)[:, None]
    offsets = np.where(roots, rot.rotate(rot.conjugate(over_turn), skeleton.offsets - over_move), skeleton.offsets)
    return offsets / scales_above(skeleton, own_scales)


class NodeSpace:
    """Between a file's own joints, with their local scales and what is over their root, and our skeleton's.

    The maps are affine, so that keys and all that lies between them go through; see ``skeleton_under``.
    """

    def __init__(self, skeleton: Skeleton, own_scales: np.ndarray, over: np.ndarray) -> None:
        self._roots, self._own = skeleton.parents < 0, own_scales
        self._above = scales_above(skeleton, own_scales)
        self._move, self._turn, _ = decomposed(over)

    def _turned(self, joint: int) -> np.ndarray:
        return rot.left_matrix(self._turn) if self._roots[joint] else np.eye(4)

    def _placed(self, joint: int) -> np.ndarray:
        return rot.to_matrix(self._turn) if self._roots[joint] else np.eye(3)

    def rotation_in(self, joint: int, sampler: Sampler) -> Sampler:
        """A joint's local rotations, as the file has them, in our skeleton."""
        return sampler.moved(self._turned(joint) * mirrors(self._above[joint]))

    def rotation_out(self, joint: int, sampler: Sampler) -> Sampler:
        return sampler.moved(mirrors(self._above[joint])[:, None] * self._turned(joint).T)

    def translation_in(self, joint: int, sampler: Sampler) -> Sampler:
        """A joint's local translations, as the file has them, in our skeleton."""
        return sampler.moved(self._placed(joint) * self._above[joint], self._move if self._roots[joint] else 0.0)

    def translation_out(self, joint: int, sampler: Sampler) -> Sampler:
        above = np.where(np.abs(self._above[joint]) > 1e-9, self._above[joint], 1.0)
        back = self._placed(joint).T / above[:, None]
        return sampler.moved(back, -back @ self._move if self._roots[joint] else 0.0)

    def scale_in(self, joint: int, sampler: Sampler) -> Sampler:
        """A joint's local scales as factors of those at rest."""
        return sampler.moved(np.diag(1 / np.where(np.abs(self._own[joint]) > 1e-9, self._own[joint], 1.0)))

    def scale_out(self, joint: int, sampler: Sampler) -> Sampler:
        return sampler.moved(np.diag(self._own[joint]))


def local_keys(
    clip: KeyedClip, skeleton: Skeleton, own_scales: np.ndarray, over: np.ndarray, precision: type = np.float32
) -> dict[tuple[int, Kind], Sampler]:
    """``{(joint, kind): Sampler}`` of a KeyedClip in the file's own joints; the counterpart of reading.

    ``precision``: as for ``local_motion``.
    """
    space = NodeSpace(skeleton, own_scales, over)
    out = {Kind.ROTATION: space.rotation_out, Kind.SCALE: space.scale_out}
    joints = {(c.node.number, c.kind): s for c, s in clip.samplers.items() if isinstance(c.node, Joint)}
    moves = {joint: s for (joint, kind), s in joints.items() if kind is Kind.TRANSLATION}
    longer = factors_above(skeleton, _rounded(own_scales, precision))
    for joint, factor in longer.items():
        place = moves.get(joint) or still(skeleton.offsets[joint], clip.start)
        moves[joint] = place.moved(np.diag(1 / np.where(np.abs(factor[0]) > 1e-9, factor[0], 1.0)))
    samplers = {(joint, Kind.TRANSLATION): space.translation_out(joint, s) for joint, s in moves.items()}
    for (joint, kind), sampler in joints.items():
        if kind in out:
            samplers[joint, kind] = out[kind](joint, sampler)
    return samplers


def _rounded(own_scales: np.ndarray, precision: type) -> dict[int, np.ndarray]:
    """``{joint: (1, 3)}``: scales that stand still, as stored against as they are, where rounding shows.

    With half floats that would be felt at the ends of a chain.
    """
    factors = relative(stored(own_scales, precision).astype(float), own_scales)
    return {int(j): factors[j][None] for j in np.flatnonzero(np.abs(factors - 1).max(1) > 1e-6)}


def local_motion(
    clip: Clip, skeleton: Skeleton, own_scales: np.ndarray, over: np.ndarray, precision: type = np.float32
) -> dict[int, tuple[np.ndarray, np.ndarray | None, np.ndarray | None]]:
    """A clip in the file's own joints: ``{joint: (turns (frames, 4), places or None, scales or None (frames, 3))}``.

    The counterpart of ``skeleton_under``; ``own_scales (joints, 3)``: each joint's local scale in the file.
    ``precision``: the numbers that scales are stored as; what hangs below is put where it belongs with those.
    """
    over_move, over_turn, _ = decomposed(over)
    above = scales_above(skeleton, own_scales)
    places = clip.moves
    factors = clip.scale_factors
    scales = {j: stored(own_scales[j] * f, precision).astype(float) for j, f in factors.items() if j < len(skeleton)}
    longer = {j: np.repeat(f, clip.frames, 0) for j, f in _rounded(own_scales, precision).items()}
    longer |= {j: relative(s, own_scales[j]) for j, s in scales.items()}
    longer = factors_above(skeleton, longer)
    result = {}
    for joint, parent in enumerate(skeleton.parents):
        turns, place = clip.rotations[:, joint], places.get(joint)
        if place is None and joint in longer:
            place = np.repeat(skeleton.offsets[joint][None], clip.frames, 0)
        if parent < 0:
            turns = rot.multiply(rot.conjugate(over_turn), turns)
            place = None if place is None else rot.rotate(rot.conjugate(over_turn), place - over_move)
        if place is not None:
            length = above[joint] * longer.get(joint, 1.0)
            place = place / np.where(np.abs(length) > 1e-9, length, 1.0)
        result[joint] = mirrors(above[joint]) * turns, place, scales.get(joint)
    return result
