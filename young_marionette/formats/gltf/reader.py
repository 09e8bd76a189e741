"""Reading glTF, GLB and VRM: every skeleton in the file with its clips, and the file itself for its writer."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from ...core.errors import InputError
from ...core.figure.declared import Declared
from ...core.findings import finding
from ..source_file import SkeletonPart, SourceFile
from . import container as containers
from . import vrm
from .accessors import Accessors
from .compression import is_fallback, meshopt_of
from .meshes import character_of
from .motion import clip_of
from .nodes import Nodes, Tree, find_trees
from .split_takes import merged_animation, split_take

if TYPE_CHECKING:
    from ...core.character.meshes import Character
    from ...core.findings import Finding
    from .container import Container


@dataclass(frozen=True, eq=False)
class GltfLayout:
    """A skeleton in a glTF file, with the whole file, so that it can be written again with other motion.

    ``names``: what the joints are called now; ``renamed`` tells which of them differ from the file.
    """

    container: containers.Container
    nodes: Nodes
    tree: Tree
    names: tuple[str, ...]

    format = "glTF"
    drawn_in = ()

    def renamed(self, names: tuple[str, ...]) -> GltfLayout:
        """The layout with other joint names."""
        return replace(self, names=tuple(names))

    @cached_property
    def _body(self) -> tuple[Character | None, str]:
        """``(Character or None, what is wrong with it or "")``: a broken body is no reason to lose the motion."""
        try:
            with sound(self.container.label):
                return character_of(self.container, Accessors(self.container), self.nodes, self.tree), ""
        except InputError as error:
            return None, str(error)

    @property
    def character(self) -> Character | None:
        """The Character over this skeleton, or None."""
        return self._body[0]

    @property
    def body_problem(self) -> str:
        """Why a body that is in the file can't be used, or nothing."""
        return self._body[1]

    @cached_property
    def expressions(self) -> dict[str, Any]:
        """``{expression: {morph name: weight}}`` of a VRM character; none where the file tells none, or not soundly."""
        try:
            with sound(self.container.label):
                return vrm.expressions(self.container, self.nodes)
        except InputError:
            return {}

    def packed(self) -> tuple[dict[str, Any], bytes]:
        """``(plain data, bytes)`` to store it by."""
        binary, document = merged(self.container)
        data = b"".join(bytes(part) for part in containers.as_glb(document, binary))
        return {"label": self.container.label, "root": int(self.tree.nodes[0]), "names": list(self.names)}, data

    @classmethod
    def unpacked(cls, meta: dict[str, Any], data: bytes) -> GltfLayout:
        """A layout that ``packed`` gave; InputError where it does not fit."""
        loaded = containers.parse(data, str(meta["label"]))
        nodes = Nodes(loaded)
        tree = next((t for t in find_trees(loaded, nodes) if t.nodes[0] == meta["root"]), None)
        if tree is None or len(meta["names"]) != len(tree.nodes):
            raise InputError(f"{meta['label']} holds another skeleton than it did.")
        return cls(loaded, nodes, tree, tuple(meta["names"]))


_PICTURES = {b"\x89PNG": "image/png", b"\xabKTX": "image/ktx2", b"RIFF": "image/webp"}


