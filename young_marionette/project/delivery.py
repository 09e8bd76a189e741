"""From a source and a rig to a file: pair them, bake, and write what was baked."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..core import rotations as rot
from ..core.character.meshes import placed_character
from ..core.clip import Clip
from ..core.errors import InputError
from ..core.figure.placement import Placement, axis_name, axis_vector, place_clip, plain_forward
from ..core.keys.keyed import KeyedClip, dense
from ..core.matching.conventions import CONVENTIONS, convention_names, learned_names
from ..core.resample import resample
from ..formats import encode
from ..formats.files import check_results, write_together
from ..formats.registry import check_writable, ending_of, format_of, layout_for
from .opening import inputs_of, open_rig
from .pairing import cut_to, pair, why_no_body

if TYPE_CHECKING:
    from ..core.keys.keyed import KeyedClip
    from ..formats.files import Output
    from .entry import Entry
    from .pairing import Pairing


def pair_files(source: Entry, rig: Entry, stringing_path: Path | None = None) -> Pairing:
    """Pair two entries: with a saved stringing where one is given, else by itself."""
    if stringing_path is None:
        return pair(source, rig)
    from . import stringing  # only where one is used: schemas take long to load

    return stringing.from_file(stringing.load(stringing_path), source, rig)


def deliver(path: Path, baked: Clip | KeyedClip, rig: Entry, overwrite: bool = False, body: bool = False) -> None:
    """Write a baked clip on the placed rig, see ``delivered``."""
    check_writable(path, overwrite)
    write_together(delivered(path, baked, rig, body))


def delivered(path: str | Path, baked: Clip | KeyedClip, rig: Entry, body: bool = False) -> list[Output]:
    """The files (list of Output) of a baked clip with the rig's names, see ``to_write``."""
    clip, layout, wanted = to_write(path, baked, rig, body)
    return encode(path, clip, layout, **wanted)


ToWrite = tuple["Clip | KeyedClip", Any, dict[str, Any]]


def to_write(path: str | Path, baked: Clip | KeyedClip, rig: Entry, body: bool = False) -> ToWrite:
    """``(clip, layout, wanted)`` for ``encode``: a baked clip with the rig's names, and with its ``body`` where it has one.

    In the rig's own format it comes in the file's own order, unit and axes; in another one in metres with Y up.
    """
    if body and rig.character is None:
        raise InputError(f"{rig.name} has no body that could be written with it.")
    layout, baked = layout_for(path, rig.layout), rig.with_morphs(baked) if body else baked
    if layout is not None:
        metres = rig.figure.placement.scale
        own, bones = rig.to_file_world(baked), rig.declared.bones
        return own, layout, {"metres_per_unit": metres, "body": body, "bones": bones, "level": rig.only_level}
    character = rig.placed_character if body else None
    names = () if ending_of(path).rig else rig.bones
    return baked, None, {"body": body, "character": character, "bones": names}


def convert(
    entry: Entry,
    path: Path,
    fps: float | None = None,
    frames: tuple[int, int] | None = None,
    unit: float | None = None,
    up: str | None = None,
    body: bool | None = None,
    overwrite: bool = False,
) -> None:
    """Write an entry's clip, or its rest pose, in another format, rate, range, unit or with another axis up.

    What the file says of its unit and axes is believed, and nothing is turned but by the quarter turn that brings up to up.

    ``unit``: metres per unit; ``up``: ``"Y"`` or ``"Z"``. ``body`` None: where the format can hold one and there is one.
    """
    check_writable(path, overwrite)
    check_results([path], inputs_of(entry))
    kind = format_of(path)
    if kind.fixed_world and (unit not in (None, 1.0) or up not in (None, "Y")):
        raise InputError(f"{kind.name} is always in metres with Y up; choose BVH or USD for another unit or axis.")
    if body:
        check_body(path, entry)
    body = has_body(path, entry, body is False)
    entry = as_declared(entry)
    clip = entry.placed_take
    if frames is not None:
        clip = cut_to(entry.placed_clip, frames)
    if fps is not None:
        clip = resample(dense(clip), fps)
    if unit is None and up is None:
        return deliver(path, clip, entry, overwrite, body)
    unit, up = unit or 1.0, up or "Y"
    forward = rot.AXES["Z"] if up == "Y" else -rot.AXES["Y"]
    turned = Placement.from_axes(unit, rot.AXES[up], forward).inverse
    own = entry.placed_character if body else None
    character = placed_character(own, turned) if own is not None else None
    write_together(encode(path, place_clip(clip, turned), metres_per_unit=unit, up=up, body=body, character=character))
    return None


def has_body(path: str | Path, rig: Entry, motion_only: bool = False) -> bool:
    """Whether a file gets the rig's body: unless motion alone is asked for, where there is one and the format can hold it."""
    return not motion_only and rig.character is not None and ending_of(path).body


def check_body(path: str | Path, rig: Entry) -> None:
    """InputError where a file can't get the rig's body."""
    if not ending_of(path).body:
        raise InputError(f"A file ending in {Path(path).suffix} holds motion alone, without a body.")
    if rig.character is None:
        raise InputError(f"{rig.name} has no body that could be written with it.")


def as_declared(entry: Entry) -> Entry:
    """The entry in the unit and axes that its file declares, or else seems to have, facing wherever it faces there.

    Corrections by hand stay.
    """
    own, declared = entry.correction, entry.declared
    up = own.up or declared.up or entry.figure.up
    facing = own.facing or axis_name(plain_forward(axis_vector(up)))
    return entry.corrected(up=up, facing=facing, scale=own.scale or declared.unit or entry.figure.placement.scale)


def write_entry(entry: Entry, path: Path, overwrite: bool = False) -> None:
    """Write an entry as it stands, in its own unit and axes; a skeleton without motion as one frame at rest."""
    check_results([path], inputs_of(entry))
    check_writable(path, overwrite)
    clip = entry.take or Clip(entry.name, entry.skeleton, 30.0, entry.skeleton.rest[None])
    layout = layout_for(path, entry.layout)
    if layout is None and entry.layout is not None:
        entry = as_declared(entry)
        deliver(path, entry.placed_take, entry, overwrite, has_body(path, entry))
        return
    metres, body = entry.figure.placement.scale, entry.character is not None
    write_together(encode(path, clip, layout, metres_per_unit=metres, body=body, bones=entry.declared.bones))


def renamed(entry: Entry, names: str) -> Entry:
    """The entry with the bone names of a convention (``"vrm"``, ``"h-anim"``) or of the skeleton in a file."""
    if names.lower() not in CONVENTIONS and not Path(names).exists():
        raise InputError(
            f"'{names}' is neither a known naming convention nor a file; use {', '.join(CONVENTIONS)} or a file with the names."
        )
    if entry.figure.body is None:
        raise InputError(f"The bones of {entry.name} can't be told apart. {why_no_body(entry)}")
    if names.lower() in CONVENTIONS:
        return entry.with_bone_names(convention_names(entry.skeleton, entry.figure.body, names.lower()))
    rig = open_rig(names)
    if rig.figure.body is None:
        raise InputError(f"No names can be learned from {rig.name}. {why_no_body(rig)}")
    return entry.with_bone_names(learned_names(entry.skeleton, entry.figure.body, rig.skeleton, rig.figure.body))
