"""Opening USD files; runs in the worker process alone, since a broken file can end the library and all with it."""

from __future__ import annotations

import contextlib
import os
import re
import tempfile
import zipfile
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ...core.errors import InputError
from ...core.figure.declared import Declared
from ...core.findings import Finding
from ..places import read_if_there
from .meshes import PACKED, character_of
from .motion import carried, clip_of, ways_of
from .safety import Place, check_layers, check_package
from .skeletons import tree_of
from .stages import layer_of
from .unpacking import Arrays

if TYPE_CHECKING:
    from ...core.character.meshes import Character
    from .skeletons import UsdTree


@contextlib.contextmanager
def open_usd(
    path: Path, unpacked: Callable[..., Any] = lambda: None, label: str | None = None, folder: Path | None = None
) -> Iterator[
    tuple[
        list[tuple[UsdTree, list[Any], Character | None, list[Any], str]],
        Declared,
        bytes | None,
        dict[str, bytes],
        list[str] | tuple[Any, ...],
    ]
]:
    """Read a USD file and hold it open: ``(parts, declared, flat layer, {asset path: bytes}, layers drawn in)``; InputError for what is not a valid one.

    ``parts``: for each skeleton ``(tree, clips, character, notes, name)``. The layer is None where it is the file itself.
    Arrays of the parts may be those of the open file, which would be copied when it is closed. ``unpacked`` is called
    when those that take long are unpacked, which keeps two processors busy. ``label``: what people call the file, and
    ``folder``: where it really lies, if ``path`` does not tell.
    """
    from pxr import Tf

    place = Place(path, label or path.name, folder or path.parent)
    try:
        with open(path, "rb") as file:
            package = file.read(4) == b"PK\x03\x04"
        if package:
            check_package(place)
        stage, trees = _read(place, package, unpacked)
    except Tf.ErrorException as error:
        where = _line_of(error)
        raise InputError(
            f"{place.label} can't be read as USD: it is not a valid file of that kind, or was cut off{where}."
        ) from None
    except FileNotFoundError:
        raise InputError(f"{place.label} is not there any more.") from None
    except zipfile.BadZipFile:
        raise InputError(f"{place.label} is not a valid usdz package: a part of it is damaged.") from None
    except (RuntimeError, ValueError, TypeError, IndexError, KeyError, OverflowError, MemoryError, OSError) as error:
        raise InputError(f"{place.label} can't be read as USD ({type(error).__name__}).") from None
    yield trees
    del stage


def _line_of(error: Any) -> str:
    """Where in a text layer the library stopped, as it tells it; nothing where it does not."""
    for failure in error.args:
        with contextlib.suppress(UnicodeDecodeError, AttributeError):
            match = re.search(r"\.usda?:(\d+):\d+:", failure.commentary)
            if match:
                return f" (line {match.group(1)})"
    return ""


def _read(
    place: Place, package: bool, unpacked: Callable[..., Any]
) -> tuple[
    tuple[Any, Any],
    tuple[list[tuple[Any, Any, Any, Any, str]], Declared, bytes | None, dict[str, bytes], list[str] | tuple[Any, ...]],
]:
    from pxr import Usd, UsdGeom, UsdSkel

    path, label = place.path, place.label
    layers = check_layers(place, package)
    stage = Usd.Stage.Open(str(path))
    if stage is None:
        raise InputError(f"{label} can't be read: it is not a valid USD file, or was cut off.")
    prims = list(Usd.PrimRange(stage.GetPseudoRoot(), Usd.TraverseInstanceProxies()))
    # What moves stands where it begins; what is still has one place at all times.
    cache = UsdGeom.XformCache(Usd.TimeCode.EarliestTime())
    skeletons = [p for p in prims if p.IsA(UsdSkel.Skeleton)]
    if not skeletons:
        raise InputError(f"{label} holds no skeleton (no UsdSkel Skeleton).")
    trees = sorted((tree_of(p, label, cache) for p in skeletons), key=lambda t: -len(t.joints))
    animations = [p for p in prims if p.IsA(UsdSkel.Animation)]
    played = _played(skeletons)
    textures = _textures(prims, place, package)
    with open(path, "rb") as file:
        alone = not (layers or package) and file.read(8) == b"PXR-USDC"
    # A binary layer that draws in nothing is kept as it is; anything else becomes one of that kind.
    data, textures = (None, textures) if alone else _flat(stage, textures)
    declared = Declared(
        UsdGeom.GetStageMetersPerUnit(stage) if stage.HasAuthoredMetadata("metersPerUnit") else None,
        f"+{UsdGeom.GetStageUpAxis(stage)}" if stage.HasAuthoredMetadata("upAxis") else None,
    )
    parts = []
    flat = stage if data is None else Usd.Stage.Open(layer_of(data))
    arrays = Arrays()
    heavy = [p.GetAttribute(a) for p in Usd.PrimRange(flat.GetPseudoRoot()) if p.IsA(UsdGeom.Mesh) for a in PACKED]
    arrays.prepare(heavy, path.stat().st_size, label)
    unpacked()
    bodies = [character_of(flat, tree, arrays, label) for tree in trees]
    for tree, body in zip(trees, bodies):
        notes = list(tree.notes)
        own = [p for p in animations if tree.path in played.get(str(p.GetPath()), [tree.path])]
        clips = _clips(stage.GetPrimAtPath(tree.path), tree, own, place, notes)
        name = place.stem if len(trees) == 1 else f"{place.stem}: {tree.path.rsplit('/', 1)[-1]}"
        parts.append((tree, clips, body, notes, name))
    return (stage, flat), (parts, declared, data, textures, () if package else layers)