def merged(container: Container) -> tuple[bytes, dict[str, Any]]:
    """``(binary, document)``: the file with all its buffers and outer images in one buffer."""
    import copy

    document = copy.deepcopy(container.document)
    parts, starts, size = [], [], 0
    # Buffers that only say how large compressed data becomes stay beside the one with all data.
    items = document.get("buffers", [])
    hollow = {n: i for i, n in enumerate((n for n, b in enumerate(items) if is_fallback(b)), 1)}
    for buffer in container.buffers:
        starts.append(size)
        parts += [bytes(buffer), b"\0" * (-len(buffer) % 4)]
        size += len(buffer) + (-len(buffer) % 4)
    for view in document.get("bufferViews", []):
        for place in filter(None, (view, meshopt_of(view))):
            number = place.get("buffer")
            if number in hollow:
                place["buffer"] = hollow[number]
            elif isinstance(number, int) and 0 <= number < len(starts):
                offset = place.get("byteOffset", 0)
                # A view that nothing uses may be unsound in a file that is let in.
                place["byteOffset"] = starts[number] + (offset if type(offset) is int else 0)
                place["buffer"] = 0
    for number, data in container.images.items():
        image = document["images"][number]
        kind = _PICTURES.get(data[:4], "image/jpeg")
        document.setdefault("bufferViews", []).append({"buffer": 0, "byteOffset": size, "byteLength": len(data)})
        document["images"][number] = {
            **{k: v for k, v in image.items() if k != "uri"},
            "bufferView": len(document["bufferViews"]) - 1,
            "mimeType": image.get("mimeType", kind),
        }
        parts += [data, b"\0" * (-len(data) % 4)]
        size += len(data) + (-len(data) % 4)
    if size or hollow:
        document["buffers"] = [{"byteLength": size}, *(items[n] for n in hollow)]
    return b"".join(parts), document


@contextlib.contextmanager
def sound(label: str) -> Iterator[Any]:
    """What is of another kind than glTF wants, anywhere in a document, is one sentence."""
    try:
        yield
    except (TypeError, AttributeError, KeyError, IndexError, ValueError, OverflowError, np.linalg.LinAlgError) as error:
        cause = f"{type(error).__name__}: {error}"[:120].replace("\n", " ")
        raise InputError(f"{label} is not valid glTF ({cause}).") from None


def read(path: Path) -> SourceFile:
    """Read a glTF, GLB or VRM file (a SourceFile)."""
    with sound(Path(path).name):
        return _read(path)


def _read(path: Path) -> SourceFile:
    path = Path(path)
    container = containers.load(path)
    nodes, accessors = Nodes(container), Accessors(container)
    trees = find_trees(container, nodes)
    if not trees:
        raise InputError(f"{path.name} holds no skeleton: no joints, and no animated nodes.")
    bones = vrm.humanoid(container)
    kind = vrm.version(container) or ("GLB" if container.binary else "glTF")
    several = len(trees) > 1
    parts = []
    for tree in trees:
        notes = list(tree.notes)
        made, parted = _clips(container, accessors, nodes, tree, path, notes)
        clips, extras = [clip for clip, _ in made], tuple(extra for _, extra in made)
        joint_of = tree.joint_of
        table = tuple((b, tree.skeleton.names[joint_of[n]]) for b, n in bones.items() if n in joint_of)
        name = f"{path.stem}: {tree.skeleton.names[0]}" if several else path.stem
        layout = GltfLayout(container, nodes, tree, tree.skeleton.names)
        declared = Declared(1.0, "+Y", table)
        part = SkeletonPart(name, tree.skeleton, tuple(clips), layout, tuple(notes), declared, extras=extras)
        parts.append(replace(part, parted=tuple(clip for clip, _ in parted)))
    return SourceFile(path, kind, tuple(parts))


def _clips(
    container: Container, accessors: Accessors, nodes: Nodes, tree: Tree, path: Path, notes: list[Finding]
) -> tuple[list[Any], list[Any]]:
    """``(clips, parted)``: each a list of a clip and its extras; ``parted`` are single animations that were made one clip."""
    animations = container.items("animations")

    def made(animation: dict[str, Any], number: int, alone: bool, notes: list[Finding]) -> list[Any]:
        clip = clip_of(container, accessors, nodes, tree, animation, number, notes)
        if clip is None:
            return []
        extras = animation.get("extras")
        named = replace(clip, name=path.stem if alone else f"{path.stem}: {clip.name}")
        return [(named, extras if isinstance(extras, dict) else None)]

    together = split_take(container, accessors, tree, animations)
    clips, parted = [], []
    if together:
        own = [animations[n] for n in together]
        notes.append(finding("one take", count=len(own)))
        clips = made(merged_animation(own), together[0], len(own) == len(animations), notes)
        parted = [one for n in together for one in made(animations[n], n, False, [])]
    rest = [n for n in range(len(animations)) if n not in together]
    for number in rest:
        clips += made(animations[number], number, len(animations) == 1, notes)
    return clips, parted
