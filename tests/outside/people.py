"""People in motion, and the same people as another program would tell them: plain code, which uses nothing of the product."""

import numpy as np
from scipy.spatial.transform import Rotation

from .makers import Made, order_of

SIDES = (("left", 1.0), ("right", -1.0))


def person(rng=None, spread=0.0, fingers=False):
    """``(names, parents, offsets)`` of a figure in a T-pose that faces +Z, about 1.7 m tall; ``spread``: of its proportions."""
    wide = (lambda: 1.0) if rng is None else (lambda: float(np.exp(rng.normal(0, spread))))
    names, parents, offsets = [], [], []

    def add(name, parent, *offset):
        names.append(name)
        parents.append(-1 if parent is None else names.index(parent))
        offsets.append(offset)
        return name

    leg, arm, trunk, shoulder = 0.42 * wide(), 0.27 * wide(), 0.13 * wide(), 0.15 * wide()
    add("hips", None, 0, 2.2 * leg, 0)
    over = "hips"
    for k in range(3):
        over = add(f"spine {k}", over, 0, trunk, 0)
    neck = add("neck", over, 0, 0.75 * trunk, 0)
    add("head", neck, 0, 0.1, 0.01)
    for side, sign in SIDES:
        collar = add(f"{side} collarbone", over, 0.03 * sign, 0.6 * trunk, 0.01)
        upper = add(f"{side} upper arm", collar, shoulder * sign, 0, -0.01)
        lower = add(f"{side} forearm", upper, arm * sign, 0, -0.005)
        hand = add(f"{side} hand", lower, 0.9 * arm * sign, 0, 0.005)
        for k, finger in enumerate(("thumb", "index", "middle", "ring", "little") if fingers else ()):
            at = add(f"{side} {finger} 0", hand, 0.08 * sign, -0.01, 0.03 - 0.02 * k)
            at = add(f"{side} {finger} 1", at, 0.03 * sign, 0, 0.002)
            add(f"{side} {finger} 2", at, 0.025 * sign, 0, 0)
        thigh = add(f"{side} thigh", "hips", 0.09 * sign, -0.02, 0.0)
        shin = add(f"{side} shin", thigh, 0, -leg, 0.008)
        foot = add(f"{side} foot", shin, 0, -0.98 * leg, -0.012)
        add(f"{side} toes", foot, 0, -0.07, 0.14)
    offsets = np.array(offsets, float)
    soles = offsets[0, 1] - 0.02 - 1.98 * leg - 0.07
    offsets[0, 1] -= soles - 0.02  # the balls of its feet 2 cm over the floor
    return names, parents, offsets


def acting(figure, rng, frames=40, rate=30.0, going=1.0, wild=0.35):
    """A Made of somebody who bends, turns and goes, smoothly."""
    names, parents, offsets = figure
    times = np.arange(frames) / rate
    vectors = np.zeros((frames, len(names), 3))
    for joint, name in enumerate(names):
        size = wild * (0.4 if name.startswith(("spine", "neck", "hips")) else 1.0)
        for _ in range(2):
            wave = np.sin(2 * np.pi * (rng.uniform(0.3, 1.2) * times + rng.random()))
            vectors[:, joint] += wave[:, None] * rng.normal(size=3) * size / 2
        if name.endswith("upper arm"):
            vectors[:, joint, 2] += -0.9 if name.startswith("left") else 0.9
        if name.endswith("shin"):
            vectors[:, joint, 0] += 0.4
        if name.endswith("forearm"):
            vectors[:, joint, 1] += -0.4 if name.startswith("left") else 0.4
    turns = Rotation.from_rotvec(vectors.reshape(-1, 3)).as_quat().reshape(frames, len(names), 4)
    heading = Rotation.from_rotvec(np.outer(rng.normal() + rng.normal() * 0.4 * times, [0, 1, 0]))
    turns[:, 0] = (heading * Rotation.from_quat(turns[:, 0])).as_quat()
    place = offsets[0] + np.cumsum(heading.apply([0, 0, 1]), axis=0) * going / rate
    rest = np.tile([0, 0, 0, 1.0], (len(names), 1))
    return Made(list(names), list(parents), offsets.copy(), rest, turns, {0: place}, rate)


def worlds(made, turns):
    """World rotations of local ones ``(frames, joints, 4)``, as a list of Rotations by joint."""
    found = {}
    for joint in made.parents_first():
        own, over = Rotation.from_quat(turns[:, joint]), made.parents[joint]
        found[joint] = found[over] * own if over >= 0 else own
    return found


def rested(made, pose):
    """The same motion on a skeleton that rests in ``pose (joints, 4)``, with joint axes along the world's there, as BVH has it."""
    at_rest = worlds(made, pose[None])
    now = worlds(made, made.turns)
    turned = {j: now[j] * at_rest[j].inv() for j in now}
    offsets, turns, moves = made.offsets.copy(), made.turns.copy(), dict(made.moves)
    for joint, over in enumerate(made.parents):
        own = turned[joint]
        if over >= 0:
            offsets[joint] = at_rest[over].apply(made.offsets[joint])[0]
            own = turned[over].inv() * own
            if joint in moves:
                moves[joint] = at_rest[over].apply(moves[joint])
        turns[:, joint] = own.as_quat()
    return Made(made.names, made.parents, offsets, made.rest, turns, moves, made.rate)


