"""A character's meshes, materials and skin as prims of a new USD stage."""

from __future__ import annotations

import re
from itertools import chain, count
from typing import TYPE_CHECKING, Any

import numpy as np

from ...core.character.meshes import inverted
from ...core.names import first_free, free_name

if TYPE_CHECKING:
    from ...core.character.meshes import Character, Material, Mesh
    from ...core.skeleton import Skeleton


def add_character(
    stage: Any, skel: Any, skeleton: Skeleton, character: Character, world: np.ndarray
) -> tuple[np.ndarray, dict[str, bytes], tuple[str, ...]]:
    """Add all meshes; gives ``(bind transforms (joints, 4, 4), {asset path: bytes}, morph names)``.

    The skeleton of a stage has one bind pose, and each mesh one transform into it: where a mesh was bound
    otherwise, it is brought into the pose that the others were bound in.
    """
    from pxr import UsdSkel

    bind = _common_bind(skeleton, character, world)
    root = skel.GetPrim().GetParent()
    UsdSkel.BindingAPI.Apply(root)
    materials, textures = _materials(stage, root, character.materials)
    taken = set()
    for mesh in character.meshes:
        doubled = character.materials[mesh.material].double_sided
        _mesh(stage, root, skel, skeleton, mesh, bind, materials, taken, doubled)
    return bind, textures, character.morphs


def _own_binds(skeleton: Skeleton, mesh: Mesh) -> np.ndarray:
    """The mesh's binds for joints without scale."""
    binds = np.array(mesh.binds, float)
    binds[:, :3, :] *= skeleton.scales[:, :, None]
    return binds


def _common_bind(skeleton: Skeleton, character: Character, world: np.ndarray) -> np.ndarray:
    """Where joints stood when most of the skin was bound; joints that nothing is bound to stand at rest."""
    bind, known = np.array(world), np.zeros(len(skeleton), bool)
    for mesh in sorted(character.meshes, key=lambda m: -len(np.unique(m.joints))):
        own = _own_binds(skeleton, mesh)
        for joint in np.unique(mesh.joints[mesh.weights > 0]):
            if not known[joint]:
                bind[joint], known[joint] = inverted(own[joint]), True
    return bind


def _mesh(
    stage: Any,
    root: Any,
    skel: Any,
    skeleton: Skeleton,
    mesh: Mesh,
    bind: np.ndarray,
    materials: list[Any],
    taken: set[str],
    doubled: bool,
) -> None:
    from pxr import Gf, Sdf, Tf, UsdGeom, UsdShade, UsdSkel, Vt

    base = Tf.MakeValidIdentifier(mesh.name) or "Body"
    base, level = re.sub(r"_?LOD_?\d+$", "", base, flags=re.I), f"_LOD{mesh.level}" if mesh.level else ""
    name = first_free(chain([base + level], (f"{base}_{number}{level}" for number in count(2))), taken)
    taken.add(name)
    prim = UsdGeom.Mesh.Define(stage, root.GetPath().AppendChild(name))
    own = _own_binds(skeleton, mesh)
    used = np.unique(mesh.joints[mesh.weights > 0])
    into = bind[used] @ own[used]
    geometry = into.mean(0)
    points = mesh.points
    if np.abs(into - geometry).max() > 1e-4:
        # Bound in a pose of its own: the vertices go where that bind and the common one agree at rest.
        blended = np.einsum("vk,vkij->vij", mesh.weights, (bind @ own)[mesh.joints])
        points = np.einsum("vij,vj->vi", blended[:, :3, :3], points) + blended[:, :3, 3]
        geometry = np.eye(4)
    prim.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(points, np.float32)))
    prim.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.full(len(mesh.triangles), 3, np.int32)))
    prim.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(np.ascontiguousarray(mesh.triangles.ravel(), np.int32)))
    prim.CreateNormalsAttr(Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(mesh.normals, np.float32)))
    prim.SetNormalsInterpolation(UsdGeom.Tokens.vertex)
    prim.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
    prim.CreateDoubleSidedAttr(doubled)
    prim.CreateExtentAttr(UsdGeom.PointBased.ComputeExtent(prim.GetPointsAttr().Get()))
    if mesh.texcoords is not None:
        st = UsdGeom.PrimvarsAPI(prim).CreatePrimvar("st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.vertex)
        flipped = np.ascontiguousarray(mesh.texcoords * [1, -1] + [0, 1], np.float32)
        st.Set(Vt.Vec2fArray.FromNumpy(flipped))
    binding = UsdSkel.BindingAPI.Apply(prim.GetPrim())
    width = mesh.joints.shape[1]
    which = binding.CreateJointIndicesPrimvar(False, width)
    which.Set(Vt.IntArray.FromNumpy(np.ascontiguousarray(mesh.joints.ravel(), np.int32)))
    share = binding.CreateJointWeightsPrimvar(False, width)
    share.Set(Vt.FloatArray.FromNumpy(np.ascontiguousarray(mesh.weights.ravel(), np.float32)))
    binding.CreateGeomBindTransformAttr(Gf.Matrix4d(*geometry.T.ravel().tolist()))
    binding.CreateSkeletonRel().SetTargets([skel.GetPath()])
    _shapes(stage, prim, binding, mesh)
    if materials[mesh.material] is not None:
        UsdShade.MaterialBindingAPI.Apply(prim.GetPrim()).Bind(materials[mesh.material])


def _shapes(stage: Any, prim: Any, binding: Any, mesh: Mesh) -> None:
    from pxr import Tf, UsdSkel, Vt

    if not mesh.morphs:
        return
    targets = []
    for morph in mesh.morphs:
        shape = UsdSkel.BlendShape.Define(stage, prim.GetPath().AppendChild(Tf.MakeValidIdentifier(morph.name)))
        attributes = [p for p in (morph.points, morph.normals) if p is not None]
        at = np.flatnonzero(np.abs(np.concatenate(attributes, 1)).max(1) > 0)
        at = at if len(at) else np.zeros(1, int)
        makers = (shape.CreateOffsetsAttr, shape.CreateNormalOffsetsAttr)
        for make, values in zip(makers, attributes):
            make(Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(values[at], np.float32)))
        shape.CreatePointIndicesAttr(Vt.IntArray.FromNumpy(at.astype(np.int32)))
        targets.append(shape.GetPath())
    binding.CreateBlendShapesAttr([m.name for m in mesh.morphs])
    binding.CreateBlendShapeTargetsRel().SetTargets(targets)


