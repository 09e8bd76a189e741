"""The motion of controls as a glTF carries it beside that of the bones (in an animation's extras), and as it is taken up again."""

from __future__ import annotations

import base64
from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from pydantic import ValidationError

from ..core.clip import Clip, as_rows
from ..core.controls.motion import solve
from ..core.controls.rig import ControlRig, control_rig
from ..core.errors import InputError
from ..core.keys.arrays import to_arrays
from ..core.keys.keyed import KeyedClip
from ..core.passes.keys import Keys
from ..core.passes.stack import Pass
from ..core.resample import MAX_RATE
from ..core.thinning.deviation import deviation
from .bakes import Bake
from .control_files import ControlSetFile, set_file, set_of
from .entry import CARRIED, new_id
from .soundness import sound_clip, sound_keys

if TYPE_CHECKING:
    from ..core.controls.sets import ControlSet
    from .entry import Entry

VERSION = 1
_OFF, _TURNED = 0.02, np.radians(6.0)  # metres, radians: bones that are thinned by themselves are off by no more
_DAMAGED = (InputError, ValidationError, ValueError, KeyError, IndexError, TypeError, AttributeError)


def carried(controls: ControlSet, motion: Clip | KeyedClip) -> dict[str, Any]:
    """What goes into an animation's extras: the set of controls, and their motion, on a pose for every frame or as keys."""
    arrays = (
        to_arrays(motion)
        if isinstance(motion, KeyedClip)
        else {
            "rotations": as_rows(motion.rotations),
            "moving": motion.moving,
            "translations": as_rows(motion.translations),
        }
    )
    return {
        CARRIED: {
            "version": VERSION,
            "keyed": isinstance(motion, KeyedClip),
            "rate": motion.rate,
            "set": set_file(controls).model_dump(mode="json", exclude_defaults=True),
            "arrays": {name: _packed(array) for name, array in arrays.items()},
        }
    }


def taken_up(entry: Entry) -> Bake | None:
    """A baked clip on the controls that the file of an entry carries, with their motion; None where it carries none, or none
    that gives the motion of its bones.
    """
    data = entry.carried
    if not isinstance(data, Mapping) or entry.take is None:
        return None
    try:
        return _taken_up(entry, data)
    except _DAMAGED:
        return None  # the motion of the bones is there all the same


def _taken_up(entry: Entry, data: Mapping[str, Any]) -> Bake | None:
    if data["version"] != VERSION:
        return None
    controls, bones = set_of(ControlSetFile.model_validate(data["set"])), entry.placed_clip
    rig = control_rig(controls, bones.skeleton)
    arrays = {str(name): _unpacked(array) for name, array in data["arrays"].items()}
    motion = _motion(rig, entry.name, float(data["rate"]), arrays, bool(data["keyed"]))
    dense = motion.sample() if isinstance(motion, KeyedClip) else motion
    made = solve(rig, dense)
    if made.frames != bones.frames or not np.isfinite(made.rotations).all():
        return None
    away = deviation(bones, made)
    if away.places.largest > _OFF or away.turns.largest > _TURNED:
        return None
    passes = (Pass(new_id(), Keys(motion)),) if isinstance(motion, KeyedClip) else ()
    dense = replace(dense, start=0.0, morphs=bones.morphs, weights=bones.weights)
    name = f"{entry.name} on controls"
    # Nothing is known of where the file's motion came from.
    still = replace(entry, take=None, carried=None) if entry.correction.rest is None else replace(entry, carried=None)
    return Bake(
        new_id(), name, entry.id, still, None, replace(dense, name=name), contacts=entry.contacts, passes=passes,
        controls=controls, bones=bones.skeleton,
    )  # fmt: skip


def _motion(rig: ControlRig, name: str, rate: float, arrays: Mapping[str, np.ndarray], keyed: bool) -> Clip | KeyedClip:
    # Whatever enters a document has to be as sound as what leaves it.
    if not 0 < rate <= MAX_RATE:
        raise ValueError("a rate that is none")
    make = sound_keys if keyed else sound_clip
    return make(name, rig.skeleton, rate, [], dict(arrays))


def _packed(array: np.ndarray) -> dict[str, Any]:
    kind = array.dtype.newbyteorder("<")
    data = np.ascontiguousarray(array, kind)
    return {"type": kind.str, "shape": list(array.shape), "data": base64.b64encode(data.tobytes()).decode("ascii")}


def _unpacked(packed: Mapping[str, Any]) -> np.ndarray:
    """An array; ValueError where it is not of plain numbers, or not as large as it tells."""
    kind = np.dtype(packed["type"])
    if kind.kind not in "fi" or kind.itemsize > 8 or len(packed["shape"]) > 3:
        raise ValueError("no plain numbers")
    data = base64.b64decode(packed["data"], validate=True)
    return np.frombuffer(data, kind).reshape([int(n) for n in packed["shape"]])
