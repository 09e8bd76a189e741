"""Stringing files: a saved pairing, readable JSON with a version, checked against both skeletons on use."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path
from typing import Annotated, Literal

import numpy as np
from pydantic import AfterValidator, BaseModel, ConfigDict, Field, ValidationError

from ..core import rotations as rot
from ..core.errors import InputError
from ..core.humanoid.words import shared_prefix
from ..core.matching.stance import Stance, match
from ..core.matching.tying import String, tie
from ..core.skeleton import Skeleton
from ..core.text import HALF, whole_characters
from ..core.transfer.retarget import TransferSettings
from ..formats.files import Output, check_free, opened, write_together
from .pairing import Origin, Pairing

VERSION = 2
_MAX_BYTES = 32 << 20


def _turn(value):
    if not 0.5 < sum(v * v for v in value) < 2:
        raise ValueError("a rotation needs a quaternion of length one")
    return value


Coordinate = Annotated[float, Field(ge=-1e9, le=1e9)]
Quaternion = Annotated[tuple[float, float, float, float], AfterValidator(_turn)]


class Strict(BaseModel):
    """A part of a file of ours: no fields that are not known, no infinite numbers."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False, frozen=True)


class Joint(Strict):
    """A joint of the rest pose: offset in metres and rotation, in the parent's axes; no rotation is left out.

    Version 1 knew no rotations.
    """

    name: str
    parent: str | None
    offset: tuple[Coordinate, Coordinate, Coordinate]
    rest: Quaternion | None = None


class Side(Strict):
    """One skeleton: its family fingerprint, its joints at rest, and its reference pose.

    ``pose``: for joints that are turned away from rest, the local turn after the rest rotation.
    """

    fingerprint: str
    joints: list[Joint]
    pose: dict[str, Quaternion] = Field(default_factory=dict)


class Tie(Strict):
    part: str
    source: list[str] = Field(min_length=1)
    target: list[str] = Field(min_length=1)
    certainty: float = Field(ge=0, le=1)
    reason: str = ""
    by_hand: bool = False
    locked: bool = False


class Settings(Strict):
    in_place: bool = False
    stride: float = Field(default=1.0, gt=0, le=100)
    height_offset: float = Field(default=0.0, ge=-100, le=100)
    touches: dict[Literal["shoulders up", "elbows back", "arms out", "head down"], float] = Field(default_factory=dict)


class StringingFile(Strict):
    """The schema of a ``*.stringing`` file, version 2."""

    format: Literal["young-marionette stringing"]
    version: int
    name: str = ""
    source: Side
    target: Side
    strings: list[Tie]
    absent: list[str] = Field(default_factory=list)
    stance_matched: bool = True
    settings: Settings = Settings()


def to_file(pairing, source, rig, name=""):
    """The pairing of two entries as a StringingFile."""
    return StringingFile(
        format="young-marionette stringing",
        version=VERSION,
        name=name or pairing.name,
        source=_side(source, pairing.source, pairing.stance.source),
        target=_side(rig, pairing.target, pairing.stance.target),
        strings=[
            Tie(
                part=s.part,
                source=list(s.source),
                target=list(s.target),
                certainty=s.certainty,
                reason=s.reason,
                by_hand=s.by_hand,
                locked=s.locked,
            )
            for s in pairing.strings
        ],
        absent=list(pairing.absent),
        stance_matched=pairing.matched,
        settings=Settings(**{**vars(pairing.settings), "touches": dict(pairing.settings.touches)}),
    )


def _side(entry, skeleton, pose):
    turns = rot.multiply(rot.conjugate(skeleton.rest), pose)
    joints = [
        Joint(
            name=n,
            parent=skeleton.names[p] if p >= 0 else None,
            offset=tuple(np.round(o, 6).tolist()),
            rest=tuple(np.round(q, 9).tolist()) if rot.angle(q) > 1e-9 else None,
        )
        for n, p, o, q in zip(skeleton.names, skeleton.parents, skeleton.offsets, skeleton.rest)
    ]
    return Side(
        fingerprint=entry.family,
        joints=joints,
        pose={n: tuple(q.tolist()) for n, q in zip(skeleton.names, turns) if rot.angle(q) > 1e-9},
    )


