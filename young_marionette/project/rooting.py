"""Where a root bone goes under what a pairing makes of a clip: for the stage, while the result is worked on."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ..core import rotations as rot
from ..core.evaluator import EVALUATOR
from ..core.travel.path import Path
from ..core.travel.root import carried, travelled
from ..core.travel.settings import TURN
from .planting import known_result, travelling

if TYPE_CHECKING:
    from ..core.clip import Clip
    from .entry import Entry
    from .pairing import Pairing

_MOST = 240  # frames of a path that is drawn


def root_path(pairing: Pairing, source: Entry, rig: Entry) -> tuple[Path, float]:
    """The path of the root bone that the rig has, or would be given, and its frames per second; at once.

    Of the whole result where that is known, else of what the transfer alone makes of some of the frames.
    """
    known = known_result(pairing, source, rig)
    if known is not None:
        return EVALUATOR.of("root path", (known, pairing), lambda: _of(known, pairing, False))
    clip = source.placed_clip
    return EVALUATOR.of("root path", (clip, pairing), lambda: _of(clip, pairing, True))


def _of(clip: Clip, pairing: Pairing, raw: bool) -> tuple[Path, float]:
    transfer, travel = pairing.transfer, pairing.settings.travel
    step = -(-clip.frames // _MOST)
    rate = clip.rate / step
    clip = clip.picked(slice(None, None, step))
    if raw:
        clip = travelled(travelling(pairing).transfer.run(clip), transfer.hips, transfer.root, travel)
    if transfer.root is not None:
        joint = [int(j) for j in clip.moving].index(transfer.root)
        places, turns = clip.translations[:, joint].T, clip.rotations[:, transfer.root].T
    else:
        # In front of whoever adds one: a bone that hangs on nothing stands for it.
        places, turns = carried(clip, transfer.hips, int(np.flatnonzero(clip.skeleton.parents < 0)[0]), travel)
    headings = np.zeros(clip.frames)
    if travel.root is not None and TURN in travel.root:
        rest = clip.skeleton.rest[transfer.root if transfer.root is not None else 0]
        change = rot.product_rows(turns, rot.conjugate(rest)[:, None])
        headings = np.unwrap(2 * np.arctan2(change[1], change[3]))
    return Path(places, headings), rate
