"""Skeletons and motions that nobody would draw on purpose, and plain writers of files that hold them. Nothing here uses the product."""

import json
import struct
from dataclasses import dataclass, replace

import numpy as np
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

RATES = (12.0, 24000 / 1001, 24.0, 25.0, 30000 / 1001, 30.0, 50.0, 60.0, 100.0, 120.0, 240.0)
UNITS = {"m": 1.0, "cm": 0.01, "mm": 0.001, "in": 0.0254, "dm": 0.1}
ORDERS = ("depth first", "breadth first", "children first", "random")
RESTS = ("plain", "turned", "lying", "aside")


@dataclass
class Made:
    """A skeleton in any order of joints, with motion. ``turns (frames, joints, 4)``: local; ``moves {joint: (frames, 3)}``."""

    names: list
    parents: list
    offsets: np.ndarray
    rest: np.ndarray
    turns: np.ndarray
    moves: dict
    rate: float

    @property
    def frames(self):
        return len(self.turns)

    def places(self):
        """``{name: (frames, 3)}`` in the file's own unit and axes."""
        places, turns = {}, {}
        for joint in self.parents_first():
            own = Rotation.from_quat(self.turns[:, joint])
            move = self.moves.get(joint, np.tile(self.offsets[joint], (self.frames, 1)))
            over = self.parents[joint]
            turns[joint] = turns[over] * own if over >= 0 else own
            places[joint] = places[over] + turns[over].apply(move) if over >= 0 else move
        return {self.names[j]: p for j, p in places.items()}

    def parents_first(self):
        """Joint numbers, every parent before its children."""
        done, order = set(), []
        while len(order) < len(self.names):
            for joint, over in enumerate(self.parents):
                if joint not in done and (over < 0 or over in done):
                    done.add(joint)
                    order.append(joint)
        return order

    def ordered(self, order):
        """With its joints in another order: ``order`` lists the old numbers."""
        place = {old: new for new, old in enumerate(order)}
        return replace(
            self,
            names=[self.names[j] for j in order],
            parents=[place.get(self.parents[j], -1) for j in order],
            offsets=self.offsets[order],
            rest=self.rest[order],
            turns=self.turns[:, order],
            moves={place[j]: m for j, m in self.moves.items()},
        )


def order_of(made, kind, rng):
    """Joint numbers of a Made in one of the ORDERS."""
    children = {j: [c for c, over in enumerate(made.parents) if over == j] for j in range(-1, len(made.names))}
    if kind == "random":
        return rng.permutation(len(made.names)).tolist()
    if kind == "breadth first":
        order = list(children[-1])
        for joint in order:
            order.extend(children[joint])
        return order
    order, todo = [], children[-1][::-1]
    while todo:
        order.append(todo.pop())
        todo.extend(children[order[-1]][::-1])
    return order[::-1] if kind == "children first" else order


@st.composite
def skeletons(draw, most_joints=24, most_frames=12, roots=1):
    """A tree of joints with wild motion (Made): any size, order, rest and rate."""
    rng = np.random.default_rng(draw(st.integers(0, 2**32 - 1)))
    count, frames = draw(st.integers(1, most_joints)), draw(st.integers(2, most_frames))
    tops = draw(st.integers(1, min(roots, count)))
    bushy = draw(st.sampled_from((0.2, 1.0, 5.0)))  # from chains to stars
    parents = [-1 if j < tops else max(int(j - 1 - rng.exponential(bushy) * (j > 1)), 0) for j in range(count)]
    size = 10.0 ** rng.uniform(-1, 0)
    offsets = rng.normal(size=(count, 3)) * size
    offsets[rng.random(count) < draw(st.sampled_from((0.0, 0.2)))] = 0.0  # joints that lie on their parent
    kind = draw(st.sampled_from(RESTS))
    rest = np.tile([0, 0, 0, 1.0], (count, 1))
    if kind == "turned":
        rest = Rotation.random(count, rng).as_quat().reshape(count, 4)
    elif kind != "plain":
        rest[0] = Rotation.from_euler(
            "x" if kind == "lying" else "y", 90 if kind == "lying" else 36, degrees=True
        ).as_quat()
    turns = Rotation.from_rotvec(
        rng.normal(size=(frames * count, 3)) * draw(st.sampled_from((0.0, 0.3, 2.0)))
    ).as_quat()
    moves = {0: rng.normal(size=(frames, 3)) * size * 3}
    for joint in range(1, count):
        if parents[joint] < 0 or rng.random() < draw(st.sampled_from((0.0, 0.15))):
            moves[joint] = offsets[joint] + rng.normal(size=(frames, 3)) * size * 0.2
    # As files hold them: in 32-bit numbers.
    offsets, rest, turns = (v.astype("f4").astype(float) for v in (offsets, rest, turns.reshape(frames, count, 4)))
    moves = {joint: m.astype("f4").astype(float) for joint, m in moves.items()}
    names = [f"joint {chr(97 + j % 26)}{j}" for j in range(count)]
    made = Made(names, parents, offsets, rest, turns, moves, draw(st.sampled_from(RATES)))
    return made.ordered(order_of(made, draw(st.sampled_from(ORDERS)), rng))


