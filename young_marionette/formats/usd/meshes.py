"""Meshes that UsdSkel binds to a skeleton, with their blend shapes and materials, as a Character."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from ...core.character.meshes import Character, Material, Mesh, Morph, level_in, smooth_normals
from ...core.errors import InputError

if TYPE_CHECKING:
    from .skeletons import UsdTree
    from .unpacking import Arrays


PACKED = ("faceVertexIndices", "primvars:skel:jointIndices", "primvars:skel:jointWeights", "faceVertexCounts")


def character_of(stage: Any, tree: UsdTree, arrays: Arrays, label: str) -> Character | None:
    """The Character over a UsdTree, or None; its materials have the places of textures instead of their bytes.

    ``arrays``: see Arrays; those of the attributes ``PACKED`` are best prepared.
    """
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
                meshes += _meshes(target, tree, arrays, label, materials)
    return Character(tuple(meshes), tuple(materials.found)) if meshes else None


def _meshes(target: Any, tree: UsdTree, arrays: Arrays, label: str, materials: _Materials) -> Iterator[Mesh]:
    from pxr import UsdGeom

    prim = target.GetPrim()
    mesh, name = UsdGeom.Mesh(prim), prim.GetName()
    points = arrays.of(mesh.GetPointsAttr(), np.float32, 3)
    flat = arrays.of(mesh.GetFaceVertexIndicesAttr(), np.int32)
    counts = arrays.of(mesh.GetFaceVertexCountsAttr(), np.int32)
    if not len(points) or not len(counts) or not (np.isfinite(points.min()) and np.isfinite(points.max())):
        return
    if counts.min() < 0 or counts.sum() != len(flat) or (len(flat) and (flat.min() < 0 or flat.max() >= len(points))):
        raise InputError(f"{label}: the faces of {name} point past its {len(points)} points.")
    joints, weights = _influences(target, tree, arrays, len(points), label, name)
    geometry = np.array(target.GetGeomBindTransform(), float).T
    binds = np.linalg.pinv(tree.binds) @ geometry
    corners, faces = _fan(counts)
    which = flat.reshape(-1, 3) if corners is None else flat[corners]
    points_of, triangles, (texcoords, normals) = _vertices(
        which,
        len(points),
        [_values(_texcoords(prim), corners, points), _values(_normals(prim, arrays), corners, points)],
    )
    if normals is None:
        normals = smooth_normals(points, which)[points_of]
    left_handed = str(mesh.GetOrientationAttr().Get()) == "leftHanded"
    if left_handed:
        triangles, normals = triangles[:, ::-1], -normals
    morphs = _morphs(prim, points_of, len(points), -1.0 if left_handed else 1.0)
    for material, chosen in _groups(prim, faces, len(triangles), materials):
        yield Mesh(
            name, points[points_of], normals, _chosen(triangles, chosen), joints[points_of],
            weights[points_of], binds, texcoords, material, morphs, level_in(name),
        )  # fmt: skip


def _chosen(triangles: np.ndarray, chosen: Any) -> np.ndarray:
    return (triangles if chosen is None or chosen.all() else triangles[chosen]).astype(np.int32, copy=False)


def _influences(
    target: Any, tree: UsdTree, arrays: Arrays, count: int, label: str, name: str
) -> tuple[np.ndarray, np.ndarray]:
    """``(joints (v, k), weights (v, k))``: joints numbered as in the tree, weights with a sum of one."""
    which, share = target.GetJointIndicesPrimvar(), target.GetJointWeightsPrimvar()
    if target.IsRigidlyDeformed() or which.IsIndexed() or share.IsIndexed():
        computed = target.ComputeVaryingJointInfluences(count) or ([], [])
        which, share = np.asarray(computed[0], np.int32), np.asarray(computed[1], np.float32)
    else:
        which, share = arrays.of(which.GetAttr(), np.int32), arrays.of(share.GetAttr(), np.float32)
    width = target.GetNumInfluencesPerComponent()
    if not width or not len(which) == len(share) == count * width:
        raise InputError(f"{label}: the skin of {name} has weights for another number of points.")
    carried = _in_tree(which, share, target, tree, label, name).reshape(count, width)
    share = share.reshape(count, width)
    total = share @ np.ones(width, np.float32)
    if abs(total.min() - 1) < 1e-4 and abs(total.max() - 1) < 1e-4 and share.min() >= 0:
        return carried, share
    share = np.where(np.isfinite(share), share, 0)
    total = share.sum(1, keepdims=True)
    return carried, np.divide(share, total, out=np.zeros_like(share), where=total > 1e-9)


def _in_tree(which: np.ndarray, share: np.ndarray, target: Any, tree: UsdTree, label: str, name: str) -> np.ndarray:
    """The joints of influences, numbered as in the tree."""
    order = target.GetJointOrder()
    tokens = [str(t) for t in order] if order is not None and len(order) else None
    place = {t: i for i, t in enumerate(tree.joints)}
    table = _file_order(tree, target) if tokens is None else np.array([place.get(t, 0) for t in tokens])
    for shared in (False, True):
        if shared:
            which = np.where(share > 0, which, 0)  # only joints with a share have to be there
        if len(which) and which.min() >= 0 and which.max() < len(table):
            break
    else:
        raise InputError(f"{label}: the skin of {name} refers to joints that it does not list.")
    same = np.array_equal(table, np.arange(len(table)))
    return which if same else np.asarray(table, np.int32)[which]


def _file_order(tree: UsdTree, target: Any) -> np.ndarray:
    """From the skeleton's own numbering of joints to the tree's."""
    from pxr import UsdSkel

    skeleton = UsdSkel.Skeleton(target.GetPrim().GetStage().GetPrimAtPath(tree.path))
    place = {t: i for i, t in enumerate(tree.joints)}
    return np.array([place[str(j)] for j in skeleton.GetJointsAttr().Get()])


def _fan(counts: np.ndarray) -> tuple[np.ndarray | None, np.ndarray | None]:
    """Corners of the triangles that faces fall into ``(t, 3)``, and the face of each; None where they are all triangles."""
    if counts.min() == counts.max() == 3:
        return None, None
    starts = np.concatenate([[0], np.cumsum(counts)[:-1]])
    faces = np.repeat(np.arange(len(counts)), np.maximum(counts - 2, 0))
    within = np.arange(len(faces)) - np.repeat(
        np.cumsum(np.maximum(counts - 2, 0)) - np.maximum(counts - 2, 0), np.maximum(counts - 2, 0)
    )
    first = starts[faces]
    return np.stack([first, first + within + 1, first + within + 2], 1), faces


def _texcoords(prim: Any) -> tuple[np.ndarray, str] | None:
    """``(texture coordinates (n, 2), how they are spread)`` from the upper left, as in glTF; or None."""
    from pxr import UsdGeom

    api = UsdGeom.PrimvarsAPI(prim)
    for name in ("st", "UVMap", "map1"):
        primvar = api.GetPrimvar(name)
        if primvar and primvar.HasValue():
            values = np.array(_flat(primvar), np.float32).reshape(-1, 2)
            np.subtract(1, values[:, 1], out=values[:, 1])
            return values, primvar.GetInterpolation()
    return None


def _flat(primvar: Any) -> Any:
    return primvar.ComputeFlattened() if primvar.IsIndexed() else primvar.Get()


def _normals(prim: Any, arrays: Arrays) -> tuple[np.ndarray, str]:
    """``(normals (n, 3), how they are spread)``; a primvar stands before the attribute, as USD says."""
    from pxr import UsdGeom

    mesh, primvar = UsdGeom.Mesh(prim), UsdGeom.PrimvarsAPI(prim).GetPrimvar("normals")
    if primvar and primvar.HasValue():
        return np.asarray(_flat(primvar), np.float32).reshape(-1, 3), primvar.GetInterpolation()
    return arrays.of(mesh.GetNormalsAttr(), np.float32, 3), mesh.GetNormalsInterpolation()


def _values(
    primvar: tuple[np.ndarray, str] | None, corners: np.ndarray | None, points: np.ndarray
) -> tuple[np.ndarray, bool] | None:
    """``(values, whether they are by point)``: ``(points, n)`` or by corner of each triangle ``(t * 3, n)``; or None."""
    values, spread = primvar or (None, None)
    if values is None or not len(values) or not (np.isfinite(values.min()) and np.isfinite(values.max())):
        return None
    if spread in ("vertex", "varying") and len(values) == len(points):
        return values, True
    if spread == "faceVarying" and corners is None:
        return values, False
    if spread == "faceVarying" and corners is not None and len(values) > corners.max(initial=0):
        return values[corners.ravel()], False
    return None


def _vertices(
    which: np.ndarray, count: int, sets: Sequence[tuple[np.ndarray, bool] | None]
) -> tuple[np.ndarray | slice, np.ndarray, list[np.ndarray | None]]:
    """``(point of each vertex, triangles (t, 3), sets of values by vertex)``: points are split where corners differ.

    ``which (t, 3)``: the point at each corner. ``sets``: see _values; one by corner of another length is left out.
    """
    size, flat = which.size, which.reshape(-1)
    sets = [None if s is None or (not s[1] and len(s[0]) != size) else s for s in sets]
    by_corner = [values for values, by_point in filter(None, sets) if not by_point]
    if not by_corner:
        return slice(None), which, [s and s[0] for s in sets]
    # Most points have the same values at all their corners: only those at seams have to be sorted.
    first = np.zeros(count, np.int64)
    first[flat[::-1]] = np.arange(size - 1, -1, -1)
    own = np.concatenate([np.ascontiguousarray(v, np.float32).view(np.int32) for v in by_corner], 1)
    seam = np.flatnonzero((own != own[first[flat]]).any(1))
    keys = np.concatenate([flat[seam, None].astype(np.int32), own[seam]], 1)
    _, at, inverse = np.unique(_as_one(keys), return_index=True, return_inverse=True)
    vertices = flat.astype(np.int32)
    vertices[seam] = count + inverse
    points_of = np.concatenate([np.arange(count), flat[seam][at]])
    corner_of = np.concatenate([first, seam[at]])
    per_corner = [s and (s[0][points_of] if s[1] else s[0][corner_of]) for s in sets]
    return points_of, vertices.reshape(-1, 3), per_corner


def _as_one(rows: np.ndarray) -> np.ndarray:
    """Rows of whole numbers as one value each, that can be sorted."""
    rows = np.ascontiguousarray(rows)
    return rows.view(np.dtype((np.void, rows.dtype.itemsize * rows.shape[1])))[:, 0]


def _morphs(prim: Any, points_of: np.ndarray | slice, count: int, side: float) -> tuple[Morph, ...]:
    from pxr import UsdSkel

    api = UsdSkel.BindingAPI(prim)
    names = api.GetBlendShapesAttr().Get() or ()
    targets = api.GetBlendShapeTargetsRel().GetTargets()
    morphs = []
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
        normals = np.array(shape.GetNormalOffsetsAttr().Get() or [], np.float32).reshape(-1, 3)
        has_normals = len(normals) == len(offsets) and np.isfinite(normals).all()
        full, full_normals = np.zeros((2, count, 3), np.float32)
        full[at], full_normals[at] = offsets, normals if has_normals else 0
        morphs.append(Morph(str(name), full[points_of], side * full_normals[points_of] if has_normals else None))
    return tuple(morphs)


def _groups(
    prim: Any, faces: np.ndarray | None, count: int, materials: _Materials
) -> list[tuple[int, np.ndarray | None]]:
    """``(material number, mask of triangles or None for all)`` for each material that a mesh or its subsets have.

    ``faces``: the face of each of the ``count`` triangles, None where they are the same.
    """
    from pxr import UsdGeom, UsdShade

    doubled = bool(UsdGeom.Gprim(prim).GetDoubleSidedAttr().Get())
    subsets = UsdShade.MaterialBindingAPI(prim).GetMaterialBindSubsets()
    if not subsets:
        return [(materials.of(prim, doubled), None)]
    rest = np.ones(count, bool)
    groups: list[tuple[int, np.ndarray | None]] = []
    faces = np.arange(count) if faces is None else faces
    for subset in subsets:
        chosen = np.isin(faces, np.array(subset.GetIndicesAttr().Get() or [], np.int64))
        if chosen.any():
            groups.append((materials.of(subset.GetPrim(), doubled), chosen & rest))
            rest &= ~chosen
    if rest.any():
        groups.append((materials.of(prim, doubled), rest))
    return groups


class _Materials:
    """Materials as they are met, each once; the first is for what has none."""

    def __init__(self) -> None:
        self.found, self._numbers = [Material()], {}

    def of(self, prim: Any, double_sided: bool) -> int:
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

    def _material(self, bound: Any) -> Material:
        colour: tuple[float, ...] = (0.8, 0.8, 0.8)
        opacity, texture = 1.0, None
        shader = bound.ComputeSurfaceSource()[0]
        if shader:
            diffuse = shader.GetInput("diffuseColor")
            if diffuse:
                source = diffuse.GetConnectedSource()[0].GetPrim() if diffuse.HasConnectedSource() else None
                file = source.GetAttribute("inputs:file").Get() if source else None
                if source and file is not None and file.path:
                    scale = source.GetAttribute("inputs:scale").Get()
                    texture = file.path
                    colour = tuple(float(np.clip(c, 0, 1)) for c in scale)[:3] if scale else (1.0, 1.0, 1.0)
                elif diffuse.Get() is not None:
                    colour = tuple(float(np.clip(c, 0, 1)) for c in diffuse.Get())
            opacity_input = shader.GetInput("opacity")
            opacity = float(opacity_input.Get()) if opacity_input and isinstance(opacity_input.Get(), float) else 1.0
        red, green, blue = colour
        return Material(bound.GetPrim().GetName(), (red, green, blue, opacity), texture)
