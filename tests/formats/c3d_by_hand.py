"""C3D files byte by byte, after the format's public description: three kinds of machines, integers and reals."""

import struct

INTEL, DEC, MIPS = 84, 85, 86


def _int(value, kind):
    return struct.pack(">h" if kind == MIPS else "<h", value)


def _float(value, kind):
    if kind == MIPS:
        return struct.pack(">f", value)
    if kind == INTEL:
        return struct.pack("<f", value)
    data = struct.pack(
        "<f", value * 4
    )  # the other machine's exponent counts from elsewhere, and its halves are swapped
    return data[2:] + data[:2]


def _named(name, number, content, last=False):
    text = name.encode()
    body = b"\x00" if content is None else content + b"\x00"  # and no description
    return struct.pack("bb", len(text), number) + text, body, last


def _section(parts, kind):
    data = b""
    for head, body, last in parts:
        data += head + _int(0 if last else len(body) + 2, kind) + body
    return data


def _values(values, code, size, kind):
    pack = {2: _int, 4: _float}[code]
    return struct.pack("bb", code, len(size)) + bytes(size) + b"".join(pack(v, kind) for v in values)


def _texts(texts):
    wide = max(map(len, texts))
    size = [wide] if len(texts) == 1 else [wide, len(texts)]
    return struct.pack("bb", -1, len(size)) + bytes(size) + b"".join(t.ljust(wide).encode() for t in texts)


def c3d_bytes(labels, points, rate=100.0, kind=INTEL, scale=None, first=1, unit="mm"):
    """The bytes of a C3D file. ``points``: frames of markers of (x, y, z), or None where one was not seen; ``scale``: of integers,
    None for reals."""
    count, last = len(labels), first + len(points) - 1
    factor = -0.1 if scale is None else scale
    parts = [
        _named("POINT", -1, None),
        _named("USED", 1, _values([count], 2, [], kind)),
        _named("FRAMES", 1, _values([len(points)], 2, [], kind)),
        _named("SCALE", 1, _values([factor], 4, [], kind)),
        _named("DATA_START", 1, _values([4], 2, [], kind)),
        _named("RATE", 1, _values([rate], 4, [], kind)),
        _named("UNITS", 1, _texts([unit])),
        _named("LABELS", 1, _texts(labels)),
        _named("ANALOG", -2, None),
        _named("USED", 2, _values([0], 2, [], kind), True),
    ]
    section = bytes([1, 0x50, 2, kind]) + _section(parts, kind)
    head = bytes([2, 0x50]) + b"".join(_int(v, kind) for v in (count, 0, first, last, 0))
    head += _float(factor, kind) + _int(4, kind) + _int(0, kind) + _float(rate, kind)
    data = b""
    for frame in points:
        for place in frame:
            x, y, z = (0, 0, 0) if place is None else place
            lost = place is None
            if scale is None:
                data += b"".join(_float(v, kind) for v in (x, y, z, -1.0 if lost else 0.0))
            else:
                data += b"".join(_int(round(v / scale), kind) for v in (x, y, z)) + _int(-1 if lost else 0, kind)
    return head.ljust(512, b"\0") + section.ljust(1024, b"\0") + data.ljust(-(-len(data) // 512) * 512, b"\0")
