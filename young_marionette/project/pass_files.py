"""Passes as they stand in project files and in files of presets (``*.passes``): one schema, readable by a person."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, Field, model_validator

from ..core.clip import Clip
from ..core.filters.methods import Spikes
from ..core.keys.keyed import KeyedClip
from ..core.passes.adjusting import Adjust
from ..core.passes.difference import Difference
from ..core.passes.keys import Keys
from ..core.passes.stack import METHODS, Method, Pass
from ..core.thinning.settings import Thin
from ..core.thinning.tolerances import Emphasis
from .passes import Preset
from .strict import Strict, parse

VERSION = 1
_WHAT = "list of passes"
Frame = Annotated[int, Field(ge=0, lt=1 << 40)]
Name = Annotated[str, Field(max_length=1000)]
KeepMotion = Callable[[KeyedClip | Clip], dict[str, Any]]
TakeMotion = Callable[[dict[str, Any]], KeyedClip | Clip]
_Number = Annotated[float, Field(ge=-1e6, le=1e6)]
_Three = tuple[_Number, _Number, _Number]
_Hertz = Annotated[float, Field(gt=0, le=1e6)]
_Degrees = Annotated[float, Field(ge=-360, le=360)]
_Strength = Annotated[float, Field(ge=-10, le=10)]
_Seconds = Annotated[float, Field(ge=0, le=600)]


class _SpikesFile(Strict):
    threshold: float = Field(default=Spikes.threshold, ge=0.1, le=100)
    window: float = Field(default=Spikes.window, gt=0, le=10)
    longest: int = Field(default=Spikes.longest, ge=1, le=100)
    kept: list[tuple[Name, Frame]] = []


class _LowPassFile(Strict):
    cutoff: _Hertz | Literal["auto"] = "auto"
    order: Literal[2, 4] = 2
    seamless: bool = False
    parts: list[tuple[Name, _Hertz]] = []


class _SavitzkyGolayFile(Strict):
    seconds: _Seconds
    degree: int = Field(default=3, ge=1, le=9)
    seamless: bool = False


class _WindowFile(Strict):
    seconds: _Seconds
    seamless: bool = False


class _AdaptiveFile(Strict):
    strength: float = Field(default=1.0, ge=0, le=100)
    seamless: bool = False


class _OffsetFile(Strict):
    degrees: _Three = (0, 0, 0)
    metres: _Three = (0, 0, 0)
    weight: _Number = 0
    seconds: float = Field(default=0, ge=-600, le=600)


class _ScaleFile(Strict):
    factor: float = Field(ge=-100, le=100)


class _RetimeFile(Strict):
    speed: float = Field(default=1.0, ge=0.01, le=100)
    rate: float | None = Field(default=None, gt=0, le=1000)


class _LoopFile(Strict):
    first: Frame = 0
    last: Frame | None = None
    seconds: float = Field(default=0.4, gt=0, le=600)


class _PlantFile(Strict):
    pass


class _EmphasisFile(Strict):
    factor: float = Field(gt=0, le=1000)
    names: list[Name] = []
    parts: list[Name] = []
    frames: tuple[Frame, Frame] | None = None


class _ThinFile(Strict):
    places: float = Field(default=Thin.places, gt=0, le=100)
    degrees: float = Field(default=Thin.degrees, gt=0, le=360)
    planted: float | None = Field(default=Thin.planted, gt=0, le=100)
    weights: float = Field(default=Thin.weights, gt=0, le=100)
    stages: list[Literal["contacts", "keys", "joints"]] = Field(default=["contacts", "keys", "joints"], min_length=1)
    emphases: list[_EmphasisFile] = []
    forced: list[Frame] = []
    barred: list[tuple[Frame, Frame]] = []


class _CorrectionFile(Strict):
    frame: Frame = 0
    seconds: float = Field(default=0.5, gt=0, le=600)
    turns: list[tuple[Name, _Three]] = []
    moves: list[tuple[Name, _Three]] = []
    more: list[tuple[Frame, list[tuple[Name, _Three]], list[tuple[Name, _Three]]]] = []
    whole: bool = False
    strength: _Strength = 1
    strengths: list[tuple[Frame, _Strength]] = []


class _AdjustFile(Strict):
    hips: float = Field(default=0, ge=-10, le=10)
    look: _Degrees = 0
    wider: _Degrees = 0
    lean: _Degrees = 0
    turns: list[tuple[Name, _Three]] = []
    seconds: _Seconds = Adjust.seconds
    strength: _Strength = 1
    strengths: list[tuple[Frame, _Strength]] = []


class _MirrorFile(Strict):
    pass


class _TimeFile(Strict):
    first: Frame = 0
    last: Frame | None = None
    backwards: bool = False
    speeds: list[tuple[Frame, Annotated[float, Field(ge=0.01, le=100)]]] = []
    holds: list[tuple[Frame, Annotated[float, Field(gt=0, le=600)]]] = []


class _DifferenceFile(Strict):
    """``motion``: see schema.MotionFile; it is taken from what the document keeps beside it."""

    motion: dict[str, Any]
    reference: Frame = 0
    at: int = Field(default=0, ge=-(1 << 40), lt=1 << 40)
    seconds: _Seconds = Difference.seconds
    strength: _Strength = 1
    strengths: list[tuple[Frame, _Strength]] = []


class _KeysFile(Strict):
    """``motion``: see schema.MotionFile; it is taken from what the document keeps beside it."""

    motion: dict[str, Any]
    marks: list[tuple[Frame, Literal["end", "contact", "accent", "promise", "hand-made"]]] = []
    beneath: str = Field(default="", max_length=200)


_FILES: dict[str, type[Strict]] = {
    "spikes": _SpikesFile,
    "low-pass": _LowPassFile,
    "savitzky-golay": _SavitzkyGolayFile,
    "gaussian": _WindowFile,
    "median": _WindowFile,
    "adaptive": _AdaptiveFile,
    "offset": _OffsetFile,
    "scale": _ScaleFile,
    "retime": _RetimeFile,
    "loop": _LoopFile,
    "plant": _PlantFile,
    "thin": _ThinFile,
    "keys": _KeysFile,
    "correction": _CorrectionFile,
    "adjust": _AdjustFile,
    "mirror": _MirrorFile,
    "time": _TimeFile,
    "difference": _DifferenceFile,
}


class PassFile(Strict):
    """A pass; ``settings``: of its method (see core.passes.stack.METHODS), those that are left out are as usual."""

    id: str = Field(pattern="^[0-9a-z-]{1,40}$")
    method: Literal[
        "spikes",
        "low-pass",
        "savitzky-golay",
        "gaussian",
        "median",
        "adaptive",
        "offset",
        "scale",
        "retime",
        "loop",
        "plant",
        "thin",
        "keys",
        "correction",
        "adjust",
        "mirror",
        "time",
        "difference",
    ]
    settings: dict[str, Any] = {}
    channels: list[Literal["rotation", "position", "morph"]] = ["rotation", "position", "morph"]
    names: list[Name] = []
    parts: list[Name] = []
    frames: tuple[Frame, Frame] | None = None
    on: bool = True
    keep: bool = True

    @model_validator(mode="after")
    def _sound(self) -> PassFile:
        _FILES[self.method].model_validate(self.settings)
        if self.frames is not None and self.frames[0] > self.frames[1]:
            raise ValueError("the last frame comes before the first one")
        return self


def _for_any(one: PassFile) -> PassFile:
    if one.method in ("keys", "difference"):
        raise ValueError(f"a pass of {one.method} belongs to one clip alone")
    return one


AnyPassFile = Annotated[PassFile, AfterValidator(_for_any)]  # one that may be laid over any clip


class PresetFile(Strict):
    """A named list of passes."""

    name: str = Field(min_length=1, max_length=200)
    passes: list[AnyPassFile] = Field(min_length=1)


class PresetsFile(Strict):
    """A file of presets, ``*.passes``."""

    format: Literal["young-marionette list of passes"] = "young-marionette list of passes"
    version: int = VERSION
    presets: list[PresetFile] = []


def pass_file(one: Pass, keep: KeepMotion | None = None) -> PassFile:
    """A pass as it is written: only what is not as usual. ``keep``: keeps motion by value, and gives what tells of it."""
    usual, method = type(one.method), one.method
    if isinstance(method, Keys):
        if keep is None:
            raise ValueError("keys belong to one clip")
        settings = {"motion": keep(method.keyed), "marks": _plain(method.marks), "beneath": method.beneath}
        return PassFile(id=one.id, method="keys", settings=settings, on=one.on)
    if isinstance(method, Difference):
        if keep is None:
            raise ValueError("another clip belongs to one project")
        values = {name: _plain(value) for name, value in vars(method).items() if name != "clip"}
        fields = {**vars(one), "method": method.code, "settings": values | {"motion": keep(method.clip)}}
        return PassFile.model_validate({name: _plain(value) for name, value in fields.items()})
    defaults = {name: field.default for name, field in usual.__dataclass_fields__.items()}
    settings = {name: _plain(value) for name, value in vars(method).items() if value != defaults[name]}
    # Windows have no length that is usual for all.
    settings |= {name: vars(method)[name] for name in ("seconds", "factor") if name in vars(method)}
    fields = {**vars(one), "method": method.code, "settings": settings}
    return PassFile.model_validate({name: _plain(value) for name, value in fields.items()})


def pass_of(file: PassFile, take: TakeMotion | None = None) -> Pass:
    """The pass that was written; ``take``: gives the motion that was kept by value."""
    return Pass(
        file.id, _method(file, take), tuple(file.channels), tuple(file.names), tuple(file.parts), file.frames, file.on, file.keep
    )  # fmt: skip


def preset_file(preset: Preset) -> PresetFile:
    return PresetFile(name=preset.name, passes=[pass_file(one) for one in preset.passes])


def preset_of(file: PresetFile) -> Preset:
    return Preset(file.name, tuple(map(pass_of, file.passes)))


def presets_bytes(presets: tuple[Preset, ...]) -> bytes:
    """A file of presets."""
    return PresetsFile(presets=[preset_file(p) for p in presets]).model_dump_json(indent=1).encode()


def presets_of(label: str, data: bytes) -> tuple[Preset, ...]:
    """The presets of a file; InputError in one sentence for another one."""
    return tuple(map(preset_of, parse(label, data, PresetsFile, VERSION, _WHAT).presets))


def _method(file: PassFile, take: TakeMotion | None) -> Method:
    values = _FILES[file.method].model_validate(file.settings)
    if isinstance(values, _KeysFile):
        if take is None:
            raise ValueError("keys belong to one clip")
        keyed = take(values.motion)
        if not isinstance(keyed, KeyedClip):
            raise ValueError("frames where keys belong")
        return Keys(keyed, _tuples(values.marks), values.beneath)
    settings = {name: _tuples(getattr(values, name)) for name in type(values).model_fields}
    if isinstance(values, _DifferenceFile):
        clip = take(settings.pop("motion")) if take is not None else None
        if not isinstance(clip, Clip):
            raise ValueError("another clip belongs to one project")
        return Difference(clip, **settings)
    if isinstance(values, _ThinFile):
        settings["emphases"] = tuple(
            Emphasis(e.factor, tuple(e.names), tuple(e.parts), e.frames) for e in values.emphases
        )
    return METHODS[file.method](**settings)


def _plain(value: Any) -> Any:
    if isinstance(value, Emphasis):
        return {name: _plain(one) for name, one in vars(value).items()}
    return [_plain(v) for v in value] if isinstance(value, list | tuple) else value


def _tuples(value: Any) -> Any:
    return tuple(_tuples(v) for v in value) if isinstance(value, list | tuple) else value