def write_gltf(made, path, split=False):
    """A GLB by the letter of glTF 2.0; ``split``: an animation of its own for each joint."""
    binary, views, accessors = bytearray(), [], []

    def array(values, kind):
        values = np.ascontiguousarray(values, "<f4")
        views.append({"buffer": 0, "byteOffset": len(binary), "byteLength": values.nbytes})
        binary.extend(values.tobytes())
        entry = {"bufferView": len(views) - 1, "componentType": 5126, "count": len(values), "type": kind}
        if kind == "SCALAR":
            entry |= {"min": [float(values.min())], "max": [float(values.max())]}
        accessors.append(entry)
        return len(accessors) - 1

    nodes = [
        {"name": n, "translation": o.tolist(), "rotation": q.tolist()}
        for n, o, q in zip(made.names, made.offsets.astype("f4").astype(float), made.rest.astype("f4").astype(float))
    ]
    for joint, over in enumerate(made.parents):
        if over >= 0:
            nodes[over].setdefault("children", []).append(joint)
    tops = [j for j, over in enumerate(made.parents) if over < 0]
    times = array(np.arange(made.frames)[:, None] / made.rate, "SCALAR")
    animations = []
    for joint in range(len(made.names)):
        samplers = [(array(made.turns[:, joint], "VEC4"), "rotation")]
        if joint in made.moves:
            samplers.append((array(made.moves[joint], "VEC3"), "translation"))
        animations.append({
            "name": f"motion {joint}" if split else "motion",
            "samplers": [{"input": times, "output": out} for out, _ in samplers],
            "channels": [{"sampler": i, "target": {"node": joint, "path": p}} for i, (_, p) in enumerate(samplers)],
        })  # fmt: skip
    if not split:
        for more in animations[1:]:
            first = len(animations[0]["samplers"])
            animations[0]["samplers"] += more["samplers"]
            animations[0]["channels"] += [c | {"sampler": c["sampler"] + first} for c in more["channels"]]
        animations = animations[:1]
    document = {"asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": tops}], "nodes": nodes, "animations": animations,
                "accessors": accessors, "bufferViews": views, "buffers": [{"byteLength": len(binary)}]}  # fmt: skip
    if len(tops) == 1:
        document["skins"] = [{"joints": list(range(len(nodes)))}]
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    binary += b"\0" * (-len(binary) % 4)
    size = 28 + len(text) + len(binary)
    parts = (
        struct.pack("<4sIIII", b"glTF", 2, size, len(text), 0x4E4F534A),
        text,
        struct.pack("<II", len(binary), 0x004E4942),
    )
    path.write_bytes(b"".join((*parts, bytes(binary))))


