"""World positions of what files hold, by the letter of each format or by others' libraries. Nothing here uses the product."""

from dataclasses import dataclass
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

from tests.formats.independent import Gltf


@dataclass
class Seen:
    """What a reader sees: ``places {joint's name: (frames, 3)}`` in metres, the rate, the axis that is up (``"Y"``, or None)."""

    places: dict
    rate: float
    up: str | None = None
    frames: int = 0


def seen(path, frames=None, rate=None):
    """What a file holds (Seen). ``frames`` and ``rate``: at which frames to look, where the format has times alone."""
    path = Path(path)
    if path.suffix == ".bvh":
        return bvh(path)
    if path.suffix in (".glb", ".gltf", ".vrma"):
        return gltf(path, frames, rate)
    return usd(path)


def bvh(path):
    """A BVH file read word by word: its columns are in the order in which its header lists the channels."""
    words = path.read_text().split()
    at, names, parents, offsets, channels, stack = 0, [], [], [], [], []
    while words[at] != "MOTION":
        word = words[at]
        if word in ("ROOT", "JOINT"):
            end = words.index("{", at)
            names.append(" ".join(words[at + 1 : end]))
            parents.append(stack[-1] if stack else -1)
            stack.append(len(names) - 1)
            offsets.append(None)
            channels.append(())
            at = end + 1
        elif word == "End":
            at = words.index("}", at) + 1
        elif word == "OFFSET":
            offsets[stack[-1]] = np.array(list(map(float, words[at + 1 : at + 4])))
            at += 4
        elif word == "CHANNELS":
            count = int(words[at + 1])
            channels[stack[-1]] = words[at + 2 : at + 2 + count]
            at += 2 + count
        elif word == "}":
            stack.pop()
            at += 1
        else:
            at += 1
    frames = int(words[words.index("Frames:", at) + 1])
    step = words.index("Time:", at)
    rate = 1 / float(words[step + 1])
    table = np.array(words[step + 2 :], float).reshape(frames, -1)
    places, turns, column = {}, {}, 0
    for joint, own in enumerate(channels):
        place, turn = np.tile(offsets[joint], (frames, 1)), Rotation.from_quat(np.tile([0, 0, 0, 1.0], (frames, 1)))
        for channel in own:
            values, axis = table[:, column], "XYZ".index(channel[0].upper())
            if channel[1:].lower() == "position":
                place[:, axis] = values
            else:
                turn = turn * Rotation.from_rotvec(np.radians(values)[:, None] * np.eye(3)[axis])
            column += 1
        over = parents[joint]
        turns[joint] = turns[over] * turn if over >= 0 else turn
        places[joint] = places[over] + turns[over].apply(place) if over >= 0 else place
    assert column == table.shape[1], "columns that no channel announces"
    return Seen({name: places[j] for j, name in enumerate(names)}, rate, None, frames)


def gltf(path, frames, rate):
    """A glTF file as pygltflib reads it, at the times of its frames; of its nodes that stand under no mesh."""
    file = Gltf(path)
    times = np.unique(np.concatenate([t for _, t in file.samplers])) if file.g.animations else np.zeros(1)
    if frames is not None and len(times) != frames:  # else the keys' own times, which are rounded
        times = times[0] + np.arange(frames) / rate
    worlds = [file.world(float(t)) for t in times]
    rate = rate or (len(times) - 1) / max(float(times[-1] - times[0]), 1e-9)
    return Seen({n: np.array([w[n][:3, 3] for w in worlds]) for n in worlds[0]}, rate, "Y", len(times))


def usd(path):
    """A USD file as USD's own skeleton queries pose it, in metres."""
    from pxr import Usd, UsdGeom, UsdSkel

    stage = Usd.Stage.Open(str(path))
    metres, up = UsdGeom.GetStageMetersPerUnit(stage), str(UsdGeom.GetStageUpAxis(stage))
    cache = UsdSkel.Cache()
    root = UsdSkel.Root(next(p for p in stage.Traverse() if p.IsA(UsdSkel.Root)))
    cache.Populate(root, Usd.PrimDefaultPredicate)
    places = {}
    codes = np.arange(round(stage.GetStartTimeCode()), round(stage.GetEndTimeCode()) + 1)
    for prim in stage.Traverse():
        if not prim.IsA(UsdSkel.Skeleton):
            continue
        query = cache.GetSkelQuery(UsdSkel.Skeleton(prim))
        names = prim.GetAttribute("jointNames").Get() or [str(j).rsplit("/", 1)[-1] for j in query.GetJointOrder()]
        rows = []
        for code in codes:
            over = np.array(UsdGeom.XformCache(float(code)).GetLocalToWorldTransform(prim))
            rows.append([(np.array(m) @ over)[3, :3] for m in query.ComputeJointSkelTransforms(float(code))])
        places |= {str(n): np.array(rows)[:, i] * metres for i, n in enumerate(names)}
    return Seen(places, stage.GetTimeCodesPerSecond(), up, len(codes))
