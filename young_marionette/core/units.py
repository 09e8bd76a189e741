"""Units of length that files come in."""

from __future__ import annotations

from typing import NamedTuple


class Unit(NamedTuple):
    """``metres`` in one; ``rarity``: how unlikely a file is to be in it (0: usual), see facts."""

    name: str
    short: str
    metres: float
    rarity: float


UNITS = (
    Unit("metre", "m", 1.0, 0.0),
    Unit("centimetre", "cm", 0.01, 0.0),
    Unit("millimetre", "mm", 0.001, 0.2),
    Unit("inch", "in", 0.0254, 0.5),
    Unit("foot", "ft", 0.3048, 0.6),
    Unit("decimetre", "dm", 0.1, 0.7),
)
METRES = {unit.short: unit.metres for unit in UNITS}
INCH = METRES["in"]


def unit_of(metres: float) -> Unit | None:
    """The unit of so many metres, or None."""
    return next((u for u in UNITS if abs(u.metres / metres - 1) < 1e-6), None)


def name_of(metres: float) -> str:
    """The name of the unit of so many metres, or what it measures.

    >>> name_of(0.01), name_of(0.5)
    ('centimetre', 'unit of 0.5 m')
    """
    unit = unit_of(metres)
    return unit.name if unit is not None else f"unit of {metres:.3g} m"
