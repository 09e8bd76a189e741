"""Writing USD: new motion into the file that a rig came from, or a stage of our own."""

from __future__ import annotations

import hashlib
import tempfile
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from ...core import rotations as rot
from ...core.character.meshes import level_in
from ...core.errors import InputError
from ...core.keys.channel import Kind
from ...core.keys.keyed import KeyedClip
from ...core.keys.sampler import Interpolation, still
from ...core.names import free_name
from ...core.text import shown
from ..keys_out import has_scales, motion_out, weights_together
from ..transforms import NodeSpace, local_offsets, stored
from ..wanted import MOTION_ALONE, Wanted
from .skeletons import TIPS, UsdTree
from .stages import layer_of

if TYPE_CHECKING:
    from ...core.character.meshes import Character
    from ...core.clip import Clip
    from ...core.keys.sampler import Sampler
    from ...core.skeleton import Skeleton
    from .reader import UsdLayout


def files_of(
    path: Path,
    clip: Clip | KeyedClip,
    layout: UsdLayout | None = None,
    wanted: Wanted = MOTION_ALONE,
) -> dict[str, bytes]:
    """``{name: bytes}`` of a clip as .usda, .usdc or .usdz, told by the path's ending, and of the textures beside it.

    With ``layout`` the clip is in that file's own world, and where the body is wanted the whole file goes along, unchanged
    but for its animations. Runs in the process for USD alone (see server).
    """
    path, clip = Path(path), _frames_or_keys(clip)
    layer, textures = _layer(clip, layout, wanted)
    with tempfile.TemporaryDirectory() as folder:
        return _save(layer, textures, Path(folder), path)


def _layer(clip: Clip | KeyedClip, layout: UsdLayout | None, wanted: Wanted) -> tuple[Any, dict[str, bytes]]:
    if layout is not None and wanted.body:
        return _into_file(clip, layout, wanted.level)
    if layout is not None:
        return _skeleton_alone(clip, layout), {}
    character = wanted.character if wanted.body else None
    return _fresh(clip, character, wanted.metres_per_unit, wanted.up)


def _save(layer: Any, textures: dict[str, bytes], folder: Path, path: Path) -> dict[str, bytes]:
    from pxr import UsdUtils

    ending, stem = path.suffix.lower(), shown(path.stem)
    beside = "" if ending == ".usdz" else f"{stem}_textures/"
    names = {place: _texture_name(place, data, path.parent / beside) for place, data in textures.items()}
    UsdUtils.ModifyAssetPaths(layer, lambda p: f"./{beside}{names[p]}" if p in names else p)
    if ending == ".usdz":
        layer.Export(str(folder / "layer.usdc"))
        parts = {f"{stem}.usdc": (folder / "layer.usdc").read_bytes()}
        parts |= {names[p]: data for p, data in textures.items()}
        return {path.name: _package(list(parts.items()))}
    if not layer.Export(str(folder / f"out{ending}")):
        raise InputError(f"{path.name} could not be written as USD.")
    out = (folder / f"out{ending}").read_bytes()
    return {path.name: out, **{beside + names[p]: data for p, data in textures.items()}}


def _texture_name(place: str, data: bytes, folder: Path) -> str:
    """A name that only these bytes have, so that no file of the same name ever gets another one's picture."""
    kinds = {b"\x89PNG": ".png", b"\xff\xd8\xff\xe0": ".jpg", b"\xff\xd8\xff\xe1": ".jpg"}
    ending = kinds.get(data[:4]) or Path(shown(place)).suffix or ".bin"
    digest = hashlib.sha256(data).hexdigest()
    for length in (10, 64):
        name = f"texture_{digest[:length]}{ending}"
        known = folder / name
        if not known.is_file() or known.read_bytes() == data:
            break
    return name


def _package(parts: list[tuple[str, bytes]]) -> bytes:
    """A usdz package: parts stored as they are, each beginning at a multiple of 64 bytes."""
    import io
    import zipfile

    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_STORED) as archive:
        for name, data in parts:
            info = zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0))
            start = buffer.tell() + 30 + len(name.encode())
            space = -(start + 4) % 64
            info.extra = b"\x86\x19" + space.to_bytes(2, "little") + b"\0" * space
            archive.writestr(info, data)
    return buffer.getvalue()


