"""A dense clip as thinning looks at it: rows of numbers by joint, in the body and in the world."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..clip import as_rows
from ..kinematics import position_rows, world_rotation_rows

if TYPE_CHECKING:
    from ..clip import Clip
    from ..contacts.contact import Contacts
    from ..contacts.points import ContactPoint
    from ..skeleton import Skeleton
    from .driven import Driven

_ARM = 0.1  # metres: a bone as long as this makes good half of what its parents miss, a longer one more
_STILL = 1e-9  # of a quaternion's components: what changes by less does not turn
Share = float | np.ndarray


@dataclass(frozen=True, eq=False)
class Motion:
    """``local (joints, 4, frames)``: rotations, of signs that go on. ``world`` and ``places``: rotations and positions in the
    world. ``moves {joint: (3, frames)}``: positions in the parent's axes. ``weights (morphs, frames)``.

    ``still (joints,)``: whether a joint never turns against what it hangs on. ``thinned (joints,)``, ``thinned_morphs``: whether it is to have fewer keys. ``pulls (joints, 3)``: where, in a joint's own
    axes, its children lie, and ``pulled (joints, 3, frames)``: the same in the world, ``shares (joints,)``: how much of what their places miss it makes good. ``planted {joint: [(offset
    (3,), whether it stands (frames,))]}``. ``looks``: of each joint, then each morph, one over its factor (see tolerances). ``driven``: the
    bones, where the joints are controls.
    """

    skeleton: Skeleton
    rate: float
    local: np.ndarray
    world: np.ndarray
    places: np.ndarray
    moves: Mapping[int, np.ndarray]
    weights: np.ndarray
    still: np.ndarray
    thinned: np.ndarray
    thinned_morphs: np.ndarray
    pulls: np.ndarray
    pulled: np.ndarray
    shares: np.ndarray
    planted: Mapping[int, Sequence[tuple[np.ndarray, np.ndarray]]] = field(default_factory=dict)
    looks: Sequence[Share] = ()
    driven: Driven | None = None

    @property
    def bare(self) -> np.ndarray:
        """Joints ``(joints,)`` of which only the place counts: they never turn, nothing hangs on them, and their turn counts no more
        than that of what they hang on.
        """
        skeleton = self.skeleton
        tips = np.isfinite(skeleton.tips).all(axis=1) & np.any(skeleton.tips, axis=1)
        alone = np.array([not children for children in skeleton.children], bool)
        result = self.still & alone & ~tips & (np.asarray(skeleton.parents) >= 0)
        for joint in np.flatnonzero(result).tolist():
            own, above = self.look(joint), self.look(int(skeleton.parents[joint]))
            if joint in self.planted or isinstance(own, np.ndarray) or isinstance(above, np.ndarray) or own > above:
                result[joint] = False
        return result

    @property
    def promised(self) -> Motion:
        """What tolerances are about: the bones, where the joints are controls, else the motion itself."""
        return self if self.driven is None else self.driven.bones

    @property
    def frames(self) -> int:
        return int(self.local.shape[-1])

    def look(self, number: int) -> Share:
        """One over the factor of a joint, or of a morph behind all joints."""
        return self.looks[number] if self.looks else 1.0

    def as_type(self, kind: type[np.floating]) -> Motion:
        """With numbers of another type: half as long ones go twice as fast, and suffice for a search."""
        arrays = {
            name: getattr(self, name).astype(kind)
            for name in ("local", "world", "places", "weights", "pulls", "pulled", "shares")
        }
        return replace(
            self,
            **arrays,
            moves={j: rows.astype(kind) for j, rows in self.moves.items()},
            planted={j: [(o.astype(kind), m) for o, m in some] for j, some in self.planted.items()},
            looks=[look.astype(kind) if isinstance(look, np.ndarray) else look for look in self.looks],
        )


def motion_of(
    clip: Clip,
    points: Mapping[str, ContactPoint] | None = None,
    contacts: Contacts | None = None,
    names: Collection[str] | None = None,
    looks: Sequence[Share] = (),
) -> Motion:
    """A clip (in metres), with what stands in its ``contacts``. ``names``: of what is to be thinned (None: all)."""
    skeleton = clip.skeleton
    local = as_rows(rot.continuous(clip.rotations))
    world = world_rotation_rows(skeleton, local)
    moves = as_rows(clip.translations)
    places = position_rows(skeleton, world, clip.moving, moves)
    pulls = np.stack([_pull(skeleton, joint) for joint in range(len(skeleton))]) if len(skeleton) else np.zeros((0, 3))
    pulled = np.empty((len(skeleton), 3, clip.frames))
    for turn, pull, way in zip(world, pulls, pulled):
        rot.rotate_rows(turn, pull[:, None], out=way)
    length = np.einsum("jx,jx->j", pulls, pulls)
    return Motion(
        skeleton,
        clip.rate,
        local,
        world,
        places,
        {int(j): moves[i] for i, j in enumerate(clip.moving)},
        np.ascontiguousarray(clip.weights.T),
        np.ptp(local, axis=-1).max(axis=-1, initial=0.0) < _STILL if len(skeleton) else np.zeros(0, bool),
        np.array([names is None or name in names for name in skeleton.names], bool),
        np.array([names is None or name in names for name in clip.morphs], bool),
        pulls,
        pulled,
        length / (length + _ARM**2),
        _planted(clip.frames, points or {}, contacts),
        looks,
    )


def _pull(skeleton: Skeleton, joint: int) -> np.ndarray:
    children = list(skeleton.children[joint])
    return skeleton.offsets[children].mean(axis=0) if children else np.nan_to_num(skeleton.tips[joint])


def _planted(
    frames: int, points: Mapping[str, ContactPoint], contacts: Contacts | None
) -> dict[int, list[tuple[np.ndarray, np.ndarray]]]:
    result: dict[int, list[tuple[np.ndarray, np.ndarray]]] = {}
    for name in contacts.by_point if contacts is not None else ():
        point, stands = points.get(name), np.zeros(frames, bool)
        if point is None or contacts is None:
            continue
        for contact in contacts.of(name):
            stands[max(contact.first, 0) : contact.last + 1] = True
        result.setdefault(point.joint, []).append((np.asarray(point.offset, float), stands))
    return result
