"""What a file is, by its first bytes; apart from the readers, which are loaded for the files that they read alone."""

from __future__ import annotations

import re

GLB_MAGIC = b"glTF"


def is_bvh(head: bytes) -> bool:
    """Whether the first bytes of a file are those of a BVH file."""
    return head.removeprefix(b"\xef\xbb\xbf").lstrip()[:9].upper() == b"HIERARCHY"


def is_usd(head: bytes) -> bool:
    """Whether the first bytes of a file are those of a USD file or package."""
    return (
        head[:8] == b"PXR-USDC"
        or head.lstrip()[:5] == b"#usda"
        or (head[:4] == b"PK\x03\x04" and b".usd" in head[:4096])
    )


def is_gltf(head: bytes) -> bool:
    """Whether the first bytes of a file are those of a glTF file, binary or JSON."""
    if head[:4] == GLB_MAGIC:
        return True
    start = head.removeprefix(b"\xef\xbb\xbf").lstrip()[:1]
    return start == b"{" and (b'"asset"' in head or b'"buffers"' in head or b'"nodes"' in head)


def is_asf(text: str) -> bool:
    """Whether the first letters of a file, in lower case, are those of an ASF file (a skeleton)."""
    return re.search(r"^\s*:(bonedata|root|hierarchy|version|units)\b", text, re.M) is not None


def is_asf_or_amc(head: bytes) -> bool:
    """Whether the first bytes of a file are those of an ASF or an AMC file."""
    text = head.decode("latin-1").lower()
    return is_asf(text) or re.search(r"^\s*:(degrees|radians|fully-specified)\s*$", text, re.M) is not None


def is_c3d(head: bytes) -> bool:
    """Whether the first bytes of a file are those of a C3D file: the place of its parameters, then the mark of the format."""
    return len(head) >= 2 and head[1] == 0x50 and 0 < head[0] < 0x80 and b"\0" in head[:512]


def is_trc(head: bytes) -> bool:
    """Whether the first bytes of a file are those of a TRC file."""
    text = head.decode("latin-1")
    return text.lstrip("\ufeff\xef\xbb\xbf")[:12].lower() == "pathfiletype" or (
        re.search(r"^\s*Frame#\s+Time\s", text, re.M) is not None and re.search(r"\bX1\b", text) is not None
    )


def is_marker_table(head: bytes) -> bool:
    """Whether the first bytes of a file are those of a table of markers."""
    from .markers.csv_table import is_table

    return is_table(head)