def _stage(layer: Any, clip: Clip | KeyedClip) -> Any:
    from pxr import Usd

    stage = Usd.Stage.Open(layer)
    stage.SetTimeCodesPerSecond(clip.rate)
    stage.SetFramesPerSecond(clip.rate)
    start = round(clip.start * clip.rate, 4)
    stage.SetStartTimeCode(start)
    stage.SetEndTimeCode(start + round(clip.seconds * clip.rate, 4))
    return stage


def _into_file(clip: Clip | KeyedClip, layout: UsdLayout, level: int | None) -> tuple[Any, dict[str, bytes]]:
    from pxr import UsdGeom, UsdSkel

    layer = layer_of(layout.data)
    stage = _stage(layer, clip)
    # All old motion goes: it was another take's.
    _remove(stage, [p for p in stage.TraverseAll() if p.IsA(UsdSkel.Animation)])
    if level is not None:
        _remove(stage, [p for p in stage.TraverseAll() if p.IsA(UsdGeom.Mesh) and level_in(p.GetName()) != level])
    skeleton = stage.GetPrimAtPath(layout.tree.path)
    for prim in stage.TraverseAll():
        api = UsdSkel.BindingAPI(prim)
        if prim.HasRelationship("skel:animationSource"):
            api.GetAnimationSourceRel().ClearTargets(True)
    if layout.names != layout.tree.skeleton.names:
        order = {token: layout.names[i] for i, token in enumerate(layout.tree.joints)}
        skel = UsdSkel.Skeleton(skeleton)
        skel.CreateJointNamesAttr([order[str(j)] for j in skel.GetJointsAttr().Get()])
    _stand_still(skeleton)
    _animate(stage, skeleton, clip, layout.tree.joints, layout.tree)
    used = _asset_places(layer)
    return layer, {place: data for place, data in layout.textures.items() if place in used}


def _remove(stage: Any, prims: list[Any]) -> None:
    """Take prims out; those that come by a variant or a reference within the layer are switched off."""
    for path in [p.GetPath() for p in prims]:
        stage.RemovePrim(path)
        if stage.GetPrimAtPath(path):
            stage.GetPrimAtPath(path).SetActive(False)


def _stand_still(prim: Any) -> None:
    """Leave a prim and all that it stands under where they begin: their motion is in the joints."""
    from pxr import Usd, UsdGeom

    while prim and not prim.IsPseudoRoot():
        for op in UsdGeom.Xformable(prim).GetOrderedXformOps() if prim.IsA(UsdGeom.Xformable) else ():
            if op.GetAttr().GetNumTimeSamples():
                value = op.Get(Usd.TimeCode.EarliestTime())
                op.GetAttr().Clear()
                op.Set(value)
        prim = prim.GetParent()


def _asset_places(layer: Any) -> set[str]:
    """All places outside that a layer speaks of."""
    from pxr import UsdUtils

    places = set()

    def look(place: str) -> str:
        places.add(place)
        return place

    UsdUtils.ModifyAssetPaths(layer, look)
    return places


def _skeleton_alone(clip: Clip | KeyedClip, layout: UsdLayout) -> Any:
    """The file's skeleton prim with its own transforms, under what it stood under, without meshes."""
    from pxr import Gf, Sdf, Usd, UsdGeom, UsdSkel, Vt

    layer = Sdf.Layer.CreateAnonymous(".usda")
    stage = _stage(layer, clip)
    tree = layout.tree
    old = Usd.Stage.Open(layer_of(layout.data))
    UsdGeom.SetStageUpAxis(stage, UsdGeom.GetStageUpAxis(old))
    UsdGeom.SetStageMetersPerUnit(stage, UsdGeom.GetStageMetersPerUnit(old))
    source = UsdSkel.Skeleton(old.GetPrimAtPath(tree.path))
    rest = source.GetRestTransformsAttr().Get()
    root = UsdSkel.Root.Define(stage, "/Rig")
    stage.SetDefaultPrim(root.GetPrim())
    if np.abs(tree.over - np.eye(4)).max() > 1e-12:
        root.AddTransformOp().Set(Gf.Matrix4d(*tree.over.T.ravel().tolist()))
    skel = UsdSkel.Skeleton.Define(stage, "/Rig/Skeleton")
    skel.CreateJointsAttr(list(tree.joints))
    skel.CreateJointNamesAttr(list(layout.names))
    order = [str(j) for j in source.GetJointsAttr().Get()]
    if rest is not None and len(rest) == len(order):
        place = {t: i for i, t in enumerate(order)}
        skel.CreateRestTransformsAttr(Vt.Matrix4dArray([rest[place[t]] for t in tree.joints]))
    skel.CreateBindTransformsAttr(_gf(tree.binds))
    if rest is None:
        local = [np.linalg.pinv(tree.binds[p]) @ b if p >= 0 else b for b, p in zip(tree.binds, tree.skeleton.parents)]
        skel.CreateRestTransformsAttr(_gf(np.stack(local)))
    _mark_ends(skel, tree.skeleton.tips / tree.skeleton.scales)
    _animate(stage, skel.GetPrim(), clip, tree.joints, tree)
    return layer


