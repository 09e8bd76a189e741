"""Turned-wood bodies for the puppets: limbs as from a lathe, painted, with eyelids and a jaw that move."""

from __future__ import annotations

import io
from dataclasses import dataclass

import numpy as np

from ..core import rotations as rot
from ..core.character.meshes import Character, Material, Mesh, Morph, smooth_normals
from ..core.turning import turned

# Profiles along a bone: share of its length, radius as a share of the piece's.
LIMB = (
    (0.0, 0.42), (0.03, 0.62), (0.06, 0.66), (0.09, 0.52), (0.12, 0.74), (0.26, 1.0), (0.42, 0.94), (0.62, 0.7), (0.8, 0.56),
    (0.88, 0.53), (0.91, 0.68), (0.95, 0.66), (0.98, 0.5), (1.0, 0.4),
)  # fmt: skip
TRUNK = (
    (-0.13, 0.03), (-0.12, 0.5), (0.0, 0.82), (0.1, 0.92), (0.35, 1.0), (0.7, 1.0), (0.95, 0.9), (1.08, 0.72), (1.15, 0.45),
    (1.17, 0.03),
)  # fmt: skip
DOME = tuple((np.sin(b), np.cos(b)) for b in np.linspace(-0.1, np.pi / 2 - 0.03, 7))
EGG = (
    (0.0, 0.3),
    (0.05, 0.55),
    (0.16, 0.82),
    (0.34, 0.98),
    (0.5, 1.0),
    (0.68, 0.94),
    (0.84, 0.72),
    (0.95, 0.4),
    (1.0, 0.03),
)
CAP = ((0.0, 1.04), (0.04, 1.3), (0.07, 1.3), (0.1, 1.0), (0.5, 0.86), (0.8, 0.62), (1.0, 0.05))
SHOE = ((0.0, 0.35), (0.08, 0.8), (0.3, 1.0), (0.65, 0.95), (0.88, 0.75), (1.0, 0.12))
BALL = tuple(((1 - np.cos(a)) / 2, np.sin(a)) for a in np.linspace(0.05, np.pi - 0.05, 9))
WOOD, COAT, TROUSERS, BOOTS, CAP_PAINT, WHITE, INK = range(1, 8)

# Radius of a piece as a share of the figure's height, its paint, and how flat it is (depth over width).
PIECES = {
    "upper arm": (0.027, COAT, 1.0),
    "forearm": (0.022, COAT, 1.0),
    "thigh": (0.04, TROUSERS, 1.0),
    "shin": (0.03, TROUSERS, 1.0),
    "collarbone": (0.028, COAT, 1.0),
    "neck": (0.024, WOOD, 1.0),
    "thumb": (0.0085, WOOD, 1.0),
    **dict.fromkeys(("index", "middle", "ring", "little"), (0.0075, WOOD, 1.0)),
}


@dataclass(frozen=True)
class Paint:
    """The paints of a puppet, red, green and blue, linear."""

    coat: tuple
    trousers: tuple
    cap: tuple


PAINTS = {
    "Heron": Paint((0.09, 0.17, 0.30), (0.30, 0.24, 0.16), (0.40, 0.09, 0.05)),
    "Puffin": Paint((0.52, 0.31, 0.06), (0.07, 0.12, 0.16), (0.06, 0.22, 0.20)),
    "Gull": Paint((0.45, 0.43, 0.38), (0.10, 0.13, 0.22), (0.33, 0.20, 0.05)),
}


