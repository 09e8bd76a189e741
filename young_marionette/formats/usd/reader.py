"""Reading USD (usda, usdc, usdz): every UsdSkel skeleton with its animations, units and axes as told."""

from __future__ import annotations

import io
import os
import tempfile
import zipfile
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar

from ...core.character.meshes import Character
from ...core.errors import InputError
from ..files import opened
from ..source_file import SkeletonPart, SourceFile
from .skeletons import UsdTree
from .worker import WORKER

if TYPE_CHECKING:
    pass


@dataclass(frozen=True, eq=False)
class UsdLayout:
    """A skeleton in a USD file, with the whole file (flattened to one binary layer), to be written again.

    ``drawn_in``: the other files that it was made of, while they are known.
    """

    label: str
    data: bytes
    textures: dict
    tree: UsdTree
    names: tuple[str, ...]
    character: Character | None = None
    drawn_in: tuple[str, ...] = ()

    format = "USD"
    body_problem = ""
    expressions: ClassVar[dict] = {}

    def renamed(self, names: tuple[str, ...]) -> UsdLayout:
        """The layout with other joint names."""
        return replace(self, names=tuple(names))

    def packed(self) -> tuple[dict[str, Any], bytes]:
        """``(plain data, bytes)`` to store it by."""
        buffer = io.BytesIO()
        with zipfile.ZipFile(buffer, "w") as archive:
            archive.writestr("layer.usdc", self.data)
            for number, data in enumerate(self.textures.values()):
                archive.writestr(f"texture_{number}", data)
        meta = {"label": self.label, "path": self.tree.path, "names": list(self.names), "textures": list(self.textures)}
        return meta, buffer.getvalue()

    @classmethod
    def unpacked(cls, meta: dict[str, Any], data: bytes) -> UsdLayout:
        """A layout that ``packed`` gave; InputError where it does not fit."""
        label = str(meta["label"])
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            if any(p.compress_type != zipfile.ZIP_STORED or p.file_size > len(data) for p in archive.infolist()):
                raise InputError(f"{label} is damaged: it is packed within a pack.")
            layer = archive.read("layer.usdc")
            textures = {name: archive.read(f"texture_{i}") for i, name in enumerate(map(str, meta["textures"]))}
        handle, name = tempfile.mkstemp(suffix=".usdc")
        try:
            with os.fdopen(handle, "wb") as file:
                file.write(layer)
            parts = WORKER.read(name, layer, textures)[0]
        finally:
            os.unlink(name)
        for tree, _, character, _, _ in parts:
            if tree.path == meta["path"] and len(tree.joints) == len(meta["names"]):
                return cls(label, layer, textures, tree, tuple(map(str, meta["names"])), character)
        raise InputError(f"{label} holds another skeleton than it did.")


def read(path: Path) -> SourceFile:
    """Read a USD file (a SourceFile)."""
    path = Path(path)
    with opened(path):
        pass
    parts, declared, data, textures, layers = WORKER.read(path)
    skeletons = []
    for tree, clips, character, notes, name in parts:
        layout = UsdLayout(path.name, data, textures, tree, tree.skeleton.names, character, tuple(layers))
        skeletons.append(SkeletonPart(name, tree.skeleton, tuple(clips), layout, tuple(notes), declared))
    return SourceFile(path, "USD", tuple(skeletons))