def write_bvh(made, path):
    """A BVH file: joints where they are at rest without turns, so that rest rotations go into the offsets' frames alone."""
    lines, columns = ["HIERARCHY"], []

    def joint_lines(joint, depth):
        pad = "  " * depth
        lines.append(f"{pad}{'JOINT' if depth else 'ROOT'} {made.names[joint]}\n{pad}{{")
        lines.append(f"{pad}  OFFSET {' '.join(f'{v:.9g}' for v in made.offsets[joint])}")
        moves = joint in made.moves
        order = "ZXY" if joint % 2 else "YZX"
        words = [f"{a}position" for a in "XYZ"] * moves + [f"{a}rotation" for a in order]
        lines.append(f"{pad}  CHANNELS {len(words)} {' '.join(words)}")
        if moves:
            columns.extend(made.moves[joint].T)
        columns.extend(Rotation.from_quat(made.turns[:, joint]).as_euler(order, degrees=True).T)
        below = [c for c, over in enumerate(made.parents) if over == joint]
        for child in below:
            joint_lines(child, depth + 1)
        if not below:
            lines.append(f"{pad}  End Site\n{pad}  {{\n{pad}    OFFSET 0 0.01 0\n{pad}  }}")
        lines.append(f"{pad}}}")

    joint_lines(made.parents.index(-1), 0)
    rows = "\n".join(" ".join(f"{v:.9f}" for v in row) for row in np.array(columns).T)
    lines.append(f"MOTION\nFrames: {made.frames}\nFrame Time: {1 / made.rate:.12f}\n{rows}\n")
    path.write_text("\n".join(lines))


def write_usd(made, path, metres=0.01, up="Z"):
    """A USD file by USD's own library."""
    from pxr import Gf, Sdf, Usd, UsdGeom, UsdSkel, Vt

    made = made.ordered(made.parents_first())
    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageMetersPerUnit(stage, metres)
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.z if up == "Z" else UsdGeom.Tokens.y)
    stage.SetTimeCodesPerSecond(made.rate)
    stage.SetStartTimeCode(0)
    stage.SetEndTimeCode(made.frames - 1)
    root = UsdSkel.Root.Define(stage, "/body")
    stage.SetDefaultPrim(root.GetPrim())
    skeleton, animation = (
        UsdSkel.Skeleton.Define(stage, "/body/skeleton"),
        UsdSkel.Animation.Define(stage, "/body/motion"),
    )
    tokens = [n.replace(" ", "_") for n in made.names]
    paths = []
    for joint, over in enumerate(made.parents):
        paths.append(f"{paths[over]}/{tokens[joint]}" if over >= 0 else tokens[joint])
    rests = [
        Gf.Matrix4d(Gf.Rotation(Gf.Quatd(q[3], *q[:3])), Gf.Vec3d(*map(float, o)))
        for o, q in zip(made.offsets, made.rest.astype(float).tolist())
    ]
    worlds = []
    for joint, over in enumerate(made.parents):
        worlds.append(rests[joint] * worlds[over] if over >= 0 else rests[joint])
    skeleton.CreateJointsAttr(Vt.TokenArray(paths))
    skeleton.CreateRestTransformsAttr(Vt.Matrix4dArray(rests))
    skeleton.CreateBindTransformsAttr(Vt.Matrix4dArray(worlds))
    animation.CreateJointsAttr(Vt.TokenArray(paths))
    turns, moves = animation.CreateRotationsAttr(), animation.CreateTranslationsAttr()
    animation.CreateScalesAttr(Vt.Vec3hArray([Gf.Vec3h(1, 1, 1)] * len(paths)))
    for frame in range(made.frames):
        turns.Set(Vt.QuatfArray([Gf.Quatf(q[3], *q[:3]) for q in made.turns[frame].tolist()]), frame)
        places = [made.moves[j][frame] if j in made.moves else made.offsets[j] for j in range(len(paths))]
        moves.Set(Vt.Vec3fArray([Gf.Vec3f(*map(float, p)) for p in places]), frame)
    binding = UsdSkel.BindingAPI.Apply(skeleton.GetPrim())
    binding.CreateAnimationSourceRel().SetTargets([Sdf.Path("/body/motion")])
    stage.GetRootLayer().Save()
