"""What a file says of itself; the figure in it is looked at all the same."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Declared:
    """``unit``: metres per unit. ``up``: an axis such as ``"+Z"``. ``bones``: pairs of a VRM 1.0 humanoid bone name and a joint's name."""

    unit: float | None = None
    up: str | None = None
    bones: tuple[tuple[str, str], ...] = ()