def _gf(array: np.ndarray) -> Any:
    """4x4 matrices for column vectors as USD's, which are for row vectors."""
    from pxr import Gf, Vt

    return Vt.Matrix4dArray([Gf.Matrix4d(*m.T.ravel().tolist()) for m in array])


def _fresh(
    clip: Clip | KeyedClip, character: Character | None, metres_per_unit: float, up: str
) -> tuple[Any, dict[str, bytes]]:
    from pxr import Sdf, UsdGeom, UsdSkel

    layer = Sdf.Layer.CreateAnonymous(".usda")
    stage = _stage(layer, clip)
    UsdGeom.SetStageUpAxis(stage, up[-1])
    UsdGeom.SetStageMetersPerUnit(stage, metres_per_unit)
    root = UsdSkel.Root.Define(stage, "/Rig")
    stage.SetDefaultPrim(root.GetPrim())
    skeleton = clip.skeleton
    tokens = joint_tokens(skeleton)
    skel = UsdSkel.Skeleton.Define(stage, "/Rig/Skeleton")
    skel.CreateJointsAttr(tokens)
    skel.CreateJointNamesAttr(list(skeleton.names))
    rest = np.tile(np.eye(4), (len(skeleton), 1, 1))
    rest[:, :3, :3], rest[:, :3, 3] = rot.to_matrix(skeleton.rest), skeleton.offsets
    world = np.tile(np.eye(4), (len(skeleton), 1, 1))
    world[:, :3, 3], turns = skeleton.rest_world
    world[:, :3, :3] = rot.to_matrix(turns)
    skel.CreateRestTransformsAttr(_gf(rest))
    _mark_ends(skel, skeleton.tips)
    textures: dict[str, bytes] = {}
    shapes: tuple[str, ...] = ()
    bind = world
    if character is not None:
        from .bodies import add_character

        bind, textures, shapes = add_character(stage, skel, skeleton, character, world)
    skel.CreateBindTransformsAttr(_gf(bind))
    _animate(stage, skel.GetPrim(), clip, tokens, None, shapes)
    return layer, textures


def _mark_ends(skel: Any, tips: np.ndarray) -> None:
    """Where last bones end, in their joints' axes, as a property of our own; USD has none for it."""
    from pxr import Sdf, Vt

    if np.isfinite(tips).any():
        ends = np.where(np.isfinite(tips), tips, 0.0).astype(np.float32)
        attribute = skel.GetPrim().CreateAttribute(TIPS, Sdf.ValueTypeNames.Vector3fArray, True)
        attribute.Set(Vt.Vec3fArray.FromNumpy(ends))


def joint_tokens(skeleton: Skeleton) -> list[str]:
    """Joint paths as USD wants them: names made valid, each under its parent's."""
    from pxr import Tf

    tokens, taken = [], set()
    for name, parent in zip(skeleton.names, skeleton.parents):
        base = Tf.MakeValidIdentifier(name)
        over = f"{tokens[parent]}/" if parent >= 0 else ""
        token = free_name(over + base, taken, "{}_{}")
        taken.add(token)
        tokens.append(token)
    return tokens


