"""What can be set about a transfer."""

from __future__ import annotations

from dataclasses import dataclass, replace

from ..errors import InputError
from ..matching.touches import TOUCHES
from ..settings import Rule, check, check_value, choice, flag, number, parts
from ..travel.settings import AS_IT_IS, GROUND, PARTS, STARTS, Travel

AUTO, PLANTED, FREE = FEET = ("auto", "planted", "free")
DIRECTIONS, PLACES, TOUCH = ("directions", "places", "touch")
ON, OFF = ("on", "off")
HANDS = (AUTO, DIRECTIONS, PLACES, TOUCH)


@dataclass(frozen=True)
class TransferSettings:
    """``in_place``, ``root``, ``root_smooth``, ``start``, ``ahead``: see travel.settings. ``stride``: ground travel in leg
    lengths' ratio (1 keeps it).

    ``height_offset``: metres added to the hips' height. ``touches``: ``((name, degrees), ...)``, see core.touches.
    ``feet``: planted where the source's stand, or free; auto plants them where the proportions differ.
    ``hands``: arms keep their directions, or hands the source's places scaled to the rig, or what they touch; auto is
    touch where the feet are planted, else directions. ``hold_places``, ``hold_room``, ``hold_body``, ``hold_hands``: how
    far hands go to the source's places, what they hold in the room, the own body, each other: 0 to 1. ``clear``: hands and
    forearms are kept out of thighs and trunk where the source's are out; auto as for feet.
    """

    in_place: tuple[str, ...] = parts((), GROUND)
    root: tuple[str, ...] | None = parts(None, PARTS, none=True)
    root_smooth: float = number(0.0, least=0.0, most=60.0)
    start: str = choice(AS_IT_IS, STARTS)
    ahead: bool = flag(False)
    stride: float = number(1.0, above=0.0, most=100.0)
    height_offset: float = number(0.0, least=-100.0, most=100.0)
    touches: tuple[tuple[str, float], ...] = ()
    feet: str = choice(AUTO, FEET)
    hands: str = choice(AUTO, HANDS)
    hold_places: float = number(1.0, least=0.0, most=1.0)
    hold_room: float = number(1.0, least=0.0, most=1.0)
    hold_body: float = number(1.0, least=0.0, most=1.0)
    hold_hands: float = number(1.0, least=0.0, most=1.0)
    clear: str = choice(AUTO, (AUTO, ON, OFF))

    def __post_init__(self) -> None:
        check(self)
        for name in ("in_place", "root"):
            value = getattr(self, name)
            if value is not None:
                object.__setattr__(self, name, tuple(value))
        for touch in self.touches:
            name, degrees = touch
            if name not in TOUCHES:
                raise InputError(f"'{name}' is no adjustment of the stance; there are {', '.join(TOUCHES)}.")
            check_value(name, degrees, Rule("number", -180.0, 180.0))

    @property
    def carried(self) -> TransferSettings:
        """The same for motion that goes where it goes."""
        return replace(self, in_place=(), root=None, root_smooth=0.0, start=AS_IT_IS, ahead=False)

    @property
    def travel(self) -> Travel:
        """Where the figure goes, and what of it its root bone carries."""
        return Travel(self.in_place, self.root, self.root_smooth, self.start, self.ahead)
