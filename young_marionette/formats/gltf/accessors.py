"""Accessors of glTF: typed arrays in buffers, sparse and normalised ones included."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from ...core.errors import InputError
from .compression import meshopt_decoded, meshopt_of

if TYPE_CHECKING:
    from .container import Container


TYPES = {5120: np.int8, 5121: np.uint8, 5122: np.int16, 5123: np.uint16, 5125: np.uint32, 5126: np.float32}
WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT2": 4, "MAT3": 9, "MAT4": 16}
_MOST_ZEROS = 1 << 24


def whole(value: Any, label: str, what: str, least: int = 0) -> int:
    """``value`` as a whole number of at least ``least``; InputError for anything else."""
    if not isinstance(value, int) or isinstance(value, bool) or value < least:
        raise InputError(f"{label}: {what} is {str(value)[:40]!r}, where a whole number belongs.")
    return value


def item(items: Sequence[Any], number: Any, label: str, what: str) -> Any:
    """An entry of a list by its number; InputError where there is none."""
    number = whole(number, label, f"the number of a {what}")
    if number >= len(items):
        raise InputError(f"{label} refers to {what} {number}, and has {len(items)}.")
    return items[number]


class Accessors:
    """Reads the accessors of a Container, each at most once."""

    def __init__(self, container: Container) -> None:
        self.label = container.label
        self._accessors, self._views = container.items("accessors"), container.items("bufferViews")
        self._buffers, self._read = container.buffers, {}
        self._decoded: dict[int, bytes] = {}

    def put(self, number: int, elements: np.ndarray) -> None:
        """Give the elements ``(count, width)`` of an accessor that are stored in another way; InputError where they don't fit."""
        accessor = item(self._accessors, number, self.label, "accessor")
        if (
            accessor.get("count") != len(elements)
            or WIDTHS.get(accessor.get("type", "")) != elements.shape[1]
            or accessor.get("componentType") not in TYPES
        ):
            raise InputError(f"{self.label}: accessor {number} is not of the size of its compressed data.")
        self._read[number] = self._normalised(accessor, elements)

    def view(self, number: Any) -> tuple[Any, int, int]:
        """``(buffer, where it begins, how long it is)`` of a bufferView, uncompressed."""
        view = item(self._views, number, self.label, "bufferView")
        compressed = meshopt_of(view)
        if compressed is not None:
            if number not in self._decoded:
                self._decoded[number] = meshopt_decoded(compressed, self._buffers, self.label)
            return self._decoded[number], 0, len(self._decoded[number])
        buffer = item(self._buffers, view.get("buffer"), self.label, "buffer")
        start = whole(view.get("byteOffset", 0), self.label, "the offset of a bufferView")
        return buffer, start, whole(view.get("byteLength"), self.label, "the length of a bufferView")

    def array(self, number: Any, width: int | None = None) -> np.ndarray:
        """The elements ``(count, width)`` of an accessor: floats where normalised, else as stored."""
        number = whole(number, self.label, "the number of an accessor")
        if number not in self._read:
            self._read[number] = self._decode(item(self._accessors, number, self.label, "accessor"))
        values = self._read[number]
        if width is not None and values.shape[1] != width:
            raise InputError(
                f"{self.label}: accessor {number} has {values.shape[1]} numbers each, where {width} belong."
            )
        return values

    def floats(self, number: Any, width: int | None = None) -> np.ndarray:
        """As ``array``, as 32-bit floats that are all finite."""
        values = np.asarray(self.array(number, width), np.float32)
        # The least and the largest are none where any is none; no array of answers is needed for that.
        if values.size and not (np.isfinite(values.min()) and np.isfinite(values.max())):
            raise InputError(f"{self.label}: accessor {number} holds a value that is not a number.")
        return values

    def _decode(self, accessor: dict[str, Any]) -> np.ndarray:
        kind, width = TYPES.get(accessor.get("componentType", 0)), WIDTHS.get(accessor.get("type", ""))
        if kind is None or width is None:
            raise InputError(f"{self.label}: an accessor has a type that glTF does not know.")
        count = whole(accessor.get("count"), self.label, "the count of an accessor")
        if "bufferView" in accessor:
            values = self._elements(accessor["bufferView"], accessor.get("byteOffset", 0), count, kind, width)
        elif count * width > _MOST_ZEROS:
            raise InputError(f"{self.label}: an accessor of {count} elements has no data.")
        else:
            values = np.zeros((count, width), kind)
        if accessor.get("sparse") is not None:
            values = self._sparse(accessor["sparse"], values, kind, width)
        return self._normalised(accessor, values)

    @staticmethod
    def _normalised(accessor: dict[str, Any], values: np.ndarray) -> np.ndarray:
        if accessor.get("normalized") and values.dtype.kind in "iu":
            return np.maximum(values.astype(np.float32) / np.iinfo(values.dtype).max, -1.0)  # type: ignore[no-any-return]
        return values

    def _elements(self, view_number: Any, offset: Any, count: int, kind: type, width: int) -> np.ndarray:
        buffer, start, length = self.view(view_number)
        view = self._views[view_number]
        offset = whole(offset, self.label, "the offset of an accessor")
        size = np.dtype(kind).itemsize * width
        stride = whole(view.get("byteStride", size), self.label, "the stride of a bufferView", 1)
        if start + length > len(buffer) or (count and offset + stride * (count - 1) + size > length) or stride < size:
            raise InputError(f"{self.label}: an accessor reaches past the end of its data.")
        if not count:
            return np.zeros((0, width), kind)
        if stride == size and sys.byteorder == "little":
            return np.frombuffer(buffer, kind, count * width, start + offset).reshape(count, width)
        raw = np.frombuffer(buffer, np.uint8, stride * (count - 1) + size, start + offset)
        rows = np.lib.stride_tricks.as_strided(raw, (count, size), (stride, 1), writeable=False)
        return np.ascontiguousarray(rows).view(np.dtype(kind).newbyteorder("<")).reshape(count, width)

    def _sparse(self, sparse: dict[str, Any], values: np.ndarray, kind: type, width: int) -> np.ndarray:
        if not isinstance(sparse, dict) or not all(isinstance(sparse.get(k), dict) for k in ("indices", "values")):
            raise InputError(f"{self.label}: a sparse accessor lacks its indices or values.")
        count = whole(sparse.get("count"), self.label, "the count of a sparse accessor")
        where, what = sparse["indices"], sparse["values"]
        index_kind = TYPES.get(where.get("componentType"))
        if index_kind not in (np.uint8, np.uint16, np.uint32):
            raise InputError(f"{self.label}: a sparse accessor's indices have no usable type.")
        at = self._elements(where.get("bufferView"), where.get("byteOffset", 0), count, index_kind, 1)[:, 0]
        if count and at.max() >= len(values):
            raise InputError(f"{self.label}: a sparse accessor points past its own end.")
        values = np.array(values)
        values[at] = self._elements(what.get("bufferView"), what.get("byteOffset", 0), count, kind, width)
        return values


