"""The one table of formats: what each is told by, who reads and writes it, and what its files can hold."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ..core.clip import Clip
from ..core.errors import InputError
from ..core.keys.keyed import KeyedClip, dense
from . import asf, bvh, gltf, usd
from .files import Output, check_free, opened, write_together
from .source_file import SourceFile


@dataclass(frozen=True)
class Wanted:
    """How a clip is to be written; see ``encode``."""

    metres_per_unit: float = 1.0
    up: str = "Y"
    body: bool = False
    character: Any = None
    bones: tuple = ()
    level: int | None = None


@dataclass(frozen=True)
class Ending:
    """What a file with this ending is: its name for people, and what it can hold."""

    label: str
    body: bool = True
    keys: bool = True
    rig: bool = True  # a rig's own file can be written again; else it rests in a pose of its own, and tells VRM bones
    written: bool = True


@dataclass(frozen=True)
class Format:
    """A format. ``endings``: by how much we would choose them; ``fixed_world``: always in metres with Y up."""

    name: str
    known_by: Callable[[bytes], bool]
    read: Callable[[Path], SourceFile]
    endings: dict[str, Ending]
    layout: Any = None
    encode: Callable[[Path, Any, Any, Wanted], list[Output]] | None = None
    fixed_world: bool = False
    text: bool = False  # bytes of zero in it are a fault


def _bvh(path: Path, clip: Clip, layout: Any, want: Wanted) -> list[Output]:
    return bvh.encode(path, clip, layout, want.metres_per_unit)


def _gltf(path: Path, clip: Clip, layout: Any, want: Wanted) -> list[Output]:
    character = want.character if want.body else None
    return gltf.encode(path, clip, layout, want.body, character, want.bones, want.level)


def _usd(path: Path, clip: Clip, layout: Any, want: Wanted) -> list[Output]:
    character = want.character if want.body else None
    return usd.encode(path, clip, layout, want.body, character, want.metres_per_unit, want.up, want.level)


FORMATS = (
    Format("BVH", bvh.is_bvh, bvh.read, {".bvh": Ending("BVH", body=False, keys=False)}, bvh.Layout, _bvh, text=True),
    Format(
        "USD",
        usd.is_usd,
        usd.read,
        {
            ".usdc": Ending("USD, binary"),
            ".usda": Ending("USD, as text"),
            ".usdz": Ending("USD, package"),
            ".usd": Ending("USD", written=False),
        },
        usd.UsdLayout,
        _usd,
    ),
    Format(
        "glTF",
        gltf.is_gltf,
        gltf.read,
        {
            ".glb": Ending("GLB"),
            ".gltf": Ending("glTF, as text"),
            ".vrma": Ending("VRM animation", body=False, rig=False),
            ".vrm": Ending("VRM", written=False),
        },
        gltf.GltfLayout,
        _gltf,
        fixed_world=True,
    ),
    Format(
        "ASF/AMC",
        asf.is_asf_or_amc,
        asf.read,
        {".amc": Ending("ASF/AMC", written=False), ".asf": Ending("ASF/AMC", written=False)},
    ),
)
LAYOUTS = {kind.name: kind.layout for kind in FORMATS if kind.layout is not None}
ENDINGS = {name: ending for kind in FORMATS for name, ending in kind.endings.items()}
READABLE = tuple(ENDINGS)
WRITABLE = {e: kind for kind in FORMATS for e, ending in kind.endings.items() if ending.written}
_KNOWN = "BVH, glTF, GLB, VRM, USD and ASF/AMC can be read"


def read(path: str | Path) -> SourceFile:
    """Read a file of any known format, told by its first bytes and not by its name; InputError where it can't be."""
    path = Path(path)
    with opened(path) as file:
        head = file.read(1 << 16)
    if not head:
        raise InputError(f"{path.name} is empty.")
    if not head.strip():
        raise InputError(f"{path.name} begins with nothing but blanks.")
    for kind in FORMATS:
        if kind.known_by(head):
            if kind.text and b"\0" in head:
                raise InputError(f"{path.name} begins as a {kind.name} file and goes on as a binary one.")
            return kind.read(path)
    what = "a binary file" if b"\0" in head else "a file"
    raise InputError(f"{path.name} is {what} in a format that is not supported; {_KNOWN}.")


def check_writable(path: str | Path, overwrite: bool = False) -> None:
    """InputError where a path can't be written: an ending that is not known, or a file that exists."""
    path = Path(path)
    if path.suffix.lower() not in WRITABLE:
        raise InputError(f"{path.name} can't be written: use one of these endings: {', '.join(WRITABLE)}.")
    check_free(path, overwrite)


def format_of(path: str | Path) -> Format:
    """The format that a path's ending is written in; KeyError where there is none (see ``check_writable``)."""
    return WRITABLE[Path(path).suffix.lower()]


def ending_of(path: str | Path) -> Ending:
    """What a path's ending can hold; KeyError where there is none (see ``check_writable``)."""
    return ENDINGS[Path(path).suffix.lower()]


def own_ending(name: str) -> str:
    """The ending that a format is written with where nobody chose one; BVH's for one that is not written."""
    kind = next((k for k in FORMATS if k.name == name and k.encode), FORMATS[0])
    return next(iter(kind.endings))


def layout_for(path: str | Path, layout: Any) -> Any:
    """``layout`` where the format of ``path`` can use it, else None."""
    if layout is None or Path(path).suffix.lower() not in WRITABLE:
        return None
    return layout if layout.format == format_of(path).name and ending_of(path).rig else None


def write(path: str | Path, clip: Clip | KeyedClip, layout: Any = None, overwrite: bool = False, **more: Any) -> None:
    """Write a clip in the format that the name's ending tells; see ``encode``."""
    check_writable(path, overwrite)
    write_together(encode(path, clip, layout, **more))


def encode(path: str | Path, clip: Clip | KeyedClip, layout: Any = None, **wanted: Any) -> list[Output]:
    """The files that hold a clip, as keys where it has them and the format can, in the format that the name's ending tells.

    ``layout``: of the same format (see ``layout_for``); the clip is then in that file's own unit and axes. ``wanted``
    (see Wanted): without a layout, ``metres_per_unit`` and ``up``, which BVH does not tell, glTF has as metres with Y
    up, and USD writes down. ``body``: write the layout's meshes, of one ``level`` of detail, or ``character``, too.
    ``bones``: pairs of a VRM bone and a joint's name.
    """
    path = Path(path)
    kind = format_of(path)
    clip = clip if ending_of(path).keys else dense(clip)
    assert kind.encode is not None  # of what is writable
    return kind.encode(path, clip, layout, Wanted(**wanted))
