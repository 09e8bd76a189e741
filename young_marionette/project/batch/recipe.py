"""Recipes: how clips are to be delivered, as plain values and as readable ``*.recipe`` files."""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Literal

from pydantic import Field, field_validator, model_validator

from ...core.travel.settings import Travel
from ...core.units import METRES
from ...formats.files import Output, check_free, write_together
from ...formats.registry import WRITABLE
from ..pass_files import AnyPassFile, pass_of
from ..shaping import Shape
from ..strict import Strict, load_file
from ..stringing.schema import Feet, Hands, InPlace, Root, Start
from .names import Names

if TYPE_CHECKING:
    from ...core.passes.stack import Pass
    from ...core.transfer.settings import TransferSettings

VERSION = 2
Path_ = Annotated[str, Field(min_length=1, max_length=4000)]
Axis = Literal["+X", "-X", "+Y", "-Y", "+Z", "-Z"]
Text = Annotated[str, Field(max_length=200)]


class RootMotion(Strict):
    """What of travel is other than in the stringing; None leaves it. ``bone``: a root bone is added, or taken out."""

    in_place: InPlace | None = None
    root: Root | None = None
    root_smooth: float | None = Field(default=None, ge=0, le=60)
    start: Start | None = None
    ahead: bool | None = None
    bone: Literal["", "add", "remove"] = ""


class Recipe(Strict):
    """How clips are delivered: the schema of a ``*.recipe`` file, version 2.

    ``endings``: of the files of each clip, such as ``".glb"``; none: that of the rig's own file. ``motion_only``: without meshes
    and skin, where the rig's file has a body and the format could hold it; version 1 had ``body`` for the contrary.
    ``frames``: first and last of each clip, in its own frames; ``fps``: of the result, whose length stays; ``from_zero``: it
    starts at frame zero. ``source_up``, ``source_facing``: axes of the clips' files, None as they are found. ``unit``, ``up``: None leaves the rig's. ``bones``: a convention for names, or a file that has them;
    ``prefix`` false: without what all names begin with; ``ends`` false: without bones that only end the one above.
    ``object``: what stands over a skeleton, see project.shaping. ``together``: all clips of a rig as the animations of one file. ``subfolders``: as the sources lie in theirs.
    ``rigs``, ``stringings``: paths of what it is always used with; relative ones lie beside the file.
    ``feet``, ``hands``: see core.transfer.settings. ``passes``: what is done to each clip after it was baked.
    """

    format: Literal["young-marionette recipe"] = "young-marionette recipe"
    version: int = VERSION
    name: Text = ""
    endings: Annotated[tuple[str, ...], Field(max_length=12)] = ()
    motion_only: bool = False
    frames: tuple[Annotated[int, Field(ge=0, lt=1 << 40)], Annotated[int, Field(ge=0, lt=1 << 40)]] | None = None
    fps: float | None = Field(default=None, gt=0, le=1000)
    from_zero: bool = False
    source_up: Axis | None = None
    source_facing: Axis | None = None
    unit: Literal["m", "cm", "mm", "in", "ft", "dm"] | None = None
    up: Literal["Y", "Z"] | None = None
    names: Names = Names()
    bones: str = Field(default="", max_length=4000)
    prefix: bool = True
    ends: bool = True
    object: Literal["", "apply", "reset"] = ""
    together: bool = False
    subfolders: bool = False
    rigs: Annotated[tuple[Path_, ...], Field(max_length=1000)] = ()
    stringings: Annotated[tuple[Path_, ...], Field(max_length=1000)] = ()
    feet: Feet | None = None
    hands: Hands | None = None
    travel: RootMotion = RootMotion()
    passes: tuple[AnyPassFile, ...] = ()

    @model_validator(mode="before")
    @classmethod
    def _of_version_1(cls, tree: Any) -> Any:
        if isinstance(tree, dict) and tree.get("version") == 1:
            tree = dict(tree)
            body = tree.pop("body", False)
            tree |= {"version": VERSION, **({"motion_only": not body} if isinstance(body, bool) else {"body": body})}
        return tree

    @field_validator("endings")
    @classmethod
    def _written(cls, endings: tuple[str, ...]) -> tuple[str, ...]:
        if unknown := [e for e in endings if e not in WRITABLE]:
            raise ValueError(f"{unknown[0]} can't be written; use {', '.join(WRITABLE)}")
        return tuple(dict.fromkeys(endings))

    @property
    def shape(self) -> Shape:
        """How what is written differs from the rig's own file."""
        unit = None if self.unit is None else METRES[self.unit]
        return Shape(self.travel.bone, None, not self.ends, self.bones, self.prefix, unit, self.up, self.object)

    @property
    def done_to_each(self) -> tuple[Pass, ...]:
        """The passes over each baked clip."""
        return tuple(map(pass_of, self.passes))

    def over(self, settings: TransferSettings) -> TransferSettings:
        """Transfer settings with what the recipe says of them."""
        from dataclasses import replace

        asked = {**self.travel.model_dump(exclude={"bone"}), "feet": self.feet, "hands": self.hands}
        return replace(settings, **{name: value for name, value in asked.items() if value is not None})

    def travel_of(self, settings: TransferSettings) -> Travel | None:
        """How a clip that was baked with some settings is to travel; None where that is as it was baked."""
        wanted = self.over(settings).travel
        return None if wanted == settings.travel else wanted


def encode(path: Path, recipe: Recipe) -> list[Output]:
    """The files (list of Output) of a recipe: only what is not as usual is written."""
    tree = {"format": recipe.format, "version": VERSION, **recipe.model_dump(mode="json", exclude_defaults=True)}
    return [Output(Path(path), [json.dumps(tree, indent=1, ensure_ascii=False).encode(), b"\n"])]


def save(path: Path, recipe: Recipe, overwrite: bool = False) -> None:
    """Write a recipe."""
    check_free(path, overwrite)
    write_together(encode(path, recipe))


def load(path: Path) -> Recipe:
    """Read a recipe; InputError, in one sentence, for anything else."""
    recipe = load_file(path, Recipe, VERSION, "recipe")
    beside = {name: tuple(str(Path(path).parent / p) for p in getattr(recipe, name)) for name in ("rigs", "stringings")}
    return recipe.model_copy(update=beside)
