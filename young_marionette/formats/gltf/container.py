"""The containers of glTF 2.0: a JSON document with its buffers, as one binary file or as several.

The document is kept as plain data, so that what this program does not know survives to the letter.
"""

from __future__ import annotations

import base64
import binascii
import json
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import unquote

from ...core.errors import InputError
from ...core.text import HALF, whole_characters
from ..files import opened
from ..places import read_if_there, read_inside
from ..sniffing import GLB_MAGIC
from .compression import MESHOPT, is_fallback

_JSON, _BIN = 0x4E4F534A, 0x004E4942
_MAX_JSON = 256 << 20
_DEPTH = 200


@dataclass(frozen=True, eq=False)
class Container:
    """``document``: the JSON. ``buffers``: bytes of each buffer, whole. ``label``: the file's name, for sentences.

    ``images``: the bytes of images that lie beside the file, by their number. ``binary``: it is one binary file.
    """

    label: str
    document: dict
    buffers: tuple[bytes, ...]
    images: dict
    binary: bool = False

    def items(self, key: str) -> list[dict[str, Any]]:
        """A list at the top of the document, empty where there is none; InputError for anything else."""
        items = self.document.get(key, [])
        if not isinstance(items, list) or not all(isinstance(x, dict) for x in items):
            raise InputError(f"{self.label}: its {key} are not a list of objects.")
        return items


def load(path: Path) -> Container:
    """Read a .gltf, .glb or .vrm file (a Container); external buffers only from the file's own folder."""
    path = Path(path)
    with opened(path) as file:
        data = file.read()
    return parse(data, path.name, path.parent)


def parse(data: bytes, label: str, folder: Path | None = None) -> Container:
    """A Container of a file's bytes; ``folder`` is where external buffers may lie, None for nowhere."""
    if data[:4] == GLB_MAGIC:
        text, binary = _chunks(data, label)
    else:
        text, binary = data.removeprefix(b"\xef\xbb\xbf"), None
    document = _document(text, label)
    buffers = document.get("buffers", [])
    if not isinstance(buffers, list):
        raise InputError(f"{label}: its buffers are not a list.")
    loaded = tuple(_buffer(i, b, binary, label, folder) for i, b in enumerate(buffers))
    return Container(label, document, loaded, _images(document, label, folder), data[:4] == GLB_MAGIC)


def _chunks(data: bytes, label: str) -> tuple[bytes, memoryview | None]:
    if len(data) < 20:
        raise InputError(f"{label} is a GLB file that ends within its header.")
    version, length, size, kind = struct.unpack_from("<IIII", data, 4)
    if version != 2:
        raise InputError(f"{label} is glTF of version {version}; version 2 can be read.")
    if length > len(data) or 20 + size > len(data):
        raise InputError(f"{label} was cut off: it announces {length} bytes and has {len(data)}.")
    if kind != _JSON:
        raise InputError(f"{label} is not a valid GLB file: its first part is not JSON.")
    text, at = data[20 : 20 + size], 20 + size + (-size % 4)
    if at + 8 > len(data):
        return text, None
    size, kind = struct.unpack_from("<II", data, at)
    if at + 8 + size > len(data):
        raise InputError(f"{label} was cut off within its binary part.")
    # A view, so that a large file lies in memory once.
    return text, memoryview(data)[at + 8 : at + 8 + size] if kind == _BIN else None


def _whole(document: Any) -> Any:
    """A document whose texts hold no halves of characters; made without recursion, since it may be deep."""
    holder = [document]
    todo: list[dict | list] = [holder]
    while todo:
        part = todo.pop()
        for key, value in list(part.items()) if isinstance(part, dict) else list(enumerate(part)):
            if isinstance(value, str):
                part[key] = whole_characters(value)
            elif isinstance(value, dict | list):
                todo.append(value)
            if isinstance(part, dict) and isinstance(key, str) and key != (whole := whole_characters(key)):
                part[whole] = part.pop(key)
    return holder[0]


def _no_number(word: str) -> None:
    raise ValueError(f"{word} is no number that JSON knows")


