"""C3D files of MIPS machines as those of Intel machines: the library reads Intel and DEC alone.

The layout is the same, with the bytes of each number the other way round (C3D user guide: the processor byte of the parameter
section, the header's words, groups and parameters, and data that are all reals or all integers).
"""

from __future__ import annotations

import struct

_BLOCK = 512
_INTEL, MIPS = 84, 86
_HEADER_REALS = (12, 20)  # bytes of the header where a real stands; all else that is used of it are integers
_EVENTS = range(304, 376, 4)  # the times of events


class Damaged(ValueError):
    """The file is not laid out as it says."""


def processor(data: bytes) -> int:
    """The kind of machine that a file is of; 0 where it can't be told."""
    at = (data[0] - 1) * _BLOCK + 3 if data else 0
    return data[at] if 3 <= at < len(data) else 0


def as_intel(data: bytes) -> bytes:
    """The file of a MIPS machine as one of an Intel machine; Damaged where that can't be done."""
    made = bytearray(data)
    start = (data[0] - 1) * _BLOCK
    for at in range(2, _BLOCK, 2):
        made[at : at + 2] = data[at : at + 2][::-1]
    for at in (*_HEADER_REALS, *_EVENTS):
        made[at : at + 4] = data[at : at + 4][::-1]
    made[start + 3] = _INTEL
    _swap_parameters(data, made, start + 4)
    scale, first = struct.unpack_from(">f", data, 12)[0], (struct.unpack_from(">H", data, 16)[0] - 1) * _BLOCK
    if first < start:
        raise Damaged("its data begin before its parameters")
    wide = 4 if scale < 0 else 2
    end = first + (len(data) - first) // wide * wide
    for n in range(wide):
        made[first + n : end : wide] = data[first + wide - 1 - n : end : wide]
    return bytes(made)


def _swap_parameters(data: bytes, made: bytearray, at: int) -> None:
    """Turn the numbers of all groups and parameters from ``at`` on."""
    while at + 2 <= len(data):
        name, group = struct.unpack_from("bb", data, at)
        if name == 0 or group == 0:
            return
        step_at = at + 2 + abs(name)
        if step_at + 3 > len(data):
            raise Damaged("its parameters are cut off")
        step = struct.unpack_from(">H", data, step_at)[0]
        made[step_at : step_at + 2] = data[step_at : step_at + 2][::-1]
        if group > 0:
            _swap_values(data, made, step_at + 2)
        if step == 0:
            return
        at = step_at + step


def _swap_values(data: bytes, made: bytearray, at: int) -> None:
    wide, sizes = struct.unpack_from("bB", data, at)
    if abs(wide) < 2:
        return
    count, begin = 1, at + 2 + sizes
    if begin > len(data):
        raise Damaged("its parameters are cut off")
    for size in data[at + 2 : begin]:
        count *= size
    if begin + count * wide > len(data):
        raise Damaged("its parameters are cut off")
    for n in range(count):
        place = begin + n * wide
        made[place : place + wide] = data[place : place + wide][::-1]
