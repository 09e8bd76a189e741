"""What can be decided about a fault of a marker, as commands; and the faults that nothing was decided about yet."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ...core.markers.faults import EXCHANGED, STRAY, WRONG_SEGMENT, WRONG_SIDE
from ...core.markers.mends import BELIEVE, EXCHANGE, FILL, LEAVE_OUT, Mend
from ...core.markers.sites import read_labels
from ..commands.markers import AssignMarker, MendMarkers
from .showing import told_faults

if TYPE_CHECKING:
    from ...core.markers.faults import Fault
    from ...core.markers.solving import Solution
    from ..commands import Command
    from .entry import MarkerEntry

EVERYWHERE, MOVE, AS_LABELLED = "everywhere", "move", "as labelled"


def choices(entry: MarkerEntry, fault: Fault) -> list[tuple[str, Command]]:
    """``(what, the command)`` for a fault in frames of the whole recording; the first is what solving does by itself."""
    labels, key = entry.recording.labels, entry.id
    label = labels[fault.marker]
    nowhere: tuple[str, Command] = EVERYWHERE, AssignMarker(key, label, None)
    if fault.kind == STRAY:
        return [nowhere]
    if fault.kind in (WRONG_SEGMENT, WRONG_SIDE):
        said = read_labels(labels, entry.structure)[fault.marker].segment
        found: list[tuple[str, Command]] = [(MOVE, AssignMarker(key, label, str(fault.other))), nowhere]
        return [*found, (AS_LABELLED, AssignMarker(key, label, said))] if said else found
    span = fault.first, fault.last
    both = (label, labels[fault.other]) if isinstance(fault.other, int) else (label,)

    def on_each(kind: str) -> tuple[str, Command]:
        return kind, MendMarkers(key, tuple(Mend(kind, one, *span) for one in both))

    if fault.kind == EXCHANGED and len(both) == 2:
        swap: tuple[str, Command] = EXCHANGE, MendMarkers(key, (Mend(EXCHANGE, label, *span, both[1]),))
        return [swap, on_each(LEAVE_OUT), on_each(BELIEVE)]
    return [on_each(LEAVE_OUT), on_each(FILL), nowhere, on_each(BELIEVE)]


def undecided(entry: MarkerEntry, solution: Solution) -> list[Fault]:
    """Faults to look at: what was found and mended by itself, but for points without a label."""
    free = entry.recording.unlabelled
    return [f for f in told_faults(entry, solution) if f.kind != STRAY or not free[f.marker]]
