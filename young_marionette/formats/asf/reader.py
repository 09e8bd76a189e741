"""Reading ASF/AMC: the classic pair of text files, a skeleton and frames of degrees for it."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from ...core import rotations as rot
from ...core.clip import Clip, from_rows
from ...core.errors import InputError
from ...core.figure.declared import Declared
from ...core.findings import finding
from ...core.skeleton import Skeleton
from ...core.transfer.limits import JointLimit
from ...core.units import INCH
from ..files import opened
from ..sniffing import is_asf
from ..source_file import SkeletonPart, SourceFile

if TYPE_CHECKING:
    from ...core.findings import Finding


RATE = 120.0  # AMC tells no rate; recordings of its time were made at 120 frames per second
_MAX_BYTES = 512 << 20
_MAX_BONES = 5000


def read(path: Path) -> SourceFile:
    """Read an AMC with the ASF beside it, or an ASF alone (a SourceFile)."""
    path = Path(path)
    text = _text(path)
    if is_asf(text[: 1 << 16].lower()):
        bones = _skeleton(path.name, text)
        return _file(path, bones, (), [finding("no motion")])
    skeleton_path = _beside(path)
    bones = _skeleton(skeleton_path.name, _text(skeleton_path))
    notes = [finding("skeleton beside", file=skeleton_path.name, rate=RATE)]
    (part,) = _file(path, bones, (), notes).skeletons
    return _file(path, bones, (_clip(path, text, bones, part.skeleton, notes),), notes)


def _text(path: Path) -> str:
    with opened(path) as file:
        data = file.read(_MAX_BYTES + 1)
    if len(data) > _MAX_BYTES:
        raise InputError(f"{path.name} is larger than {_MAX_BYTES >> 20} MB, which no capture of this kind is.")
    return data.decode("latin-1").replace("\r\n", "\n").replace("\r", "\n")


def _beside(path: Path) -> Path:
    """The ASF that belongs to an AMC: of the same name, or whose name begins it, or the only one in the folder."""
    skeletons = sorted(p for p in path.parent.iterdir() if p.suffix.lower() == ".asf" and p.is_file())
    same = [p for p in skeletons if path.stem.lower().startswith(p.stem.lower())]
    best = max(same, key=lambda p: len(os.path.commonprefix([p.stem.lower(), path.stem.lower()])), default=None)
    best = best or (skeletons[0] if len(skeletons) == 1 else None)
    if best is None:
        raise InputError(
            f"{path.name} needs the ASF file of its skeleton beside it, and there is {'none' if not skeletons else 'more than one'}."
        )
    return best


class _Bones:
    """What an ASF tells: names, parents, directions, lengths, axes and degrees of freedom."""

    def __init__(self) -> None:
        self.names, self.ways, self.axes, self.free = ["root"], {}, {}, {}
        self.limits: dict[str, list[tuple[float, float]]] = {}
        self.parents: dict[str, str | None] = {"root": None}
        self.root_order: tuple[str, ...] = ()
        self.root_axis, self.root_turn = "XYZ", np.zeros(3)
        self.length, self.degrees = 1.0, True


def _skeleton(label: str, text: str) -> _Bones:
    bones, sections = _Bones(), _sections(text)
    units = _pairs(sections.get("units", ()))
    bones.length = _number(label, units.get("length", ["1"])[0])
    bones.degrees = units.get("angle", ["deg"])[0].lower().startswith("deg")
    if bones.length <= 0:
        raise InputError(f"{label}: a unit of length {bones.length:g} can't be used.")
    root = _pairs(sections.get("root", ()))
    bones.root_order = tuple(w.upper() for w in root.get("order", ["TX", "TY", "TZ", "RX", "RY", "RZ"]))
    if set(bones.root_order) - {"TX", "TY", "TZ", "RX", "RY", "RZ"} or len(set(bones.root_order)) != len(
        bones.root_order
    ):
        raise InputError(f"{label}: the root's order is none of TX, TY, TZ, RX, RY and RZ.")
    bones.root_axis = _axis(label, root.get("axis", ["XYZ"])[0])
    bones.root_turn = _angles(label, root.get("orientation", ["0", "0", "0"])[:3], bones)
    _bone_data(label, sections.get("bonedata", ()), bones)
    _hierarchy(label, sections.get("hierarchy", ()), bones)
    return bones


def _sections(text: str) -> dict[str, list[list[str]]]:
    """``{section: lines of words}``."""
    sections, section = {}, None
    for line in text.split("\n"):
        line = line.split("#", 1)[0].strip()
        if line.startswith(":"):
            words = line[1:].split()
            section = words[0].lower() if words else None
            sections.setdefault(section, [])
            if len(words) > 1:
                sections[section].append(words[1:])
        elif line and section:
            sections[section].append(line.split())
    return sections


def _pairs(lines: Sequence[list[str]]) -> dict[str, list[str]]:
    return {words[0].lower(): words[1:] for words in lines if len(words) > 1}


def _number(label: str, word: str) -> float:
    try:
        value = float(word)
    except ValueError:
        value = np.nan
    if not abs(value) < 1e12:
        raise InputError(f"{label}: '{word[:40]}' stands where a number belongs.")
    return value


def _axis(label: str, word: str) -> str:
    word = word.upper()
    if sorted(word) != ["X", "Y", "Z"]:
        raise InputError(f"{label}: '{word[:20]}' is not an axis order.")
    return word


def _angles(label: str, words: list[str], bones: _Bones) -> np.ndarray:
    values = np.array([_number(label, w) for w in words])
    if len(values) != 3:
        raise InputError(f"{label}: three angles belong together, and there are {len(values)}.")
    return np.radians(values) if bones.degrees else values


def _bone_data(label: str, lines: Sequence[list[str]], bones: _Bones) -> None:
    bone: dict[str, Any] | None = None
    for words in lines:
        key = words[0].lower()
        if key == "begin":
            bone = {"direction": np.zeros(3), "length": 0.0, "axis": np.zeros(3), "order": "XYZ", "dof": ()}
        elif key == "end" and bone is not None:
            name = bone.get("name")
            if not name or (name in bones.parents and name != "root") or name in bones.ways or name == "root":
                raise InputError(f"{label}: the bone {str(name)[:40]} stands twice, or without a name.")
            bones.ways[name] = bone["direction"] * bone["length"]
            bones.axes[name] = rot.from_euler(bone["order"][::-1], bone["axis"][::-1])
            bones.free[name] = bone["dof"]
            bones.limits[name] = _limits(label, bone.get("limits", []), bones)
            if len(bones.ways) > _MAX_BONES:
                raise InputError(f"{label} has more than {_MAX_BONES} bones, which no figure has.")
            bone = None
        elif bone is not None and (key == "limits" or key.startswith("(")):
            bone.setdefault("limits", []).extend(words[key == "limits" :])
        elif bone is not None and len(words) > 1:
            if key == "name":
                bone["name"] = words[1]
            elif key == "direction" and len(words) >= 4:
                way = np.array([_number(label, w) for w in words[1:4]])
                bone["direction"] = way / max(np.linalg.norm(way), 1e-12)
            elif key == "length":
                bone["length"] = _number(label, words[1])
            elif key == "axis" and len(words) >= 4:
                bone["order"] = _axis(label, words[4]) if len(words) > 4 else "XYZ"
                bone["axis"] = _angles(label, words[1:4], bones)
            elif key == "dof":
                bone["dof"] = tuple(w.lower() for w in words[1:])
    for name, free in bones.free.items():
        if set(free) - {"rx", "ry", "rz", "tx", "ty", "tz", "l"}:
            raise InputError(
                f"{label}: the bone {name} has a degree of freedom that is not known: {' '.join(free)[:40]}."
            )


def _limits(label: str, words: list[str], bones: _Bones) -> list[tuple[float, float]]:
    """Pairs of least and most angle, one for each degree of freedom, radians; infinite where a file says so."""
    numbers = [w for w in re.split(r"[\s(),]+", " ".join(words)) if w]
    ends = [
        np.copysign(np.inf, -1 if w[0] == "-" else 1) if w.lstrip("+-").lower().startswith("inf") else _number(label, w)
        for w in numbers
    ]
    factor = np.pi / 180 if bones.degrees else 1.0
    return [(min(pair) * factor, max(pair) * factor) for pair in zip(ends[::2], ends[1::2])]


def _joint_limit(name: str, bones: _Bones) -> JointLimit | None:
    """A bone's limits, which are told for turns about three axes, as a cone and a range of twist; None without any."""
    turns = [free for free in bones.free[name] if free in ("rx", "ry", "rz")]
    given = dict(zip(bones.free[name], bones.limits[name]))
    if not turns or any(turn not in given for turn in turns):
        return None
    along = np.abs(rot.rotate(rot.conjugate(bones.axes[name]), rot.normalise(bones.ways[name])))
    about = f"r{'xyz'[int(along.argmax())]}"
    leans = [max(map(abs, given[turn])) for turn in turns if turn != about]
    swing = float(np.hypot(*leans)) if len(leans) == 2 else max(leans, default=0.0)
    twist = given.get(about, (0.0, 0.0))
    free = not np.isfinite(twist).all() or twist[1] - twist[0] >= 2 * np.pi
    return JointLimit(name, min(swing, np.pi) if np.isfinite(swing) else None, None if free else twist)


