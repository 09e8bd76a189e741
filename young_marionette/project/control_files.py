"""Sets of controls as they stand in project files and in files of their own (``*.controls``): one schema, readable by a person."""

from __future__ import annotations

import json
from dataclasses import asdict
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from ..core.controls.sets import MOST, Control, ControlSet, CurlJoint, LimbControls, Sole
from ..core.errors import InputError
from ..formats.files import Output, check_free, write_together
from .strict import Strict, load_file

VERSION = 1
_WHAT = "set of controls"
_LONG = 1 << 16  # letters of a name: files hold longer ones than anybody would give
Name = Annotated[str, Field(min_length=1, max_length=_LONG)]
_Angle = Annotated[float, Field(ge=-6.3, le=6.3)]
_Part = Annotated[float, Field(ge=-1000, le=1000)]
_Three = tuple[_Part, _Part, _Part]


class ControlFile(Strict):
    """A control; see core.controls.sets.Control. Angles in radians, ``reach`` in metres; what is left out is as usual."""

    name: Name
    kind: Literal["body", "placed", "turned", "end", "direction", "roll", "curl"]
    bone: str = Field(default="", max_length=_LONG)
    part: str = Field(default="", max_length=100)
    space: str = Field(default="", max_length=_LONG)
    shape: Literal["crossbar", "ring", "toggle", "tassel", "bead", "rocker", "peg"] = "ring"
    size: float = Field(default=1.0, ge=0.05, le=20)
    colour: Literal["middle", "left", "right", "quiet"] = "middle"
    shown: bool = True
    swing: float | None = Field(default=None, ge=0, le=3.15)
    twist: tuple[_Angle, _Angle] | None = None
    reach: float | None = Field(default=None, ge=0, le=1000)


class LimbFile(Strict):
    """A limb: its upper, lower and end bone, and where its elbow or knee points at rest (Y up, figure facing +Z)."""

    name: Name
    bones: tuple[Name, Name, Name]
    points: _Three
    reaches: bool = True
    space: Literal["world", "hips"] = "world"


class CurlFile(Strict):
    """A bone of a finger and the axis, in its own axes, about which it curls."""

    hand: Name
    bone: Name
    axis: _Three


class SoleFile(Strict):
    """About what a foot rolls: places from its joint at rest, in metres, and the bone that stays on the floor."""

    foot: Name
    heel: _Three
    ball: _Three
    toes: str = Field(default="", max_length=_LONG)


class ControlSetFile(Strict):
    """The controls of a rig."""

    controls: list[ControlFile] = Field(min_length=1, max_length=MOST)
    limbs: list[LimbFile] = Field(default=[], max_length=100)
    curls: list[CurlFile] = Field(default=[], max_length=MOST)
    soles: list[SoleFile] = Field(default=[], max_length=100)

    @model_validator(mode="after")
    def _sound(self) -> ControlSetFile:
        names = [one.name for one in self.controls]
        if len(set(names)) != len(names):
            raise ValueError("two controls have the same name")
        return self


class ControlsFile(ControlSetFile):
    """A file of controls, ``*.controls``; ``rig``: what the rig was called that they were made for."""

    format: Literal["young-marionette set of controls"] = "young-marionette set of controls"
    version: int = VERSION
    rig: str = Field(default="", max_length=_LONG)


def set_file(controls: ControlSet) -> ControlSetFile:
    """A set as it is written."""
    return ControlSetFile.model_validate(_plain(asdict(controls)))


def set_of(file: ControlSetFile) -> ControlSet:
    """The set that was written."""
    return ControlSet(
        tuple(Control(**one.model_dump()) for one in file.controls),
        tuple(LimbControls(**one.model_dump()) for one in file.limbs),
        tuple(CurlJoint(**one.model_dump()) for one in file.curls),
        tuple(Sole(**one.model_dump()) for one in file.soles),
    )


def encode(path: Path, controls: ControlSet, rig: str = "") -> list[Output]:
    """The file (list of Output) of a set; what is as usual is left out."""
    head = {"format": ControlsFile.model_fields["format"].default, "version": VERSION, "rig": rig[:_LONG]}
    values = head | set_file(controls).model_dump(mode="json", exclude_defaults=True)
    return [Output(Path(path), [json.dumps(values, indent=1, ensure_ascii=False).encode("utf-8", "replace"), b"\n"])]


def save(path: Path, controls: ControlSet, rig: str = "", overwrite: bool = False) -> None:
    """Write a set; InputError where a file is there that is not to be replaced."""
    if Path(path).suffix.lower() != ".controls":
        raise InputError(f"{Path(path).name}: a set of controls is a file ending in .controls.")
    check_free(path, overwrite)
    write_together(encode(path, controls, rig))


def load(path: Path) -> ControlSet:
    """Read a set; InputError, in one sentence, for anything else."""
    return set_of(load_file(path, ControlsFile, VERSION, _WHAT))


def _plain(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: _plain(one) for key, one in value.items()}
    return [_plain(one) for one in value] if isinstance(value, list | tuple) else value