def from_file(file, source, rig):
    """The Pairing that a StringingFile makes of two entries; InputError where bones that it ties are not there.

    Names are compared without the prefix that all names of a skeleton share.
    """
    a, b = source.placed_skeleton, rig.placed_skeleton
    here, there = _matcher(file.source, a), _matcher(file.target, b)
    lacking = (
        sorted({n for t in file.strings for n in t.source if n not in here}),
        sorted({n for t in file.strings for n in t.target if n not in there}),
    )
    for names, side in zip(lacking, ("source", "rig")):
        if names:
            more = f" and {len(names) - 3} more" if len(names) > 3 else ""
            raise InputError(
                f"This stringing was made for another skeleton: the {side} has no bone {', '.join(names[:3])}{more}."
            )
    strings = tuple(
        String(
            t.part,
            tuple(here[n] for n in t.source),
            tuple(there[n] for n in t.target),
            t.certainty,
            t.reason,
            t.by_hand,
            t.locked,
        )
        for t in file.strings
    )
    known = (file.source.fingerprint, file.target.fingerprint) == (source.family, rig.family)
    alike = file.version < 2 or all(
        _rests_alike(side, s, n) for side, s, n in ((file.source, a, here), (file.target, b, there))
    )
    if file.stance_matched and not (known and alike):
        # What the program matched for other proportions or rest poses is matched anew, what was made by hand is kept.
        stance = match(strings, a, b, _pose(file.source, a, here, alike) if file.source.pose else None)
    else:
        stance = Stance(_pose(file.source, a, here, alike), _pose(file.target, b, there, alike))
    return Pairing(
        a,
        b,
        strings,
        stance,
        TransferSettings(**{**file.settings.model_dump(), "touches": tuple(file.settings.touches.items())}),
        file.stance_matched,
        file.name,
        absent=tuple(file.absent),
    )


def adapt(file, source, rig):
    """A stringing that nearly fits, on two entries (a Pairing; its origin tells what it lacks).

    Strings whose bones are all there are kept; what is left is tied by itself. InputError where less
    than half of its strings fit.
    """
    here, there = _matcher(file.source, source.placed_skeleton), _matcher(file.target, rig.placed_skeleton)
    fit = [t for t in file.strings if all(n in here for n in t.source) and all(n in there for n in t.target)]
    if 2 * len(fit) < len(file.strings) or source.figure.body is None or rig.figure.body is None:
        raise InputError(
            f"The stringing {file.name or 'without a name'} fits too little of these two skeletons to be adapted."
        )
    pairing = from_file(file.model_copy(update={"strings": fit}), source, rig)
    parts, used = {s.part for s in pairing.strings}, {n for s in pairing.strings for n in s.target}
    fresh = [
        s
        for s in tie(pairing.source, source.figure.body, pairing.target, rig.figure.body)
        if s.part not in parts and not used & set(s.target)
    ]
    lost = [t.part for t in file.strings if t not in fit]
    origin = Origin("adapted", file.name, tuple(lost), tuple(s.part for s in fresh))
    return replace(pairing.with_strings((*pairing.strings, *fresh)), origin=origin)


def nearly_fits(file, source, rig):
    """Whether a stringing of other families can be adapted to two entries: most of its bones are there."""
    sides = (file.source, source.placed_skeleton), (file.target, rig.placed_skeleton)
    return all(len(_matcher(side, skeleton)) >= 0.8 * len(side.joints) for side, skeleton in sides)


def _matcher(side, skeleton):
    """From the file's bone names to the skeleton's, through what is left without their prefixes."""
    mine = {n.removeprefix(shared_prefix(skeleton.names)): n for n in skeleton.names}
    old = shared_prefix([j.name for j in side.joints])
    names = {j.name: mine.get(j.name.removeprefix(old)) for j in side.joints}
    return {old_name: new for old_name, new in names.items() if new is not None}


def _pose(side, skeleton, names, alike=True):
    """The reference pose of a side on a skeleton (local rotations); ``alike``: both rest in the same pose."""
    if not alike:
        return _rebuilt(side, skeleton, names)
    pose = skeleton.rest.copy()
    for name, turn in side.pose.items():
        if name in names:
            joint = skeleton.index[names[name]]
            pose[joint] = rot.multiply(pose[joint], rot.normalise(np.array(turn)))
    return pose


