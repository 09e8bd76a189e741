"""Files of ours beside recordings: ``*.figure`` (a performer's body figure) and ``*.labelling`` (which marker is on which segment)."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from ...core.errors import InputError
from ...core.markers.figure import Figure
from ...core.markers.segments import BODY, structure_with
from ...core.text import shown
from ...formats.files import Output
from ..strict import Strict, load_file, parse

VERSION = 1
FIGURE, LABELLING = ".figure", ".labelling"
Metres = Annotated[float, Field(ge=-10, le=10)]
Place = tuple[Metres, Metres, Metres]


class MarkerFile(Strict):
    """A marker on a figure: ``place`` in metres in the axes of the segment's joint."""

    label: str = Field(max_length=200)
    segment: str
    place: Place


class FigureFile(Strict):
    """``offsets``: of each joint from the one above it, metres, in a T-pose that faces +Z with Y up."""

    format: Literal["young-marionette figure"] = "young-marionette figure"
    version: int = Field(default=VERSION, ge=1, le=VERSION)
    stature: float = Field(gt=0.2, lt=5)
    offsets: dict[str, Place]
    markers: list[MarkerFile] = Field(default_factory=list, max_length=20_000)


class LabellingFile(Strict):
    """``markers``: label to the name of a segment, or null for one that goes with none."""

    format: Literal["young-marionette labelling"] = "young-marionette labelling"
    version: int = Field(default=VERSION, ge=1, le=VERSION)
    name: str = ""
    markers: dict[str, str | None]


def figure_file(figure: Figure) -> FigureFile:
    """A figure as its file has it."""
    names = figure.structure.names
    markers = [
        MarkerFile(label=label, segment=names[s], place=_place(p))
        for label, s, p in zip(figure.labels, figure.segments, figure.places)
    ]
    offsets = {name: _place(offset) for name, offset in zip(names, figure.offsets)}
    return FigureFile(stature=round(figure.stature, 6), offsets=offsets, markers=markers)


def _place(values: np.ndarray) -> Place:
    return float(values[0]), float(values[1]), float(values[2])


def figure_of(label: str, file: FigureFile) -> Figure:
    """The figure that a file tells; InputError where it is none of our bodies."""
    structure = structure_with([name for name in file.offsets if name not in BODY.index])
    missing = [name for name in structure.names if name not in file.offsets]
    unknown = [name for name in file.offsets if name not in structure.index]
    odd = [m.segment for m in file.markers if m.segment not in structure.index]
    if missing or unknown or odd:
        name = shown([*missing, *unknown, *odd][0], 40)
        raise InputError(f"{label} is not a valid figure: {name} is {'missing' if missing else 'no bone of a figure'}.")
    if len({m.label for m in file.markers}) != len(file.markers):
        raise InputError(f"{label} is not a valid figure: a marker stands in it twice.")
    return Figure(
        file.stature,
        np.array([file.offsets[name] for name in structure.names]),
        tuple(m.label for m in file.markers),
        np.array([structure.index[m.segment] for m in file.markers], int),
        np.array([m.place for m in file.markers], float).reshape(-1, 3),
        structure,
    )


def load_figure(path: Path | str) -> Figure:
    """Read a figure; InputError, in one sentence, where that can't be done."""
    path = Path(path)
    return figure_of(path.name, load_file(path, FigureFile, VERSION, "figure"))


def parse_figure(label: str, data: bytes) -> Figure:
    """A figure of the bytes of its file."""
    return figure_of(label, parse(label, data, FigureFile, VERSION, "figure"))


def encode_figure(path: Path | str, figure: Figure) -> list[Output]:
    """The file that holds a figure."""
    return [Output(Path(path), [_json(figure_file(figure))])]


def load_labelling(path: Path | str) -> dict[str, str | None]:
    """Read a labelling: label to segment, or None; InputError, in one sentence, where that can't be done."""
    path = Path(path)
    file = load_file(path, LabellingFile, VERSION, "labelling")
    known = structure_with(file.markers.values()).index
    for segment in file.markers.values():
        if segment is not None and segment not in known:
            raise InputError(f"{path.name} is not a valid labelling: {shown(segment, 40)} is no segment.")
    return dict(file.markers)


def encode_labelling(path: Path | str, markers: dict[str, str | None], name: str = "") -> list[Output]:
    """The file that holds a labelling."""
    return [Output(Path(path), [_json(LabellingFile(name=name, markers=markers))])]


def _json(file: Strict) -> bytes:
    return json.dumps(file.model_dump(mode="json"), indent=1, ensure_ascii=False).encode() + b"\n"
