"""The one table of formats: what each is told by, who reads and writes it, and what its files can hold."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..core.errors import InputError
from ..core.keys.keyed import dense
from .files import Output, check_free, opened, write_together
from .sniffing import is_asf_or_amc, is_bvh, is_c3d, is_gltf, is_marker_table, is_trc, is_usd
from .wanted import Wanted

if TYPE_CHECKING:
    from ..core.clip import Clip
    from ..core.keys.keyed import KeyedClip
    from ..core.markers.recording import Recording
    from .source_file import SourceFile


@dataclass(frozen=True)
class Ending:
    """What a file with this ending is: its name for people, and what it can hold."""

    label: str
    body: bool = True
    keys: bool = True
    curves: bool = False  # keys with smooth in-betweens, too; else those become frames
    several: bool = False  # clips in one file
    rig: bool = True  # a rig's own file can be written again; else it rests in a pose of its own, and tells VRM bones
    written: bool = True
    markers: bool = False  # recordings of markers, and no skeletons
    in_folders: bool = True  # one that lies in a folder is what it seems to be; else it has to be named


@dataclass(frozen=True)
class Format:
    """A format. ``endings``: by how much we would choose them; ``fixed_world``: always in metres with Y up.

    ``package``: of this folder, loaded when a file of the format is met. It has ``read(path)``, and where the format is
    written also ``Layout`` (see FileLayout) and ``encode(path, clip, layout, wanted)``.
    """

    name: str
    package: str
    known_by: Callable[[bytes], bool]
    endings: dict[str, Ending]
    fixed_world: bool = False
    text: bool = False  # bytes of zero in it are a fault

    @property
    def _code(self) -> Any:
        return import_module(f".{self.package}", __package__)

    @property
    def written(self) -> bool:
        """Whether clips are written as any of the endings."""
        return any(ending.written and not ending.markers for ending in self.endings.values())

    @property
    def layout(self) -> Any:
        """The class of what its writer needs of a rig's file."""
        return self._code.Layout

    def read(self, path: Path) -> SourceFile:
        """Read a file of the format (a SourceFile)."""
        file: SourceFile = self._code.read(path)
        return file

    def encode(self, path: Path, clip: Clip | KeyedClip, layout: Any, wanted: Wanted) -> list[Output]:
        """The files that hold a clip."""
        outputs: list[Output] = self._code.encode(path, clip, layout, wanted)
        return outputs

    def encode_markers(self, path: Path, recording: Recording, unit: str, up: str) -> list[Output]:
        """The files that hold a recording, whose points are in ``unit`` (such as ``"mm"``), with an axis such as ``"+Z"`` up."""
        outputs: list[Output] = self._code.encode_markers(path, recording, unit, up)
        return outputs


FORMATS = (
    Format("BVH", "bvh", is_bvh, {".bvh": Ending("BVH", body=False, keys=False)}, text=True),
    Format(
        "USD",
        "usd",
        is_usd,
        {
            ".usdc": Ending("USD, binary"),
            ".usda": Ending("USD, as text"),
            ".usdz": Ending("USD, package"),
            ".usd": Ending("USD", written=False),
        },
    ),
    Format(
        "glTF",
        "gltf",
        is_gltf,
        {
            ".glb": Ending("GLB", curves=True, several=True),
            ".gltf": Ending("glTF, as text", curves=True, several=True),
            ".vrma": Ending("VRM animation", body=False, curves=True, rig=False),
            ".vrm": Ending("VRM", written=False),
        },
        fixed_world=True,
    ),
    Format(
        "ASF/AMC",
        "asf",
        is_asf_or_amc,
        {".amc": Ending("ASF/AMC", written=False), ".asf": Ending("ASF/AMC", written=False)},
    ),
    Format("C3D", "c3d", is_c3d, {".c3d": Ending("C3D, markers", markers=True)}),
    Format("TRC", "markers.trc", is_trc, {".trc": Ending("TRC, markers", markers=True)}, text=True),
    Format(
        "CSV",
        "markers.csv_table",
        is_marker_table,
        {".csv": Ending("CSV, markers", markers=True, written=False, in_folders=False)},
    ),
)
ENDINGS = {name: ending for kind in FORMATS for name, ending in kind.endings.items()}
READABLE = tuple(name for name, ending in ENDINGS.items() if not ending.markers)
MARKERS = tuple(name for name, ending in ENDINGS.items() if ending.markers)
_WRITTEN = {e: kind for kind in FORMATS for e, ending in kind.endings.items() if ending.written}
WRITABLE = {e: kind for e, kind in _WRITTEN.items() if e not in MARKERS}
_KNOWN = "BVH, glTF, GLB, VRM, USD, ASF/AMC, C3D, TRC and tables of markers can be read"


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


def layout_class(name: str) -> Any:
    """The class of a format's layouts, by the format's name; KeyError where it has none."""
    return {kind.name: kind for kind in FORMATS if kind.written}[name].layout


def ending_of(path: str | Path) -> Ending:
    """What a path's ending can hold; KeyError where there is none (see ``check_writable``)."""
    return ENDINGS[Path(path).suffix.lower()]


def own_ending(name: str) -> str:
    """The ending that a format is written with where nobody chose one; BVH's for one that is not written."""
    kind = next((k for k in FORMATS if k.name == name and k.written), FORMATS[0])
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

    ``layout``: of the same format (see ``layout_for``); the clip is then in that file's own unit and axes, and what
    ``wanted`` (see Wanted) tells of them is passed over.
    """
    path = Path(path)
    kind = format_of(path)
    clip = clip if ending_of(path).keys else dense(clip)
    return kind.encode(path, clip, layout, Wanted(**wanted))


def write_markers(
    path: str | Path, recording: Recording, unit: str = "mm", up: str = "+Z", overwrite: bool = False
) -> None:
    """Write a recording as C3D or TRC, as the name's ending tells; see ``Format.encode_markers``. InputError where that can't be done."""
    path = Path(path)
    kind = _WRITTEN.get(path.suffix.lower())
    if kind is None or kind.written:
        endings = " or ".join(e for e in _WRITTEN if e in MARKERS)
        raise InputError(f"{path.name} can't be written: markers are written as {endings}.")
    check_free(path, overwrite)
    write_together(kind.encode_markers(path, recording, unit, up))
