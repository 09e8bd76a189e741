"""What a USD file may draw in: nothing but what lies in its own folder or below it, or in its own package."""

from __future__ import annotations

import os
import posixpath
import zipfile
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ...core.errors import InputError
from ...core.text import shown
from ..places import Outside, inside

_MAX_LAYERS = 200
LAYERS = (".usd", ".usda", ".usdc")


@dataclass(frozen=True)
class Place:
    """A file that is read: its ``path`` here, its ``label`` for people, and the ``folder`` where it really lies."""

    path: Path
    label: str
    folder: Path

    @property
    def stem(self) -> str:
        return Path(self.label).stem


def check_package(place: Place) -> None:
    """InputError for a usdz that is no plain package: compressed parts, names that climb out, or more bytes than it has."""
    label = place.label
    try:
        with zipfile.ZipFile(place.path) as package:
            parts = package.infolist()
    except (zipfile.BadZipFile, OSError, ValueError, NotImplementedError, RuntimeError):
        raise InputError(f"{label} is not a valid usdz package, or was cut off.") from None
    if not parts:
        raise InputError(f"{label} is an empty package.")
    for part in parts:
        if part.compress_type != zipfile.ZIP_STORED or part.flag_bits & 1 or part.file_size != part.compress_size:
            raise InputError(f"{label} is not a valid usdz package: its parts must be stored as they are.")
        name = Path(part.filename)
        if name.is_absolute() or ".." in name.parts:
            raise InputError(f"{label} names a part outside of itself: {shown(part.filename, 80)}.")
    if sum(p.file_size for p in parts) > place.path.stat().st_size:
        raise InputError(f"{label} announces more bytes than it has.")
    if not parts[0].filename.lower().endswith(LAYERS):
        raise InputError(f"{label} is not a valid usdz package: its first part is not a USD layer.")


def check_layers(place: Place, package: bool = False) -> list[str]:
    """InputError where a layer, or one that it draws in, points to a place outside; the files of all that it draws in.

    The same for layers, references and payloads, in files and in packages.
    """
    from pxr import Sdf

    # Layers are told by their place, or by their name in the package: each kind of source knows its own.
    source: Any = _Package(place) if package else _Folder(place)
    todo, seen = [source.first], set()
    while todo:
        current = todo.pop()
        if current in seen:
            continue
        seen.add(current)
        if len(seen) > _MAX_LAYERS:
            raise InputError(f"{place.label} refers to more than {_MAX_LAYERS} files, which is more than can be used.")
        layer = Sdf.Layer.OpenAsAnonymous(source.identifier(current))
        if layer is None:
            raise InputError(f"{source.name(current)} can't be read: it is not a valid USD file, or was cut off.")
        todo += [source.of(asset, current) for asset in filter(None, layer.GetCompositionAssetDependencies())]
        if _draws_clips(layer):
            raise InputError(f"{place.label} takes its values from other files over time, which is not supported.")
    return sorted(str(layer) for layer in seen if layer != source.first)


class _Folder:
    """Layers that lie in a folder."""

    def __init__(self, place: Place) -> None:
        self.place, self.folder, self.first = place, place.path.parent.resolve(), place.path.resolve()
        if place.folder != place.path.parent:
            # Read under another name, since the library does not know the real one: see worker.
            self.first = self.folder / place.path.name

    def identifier(self, layer: Path) -> str:
        return str(layer)

    def name(self, layer: Path) -> str:
        return self.place.label if layer == self.first else layer.name

    def of(self, asset: str, layer: Path) -> Path:
        """The place of what ``layer`` draws in."""
        label = self.place.label
        if Path(asset).is_absolute() or ":" in asset:
            return inside(asset, label, None)
        if self.place.folder != self.place.path.parent:
            raise InputError(f"{label} refers to other files, which only works under a name that is UTF-8; rename it.")
        # A layer's places count from its own folder, and what they may reach from that of the first.
        return inside(os.path.relpath(layer.parent / asset, self.folder), label, self.folder)


class _Package:
    """Layers that lie in a usdz package, by their names in it."""

    def __init__(self, place: Place) -> None:
        self.place = place
        with zipfile.ZipFile(place.path) as package:
            self.names = package.namelist()
        self.first = self.names[0]

    def identifier(self, layer: str) -> str:
        return f"{self.place.path}[{layer}]"

    def name(self, layer: str) -> str:
        return f"{shown(layer, 60)} in {self.place.label}"

    def of(self, asset: str, layer: str) -> str:
        """The name of what ``layer`` draws in; from its own place in the package, else from the package's top."""
        label = self.place.label
        for start in (posixpath.dirname(layer), ""):
            name = posixpath.normpath(posixpath.join(start, asset))
            if name in self.names and name.lower().endswith(LAYERS) and not asset.startswith("/"):
                return name
        asset_name = shown(asset, 80)
        if asset.startswith("/") or ":" in asset or "[" in asset or posixpath.normpath(asset).startswith(".."):
            raise Outside(
                f"{label} points to {asset_name}, which lies outside of its package; nothing was read from there."
            )
        raise InputError(f"{label} needs the layer {asset_name}, which is not in its package.")


def _draws_clips(layer: Any) -> bool:
    """Whether any prim of a layer takes its values from other files, frame by frame."""
    from pxr import Sdf

    clips = []

    def look(place: Any) -> None:
        prim = layer.GetPrimAtPath(place) if place.IsPrimPath() else None
        if prim is not None and prim.HasInfo("clips"):
            clips.append(place)

    layer.Traverse(Sdf.Path.absoluteRootPath, look)
    return bool(clips)
