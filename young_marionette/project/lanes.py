"""Which lanes there are over the timeline: groups that fold, contact points, and deviations put together for people to look at."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np

from ..core.contacts.points import POINTS
from ..core.evaluator import EVALUATOR
from ..core.transfer.deviation import ANGLE, FLOAT, LOWERED, SINK, SLIDE, TOUCHING

if TYPE_CHECKING:
    from collections.abc import Collection

    from ..core.contacts.contact import Contacts
    from ..core.passes.measuring import Changes
    from ..core.passes.thinning import Poses
    from .deviation import Deviation

_TOUCHES = {"left": "Left hand on the body", "right": "Right hand on the body", "both": "Hands together"}
ALWAYS = POINTS[:4]  # lanes of the feet are there even where they touch nothing
CONTACTS, DEVIATION, PASSES, KEYS = "contacts", "deviation", "passes", "keys"


@dataclass(frozen=True, eq=False)
class Row:
    """``kind``: group, keys, contact, touch or deviation. ``key``: the group, the contact point, the hand, or what is off.

    ``before``, ``after (frames,)``: in ``unit``. ``part``: what a click points out. ``scale``: the value that fills the
    lane's height.
    """

    kind: str
    key: str
    name: str
    part: str | None = None
    unit: str = ""
    before: np.ndarray | None = None
    after: np.ndarray | None = None
    scale: float = 1.0

    @property
    def side(self) -> str | None:
        return self.key.partition(" ")[0] if self.key.startswith(("left ", "right ")) else None


@dataclass(frozen=True)
class _Kind:
    """How a kind of deviation is shown: its name, unit, factor from what it is measured in, least full height, parts."""

    name: str
    unit: str
    factor: float
    least: float
    kinds: tuple[str, ...]
    groups: dict[str, tuple[str, ...]] = field(default_factory=dict)


def _sided(*parts: str) -> dict[str, tuple[str, ...]]:
    return {f"{side} {parts[0]}": tuple(f"{side} {p}" for p in parts[1:]) for side in ("left", "right")}


_DEVIATIONS = (
    _Kind("slides", "cm", 100, 2.0, (SLIDE,), _sided("foot", "heel", "toe")),
    _Kind("sinks", "cm", 100, 2.0, (SINK,), _sided("foot", "foot")),
    _Kind("floats", "cm", 100, 2.0, (FLOAT,), _sided("foot", "foot")),
    _Kind("slides", "cm", 100, 2.0, (SLIDE,), _sided("hand", "hand")),
    _Kind("in the body", "cm", 100, 2.0, (TOUCHING,), _sided("arm", "arm")),
    _Kind("give way", "cm", 100, 5.0, (LOWERED,), {"hips": ("hips",)}),
    _Kind("off the source", "°", float(np.degrees(1)), 10.0, (ANGLE,), _sided("arm", "upper arm", "forearm")),
    _Kind("off the source", "°", float(np.degrees(1)), 10.0, (ANGLE,), _sided("leg", "thigh", "shin")),
)


def rows(
    contacts: Contacts | None,
    deviation: Deviation | None,
    folded: Collection[str],
    changes: Changes | None = None,
    poses: Poses | None = None,
) -> list[Row]:
    """The lanes (list of Row) of a clip's ``contacts``, a Deviation, Changes that passes make, and ``poses`` of a thinned
    clip; any may be None.

    ``folded``: groups.
    """
    found = []
    if poses is not None:
        found.append(Row("group", KEYS, "Keys"))
        if KEYS not in folded:
            found.append(Row("keys", "poses", "Poses"))
            found.append(EVALUATOR.of("thinning row", (poses,), lambda: _thinning_row(poses)))
    if changes is not None:
        found.append(Row("group", PASSES, "Passes"))
        if PASSES not in folded:
            found.append(EVALUATOR.of("changes row", (changes,), lambda: _changes_row(changes)))
    if contacts is not None:
        found.append(Row("group", CONTACTS, "Contacts"))
        if CONTACTS not in folded:
            shown = [p for p in POINTS if p in ALWAYS or contacts.of(p)]
            found += [Row("contact", p, p.capitalize(), _part_of(p)) for p in shown]
            found += [
                Row("touch", side, _TOUCHES[side], "left hand" if side == "both" else f"{side} hand")
                for side in _TOUCHES
                if any(touch.side == side for touch in contacts.touches)
            ]
    if deviation is not None:
        found.append(Row("group", DEVIATION, "Deviation, before and after"))
        if DEVIATION not in folded:
            found += EVALUATOR.of("deviation rows", (deviation,), lambda: _deviation_rows(deviation))
    return found


def _changes_row(changes: Changes) -> Row:
    moved = changes.lane * 100
    most = max(float(moved.max(initial=0.0)), 1.0)
    return Row("deviation", "moved", "Moved by passes", None, "cm", np.zeros_like(moved), moved, most)


def _thinning_row(poses: Poses) -> Row:
    away = poses.deviation.lane * 100
    most = max(float(away.max(initial=0.0)), 0.2)
    return Row("deviation", "thinned", "Off the dense clip", None, "cm", np.zeros_like(away), away, most)


def _part_of(point: str) -> str:
    side, _, end = point.partition(" ")
    return {"heel": f"{side} foot", "toe": f"{side} foot", "hand": f"{side} hand", "knee": f"{side} shin"}.get(
        end, "hips"
    )


def _deviation_rows(deviation: Deviation) -> list[Row]:
    made = []
    for kind in _DEVIATIONS:
        for name, parts in kind.groups.items():
            both = []
            for lanes in (deviation.before, deviation.after):
                values = [lane.values for lane in lanes if lane.kind in kind.kinds and lane.part in parts]
                if values:
                    both.append(np.max(values, axis=0) * kind.factor)
            if len(both) < 2:
                continue
            most = max(float(v.max(initial=0.0)) for v in both)
            part = name if name.endswith(("foot", "hand")) or name == "hips" else parts[0]
            part = part.replace(" arm", " forearm") if part.endswith(("left arm", "right arm")) else part
            key, called = f"{name} {kind.name}", f"{name.capitalize()} {kind.name}"
            made.append(Row("deviation", key, called, part, kind.unit, both[0], both[1], max(most, kind.least)))
    return made
