"""Files evaluated by others' code: pygltflib and USD's own skeleton queries. Nothing here uses the product."""

import json
import shutil
import subprocess
from pathlib import Path

import numpy as np

ROOT = Path(__file__).parents[2]
VALIDATOR, MODELS = "gltf-validator", "@webxr-input-profiles/assets"
_SCRIPT = """
const validator = require('gltf-validator'), fs = require('fs');
validator.validateBytes(new Uint8Array(fs.readFileSync(process.argv[2])), {maxIssues: 50}).then(r => console.log(JSON.stringify(
  r.issues.messages.filter(m => m.severity < 2)))).catch(e => console.log(JSON.stringify([{code: 'BROKEN', message: String(e)}])));
"""


def _accessor(gltf, number):
    a = gltf.accessors[number]
    view = gltf.bufferViews[a.bufferView]
    kind = {5121: "u1", 5123: "<u2", 5125: "<u4", 5126: "<f4"}[a.componentType]
    width = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}[a.type]
    buffer = gltf.buffers[view.buffer]
    data = gltf.binary_blob() if buffer.uri is None else gltf.get_data_from_buffer_uri(buffer.uri)
    start = (view.byteOffset or 0) + (a.byteOffset or 0)
    return np.frombuffer(data, kind, a.count * width, start).reshape(a.count, width)


def _matrix(node):
    if node.matrix:
        return np.array(node.matrix, float).reshape(4, 4).T
    x, y, z, w = node.rotation or (0, 0, 0, 1)
    m = np.eye(4)
    m[:3, :3] = [
        [1 - 2 * (y * y + z * z), 2 * (x * y - w * z), 2 * (x * z + w * y)],
        [2 * (x * y + w * z), 1 - 2 * (x * x + z * z), 2 * (y * z - w * x)],
        [2 * (x * z - w * y), 2 * (y * z + w * x), 1 - 2 * (x * x + y * y)],
    ]
    m[:3, :3] *= node.scale or (1, 1, 1)
    m[:3, 3] = node.translation or (0, 0, 0)
    return m


def _between(a, b, share):
    """Spherical interpolation, the short way."""
    dot = float(a @ b)
    b, dot = (-b, -dot) if dot < 0 else (b, dot)
    angle = np.arccos(min(dot, 1.0))
    if angle < 1e-6:
        return a + (b - a) * share
    return (np.sin((1 - share) * angle) * a + np.sin(share * angle) * b) / np.sin(angle)


def _evaluated(way, times, values, second, turns):
    """The value of a sampler at a time, by the letter of glTF 2.0 (section 3.11 and appendix C)."""
    smooth = way == "CUBICSPLINE"
    keys = values.reshape(len(times), 3 if smooth else 1, -1).astype(float)
    second = min(max(second, times[0]), times[-1])
    at = int(np.clip(np.searchsorted(times, second, side="right") - 1, 0, max(len(times) - 2, 0)))
    if len(times) == 1 or second == times[-1]:
        return keys[-1 if second == times[-1] else 0, 1 if smooth else 0]
    long = float(times[at + 1] - times[at])
    s = (second - times[at]) / long
    if way == "STEP":
        return keys[at, 0]
    if not smooth:
        a, b = keys[at, 0], keys[at + 1, 0]
        value = _between(a, b, s) if turns else a + (b - a) * s
    else:
        (_, a, out), (into, b, _) = keys[at], keys[at + 1]
        value = (2 * s**3 - 3 * s**2 + 1) * a + long * (s**3 - 2 * s**2 + s) * out
        value = value + (-2 * s**3 + 3 * s**2) * b + long * (s**3 - s**2) * into
    return value / np.linalg.norm(value) if turns else value