def _clips(skeleton: Any, tree: UsdTree, animations: Sequence[Any], place: Place, notes: list[Finding]) -> list[Any]:
    """The clips of a skeleton, named by the file and, where there are several, by their prims."""
    ways = ways_of(skeleton, place.label)
    takes = [clip_of(p, tree, ways, place.label, notes) for p in animations]
    clips = [c for c in takes if c is not None] or carried(skeleton, tree, ways, place.label, notes)
    if len(clips) == 1:
        return [replace(clips[0], name=place.stem)]
    return [replace(c, name=f"{place.stem}: {c.name}") for c in clips]


def _played(skeletons: list[Any]) -> dict[str, list[str]]:
    """``{path of an animation: paths of the skeletons that are bound to it}``; those of no skeleton are anybody's."""
    from pxr import UsdSkel

    animations = {}
    for prim in skeletons:
        animation = UsdSkel.BindingAPI(prim).GetInheritedAnimationSource()
        if animation:
            animations.setdefault(str(animation.GetPath()), []).append(str(prim.GetPath()))
    return animations


def _flat(stage: Any, files: dict[str, bytes]) -> tuple[bytes, dict[str, bytes]]:
    """``(bytes, {name: bytes})``: the stage as one binary layer that draws in nothing, with its textures by new names."""
    from pxr import Sdf, UsdUtils

    layer = Sdf.Layer.CreateAnonymous(".usdc")
    if len([used for used in stage.GetUsedLayers() if not used.anonymous]) > 1:
        layer = stage.Flatten()
    else:
        # All of a single layer is kept, also what is not chosen now, such as other variants.
        layer.TransferContent(stage.GetRootLayer())
    names, textures = {}, {}
    for place, data in files.items():
        known = next((n for n, d in textures.items() if d == data), None)
        names[place] = known or f"texture_{len(textures) + 1}{os.path.splitext(place.rstrip(']'))[1]}"
        textures[names[place]] = data
    # What was not found stands by its bare name: nothing of the kept layer points anywhere.
    UsdUtils.ModifyAssetPaths(layer, lambda p: names.get(p) or p.replace("\\", "/").rsplit("/", 1)[-1].rstrip("]"))
    folder = tempfile.mkdtemp()
    name = os.path.join(folder, "layer.usdc")
    try:
        layer.Export(name)
        with open(name, "rb") as file:
            return file.read(), textures
    finally:
        with contextlib.suppress(FileNotFoundError):
            os.unlink(name)
        os.rmdir(folder)


def _textures(prims: list[Any], place: Place, package: bool) -> dict[str, bytes]:
    """``{asset path as in the flattened file: bytes}`` of textures that lie inside the folder or the package."""
    from pxr import UsdShade

    textures = {}
    archive = zipfile.ZipFile(place.path) if package else None
    for prim in prims:
        if not prim.IsA(UsdShade.Shader):
            continue
        file = prim.GetAttribute("inputs:file")
        asset = file.Get() if file else None
        if asset is None or not asset.path:
            continue
        data = None
        if archive is not None:
            names = archive.namelist()
            wanted = asset.path.removeprefix("./")
            data = archive.read(wanted) if wanted in names else None
        else:
            data = read_if_there(asset.path, place.label, place.folder)
        if data is not None:
            textures[asset.path] = data
            if package or asset.resolvedPath:
                textures[asset.resolvedPath] = data
    return textures
