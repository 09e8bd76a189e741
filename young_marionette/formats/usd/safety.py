"""What a USD file may draw in: nothing but what lies in its own folder, or in its own package."""

from __future__ import annotations

import os
import zipfile
from pathlib import Path

from ...core.errors import InputError
from ..places import inside

_MAX_LAYERS = 200


def check_package(path):
    """InputError for a usdz that is no plain package: compressed parts, names that climb out, or more bytes than it has."""
    try:
        with zipfile.ZipFile(path) as package:
            parts = package.infolist()
    except (zipfile.BadZipFile, OSError, ValueError, NotImplementedError, RuntimeError):
        raise InputError(f"{path.name} is no sound usdz package, or was cut off.") from None
    if not parts:
        raise InputError(f"{path.name} is an empty package.")
    for part in parts:
        if part.compress_type != zipfile.ZIP_STORED or part.flag_bits & 1 or part.file_size != part.compress_size:
            raise InputError(f"{path.name} is no sound usdz package: its parts must be stored as they are.")
        place = Path(part.filename)
        if place.is_absolute() or ".." in place.parts:
            raise InputError(f"{path.name} names a part outside of itself: {part.filename[:80]}.")
    if sum(p.file_size for p in parts) > path.stat().st_size:
        raise InputError(f"{path.name} tells of more bytes than it has.")


def check_layers(path):
    """InputError where a layer, or one that it draws in, points out of the file's folder; True if there are others."""
    from pxr import Sdf

    folder, todo, seen = path.parent.resolve(), [path.resolve()], set()
    while todo:
        here = todo.pop()
        if here in seen:
            continue
        seen.add(here)
        if len(seen) > _MAX_LAYERS:
            raise InputError(f"{path.name} draws in more than {_MAX_LAYERS} files, which is more than can be used.")
        layer = Sdf.Layer.OpenAsAnonymous(str(here))
        if layer is None:
            raise InputError(f"{here.name} can't be read: it is no sound USD file, or was cut off.")
        for place in filter(None, layer.GetCompositionAssetDependencies()):
            if Path(place).is_absolute() or ":" in place:
                inside(place, path.name, None)
            # A layer's places count from its own folder, and what they may reach from that of the first.
            todo.append(inside(os.path.relpath(here.parent / place, folder), path.name, folder))
        if _draws_clips(layer):
            raise InputError(f"{path.name} draws its values from other files over time, which is not read here.")
    return len(seen) > 1


def _draws_clips(layer):
    """Whether any prim of a layer takes its values from other files, frame by frame."""
    from pxr import Sdf

    found = []

    def look(place):
        prim = layer.GetPrimAtPath(place) if place.IsPrimPath() else None
        if prim is not None and prim.HasInfo("clips"):
            found.append(place)

    layer.Traverse(Sdf.Path.absoluteRootPath, look)
    return bool(found)