def _hierarchy(label: str, lines: Sequence[list[str]], bones: _Bones) -> None:
    for words in lines:
        if words[0].lower() in ("begin", "end"):
            continue
        parent, children = words[0], words[1:]
        if parent not in bones.parents:
            raise InputError(f"{label}: the hierarchy names {parent[:40]} as a parent before it is defined.")
        for child in children:
            if child not in bones.ways or child in bones.parents:
                raise InputError(f"{label}: the bone {child[:40]} has two parents, or does not exist.")
            bones.parents[child] = parent
            bones.names.append(child)


def _file(path: Path, bones: _Bones, clips: tuple[Any, ...], notes: list[Finding]) -> SourceFile:
    index = {n: i for i, n in enumerate(bones.names)}
    count = len(bones.names)
    parents = np.array([-1 if (over := bones.parents[n]) is None else index[over] for n in bones.names])
    # A bone's way leads from its joint to its end, where its children's joints are.
    offsets, tips = np.zeros((count, 3)), np.full((count, 3), np.nan)
    has_child = {p for p in bones.parents.values() if p}
    for joint, name in enumerate(bones.names[1:], 1):
        over = bones.parents[name]
        offsets[joint] = bones.ways[over] if over != "root" else 0.0
        if name not in has_child:
            tips[joint] = bones.ways[name]
    skeleton = Skeleton(tuple(bones.names), parents, offsets, None, tips)
    # The length told is how many units an inch has, as captures of this kind have it.
    declared = Declared(INCH / bones.length if bones.length != 1 else None)
    kind = "ASF/AMC"
    limits = tuple(limit for name in bones.names[1:] if (limit := _joint_limit(name, bones)) is not None)
    part = SkeletonPart(path.stem, skeleton, clips, None, tuple(notes), declared, limits)
    return SourceFile(path, kind, (part,))


