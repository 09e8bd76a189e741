"""Reading USD (usda, usdc, usdz): every UsdSkel skeleton with its animations, units and axes as told."""

from __future__ import annotations

import contextlib
import os
import tempfile
import zipfile
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path

from ...core.declared import Declared
from ...core.errors import InputError
from ..files import opened
from ..gltf.container import inside
from ..motion_file import MotionFile
from .meshes import character_of
from .safety import check_layers, check_package
from .skeletons import UsdTree, clip_of, tree_of


def is_usd(head):
    """Whether the first bytes of a file are those of a USD file or package."""
    return (
        head[:8] == b"PXR-USDC"
        or head.lstrip()[:5] == b"#usda"
        or (head[:4] == b"PK\x03\x04" and b".usd" in head[:4096])
    )


@dataclass(frozen=True, eq=False)
class UsdLayout:
    """A skeleton in a USD file, with the whole file (flattened to one binary layer), to be written again."""

    label: str
    data: bytes
    textures: dict
    tree: UsdTree
    names: tuple[str, ...]

    format = "USD"

    def renamed(self, names):
        """The layout with other joint names."""
        return replace(self, names=tuple(names))

    @cached_property
    def character(self):
        """The Character over this skeleton, or None."""
        with stage_of(self.data) as stage:
            return character_of(stage, self.tree, self.label, self.textures.get)

    def packed(self):
        """``(plain data, bytes)`` to store it by."""
        import io

        buffer = io.BytesIO()
        with zipfile.ZipFile(buffer, "w") as archive:
            archive.writestr("layer.usdc", self.data)
            for number, data in enumerate(self.textures.values()):
                archive.writestr(f"texture_{number}", data)
        meta = {"label": self.label, "path": self.tree.path, "names": list(self.names), "textures": list(self.textures)}
        return meta, buffer.getvalue()

    @classmethod
    def unpacked(cls, meta, data):
        """A layout that ``packed`` gave; InputError where it does not fit."""
        import io

        from pxr import UsdGeom

        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            layer = archive.read("layer.usdc")
            textures = {name: archive.read(f"texture_{i}") for i, name in enumerate(map(str, meta["textures"]))}
        with stage_of(layer) as stage:
            prim = stage.GetPrimAtPath(str(meta["path"]))
            if not prim:
                raise InputError(f"{meta['label']} holds another skeleton than it did.")
            tree = tree_of(prim, str(meta["label"]), UsdGeom.XformCache())
        if len(tree.joints) != len(meta["names"]):
            raise InputError(f"{meta['label']} holds another skeleton than it did.")
        return cls(str(meta["label"]), layer, textures, tree, tuple(map(str, meta["names"])))


@contextlib.contextmanager
def stage_of(data):
    """An opened stage of a binary layer's bytes, for a while."""
    from pxr import Sdf, Usd

    handle, name = tempfile.mkstemp(suffix=".usdc")
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(data)
        layer = Sdf.Layer.OpenAsAnonymous(name)
        if layer is None:
            raise InputError("The layer of a USD file can't be read any more.")
        yield Usd.Stage.Open(layer)
    finally:
        os.unlink(name)


@contextlib.contextmanager
def quiet():
    """Keep what the USD library says of broken files off the terminal; what counts is raised."""
    from pxr import Tf

    delegate = None
    with contextlib.suppress(AttributeError):
        delegate = Tf.DiagnosticMgr  # noqa: F841 - only there in some builds
    saved = os.dup(2)
    sink = os.open(os.devnull, os.O_WRONLY)
    try:
        os.dup2(sink, 2)
        yield
    finally:
        os.dup2(saved, 2)
        os.close(saved)
        os.close(sink)


def read(path):
    """Read a USD file (a MotionFile; further skeletons of it in ``more``)."""
    from pxr import Tf

    path = Path(path)
    with opened(path) as file:
        package = file.read(4) == b"PK\x03\x04"
    if package:
        check_package(path)
    try:
        with quiet():
            return _read(path, package)
    except Tf.ErrorException as error:
        first = str(error).strip().splitlines()[-1] if str(error).strip() else "unknown"
        raise InputError(f"{path.name} can't be read as USD, or was cut off ({first[:120]}).") from None
    except (RuntimeError, ValueError, TypeError, IndexError) as error:
        raise InputError(f"{path.name} can't be read as USD: {str(error).splitlines()[0][:120]}.") from None


def _read(path, package):
    from pxr import Usd, UsdGeom, UsdSkel

    if not package:
        check_layers(path)
    stage = Usd.Stage.Open(str(path))
    if stage is None:
        raise InputError(f"{path.name} can't be read: it is no sound USD file, or was cut off.")
    prims = list(Usd.PrimRange(stage.GetPseudoRoot(), Usd.TraverseInstanceProxies()))
    cache = UsdGeom.XformCache()
    skeletons = [p for p in prims if p.IsA(UsdSkel.Skeleton)]
    if not skeletons:
        raise InputError(f"{path.name} holds no skeleton (no UsdSkel Skeleton).")
    trees = sorted((tree_of(p, path.name, cache) for p in skeletons), key=lambda t: -len(t.joints))
    animations = [p for p in prims if p.IsA(UsdSkel.Animation)]
    textures = _textures(stage, prims, path, package)
    data = _flat(stage)
    declared = Declared(
        UsdGeom.GetStageMetersPerUnit(stage) if stage.HasAuthoredMetadata("metersPerUnit") else None,
        f"+{UsdGeom.GetStageUpAxis(stage)}" if stage.HasAuthoredMetadata("upAxis") else None,
    )
    files = []
    for tree in trees:
        notes = list(tree.notes)
        clips = [clip_of(p, tree, stage, path.name, notes) for p in animations]
        clips = [c for c in clips if c is not None]
        if len(clips) == 1:
            clips = [replace(clips[0], name=path.stem)]
        else:
            clips = [replace(c, name=f"{path.stem}: {c.name}") for c in clips]
        name = path.stem if len(trees) == 1 else f"{path.stem}: {tree.path.rsplit('/', 1)[-1]}"
        layout = UsdLayout(path.name, data, textures, tree, tree.skeleton.names)
        files.append(MotionFile(path, "USD", tree.skeleton, tuple(clips), layout, tuple(notes), declared, name))
    return replace(files[0], more=tuple(files[1:]))


def _flat(stage):
    """The stage as the bytes of one binary layer that draws in nothing."""
    layer = stage.Flatten()
    folder = tempfile.mkdtemp()
    name = os.path.join(folder, "layer.usdc")
    try:
        layer.Export(name)
        with open(name, "rb") as file:
            return file.read()
    finally:
        with contextlib.suppress(FileNotFoundError):
            os.unlink(name)
        os.rmdir(folder)


def _textures(stage, prims, path, package):
    """``{asset path as in the flattened file: bytes}`` of textures that lie inside the folder or the package."""
    from pxr import UsdShade

    found = {}
    archive = zipfile.ZipFile(path) if package else None
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
            data = inside(asset.path, path.name, path.parent).read_bytes() if _there(asset.path, path) else None
        if data is not None:
            found[asset.path] = data
            found[asset.resolvedPath or asset.path] = data
    return found


def _there(place, path):
    """Whether a texture is there; one that is missing is no reason to refuse a file, one outside is."""
    try:
        inside(place, path.name, path.parent)
    except InputError as error:
        if "outside" in str(error):
            raise
        return False
    return True
