"""What can be set about a transfer."""

from __future__ import annotations

from dataclasses import dataclass

AUTO, PLANTED, FREE = FEET = ("auto", "planted", "free")


@dataclass(frozen=True)
class TransferSettings:
    """``in_place``: stay over the rig's own spot. ``stride``: ground travel in leg lengths' ratio (1 keeps it).

    ``height_offset``: metres added to the hips' height. ``touches``: ``((name, degrees), ...)``, see core.touches.
    ``feet``: planted where the source's stand, or free; auto plants them where the proportions differ.
    """

    in_place: bool = False
    stride: float = 1.0
    height_offset: float = 0.0
    touches: tuple[tuple[str, float], ...] = ()
    feet: str = AUTO