def _document(text: bytes, label: str) -> dict[str, Any]:
    if len(text) > _MAX_JSON:
        raise InputError(f"{label} has a JSON part of {len(text) >> 20} MB, which is more than can be used.")
    try:
        document = json.loads(bytes(text), parse_constant=_no_number)
    except RecursionError:
        raise InputError(f"{label} is nested too deeply.") from None
    except ValueError:
        raise InputError(f"{label} can't be read: its JSON is broken or was cut off.") from None
    if HALF.search(text):
        document = _whole(document)
    if not isinstance(document, dict) or not isinstance(document.get("asset"), dict):
        raise InputError(f"{label} is not a glTF file: it has no asset.")
    if not str(document["asset"].get("version", "")).startswith("2"):
        raise InputError(f"{label} is glTF of version {document['asset'].get('version')}; version 2 can be read.")
    lacking = [e for e in document.get("extensionsRequired") or () if e not in _UNDERSTOOD]
    if lacking:
        raise InputError(f"{label} needs {', '.join(map(str, lacking[:3]))}, which is not supported.")
    return document


# Required extensions that change nothing of what is read here (materials, textures), or that are read.
_UNDERSTOOD = {
    "KHR_materials_unlit", "KHR_texture_transform", "KHR_materials_pbrSpecularGlossiness", "KHR_texture_basisu",
    "EXT_texture_webp", "KHR_materials_emissive_strength", "KHR_lights_punctual", "VRM", "VRMC_vrm", "KHR_mesh_quantization",
    "VRMC_vrm_animation", "VRMC_materials_mtoon", "VRMC_springBone", "VRMC_node_constraint", "KHR_materials_transmission",
    "KHR_materials_clearcoat", "KHR_materials_ior", "KHR_materials_sheen", "KHR_materials_specular", "KHR_materials_volume",
    "KHR_materials_variants", "KHR_draco_mesh_compression",
    *MESHOPT,
}  # fmt: skip


def _buffer(
    number: int, item: dict[str, Any], binary: memoryview | None, label: str, folder: Path | None
) -> memoryview:
    size = item.get("byteLength") if isinstance(item, dict) else None
    if not isinstance(size, int) or isinstance(size, bool) or size < 0:
        raise InputError(f"{label}: buffer {number} tells no size.")
    if is_fallback(item):
        return memoryview(b"")
    uri = item.get("uri")
    own = binary if number == 0 and binary is not None else b""
    data = own if uri is None else fetch(uri, label, folder, size)
    if len(data) < size:
        raise InputError(f"{label}: buffer {number} should hold {size} bytes and has {len(data)}.")
    return memoryview(data)[:size]


def fetch(uri: str, label: str, folder: Path | None, most: int = -1) -> bytes:
    """The bytes of a data URI, or the first ``most`` of a file in ``folder`` or below it; InputError for any other place."""
    if not isinstance(uri, str):
        raise InputError(f"{label} refers to something that is not a valid path.")
    if uri.startswith("data:"):
        head, _comma, body = uri.partition(",")
        try:
            return (
                base64.b64decode(body, validate=True) if head.endswith(";base64") else unquote(body).encode("latin-1")
            )
        except (binascii.Error, ValueError):
            raise InputError(f"{label} has embedded data that can't be decoded.") from None
    return read_inside(uri, label, folder, most)


def _images(document: dict[str, Any], label: str, folder: Path | None) -> dict[Any, Any]:
    """External images, by their number; one that is missing is left out, since motion does not need it."""
    loaded = {}
    images = document.get("images", [])
    for number, image in enumerate(images if isinstance(images, list) else ()):
        uri = image.get("uri") if isinstance(image, dict) else None
        data = read_if_there(uri, label, folder) if isinstance(uri, str) and not uri.startswith("data:") else None
        if data is not None:
            loaded[number] = data
    return loaded


def as_glb(document: dict[str, Any], binary: bytes) -> Iterator[bytes]:
    """The chunks of a GLB file."""
    text = json.dumps(document, ensure_ascii=False, separators=(",", ":"), allow_nan=False).encode()
    text += b" " * (-len(text) % 4)
    size = 12 + 8 + len(text) + (8 + len(binary) + (-len(binary) % 4) if len(binary) else 0)
    yield struct.pack("<4sIIII", GLB_MAGIC, 2, size, len(text), _JSON) + text
    if len(binary):
        yield struct.pack("<II", len(binary) + (-len(binary) % 4), _BIN)
        yield binary
        yield b"\0" * (-len(binary) % 4)


def as_gltf(document: dict[str, Any], binary: bytes) -> Iterator[bytes]:
    """The chunks of a .gltf file with its one buffer embedded."""
    document = json.loads(json.dumps(document))
    if len(binary):
        document["buffers"][0]["uri"] = "data:application/octet-stream;base64," + base64.b64encode(binary).decode()
    yield json.dumps(document, ensure_ascii=False, indent=1, allow_nan=False).encode()