def _materials(stage: Any, root: Any, materials: tuple[Material, ...]) -> tuple[list[Any], dict[str, bytes]]:
    """``(materials in the stage, {asset path: bytes})``; the plain one of parts without any as None."""
    from pxr import Gf, Sdf, Tf, UsdGeom, UsdShade

    prims, textures, taken = [], {}, set()
    looks = root.GetPath().AppendChild("Looks")
    for number, material in enumerate(materials):
        if number == 0 and not material.name:
            prims.append(None)
            continue
        if not stage.GetPrimAtPath(looks):
            UsdGeom.Scope.Define(stage, looks)
        name = free_name(Tf.MakeValidIdentifier(material.name or f"material_{number}"), taken, "{}_{}")
        taken.add(name)
        made = UsdShade.Material.Define(stage, looks.AppendChild(name))
        shader = UsdShade.Shader.Define(stage, made.GetPath().AppendChild("Surface"))
        shader.CreateIdAttr("UsdPreviewSurface")
        shader.CreateInput("roughness", Sdf.ValueTypeNames.Float).Set(0.7)
        shader.CreateInput("opacity", Sdf.ValueTypeNames.Float).Set(float(material.colour[3]))
        diffuse = shader.CreateInput("diffuseColor", Sdf.ValueTypeNames.Color3f)
        diffuse.Set(Gf.Vec3f(*map(float, material.colour[:3])))
        if material.texture:
            place = f"texture_of_{name}"
            textures[place] = material.texture
            diffuse.ConnectToSource(_texture(stage, made, place, material.colour))
        made.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
        prims.append(made)
    return prims, textures


def _texture(stage: Any, material: Any, place: str, colour: tuple[float, float, float, float]) -> Any:
    from pxr import Gf, Sdf, UsdShade

    reader = UsdShade.Shader.Define(stage, material.GetPath().AppendChild("Coordinates"))
    reader.CreateIdAttr("UsdPrimvarReader_float2")
    reader.CreateInput("varname", Sdf.ValueTypeNames.String).Set("st")
    image = UsdShade.Shader.Define(stage, material.GetPath().AppendChild("Texture"))
    image.CreateIdAttr("UsdUVTexture")
    image.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(Sdf.AssetPath(place))
    image.CreateInput("st", Sdf.ValueTypeNames.Float2).ConnectToSource(
        reader.CreateOutput("result", Sdf.ValueTypeNames.Float2)
    )
    # What a texture is multiplied by, as glTF does with its base colour.
    image.CreateInput("scale", Sdf.ValueTypeNames.Float4).Set(Gf.Vec4f(*map(float, colour)))
    image.CreateInput("wrapS", Sdf.ValueTypeNames.Token).Set("repeat")
    image.CreateInput("wrapT", Sdf.ValueTypeNames.Token).Set("repeat")
    return image.CreateOutput("rgb", Sdf.ValueTypeNames.Float3)
