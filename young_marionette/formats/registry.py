"""Which format a file has, and who reads and writes it."""

from __future__ import annotations

from pathlib import Path

from ..core.errors import InputError
from . import asf, bvh, gltf, usd
from .files import check_free, opened, write_together

# From a name's ending to the kind of layout that its writer takes.
WRITABLE = {
    ".bvh": "BVH",
    ".glb": "glTF",
    ".gltf": "glTF",
    ".vrma": "glTF",
    ".usda": "USD",
    ".usdc": "USD",
    ".usdz": "USD",
}
READABLE = (".bvh", ".glb", ".gltf", ".vrm", ".vrma", ".usd", ".usda", ".usdc", ".usdz", ".amc", ".asf")
LAYOUTS = {"BVH": bvh.Layout, "glTF": gltf.GltfLayout, "USD": usd.UsdLayout}
_KNOWN = "BVH, glTF, GLB, VRM, USD and ASF/AMC can be read"


def read(path):
    """Read a file of any known format (a MotionFile), told by its first bytes and not by its name."""
    path = Path(path)
    with opened(path) as file:
        head = file.read(1 << 16)
    if not head:
        raise InputError(f"{path.name} is empty.")
    if not head.strip():
        raise InputError(f"{path.name} begins with nothing but blanks.")
    if bvh.is_bvh(head) and b"\0" in head:
        raise InputError(f"{path.name} begins as a BVH file and goes on as a binary one.")
    for kind, told in ((bvh, bvh.is_bvh), (usd, usd.is_usd), (gltf, gltf.is_gltf), (asf, asf.is_asf_or_amc)):
        if told(head):
            return kind.read(path)
    what = "a binary file" if b"\0" in head else "a file"
    raise InputError(f"{path.name} is {what} of no format that is known here; {_KNOWN}.")


def check_writable(path, overwrite=False):
    """InputError where a path can't be written: an ending that is not known, or a file that exists."""
    path = Path(path)
    if path.suffix.lower() not in WRITABLE:
        raise InputError(f"{path.name} can't be written: of the endings known here, use {', '.join(WRITABLE)}.")
    check_free(path, overwrite)


def layout_for(path, layout):
    """``layout`` where the format of ``path`` can use it, else None."""
    ending = Path(path).suffix.lower()
    # A VRM animation is no character's file: it rests in a pose of its own.
    return layout if layout is not None and layout.format == WRITABLE.get(ending) and ending != ".vrma" else None


def write(path, clip, layout=None, overwrite=False, **more):
    """Write a clip in the format that the name's ending tells; see ``encode``."""
    check_writable(path, overwrite)
    write_together(encode(path, clip, layout, **more))


def encode(
    path,
    clip,
    layout=None,
    metres_per_unit=1.0,
    up="Y",
    body=False,
    character=None,
    bones=(),
    level=None,
):
    """The files (list of Output) that hold a clip in the format that the name's ending tells.

    ``layout``: of the same format (see ``layout_for``); the clip is then in that file's own unit and axes. Else it has
    ``metres_per_unit`` and ``up``, which BVH does not tell, glTF has as metres with Y up, and USD writes down.
    ``body``: write the layout's meshes, of one ``level`` of detail, or ``character``, too. ``bones``: pairs of a VRM bone and a joint's name.
    """
    path = Path(path)
    kind = WRITABLE[path.suffix.lower()]
    if kind == "BVH":
        return bvh.encode(path, clip, layout, metres_per_unit)
    if kind == "glTF":
        return gltf.encode(path, clip, layout, body, character if body else None, bones, level)
    return usd.encode(path, clip, layout, body, character if body else None, metres_per_unit, up, level)