class _Carver:
    """Collects pieces by material, each carried by the joints it belongs to."""

    def __init__(self, figure, sides):
        self.figure, self.sides = figure, sides
        self.points = figure.rest_world[0]
        self.pieces = {}

    def add(self, material, place, normal, triangles, coords, carried, weights, morphs=None):
        self.pieces.setdefault(material, []).append((place, normal, triangles, coords, carried, weights, morphs or {}))

    def turn(
        self,
        material,
        profile,
        start,
        end,
        radius,
        joint,
        flat=1.0,
        after=None,
        front=(0.0, 0.0, 1.0),
        sides=None,
        morph=None,
    ):
        """A turned piece from ``start`` to ``end``; its end is carried by the joint ``after`` where one is given."""
        raw, triangles = turned(profile, sides or self.sides)
        start, way = np.asarray(start, float), np.asarray(end, float) - np.asarray(start, float)
        length = np.linalg.norm(way)
        along = way / length
        depth = np.asarray(front, float) - (np.asarray(front, float) @ along) * along
        if np.linalg.norm(depth) < 1e-6:
            depth = np.cross(along, [1.0, 0, 0])
        depth /= np.linalg.norm(depth)
        basis = np.stack([np.cross(along, depth) * radius, way, depth * radius * flat])
        place = raw[:, :3] @ basis + start
        normal = raw[:, 3:] @ np.linalg.inv(basis).T
        normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-9)
        around = np.arange(len(raw)) % ((sides or self.sides) + 1) / (sides or self.sides)
        coords = np.stack([around, raw[:, 1]], 1)
        carried = np.tile([joint, joint if after is None else after], (len(raw), 1))
        share = np.clip((raw[:, 1] - 0.55) / 0.6, 0, 1) if after is not None else np.zeros(len(raw))
        weights = np.stack([1 - share, share], 1)
        moved = {name: change(place) for name, change in (morph or {}).items()}
        self.add(material, place, normal, triangles.reshape(-1, 3), coords, carried, weights, moved)

    def meshes(self, name, level, binds):
        """A Mesh for each material, with the morphs that any of its pieces has."""
        for material, parts in sorted(self.pieces.items()):
            names = sorted({morph for p in parts for morph in p[6]})
            starts = np.cumsum([0, *(len(p[0]) for p in parts)])
            count = starts[-1]
            morphs = []
            place = np.concatenate([p[0] for p in parts]).astype(np.float32)
            triangles = np.concatenate([p[2] + s for p, s in zip(parts, starts)]).astype(np.int32)
            for morph in names:
                moved = np.zeros((count, 3), np.float32)
                for start, part in zip(starts, parts):
                    if morph in part[6]:
                        moved[start : start + len(part[0])] = part[6][morph]
                lit = smooth_normals(place + moved, triangles) - smooth_normals(place, triangles)
                morphs.append(Morph(morph, moved, np.where(np.abs(lit) > 1e-4, lit, 0).astype(np.float32)))
            yield Mesh(
                f"{name}_body" if level == 0 else f"{name}_body_LOD{level}",
                place,
                np.concatenate([p[1] for p in parts]).astype(np.float32),
                triangles,
                np.concatenate([p[4] for p in parts]).astype(np.int32),
                np.concatenate([p[5] for p in parts]).astype(np.float32),
                binds, np.concatenate([p[3] for p in parts]).astype(np.float32), material, tuple(morphs), level,
            )  # fmt: skip


def puppet_body(name, figure, sides=(18, 8)):
    """The Character of a puppet over a figure in a T-pose (joints named by body part), with two levels of detail."""
    paint = PAINTS[name]
    height = float(figure.rest_world[0][:, 1].max() - min(0.0, figure.rest_world[0][:, 1].min())) * 1.12
    binds = np.tile(np.eye(4), (len(figure), 1, 1))
    binds[:, :3, 3] = -figure.rest_world[0]
    meshes = []
    for level, count in enumerate(sides):
        carver = _Carver(figure, count)
        _limbs(carver, height)
        _trunk(carver, height)
        _head(carver)
        _ends(carver, height)
        meshes += carver.meshes(name, level, binds)
    image = grain(seed=len(name))
    colours = (
        ("wood", (0.62, 0.40, 0.22)), ("coat", paint.coat), ("trousers", paint.trousers), ("boots", (0.05, 0.035, 0.03)),
        ("cap", paint.cap), ("eyes", (0.86, 0.84, 0.78)), ("ink", (0.015, 0.015, 0.02)),
    )  # fmt: skip
    materials = (Material(f"{name} {n}", (*c, 1.0), image if n != "ink" else None) for n, c in colours)
    return Character(tuple(meshes), (Material(), *materials))