def _skeleton(side):
    """The skeleton that a side describes; InputError where its joints make no tree."""
    index = {}
    for joint in side.joints:
        if joint.name in index or (joint.parent is not None and joint.parent not in index):
            raise InputError(
                f"This stringing is not a valid one: its joint {joint.name} stands before its parent, or twice."
            )
        index[joint.name] = len(index)
    return Skeleton(
        tuple(index),
        np.array([-1 if j.parent is None else index[j.parent] for j in side.joints]),
        np.array([j.offset for j in side.joints]),
        np.array([rot.normalise(np.array(j.rest)) if j.rest else rot.IDENTITY for j in side.joints]),
        np.full((len(index), 3), np.nan),
    )


def _rests_alike(side, skeleton, names):
    """Whether the bones of a side point, at rest, where those of a skeleton do (within two degrees)."""
    old = _skeleton(side)
    old_points, points = old.rest_world[0], skeleton.rest_world[0]
    for name, joint in old.index.items():
        over = old.parents[joint]
        if over < 0 or name not in names or old.names[over] not in names:
            continue
        was = old_points[joint] - old_points[over]
        now = points[skeleton.index[names[name]]] - points[skeleton.index[names[old.names[over]]]]
        if min(np.linalg.norm(was), np.linalg.norm(now)) > 1e-4 and rot.angle_between(was, now) > np.radians(2):
            return False
    return True


def _rebuilt(side, skeleton, names):
    """The pose of a side on a skeleton of the same bones that rests otherwise: every bone pointed the same way."""
    old = _skeleton(side)
    pose = np.array(old.rest)
    for name, turn in side.pose.items():
        if name in old.index:
            pose[old.index[name]] = rot.multiply(pose[old.index[name]], rot.normalise(np.array(turn)))
    same = tuple(String(f"bone {i}", (a,), (b,), 1.0, "") for i, (a, b) in enumerate(names.items()))
    return match(same, old, skeleton, pose).target


def encode(path, file):
    """The files (list of Output) of a StringingFile."""
    text = json.dumps(file.model_dump(mode="json"), indent=1, ensure_ascii=False)
    return [Output(Path(path), [text.encode(), b"\n"])]


def save(path, file, overwrite=False):
    """Write a StringingFile."""
    check_free(path, overwrite)
    write_together(encode(path, file))


def load(path):
    """Read a StringingFile; InputError, in one sentence, for anything else."""
    path = Path(path)
    with opened(path) as handle:
        data = handle.read(_MAX_BYTES + 1)
    if len(data) > _MAX_BYTES:
        raise InputError(f"{path.name} is too large for a stringing.")
    return parse(path.name, data, StringingFile, VERSION, "stringing")


def parse(label, data, model, version, what):
    """Validate JSON bytes as ``model``; a newer version and a broken file get a sentence each."""
    try:
        raw = json.loads(data)
    except (ValueError, RecursionError):
        raise InputError(f"{label} is not a valid {what} or was cut off: it can't be read as JSON.") from None
    if HALF.search(data) and whole_characters(json.dumps(raw, ensure_ascii=False)) != json.dumps(
        raw, ensure_ascii=False
    ):
        raise InputError(f"{label} is not a valid {what}: it holds text that is none (half a character).")
    if not isinstance(raw, dict) or raw.get("format") != f"young-marionette {what}":
        raise InputError(f"{label} is not a Young Marionette {what}.")
    if isinstance(raw.get("version"), int) and raw["version"] > version:
        raise InputError(
            f"{label} comes from a newer version of Young Marionette; this one reads {what}s up to version {version}."
        )
    try:
        return model.model_validate(raw)
    except (ValidationError, RecursionError) as error:
        first = error.errors()[0] if isinstance(error, ValidationError) else {"loc": (), "msg": "nested too deeply"}
        where = ".".join(map(str, first["loc"])) or "the whole"
        raise InputError(f"{label} is not a valid {what}: {where}: {first['msg']}.") from None
