"""The pass that corrects a dense clip at one frame or several, eased in before them and out behind."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, ClassVar, NamedTuple

import numpy as np

from .. import rotations as rot
from ..clip import as_rows, from_rows
from ..keys.channel import Channel, Joint, Kind
from ..smoothing import eased
from .strength import Strengths, strength_over

if TYPE_CHECKING:
    from ..clip import Clip

Three = tuple[float, float, float]
Named = tuple[tuple[str, Three], ...]


class Posed(NamedTuple):
    """A frame of a correction."""

    frame: int
    turns: Named
    moves: Named


@dataclass(frozen=True)
class Correction:
    """A layer over a dense clip. At ``frame`` joints are turned by ``turns``: pairs of a name and a rotation vector in the axes of what
    they hang on (radians), and moved by ``moves`` (metres, likewise); ``more``: the same at other frames, each a frame, turns
    and moves. Between them it goes over with ease; ``seconds`` before the first and behind the last nothing is changed any
    more, or with ``whole`` it is as it is there, all through. ``strength``: 1 is all of it, times what ``strengths`` tell over time.
    """

    frame: int = 0
    seconds: float = 0.5
    turns: Named = ()
    moves: Named = ()
    more: tuple[tuple[int, Named, Named], ...] = ()
    whole: bool = False
    strength: float = 1.0
    strengths: Strengths = ()

    code: ClassVar[str] = "correction"

    @property
    def halo(self) -> float:
        return 0.0

    @property
    def keys(self) -> tuple[Posed, ...]:
        """All its frames, in their order."""
        keys = (Posed(self.frame, self.turns, self.moves), *(Posed(*key) for key in self.more))
        return tuple(sorted(keys, key=lambda key: key.frame))

    def with_keys(self, keys: Iterable[Posed]) -> Correction:
        """With other frames; at least one."""
        first, *more = sorted(keys, key=lambda key: key.frame)
        return replace(
            self,
            frame=first.frame,
            turns=first.turns,
            moves=first.moves,
            more=tuple((k.frame, k.turns, k.moves) for k in more),
        )

    def run(self, clip: Clip, first: int = 0) -> Clip:
        """The clip (from frame ``first`` of a longer one) with the correction."""
        frames = np.arange(first, first + clip.frames)
        index, local = clip.skeleton.index, as_rows(clip.rotations).copy()
        changed = False
        for name, vectors in self._over(frames, clip.rate, "turns").items():
            at = np.flatnonzero(vectors.any(1))
            if name in index and len(at):
                turn = rot.from_vector(vectors[at]).T
                local[index[name]][:, at] = rot.product_rows(turn, local[index[name]][:, at])
                changed = True
        made = replace(clip, rotations=from_rows(local)) if changed else clip
        moves = {
            name: way for name, way in self._over(frames, clip.rate, "moves").items() if name in index and way.any()
        }
        return made.with_moves(
            made.moves | {index[name]: made.move_of(index[name]) + way for name, way in moves.items()}
        )

    def at(self, frame: int, rate: float) -> tuple[dict[str, np.ndarray], dict[str, np.ndarray]]:
        """``(turns, moves)`` by names, ``(3,)`` each, as they are at a frame, strength and all."""
        frames = np.array([frame])
        return tuple(  # type: ignore[return-value]
            {name: values[0] for name, values in self._over(frames, rate, what).items()} for what in ("turns", "moves")
        )

    def _over(self, frames: np.ndarray, rate: float, what: str) -> dict[str, np.ndarray]:
        """What is added on frames, by names: ``(frames, 3)`` each."""
        keys = self.keys
        said: list[dict[str, Three]] = [dict(getattr(key, what)) for key in keys]
        names = dict.fromkeys(name for own in said for name in own)
        ease = 0.0 if self.whole else max(self.seconds * rate, 1e-9)
        knots = [keys[0].frame - ease, *(key.frame for key in keys), keys[-1].frame + ease]
        strength = (self.strength * strength_over(frames, self.strengths))[:, None]
        found = {}
        for name in names:
            values = np.array([own.get(name, (0.0, 0.0, 0.0)) for own in said])
            ends = (values[:1], values[-1:]) if self.whole else (np.zeros((1, 3)), np.zeros((1, 3)))
            found[name] = strength * _between(
                frames, np.array(knots, float), np.concatenate([ends[0], values, ends[1]])
            )
        return found


def _between(frames: np.ndarray, knots: np.ndarray, values: np.ndarray) -> np.ndarray:
    """Values ``(frames, 3)`` that go from knot to knot without a jump in speed or acceleration; as at the ends outside of them."""
    after = np.clip(np.searchsorted(knots, frames, side="left"), 1, len(knots) - 1)
    long = np.maximum(knots[after] - knots[after - 1], 1e-12)
    share = eased(np.clip((frames - knots[after - 1]) / long, 0, 1))
    return values[after - 1] + share[:, None] * (values[after] - values[after - 1])


def corrected_by(
    before: Clip, values: Mapping[Channel, np.ndarray], old: Correction, frame: int | None = None
) -> Correction:
    """``old`` with what makes of a pose ``before`` (a Clip of one frame, with ``old`` in it) one with other ``values``.

    ``frame``: of the pose; where ``old`` has none yet, it gets one there, as it is there, and is changed there alone.
    """
    frame = old.frame if frame is None else frame
    names = before.skeleton.names
    told = float(strength_over(np.array([frame]), old.strengths)[0])
    strength = old.strength * told or 1.0
    turns, moves = ({n: v / strength for n, v in part.items()} for part in old.at(frame, before.rate))
    for channel, value in values.items():
        if not isinstance(channel.node, Joint):
            continue
        joint = channel.node.number
        name = names[joint]
        if channel.kind is Kind.ROTATION:
            step = rot.multiply(value, rot.conjugate(before.rotations[0, joint]))
            done = rot.from_vector(strength * turns.get(name, np.zeros(3)))
            turns[name] = rot.to_vector(rot.multiply(step, done)) / strength
        elif channel.kind is Kind.TRANSLATION:
            shift = np.asarray(value) - before.move_of(joint)[0]
            moves[name] = moves.get(name, np.zeros(3)) + shift / strength
    made = Posed(frame, _named(turns), _named(moves))
    others = [key for key in old.keys if key.frame != frame and (key.turns or key.moves)]
    if not old.strength * told:
        old = replace(old, strength=1.0, strengths=())  # what is changed by hand is to be seen
    return old.with_keys([*others, made])


def _named(values: dict[str, np.ndarray]) -> Named:
    return tuple((name, _three(value)) for name, value in values.items() if np.any(value))


def _three(values: np.ndarray) -> Three:
    x, y, z = map(float, values)
    return x, y, z