def _plain(joint_name):
    side, _, rest = joint_name.partition(" ")
    return rest.rstrip(" 0123456789") if side in ("left", "right") else joint_name.rstrip(" 0123456789")


def _limbs(carver, height):
    figure, points = carver.figure, carver.points
    for joint, name in enumerate(figure.names):
        part = _plain(name)
        if part not in PIECES or name.endswith("twist"):
            continue
        radius, paint, flat = PIECES[part]
        straight = [c for c in figure.children[joint] if not figure.names[c].endswith("twist")]
        if straight:
            end = points[straight[0]]
        elif np.isfinite(figure.tips[joint, 0]):
            end = points[joint] + figure.tips[joint]
        else:
            continue
        length = np.linalg.norm(end - points[joint])
        size = min(radius * height, 0.45 * length)
        finger = part in ("thumb", "index", "middle", "ring", "little")
        carver.turn(paint, LIMB, points[joint], end, size, joint, flat, sides=carver.sides // 2 if finger else None)
        ball = 0.62 * size
        if not finger:
            at = points[joint]
            carver.turn(WOOD, BALL, at - [0, ball, 0], at + [0, ball, 0], ball, joint, sides=max(carver.sides - 6, 6))


def _trunk(carver, height):
    figure, points = carver.figure, carver.points
    spine = [j for j, n in enumerate(figure.names) if n.startswith("spine")]
    shoulders = abs(points[figure.index["left upper arm"], 0] - points[figure.index["right upper arm"], 0])
    hips = abs(points[figure.index["left thigh"], 0] - points[figure.index["right thigh"], 0])
    chain = [figure.index["hips"], *spine]
    top = points[figure.index["neck 1"]]
    for i, joint in enumerate(chain):
        end = points[chain[i + 1]] if i + 1 < len(chain) else top
        share = i / max(len(chain) - 1, 1)
        wide = (0.62 * hips + 0.035 * height) * (1 - share) + 0.42 * shoulders * share
        if joint == chain[0]:
            low = points[joint] - [0, 0.045 * height, 0]
            carver.turn(TROUSERS, TRUNK, low, end, wide, joint, 0.72)
            belt = end + [0, 0.004 * height, 0]
            carver.turn(
                BOOTS, BALL, belt - [0, 0.012 * height, 0], belt + [0, 0.012 * height, 0], wide * 0.96, joint, 0.76
            )
        else:
            after = chain[i + 1] if i + 1 < len(chain) else None
            carver.turn(COAT, TRUNK, points[joint], end, wide, joint, 0.62, after)
    chest = points[chain[-1]]
    for i in range(3):
        at = chest + (top - chest) * (0.15 + 0.3 * i) + [0, 0, 0.42 * shoulders * 0.6]
        carver.turn(WOOD, BALL, at, at + [0, 0, 0.012 * height], 0.008 * height, chain[-1], sides=8)


def _head(carver):
    figure, points = carver.figure, carver.points
    joint = figure.index["head"]
    base, up = points[joint], figure.tips[joint]
    size = np.linalg.norm(up)
    wide = 0.42 * size
    carver.turn(WOOD, EGG, base, base + up, wide, joint, 1.05)
    carver.turn(CAP_PAINT, CAP, base + up * 0.72, base + up * 1.16, wide * 0.93, joint, 1.05)
    carver.turn(
        WOOD,
        EGG,
        base + [0, 0.46 * size, wide * 0.95],
        base + [0, 0.40 * size, wide * 1.5],
        0.16 * wide,
        joint,
        sides=10,
    )
    for sign in (1.0, -1.0):
        eye = base + [sign * 0.42 * wide, 0.56 * size, wide * 0.84]
        r = 0.2 * wide
        look = np.array([sign * 0.25, 0.0, 1.0]) / np.hypot(0.25, 1.0)
        carver.turn(WHITE, BALL, eye - [0, r, 0], eye + [0, r, 0], r, joint, sides=12)
        pupil = eye + look * r * 0.64
        carver.turn(INK, BALL, pupil - [0, r * 0.4, 0], pupil + [0, r * 0.4, 0], r * 0.4, joint, sides=10)
        carver.turn(
            WOOD, DOME, eye, eye + [0, 1.1 * r, 0], 1.1 * r, joint, sides=12, morph={"blink": _tipped(eye, 1.45)}
        )
    jaw = base + [0, 0.20 * size, wide * 0.86]
    drop = {"jaw_open": lambda p: np.tile([0.0, -0.075 * size, -0.01 * size], (len(p), 1))}
    carver.turn(
        WOOD,
        BALL,
        jaw - [0.36 * wide, 0, 0],
        jaw + [0.36 * wide, 0, 0],
        0.085 * size,
        joint,
        0.7,
        sides=12,
        morph=drop,
    )
    carver.turn(
        INK,
        BALL,
        jaw + [-0.3 * wide, 0.075 * size, -0.02 * size],
        jaw + [0.3 * wide, 0.075 * size, -0.02 * size],
        0.035 * size,
        joint,
        sides=8,
    )


def _tipped(centre, angle):
    """How places move when a lid is tipped forwards about the eye's own axis."""
    turn = rot.to_matrix(rot.from_axis_angle(rot.AXES["X"], np.array(angle)))

    def move(places):
        return (places - centre) @ turn.T + centre - places

    return move


def _ends(carver, height):
    """Hands and shoes."""
    figure, points = carver.figure, carver.points
    for side, sign in (("left", 1.0), ("right", -1.0)):
        hand = figure.index[f"{side} hand"]
        fingers = [
            figure.index[f"{side} {f} 1"]
            for f in ("index", "middle", "ring", "little")
            if f"{side} {f} 1" in figure.index
        ]
        reach = points[fingers].mean(0) - points[hand] if fingers else figure.tips[hand]
        carver.turn(
            WOOD,
            SHOE,
            points[hand],
            points[hand] + reach,
            0.3 * max(np.linalg.norm(reach), 0.05 * height),
            hand,
            0.42,
            front=(0, 1.0, 0),
        )
        ball = 0.014 * height
        at = points[hand]
        carver.turn(WOOD, BALL, at - [0, ball, 0], at + [0, ball, 0], ball, hand, sides=10)
        foot, toes = figure.index[f"{side} foot"], figure.index[f"{side} toes"]
        heel = np.array([points[foot][0], 0.03 * height, points[foot][2] - 0.035 * height])
        tip = points[toes] + [sign * 0.004, 0.012 * height, 0.028 * height]
        carver.turn(BOOTS, SHOE, heel, tip, 0.036 * height, foot, 0.8, after=toes, front=(0, 1.0, 0))
        carver.turn(
            BOOTS,
            LIMB,
            points[foot] + [0, 0.03 * height, 0],
            points[foot] - [0, 0.035 * height, 0],
            0.03 * height,
            foot,
        )


def grain(size=256, seed=1):
    """A picture of painted wood, light grey: fine lines along the grain and a band at both ends (PNG bytes)."""
    from PIL import Image

    rng = np.random.default_rng(seed)
    across, along = np.meshgrid(np.linspace(0, 1, size), np.linspace(0, 1, size))
    wave = np.zeros((size, size))
    for turns in (3, 7, 13, 29):
        wave += (
            np.sin(2 * np.pi * (turns * across + 0.35 * np.sin(2 * np.pi * (along + rng.random())) + rng.random()))
            / turns**0.5
        )
    shade = 0.87 + 0.045 * wave / np.abs(wave).max() + rng.normal(0, 0.008, (size, size))
    for edge in (0.09, 0.91):
        shade -= 0.20 * np.exp(-(((along - edge) / 0.012) ** 2))
    picture = (np.clip(shade, 0, 1) * 255).astype(np.uint8)
    buffer = io.BytesIO()
    Image.fromarray(np.stack([picture] * 3, -1)).save(buffer, "PNG")
    return buffer.getvalue()