def _animate(
    stage: Any,
    skeleton: Any,
    clip: Clip | KeyedClip,
    tokens: Sequence[str],
    tree: UsdTree | None,
    shapes: tuple[str, ...] | None = None,
) -> None:
    """Define the animation under a skeleton prim: a sample on every frame for what moves, or at the keys that it has.

    ``tree``: the file's own joints; None for those of our own, which rest without scales.
    """
    from pxr import Tf, UsdSkel, Vt

    binding = UsdSkel.BindingAPI.Apply(skeleton)
    name = Tf.MakeValidIdentifier(clip.name) or "Motion"
    anim = UsdSkel.Animation.Define(stage, skeleton.GetPath().AppendChild(name))
    binding.CreateAnimationSourceRel().SetTargets([anim.GetPath()])
    anim.CreateJointsAttr(list(tokens))
    plain = replace(clip.skeleton, scales=None)
    tree = tree or UsdTree("", tuple(tokens), plain, np.eye(4), plain.scales, np.zeros(0), ())
    motion = motion_out(clip, tree.skeleton, tree.scales, tree.over, np.float16)
    for attribute, kind, convert in (
        (anim.CreateScalesAttr(), Kind.SCALE, Vt.Vec3hArray.FromNumpy),
        (anim.CreateRotationsAttr(), Kind.ROTATION, Vt.QuatfArray.FromNumpy),
        (anim.CreateTranslationsAttr(), Kind.TRANSLATION, Vt.Vec3fArray.FromNumpy),
    ):
        times, values = _track(clip, motion, kind, tree)
        _samples(attribute, times, values, clip.rate, convert)
    if clip.morphs and shapes != ():
        anim.CreateBlendShapesAttr(list(clip.morphs))
        weights = weights_together(clip, clip.morphs)
        _samples(
            anim.CreateBlendShapeWeightsAttr(), weights.times, weights.values.astype(np.float32), clip.rate,
            Vt.FloatArray.FromNumpy,
        )  # fmt: skip


def _frames_or_keys(clip: Clip | KeyedClip) -> Clip | KeyedClip:
    """A keyed clip as it is where USD can hold that: straight in-betweens alone, and no sizes over time."""
    if isinstance(clip, KeyedClip):
        straight = all(s.uniform is Interpolation.LINEAR or s.is_still for s in clip.samplers.values())
        return clip if straight and not has_scales(clip) else clip.sample()
    return clip


def _track(
    clip: Clip | KeyedClip, motion: dict[tuple[int, Kind], Sampler], kind: Kind, tree: UsdTree
) -> tuple[np.ndarray, np.ndarray]:
    """``(times, values (times, joints, n))`` of all joints in the file's own space."""
    samplers = {j: s for (j, of), s in motion.items() if of is kind}
    if kind is Kind.ROTATION:
        space = NodeSpace(tree.skeleton, tree.scales, tree.over)
        rest = np.stack([space.rotation_out(j, still(r)).values[0] for j, r in enumerate(clip.skeleton.rest)])
    else:
        offsets = local_offsets(tree.skeleton, tree.scales, tree.over)
        rest = stored(tree.scales, np.float16) if kind is Kind.SCALE else offsets
    different = {s.times.tobytes(): s.times for s in samplers.values()}
    times = np.unique(np.concatenate(list(different.values()))) if samplers else np.array([clip.start])
    dtype = np.float16 if kind is Kind.SCALE else np.float32
    values = np.repeat(rest[None].astype(dtype), len(times), 0)
    turns = kind is Kind.ROTATION
    for joint, sampler in samplers.items():
        own = sampler.at(times, turns)
        values[:, joint] = rot.continuous(own) if turns else own
    return times, values


def _samples(attribute: Any, times: np.ndarray, values: np.ndarray, rate: float, convert: Callable[..., Any]) -> None:
    """Set one value where nothing changes (but for the rotations of the first joint), else a sample at each time."""
    if len(values) > 1 and np.ptp(values, axis=0).max(initial=0) == 0 and values.shape[-1] != 4:
        attribute.Set(convert(np.ascontiguousarray(values[0])))
        return
    codes = times * rate
    whole = np.round(codes)
    for code, value in zip(np.where(np.abs(codes - whole) < 1e-4, whole, codes).tolist(), values):
        attribute.Set(convert(np.ascontiguousarray(value)), code)
