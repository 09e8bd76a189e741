"""Compressed data of glTF: bufferViews of EXT_meshopt_compression, and meshes of KHR_draco_mesh_compression.

What is decoded is only looked at; the file's own bytes are what is written again.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from ...core.errors import InputError

MESHOPT = ("EXT_meshopt_compression", "KHR_meshopt_compression")
DRACO = "KHR_draco_mesh_compression"
# Constant rows shrink the most: two bits for 256 bytes.
_MOST_SMALLER, _FREE = 1100, 1 << 16
_LARGEST = 1 << 30


def meshopt_of(item: Any) -> dict[str, Any] | None:
    """What a bufferView (or a buffer) says of its compression by meshopt; None where it is not compressed."""
    extensions = item.get("extensions") if isinstance(item, dict) else None
    if not isinstance(extensions, dict):
        return None
    return next((extensions[name] for name in MESHOPT if isinstance(extensions.get(name), dict)), None)


def is_fallback(buffer: Any) -> bool:
    """Whether a buffer has no data of its own, only what compressed bufferViews become."""
    return isinstance(buffer, dict) and "uri" not in buffer and bool((meshopt_of(buffer) or {}).get("fallback"))


def meshopt_decoded(extension: dict[str, Any], buffers: tuple[Any, ...], label: str) -> bytes:
    """The bytes of a bufferView that meshopt compressed; InputError where they can't be had."""
    try:
        import meshopt
    except ImportError:
        raise InputError(
            f"{label} is compressed by meshopt, which needs a package; get it with: pip install meshopt"
        ) from None
    number, start, length, stride, count = (
        extension.get(key, 0) for key in ("buffer", "byteOffset", "byteLength", "byteStride", "count")
    )
    numbers = number, start, length, stride, count
    sound = all(type(v) is int and v >= 0 for v in numbers) and number < len(buffers) and 0 < stride <= 256
    if not sound or start + length > len(buffers[number]):
        raise InputError(f"{label}: a compressed bufferView reaches past the end of its data.")
    if count * stride > min(_MOST_SMALLER * length + _FREE, _LARGEST):
        raise InputError(f"{label}: a compressed bufferView announces more than its data can hold.")
    data = bytes(buffers[number][start : start + length])
    try:
        rows = meshopt.decode_gltf_buffer(data, count, stride, extension.get("mode"), extension.get("filter", "NONE"))
    except (ValueError, RuntimeError, TypeError, MemoryError):
        raise InputError(f"{label}: a bufferView that meshopt compressed can't be decoded.") from None
    return np.ascontiguousarray(rows).tobytes()


def draco_decoded(part: dict[str, Any], data: bytes, label: str) -> dict[int, np.ndarray]:
    """``{accessor: elements (count, width)}`` of a primitive that Draco compressed; InputError where they can't be had."""
    try:
        import DracoPy
    except ImportError:
        raise InputError("its meshes are compressed by Draco, which needs a package: pip install DracoPy") from None
    try:
        mesh = DracoPy.decode(data)
    except (ValueError, RuntimeError, TypeError, AssertionError, MemoryError, DracoPy.FileTypeException):
        raise InputError(f"{label}: a mesh that Draco compressed can't be decoded.") from None
    by_id = {int(a["unique_id"]): a["data"] for a in mesh.attributes}
    ids = part["extensions"][DRACO].get("attributes")
    if not isinstance(ids, dict):
        raise InputError(f"{label}: a mesh that Draco compressed tells no attributes.")
    made = {}
    for name, number in ids.items():
        accessor = part["attributes"].get(name)
        if number not in by_id or not isinstance(accessor, int):
            raise InputError(f"{label}: a mesh that Draco compressed lacks its {name}.")
        values = np.asarray(by_id[number])
        made[accessor] = values.reshape(len(values), -1)
    if isinstance(part.get("indices"), int):
        made[part["indices"]] = np.asarray(getattr(mesh, "faces", np.zeros((0, 3))), np.uint32).reshape(-1, 1)
    return made
