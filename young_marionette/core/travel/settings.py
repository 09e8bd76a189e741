"""What can be set about travel."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ..errors import InputError
from ..settings import check, choice, flag, number, parts

X, Y, Z, TURN = PARTS = ("x", "y", "z", "turn")
GROUND = (X, Z)
AS_IT_IS, ORIGIN, LINE = STARTS = ("", "origin", "line")


@dataclass(frozen=True)
class Travel:
    """Where a figure on a rig goes, and what of it a root bone on the floor carries.

    ``in_place``: the ground axes (x, z) along which the hips stay over the rig's own spot. ``root``: what a root bone
    carries: ground axes, height (y), the turn about the vertical; None: both ground axes, where the rig has one.
    ``smooth``: seconds that the root's path is smoothed over; the hips keep what is taken from it. ``start``: the hips are
    over the origin in the first frame, or over the grid line that runs ahead through it. ``ahead``: they face ahead in it.
    """

    in_place: tuple[str, ...] = parts((), GROUND)
    root: tuple[str, ...] | None = parts(None, PARTS, none=True)
    smooth: float = number(0.0, least=0.0, most=60.0)
    start: str = choice(AS_IT_IS, STARTS)
    ahead: bool = flag(False)

    def __post_init__(self) -> None:
        check(self)

    @property
    def needs_first(self) -> bool:
        """Whether a frame by itself does not tell where it stands."""
        return bool(self.start) or self.ahead or self.smooth > 0


def parts_of(text: str, allowed: Sequence[str] = PARTS) -> tuple[str, ...]:
    """Parts of travel from words such as ``x,z,turn`` or ``none``, in the usual order; InputError for any other word.

    >>> parts_of("turn, x"), parts_of("none")
    (('x', 'turn'), ())
    """
    words = [word.strip().lower() for word in text.split(",")]
    if words == ["none"]:
        return ()
    if unknown := [word for word in words if word not in allowed]:
        raise InputError(f"'{unknown[0]}' is no part of travel; give none, or some of {','.join(allowed)}.")
    return tuple(part for part in PARTS if part in words)
