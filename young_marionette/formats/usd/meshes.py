"""Meshes that UsdSkel binds to a skeleton, with their blend shapes and materials, as a Character."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ...core.character import Character, Material, Mesh, Morph, level_in, smooth_normals
from ...core.errors import InputError


def character_of(stage, tree, label):
    """The Character over a UsdTree, or None; its materials have the places of textures instead of their bytes."""
    from pxr import Usd, UsdSkel

    cache, meshes, materials = UsdSkel.Cache(), [], _Materials()
    for prim in Usd.PrimRange(stage.GetPseudoRoot(), Usd.TraverseInstanceProxies()):
        if not prim.IsA(UsdSkel.Root):
            continue
        root = UsdSkel.Root(prim)
        cache.Populate(root, Usd.TraverseInstanceProxies())
        for binding in cache.ComputeSkelBindings(root, Usd.TraverseInstanceProxies()):
            if str(binding.GetSkeleton().GetPath()) != tree.path:
                continue
            for target in binding.GetSkinningTargets():
                meshes += _meshes(target, tree, label, materials)
    return Character(tuple(meshes), tuple(materials.found)) if meshes else None


def _meshes(target, tree, label, materials):
    from pxr import UsdGeom

    prim = target.GetPrim()
    mesh = UsdGeom.Mesh(prim)
    points = np.array(mesh.GetPointsAttr().Get() or [], np.float32).reshape(-1, 3)
    counts = np.array(mesh.GetFaceVertexCountsAttr().Get() or [], np.int32)
    flat = np.array(mesh.GetFaceVertexIndicesAttr().Get() or [], np.int32)
    if not len(points) or not len(counts) or not (np.isfinite(points.min()) and np.isfinite(points.max())):
        return
    if (counts < 0).any() or counts.sum() != len(flat) or (len(flat) and (flat.min() < 0 or flat.max() >= len(points))):
        raise InputError(f"{label}: the faces of {prim.GetName()} point past its {len(points)} points.")
    joints, weights = _influences(target, tree, len(points), label, prim.GetName())
    geometry = np.array(target.GetGeomBindTransform(), float).T
    binds = np.linalg.pinv(tree.binds) @ geometry
    corners, faces = _fan(counts)
    which = flat.reshape(-1, 3) if len(flat) == corners.size and (counts == 3).all() else flat[corners]
    texcoords, by_point = _texcoords(prim, corners, len(points))
    points_of, texcoords, triangles = _corners(which, texcoords, by_point)
    normals = np.array(mesh.GetNormalsAttr().Get() or [], np.float32).reshape(-1, 3)
    if len(normals) != len(points) or not np.isfinite(normals).all():
        normals = smooth_normals(points, which)
    if str(mesh.GetOrientationAttr().Get()) == "leftHanded":
        triangles, normals = triangles[:, ::-1], -normals
    morphs = _morphs(prim, points_of, len(points))
    groups = _groups(prim, faces, materials)
    for material, chosen in groups:
        yield Mesh(
            prim.GetName(), points[points_of], normals[points_of], _chosen(triangles, chosen), joints[points_of],
            weights[points_of], binds, texcoords, material, morphs, level_in(prim.GetName()),
        )  # fmt: skip


def _chosen(triangles, chosen):
    return (triangles if chosen.all() else triangles[chosen]).astype(np.int32, copy=False)


def _influences(target, tree, count, label, name):
    """``(joints (v, k), weights (v, k))`` in the tree's order of joints."""
    width = target.GetNumInfluencesPerComponent()
    computed = target.ComputeVaryingJointInfluences(count)
    if not computed or not width:
        raise InputError(f"{label}: the skin of {name} has weights for another number of points.")
    which, share = np.array(computed[0], np.int32), np.array(computed[1], np.float32)
    which, share = which.reshape(count, -1), share.reshape(count, -1)
    order = target.GetJointOrder()
    tokens = [str(t) for t in order] if order is not None and len(order) else None
    place = {t: i for i, t in enumerate(tree.joints)}
    table = _file_order(tree, target) if tokens is None else np.array([place.get(t, 0) for t in tokens])
    if which.min() < 0 or which.max() >= len(table):
        which = np.where(share > 0, which, 0)  # only joints with a share have to be there
    if which.min() < 0 or which.max() >= len(table):
        raise InputError(f"{label}: the skin of {name} speaks of joints that it does not list.")
    carried = np.asarray(table, np.int32)[which]
    total = np.einsum("vk->v", share)[:, None]
    if abs(total.min() - 1) < 1e-4 and abs(total.max() - 1) < 1e-4 and share.min() >= 0:
        return carried, share
    share = np.where(np.isfinite(share), share, 0)
    total = share.sum(1, keepdims=True)
    return carried, np.divide(share, total, out=np.zeros_like(share), where=total > 1e-9)


def _file_order(tree, target):
    """From the skeleton's own numbering of joints to the tree's."""
    from pxr import UsdSkel

    skeleton = UsdSkel.Skeleton(target.GetPrim().GetStage().GetPrimAtPath(tree.path))
    place = {t: i for i, t in enumerate(tree.joints)}
    return np.array([place[str(j)] for j in skeleton.GetJointsAttr().Get()])