class Writer:
    """Collects arrays into one buffer, with their bufferViews and accessors, at the end of a document."""

    def __init__(self, document: dict[str, Any], binary: bytes = b"") -> None:
        self.document, self._parts, self._size = document, [binary], len(binary)
        self._pad()

    def _pad(self) -> None:
        space = -self._size % 4
        if space:
            self._parts.append(b"\0" * space)
            self._size += space

    def data(self, raw: bytes, **more: Any) -> int:
        """Add bytes; gives the number of their bufferView."""
        views = self.document.setdefault("bufferViews", [])
        views.append({"buffer": 0, "byteOffset": self._size, "byteLength": len(raw), **more})
        self._parts.append(raw)
        self._size += len(raw)
        self._pad()
        return len(views) - 1

    def array(self, values: np.ndarray, kind: str, bounds: bool = False, component: int = 5126, **view: Any) -> int:
        """Add an array ``(count, width)``; gives the number of its accessor. ``bounds``: with its least and largest."""
        values = np.ascontiguousarray(values, TYPES[component])
        return self._accessor(values, kind, bounds, component, {"bufferView": self.data(values.tobytes(), **view)})

    def changes(self, values: np.ndarray, kind: str, bounds: bool = False) -> int:
        """Add an array of floats that is mostly zero: only rows that are not are stored, where that is shorter."""
        values = np.ascontiguousarray(values, TYPES[5126])
        rows = np.flatnonzero(values.any(1))
        rows = rows if len(rows) else np.zeros(1, int)
        if len(rows) > len(values) // 2:
            return self.array(values, kind, bounds)
        places = {"bufferView": self.data(rows.astype("<u4").tobytes()), "componentType": 5125}
        stored = {"bufferView": self.data(values[rows].tobytes())}
        sparse = {"count": len(rows), "indices": places, "values": stored}
        return self._accessor(values, kind, bounds, 5126, {"sparse": sparse})

    def _accessor(self, values: np.ndarray, kind: str, bounds: bool, component: int, stored: dict[str, Any]) -> int:
        accessor = {**stored, "componentType": component, "count": len(values), "type": kind}
        if bounds and len(values):
            flat = values.reshape(len(values), -1)
            accessor["min"], accessor["max"] = flat.min(0).tolist(), flat.max(0).tolist()
        self.document.setdefault("accessors", []).append(accessor)
        return len(self.document["accessors"]) - 1

    def binary(self) -> bytes:
        """The whole buffer; the document's first buffer gets its size."""
        whole_buffer = b"".join(bytes(p) for p in self._parts)
        if whole_buffer:
            buffers = self.document.setdefault("buffers", [{}])
            buffers[0] = {**{k: v for k, v in buffers[0].items() if k != "uri"}, "byteLength": len(whole_buffer)}
        return whole_buffer
