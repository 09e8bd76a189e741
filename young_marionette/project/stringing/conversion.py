"""A pairing as a stringing file, and the pairing that such a file makes of two entries."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ...core.errors import InputError
from ...core.matching.stance import Stance, match
from ...core.matching.tying import String
from ...core.transfer.settings import TransferSettings
from ..pairing import Pairing
from .schema import VERSION, Settings, StringingFile, Tie
from .sides import Sided, matcher, pose_on, rests_alike, side_of

if TYPE_CHECKING:
    pass


def to_file(pairing: Pairing, source: Sided, rig: Sided, name: str = "") -> StringingFile:
    """The pairing of two entries as a StringingFile."""
    return StringingFile(
        format="young-marionette stringing",
        version=VERSION,
        name=name or pairing.name,
        source=side_of(source, pairing.source, pairing.stance.source),
        target=side_of(rig, pairing.target, pairing.stance.target),
        strings=[
            Tie(
                part=s.part,
                source=list(s.source),
                target=list(s.target),
                certainty=s.certainty,
                reason=s.reason,
                by_hand=s.by_hand,
                locked=s.locked,
            )
            for s in pairing.strings
        ],
        absent=list(pairing.absent),
        stance_matched=pairing.matched,
        settings=Settings(**{**vars(pairing.settings), "touches": dict(pairing.settings.touches)}),
    )


def from_file(file: StringingFile, source: Sided, rig: Sided) -> Pairing:
    """The Pairing that a StringingFile makes of two entries; InputError where bones that it ties are not there.

    Names are compared without the prefix that all names of a skeleton share.
    """
    a, b = source.placed_skeleton, rig.placed_skeleton
    source_names, target_names = matcher(file.source, a), matcher(file.target, b)
    lacking = (
        sorted({n for t in file.strings for n in t.source if n not in source_names}),
        sorted({n for t in file.strings for n in t.target if n not in target_names}),
    )
    for names, side in zip(lacking, ("source", "rig")):
        if names:
            more = f" and {len(names) - 3} more" if len(names) > 3 else ""
            raise InputError(
                f"This stringing was made for another skeleton: the {side} has no bone {', '.join(names[:3])}{more}."
            )
    strings = tuple(
        String(
            t.part,
            tuple(source_names[n] for n in t.source),
            tuple(target_names[n] for n in t.target),
            t.certainty,
            t.reason,
            t.by_hand,
            t.locked,
        )
        for t in file.strings
    )
    known = (file.source.fingerprint, file.target.fingerprint) == (source.family, rig.family)
    alike = file.version < 2 or all(
        rests_alike(side, s, n) for side, s, n in ((file.source, a, source_names), (file.target, b, target_names))
    )
    if file.stance_matched and not (known and alike):
        # What the program matched for other proportions or rest poses is matched anew, what was made by hand is kept.
        stance = match(strings, a, b, pose_on(file.source, a, source_names, alike) if file.source.pose else None)
    else:
        stance = Stance(pose_on(file.source, a, source_names, alike), pose_on(file.target, b, target_names, alike))
    return Pairing(
        a,
        b,
        strings,
        stance,
        TransferSettings(**{**file.settings.model_dump(), "touches": tuple(file.settings.touches.items())}),
        file.stance_matched,
        file.name,
        absent=tuple(file.absent),
    )