def _fan(counts):
    """Corners of the triangles that faces fall into ``(t, 3)``, and the face of each triangle."""
    if (counts == 3).all():
        return np.arange(3 * len(counts)).reshape(-1, 3), np.arange(len(counts))
    starts = np.concatenate([[0], np.cumsum(counts)[:-1]])
    faces = np.repeat(np.arange(len(counts)), np.maximum(counts - 2, 0))
    within = np.arange(len(faces)) - np.repeat(
        np.cumsum(np.maximum(counts - 2, 0)) - np.maximum(counts - 2, 0), np.maximum(counts - 2, 0)
    )
    first = starts[faces]
    return np.stack([first, first + within + 1, first + within + 2], 1), faces


def _texcoords(prim, corners, count):
    """``(texture coordinates, whether they are by point)``: ``(points, 2)`` or per corner ``(t, 3, 2)``, or None.

    They count from the upper left, as in glTF.
    """
    from pxr import UsdGeom

    api = UsdGeom.PrimvarsAPI(prim)
    for name in ("st", "UVMap", "map1"):
        primvar = api.GetPrimvar(name)
        if not primvar or not primvar.HasValue():
            continue
        values = np.array(primvar.ComputeFlattened(), np.float32).reshape(-1, 2)
        if not np.isfinite(values).all():
            continue
        values = values * np.array([1, -1], np.float32) + np.array([0, 1], np.float32)
        kind = primvar.GetInterpolation()
        if kind in ("vertex", "varying") and len(values) == count:
            return values, True
        if kind == "faceVarying" and len(values) > corners.max(initial=0):
            return values[corners], False
    return None, True


def _corners(which, texcoords, by_point):
    """``(point of each vertex, texture coordinates, triangles)``: points are split where their coordinates differ."""
    if texcoords is None or by_point:
        return slice(None), texcoords, which
    # A coordinate's two floats as one number, so that equal ones are found by sorting numbers.
    bits = np.ascontiguousarray(texcoords.reshape(-1, 2), np.float32).view(np.int64)[:, 0]
    _, own = np.unique(bits, return_inverse=True)
    keys = which.reshape(-1).astype(np.int64) * (own.max() + 1) + own
    _, first, inverse = np.unique(keys, return_index=True, return_inverse=True)
    return which.reshape(-1)[first], texcoords.reshape(-1, 2)[first], inverse.reshape(-1, 3)


def _morphs(prim, points_of, count):
    from pxr import UsdSkel

    api = UsdSkel.BindingAPI(prim)
    names = api.GetBlendShapesAttr().Get() or ()
    targets = api.GetBlendShapeTargetsRel().GetTargets()
    found = []
    for name, target in zip(names, targets):
        shape = UsdSkel.BlendShape(prim.GetStage().GetPrimAtPath(target))
        if not shape:
            continue
        offsets = np.array(shape.GetOffsetsAttr().Get() or [], np.float32).reshape(-1, 3)
        at = shape.GetPointIndicesAttr().Get()
        at = np.array(at, np.int64) if at is not None and len(at) else np.arange(len(offsets))
        if (
            len(at) != len(offsets)
            or (len(at) and (at.min() < 0 or at.max() >= count))
            or not np.isfinite(offsets).all()
        ):
            continue
        full = np.zeros((count, 3), np.float32)
        full[at] = offsets
        found.append(Morph(str(name), full[points_of]))
    return tuple(found)


def _groups(prim, faces, materials):
    """``(material number, mask of triangles)`` for each material that a mesh or its subsets have."""
    from pxr import UsdGeom, UsdShade

    doubled = bool(UsdGeom.Gprim(prim).GetDoubleSidedAttr().Get())
    rest, found = np.ones(len(faces), bool), []
    for subset in UsdShade.MaterialBindingAPI(prim).GetMaterialBindSubsets():
        chosen = np.isin(faces, np.array(subset.GetIndicesAttr().Get() or [], np.int64))
        if chosen.any():
            found.append((materials.of(subset.GetPrim(), doubled), chosen & rest))
            rest &= ~chosen
    if rest.any():
        found.append((materials.of(prim, doubled), rest))
    return found


class _Materials:
    """Materials as they are met, each once; the first is for what has none."""

    def __init__(self):
        self.found, self._numbers = [Material()], {}

    def of(self, prim, double_sided):
        """The number of the material that a prim is bound to."""
        from pxr import UsdShade

        bound = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()[0]
        if not bound and not double_sided:
            return 0
        path = str(bound.GetPath()) if bound else "", double_sided
        if path not in self._numbers:
            self._numbers[path] = len(self.found)
            self.found.append(replace(self._material(bound) if bound else Material(), double_sided=double_sided))
        return self._numbers[path]

    def _material(self, bound):
        colour, opacity, texture = (0.8, 0.8, 0.8), 1.0, None
        shader = bound.ComputeSurfaceSource()[0]
        if shader:
            diffuse = shader.GetInput("diffuseColor")
            if diffuse:
                source = diffuse.GetConnectedSource() if diffuse.HasConnectedSource() else None
                file = source[0].GetPrim().GetAttribute("inputs:file").Get() if source else None
                if file is not None and file.path:
                    scale = source[0].GetPrim().GetAttribute("inputs:scale").Get()
                    texture = file.path
                    colour = tuple(float(np.clip(c, 0, 1)) for c in scale)[:3] if scale else (1.0, 1.0, 1.0)
                elif diffuse.Get() is not None:
                    colour = tuple(float(np.clip(c, 0, 1)) for c in diffuse.Get())
            told = shader.GetInput("opacity")
            opacity = float(told.Get()) if told and isinstance(told.Get(), float) else 1.0
        return Material(bound.GetPrim().GetName(), (*colour, opacity), texture)