class Gltf:
    """A glTF file as pygltflib reads it, posed at times of its first animation as the standard says."""

    def __init__(self, path):
        from pygltflib import GLTF2

        self.g = GLTF2().load(str(path))
        self.parents = {c: n for n, node in enumerate(self.g.nodes) for c in node.children or ()}

    def world(self, second=None):
        """``{node name: 4x4 world matrix}`` at a time of the first animation, or at rest."""
        import copy

        nodes = [copy.copy(n) for n in self.g.nodes]
        animation = self.g.animations[0] if self.g.animations and second is not None else None
        for channel in animation.channels if animation else ():
            sampler = animation.samplers[channel.sampler]
            times, values = _accessor(self.g, sampler.input)[:, 0], _accessor(self.g, sampler.output)
            if channel.target.path == "weights":
                continue
            turns = channel.target.path == "rotation"
            value = _evaluated(sampler.interpolation or "LINEAR", times.astype(float), values, second, turns)
            setattr(nodes[channel.target.node], channel.target.path, value.tolist())
        self.matrices = {}
        for number in range(len(nodes)):
            chain, at = [], number
            while at is not None:
                chain.append(at)
                at = self.parents.get(at)
            m = np.eye(4)
            for n in reversed(chain):
                m = m @ _matrix(nodes[n])
            self.matrices[number] = m
        return {n.name: self.matrices[i] for i, n in enumerate(nodes)}

    @property
    def samplers(self):
        """``(interpolation, times)`` of each channel of the first animation."""
        animation = self.g.animations[0]
        found = [animation.samplers[c.sampler] for c in animation.channels]
        return [(s.interpolation or "LINEAR", _accessor(self.g, s.input)[:, 0]) for s in found]

    def skinned(self, second=None):
        """All vertices of all skinned meshes, posed ``(v, 3)``."""
        self.world(second)
        found = []
        for node in self.g.nodes:
            if node.mesh is None or node.skin is None:
                continue
            skin = self.g.skins[node.skin]
            binds = _accessor(self.g, skin.inverseBindMatrices).reshape(-1, 4, 4).transpose(0, 2, 1)
            bones = np.stack([self.matrices[j] @ b for j, b in zip(skin.joints, binds)])
            for part in self.g.meshes[node.mesh].primitives:
                places = _accessor(self.g, part.attributes.POSITION)
                which, share = _accessor(self.g, part.attributes.JOINTS_0), _accessor(self.g, part.attributes.WEIGHTS_0)
                full = np.concatenate([places, np.ones((len(places), 1))], 1)
                found.append(np.einsum("vk,vkij,vj->vi", share, bones[which], full)[:, :3])
        return np.concatenate(found)


def usd_joints(path, frame):
    """``{joint's own name: world place}`` of the first skeleton at a time code, as USD's queries tell."""
    from pxr import Usd, UsdGeom, UsdSkel

    stage = Usd.Stage.Open(str(path))
    cache, xforms = UsdSkel.Cache(), UsdGeom.XformCache(frame)
    root = UsdSkel.Root(next(p for p in stage.Traverse() if p.IsA(UsdSkel.Root)))
    cache.Populate(root, Usd.PrimDefaultPredicate)
    prim = next(p for p in stage.Traverse() if p.IsA(UsdSkel.Skeleton))
    query = cache.GetSkelQuery(UsdSkel.Skeleton(prim))
    moved = query.ComputeJointSkelTransforms(frame)
    over = np.array(xforms.GetLocalToWorldTransform(prim))
    names = prim.GetAttribute("jointNames").Get() or [str(j).rsplit("/", 1)[-1] for j in query.GetJointOrder()]
    return {str(n): (np.array(m) @ over)[3, :3] for n, m in zip(names, moved)}


def usd_skinned(path, frame):
    """All points of all meshes at a time code, bent by USD's own skinning ``(v, 3)``."""
    from pxr import Usd, UsdGeom, UsdSkel

    stage = Usd.Stage.Open(str(path))
    cache, found = UsdSkel.Cache(), []
    root = UsdSkel.Root(next(p for p in stage.Traverse() if p.IsA(UsdSkel.Root)))
    cache.Populate(root, Usd.PrimDefaultPredicate)
    for binding in cache.ComputeSkelBindings(root, Usd.PrimDefaultPredicate):
        query = cache.GetSkelQuery(binding.GetSkeleton())
        over = np.array(UsdGeom.XformCache(frame).GetLocalToWorldTransform(binding.GetSkeleton().GetPrim()))
        for target in binding.GetSkinningTargets():
            points = UsdGeom.Mesh(target.GetPrim()).GetPointsAttr().Get()
            target.ComputeSkinnedPoints(query.ComputeSkinningTransforms(frame), points, frame)
            flat = np.concatenate([np.array(points), np.ones((len(points), 1))], 1) @ over
            found.append(flat[:, :3])
    return np.concatenate(found)


def usd_complaints(path):
    """What the validators that come with USD find."""
    from pxr import Usd, UsdValidation

    validators = UsdValidation.ValidationRegistry().GetOrLoadAllValidators()
    found = UsdValidation.ValidationContext(validators).Validate(Usd.Stage.Open(str(path)))
    return [f"{e.GetName()}: {e.GetMessage()}" for e in found if not e.HasNoError()]


def gltf_complaints(path):
    """Errors and warnings of the Khronos validator, or None where Node or the validator can't be had."""
    folder = node_package(VALIDATOR)
    if folder is None:
        return None
    done = subprocess.run(
        ["node", "-e", _SCRIPT, "x", str(path)], cwd=folder, capture_output=True, text=True, timeout=120
    )
    return json.loads(done.stdout or '[{"code": "BROKEN"}]')


def node_package(package):
    """The folder in which ``./run test`` installs packages of Node's, or None without this one."""
    folder = ROOT / ".venv" / "node"
    return folder if shutil.which("node") and (folder / "node_modules" / package).exists() else None
