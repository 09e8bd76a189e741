"""How far a pairing's result is off, with its feet planted and without: worked out for whole clips."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from ..core.contacts.points import HANDS
from ..core.evaluator import EVALUATOR
from ..core.kinematics import forward_rows
from ..core.transfer.deviation import FLOAT, LOWERED, SINK, SLIDE, TOUCHING, Lane, angle_lanes, feet_lanes, slide_lanes
from ..core.travel.settings import Travel
from .planting import arm_depths, carry, free_result, rig_legs, rig_points, travelling, whole

if TYPE_CHECKING:
    from collections.abc import Iterator

    from ..core.clip import Clip
    from ..core.contacts.contact import Contacts
    from .entry import Entry
    from .pairing import Pairing


_SEEN = 0.005  # metres


@dataclass(frozen=True, eq=False)
class Deviation:
    """``after``: of the result as it is; ``before``: with feet that are free. The same lanes in both, in one order."""

    before: tuple[Lane, ...]
    after: tuple[Lane, ...]

    def worst(self, kind: str) -> tuple[float, float]:
        """The worst value of a kind ``(before, after)``."""
        both = (
            max((lane.worst for lane in lanes if lane.kind == kind), default=0.0) for lanes in (self.before, self.after)
        )
        return next(both), next(both)

    def worsened(self) -> list[tuple[Lane, Lane]]:
        """``(before, after)`` of the lanes whose worst value planting, hands or clearing made worse by what can be seen."""
        return [
            (before, after)
            for before, after in zip(self.before, self.after)
            if after.kind in (SLIDE, SINK, FLOAT, TOUCHING) and after.worst > before.worst + _SEEN
        ]


def deviation(pairing: Pairing, source: Entry, rig: Entry) -> Deviation:
    """Of what a pairing makes of all of a source's motion; kept."""

    def make() -> Deviation:
        travels = travelling(pairing)
        return of_motion(travels, source, rig, source.placed_clip, source.contacts, whole(travels, source, rig))

    return EVALUATOR.of("deviation", (pairing, source, rig), make)


def known_deviation(pairing: Pairing, source: Entry, rig: Entry) -> Deviation | None:
    """As ``deviation``, where that was worked out already."""
    return EVALUATOR.peek("deviation", (pairing, source, rig))  # type: ignore[no-any-return]


def of_motion(
    pairing: Pairing, source: Entry, rig: Entry, clip: Clip, contacts: Contacts, made: Clip | None = None
) -> Deviation:
    """The deviation of what is made of the source's ``clip``: of ``made`` where that is known already.

    What stays in place is measured as it travels, since all feet slide there.
    """
    if pairing.settings.travel != Travel():
        pairing, made = travelling(pairing), None
    free = free_result(pairing, clip)
    if made is None:
        made = carry(pairing, source, rig, clip, contacts)
    return Deviation(*(tuple(_lanes(pairing, source, rig, clip, free, one, contacts)) for one in (free, made)))


def _lanes(
    pairing: Pairing, source: Entry, rig: Entry, clip: Clip, free: Clip, made: Clip, contacts: Contacts
) -> Iterator[Lane]:
    yield from feet_lanes(made, rig_legs(pairing, rig), contacts)
    palms = [p for p in rig_points(pairing, rig) if p.name in HANDS and contacts.of(p.name)]
    yield from slide_lanes(made, palms, contacts)
    hips = pairing.target.index[next(s for s in pairing.strings if s.part == "hips").target[0]]
    rise = forward_rows(made, [hips])[0][hips][1] - forward_rows(free, [hips])[0][hips][1]
    # What the whole motion is moved by, so that its feet are on the floor, is no giving way.
    yield Lane(LOWERED, "hips", rise.max() - rise)
    for side, depth in arm_depths(made, clip, pairing, source, rig).items():
        yield Lane(TOUCHING, f"{side} arm", depth)
    yield from angle_lanes(clip, made, pairing.strings)
