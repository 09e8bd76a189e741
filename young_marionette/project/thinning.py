"""A clip of an entry thinned to few poses, outside of any project."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from ..core.passes.stack import Pass
from .passes import Passed

if TYPE_CHECKING:
    from ..core.keys.keyed import KeyedClip
    from ..core.passes.thinning import Poses
    from ..core.thinning.settings import Thin
    from .entry import Entry


@dataclass(frozen=True, eq=False)
class ThinnedEntry:
    """``keyed``: the placed motion as keys; ``poses``: what is told of them."""

    keyed: KeyedClip
    poses: Poses


def thin(entry: Entry, method: Thin, frames: tuple[int, int] | None = None) -> ThinnedEntry:
    """The entry's placed clip with few keys; ``frames``: first and last of where (None: all)."""
    one = Pass("thin", method, frames=frames)
    stage = Passed(entry.placed_clip, [one], entry.metric_body, entry.placed_character, entry.contacts).stage()
    assert stage.keyed is not None and stage.poses is not None  # what thinning gives
    return ThinnedEntry(stage.keyed, stage.poses)