def _clip(path: Path, text: str, bones: _Bones, skeleton: Skeleton, notes: list[Finding]) -> Clip:
    label = path.name
    frames, values = _frames(label, text, bones)
    index = skeleton.index
    turns = np.empty((len(skeleton), 4, frames))
    turns[:] = rot.IDENTITY[None, :, None]
    moved = np.zeros((3, frames))
    degrees = not re.search(r"^\s*:radians", text, re.M | re.I)
    factor = np.pi / 180 if degrees else 1.0
    order = [w[1].upper() for w in bones.root_order if w[0] == "R"]
    if "root" in values:
        of_root = dict(zip(bones.root_order, values["root"]))
        moved = np.stack([of_root.get(f"T{a}", np.zeros(frames)) for a in "XYZ"])
        frame = rot.from_euler(bones.root_axis[::-1], bones.root_turn[::-1])
        own = _turns(order, [of_root[f"R{a}"] * factor for a in order], frames)
        turns[0] = _around(frame, own)
    for name, columns in values.items():
        if name == "root":
            continue
        free = bones.free[name]
        order = [w[1].upper() for w in free if w[0] == "r"]
        angles = [c * factor for w, c in zip(free, columns) if w[0] == "r"]
        turns[index[name]] = _around(bones.axes[name], _turns(order, angles, frames))
        if any(w[0] in "tl" for w in free):
            notes.append(finding("left out", joint=name))
    return Clip(path.stem, skeleton, RATE, from_rows(turns), np.array([0]), from_rows(moved[None]))


def _turns(order: list[str], angles: list[np.ndarray], frames: int) -> np.ndarray:
    """Turns about fixed axes, first named first: the last one stands leftmost in the product."""
    if not order:
        return np.tile(rot.IDENTITY[:, None], (1, frames))
    return rot.from_euler_rows(order[::-1], np.stack(angles)[::-1])


def _around(frame: np.ndarray, own: np.ndarray) -> np.ndarray:
    """Turns in a bone's own axes as turns in the world's: ``C R C^-1``."""
    whole = rot.product_rows(frame[:, None], own)
    return rot.product_rows(whole, rot.conjugate(frame)[:, None])


def _frames(label: str, text: str, bones: _Bones) -> tuple[int, dict[str, np.ndarray]]:
    """``(number of frames, {bone: columns (channels, frames)})``."""
    wide = {"root": len(bones.root_order), **{n: len(f) for n, f in bones.free.items()}}
    rows, frames, begun = {n: [] for n in bones.names if wide[n]}, 0, False
    for line in text.split("\n"):
        words = line.split()
        if not words or words[0][0] in "#:":
            continue
        if len(words) == 1 and words[0].isdigit():
            frames += 1
            begun = True
            for name, row in rows.items():
                if len(row) < frames - 1:
                    row.append(row[-1] if row else [0.0] * wide[name])
            continue
        name = words[0]
        if not begun or name not in rows or len(words) - 1 != wide[name] or len(rows[name]) >= frames:
            if begun and name in rows and len(words) - 1 < wide[name]:
                break  # cut off within a line
            raise InputError(
                f"{label}: frame {frames} has '{name[:40]}' with {len(words) - 1} numbers, which does not fit its skeleton."
            )
        rows[name].append(words[1:])
    full = min((len(r) for r in rows.values() if r), default=0)
    if not full:
        raise InputError(f"{label} holds no whole frame.")
    values = {}
    for name, row in rows.items():
        if row:
            try:
                values[name] = np.array(row[:full], float).T
            except ValueError:
                raise InputError(f"{label}: the bone {name} has a value that is not a number.") from None
            if not np.abs(values[name]).max() < 1e9:
                raise InputError(f"{label}: the bone {name} has a value that is not a number.")
    return full, values
