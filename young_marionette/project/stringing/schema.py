"""The schema of ``*.stringing`` files."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import AfterValidator, BeforeValidator, Field

from ...core.travel.settings import GROUND
from ..strict import Strict

VERSION = 4


def _turn(value: tuple[float, float, float, float]) -> tuple[float, float, float, float]:
    if not 0.5 < sum(v * v for v in value) < 2:
        raise ValueError("a rotation needs a quaternion of length one")
    return value


Coordinate = Annotated[float, Field(ge=-1e9, le=1e9)]
Feet = Literal["auto", "planted", "free"]
Hands = Literal["auto", "directions", "places", "touch"]
Clear = Literal["auto", "on", "off"]


def _axes(value: object) -> object:
    """Ground axes; versions before 4 knew only all or none."""
    return {True: list(GROUND), False: []}[value] if isinstance(value, bool) else value


InPlace = Annotated[tuple[Literal["x", "z"], ...], BeforeValidator(_axes), Field(max_length=2)]
Root = Annotated[tuple[Literal["x", "y", "z", "turn"], ...], Field(max_length=4)]
Start = Literal["", "origin", "line"]
Share = Annotated[float, Field(ge=0, le=1)]
Quaternion = Annotated[tuple[float, float, float, float], AfterValidator(_turn)]


class Joint(Strict):
    """A joint of the rest pose: offset in metres and rotation, in the parent's axes; no rotation is left out.

    Version 1 knew no rotations.
    """

    name: str
    parent: str | None
    offset: tuple[Coordinate, Coordinate, Coordinate]
    rest: Quaternion | None = None


class Side(Strict):
    """One skeleton: its family fingerprint, its joints at rest, and its reference pose.

    ``pose``: for joints that are turned away from rest, the local turn after the rest rotation.
    """

    fingerprint: str
    joints: list[Joint]
    pose: dict[str, Quaternion] = Field(default_factory=dict)


class Tie(Strict):
    part: str
    source: list[str] = Field(min_length=1)
    target: list[str] = Field(min_length=1)
    certainty: float = Field(ge=0, le=1)
    reason: str = ""
    by_hand: bool = False
    locked: bool = False


class Settings(Strict):
    in_place: InPlace = ()
    root: Root | None = None
    root_smooth: float = Field(default=0.0, ge=0, le=60)
    start: Start = ""
    ahead: bool = False
    stride: float = Field(default=1.0, gt=0, le=100)
    height_offset: float = Field(default=0.0, ge=-100, le=100)
    touches: dict[Literal["shoulders up", "elbows back", "arms out", "head down"], float] = Field(default_factory=dict)
    feet: Feet = "auto"
    hands: Hands = "auto"
    hold_places: Share = 1.0
    hold_room: Share = 1.0
    hold_body: Share = 1.0
    hold_hands: Share = 1.0
    clear: Clear = "auto"


class StringingFile(Strict):
    """The schema of a ``*.stringing`` file, version 4. Version 2 knew nothing of feet and hands, version 3 nothing of root motion."""

    format: Literal["young-marionette stringing"]
    version: int
    name: str = ""
    source: Side
    target: Side
    strings: list[Tie]
    absent: list[str] = Field(default_factory=list)
    stance_matched: bool = True
    settings: Settings = Settings()