def pose_of(made, rng, kind="T", yaw=0.0, lying=None):
    """A rest pose of local rotations ``(joints, 4)``: arms in a T, an A or hanging, or seated; turned, or lying."""
    vectors = {name: np.zeros(3) for name in made.names}
    for side, sign in SIDES:
        down = {"T": 0.0, "A": 0.75, "hanging": 1.4, "seated": 1.2}[kind]
        vectors[f"{side} upper arm"] = np.array([0, 0, -sign * down])
        if kind == "seated":
            vectors[f"{side} thigh"], vectors[f"{side} shin"] = np.array([-1.45, 0, 0]), np.array([1.45, 0, 0])
    pose = Rotation.from_rotvec([vectors[n] for n in made.names]).as_quat()
    top = made.names.index("hips")
    whole = Rotation.from_euler("y", yaw, degrees=True)
    if lying is not None:
        whole = Rotation.from_euler(lying[0], lying[1], degrees=True) * whole
    pose[top] = (whole * Rotation.from_quat(pose[top])).as_quat()
    return pose


def with_joint(made, name, parent, offset, below=()):
    """The Made with one more joint that never turns; ``below``: names of the joints that hang on it from then on."""
    over = made.names.index(parent) if parent is not None else -1
    new = len(made.names)
    parents, offsets, moves = [*made.parents, over], np.vstack([made.offsets, offset]), dict(made.moves)
    for child in below:
        at = made.names.index(child)
        parents[at] = new
        offsets[at] = offsets[at] - offset
        if at in moves:
            moves[at] = moves[at] - np.asarray(offset)
    still = np.tile([0, 0, 0, 1.0], (made.frames, 1, 1))
    rest = np.vstack([made.rest, [0, 0, 0, 1.0]])
    return Made([*made.names, name], parents, offsets, rest, np.concatenate([made.turns, still], 1), moves, made.rate)


HELPERS = ("twist", "end", "socket", "root", "spine", "roll")


def dressed(
    made, rng, kinds=HELPERS, rest="T", yaw=0.0, lying=None, up="Y", unit=1.0, order="depth first", blind=False
):
    """The same body and motion as another program would tell it."""
    at = made.names.index
    if "twist" in kinds:
        made = with_joint(made, "left forearm twist", "left forearm", made.offsets[at("left hand")] * 0.5)
    if "end" in kinds:
        made = with_joint(made, "head end", "head", [0, 0.18, 0])
        made = with_joint(made, "right toes end", "right toes", [0, 0, 0.06])
    if "socket" in kinds:
        made = with_joint(made, "right hand socket", "right hand", [-0.05, -0.03, 0.04])
    if "spine" in kinds:
        made = with_joint(made, "spine extra", "spine 0", made.offsets[at("spine 1")] * 0.4, ["spine 1"])
    if "roll" in kinds:
        made = with_joint(
            made, "right forearm roll", "right forearm", made.offsets[at("right hand")] * 0.5, ["right hand"]
        )
    if "root" in kinds:
        made = with_joint(made, "root", None, [0, 0, 0], ["hips"])
    made = rested(made, pose_of(made, rng, rest, yaw, lying))
    if blind:
        made.names = [f"b{i:02d}" for i in rng.permutation(len(made.names))]
    made = made.ordered(order_of(made, order, rng))
    return in_world(made, up, unit)


def in_world(made, up="Y", unit=1.0):
    """In a file's unit (metres) and with another axis up: whole quarter turns, applied at the roots."""
    turn = {
        "Y": Rotation.identity(),
        "Z": Rotation.from_euler("x", 90, degrees=True),
        "X": Rotation.from_euler("z", -90, degrees=True),
    }[up]
    moved = moved_by(made, turn, np.zeros(3))
    # What BVH has no rest rotations for goes into the offsets of all joints.
    pose = np.tile([0, 0, 0, 1.0], (len(made.names), 1))
    for joint, over in enumerate(made.parents):
        if over < 0:
            pose[joint] = turn.as_quat()
    made = rested(moved, pose)
    for joint, over in enumerate(made.parents):
        if over < 0:
            made.offsets[joint] = turn.apply(made.offsets[joint])
    made.offsets = made.offsets / unit
    made.moves = {j: m / unit for j, m in made.moves.items()}
    return made


def moved_by(made, turn, shift, scale=1.0):
    """The motion turned, moved and scaled as a whole; the rest pose stays."""
    turns, moves = made.turns.copy(), {}
    for joint, over in enumerate(made.parents):
        if over < 0:
            turns[:, joint] = (turn * Rotation.from_quat(turns[:, joint])).as_quat()
            own = made.moves.get(joint, np.tile(made.offsets[joint], (made.frames, 1)))
            moves[joint] = turn.apply(own * scale) + shift
        elif joint in made.moves:
            moves[joint] = made.moves[joint] * scale
    return Made(made.names, made.parents, made.offsets * scale, made.rest, turns, moves, made.rate)


def mirrored(made):
    """Left and right changed over: the motion in a mirror that stands along the walk, on the same symmetrical figure."""
    other = {n: n.replace("left", "?").replace("right", "left").replace("?", "right") for n in made.names}
    take = [made.names.index(other[n]) for n in made.names]
    turns = made.turns[:, take] * [1.0, -1.0, -1.0, 1.0]
    return Made(made.names, made.parents, made.offsets, made.rest, turns, {0: made.moves[0] * [-1.0, 1, 1]}, made.rate)
